"""Edits that give a camera its subject back, each tried before it is offered. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import partial

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.adjusting import segment_at
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.orbits import widened
from kestrav.core.document.edits import replace as edit_records, update
from kestrav.core.document.lookup import ancestors, find, get, get_as, items
from kestrav.core.document.records import (
    Attachment,
    Camera,
    Even,
    Fade,
    Item,
    OrbitShape,
    Path,
    Project,
    Run,
    Shot,
)
from kestrav.core.editing.timing import stretched
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.runs import course_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import transformed

Array = NDArray[np.float64]

Edit = Callable[[Project], Project]
Goal = Callable[[Judged], float]
"""How far something is from what is wanted; 0 or less where it is well."""

_TRIED = 90  # frames at most at which an edit is tried
_TRIED_RAYS = 64
RAISES = (150.0, 300.0, 600.0, 1000.0, 1500.0, 2200.0)
TURNS = (20.0, -20.0, 45.0, -45.0, 90.0, -90.0, 135.0, -135.0, 180.0)
SOFT = 0.15  # s before and after in which something is faint as well


class Candidate(msgspec.Struct, frozen=True):
    """An edit by which a goal is reached, and what to call it."""

    label: str
    edit: Edit
    heavy: bool = False  # whether the edit holds meshes, so that its outcome is kept instead


def with_records(project: Project, records: tuple[Item, ...]) -> Project:
    """The project with records as they are here, by their ids; those that are gone meanwhile stay gone."""
    for record in records:
        if find(project, record.id) is not None:
            project = edit_records(project, record)
    return project


def told(project: Project, candidate: Candidate) -> Edit:
    """A candidate's edit, or where that is heavy one that brings about the same of a project."""
    if not candidate.heavy:
        return candidate.edit
    after = candidate.edit(project)
    changed = tuple(item for item in items(after) if find(project, item.id) is not item)
    return partial(with_records, records=changed)


