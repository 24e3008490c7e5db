"""Orbits around things, and turntables. Lengths in mm, times in s, angles in degrees."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.lens import extent, in_camera, on_frame, vertical_angle
from kestrav.core.camera.making import with_shot
from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name, subtree, topmost
from kestrav.core.document.records import (
    Axle,
    Camera,
    Even,
    Framing,
    Limited,
    OrbitShape,
    Part,
    PartAim,
    Path,
    PointAim,
    Project,
    Run,
    SpeedProfile,
    TimedRotation,
)
from kestrav.core.editing.path_making import plan_points
from kestrav.core.errors import BadInput
from kestrav.core.geometry.contours import hull
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.parts.placing import bounds_of
from kestrav.core.parts.rest import rest_poses, row_of
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import orbit_plan, path_curve
from kestrav.core.paths.shaping import scale_about

Array = NDArray[np.float64]

STEADY = 0.25  # share by which the size in an orbit may change against its mean; common practice, no source
AWAY, LEAST_OFFSET = 1.2, 1.0  # times the size of what an orbit goes around, and mm, that its offset is at least
CLOSEST = 0.5  # of its offset, that an orbit's camera may come near to anything, where that is less than usual
_SETTLES = 8
_LOOKS, _TRIED, _FARTHER = 48, 16, 1.12  # places of an orbit, offsets that are tried, and each to the one before
_ROOM = 0.96  # of the frame, that what is orbited may reach over
_STEADIER = 0.9  # of the change of its size that is allowed
_FRAME = (16.0, 9.0)
_SAME_OUTLINE = 1e-6  # mm


def outline_of(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str]) -> tuple[tuple[float, float], ...]:
    """The corners of the convex hull of things in plan, at rest. Raises BadInput when there is nothing to go around."""
    if not things:
        raise BadInput("an orbit needs something to go around; select a part or an assembly first")
    try:
        corners = hull(plan_points(project, meshes, things))
    except ValueError as fault:
        raise BadInput(f"there is nothing to go around: {fault}") from fault
    return tuple((float(x), float(y)) for x, y in corners)


def orbit_around(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str], **fields: Any) -> OrbitShape:
    """An orbit around things; without a height it goes at three quarters of theirs, without an offset so far away that all of them is in
    the frame of a new camera all the way, and hardly changes its size. Raises BadInput where it cannot be."""
    around, offset = topmost(project, things), fields.pop("offset", None)
    low, high = bounds_of(project, around)
    fields.setdefault("height", float(low[2] + 0.75 * (high[2] - low[2])))
    first = _rounded(AWAY * float(np.linalg.norm(high - low))) if offset is None else offset
    shape = OrbitShape(tuple(around), outline_of(project, meshes, around), offset=first, **fields)
    if offset is not None:
        return shape
    corners = solid_corners(project, meshes, around)
    for _ in range(_TRIED):
        places = _all_around(shape)
        if fits(places, corners) and keeps_size(places, corners):
            break
        shape = msgspec.structs.replace(shape, offset=_rounded(_FARTHER * shape.offset))
    return shape


def _rounded(offset: float) -> float:
    """An offset in mm, to two digits and not below the least."""
    step = 10.0 ** (np.floor(np.log10(max(offset, LEAST_OFFSET))) - 1)
    return float(max(np.ceil(offset / step - 1e-9) * step, LEAST_OFFSET))


def solid_corners(project: Project, meshes: Mapping[str, Mesh], things: Sequence[str]) -> Array:
    """The corners (k, 3) of the boxes of all solids of things, at rest."""
    rest, inner = rest_poses(project), {i for thing in things for i in subtree(project, thing)}
    solids = [(rest[k], p) for k, p in enumerate(project.parts) if p.id in inner and p.geometry is not None]
    return np.concatenate([apply(pose, box_corners(solid_mesh(meshes, part).bounds)) for pose, part in solids])


def _reach(places: Array, corners: Array) -> tuple[Array, Array]:
    """Where what lies at corners (k, 3) begins and ends (n, 2) in the frame of a new camera that looks at its middle from places (n, 3),
    −1 to 1 within the frame."""
    middle = 0.5 * (corners.min(axis=0) + corners.max(axis=0))
    forward = middle - places
    forward /= np.linalg.norm(forward, axis=1)[:, None]
    right = np.cross(forward, (0.0, 0.0, 1.0))
    right /= np.maximum(np.linalg.norm(right, axis=1), 1e-9)[:, None]
    local = in_camera(
        places, forward, np.cross(right, forward), np.broadcast_to(corners, (len(places), *corners.shape))
    )
    half = float(np.tan(0.5 * vertical_angle(Camera("", "", PointAim(vector(middle))), *_FRAME)))
    return extent(on_frame(local, np.full(len(places), half), _FRAME[0] / _FRAME[1], parallel=False))


def _all_around(shape: OrbitShape) -> Array:
    """Places (n, 3) on an orbit."""
    curve = path_curve(Path("", "", shape)).curve
    return np.asarray(curve.position(np.linspace(0.0, curve.length, _LOOKS, endpoint=False)))


def fits(places: Array, corners: Array) -> bool:
    """Whether a new camera that looks from places (n, 3) at the middle of what lies at corners (k, 3) has all of it in its frame from each,
    with some room."""
    low, high = _reach(places, corners)
    return max(float(np.abs(low).max()), float(np.abs(high).max())) <= _ROOM


def keeps_size(places: Array, corners: Array) -> bool:
    """Whether it is about as large from all of them."""
    low, high = _reach(places, corners)
    size = 0.5 * (high - low)[:, 1]
    return float(np.abs(size / size.mean() - 1.0).max()) <= _STEADIER * STEADY


def _framing(shape: OrbitShape, corners: Array) -> Framing:
    """What is demanded of an orbit's picture: not more than what is orbited can give, as of a rod that is seen from its end."""
    low, high = _reach(_all_around(shape), corners)
    covers = float(0.5 * (high - low).max(axis=1).min())
    usual = Framing()
    least = usual.least if covers >= usual.least else round(_STEADIER * covers, 3)
    return Framing(least=least, change=STEADY, near=min(usual.near, CLOSEST * shape.offset))


