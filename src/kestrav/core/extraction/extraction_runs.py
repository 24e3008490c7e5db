"""Ways out as paths and runs: with corners rounded as far as the certificate allows. Lengths in mm, angles in degrees, times in s."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.clearance.certificate import Certificate, certify
from kestrav.core.document.edits import add, change, set_contact, settings
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import (
    Eased,
    FixedOrientation,
    KeyedOrientation,
    KeyPose,
    OrientationKey,
    Path,
    PathPoint,
    PointShape,
    PoseTrack,
    Project,
    Run,
    Shape,
)
from kestrav.core.editing.run_making import pivot_on_it
from kestrav.core.errors import BadInput
from kestrav.core.extraction.problem import Problem
from kestrav.core.extraction.removal_poses import Pose, turn_between
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import quaternion_from_rotation, rigid
from kestrav.core.kinematics.runs import begins, course_of
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.paths.path_curves import path_curve

Array = NDArray[np.float64]

SPEED = 400.0  # mm/s of a run that is made
LEEWAY = 0.05  # mm by which what is near as it stands may come nearer, as the certificate has its own measure
SPOT = 1e-3  # mm below which a leg is a turn on the spot
_SOFT, _SOFT_SHARE = 100.0, 0.2  # mm of a soft start and stop, and of the way at most
_TURNED = 0.05  # degrees below which a pose counts as unturned
_ROUNDINGS = (0.45, 0.15, 0.05)  # of the shorter side of a corner, tried one after the other
_ANYTHING = -1e9  # mm; a need that every distance meets


def straight_run(project: Project, thing: str, points: Sequence[Array], name: str, start: float) -> tuple[Path, Run]:
    """A path through places (3,) and a run of a thing along it, at the usual pace with soft ends."""
    rider = get(project, thing).name
    path = Path(
        new_id(project, Path),
        new_name(project, Path, f"Extraction path of {rider}"),
        PointShape(tuple(PathPoint(vector(np.round(place, 4)), "corner") for place in points)),
    )
    soft = min(_SOFT, _SOFT_SHARE * float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum()))
    run = Run(
        new_id(project, Run),
        new_name(project, Run, name),
        thing,
        path.id,
        start=start,
        duration=None,
        speed=SPEED,
        speed_profile=Eased(soft, soft),
    )
    return path, run


def extraction_run(
    project: Project, things: Sequence[str], poses: Sequence[Pose], rounding: float = 0.0, start: float = 0.0
) -> Project:
    """The project with an extraction path as a path and a run, the last ones: the first thing rides on it, the others keep with it.

    Corners are rounded by a share of their shorter side. A way that turns on the spot becomes key poses, as a run turns by its way.
    Raises BadInput for several things then.
    """
    project = pivot_on_it(project, things[0])
    rest, pivot = rest_and_pivot(project, things[0])
    start_pose = rest @ pivot
    places = [start_pose[:3, 3] + np.array(at.translation) for at in poses]
    steps = np.linalg.norm(np.diff(places, axis=0), axis=1)
    if steps.min() <= SPOT:
        return _as_poses(project, things, poses, start, start_pose, steps)
    path, run = straight_run(project, things[0], places, f"{get(project, things[0]).name} comes out", start)
    if rounding > 0:
        path = change(path, shape=_rounded(path.shape, steps, rounding))
    curve = path_curve(path)
    turned = _heading(poses, curve.point_stations() / curve.length, start_pose[:3, :3])
    return add(project, path, change(run, orientation=turned, companions=tuple(things[1:])))


def _rounded(shape: Shape, steps: Array, share: float) -> PointShape:
    """Points whose corners are rounded by a share of the shorter of the sides that meet there, as far as their angle allows."""
    assert isinstance(shape, PointShape)
    points = shape.points
    rounded = [points[0]]
    for k in range(1, len(points) - 1):
        before, here, after = (np.array(points[j].position, float) for j in (k - 1, k, k + 1))
        one, two = (here - before) / steps[k - 1], (after - here) / steps[k]
        half = 0.5 * float(np.arccos(np.clip(one @ two, -1.0, 1.0)))
        # an arc of radius r leaves the corner by r tan(half) on both sides
        cut = share * min(steps[k - 1], steps[k])
        radius = cut / np.tan(half) if 1e-3 < half < 0.5 * np.pi - 1e-3 else 0.0
        rounded.append(msgspec.structs.replace(points[k], radius=round(float(radius), 3)))
    return PointShape((*rounded, points[-1]))


def smoothed_path(
    project: Project, meshes: Mapping[str, Mesh], problem: Problem, things: Sequence[str], poses: Sequence[Pose]
) -> tuple[float, Certificate] | None:
    """By which share corners can be rounded, and the certificate of the run that comes of it; with sharp ones if none can.

    None where even that is not certified, so that the way is no success. Nothing but the things moves meanwhile.
    """
    still = _status(project)
    roundings = _ROUNDINGS if len(poses) > 2 else ()
    for rounding in (*roundings, 0.0):
        try:
            smoothed = extraction_run(still, things, poses, rounding)
        except BadInput:
            return None
        certificate = _certified(smoothed, meshes, problem)
        if certificate.status == "certified":
            return rounding, certificate
    return None


def _status(project: Project) -> Project:
    """The project with nothing in motion, and no requirement but its own."""
    nothing: dict[str, tuple[()]] = {
        name: ()
        for name in (
            "runs", "pose_tracks", "attachments", "wheels", "castors", "rotations", "gears", "rods", "balls", "requirements", "shots", "contacts",
        )
    }  # fmt: skip
    return msgspec.structs.replace(
        project, **nothing, settings=msgspec.structs.replace(project.settings, only_listed=False)
    )


def _certified(project: Project, meshes: Mapping[str, Mesh], problem: Problem) -> Certificate:
    """The certificate of the last run or key poses: what may be near as it stands, or was taken away, may be so all along."""
    allowed = {
        frozenset((problem.movers[i].id, problem.obstacles[j].id)): max(need - LEEWAY, 0.0)
        for (i, j), need in problem.near.items()
    }
    for j in problem.ignored:
        for body in problem.movers:
            allowed[frozenset((body.id, problem.obstacles[j].id))] = _ANYTHING
    # what it is in contact with at its goal it may touch there
    for (i, j), held in problem.held.items():
        project = set_contact(project, problem.movers[i].id, problem.obstacles[j].id, intended=True, deeper=held.deeper)
    project = settings(project, required_clearance=problem.required)
    if project.runs:
        course = course_of(project, project.runs[-1])
        over = (course.start, course.end)
    else:
        keys = project.pose_tracks[-1]
        start = begins(project, keys)
        over = (start, start + keys.keys[-1].time)
    return certify(project, meshes, over=over, only={body.id for body in problem.movers}, allowed=allowed)


def _as_poses(
    project: Project, things: Sequence[str], poses: Sequence[Pose], start: float, start_pose: Array, steps: Array
) -> Project:
    if len(things) > 1:
        raise BadInput("several parts cannot be turned on the spot together; group them first")
    name = get(project, things[0]).name
    # at the pace of a run, or a quarter turn a second
    turns = [turn_between(a, b) for a, b in itertools.pairwise(poses)]
    times = np.concatenate([[0.0], np.cumsum(np.maximum(steps / SPEED, np.array(turns) / (np.pi / 2)))])
    keys = []
    for moment, at in zip(times, poses, strict=True):
        turned = scipy.spatial.transform.Rotation.from_rotvec(at.turn).as_matrix() @ start_pose[:3, :3]
        keys.append(KeyPose(float(moment), placement(rigid(turned, start_pose[:3, 3] + np.array(at.translation)))))
    edited = PoseTrack(
        new_id(project, PoseTrack),
        new_name(project, PoseTrack, f"{name} comes out"),
        things[0],
        tuple(keys),
        start,
        "straight",
    )
    return add(project, edited)


def _heading(poses: Sequence[Pose], shares: ArrayLike, start_pose: Array) -> FixedOrientation | KeyedOrientation:
    """How the rider is turned along its way: as it stands, or by keys against the room, evenly from one to the next."""
    if max(np.degrees(np.linalg.norm(at.turn)) for at in poses) < _TURNED:
        return FixedOrientation()
    keys: list[OrientationKey] = []
    for share, at in zip(np.asarray(shares, float), poses, strict=True):
        if keys and share <= keys[-1].place:
            keys.pop()  # turned on the spot: as it is turned at the end of that
        turned = scipy.spatial.transform.Rotation.from_rotvec(at.turn).as_matrix() @ start_pose
        w, x, y, z = (float(v) for v in quaternion_from_rotation(turned))
        keys.append(OrientationKey(float(share), (w, x, y, z)))
    return KeyedOrientation(keys=tuple(keys), room=True, smooth=False)
