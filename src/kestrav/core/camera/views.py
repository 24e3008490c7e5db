"""What a camera sees: where it stands, where it looks, how wide. Lengths in mm, angles in rad unless said."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.lens import frame_on_sensor, in_camera, on_frame
from kestrav.core.camera.subject import Subject, subject_of
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import (
    Aim,
    AlongAim,
    Camera,
    FreeAim,
    LookKey,
    PartAim,
    Path,
    PathAim,
    PointAim,
    Project,
    RollKey,
)
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import active, segments_of
from kestrav.core.kinematics.runs import RunCourse, span
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import own_bounds
from kestrav.core.paths.path_curves import path_curve

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_RATE = 120.0  # steps a second by which lags are worked out
_STEP = 0.02  # s over which a direction of travel is looked for where there is no path
_FAR = 2000.0  # mm ahead that is looked at where nothing tells how far
_SAME = 1e-6  # mm
_TURNING = 2.0  # s in which a camera turns to what it looks at where it stops, and back
_ROUNDS = 40  # of the search for a distance
_SETTLED = 1e-9
_CLOSEST = 1e-3  # mm in front of the camera that points are taken to be at least


class Views(msgspec.Struct, frozen=True):
    """Camera positions (n, 3), points looked at (n, 3), up vectors (n, 3), focal lengths (n,), and heights (n,) in mm of what a
    parallel one shows."""

    position: Array
    target: Array
    up: Array
    focal_length: Array
    view_height: Array

    def at(self, row: int) -> Views:
        """One of them alone."""
        one = slice(row, row + 1)
        return Views(self.position[one], self.target[one], self.up[one], self.focal_length[one], self.view_height[one])

    @property
    def forward(self) -> Array:
        """Unit vectors (n, 3) of looking."""
        return _unit(self.target - self.position)

    def half_height(self, camera: Camera, width: float, height: float) -> Array:
        """Half the frame's height (n,): as a slope of sight, or in mm of a parallel view."""
        if camera.parallel:
            return 0.5 * self.view_height
        return 0.5 * frame_on_sensor(camera, width, height)[1] / self.focal_length

    def vertical_angle(self, camera: Camera, width: float, height: float) -> Array:
        """Vertical angles of view (n,); of a parallel one those by which it shows its height at what it looks at."""
        half = self.half_height(camera, width, height)
        if camera.parallel:
            half = half / np.linalg.norm(self.target - self.position, axis=1)
        vertical_angle: Array = 2.0 * np.arctan(half)
        return vertical_angle


def views(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera: Camera,
    times: ArrayLike,
    poses: Array | None = None,
    aspect: float = 16 / 9,
) -> Views:
    """Where a camera stands and looks at times (n,); world poses (n, parts, 4, 4) of those times may be handed in.

    ``aspect`` is width by height of the output frame; it counts where the camera keeps its subject's size.
    """
    times = np.asarray(times, float)
    carried = Motion(project).poses(camera.id, times)
    position = carried[:, :3, 3].copy() if camera.lag == 0 else _lagging(project, camera, times)
    target = _targets(project, camera, times, position, carried)
    if camera.aim_lag > 0:
        target = _lagging_target(project, camera, times, position)
    # a camera at its own aim keeps looking ahead along +Y
    same = np.linalg.norm(target - position, axis=1) < _SAME
    target[same] = position[same] + np.array([0.0, 1.0, 0.0])
    views = Views(
        position,
        target,
        _ups(camera, times, _unit(target - position), carried),
        np.full(len(times), camera.focal_length),
        np.full(len(times), camera.view_height),
    )
    if not camera.keeps or (subject := subject_of(project, meshes, camera)) is None:
        return views
    return _keeping_size(
        camera,
        views,
        subject,
        subject.group_poses(poses) if poses is not None else subject.group_poses_at(project, times),
        aspect,
    )


def _unit(vectors: Array) -> Array:
    unit: Array = vectors / np.maximum(np.linalg.norm(vectors, axis=-1, keepdims=True), 1e-300)
    return unit


# up


