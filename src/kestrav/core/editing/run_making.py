"""Edits that need to know the motion: runs and key poses made, turned into each other, and brought where they must be."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from typing import Literal

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.document.edits import add, remove, update
from kestrav.core.document.lookup import get, get_as, named_parts, new_id, new_name, solids, subtree
from kestrav.core.document.records import (
    AlongOrientation,
    Attachment,
    Ball,
    Castor,
    FixedOrientation,
    Following,
    Gear,
    Hold,
    Keyed,
    KeyedOrientation,
    KeyPose,
    Light,
    Orientation,
    OrientationKey,
    Part,
    Path,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    PoseTrack,
    Project,
    Rod,
    Run,
    SpeedKey,
    TimedRotation,
    Wheel,
)
from kestrav.core.document.references import renamed
from kestrav.core.document.validation import COINCIDENT
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import box_corners
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.carriage import places_beyond
from kestrav.core.kinematics.key_poses import pivot_poses, places, velocities
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import active, movers, segments_of
from kestrav.core.kinematics.runs import begins, course_of
from kestrav.core.kinematics.seating import body_axes, path_frames, reference_matrix
from kestrav.core.parts.arranging import copy
from kestrav.core.parts.placing import bounds_of, pivot_at, pivot_at_side, placement, rest_of, shift
from kestrav.core.parts.rest import own_bounds, rest_and_pivot
from kestrav.core.paths.fitting import points_through
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import transformed

Array = NDArray[np.float64]


def next_start(project: Project, thing: str) -> float:
    """When a thing's last run or key poses end, in s; 0 when nothing moves it yet."""
    ends = [
        segment.course.shown_end if segment.course is not None else segment.end
        for segment in segments_of(project, thing)
    ]
    return max((end for end in ends if np.isfinite(end)), default=0.0)


OFF = 1.0  # mm outside its bounds from which a pivot is not on its part; common practice, no source: rounding in CAD is far smaller


def pivot_on_it(project: Project, thing: str) -> Project:
    """The project with a part's pivot in the middle of its bore, or of its bounds where it has none, where the pivot is still at the file's
    origin and that lies off the part: as it is to be set before anything moves the part by it. As it is where somebody chose the pivot, or
    something moves the part already."""
    part = get(project, thing)
    if (
        not isinstance(part, Part)
        or part.pivot != Placement()
        or thing in movers(project)
        or not solids(project, thing)
    ):
        return project
    low, high = bounds_of(project, [thing])
    place = (rest_and_pivot(project, thing)[0])[:3, 3]
    if np.linalg.norm(np.maximum(np.maximum(low - place, place - high), 0.0)) <= OFF:
        return project
    bore = next((g.bore for g in project.geometry if g.hash == part.geometry), None)
    if bore is not None and len(subtree(project, thing)) == 1:
        return pivot_at(project, thing, apply(rest_of(project, thing), (np.array(bore) * part.scale)[None])[0])
    return pivot_at_side(project, thing, "middle")


def add_run(project: Project, rider: str, path: str, companions: tuple[str, ...] = ()) -> Project:
    """The project with a rider sent along a path, after all that moves it so far; the new run is the last one.

    ``companions`` are parts that keep their arrangement with it. Raises BadInput when there is no such rider or path.
    """
    project = pivot_on_it(project, rider)
    who, where = get(project, rider), get(project, path)
    name = new_name(project, Run, f"{who.name} on {where.name}")
    start = next_start(project, rider)
    return add(project, Run(new_id(project, Run), name, rider, path, start=start, companions=companions))


def add_attachment(project: Project, rider: str, carrier: str, start: float, end: float | None = None) -> Project:
    """The project with a thing attached to a part from a time to another; the new attachment is the last one."""
    who, what = get(project, rider), get(project, carrier)
    if isinstance(who, Part) and (carrier in subtree(project, rider) or rider in subtree(project, carrier)):
        raise BadInput(f"“{who.name}” and “{what.name}” are parts of each other; one cannot be attached to the other")
    name = new_name(project, Attachment, f"{who.name} is attached to {what.name}")
    return add(project, Attachment(new_id(project, Attachment), name, rider, carrier, start, end))


