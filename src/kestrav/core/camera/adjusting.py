"""Edits of a camera as seen through it: moving, dollying, orbiting, looking, fitting. Lengths in mm, angles in degrees."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.framing import framed
from kestrav.core.camera.lens import in_camera
from kestrav.core.camera.subject import subject_of
from kestrav.core.camera.views import angles_of, direction, look_keys_to, roll_keys_to, views
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get, get_as
from kestrav.core.document.records import (
    AlongAim,
    Attachment,
    Camera,
    FreeAim,
    OrbitShape,
    PartAim,
    Path,
    PathAim,
    PointAim,
    Project,
    Run,
)
from kestrav.core.editing.run_making import adjusted
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import MotionSegment, active, segments_of
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.paths.path_curves import orbit_plan

Array = NDArray[np.float64]

MARGIN = 0.08  # of the frame that is left around a subject by fitting; common practice, no source
_LEAST = 1.0  # mm to what is looked at


def camera_of(project: Project, camera_id: str) -> Camera:
    """The camera of an id. Raises BadInput when there is none."""
    camera = get(project, camera_id)
    if not isinstance(camera, Camera):
        raise BadInput(f"“{camera.name}” is not a camera")
    return camera


def segment_at(project: Project, camera_id: str, time: float) -> MotionSegment | None:
    """What moves a camera at a time in s, or none."""
    segments = segments_of(project, camera_id)
    return segments[int(active(segments, [time])[0])] if segments else None


def _orbit_of(project: Project, segment: MotionSegment | None) -> tuple[Path, OrbitShape] | None:
    if segment is None or not isinstance(segment.item, Run):
        return None
    path = get_as(project, segment.item.path, Path)
    return (path, path.shape) if isinstance(path.shape, OrbitShape) else None


def moved(project: Project, camera_id: str, time: float, step: ArrayLike) -> Project:
    """The project with a camera moved by a step (3,) at a time in s.

    One that stands is placed elsewhere. On an orbit it is the orbit that gets wider, higher or begins elsewhere; on
    another path the camera is carried beside it; one that rides sits elsewhere on what it rides with.
    """
    camera, step = camera_of(project, camera_id), np.asarray(step, float)
    segment = segment_at(project, camera_id, time)
    orbit = _orbit_of(project, segment)
    if orbit is not None:
        return _moved_orbit(project, camera_id, time, *orbit, step)
    if segment is None or (isinstance(segment.item, Attachment) and not np.isfinite(segment.start)):
        return update(project, camera_id, position=_rounded(np.array(camera.position) + step))
    if isinstance(segment.item, Attachment):
        # where it is as it is picked up, turned with what it rides with since
        motion = Motion(project)
        taken, now = motion.poses(segment.item.carrier, [segment.start, min(max(time, segment.start), segment.end)])
        back = taken[:3, :3] @ now[:3, :3].T @ step
        first = segments_of(project, camera_id)[0]
        if first.item is not segment.item:
            raise BadInput(f"“{camera.name}” is brought to where it is attached by something else; move that")
        return update(project, camera_id, position=_rounded(np.array(camera.position) + back))
    matrix = np.eye(4)
    matrix[:3, 3] = step
    return adjusted(project, camera_id, time, matrix)


def _rounded(place: Array) -> tuple[float, float, float]:
    return vector(np.round(place, 3))


def _moved_orbit(project: Project, camera_id: str, time: float, path: Path, shape: OrbitShape, step: Array) -> Project:
    middle = orbit_plan(shape)[1]
    here = Motion(project).poses(camera_id, [time])[0, :3, 3]
    there = here + step
    before, after = here[:2] - middle, there[:2] - middle
    turn = float(np.degrees(np.arctan2(before[0] * after[1] - before[1] * after[0], before @ after)))
    out = float(np.linalg.norm(after) - np.linalg.norm(before))
    return update(
        project,
        path.id,
        shape=msgspec.structs.replace(
            shape,
            start=round((shape.start + turn + 180.0) % 360.0 - 180.0, 4),
            offset=round(max(shape.offset + out, 0.0), 3),
            height=round(shape.height + float(step[2]), 3),
        ),
    )


def shifted(
    project: Project, meshes: Mapping[str, Mesh], camera_id: str, time: float, right: float, up: float
) -> Project:
    """The project with a camera moved to the right and up in its picture, its point aimed at with it."""
    camera = camera_of(project, camera_id)
    seen = views(project, meshes, camera, [time])
    step = right * np.cross(seen.forward[0], seen.up[0]) + up * seen.up[0]
    project = moved(project, camera_id, time, step)
    if isinstance(camera.aim, PointAim):
        project = update(project, camera_id, aim=PointAim(_rounded(np.array(camera.aim.point) + step)))
    return project


def dollied(project: Project, meshes: Mapping[str, Mesh], camera_id: str, time: float, factor: float) -> Project:
    """The project with a camera nearer by a factor below 1 to what it looks at, or farther; a parallel one shows so much less."""
    camera = camera_of(project, camera_id)
    if camera.parallel:
        return update(project, camera_id, view_height=max(camera.view_height * factor, 1.0))
    if camera.keeps == "distance":
        return update(project, camera_id, size=round(min(max(camera.size / factor, 1e-3), 10.0), 4))
    seen = views(project, meshes, camera, [time])
    away = float(np.linalg.norm(seen.target[0] - seen.position[0]))
    step = max(away * factor, _LEAST) - away
    return moved(project, camera_id, time, -step * seen.forward[0])


def orbited(
    project: Project, meshes: Mapping[str, Mesh], camera_id: str, time: float, left: float, up: float
) -> Project:
    """The project with a camera turned about what it looks at, to the left and up, at the same distance."""
    camera = camera_of(project, camera_id)
    seen = views(project, meshes, camera, [time])
    target, place = seen.target[0], seen.position[0]
    azimuth, rise = (float(v) for v in angles_of(place - target))
    wanted = direction(azimuth - left, np.clip(rise + up, -89.0, 89.0))
    return moved(project, camera_id, time, target + np.linalg.norm(place - target) * wanted - place)


def looked(
    project: Project, meshes: Mapping[str, Mesh], camera_id: str, time: float, left: float, up: float
) -> Project:
    """The project with a camera looking farther to the left and up from a time in s on, where its aim lets it.

    A free aim gets a key there; one along the travel is turned against it; a point is moved. Raises BadInput for one that
    follows a thing or a second path.
    """
    camera = camera_of(project, camera_id)
    aim = camera.aim
    if isinstance(aim, PartAim | PathAim):
        name = get(project, aim.part if isinstance(aim, PartAim) else aim.path).name
        raise BadInput(f"“{camera.name}” keeps looking at “{name}”; let it aim freely, or at a point, to turn it")
    if isinstance(aim, AlongAim):
        tilt = min(max(aim.pitch + up, -89.0), 89.0)
        return update(project, camera_id, aim=msgspec.structs.replace(aim, yaw=aim.yaw + left, pitch=tilt))
    seen = views(project, meshes, msgspec.structs.replace(camera, aim_lag=0.0), [time])
    forward = seen.forward[0]
    if isinstance(aim, FreeAim) and aim.riding:
        forward = Motion(project).poses(camera_id, [time])[0, :3, :3].T @ forward
    azimuth, rise = (float(v) for v in angles_of(forward))
    azimuth, rise = azimuth + left, float(np.clip(rise + up, -89.0, 89.0))
    if isinstance(aim, FreeAim):
        keys = look_keys_to(aim, round(time, 6), round(azimuth, 4), round(rise, 4))
        return update(project, camera_id, aim=msgspec.structs.replace(aim, keys=keys))
    away = float(np.linalg.norm(seen.target[0] - seen.position[0]))
    return update(project, camera_id, aim=PointAim(_rounded(seen.position[0] + away * direction(azimuth, rise))))


def rolled(project: Project, camera_id: str, time: float, angle: float) -> Project:
    """The project with a camera rolled to an angle at a time in s by a key; the first key holds for all time."""
    camera = camera_of(project, camera_id)
    return update(project, camera_id, roll=roll_keys_to(camera, round(time, 6), angle))


def levelled(project: Project, camera_id: str) -> Project:
    """The project with a camera's horizon level."""
    return update(project, camera_id, roll=(), banks=False)