def _ups(camera: Camera, times: Array, forward: Array, carried: Array) -> Array:
    """Up vectors (n, 3): with a level horizon or that of what carries the camera, and rolled."""
    above = carried[:, :3, 2] if camera.banks else np.broadcast_to(_UP, forward.shape)
    up = above - np.einsum("ij,ij->i", above, forward)[:, None] * forward
    steep = np.linalg.norm(up, axis=1) < 1e-6
    if steep.any():
        # looking straight up or down, the picture's upside is what lies along +Y
        ahead = np.array([0.0, 1.0, 0.0])
        up[steep] = ahead - (forward[steep] @ ahead)[:, None] * forward[steep]
    up = _unit(up)
    if camera.roll:
        angle = np.radians(keyed([k.time for k in camera.roll], [k.angle for k in camera.roll], times))[:, None]
        right = np.cross(forward, up)
        up = np.cos(angle) * up + np.sin(angle) * right
    return up


def keyed(moments: ArrayLike, values: ArrayLike, times: ArrayLike) -> Array:
    """Values (n,) at times (n,) by keys: monotone cubic between them (PCHIP; F. Fritsch, J. Butland, SIAM J. Sci. Stat. Comput. 5,
    1984), held before and after."""
    moments, values = np.asarray(moments, float), np.asarray(values, float)
    within = np.clip(np.asarray(times, float), moments[0], moments[-1])
    if len(moments) == 1:
        return np.full(within.shape, values[0])
    turn: Array = scipy.interpolate.PchipInterpolator(moments, values)(within)
    return turn


def roll_keys_to(camera: Camera, time: float, angle: float) -> tuple[RollKey, ...]:
    """A camera's keys of roll with one at a time set to an angle in degrees."""
    kept = [k for k in camera.roll if abs(k.time - time) > 1e-6]
    return tuple(sorted([*kept, RollKey(time, angle)], key=lambda k: k.time))


def look_keys_to(aim: FreeAim, time: float, yaw: float, pitch: float) -> tuple[LookKey, ...]:
    """A free aim's keys with one at a time set to a direction in degrees, by the shorter way round."""
    now = float(keyed([k.time for k in aim.keys], [k.yaw for k in aim.keys], [time])[0])
    yaw = now + (yaw - now + 180.0) % 360.0 - 180.0
    kept = [k for k in aim.keys if abs(k.time - time) > 1e-6]
    return tuple(sorted([*kept, LookKey(time, yaw, pitch)], key=lambda k: k.time))


def direction(yaw: ArrayLike, pitch: ArrayLike) -> Array:
    """Unit vectors (n, 3) of azimuths and pitches in degrees."""
    a, p = np.radians(np.asarray(yaw, float)), np.radians(np.asarray(pitch, float))
    return np.stack([np.cos(p) * np.cos(a), np.cos(p) * np.sin(a), np.sin(p)], axis=-1)


def angles_of(vectors: ArrayLike) -> tuple[Array, Array]:
    """Azimuths and pitches (n,) in degrees of vectors (n, 3)."""
    vectors = np.asarray(vectors, float)
    level = np.hypot(vectors[..., 0], vectors[..., 1])
    return np.degrees(np.arctan2(vectors[..., 1], vectors[..., 0])), np.degrees(np.arctan2(vectors[..., 2], level))


# aims


def _targets(project: Project, camera: Camera, times: Array, position: Array, carried: Array) -> Array:
    """Points looked at (n, 3), without lag."""
    aim = camera.aim
    if isinstance(aim, PartAim | PointAim):
        target = _place_of(project, aim, times)
    elif isinstance(aim, PathAim):
        path = get_as(project, aim.path, Path)
        curve = path_curve(path).curve
        target = curve.position(_progress(project, camera, times) * curve.length)
    elif isinstance(aim, FreeAim):
        moments = [k.time for k in aim.keys]
        yaw, pitch = (keyed(moments, [getattr(k, f) for k in aim.keys], times) for f in ("yaw", "pitch"))
        forward = direction(yaw, pitch)
        if aim.riding:
            forward = np.einsum("nij,nj->ni", carried[:, :3, :3], forward)
        target = position + _FAR * forward
    else:
        target = position + _FAR * _turned(_travel(project, camera, times, aim.ahead), aim)
    return _with_looks(project, camera, times, position, target)