def tried(judged: Judged, goal: Goal, candidates: Iterable[Candidate]) -> Candidate | None:
    """The first of some edits by which a goal is reached at all frames, or None."""
    times = judged.times[:: max(len(judged.times) // _TRIED, 1)]
    for candidate in candidates:
        try:
            project = candidate.edit(judged.project)
        except BadInput:
            continue
        camera = find(project, judged.camera.id)
        if not isinstance(camera, Camera):
            continue
        if goal(msgspec.structs.replace(judged, project=project, camera=camera, times=times, rays=_TRIED_RAYS)) <= 0:
            return candidate
    return None


def raises(judged: Judged) -> list[Candidate]:
    """Going higher, on its path or where it stands."""
    return [Candidate(f"Go {by:,.0f} mm higher", partial(raised, camera_id=judged.camera.id, by=by)) for by in RAISES]


def raised(project: Project, camera_id: str, by: float) -> Project:
    """The project with a camera higher by a length, all along what it goes on."""
    camera = get_as(project, camera_id, Camera)
    segment = segment_at(project, camera_id, 0.0)
    if segment is None or isinstance(segment.item, Attachment):
        x, y, z = camera.position
        return update(project, camera_id, position=(x, y, z + by))
    done: set[str] = set()
    for run in [r for r in project.runs if r.rider == camera_id]:
        path = get_as(project, run.path, Path)
        shared = any(r.path == run.path and r.rider != camera_id for r in project.runs)
        if shared or run.ground is not None:
            # what others go on stays; the camera is carried above it
            x, y, z = run.offset
            project = update(project, run.id, offset=(x, y, z + by))
        elif path.id not in done:
            done.add(path.id)
            matrix = np.eye(4)
            matrix[2, 3] = by
            project = transformed(project, path.id, matrix)
    return project


def widens(judged: Judged) -> list[Candidate]:
    """Going farther out."""
    path = own_path(judged.project, judged.camera.id)
    if path is None:
        return []
    return [Candidate(f"Go {by:,.0f} mm wider", partial(widened, path_id=path.id, by=by)) for by in RAISES]


def own_path(project: Project, camera_id: str) -> Path | None:
    """The path that a camera goes along and nothing else does, or none."""
    paths = {run.path for run in project.runs if run.rider == camera_id}
    others = {run.path for run in project.runs if run.rider != camera_id}
    if len(paths) != 1 or paths & others:
        return None
    path = get(project, next(iter(paths)))
    return path if isinstance(path, Path) else None


def shifts(judged: Judged) -> list[Candidate]:
    """Beginning elsewhere on an orbit, or moving along the path."""
    path = own_path(judged.project, judged.camera.id)
    if path is None:
        return []
    if isinstance(path.shape, OrbitShape):
        return [
            Candidate(
                f"Begin {abs(by):g}° to the {'left' if by < 0 else 'right'}",
                partial(_begun_elsewhere, path_id=path.id, by=by),
            )
            for by in TURNS
        ]
    runs = [r for r in judged.project.runs if r.rider == judged.camera.id]
    if len(runs) != 1 or runs[0].end - runs[0].begin > 0.9:
        return []
    return [
        Candidate(
            f"Move {abs(by):.0%} {'on' if by > 0 else 'back'} along the path", partial(_moved_along, runs[0].id, by)
        )
        for by in (0.1, -0.1, 0.2, -0.2, 0.3, -0.3)
    ]


def _begun_elsewhere(project: Project, path_id: str, by: float) -> Project:
    path = get(project, path_id)
    assert isinstance(path, Path) and isinstance(path.shape, OrbitShape)
    start = (path.shape.start + by + 180.0) % 360.0 - 180.0
    return update(project, path_id, shape=msgspec.structs.replace(path.shape, start=start))


def _moved_along(run_id: str, by: float, project: Project) -> Project:
    run = get_as(project, run_id, Run)
    by = min(max(by, -run.begin), 1.0 - run.end)
    return update(project, run_id, begin=run.begin + by, end=run.end + by)


def faded(project: Project, camera_id: str, thing: str, spans: tuple[tuple[float, float], ...]) -> Project:
    """The project with a thing shown faint to a camera over spans of time, and a little before and after."""
    camera = get_as(project, camera_id, Camera)
    fades = [Fade(thing, round(max(first - SOFT, 0.0), 4), round(last + SOFT, 4)) for first, last in spans]
    return update(project, camera_id, fades=(*camera.fades, *fades))


def hideable(project: Project, row: int, subject: str) -> str:
    """The thing to fade where a part hides a subject: its outermost assembly that the subject is not in, or itself."""
    part = project.parts[row].id
    with_subject = {subject, *ancestors(project, subject)}
    chain = [*ancestors(project, part), part]
    return next((thing for thing in chain if thing not in with_subject), part)


def slower(project: Project, camera_id: str, factor: float) -> Project:
    """The project with a camera's runs and shots taking so many times as long. Raises BadInput where it follows something."""
    runs = [r for r in project.runs if r.rider == camera_id]
    if any(r.follows is not None for r in runs):
        raise BadInput("the camera goes as something else does; slow that down instead")
    ids = [*(r.id for r in runs), *(s.id for s in project.shots if s.camera == camera_id)]
    camera = get(project, camera_id)
    if isinstance(camera, Camera) and not runs:
        ids.append(camera_id)
    return stretched(project, ids, factor)


def at_speed(project: Project, run_id: str, speed: float) -> Project:
    """The project with a run at a top speed in mm/s, and the shots of its camera as long as it takes then."""
    run = get_as(project, run_id, Run)
    before = course_of(project, run)
    project = update(project, run_id, speed=speed, duration=None)
    speed_profile = run.speed_profile
    if hasattr(speed_profile, "top"):
        project = update(project, run_id, speed_profile=msgspec.structs.replace(speed_profile, top=speed))
    changed = get_as(project, run_id, Run)
    after = course_of(project, changed)
    for shot in project.shots:
        if shot.camera == run.rider and abs(shot.end - before.shown_end) < 0.1 and np.isfinite(after.end):
            project = update(project, shot.id, end=after.end)
    return project


def closed_loop(project: Project, shot_id: str) -> Project:
    """The project with a shot that is exactly one round of its camera's run, at even speed, its last frame just before its
    first one. Raises BadInput where the camera's path does not close."""
    shot = get_as(project, shot_id, Shot)
    runs = [r for r in project.runs if r.rider == shot.camera]
    if len(runs) != 1:
        raise BadInput("the camera does not go around once by one run; give it one on a closed path")
    run = runs[0]
    path = get_as(project, run.path, Path)
    if isinstance(path.shape, OrbitShape):
        laps = max(round(path.shape.laps), 1)
        project = update(project, path.id, shape=msgspec.structs.replace(path.shape, laps=float(laps), rise=0.0))
        path = get_as(project, path.id, Path)
    if not path_curve(path).curve.closed:
        raise BadInput(f"“{path.name}” does not close; a loop needs a closed path")
    frames = max(round((shot.end - shot.start) * shot.fps), 1)
    seconds = frames / shot.fps
    fields = {
        "start": shot.start,
        "duration": seconds,
        "speed": None,
        "speed_profile": Even(),
        "begin": 0.0,
        "end": 1.0,
    }
    project = update(project, run.id, **fields, holds=(), passes=1, returns=False, trigger=None)
    return update(project, shot.id, end=shot.start + seconds, loops=True)
