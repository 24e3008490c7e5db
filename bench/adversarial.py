"""Certificates against the true motion, in cases made to deceive them.

A box moves by every kind of motion that there is, and a wall so large that only its face counts stands or moves a few millimetres
beyond the farthest place that it reaches: so the truth is the corners of the box in the wall's coordinates, at instants 200 times finer
than the steps of the certificate, and the instants at which laws change. No certificate may say more than that, and no breach be missed.
"""

from __future__ import annotations

import multiprocessing
import sys
import time
from concurrent.futures import ProcessPoolExecutor
from typing import Any

import msgspec
import numpy as np
import trimesh

from kestrav.core.clearance.certificate import certify
from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Axle,
    Bank,
    BankKey,
    CarriedOrientation,
    Contact,
    Eased,
    End,
    Even,
    FixedOrientation,
    Gear,
    Hold,
    Keyed,
    KeyedOrientation,
    KeyPose,
    Law,
    Limited,
    OrientationKey,
    Part,
    Path,
    PathPoint,
    Pin,
    Placement,
    PointAim,
    PointShape,
    PoseTrack,
    Project,
    Rod,
    Roughness,
    Run,
    Settings,
    SpeedKey,
    TimedRotation,
    TowardOrientation,
    Wheel,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import box_corners, mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.law_changes import changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import RATE
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.parts.solids import geometry_record

CASES = 100_000
FINER = 200
REQUIRED = 5.0
_SIZE = (60.0, 40.0, 30.0)
_FACE = 3_000.0  # mm; half the wall's height and width
_OFF = 1e-6  # mm by which what is told may be above the truth, as distances are measured
_LATE = 2e-4  # s to which a stretch of time is told


def _box() -> Any:
    body = trimesh.creation.box(_SIZE)
    return mesh(body.vertices, body.faces)


def _wall(face: float) -> Any:
    body = trimesh.creation.box((200.0, 2 * _FACE, 2 * _FACE))
    return mesh(body.vertices + np.array([face + 100.0, 0.0, 0.0]), body.faces)


BOX = _box()


def _turn(rng: np.random.Generator) -> tuple[float, float, float, float]:
    raw = rng.normal(size=4)
    return tuple(float(q) for q in raw / np.linalg.norm(raw))  # type: ignore[return-value]


def _shape(rng: np.random.Generator) -> PointShape:
    """A path that may turn back on itself: corners of up to 180°, rounded or sharp, smooth ones, and closed ones."""
    kind = rng.choice(["there and back", "corners", "rounded", "smooth"])
    if kind == "there and back":
        far = float(rng.uniform(40, 400))
        middle = (far, float(rng.choice([0.0, rng.uniform(-2, 2)])), 0.0)
        return PointShape(
            (PathPoint((0, 0, 0), "corner"), PathPoint(middle, "corner"), PathPoint((1.0, 0.5, 0.2), "corner"))
        )
    places = [tuple(float(x) for x in rng.uniform(-200, 200, 3) * (1, 1, 0.4)) for _ in range(int(rng.integers(3, 6)))]
    if kind == "smooth":
        return PointShape(tuple(PathPoint(p) for p in places), bool(rng.random() < 0.3))
    radius = float(rng.uniform(2, 20)) if kind == "rounded" else 0.0
    return PointShape(tuple(PathPoint(p, "corner", radius=radius) for p in places))


def _pacing(rng: np.random.Generator) -> Any:
    zone = Limited(float(rng.uniform(200, 2000)), float(rng.uniform(300, 2000)), 1500.0, 2500.0)
    keys = Keyed(
        (SpeedKey(0, 0), SpeedKey(0.45, float(rng.uniform(0.2, 1)), float(rng.choice([-2.0, 0.0]))), SpeedKey(1, 1))
    )
    return [Even(), Even(), Even(), Eased(20, 30), Law(), zone, keys][int(rng.integers(7))]


def _heading(rng: np.random.Generator) -> Any:
    keys = tuple(OrientationKey(float(p), _turn(rng)) for p in np.sort(rng.uniform(0, 1, int(rng.integers(2, 4)))))
    return [
        FixedOrientation(),
        FixedOrientation(),
        AlongOrientation(),
        AlongOrientation(stance="level"),
        AlongOrientation(stance="free"),
        KeyedOrientation(keys=keys, room=bool(rng.random() < 0.5), smooth=bool(rng.random() < 0.5)),
        CarriedOrientation(wheelbase=float(rng.uniform(20, 60)), share=float(rng.uniform(0, 1))),
        TowardOrientation(aim=PointAim((600.0, 300.0, 50.0))),
    ][int(rng.integers(8))]