def beginning_at(shape: OrbitShape, place: ArrayLike) -> OrbitShape:
    """An orbit that begins at a place (3,): at its height and azimuth, at the offset by which it passes there.

    Raises BadInput when the place lies within what it goes around.
    """
    x, y, z = np.asarray(place, float)
    for _ in range(_SETTLES):  # the middle of some figures hangs on the offset a little
        middle = orbit_plan(msgspec.structs.replace(shape, tilt=0.0, rise=0.0))[1]
        start = float(np.degrees(np.arctan2(y - middle[1], x - middle[0])))
        farthest = float(np.hypot(x - middle[0], y - middle[1]))
        aimed = msgspec.structs.replace(shape, start=start, tilt=0.0)

        def beyond(offset: float, aimed: OrbitShape = aimed, middle: Array = middle, far: float = farthest) -> float:
            at = path_curve(Path("", "", msgspec.structs.replace(aimed, offset=offset))).curve.position([0.0])[0]
            return float(np.hypot(at[0] - middle[0], at[1] - middle[1])) - far

        if beyond(1.0) > 0:
            raise BadInput("the place to begin at lies within what the orbit goes around; stand outside of it")
        offset = float(scipy.optimize.brentq(beyond, 1.0, farthest + 1.0, xtol=1e-6))
        if abs(offset - shape.offset) < 1e-6 and start == shape.start:
            break
        shape = msgspec.structs.replace(shape, start=start, offset=offset)
    now = path_curve(Path("", "", msgspec.structs.replace(shape, height=0.0))).curve.position([0.0])[0, 2]
    return msgspec.structs.replace(shape, height=float(z - now))


def add_orbit(
    project: Project,
    meshes: Mapping[str, Mesh],
    things: Sequence[str],
    duration: float | None = 12.0,
    speed: float | None = None,
    begin: float = 0.0,
    slows: float = 0.0,
    **fields: Any,
) -> Project:
    """The project with an orbit around things, a camera that rides on it aiming at them, and a shot.

    Exactly one of a duration and a speed is given; ``slows`` is the greatest acceleration in bends in mm/s² (0: even speed).
    Other fields are those of :class:`OrbitShape`. A whole number of laps without rise makes a shot that loops.
    """
    shape = orbit_around(project, meshes, things, **fields)
    return add_orbit_of(project, meshes, shape, duration, speed, begin, slows)