def _place_of(project: Project, aim: Aim, times: Array) -> Array:
    """Places (n, 3) of a point, or of the middle that a thing has as it is built."""
    if isinstance(aim, PointAim):
        return np.tile(np.asarray(aim.point, float), (len(times), 1))
    middle = own_bounds(project, aim.part).mean(axis=0)
    poses = Motion(project).poses(aim.part, times)
    places: Array = poses[:, :3, :3] @ middle + poses[:, :3, 3]
    return places


def _turned(directions: Array, aim: AlongAim) -> Array:
    if aim.yaw == 0 and aim.pitch == 0:
        return directions
    yaw, pitch = angles_of(directions)
    return direction(yaw + aim.yaw, np.clip(pitch + aim.pitch, -90.0, 90.0))


def _progress(project: Project, camera: Camera, times: Array) -> Array:
    """How much of its way (n,) a camera has gone, 0 to 1; without a run how much of the project's time has."""
    segments = segments_of(project, camera.id)
    courses = [segment.course for segment in segments]
    if not segments or all(course is None for course in courses):
        progress: Array = np.clip(times / span(project), 0.0, 1.0)
        return progress
    which, progress = active(segments, times), np.zeros(len(times))
    for k, course in enumerate(courses):
        mine = which == k
        if course is not None and mine.any():
            share = (course.stations(times[mine]) - course.first) / course.length
            progress[mine] = np.clip(1.0 - share if course.run.backwards else share, 0.0, 1.0)
    return progress


def _travel(project: Project, camera: Camera, times: Array, ahead: float) -> Array:
    """Unit vectors (n, 3) along a camera's travel, or towards the place of its way so far ahead."""
    segments = segments_of(project, camera.id)
    travel = np.tile(np.array([0.0, 1.0, 0.0]), (len(times), 1))
    if not segments:
        return travel
    which = active(segments, times)
    for k, segment in enumerate(segments):
        mine = which == k
        if not mine.any():
            continue
        if segment.course is not None:
            travel[mine] = _along(segment.course, times[mine], ahead)
        else:
            travel[mine] = _going(project, camera, times[mine])
    return travel


def _along(course: RunCourse, times: Array, ahead: float) -> Array:
    """Unit vectors (n, 3) towards the place of a run's path so far ahead; the path goes on straight beyond its end."""
    curve, sense = course.path.curve, -1.0 if course.run.backwards else 1.0
    stations = course.stations(times)
    if course.run.returns:
        going = np.sign(course.profile.speed(course.since(times) + 1e-6))
        sense = sense * np.where(going == 0, 1.0, going)[:, None]  # type: ignore[assignment]
    tangent = sense * curve.tangent(stations)
    if ahead <= 0:
        return tangent
    along = np.ravel(sense) * ahead
    there = stations + along
    if curve.closed:
        there = np.mod(there, curve.length)
        beyond = np.zeros(len(there))
    else:
        inside = np.clip(there, 0.0, curve.length)
        beyond, there = np.abs(there - inside), inside
    out = np.broadcast_to(sense, (len(there), 1)) * curve.tangent(there)
    offset = curve.position(there) + beyond[:, None] * out - curve.position(stations)
    short = np.linalg.norm(offset, axis=1) < _SAME
    offset[short] = tangent[short]
    return _unit(offset)


def _going(project: Project, camera: Camera, times: Array) -> Array:
    """Unit vectors (n, 3) in which a camera moves; while it stands, that in which it moved before, or will."""
    around = np.concatenate([np.maximum(times - _STEP, 0.0), times + _STEP])
    places = Motion(project).poses(camera.id, around)[:, :3, 3]
    step = places[len(times) :] - places[: len(times)]
    moves = np.linalg.norm(step, axis=1) > _SAME
    if not moves.any():
        return np.tile(np.array([0.0, 1.0, 0.0]), (len(times), 1))
    order = np.arange(len(times))
    last = np.maximum.accumulate(np.where(moves, order, -1))
    return _unit(step[np.where(last < 0, int(np.argmax(moves)), last)])