def _run(rng: np.random.Generator, number: int, rider: str, start: float, **fields: Any) -> tuple[Path, Run]:
    speed_profile, passes = _pacing(rng), int(rng.integers(1, 4))
    path = Path(f"path-{number}", "Path", _shape(rng))
    made: dict[str, Any] = {
        "speed_profile": speed_profile,
        "orientation": _heading(rng),
        "passes": passes,
        "returns": bool(passes > 1 and rng.random() < 0.8),
        "start": start,
        # so that a turning point seldom falls on a step
        "duration": float(rng.uniform(0.05, 0.4)) if not isinstance(speed_profile, Limited) else None,
        "speed": 5000.0 if isinstance(speed_profile, Limited) else None,
        "backwards": bool(rng.random() < 0.3),
        "offset": tuple(float(x) for x in rng.uniform(-20, 20, 3)) if rng.random() < 0.3 else (0.0, 0.0, 0.0),
    }
    if rng.random() < 0.2 and made["duration"]:
        made["holds"] = (Hold(float(rng.uniform(0.2, 0.8)), 0.3 * made["duration"]),)
    if rng.random() < 0.25:
        frequency = float(rng.uniform(5, 120)) if rng.random() < 0.5 else None
        axis = str(rng.choice(["along", "side", "up", "roll", "pitch", "yaw"]))
        made["roughness"] = (Roughness(axis, float(rng.uniform(0.5, 4)), 50.0, frequency, int(rng.integers(99))),)  # type: ignore[arg-type]
    if rng.random() < 0.2:
        made["bank"] = Bank((BankKey(0.1, -20.0), BankKey(0.5, 35.0), BankKey(0.9, 0.0)))
    if rng.random() < 0.2:
        made["portion"] = tuple(
            float(x) for x in rng.permutation([float(rng.uniform(0, 0.4)), float(rng.uniform(0.6, 1))])
        )
    return path, Run(f"run-{number}", "Run", rider, path.id, **(made | fields))


def _poses(rng: np.random.Generator, number: int, rider: str, start: float, small: bool = False) -> PoseTrack:
    times = np.concatenate([[0.0], np.cumsum(rng.uniform(0.03, 0.15, int(rng.integers(1, 4))))])
    reach = 10.0 if small else 200.0
    keys = tuple(
        KeyPose(
            float(t),
            Placement(
                tuple(float(x) for x in rng.uniform(-reach, reach, 3)),
                (1.0, 0.0, 0.0, 0.0) if small else _turn(rng),
            ),
        )
        for t in times
    )
    between = str(rng.choice(["straight", "straight", "smooth", "by hand"]))
    blend = float(rng.choice([0.0, 0.05]))
    return PoseTrack(f"pose-track-{number}", "Poses", rider, keys, start, between, None, blend)  # type: ignore[arg-type]


def _axle(rng: np.random.Generator, reach: float = 60.0) -> Axle:
    way = rng.normal(size=3)
    way /= np.linalg.norm(way)
    return Axle(tuple(float(x) for x in rng.uniform(-reach, reach, 3)), tuple(float(x) for x in way))


def _spin(rng: np.random.Generator, number: int, part: str, axle: Axle) -> TimedRotation:
    rpm = float(np.exp(rng.uniform(np.log(20), np.log(6000))) * rng.choice([-1, 1]))
    ramps = (float(rng.uniform(0, 0.1)), float(rng.uniform(0, 0.1)))
    return TimedRotation(
        f"rotation-{number}",
        "Spin",
        part,
        axle,
        float(rng.uniform(0, 0.1)),
        float(rng.uniform(0.2, 0.5)),
        None,
        rpm,
        *ramps,
    )


def _moved(rng: np.random.Generator, project: Project, number: int, rider: str, start: float) -> Project:
    """A project with a thing that is moved by a run or key poses."""
    if rng.random() < 0.6:
        return edits.add(project, *_run(rng, number, rider, start))
    return edits.add(project, _poses(rng, number, rider, start))