def add_orbit_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    shape: OrbitShape,
    duration: float | None,
    speed: float | None,
    begin: float,
    slows: float,
) -> Project:
    """The project with an orbit of a shape, its camera, run and shot, as :func:`add_orbit`."""
    first = shape.around[0]
    name = get(project, first).name if len(shape.around) == 1 else f"{len(shape.around)} things"
    path = Path(new_id(project, Path), new_name(project, Path, f"{name} orbit path"), shape)
    curve = path_curve(path).curve
    # several things have no place of their own to aim at; where they move, their first one leads
    still = len(shape.around) > 1 and not movers(project) & {
        i for thing in shape.around for i in subtree(project, thing)
    }
    camera = Camera(
        new_id(project, Camera),
        new_name(project, Camera, f"{name} orbit camera"),
        PointAim(vector(bounds_of(project, shape.around).mean(axis=0))) if still else PartAim(first),
        position=vector(curve.position([0.0])[0]),
        subject=first if still else "",
        framing=_framing(shape, solid_corners(project, meshes, shape.around)),
    )
    speed_profile: SpeedProfile = Even()
    if slows > 0:
        # so that its end joins its beginning at full speed
        fast = speed if speed is not None else 1e5
        speed_profile = Limited(fast, slows, slows, slows, from_rest=not curve.closed, to_rest=not curve.closed)
    if speed is not None and slows == 0:
        # of whole frames, so that a loop has none twice and none too short
        frames = max(round(curve.length / speed * project.settings.fps), 1)
        duration, speed = (frames / project.settings.fps, None) if curve.closed else (None, speed)
    run = Run(
        new_id(project, Run),
        new_name(project, Run, f"Orbit of {name}"),
        camera.id,
        path.id,
        start=begin,
        duration=duration if speed is None else None,
        speed=speed,
        speed_profile=speed_profile,
    )
    project = add(project, path, camera, run)
    return with_shot(project, camera.id, begin, loops=curve.closed)


def derive_orbits(project: Project, meshes: Mapping[str, Mesh], since: Project | None = None) -> Project:
    """The project with the outlines of what its orbits go around worked out anew, where parts are others than ``since``."""
    orbits = [p for p in project.paths if isinstance(p.shape, OrbitShape) and p.shape.around]
    if not orbits or (since is not None and since.parts is project.parts and since.paths is project.paths):
        return project
    for path in orbits:
        shape = path.shape
        assert isinstance(shape, OrbitShape)
        outline = outline_of(project, meshes, shape.around)
        same = len(outline) == len(shape.outline) and np.allclose(outline, shape.outline, atol=_SAME_OUTLINE, rtol=0)
        if not same:
            project = update(project, path.id, shape=msgspec.structs.replace(shape, outline=outline))
    return project


def add_turntable(
    project: Project,
    thing: str,
    place: ArrayLike,
    duration: float = 12.0,
    begin: float = 0.0,
    turns: float = 1.0,
    *,
    clockwise: bool = False,
) -> Project:
    """The project with a thing that turns about the upright axis through its middle, a camera that stands at a place (3,) looking
    at it, and a shot. Raises BadInput for what something else moves."""
    part = get(project, thing)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” cannot stand on a turntable; select a part or an assembly")
    pose = rest_poses(project)[row_of(project, thing)]
    middle = bounds_of(project, [thing]).mean(axis=0)
    back = pose[:3, :3].T
    origin, axis = back @ (middle - pose[:3, 3]), back @ np.array([0.0, 0.0, 1.0])
    rotation = TimedRotation(
        new_id(project, TimedRotation),
        new_name(project, TimedRotation, f"Turntable of {part.name}"),
        thing,
        Axle(vector(origin), vector(axis)),
        start=begin,
        end=begin + duration,
        turns=-turns if clockwise else turns,
        rpm=None,
    )
    camera = Camera(
        new_id(project, Camera),
        new_name(project, Camera, f"{part.name} turntable"),
        PartAim(thing),
        position=vector(np.asarray(place, float)),
        framing=Framing(change=STEADY),
    )
    project = add(project, rotation, camera)
    return with_shot(project, camera.id, begin, begin + duration, loops=abs(turns - round(turns)) < 1e-9)


def widened(project: Project, path_id: str, by: float) -> Project:
    """The project with an orbit, or a path's way about its middle, so much farther out. Raises BadInput where it cannot be."""
    path = get_as(project, path_id, Path)
    if isinstance(path.shape, OrbitShape):
        return update(
            project, path_id, shape=msgspec.structs.replace(path.shape, offset=max(path.shape.offset + by, 0.0))
        )
    places = path_curve(path).curve.position(np.linspace(0.0, path_curve(path).length, 200))
    middle = 0.5 * (places.min(axis=0) + places.max(axis=0))
    radius = float(np.linalg.norm((places - middle)[:, :2], axis=1).mean())
    if radius < 1.0:
        raise BadInput(f"“{path.name}” has no width that could be more")
    return scale_about(project, path_id, (radius + by) / radius, middle)
