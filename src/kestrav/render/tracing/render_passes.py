"""What is told of each pixel beside its light: how far, which way it faces, which part, how much light is held off.

Seen through the middles of the pixels at one instant and with a lens that is sharp everywhere, as numbers of parts cannot be mixed. Rays
go by Embree, so that both variants of the path tracer give the same.
"""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import scipy
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from numpy.typing import NDArray

from kestrav.core.light.environments import directions, solid_angles
from kestrav.render.shading import Sight
from kestrav.render.tracing.description import Body, Lamp, Moment, Single

Array = NDArray[np.float64]

LAYERS = ("R", "G", "B", "A", "Z", "N.X", "N.Y", "N.Z", "id.Y", "shadow.Y")
_RAYS = 8  # towards the surroundings, for each pixel
_OFF = 2e-5  # of the scene's size, that a ray begins off its surface
_THERE = 0.5  # opacity from which on a thing counts
_CLEAR = 0.5  # share that lets through, from which on a surface holds off no light
_FINER = 2  # times as many pixels on either side as are shown, that lines are found on
_SHARP = 0.9  # cosine of the angle between two faces (26°) from which on there is a line between them
_BEHIND = 0.005  # of the distance, by which something must lie off its neighbour's plane to be behind it
_AWAY = 1e6  # m, where a ray never comes down to a level
_ROWS = 64  # rows of a picture that are worked out at once: little memory is needed so


class _Placed(msgspec.Struct, frozen=True):
    """Triangles where they are at a moment: corners (m, 3, 3) and their normals (m, 3, 3) in metres, their parts (m,)."""

    corners: Single
    normals: Single
    rows: NDArray[np.int32]

    def tree(self) -> EmbreeScene:
        """Embree's tree over them."""
        scene = EmbreeScene()
        flat = np.ascontiguousarray(self.corners.reshape(-1, 3), np.float32)
        TriangleMesh(scene, flat, np.arange(len(flat), dtype=np.int32).reshape(-1, 3))
        return scene


def passes(
    bodies: Sequence[Body], environment: Single, moment: Moment, width: int, height: int, *, shadows: bool = True
) -> Single:
    """The layers (h, w, 6) of :data:`LAYERS` from Z on: distance along the camera's axis in metres (infinite where nothing is), the normal
    towards the camera, the part's number counted from 1 (0: none), and the share of direct light held off by other things, 0 to 1 (without ``shadows`` 0)."""
    passes = np.zeros((height, width, 6), np.float32)
    passes[..., 0] = np.inf
    seen = _placed(bodies, moment, solid=False)
    if seen is None:
        return passes
    tree, sight = seen.tree(), sight_of(moment)
    solid = _placed(bodies, moment, solid=True) if shadows else None
    shades = None if solid is None else solid.tree()
    size = float(np.ptp(seen.corners.reshape(-1, 3), axis=0).max())
    lights = _Lights(environment, moment.lamps)
    random = np.random.default_rng(0)
    for first in range(0, height, _ROWS):
        rows = slice(first, min(first + _ROWS, height))
        starts, directions = _rays(sight, width, height, rows)
        met = tree.run(starts.astype(np.float32), directions.astype(np.float32), output=True)
        there = met["primID"] >= 0
        if not there.any():
            continue
        directions, far, u, v = directions[there], met["tfar"][there], met["u"][there, None], met["v"][there, None]
        own, hit = seen.normals[met["primID"][there]], met["primID"][there]
        normals = (1.0 - u - v) * own[:, 0] + u * own[:, 1] + v * own[:, 2]
        normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
        normals *= np.where((normals * directions).sum(axis=1, keepdims=True) > 0, -1.0, 1.0)
        places = starts[there] + far[:, None] * directions
        piece = passes[rows].reshape(-1, 6)
        piece[there, 0] = (places - sight.place) @ sight.axes[2]
        piece[there, 1:4] = normals
        piece[there, 4] = seen.rows[hit] + 1
        if shades is not None:
            piece[there, 5] = _held_off(shades, lights, places + (_OFF * size) * normals, normals, random)
    return passes


