"""New cameras: standing, on paths, on arcs about things, riding, following and beside the way. Lengths in mm, angles in degrees."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import add, change, update
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import (
    AlongAim,
    ArcShape,
    Attachment,
    Camera,
    CameraAim,
    Eased,
    Even,
    FixedOrientation,
    Following,
    FreeAim,
    LookKey,
    PartAim,
    Path,
    PointAim,
    Project,
    Run,
    Shot,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import courses_of, movers
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.parts.rest import own_bounds
from kestrav.core.paths.path_curves import path_curve

Array = NDArray[np.float64]
Side = Literal["behind", "ahead", "left", "right", "above"]
SIDES: tuple[Side, ...] = ("behind", "ahead", "left", "right", "above")

_STEP = 0.05  # s over which it is looked where something sets out to
_RAMP = 0.08  # share of a way over which a camera sets out and comes to rest


def add_camera(project: Project, name: str, aim: CameraAim, place: ArrayLike, **fields: Any) -> Project:
    """The project with a camera at a place (3,); it is the last one, without a shot."""
    where = vector(np.round(np.asarray(place, float), 3))
    return add(project, Camera(new_id(project, Camera), new_name(project, Camera, name), aim, where, **fields))


def with_shot(
    project: Project, camera_id: str, start: float | None = None, end: float | None = None, *, loops: bool = False
) -> Project:
    """The project with a shot of a camera: over a span, or while it moves, or over the whole project."""
    camera = get(project, camera_id)
    courses = courses_of(project, camera_id)
    known = [course for course in courses if np.isfinite(course.start)]
    if start is None:
        start = min((course.start for course in known), default=0.0)
    if end is None:
        end = max((course.shown_end for course in known), default=span(project))
    name = new_name(project, Shot, _shot_name(camera.name))
    shot = Shot(new_id(project, Shot), name, camera_id, start, end, fps=project.settings.fps, loops=loops)
    if project.shots:
        # as large as those there are
        like = project.shots[-1]
        shot = change(shot, width=like.width, height=like.height)
    return add(project, shot)


def _shot_name(camera: str) -> str:
    """What a shot of a camera of a name is called: told apart from it where both stand in one list."""
    for word, instead in (("camera", "shot"), ("Camera", "Shot")):
        if word in camera:
            return camera.replace(word, instead)
    return f"{camera} shot"


def add_standing(project: Project, place: ArrayLike, target: ArrayLike | str, **fields: Any) -> Project:
    """The project with a camera that stands at a place looking at a point or a thing, and a shot of the whole."""
    if isinstance(target, str):
        aim: CameraAim = PartAim(target)
        name = f"{get(project, target).name} camera"
    else:
        aim, name = PointAim(vector(np.round(np.asarray(target, float), 3))), "Camera"
    project = add_camera(project, name, aim, place, **fields)
    return with_shot(project, project.cameras[-1].id)


def add_on_path(
    project: Project, path_id: str, aim: CameraAim, duration: float, begin: float = 0.0, **fields: Any
) -> Project:
    """The project with a camera that goes along a path in a time, and a shot of it; around a closed one it loops."""
    path = get(project, path_id)
    if not isinstance(path, Path):
        raise BadInput(f"“{path.name}” is not a path; a camera goes along a path")
    curve = path_curve(path).curve
    project = add_camera(project, f"Camera on {path.name}", aim, curve.position([0.0])[0], **fields)
    camera = project.cameras[-1].id
    ramp = _RAMP * curve.length
    run = Run(
        new_id(project, Run),
        new_name(project, Run, f"Camera along {path.name}"),
        camera,
        path_id,
        start=begin,
        duration=duration,
        speed_profile=Even() if curve.closed else Eased(ramp, ramp),
    )
    return with_shot(add(project, run), camera, loops=curve.closed)


def add_arc(
    project: Project, thing: str, place: ArrayLike, sweep: float = 90.0, duration: float = 6.0, begin: float = 0.0
) -> Project:
    """The project with a camera on a level arc about a thing's middle, from a place (3,) by a sweep, and a shot.

    Its distance from what it looks at is the same everywhere. Raises BadInput for a place straight above the middle.
    """
    pose = Motion(project).poses(thing, [begin])[0]
    middle = pose[:3, :3] @ own_bounds(project, thing).mean(axis=0) + pose[:3, 3]
    start = np.asarray(place, float)
    if np.hypot(*(start - middle)[:2]) < 1.0:
        raise BadInput("the arc would begin straight above the middle of the thing; begin beside it")
    name = get(project, thing).name
    centre = vector(np.round([middle[0], middle[1], start[2]], 3))
    shape = ArcShape(centre, vector(np.round(start, 3)), sweep)
    path = Path(new_id(project, Path), new_name(project, Path, f"Arc about {name}"), shape)
    return add_on_path(add(project, path), path.id, PartAim(thing), duration, begin)


def add_riding(project: Project, carrier: str, place: ArrayLike, aim: CameraAim, begin: float = 0.0) -> Project:
    """The project with a camera that is attached to a thing from a time on, where it is placed then, and a shot."""
    project = add_camera(project, f"Camera on {get(project, carrier).name}", aim, place)
    camera = project.cameras[-1].id
    name = new_name(project, Attachment, f"Camera is attached to {get(project, carrier).name}")
    project = add(project, Attachment(new_id(project, Attachment), name, camera, carrier, begin))
    return with_shot(project, camera)


def travel_of(project: Project, thing: str) -> tuple[float, Array]:
    """When a thing sets out, in s, and the level direction (3,) in which. Raises BadInput for what does not move by itself."""
    if thing not in movers(project):
        raise BadInput(f"“{get(project, thing).name}” does not move; follow something that does")
    motion, times = Motion(project), np.arange(0.0, span(project) + _STEP, _STEP)
    places = motion.poses(thing, times)[:, :3, 3]
    step = np.diff(places, axis=0)
    step[:, 2] = 0.0
    size = np.linalg.norm(step, axis=1)
    if not size.max(initial=0.0) > 1e-6:
        raise BadInput(f"“{get(project, thing).name}” goes nowhere sideways, so nothing is behind it")
    first = int(np.argmax(size > 0.01 * size.max()))
    return float(times[first]), step[first] / size[first]


def add_follower(
    project: Project,
    thing: str,
    side: Side = "behind",
    distance: float = 2500.0,
    height: float = 800.0,
    lag: float = 0.4,
) -> Project:
    """The project with a camera that is attached to a moving thing at its side, looking at it softly, and a shot.

    The distance is from the thing's middle, the height above it; the ``lag`` in s is that of its place and half that of its look.
    """
    begin, ahead = travel_of(project, thing)
    left = np.array([-ahead[1], ahead[0], 0.0])
    directions = {"behind": -ahead, "ahead": ahead, "left": left, "right": -left, "above": np.zeros(3)}
    pose = Motion(project).poses(thing, [begin])[0]
    middle = pose[:3, :3] @ own_bounds(project, thing).mean(axis=0) + pose[:3, 3]
    up = np.array([0.0, 0.0, distance if side == "above" else height])
    project = add_riding(project, thing, middle + distance * directions[side] + up, PartAim(thing))
    camera = project.cameras[-1]
    name = new_name(project, Camera, f"{side.capitalize()} {get(project, thing).name}")
    return update(project, camera.id, name=name, lag=lag, aim_lag=0.5 * lag)


def add_follower_on_path(
    project: Project,
    run_id: str,
    distance: float = 2500.0,
    height: float = 1500.0,
    aside: float = 0.0,
    aim_lag: float = 0.2,
) -> Project:
    """The project with a camera that keeps a distance along the path behind a run's rider (negative: ahead of it), at a height
    above the path and to its left, and a shot of that run."""
    run = get(project, run_id)
    if not isinstance(run, Run):
        raise BadInput(f"“{run.name}” is no run; a camera follows a run along its path")
    course = course_of(project, run)
    place = course.path.curve.position([course.sets_out_at])[0] + np.array([0.0, 0.0, height])
    where = "behind" if distance >= 0 else "ahead of"
    name = get(project, run.rider).name
    project = add_camera(project, f"Camera {where} {name}", PartAim(run.rider), place, aim_lag=aim_lag)
    camera = project.cameras[-1].id
    follows = Run(
        new_id(project, Run),
        new_name(project, Run, f"Camera {where} {name}"),
        camera,
        run.path,
        begin=run.begin,
        end=run.end,
        backwards=run.backwards,
        orientation=FixedOrientation(),
        offset=(0.0, aside, height),
        follows=Following(run.id, distance),
    )
    return with_shot(add(project, follows), camera, course.start, course.shown_end)


def add_passing(
    project: Project,
    run_id: str,
    place: float = 0.5,
    distance: float = 2500.0,
    height: float = 1200.0,
    *,
    left: bool = True,
) -> Project:
    """The project with a camera that stands beside a run's path, at a share of its way, and looks after its rider as it passes; and a
    shot of that run."""
    run = get(project, run_id)
    if not isinstance(run, Run):
        raise BadInput(f"“{run.name}” is no run; a camera stands beside the path of a run")
    course = course_of(project, run)
    station = course.first + place * course.length
    frame = course.path.frames([station])[0]
    side = frame[:, 1] * np.array([1.0, 1.0, 0.0])
    side = side / max(float(np.linalg.norm(side)), 1e-9) * (1.0 if left else -1.0)
    where = course.path.curve.position([station])[0] + distance * side + np.array([0.0, 0.0, height])
    project = add_camera(project, f"{get(project, run.rider).name} passing", PartAim(run.rider), where)
    return with_shot(project, project.cameras[-1].id, course.start, course.shown_end)


def add_look_around(
    project: Project,
    place: ArrayLike,
    radius: float = 0.0,
    duration: float = 20.0,
    begin: float = 0.0,
    *,
    clockwise: bool = True,
) -> Project:
    """The project with a camera that looks all around from a place (3,), or outwards from a small circle about it, and a shot that
    loops."""
    if radius <= 0:
        keys = (LookKey(begin, 90.0), LookKey(begin + duration, 90.0 - 360.0 if clockwise else 450.0))
        project = add_camera(project, "Look around", FreeAim(keys), place)
        return with_shot(project, project.cameras[-1].id, begin, begin + duration, loops=True)
    middle = np.asarray(place, float)
    sweep = -360.0 if clockwise else 360.0
    shape = ArcShape(vector(middle), vector(middle + np.array([0.0, radius, 0.0])), sweep)
    path = Path(new_id(project, Path), new_name(project, Path, "Look around"), shape)
    # outwards is to the left of what goes round clockwise
    aim = AlongAim(yaw=90.0 if clockwise else -90.0)
    project = add_on_path(add(project, path), path.id, aim, duration, begin)
    return update(project, project.cameras[-1].id, name=new_name(project, Camera, "Look around"))
