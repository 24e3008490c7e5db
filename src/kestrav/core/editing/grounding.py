"""Letting paths down onto the surfaces below them. Lengths in mm."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import shown_parts, subtree
from kestrav.core.document.records import Ground, Project, Run
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.ground import heights_below, standing
from kestrav.core.parts.rest import own_bounds
from kestrav.core.paths.fitting import points_through
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import path_of

Array = NDArray[np.float64]

GROUND_TOLERANCE = 0.1  # mm between the ground and a path let down onto it
_GROUND_STEP, _MOST_RAYS = 5.0, 4000  # mm from ray to ray, and how many of them
_ON_GROUND = 1e-3  # mm


def grounded(project: Project, meshes: Mapping[str, Mesh], run: Run) -> Ground:
    """A run's ground worked out: the highest surface within reach of its path, under it and beside it.

    The floor at height 0 counts as a surface. It is looked for on the path and half the rider's width to its sides.
    """
    assert run.ground is not None
    path = path_of(project, run.path)
    curve = path_curve(path)
    count = int(np.clip(np.ceil(curve.length / _GROUND_STEP), 200, _MOST_RAYS))
    stations = np.linspace(0.0, curve.length, count + 1)
    places = curve.curve.position(stations)
    left = curve.frames(stations, upright=True)[:, :, 1].copy()
    left[:, 2] = 0.0
    left /= np.maximum(np.linalg.norm(left, axis=1), 1e-9)[:, None]
    width = _width(project, run) if run.ground.tilted else 0.0
    reach, parts = run.ground.reach, standing(project)
    # the three lines together, as every part is looked at but once
    lines = [places + side * 0.5 * width * left for side in ((1.0, 0.0, -1.0) if width else (0.0,))]
    every = np.concatenate(lines) + np.array([0.0, 0.0, reach])
    met = heights_below(project, meshes, every, parts)
    met = np.where((every[:, 2] >= 0) & (met < 0), 0.0, met)
    within = met >= every[:, 2] - 2 * reach
    heights = np.where(within, met, every[:, 2] - reach).reshape(len(lines), -1).T
    if not width:
        heights = np.repeat(heights, 3, axis=1)
    middle = within.reshape(len(lines), -1)[1 if width else 0]
    return msgspec.structs.replace(
        run.ground,
        width=width,
        heights=tuple(vector(h) for h in np.round(heights, 6)),
        found=tuple(bool(f) for f in middle),
    )


def _width(project: Project, run: Run) -> float:
    """How wide a rider is across its way, in mm; 0 for what is no part."""
    if not any(p.id == run.rider for p in project.parts):
        return 0.0
    sides = np.ptp(own_bounds(project, run.rider), axis=0)
    forward = getattr(run.orientation, "forward", "+x")
    return float(sides[0 if forward[1] == "y" else 1])


def derive_ground(project: Project, meshes: Mapping[str, Mesh], since: Project | None = None) -> Project:
    """The project with the ground of its runs worked out anew, where it may be another than ``since``."""
    if all(run.ground is None for run in project.runs):
        return project
    before = {} if since is None else {run.id: run for run in since.runs}
    same_parts = since is not None and since.parts is project.parts and standing(since) == standing(project)
    paths = {} if since is None else {path.id: path for path in since.paths}
    runs = []
    for run in project.runs:
        old = before.get(run.id)
        known = (
            same_parts
            and old is not None
            and run.ground is not None
            and bool(run.ground.heights)
            and (old.ground, old.rider, old.orientation) == (run.ground, run.rider, run.orientation)
            and old.path == run.path
            and paths.get(run.path) is path_of(project, run.path)
        )
        if run.ground is not None and not known:
            run = msgspec.structs.replace(run, ground=grounded(project, meshes, run))
        runs.append(run)
    return msgspec.structs.replace(project, runs=tuple(runs))


def projected_down(
    project: Project, meshes: Mapping[str, Mesh], path_id: str, lift: float = 0.0, over: Iterable[str] | None = None
) -> Project:
    """The project with a path let down onto the surfaces below it, and lifted by a height in mm.

    They are those of the shown parts (or of the parts ``over`` names) that nothing on this path moves, at rest, and
    the floor at height 0. Where the ground has a step the path climbs it.
    """
    path = path_of(project, path_id)
    curve = path_curve(path).curve
    riders = {inner for run in project.runs if run.path == path_id for inner in _subtree_of(project, run.rider)}
    wanted = shown_parts(project) if over is None else {i for p in over for i in subtree(project, p)}
    count = int(np.clip(np.ceil(curve.length / _GROUND_STEP), 200, _MOST_RAYS))
    stations = np.linspace(0.0, curve.length, count + 1)
    places = curve.position(stations)
    # a place that lies on the surface already stays there
    met = heights_below(project, meshes, places + np.array([0.0, 0.0, _ON_GROUND]), wanted - riders)
    heights = np.maximum(np.where(places[:, 2] >= 0, 0.0, places[:, 2]), met)
    line = np.column_stack([places[:, :2], heights + lift])
    closed = curve.closed
    fitted = points_through(line[:-1] if closed else line, GROUND_TOLERANCE, closed=closed)
    return update(project, path_id, shape=fitted, trim=(0.0, 1.0))


def _subtree_of(project: Project, rider: str) -> list[str]:
    return subtree(project, rider) if any(p.id == rider for p in project.parts) else []