def made_case(seed: int) -> tuple[Project, dict[str, Any]] | None:
    """A project with a box and a wall, and their meshes; None where the dice made one that cannot be."""
    rng = np.random.default_rng(seed)
    parts = [
        Part("box", "Box", placement=Placement((3.0, 2.0, 1.0)), geometry=BOX.hash),
        Part("carrier", "Carrier", placement=Placement((-50.0, 20.0, 0.0))),
        Part("arm", "Arm", placement=Placement((-40.0, 0.0, 0.0))),
    ]
    project = Project(
        parts=tuple(parts), geometry=(geometry_record(BOX),), settings=Settings(required_clearance=REQUIRED)
    )
    kind = str(
        rng.choice(["moved", "moved", "moved", "spin", "carried", "nested", "gears", "rod", "slider", "wheel", "twice"])
    )
    try:
        if kind == "moved":
            project = _moved(rng, project, 1, "box", float(rng.choice([0.0, 0.031])))
        elif kind == "twice":
            project = _moved(rng, _moved(rng, project, 1, "box", 0.0), 2, "box", float(rng.uniform(0.1, 0.3)))
            if rng.random() < 0.5 and project.runs:
                project = edits.update(project, project.runs[-1].id, before="rests", after="rests")
        elif kind == "spin":
            if rng.random() < 0.5:
                project = _moved(rng, project, 1, "box", 0.0)
            project = edits.add(project, _spin(rng, 1, "box", _axle(rng)))
        elif kind == "carried":
            project = _moved(rng, project, 1, "carrier", 0.0)
            if rng.random() < 0.5:
                project = edits.add(project, _spin(rng, 1, "carrier", _axle(rng)))
            start, end = float(rng.uniform(0, 0.1)), float(rng.uniform(0.15, 0.4))
            put = (
                Placement(tuple(float(x) for x in rng.uniform(-80, 80, 3)), _turn(rng)) if rng.random() < 0.6 else None
            )
            lowering = float(rng.uniform(0, 0.1))
            project = edits.add(
                project, Attachment("attachment-1", "Carry", "box", "carrier", start, end, None, put, None, lowering)
            )
        elif kind == "nested":
            project = edits.update(_moved(rng, project, 1, "carrier", 0.0), "box", parent="carrier")
            project = edits.add(project, _spin(rng, 1, "box", _axle(rng)))
        elif kind == "gears":
            up = Axle((0, 0, 0), (0, 0, 1))
            project = edits.update(project, "box", placement=Placement((-40.0 + 2 * 15, 0.0, 0.0)))
            project = edits.add(project, _spin(rng, 1, "arm", up))
            if rng.random() < 0.5:
                project = edits.update(_moved(rng, project, 1, "carrier", 0.0), "box", parent="carrier")
            project = edits.add(project, Gear("gear-1", "Gears", End("arm", up, 10), End("box", up, 20)))
        elif kind in ("rod", "slider"):
            radius, long = float(rng.uniform(10, 40)), float(rng.uniform(50, 140))
            slider = Part("slider", "Slider", placement=Placement((-40 + radius + long, 0, 0)))
            project = edits.add(project, slider) if kind == "rod" else project
            rod, end = ("box", "slider") if kind == "rod" else ("carrier", "box")
            project = edits.update(project, rod, placement=Placement((-40 + radius, 0, 0)))
            if kind == "slider":
                project = edits.update(project, "box", placement=slider.placement)
            project = edits.add(project, _spin(rng, 1, "arm", Axle((0, 0, 0), (0, 0, 1))))
            link = Rod("rod-1", "Rod", rod, Pin("arm", (radius, 0, 0)), (0, 0, 0), (long, 0, 0), "slider", Pin(end))
            project = edits.add(project, link)
        else:
            project = edits.update(project, "box", parent="carrier")
            path, run = _run(rng, 1, "carrier", 0.0, orientation=AlongOrientation(stance="level"))
            project = edits.add(project, path, run, Wheel("wheel-1", "Wheel", "box", Axle((0, 0, 0), (0, 1, 0)), 20.0))
        if project.runs and min(course_of(project, run).path.length for run in project.runs) < 5:
            return None
        moving_wall = rng.random() < 0.25
        project = edits.add(project, Part("wall", "Wall"))
        if moving_wall:
            if kind == "carried" and not project.rotations and rng.random() < 0.5:
                project = edits.add(project, Attachment("carry-w", "Carry", "wall", "carrier", 0.0))
            else:
                project = edits.add(project, _poses(rng, 9, "wall", float(rng.uniform(0, 0.1)), small=True))
        if not 0 < span(project) < 1.5:
            return None
        # the wall is so far that it is all but met, or met
        face = float(
            _reach(project, _instants(project)).max() + (rng.uniform(0.05, 9.0) if rng.random() < 0.95 else -2.0)
        )
    except (BadInput, ValueError):
        return None
    wall = _wall(face)
    geometry = (*project.geometry, geometry_record(wall))
    project = edits.update(
        msgspec.structs.replace(project, geometry=geometry, contacts=(Contact("box", "wall", False),)),
        "wall",
        geometry=wall.hash,
    )
    return project, {BOX.hash: BOX, wall.hash: wall, "face": face}


