"""Ways out: found in stages, shown free, and made into a path and a run. Lengths in mm, angles in degrees, times in s."""

from __future__ import annotations

import itertools
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.spatial.transform import Rotation

from kestrav.core.document.edits import add
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import (
    Eased,
    FixedHeading,
    KeyedHeading,
    KeyPose,
    Path,
    PathPoint,
    PointShape,
    Poses,
    Project,
    Run,
    TurnKey,
)
from kestrav.core.errors import BadInput
from kestrav.core.extraction.planning import goals, length_of, plan, shortened
from kestrav.core.extraction.problem import Pose, Problem, leaning, part_way, pose, problem_of
from kestrav.core.extraction.pulls import Pull, directions, least_blockers, legged_pull, straight_pulls, turned_pull
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import quaternion_from_rotation, rigid
from kestrav.core.motion.placing import placement
from kestrav.core.motion.resting import rest_and_pivot

Array = NDArray[np.float64]
Tell = Callable[[str, float], None]
"""Told what is being tried and how far it is, and may raise to stop the work."""

Stage = Literal["straight pull", "two legs", "three legs", "turned", "planned"]
_SPEED = 400.0  # mm/s of a run that is made
_TURNED = 0.05  # degrees below which a pose counts as unturned


@dataclass(frozen=True)
class Wish:
    """What a way out must keep to: the clearance required in mm (none: the project's), whether the things stay ``upright`` and unturned,
    how far they may lean in degrees, the directions allowed for pulls, the room's bounds, how long to look for a plan in s, and the
    seed."""

    required: float | None = None
    upright: bool = False
    tilt: float | None = None
    allowed: tuple[tuple[float, float, float], ...] = ()
    room: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    seconds: float = 60.0
    seed: int = 1


@dataclass(frozen=True)
class WayOut:
    """A way out: by which stage, its poses, the pivot's way in mm, the least clearance in mm beyond or short of what is required
    (never below 0), the greatest lean, and what was tried before."""

    stage: Stage
    poses: tuple[Pose, ...]
    length: float
    slack: float
    tilt: float
    required: float
    seed: int
    seconds: float
    tried: tuple[str, ...]
    pulls: tuple[Pull, ...] = ()


@dataclass(frozen=True)
class NoWay:
    """That none was found: what was tried, how far each pull goes and what blocks it, and the fewest parts whose removal frees a straight
    pull, with its direction."""

    tried: tuple[str, ...]
    pulls: tuple[Pull, ...]
    blockers: tuple[str, ...]
    direction: tuple[float, float, float] | None
    required: float
    seed: int
    seconds: float
    overlaps: tuple[tuple[str, str], ...] = ()


def find_way(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Iterable[str],
    wish: Wish | None = None,
    tell: Tell | None = None,
) -> WayOut | NoWay:
    """A way for things to be taken, together, out of what they are in: the first stage that serves, of a straight pull, two and three
    legs, a turn on the spot before the last leg, and a plan in position and orientation.

    Every leg of it is shown to be free. Raises BadInput when the things have no geometry or the wish cannot be.
    """
    wish = wish or Wish()
    if not wish.seconds > 0:
        raise BadInput(f"{wish.seconds:g} s to look for a way are not possible; give more than 0")
    began = time.monotonic()
    say = tell or (lambda _text, _share: None)
    say("reading what is in the way", 0.0)
    room = None if wish.room is None else np.array(wish.room, float)
    problem = problem_of(project, meshes, things, wish.required, room)
    ways = directions(problem, allowed=[np.array(d) for d in wish.allowed])
    tried: list[str] = []
    pulls = straight_pulls(problem, ways, lambda share: say("straight pulls", share))
    tried.append(f"{len(ways)} straight pulls, {sum(p.free for p in pulls)} free")
    if pulls and pulls[0].free:
        end = pose(pulls[0].travel * np.array(pulls[0].direction))
        return _made(problem, "straight pull", [Pose(), end], wish, began, tried, pulls)
    main = [way for way in ways if wish.allowed or np.isclose(np.abs(way).max(), 1.0) or _along(problem, way)]
    stages: tuple[tuple[int, Stage], ...] = ((2, "two legs"), (3, "three legs"))
    for legs, stage in stages:
        found = legged_pull(problem, main, legs, partial(say, stage))
        tried.append(f"{stage}, {'free' if found is not None else 'none free'}")
        if found is not None:
            good = shortened(problem, found, 1.0, wish.seed)
            if good is not None:
                return _made(problem, stage, good, wish, began, tried, pulls)
            tried[-1] = f"{stage}, found but not shown to be free"
    if not wish.upright:
        found = turned_pull(problem, main, wish.tilt, partial(say, "turned"))
        tried.append(f"turned on the spot, {'free' if found is not None else 'none free'}")
        good = None if found is None else shortened(problem, found, 1.0, wish.seed, wish.tilt)
        if good is not None:
            good = without_spots(problem, good)
            return _made(problem, "turned", good, wish, began, tried, pulls)
    ends = goals(problem, ways)
    planned = plan(
        problem, ends, wish.seconds, wish.seed, wish.upright, wish.tilt, lambda share: say("planning", share)
    )
    if planned is not None:
        good = shortened(
            problem, planned, max(0.5 * wish.seconds, 5.0), wish.seed, wish.tilt, lambda share: say("shortening", share)
        )
        if good is not None:
            good = without_spots(problem, good)
            tried.append("planned, free")
            return _made(problem, "planned", good, wish, began, tried, pulls)
        tried.append("planned, found but not shown to be free")
    else:
        tried.append(
            f"planned for {wish.seconds:g} s, none found" if ends else "planned: there is no free place outside"
        )
    say("what blocks it", 0.0)
    blockers, way = least_blockers(problem, ways)
    return NoWay(
        tuple(tried),
        tuple(pulls),
        tuple(blockers),
        None if way is None else vector(way),
        problem.required,
        wish.seed,
        time.monotonic() - began,
        problem.overlaps,
    )