def _with_looks(project: Project, camera: Camera, times: Array, position: Array, target: Array) -> Array:
    """Points looked at (n, 3), turned to what there is to look at where the camera's runs stop."""
    for segment in segments_of(project, camera.id):
        course = segment.course
        if course is None or course.run.rider != camera.id or not np.isfinite(course.start):
            continue
        for hold in course.run.holds:
            if hold.look is None:
                continue
            begun = float(course.times_at([hold.place * course.path.length])[0])
            share = np.minimum(times - begun + _TURNING, begun + hold.duration + _TURNING - times) / _TURNING
            share = np.clip(share, 0.0, 1.0)
            weight = share**3 * (10 - 15 * share + 6 * share**2)
            if not weight.any():
                continue
            wanted = _place_of(project, hold.look, times) - position
            (yaw, pitch), (yaw_to, pitch_to) = angles_of(target - position), angles_of(wanted)
            yaw = yaw + weight * ((yaw_to - yaw + 180.0) % 360.0 - 180.0)
            pitch = pitch + weight * (pitch_to - pitch)
            reach = (1 - weight) * np.linalg.norm(target - position, axis=1) + weight * np.linalg.norm(wanted, axis=1)
            target = position + reach[:, None] * direction(yaw, pitch)
    return target


# lag


_lags: Memo[dict[str, Array]] = Memo(12)


def _lag_table(project: Project, camera: Camera) -> dict[str, Array]:
    """What is worked out of a camera's lags, kept for a project and a camera."""
    return _lags.get((project, camera), lambda: {})


def _grid(project: Project) -> Array:
    return np.arange(int(np.ceil(span(project) * _RATE)) + 2) / _RATE


def behind(values: ArrayLike, lag: float, rate: float = _RATE) -> Array:
    """Values (n, k), ``rate`` a second, as they are when followed softly: what moves evenly is followed ``lag`` s later.

    Two first-order lags of half the time each, exact for what goes straight between the steps.
    """
    values = np.asarray(values, float)
    share = 1.0 / (rate * 0.5 * lag)
    decay = np.exp(-share)
    now, before = 1.0 - (1.0 - decay) / share, (1.0 - decay) / share - decay
    lagged: Array = values - values[:1]
    # each less a share of the one before it, as rows of equations: a filter would do the same, and takes a second to load
    rows = np.array([np.ones(len(values)), np.full(len(values), -decay)])
    for _ in range(2):
        driven = now * lagged
        driven[1:] += before * lagged[:-1]
        lagged = scipy.linalg.solve_banded((1, 0), rows, driven, check_finite=False)
    return np.asarray(lagged + values[:1])


def _at(grid: Array, table: Array, times: Array) -> Array:
    return np.stack([np.interp(times, grid, column) for column in table.T], axis=1)


def _lagging(project: Project, camera: Camera, times: Array) -> Array:
    """Positions (n, 3) of a camera that comes softly after what carries it."""
    known, grid = _lag_table(project, camera), _grid(project)
    if "position" not in known:
        known["position"] = behind(Motion(project).poses(camera.id, grid)[:, :3, 3], camera.lag)
    return _at(grid, known["position"], times)


def _lagging_target(project: Project, camera: Camera, times: Array, position: Array) -> Array:
    """Points looked at (n, 3) by a camera whose look comes softly after its aim."""
    known, grid = _lag_table(project, camera), _grid(project)
    if "look" not in known:
        carried = Motion(project).poses(camera.id, grid)
        places = carried[:, :3, 3] if camera.lag == 0 else _lagging(project, camera, grid)
        target = _targets(project, camera, grid, places, carried)
        if isinstance(camera.aim, PartAim | PointAim | PathAim):
            known["look"] = behind(target, camera.aim_lag)
        else:
            yaw, pitch = angles_of(target - places)
            turned = np.stack([np.unwrap(yaw, period=360.0), pitch], axis=1)
            known["look"] = behind(turned, camera.aim_lag)
    look = _at(grid, known["look"], times)
    return look if look.shape[1] == 3 else position + _FAR * direction(look[:, 0], look[:, 1])