def _instants(project: Project) -> np.ndarray:
    """Instants 200 times finer than the certificate's steps, and what lies about those at which laws change."""
    end = span(project)
    law, _ = changes(Motion(project), end)
    even = np.linspace(0.0, end, int(np.ceil(end * RATE * FINER)) + 1)
    beside = (law[:, None] + np.array([-1e-9, 0.0, 1e-9])).ravel()
    return np.unique(np.concatenate([even, beside[(beside >= 0) & (beside <= end)]]))


def _reach(project: Project, times: np.ndarray) -> np.ndarray:
    """How far (n,) the box reaches along x, in the wall's coordinates."""
    motion = Motion(project)
    held = motion.hold(times)
    box, wall = motion.poses("box", held), motion.poses("wall", held)
    seen = inverse_rigid(wall) @ box
    corners = box_corners(BOX.bounds)
    found: np.ndarray = (seen[:, None, 0, :3] @ corners.T[None])[:, 0].max(axis=-1) + seen[:, 0, 3]
    return found


class Verdict(msgspec.Struct, frozen=True):
    """What came of a case: what was told wrongly, if anything, and how it stood."""

    seed: int
    status: str
    wrong: str = ""


def judged(seed: int) -> Verdict | None:
    """A case's certificate against its truth."""
    made = made_case(seed)
    if made is None:
        return None
    project, meshes = made
    face = meshes.pop("face")
    told = certify(project, meshes)
    times = _instants(project)
    away = face - _reach(project, times)
    outside = np.ones(len(times), bool)
    for stretch in told.stretches:
        outside &= ~((times >= stretch.start - _LATE) & (times <= stretch.end + _LATE))
    least = float(away[outside].min(initial=np.inf))
    if least < REQUIRED - _OFF - 1e-6:
        return Verdict(seed, told.status, f"{least:.6f} mm where {REQUIRED:g} is certified")
    if least < told.at_least - _OFF:
        return Verdict(seed, told.status, f"{least:.6f} mm where at least {told.at_least:.6f} is told")
    breached = [s for s in told.stretches if s.status == "breached"]
    if breached and float(away.min()) > 1e-3 and min(s.least for s in breached) > float(away.min()) + 0.05:
        return Verdict(seed, told.status, f"breach of {min(s.least for s in breached):.4f} told, {away.min():.4f} true")
    return Verdict(seed, told.status)


def certificates_against_the_truth(in_turns: object, cases: int = CASES, first: int = 0) -> tuple[str, bool]:
    """All cases, on all processors; two hours of two of them."""
    began = time.perf_counter()
    with ProcessPoolExecutor(mp_context=multiprocessing.get_context("forkserver")) as pool:
        found = [v for v in pool.map(judged, range(first, first + cases), chunksize=50) if v is not None]
    wrong = [v for v in found if v.wrong]
    kinds = {k: sum(v.status == k for v in found) for k in ("certified", "breached", "not shown")}
    for v in wrong[:10]:
        print(f"  case {v.seed}: {v.wrong}")
    return (
        f"adversarial certificates: {len(found)} cases of {cases} throws in {time.perf_counter() - began:.0f} s "
        f"({kinds['certified']} certified, {kinds['breached']} breached, {kinds['not shown']} not shown), "
        f"{len(wrong)} wrong (none allowed)",
        not wrong,
    )


if __name__ == "__main__":
    first, cases = (int(a) for a in sys.argv[1:3]) if len(sys.argv) > 2 else (0, CASES)
    line, fine = certificates_against_the_truth(None, cases, first)
    print(line)
    raise SystemExit(0 if fine else 1)
