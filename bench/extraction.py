"""Ways out against plain OMPL: RRT-Connect over positions and rotations with coal's distance as the only test."""

import time

import coal
import numpy as np
import trimesh
from ompl import base as ob
from ompl import geometric as og
from ompl import util as ou
from scipy.spatial.transform import Rotation

from kestrav.core.document.records import Part, Placement, Project, Settings
from kestrav.core.extraction.planning import goals
from kestrav.core.extraction.problem import problem_of
from kestrav.core.extraction.pulls import directions
from kestrav.core.extraction.ways import WayOut, Wish, find_way
from kestrav.core.geometry.meshes import mesh
from kestrav.core.motion.solids import geometry_record

SEEDS = 10
SECONDS = 3.0
REQUIRED = 1.0
U = {
    "block": ((60, 40, 40), (0, 0, 0)),
    "floor": ((60, 80, 10), (0, 0, -35)),
    "left": ((60, 10, 80), (0, 35, 0)),
    "right": ((60, 10, 80), (0, -35, 0)),
}
CHANNEL = {
    "block": ((40, 40, 40), (0, 0, 0)),
    "floor": ((60, 60, 10), (0, 0, -30)),
    "back": ((10, 60, 170), (-30, 0, 50)),
    "front": ((10, 60, 70), (30, 0, 0)),
    "left": ((220, 10, 170), (80, 30, 50)),
    "right": ((220, 10, 170), (80, -30, 50)),
    "roof": ((220, 60, 10), (80, 0, 130)),
}
SLOT = {
    "block": ((160, 20, 20), (0, 0, 0)),
    "left": ((10, 300, 300), (-110, 0, 0)),
    "right": ((10, 300, 300), (110, 0, 0)),
    "back": ((210, 10, 300), (0, 130, 0)),
    "top": ((210, 270, 10), (0, 0, 145)),
    "bottom": ((210, 270, 10), (0, 0, -145)),
    "front, left": ((85, 10, 280), (-62.5, -130, 0)),
    "front, right": ((85, 10, 280), (62.5, -130, 0)),
}


def _assembly(boxes):
    parts, meshes = [Part("all", "Assembly")], {}
    for name, (size, at) in boxes.items():
        body = trimesh.creation.box(size)
        shape = mesh(body.vertices, body.faces)
        meshes[shape.hash] = shape
        parts.append(Part(name, name, "all", Placement(at), geometry=shape.hash))
    project = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=REQUIRED),
    )
    return project, meshes


def _plain(boxes, seed, ends, room):
    """Whether plain RRT-Connect finds a way, and in how long."""
    ou.setLogLevel(ou.LogLevel.LOG_ERROR)
    solids = {name: coal.Box(*size) for name, (size, _) in boxes.items()}
    there = {name: coal.Transform3s(np.eye(3), np.array(at, float)) for name, (_, at) in boxes.items()}
    others = [name for name in boxes if name != "block"]
    request = coal.DistanceRequest()

    def valid(state):
        turn = state.rotation()
        rotation = Rotation.from_quat([turn.x, turn.y, turn.z, turn.w]).as_matrix()
        at = coal.Transform3s(rotation, np.array([state.getX(), state.getY(), state.getZ()]))
        return all(
            coal.distance(solids["block"], at, solids[o], there[o], request, coal.DistanceResult()) >= REQUIRED
            for o in others
        )

    space = ob.SE3StateSpace()
    bounds = ob.RealVectorBounds(3)
    for k in range(3):
        bounds.setLow(k, float(room[0][k]))
        bounds.setHigh(k, float(room[1][k]))
    space.setBounds(bounds)
    setup = og.SimpleSetup(space)
    setup.setStateValidityChecker(valid)
    states = []
    for way in ((0.0, 0.0, 0.0), ends[seed % len(ends)].way):
        state = space.allocState()
        state.setXYZ(*way)
        turn = state.rotation()
        turn.x, turn.y, turn.z, turn.w = 0.0, 0.0, 0.0, 1.0
        states.append(state)
    setup.setStartAndGoalStates(*states)
    setup.setPlanner(og.RRTConnect(setup.getSpaceInformation()))
    began = time.perf_counter()
    while time.perf_counter() - began < SECONDS and not setup.haveExactSolutionPath():
        setup.solve(0.25)
    return setup.haveExactSolutionPath(), time.perf_counter() - began


def ways_against_plain_planning(in_turns):
    told, fine = [], True
    for name, boxes in (("U", U), ("channel", CHANNEL), ("slot", SLOT)):
        project, meshes = _assembly(boxes)
        problem = problem_of(project, meshes, ["block"])
        ends = goals(problem, directions(problem))
        ours, bare = [], []
        for seed in range(1, SEEDS + 1):
            began = time.perf_counter()
            found = find_way(project, meshes, ["block"], Wish(seed=seed))
            ours.append((isinstance(found, WayOut), time.perf_counter() - began))
            bare.append(_plain(boxes, seed, ends, problem.room))
        solved = [sum(s for s, _ in each) for each in (ours, bare)]
        took = [float(np.median([t for _, t in each])) for each in (ours, bare)]
        fine &= solved[0] >= solved[1] and (solved[0] > solved[1] or took[0] <= took[1])
        told.append(f"{name} {solved[0]} of {SEEDS} in {took[0]:.2f} s against {solved[1]} in {took[1]:.2f} s")
    return f"ways out against plain OMPL over {SEEDS} seeds: {'; '.join(told)} (ahead on each)", fine