# keeping the subject's size


def heights(camera: Camera, seen: Views, places: Array, aspect: float) -> Array:
    """Shares (n,) of the frame's height that points (n, k, 3) reach over."""
    frame = in_camera(seen.position, seen.forward, seen.up, places)
    shown = on_frame(frame, seen.half_height(camera, aspect, 1.0), aspect, parallel=camera.parallel)
    heights: Array = 0.5 * np.ptp(shown[..., 1], axis=1)
    return heights


def _keeping_size(camera: Camera, seen: Views, subject: Subject, group_poses: Sequence[Array], aspect: float) -> Views:
    """Views by which a subject, its groups at poses (n, 4, 4) each, covers the camera's share of the frame's height."""
    if camera.keeps == "lens" or camera.parallel:
        covered = np.maximum(heights(camera, seen, subject.placed(group_poses), aspect), 1e-9)
        # what is seen grows with the focal length, and with one by the height of a parallel view
        return msgspec.structs.replace(
            seen,
            focal_length=seen.focal_length * camera.size / covered,
            view_height=seen.view_height * covered / camera.size,
        )
    # moved along its line of sight, a camera has all points as far to the side, and so much nearer or farther
    aside = subject.along(group_poses, seen.target, seen.up)
    depth = subject.along(group_poses, seen.target, seen.forward)
    wanted = 2.0 * camera.size * seen.half_height(camera, aspect, 1.0)
    distance = _distances(aside, depth, wanted, np.linalg.norm(seen.target - seen.position, axis=1))
    return msgspec.structs.replace(seen, position=seen.target - distance[:, None] * seen.forward)


def _distances(aside: Array, depth: Array, wanted: Array, first: Array) -> Array:
    """How far (n,) in mm from their targets cameras see points so large: ``aside`` (n, k) is how far up the points lie and ``depth`` how far
    beyond the target, ``wanted`` (n,) the difference of the outermost slopes, ``first`` (n,) where the search begins.

    It is looked for with those points that have been outermost somewhere, until no other one is.
    """
    nearest = 1.0 - depth.min(axis=1)
    distance: Array = np.maximum(first, 1.01 * nearest)
    outermost = np.zeros(depth.shape[1], bool)
    while True:
        slopes = aside / np.maximum(depth + distance[:, None], _CLOSEST)
        last = np.concatenate([slopes.argmax(axis=1), slopes.argmin(axis=1)])
        if outermost[last].all():
            return distance
        outermost[last] = True
        distance = _distances_of(aside[:, outermost], depth[:, outermost], wanted, distance, nearest)


def _distances_of(aside: Array, depth: Array, wanted: Array, distance: Array, nearest: Array) -> Array:
    """As :func:`_distances`, of all these points, and no nearer than ``nearest`` (n,)."""
    low, high = nearest, np.full(len(nearest), 1e7)
    each = np.arange(len(distance))
    for _ in range(_ROUNDS):
        away = depth + distance[:, None]
        slopes = aside / np.maximum(away, _CLOSEST)
        top, foot = slopes.argmax(axis=1), slopes.argmin(axis=1)
        size = slopes[each, top] - slopes[each, foot]
        if np.abs(size / wanted - 1.0).max(initial=0.0) < _SETTLED:
            break
        low, high = np.where(size > wanted, distance, low), np.where(size > wanted, high, distance)
        # Newton's step, by the two points that are outermost now; where it leads out, halving
        rate = slopes[each, foot] / away[each, foot] - slopes[each, top] / away[each, top]
        step = distance - (size - wanted) / np.minimum(rate, -1e-12)
        distance = np.asarray(np.where((step > low) & (step < high), step, 0.5 * (low + high)))
    return distance