def edges(bodies: Sequence[Body], moment: Moment, width: int, height: int) -> Single:
    """The share (h, w) of each pixel that a line takes: along the outlines of parts, where something is behind, and at sharp edges."""
    seen = passes(bodies, np.zeros((2, 4, 3), np.float32), moment, _FINER * width, _FINER * height, shadows=False)
    away, normals, part = seen[..., 0], seen[..., 1:4], seen[..., 4]
    there = np.isfinite(away)
    depth = np.where(there, away, np.float32(0.0))
    places = np.stack(sight_of(moment).places(depth), axis=-1)
    line = np.zeros(away.shape, bool)
    for axis in (0, 1):
        one = tuple(slice(None, -1) if k == axis else slice(None) for k in range(2))
        two = tuple(slice(1, None) if k == axis else slice(None) for k in range(2))
        both = there[one] & there[two]
        differs = (there[one] != there[two]) | (part[one] != part[two])
        differs |= both & ((normals[one] * normals[two]).sum(axis=-1) < _SHARP)
        # what goes on in the plane of its neighbour is not behind it, however steeply it is seen
        apart = places[two] - places[one]
        off = np.minimum(*(np.abs((apart * normals[k]).sum(axis=-1)) for k in (one, two)))
        differs |= both & (off > _BEHIND * np.minimum(depth[one], depth[two]))
        line[one] |= differs
        line[two] |= differs
    width_of_line = max(round(_FINER * height / 720.0) - 1, 0)
    if width_of_line:
        line = scipy.ndimage.binary_dilation(line, iterations=width_of_line)
    return np.asarray(line.reshape(height, _FINER, width, _FINER).mean(axis=(1, 3)), np.float32)


def _placed(bodies: Sequence[Body], moment: Moment, *, solid: bool) -> _Placed | None:
    """The bodies where they are; only what holds off light, if ``solid``."""
    corners, normals, rows = [], [], []
    for body in bodies:
        opacity = body.surface.opacity * moment.faint.get(body.fades, 1.0)
        if opacity < _THERE or (solid and body.surface.transmission > _CLEAR):
            continue
        matrix = np.array(moment.groups.get(body.group, np.eye(4)), float)
        matrix[:3, 3] *= 1e-3
        points = body.points @ matrix[:3, :3].T + matrix[:3, 3]
        flat = points[body.triangles]
        if body.normals is not None:
            smooth = (body.normals @ matrix[:3, :3].T)[body.triangles]
        else:
            face = np.cross(flat[:, 1] - flat[:, 0], flat[:, 2] - flat[:, 0])
            smooth = np.repeat(face[:, None], 3, axis=1)
        corners.append(flat)
        normals.append(smooth)
        rows.append(np.full(len(flat), -1, np.int32) if body.rows is None else body.rows)
    if not corners:
        return None
    return _Placed(
        np.concatenate(corners).astype(np.float32), np.concatenate(normals).astype(np.float32), np.concatenate(rows)
    )


def sight_of(moment: Moment) -> Sight:
    """What a moment's camera sees by, in metres."""
    ahead = moment.target - moment.place
    ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-12)
    right = np.cross(ahead, moment.up)
    right /= max(float(np.linalg.norm(right)), 1e-12)
    half = 0.5 * moment.parallel if moment.parallel > 0 else float(np.tan(np.radians(moment.angle) / 2.0))
    axes = np.stack([right, np.cross(right, ahead), ahead])
    return Sight(moment.place, axes, half, 0.0, np.inf, parallel=moment.parallel > 0)


def _rays(sight: Sight, width: int, height: int, rows: slice) -> tuple[Array, Array]:
    """Starts and unit directions (n, 3) of some rows of pixels."""
    across, up = sight.rays(height, width)
    aside = (across[None, :, None] * sight.axes[0] + up[rows, None, None] * sight.axes[1]).reshape(-1, 3).astype(float)
    if sight.parallel:
        return sight.place + aside, np.tile(sight.axes[2], (len(aside), 1))
    directions = aside + sight.axes[2]
    return np.tile(sight.place, (len(directions), 1)), directions / np.linalg.norm(directions, axis=1, keepdims=True)