def add_light(project: Project, kind: Literal["point", "spot", "area", "sun"], position: Array, aim: Array) -> Project:
    """The project with a light at a place shining at a point; the new light is the last one."""
    name = new_name(project, Light, f"{kind} light".capitalize())
    strength = _SUN if kind == "sun" else _LAMP
    return add(project, Light(new_id(project, Light), name, kind, vector(position), PointAim(vector(aim)), strength))


_LAMP, _SUN = 800.0, 300.0  # cd of a bright lamp, and lx by which a sun shows beside the room's own light


# path and thing


def seat_place(project: Project, run: Run) -> Array:
    """Where what of a rider sits on the path is with nothing under way (3,)."""
    rest, pivot = rest_and_pivot(project, run.rider)
    seat_place: Array = (rest @ reference_matrix(project, run, pivot))[:3, 3]
    return seat_place


def bring_path(project: Project, run_id: str) -> Project:
    """The project with a run's path shifted so that it sets out where its rider stands."""
    run = get_as(project, run_id, Run)
    course = course_of(project, run)
    step = seat_place(project, run) - course.path.curve.position([course.sets_out_at])[0]
    return transformed(project, run.path, shift(step))


def front_station(project: Project, run: Run) -> float:
    """The station in mm that the foremost point of a rider has reached when it arrives, as seen square to its path.

    Beyond an open path's end it counts on straight.
    """
    course = course_of(project, run)
    sense = -1.0 if arrives_backwards(run) else 1.0
    station, curve = course.arrives_at, course.path.curve
    end = np.array([course.end if np.isfinite(course.end) else course.start + course.once])
    pose = Motion(project).poses(run.rider, end)[0]
    corners = box_corners(
        own_bounds(project, run.rider) if _is_part(project, run.rider) else (np.zeros(3), np.zeros(3))
    )
    ahead = sense * curve.tangent([station], before=station > 0)[0]
    spots = apply(pose, corners)
    foremost = spots[int(np.argmax(spots @ ahead))]
    # where the path is square to it: from where it sits on, step by step
    front = station
    for _ in range(30):
        inside = np.clip(front, 0.0, curve.length) if not curve.closed else front % curve.length
        tangent = curve.tangent([inside], before=bool(inside > 0))[0]
        step = float((foremost - places_beyond(curve, [front])[0]) @ tangent)
        front += step
        if abs(step) < 1e-9:
            break
    return float(front)


def _is_part(project: Project, thing: str) -> bool:
    return isinstance(get(project, thing), Part)


def arrives_backwards(run: Run) -> bool:
    """Whether a run comes to its end against its path's direction."""
    first, last = run.portion or (0.0, 1.0)
    # the pass that it ends in
    number = np.ceil(last * run.passes) - 1 if last > first else np.floor(last * run.passes)
    back = run.returns and number % 2 == 1
    return bool(run.backwards != back) != (last < first)


def stop_at_mark(project: Project, run_id: str) -> Project:
    """The project with a run's end where its rider's front comes to stand at its mark.

    Raises BadInput when the path is too short for that.
    """
    run = get_as(project, run_id, Run)
    if run.mark is None:
        raise BadInput(f"the run “{run.name}” has no mark to stop at")
    length = path_curve(_path(project, run)).length
    field = "begin" if run.backwards else "end"
    for _ in range(40):
        edited = get_as(project, run_id, Run)
        off = run.mark * length - front_station(project, edited)
        if abs(off) < 1e-7:
            break
        share = getattr(edited, field) + off / length
        if not 0 <= share <= 1:
            raise BadInput(
                f"the path of “{run.name}” is too short for the front to stop at {run.mark * length:,.1f} mm; make it longer"
            )
        project = update(project, run_id, **{field: share})
    return project


def _path(project: Project, run: Run) -> Path:
    path = get_as(project, run.path, Path)
    return path


# company