def without_spots(problem: Problem, way: list[Pose]) -> list[Pose]:
    """A way whose turns on the spot are made while going on, or before, where that is free: a run turns by its way only."""
    legs = list(way)
    for k in range(1, len(legs)):
        if np.linalg.norm(np.subtract(legs[k].way, legs[k - 1].way)) > _SPOT:
            continue
        later = [(k, part_way(legs[k], legs[k + 1], share)) for share in _SHARES] if k + 1 < len(legs) else []
        sooner = [(k - 1, part_way(legs[k - 1], legs[k - 2], share)) for share in _SHARES] if k > 1 else []
        for place, at in (*later, *sooner):
            others = (legs[k - 1], at) if place == k else (at, legs[k])
            if problem.free_between(*others)[0]:
                legs[place] = at
                break
    return legs


_SPOT = 1e-3  # mm
_SHARES = (0.5, 0.35, 0.25, 0.15, 0.08, 0.04)


def _along(problem: Problem, way: Array) -> bool:
    """Whether a direction is along one of the things' own axes."""
    return bool(np.abs(problem.axes.T @ way).max() > 0.999)


def _made(
    problem: Problem, stage: Stage, way: list[Pose], wish: Wish, began: float, tried: list[str], pulls: list[Pull]
) -> WayOut:
    slack = min(problem.free_between(a, b)[1] for a, b in itertools.pairwise(way))
    return WayOut(
        stage,
        tuple(way),
        length_of(problem, way),
        slack,
        max(leaning(part_way(a, b, share)) for a, b in itertools.pairwise(way) for share in np.linspace(0.0, 1.0, 9)),
        problem.required,
        wish.seed,
        time.monotonic() - began,
        tuple(tried),
        tuple(pulls),
    )


def add_way(project: Project, things: list[str], way: WayOut, start: float = 0.0) -> Project:
    """The project with a way out as a path and a run, the last ones: the first thing rides on it, the others keep with it.

    One that turns on the spot becomes key poses, as a run turns by its way. Raises BadInput for several things then.
    """
    rider = things[0]
    rest, pivot = rest_and_pivot(project, rider)
    stands = rest @ pivot
    places = [stands[:3, 3] + np.array(at.way) for at in way.poses]
    name = get(project, rider).name
    steps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    if steps.min() <= _SPOT:
        return _as_poses(project, things, way, start, stands, steps)
    path = Path(
        new_id(project, Path),
        new_name(project, Path, f"Way out of {name}"),
        PointShape(tuple(PathPoint(vector(np.round(place, 4)), "corner") for place in places)),
    )
    far = np.concatenate([[0.0], np.cumsum(steps)])
    soft = min(100.0, 0.2 * float(far[-1]))
    run = Run(
        new_id(project, Run),
        new_name(project, Run, f"{name} comes out"),
        rider,
        path.id,
        start=start,
        duration=None,
        speed=_SPEED,
        pacing=Eased(soft, soft),
        heading=_heading(way.poses, far / far[-1], stands[:3, :3]),
        company=tuple(things[1:]),
    )
    return add(project, path, run)


def _as_poses(project: Project, things: list[str], way: WayOut, start: float, stands: Array, steps: Array) -> Project:
    if len(things) > 1:
        raise BadInput("several things cannot be turned on the spot together; group them first")
    name = get(project, things[0]).name
    # at the pace of a run, or a quarter turn a second
    turns = [rotation_angle_of(a, b) for a, b in itertools.pairwise(way.poses)]
    times = np.concatenate([[0.0], np.cumsum(np.maximum(steps / _SPEED, np.array(turns) / (np.pi / 2)))])
    keys = []
    for moment, at in zip(times, way.poses, strict=True):
        turned = Rotation.from_rotvec(at.turn).as_matrix() @ stands[:3, :3]
        keys.append(KeyPose(float(moment), placement(rigid(turned, stands[:3, 3] + np.array(at.way)))))
    made = Poses(
        new_id(project, Poses), new_name(project, Poses, f"{name} comes out"), things[0], tuple(keys), start, "straight"
    )
    return add(project, made)


def rotation_angle_of(one: Pose, two: Pose) -> float:
    """The angle in rad between two poses' turns."""
    return float((Rotation.from_rotvec(two.turn) * Rotation.from_rotvec(one.turn).inv()).magnitude())


def _heading(poses: tuple[Pose, ...], shares: ArrayLike, stands: Array) -> FixedHeading | KeyedHeading:
    """How the rider is turned along its way: as it stands, or by keys against the room, evenly from one to the next."""
    if max(np.degrees(np.linalg.norm(at.turn)) for at in poses) < _TURNED:
        return FixedHeading()
    keys: list[TurnKey] = []
    for share, at in zip(np.asarray(shares, float), poses, strict=True):
        if keys and share <= keys[-1].place:
            keys.pop()  # turned on the spot: as it is turned at the end of that
        turned = Rotation.from_rotvec(at.turn).as_matrix() @ stands
        w, x, y, z = (float(v) for v in quaternion_from_rotation(turned))
        keys.append(TurnKey(float(share), (w, x, y, z)))
    return KeyedHeading(keys=tuple(keys), room=True, smooth=False)