class _Lights:
    """What shines: directions drawn from the surroundings by their brightness, and the lamps."""

    def __init__(self, environment: Single, lamps: Sequence[Lamp]) -> None:
        weight = environment.mean(axis=2) * solid_angles(len(environment))
        total = float(weight.sum())
        self.directions = directions(len(environment)).reshape(-1, 3)
        self.sums = np.cumsum(weight.ravel()) / total if total > 0 else None
        # irradiance by a draw: all of them are equally bright that way
        self.each = total / _RAYS
        self.lamps = lamps

    def drawn(self, count: int, random: np.random.Generator, number: int) -> tuple[Array, Array]:
        """Directions (n, 3) towards the surroundings, one of several draws that share them evenly, and what they weigh."""
        assert self.sums is not None
        places = (number + random.random(count)) / _RAYS
        which = np.minimum(np.searchsorted(self.sums, places), len(self.directions) - 1)
        return self.directions[which], np.full(count, self.each)


def _held_off(
    shades: EmbreeScene, lights: _Lights, places: Array, normals: Array, random: np.random.Generator
) -> Array:
    """The share of direct light that does not arrive at places (n, 3)."""
    given, kept = np.zeros(len(places)), np.zeros(len(places))

    def look(directions: Array, weights: Array, far: Array | None) -> None:
        nonlocal given, kept
        light = weights * np.clip((normals * directions).sum(axis=1), 0.0, None)
        lit = light > 0
        if not lit.any():
            return
        reach = np.full(len(places), np.inf)
        reach[lit] = shades.run(places[lit].astype(np.float32), directions[lit].astype(np.float32), query="DISTANCE")
        free = reach > (1e30 if far is None else far)
        given += light
        kept += np.where(free, light, 0.0)

    if lights.sums is not None:
        for number in range(_RAYS):
            look(*lights.drawn(len(places), random, number), None)
    for lamp in lights.lamps:
        directions, weights, far = _towards(lamp, places, random)
        look(directions, weights, far)
    return np.where(given > 0, 1.0 - kept / np.maximum(given, 1e-30), 0.0)


def _towards(lamp: Lamp, places: Array, random: np.random.Generator) -> tuple[Array, Array, Array | None]:
    """Directions to a lamp, its irradiance on what faces it, and how far it is (none: endlessly)."""
    strength = float(np.mean(lamp.strength))
    axis = lamp.target - lamp.place
    axis = axis / max(float(np.linalg.norm(axis)), 1e-12)
    if lamp.kind == "sun":
        return np.tile(-axis, (len(places), 1)), np.full(len(places), strength), None
    source = np.tile(lamp.place, (len(places), 1))
    if lamp.kind == "area":
        across = np.cross(axis, [0.0, 0.0, 1.0] if abs(axis[2]) < 0.999 else [0.0, 1.0, 0.0])
        across /= np.linalg.norm(across)
        u, v = random.random((2, len(places))) - 0.5
        source = source + (u * lamp.size[0])[:, None] * across + (v * lamp.size[1])[:, None] * np.cross(across, axis)
    directions = source - places
    far = np.maximum(np.linalg.norm(directions, axis=1), 1e-9)
    directions = directions / far[:, None]
    weights = strength / far**2
    along = -(directions @ axis)
    if lamp.kind == "spot":
        weights = np.where(along > np.cos(np.radians(lamp.half)), weights, 0.0)
    if lamp.kind == "area":
        weights = weights * lamp.size[0] * lamp.size[1] * np.clip(along, 0.0, None)
    return directions, weights, 0.999 * far


def lit_by(lamps: Sequence[Lamp], places: Array, normals: Array) -> Array:
    """The irradiance (n, 3) of lamps at places (n, 3) of normals (n, 3), where nothing stands between."""
    random, lit = np.random.default_rng(0), np.zeros((len(places), 3))
    for lamp in lamps:
        for _ in range(_RAYS):
            directions, weights, _far = _towards(lamp, places, random)
            light = weights * np.clip((normals * directions).sum(axis=1), 0.0, None) / _RAYS
            colour = np.asarray(lamp.strength, float) / max(float(np.mean(lamp.strength)), 1e-12)
            lit += light[:, None] * colour
    return lit


def on_level(moment: Moment, width: int, height: int, level: float) -> Array:
    """Where the rays of pixels come down to a level (h, w, 3), in metres; far away where they do not."""
    sight = sight_of(moment)
    down = sight.to_ground(height, width, level)
    return np.stack(sight.places(np.where(np.isfinite(down), down, np.float32(_AWAY))), axis=-1).astype(float)