def convoy(project: Project, run_id: str, count: int, spacing: float) -> Project:
    """The project with linked copies of a run's rider that follow it a spacing in mm apart, ``count`` things in all.

    Their runs go as its own does. Raises BadInput for fewer than two things, and for a rider that is no part.
    """
    run = get_as(project, run_id, Run)
    if count < 2:
        raise BadInput(f"a convoy of {count} needs no copies; give 2 or more")
    if not isinstance(get(project, run.rider), Part):
        raise BadInput(f"“{get(project, run.rider).name}” is no part, so it cannot be copied into a convoy")
    known = {p.id for p in project.parts}
    course = course_of(project, run)
    direction = course.path.curve.tangent([course.sets_out_at])[0] * (
        -1.0 if run.backwards != course_of(project, run).is_backward else 1.0
    )
    project = copy(project, [run.rider], [shift(-k * spacing * direction) for k in range(1, count)])
    rider = get_as(project, run.rider, Part)
    fresh = [p.id for p in project.parts if p.id not in known and p.parent == rider.parent]
    for copy_id in fresh:
        project = turning_too(project, run.rider, copy_id)
    return _led(project, run, [(copy_id, run.path, k * spacing) for k, copy_id in enumerate(fresh, 1)])


def turning_too(project: Project, original: str, copied: str) -> Project:
    """The project with the wheels, castors, rotations, balls, and the gears and rods within a thing, on its copy as well."""
    pairs = dict(zip(subtree(project, original), subtree(project, copied), strict=True))
    for field, kind in (("wheels", Wheel), ("castors", Castor), ("rotations", TimedRotation)):
        for item in getattr(project, field):
            if item.part in pairs:
                name = new_name(project, kind, item.name)
                fresh = msgspec.structs.replace(renamed(item, pairs), id=new_id(project, kind), name=name)
                project = add(project, fresh)
    for gear in project.gears:
        if {gear.a.part, gear.b.part} <= pairs.keys():
            named = {"id": new_id(project, Gear), "name": new_name(project, Gear, gear.name)}
            project = add(project, msgspec.structs.replace(renamed(gear, pairs), **named))
    for rod in project.rods:
        if set(named_parts(rod)) <= pairs.keys():
            named = {"id": new_id(project, Rod), "name": new_name(project, Rod, rod.name)}
            project = add(project, msgspec.structs.replace(renamed(rod, pairs), **named))
    for ball in project.balls:
        if ball.part in pairs:
            named = {"id": new_id(project, Ball), "name": new_name(project, Ball, ball.name)}
            # it rolls on what the other one rolls on, or on that one's copy
            project = add(project, msgspec.structs.replace(renamed(ball, pairs), normals=(), until=0.0, **named))
    return project


def follow_on(project: Project, run_id: str, rider: str, path: str | None = None, distance: float = 0.0) -> Project:
    """The project with another thing going as a run does, a distance in mm behind it, on its path or on another."""
    run = get_as(project, run_id, Run)
    return _led(project, run, [(rider, path or run.path, distance)])


def _led(project: Project, run: Run, wanted: list[tuple[str, str, float]]) -> Project:
    link = run.link or run.id
    project = update(project, run.id, link=link)
    for rider, path, distance in wanted:
        name = new_name(project, Run, f"{get(project, rider).name} follows")
        edited = msgspec.structs.replace(
            run,
            id=new_id(project, Run),
            name=name,
            rider=rider,
            path=path,
            follows=Following(run.id, distance),
            link=link,
            companions=(),
            trigger=None,
            mark=None,
            arrive_by=None,
        )
        project = add(project, edited)
    return project


def linked_copy(project: Project, run_id: str, rider: str, path: str) -> Project:
    """The project with another thing going on a path as a run does; a change of how one goes changes both."""
    run = get_as(project, run_id, Run)
    link = run.link or run.id
    project = update(project, run_id, link=link)
    name = new_name(project, Run, f"{get(project, rider).name} on {get(project, path).name}")
    edited = msgspec.structs.replace(
        run,
        id=new_id(project, Run),
        name=name,
        rider=rider,
        path=path,
        link=link,
        companions=(),
        mark=None,
        arrive_by=None,
    )
    return add(project, edited)


# key poses


