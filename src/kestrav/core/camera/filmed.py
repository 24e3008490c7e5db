"""What a shot is of: what moves in it, what rides, what stays solid, and the dead time at its ends. Times in s, lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.lens import in_camera, on_frame
from kestrav.core.camera.subject import subject_id
from kestrav.core.camera.views import views
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors, get_as, shown_parts, subtree
from kestrav.core.document.records import Camera, Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.poses import light_places, moving_groups, world_poses
from kestrav.core.kinematics.runs import course_of
from kestrav.core.parts.rest import own_bounds, rows

Array = NDArray[np.float64]

_LOOKS = 49  # moments of a shot at which it is looked what has moved
_SAME = 1e-6  # mm and matrix entries
_LEAST_STEP = 0.05  # mm from frame to frame, below which a camera stands still
_LEAST_TURN = 2e-5  # rad, likewise
_SOFT = 0.15  # s over which something becomes faint


def moved_parts(project: Project, start: float, end: float) -> frozenset[str]:
    """Ids of the parts that move between two times."""
    poses = world_poses(project, np.linspace(start, end, _LOOKS))
    moved = np.abs(poses - poses[:1]).max(axis=(0, 2, 3)) > _SAME
    return frozenset(part.id for part, moves in zip(project.parts, moved, strict=True) if moves)


def rider_of(project: Project, shot: Shot) -> str:
    """The thing whose motion a shot shows: what rides and is, carries or belongs to the camera's subject, or else what goes the
    farthest in its span; empty where nothing rides."""
    subject = subject_id(camera_of(project, shot.camera))
    own = {subject, *subtree(project, subject), *ancestors(project, subject)} if subject else set()
    cameras = {c.id for c in project.cameras}
    best: tuple[bool, float] = (False, 0.0)
    rider = ""
    for run in project.runs:
        if run.rider in cameras:
            continue
        course = course_of(project, run)
        first, last = max(course.start, shot.start), min(course.end, shot.end)
        if first >= last:
            continue
        distance = float(np.abs(np.diff(course.stations(np.linspace(first, last, 9)))).sum())
        rank = (run.rider in own, distance)
        if distance > 0 and rank > best:
            best, rider = rank, run.rider
    return rider


def kept_solid(project: Project, shot: Shot) -> frozenset[str]:
    """Ids of the parts that stay solid in a look that shows the rest see-through: what moves of the camera's subject in the shot, or
    else all that moves, or else the subject."""
    subject = subject_id(camera_of(project, shot.camera))
    own = frozenset(subtree(project, subject)) if subject else frozenset()
    moves = moved_parts(project, shot.start, shot.end)
    return own & moves or moves or own


def still_steps(project: Project, meshes: Mapping[str, Mesh], shot: Shot, times: Array) -> NDArray[np.bool_]:
    """For each step from one of times (n,) of a shot to the next (n - 1,): whether nothing in the picture changes by it."""
    camera = camera_of(project, shot.camera)
    aspect = shot.width / shot.height
    poses = world_poses(project, times)
    seen = views(project, meshes, camera, times, poses, aspect)
    if len(times) < 2:
        return np.zeros(0, bool)
    stands: NDArray[np.bool_] = np.linalg.norm(np.diff(seen.position, axis=0), axis=1) < _LEAST_STEP
    for axis in (seen.forward, seen.up):
        stands &= np.linalg.norm(np.diff(axis, axis=0), axis=1) < _LEAST_TURN
    lens = seen.half_height(camera, shot.width, shot.height)
    stands &= np.abs(np.diff(lens)) < 1e-6 * np.abs(lens[1:])
    for light in project.lights:
        states = [
            (*state(light, t), *np.round(np.concatenate(light_places(project, light, [t])).ravel(), 3)) for t in times
        ]
        stands &= np.array([a == b for a, b in pairwise(states)])
    for fade in camera.fades:
        stands &= (times[1:] < fade.start - 1e-9) | (times[:-1] > fade.end + 1e-9)
    row, shown, known = rows(project), shown_parts(project), moving_groups(project)
    for part in project.parts:
        if part.geometry is None or part.id not in shown or part.id not in known or not stands.any():
            continue
        own = poses[:, row[part.id]]
        steps = np.abs(np.diff(own, axis=0)).max(axis=(1, 2)) > _SAME
        if steps.any():
            box = own_bounds(project, part.id)
            corners = np.array(np.meshgrid(*box.T, indexing="ij")).reshape(3, -1).T
            local = in_camera(seen.position, seen.forward, seen.up, apply(own, corners))
            places = on_frame(local, lens, aspect, parallel=camera.parallel)
            inside = np.all((places.min(axis=1) < 1) & (places.max(axis=1) > -1), axis=1)
            # what is wholly behind the camera is not in its picture
            inside &= camera.parallel | (local[..., 2].max(axis=1) > 0)
            stands &= ~(steps & (inside[1:] | inside[:-1]))
    return stands


def live_span(project: Project, meshes: Mapping[str, Mesh], shot: Shot) -> tuple[float, float]:
    """First and last time of a shot without the dead time at its ends; all of it where nothing in it changes at all."""
    times = np.array([frame_time(shot, k) for k in range(frame_count(shot))])
    ends = [times[:2], times[-2:]]
    if not any(still_steps(project, meshes, shot, some).any() for some in ends):
        return shot.start, shot.end
    moves = np.flatnonzero(~still_steps(project, meshes, shot, times))
    if not len(moves):
        return shot.start, shot.end
    step = 1.0 / shot.fps
    # one still frame stays at either end: the one that the change begins with, and the one that it arrives at
    last = shot.end if moves[-1] + 2 >= frame_count(shot) else shot.start + (moves[-1] + 2) * step
    return shot.start + float(moves[0]) * step, float(last)


def trimmed(project: Project, meshes: Mapping[str, Mesh], shot_id: str) -> Project:
    """The project with a shot's dead time at its ends taken off. Raises BadInput where there is none."""
    shot = get_as(project, shot_id, Shot)
    first, last = live_span(project, meshes, shot)
    if last - first > shot.end - shot.start - 1e-9:
        raise BadInput(
            f"“{shot.name}” has no dead time at its ends: something changes from its first frame to its last"
        )
    fade = min(shot.fade, max(last - first - 1.0 / shot.fps, 0.0))
    return update(project, shot.id, start=first, end=last, fade=fade)


def film_trimmed(project: Project, meshes: Mapping[str, Mesh]) -> Project:
    """The project with the dead time taken off at the ends of all shots of the film; loops stay whole. Raises BadInput where there is none."""
    after = project
    for shot in project.shots:
        if shot.in_film and not shot.loops:
            with suppress(BadInput):  # it has none
                after = trimmed(after, meshes, shot.id)
    if after is project:
        raise BadInput("no shot has dead time at its ends: something changes from each first frame to its last")
    return after


def faint_things(camera: Camera, time: float) -> dict[str, float]:
    """What a camera sees faint at a time in s, with its opacity; it goes there softly."""
    faint_things: dict[str, float] = {}
    for fade in camera.fades:
        share = float(np.clip(min(time - fade.start, fade.end - time) / _SOFT, 0.0, 1.0))
        if share > 0:
            faint_things[fade.thing] = min(faint_things.get(fade.thing, 1.0), 1.0 + share * (fade.opacity - 1.0))
    return faint_things