def aimed_freely(project: Project, meshes: Mapping[str, Mesh], camera_id: str, time: float) -> Project:
    """The project with a camera that looks where it looks at a time in s, from now on by keys."""
    camera = camera_of(project, camera_id)
    yaw, pitch = angles_of(views(project, meshes, camera, [time]).forward[0])
    key = FreeAim().keys[0]
    key = msgspec.structs.replace(key, time=round(time, 6), yaw=round(float(yaw), 4), pitch=round(float(pitch), 4))
    return update(project, camera_id, aim=FreeAim((key,)))


def fitted(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera_id: str,
    time: float,
    aspect: float,
    by: Literal["distance", "lens"] = "distance",
    margin: float = MARGIN,
) -> Project:
    """The project with a camera that has its subject whole in the frame at a time in s, with a margin as a share of the frame.

    By its distance, which moves or widens what it goes on; or by its lens. Raises BadInput without a subject or where
    it cannot be.
    """
    camera = camera_of(project, camera_id)
    subject = subject_of(project, meshes, camera)
    if subject is None:
        raise BadInput(f"“{camera.name}” has no subject that is shown; choose what its picture is of")
    if not 0 <= margin < 0.5:
        raise BadInput(f"a margin of {100 * margin:g} % leaves nothing of the frame; give 0 to below 50")
    poses = world_poses(project, [time])
    for _ in range(12):
        camera = camera_of(project, camera_id)
        seen = views(project, meshes, camera, [time], poses, aspect)
        local = in_camera(seen.position, seen.forward, seen.up, subject.places(poses))[0]
        if by == "lens" or camera.parallel:
            framing = framed(camera, subject, seen, poses, aspect)
            reach = float(np.abs(np.concatenate([framing.low, framing.high])).max())
            factor = (1.0 - 2.0 * margin) / reach
            if camera.parallel:
                return update(project, camera_id, view_height=round(camera.view_height / factor, 3), keeps="")
            if local[:, 2].min() <= 0:
                raise BadInput(f"“{camera.name}” stands within its subject; fit it by distance instead")
            return update(project, camera_id, focal_length=round(camera.focal_length * factor, 3), keeps="")
        half = seen.half_height(camera, aspect, 1.0)[0] * (1.0 - 2.0 * margin)
        # every point must lie between the planes through the camera and the margin
        need = np.maximum(np.abs(local[:, 1]) / half, np.abs(local[:, 0]) / (half * aspect)) - local[:, 2]
        back = float(need.max())
        if abs(back) < 0.5:
            break
        project = moved(update(project, camera_id, keeps=""), camera_id, time, -back * seen.forward[0])
    return project


def holding_size(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera_id: str,
    time: float,
    aspect: float,
    by: Literal["distance", "lens"],
) -> Project:
    """The project with a camera that keeps the size that its subject has at a time in s. Raises BadInput without a subject."""
    camera = camera_of(project, camera_id)
    subject = subject_of(project, meshes, camera)
    if subject is None:
        raise BadInput(f"“{camera.name}” has no subject that is shown; choose what its picture is of")
    poses = world_poses(project, [time])
    seen = views(project, meshes, camera, [time], poses, aspect)
    size = float(framed(camera, subject, seen, poses, aspect).size[0])
    if not 0 < size <= 10:
        raise BadInput(f"the subject of “{camera.name}” covers {100 * size:,.0f} % of the frame; go farther away first")
    return update(project, camera_id, keeps=by, size=round(size, 4))