def add_pose(project: Project, thing: str, time: float, pose: Array | None = None) -> Project:
    """The project with a thing's pivot put at a pose (4, 4) in the room at a time in s by a key; where it is, if none is given.

    The key joins the key poses that govern the thing then, or those that end before, or begins new ones.
    """
    project = pivot_on_it(project, thing)
    if pose is None:
        pivot = rest_and_pivot(project, thing)[1]
        pose = Motion(project).poses(thing, [time])[0] @ pivot
    own = [
        segment
        for segment in segments_of(project, thing)
        if isinstance(segment.item, PoseTrack) and np.isfinite(segment.start)
    ]
    segment = max(
        (segment for segment in own if segment.start <= time + 1e-9), key=lambda segment: segment.start, default=None
    ) or next(iter(own), None)
    if segment is None:
        name = new_name(project, PoseTrack, f"{get(project, thing).name} poses")
        return add(
            project, PoseTrack(new_id(project, PoseTrack), name, thing, (KeyPose(0.0, placement(pose)),), start=time)
        )
    poses = segment.item
    assert isinstance(poses, PoseTrack)
    since = time - segment.start
    key = KeyPose(since, placement(pose))
    kept = [k for k in poses.keys if abs(k.time - since) > 1e-6]
    old = next((k for k in poses.keys if abs(k.time - since) <= 1e-6), None)
    if old is not None:
        key = msgspec.structs.replace(old, placement=key.placement)
    keys = sorted([*kept, key], key=lambda k: k.time)
    if since < 0:
        # it begins earlier then; its other keys stay where they are in time
        keys = [msgspec.structs.replace(k, time=k.time - since) for k in keys]
        return update(project, poses.id, keys=tuple(keys), start=time, trigger=None)
    return update(project, poses.id, keys=tuple(keys))


PER_SEGMENT = 12  # keys of pace and heading by which a stretch between two key poses is told
_SAMPLES = 24
_FITTED = 0.05  # mm
_STILL = 1e-3  # mm
_TURNED = 1e-4  # rad


def poses_to_run(project: Project, poses_id: str) -> Project:
    """The project with key poses turned into a path and a run on it, which goes where and when they did.

    Raises BadInput when they stay in one place, or turn while standing: a run turns with its path only.
    """
    poses = get_as(project, poses_id, PoseTrack)
    keys = [k.time for k in poses.keys]
    if len(keys) < 2:
        raise BadInput(f"“{poses.name}” has a single pose; a run needs a path")
    times = _told_times(keys, sharp=poses.between == "straight")
    line = places(poses, times)
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1)
    moving = np.concatenate([[True], steps > 1e-7])
    if steps.sum() < _STILL:
        raise BadInput(f"“{poses.name}” stays in one place, so it traces nothing that could become a path")
    turn = pivot_poses(poses, times)[:, :3, :3]
    turning = (
        scipy.spatial.transform.Rotation.from_matrix(turn[:-1]).inv()
        * scipy.spatial.transform.Rotation.from_matrix(turn[1:])
    ).magnitude()
    if (turning[~moving[1:]] > _TURNED).any():
        raise BadInput(
            f"“{poses.name}” turns while it stands; a run turns with its path only, so the turn would be lost"
        )
    if poses.between == "straight":
        corners = np.array([k.placement.position for k in poses.keys])
        kept = np.concatenate([[True], np.linalg.norm(np.diff(corners, axis=0), axis=1) > COINCIDENT])
        shape = PointShape(tuple(PathPoint(vector(p), "corner") for p in corners[kept]))
    else:
        shape = points_through(line[moving], _FITTED)
    path = Path(new_id(project, Path), new_name(project, Path, f"Path of {poses.name}"), shape)
    project = add(project, path)
    # the way along the fitted curve, by the share of the way along the samples
    distances = np.concatenate([[0.0], np.cumsum(steps)])
    share = distances / distances[-1]
    end = keys[-1]
    speed = np.linalg.norm(velocities(poses, np.clip(times, 1e-6 * end, end * (1 - 1e-6))), axis=1)
    keyed = np.arange(0, len(times), 1 if poses.between == "straight" else _SAMPLES // PER_SEGMENT)
    pace = tuple(SpeedKey(float(times[i] / end), float(share[i]), float(speed[i] * end / distances[-1])) for i in keyed)
    edited = Run(
        new_id(project, Run),
        poses.name,
        poses.rider,
        path.id,
        start=begins(project, poses) if poses.trigger is None else poses.start,
        trigger=poses.trigger,
        duration=end,
        speed_profile=Keyed(pace),
        orientation=_keyed_orientation(project, poses, turn, share, keyed),
        blend=poses.blend,
    )
    project = msgspec.structs.replace(project, pose_tracks=tuple(p for p in project.pose_tracks if p.id != poses_id))
    return add(project, edited)


def _told_times(keys: list[float], *, sharp: bool) -> Array:
    """Times (n,) by which key poses are told: evenly between keys, and close to both sides of those that are sharp, as a
    key of pace has but one slope."""
    spans = []
    for a, b in pairwise(keys):
        inner = np.linspace(a, b, _SAMPLES + 1)
        if sharp:
            inner = np.concatenate([[a], np.linspace(a + _SHARP * (b - a), b - _SHARP * (b - a), _SAMPLES - 1), [b]])
        spans.append(inner)
    return np.unique(np.concatenate(spans))


_SHARP = 1e-3


def _keyed_orientation(
    project: Project, poses: PoseTrack, turns: Array, shares: Array, keyed: NDArray[np.intp]
) -> Orientation:
    rest, pivot = rest_and_pivot(project, poses.rider)
    own = scipy.spatial.transform.Rotation.from_matrix((rest @ pivot)[:3, :3])
    if (own.inv() * scipy.spatial.transform.Rotation.from_matrix(turns)).magnitude().max() < _TURNED:
        return FixedOrientation()
    keys: list[OrientationKey] = []
    for i in keyed.tolist():
        if keys and shares[i] <= keys[-1].place + 1e-9:
            continue
        quaternion = scipy.spatial.transform.Rotation.from_matrix(turns[i]).as_quat()
        keys.append(OrientationKey(float(min(shares[i], 1.0)), tuple(float(q) for q in np.roll(quaternion, 1))))  # type: ignore[arg-type]
    return KeyedOrientation(keys=tuple(keys), room=True, smooth=False)


_NEAR, _MOST_KEYS = 1.0, 60  # mm between a run and its key poses, and how many of them at most
_NEAR_TURN = np.radians(0.5)


def run_to_poses(project: Project, run_id: str) -> Project:
    """The project with a run turned into key poses that go where it went, to 1 mm and half a degree; its path is left.

    Raises BadInput for a run without end.
    """
    run = get_as(project, run_id, Run)
    course = course_of(project, run)
    if not np.isfinite(course.end):
        raise BadInput(f"“{run.name}” has no end or never starts; it cannot be told by key poses")
    pivot = rest_and_pivot(project, run.rider)[1]
    motion = Motion(project)

    def wanted(times: Array) -> Array:
        inside = np.clip(times + course.start, course.start, course.end)
        poses: Array = motion.poses(run.rider, inside) @ pivot
        return poses

    stations = course.path.point_stations()
    inner = course.times_at(stations[(stations > course.first + 1) & (stations < course.last - 1)]) - course.start
    times = np.unique(np.round([0.0, *inner, course.duration], 9))
    for _ in range(8):
        edited = _told_by(run, times, wanted)
        checked = np.unique(np.concatenate([np.linspace(a, b, 9) for a, b in pairwise(times)]))
        here, there = wanted(checked), pivot_poses(edited, checked)
        off = np.linalg.norm(here[:, :3, 3] - there[:, :3, 3], axis=1) / _NEAR
        turned = scipy.spatial.transform.Rotation.from_matrix(
            here[:, :3, :3]
        ).inv() * scipy.spatial.transform.Rotation.from_matrix(there[:, :3, :3])
        off = np.maximum(off, turned.magnitude() / _NEAR_TURN)
        bad = np.unique(np.searchsorted(times, checked[off > 1], side="right") - 1)
        bad = bad[bad < len(times) - 1]
        if not len(bad) or len(times) + len(bad) > _MOST_KEYS:
            break
        times = np.unique(np.concatenate([times, 0.5 * (times[bad] + times[bad + 1])]))
    edited = msgspec.structs.replace(
        edited, id=new_id(project, PoseTrack), name=run.name, start=course.start, trigger=run.trigger, blend=run.blend
    )
    return add(remove(project, run_id), edited)


def _told_by(run: Run, times: Array, wanted: Callable[[Array], Array]) -> PoseTrack:
    """Key poses at times (k,) with handles by which they leave and arrive as the run does."""
    poses = wanted(times)
    step = 1e-5 * float(times[-1])
    low, high = np.maximum(times - step, 0.0), np.minimum(times + step, times[-1])
    speed = (wanted(high)[:, :3, 3] - wanted(low)[:, :3, 3]) / (high - low)[:, None]
    gaps = np.diff(times)
    keys = [
        KeyPose(
            float(t),
            placement(poses[k]),
            vector(-speed[k] * gaps[k - 1] / 3) if k else None,
            vector(speed[k] * gaps[k] / 3) if k < len(gaps) else None,
        )
        for k, t in enumerate(times)
    ]
    return PoseTrack("", run.name, run.rider, tuple(keys), between="by hand")


def with_hold(project: Project, run_id: str, time: float, seconds: float = 1.0) -> Project:
    """The project with a run holding for so many s where it is at a time; it takes so much longer."""
    run = get_as(project, run_id, Run)
    course = course_of(project, run)
    place = float(course.stations([time])[0]) / course.path.length
    if not run.begin + 1e-6 < place < run.end - 1e-6:
        raise BadInput(f"“{run.name}” is at one of its ends at {time:.2f} s; choose a time between them to hold at")
    holds = tuple(sorted([*run.holds, Hold(place, seconds)], key=lambda h: h.place))
    longer = {} if run.duration is None else {"duration": run.duration + seconds}
    return update(project, run_id, holds=holds, **longer)


def quarter_turn(orientation: Orientation, times: int = 1) -> Orientation:
    """A heading whose rider is turned to the left by quarter turns about its up axis."""
    if isinstance(orientation, FixedOrientation):
        orientation = AlongOrientation()
    ring = [a for a in ("+x", "+y", "-x", "-y") if a[1] != orientation.up[1]] if orientation.up[1] == "z" else None
    ring = ring or {"x": ["+y", "+z", "-y", "-z"], "y": ["+z", "+x", "-z", "-x"]}[orientation.up[1]]
    if orientation.up[0] == "-":
        ring = ring[::-1]
    here = ring.index(orientation.forward) if orientation.forward in ring else 0
    # to turn the rider to the left the axis on its right comes to look ahead
    return msgspec.structs.replace(orientation, forward=ring[(here - times) % 4])


def adjusted(project: Project, thing: str, time: float, matrix: Array) -> Project:
    """The project with a thing that something moves brought, by a rigid (4, 4) matrix in space, elsewhere at a time in s.

    Under a run it is its own turn and where it is carried beside the path that change, and the run goes on as it was;
    of key poses a key at that time is set. Raises BadInput for what is attached to something else then.
    """
    segments = segments_of(project, thing)
    segment = segments[int(active(segments, [time])[0])]
    pose = Motion(project).poses(thing, [time])[0]
    pivot = rest_and_pivot(project, thing)[1]
    if isinstance(segment.item, PoseTrack):
        return add_pose(project, thing, time, matrix @ pose @ pivot)
    if segment.course is None or segment.course.run.rider != thing:
        raise BadInput(
            f"“{get(project, thing).name}” goes along with something else then; move that, or end “{segment.item.name}”"
        )
    run = segment.course.run
    reference = reference_matrix(project, run, pivot)
    old, new = pose @ reference, matrix @ pose @ reference
    frame = path_frames(project, segment.course, np.array([time]))[0]
    offset = np.array(run.offset) + frame.T @ (new[:3, 3] - old[:3, 3])
    own = scipy.spatial.transform.Rotation.from_euler(
        "ZYX", (run.turn[0], -run.turn[1], run.turn[2]), degrees=True
    ).as_matrix()
    body = (
        np.eye(3)
        if isinstance(run.orientation, FixedOrientation)
        else body_axes(run.orientation.forward, flip=run.orientation.flip, up_axis=run.orientation.up)
    )
    base = old[:3, :3] @ body @ own.T
    yaw, pitch, roll = scipy.spatial.transform.Rotation.from_matrix(base.T @ new[:3, :3] @ body).as_euler(
        "ZYX", degrees=True
    )
    turn = vector(np.round([yaw, -pitch, roll], 9))
    return update(project, run.id, offset=vector(np.round(offset, 9)), turn=turn)
