"""What is told of each pixel beside its light: how far, which way it faces, which part, how much light is held off.

Seen through the middles of the pixels at one instant and with a lens that is sharp everywhere, as numbers of parts cannot be mixed. Rays
go by Embree, so that both variants of the path tracer give the same.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from embreex.mesh_construction import TriangleMesh
from embreex.rtcore_scene import EmbreeScene
from numpy.typing import NDArray

from kestrav.core.light.environments import directions
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
_ROWS = 64  # rows of a picture that are worked out at once: little memory is needed so


@dataclass(frozen=True)
class _Placed:
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
    bodies: Sequence[Body], environment: Single, moment: Moment, width: int, height: int, shadows: bool = True
) -> Single:
    """The layers (h, w, 6) of :data:`LAYERS` from Z on: distance along the camera's axis in metres (infinite where nothing is), the normal
    towards the camera, the part's number counted from 1 (0: none), and the share of direct light held off by other things, 0 to 1 (without ``shadows`` 0)."""
    found = np.zeros((height, width, 6), np.float32)
    found[..., 0] = np.inf
    seen = _placed(bodies, moment, solid=False)
    if seen is None:
        return found
    tree = seen.tree()
    solid = _placed(bodies, moment, solid=True) if shadows else None
    shades = None if solid is None else solid.tree()
    size = float(np.ptp(seen.corners.reshape(-1, 3), axis=0).max())
    lights = _Lights(environment, moment.lamps)
    random = np.random.default_rng(0)
    for first in range(0, height, _ROWS):
        last = min(first + _ROWS, height)
        starts, ways, ahead = _rays(moment, width, height, first, last)
        met = np.asarray(tree.run(starts.astype(np.float32), ways.astype(np.float32)), np.int64)
        there = met >= 0
        if not there.any():
            continue
        hit = met[there]
        places, normals = _met(seen, hit, starts[there], ways[there])
        piece = found[first:last].reshape(-1, 6)
        piece[there, 0] = (places - moment.place) @ ahead
        piece[there, 1:4] = normals
        piece[there, 4] = seen.rows[hit] + 1
        if shades is not None:
            piece[there, 5] = _held_off(shades, lights, places + (_OFF * size) * normals, normals, random)
    return found


def edges(bodies: Sequence[Body], moment: Moment, width: int, height: int) -> Single:
    """The share (h, w) of each pixel that a line takes: along the outlines of parts, where something is behind, and at sharp edges."""
    seen = passes(bodies, np.zeros((2, 4, 3), np.float32), moment, _FINER * width, _FINER * height, shadows=False)
    away, normals, part = seen[..., 0], seen[..., 1:4], seen[..., 4]
    there = np.isfinite(away)
    starts, ways, ahead = _rays(moment, _FINER * width, _FINER * height, 0, _FINER * height)
    depth = np.where(there, away, 0.0)
    far = depth.reshape(-1) if moment.parallel > 0 else depth.reshape(-1) / (ways @ ahead)
    places = (starts + far[:, None] * ways).reshape(*away.shape, 3)
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
        from scipy.ndimage import binary_dilation

        line = binary_dilation(line, iterations=width_of_line)
    return np.asarray(line.reshape(height, _FINER, width, _FINER).mean(axis=(1, 3)), np.float32)


def _placed(bodies: Sequence[Body], moment: Moment, solid: bool) -> _Placed | None:
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


def _rays(moment: Moment, width: int, height: int, first: int, last: int) -> tuple[Array, Array, Array]:
    """Starts and unit directions (n, 3) of some rows of pixels, and the camera's axis."""
    ahead = moment.target - moment.place
    ahead = ahead / max(float(np.linalg.norm(ahead)), 1e-12)
    right = np.cross(ahead, moment.up)
    right /= max(float(np.linalg.norm(right)), 1e-12)
    above = np.cross(right, ahead)
    half = 0.5 * moment.parallel if moment.parallel > 0 else float(np.tan(np.radians(moment.angle) / 2.0))
    x = ((np.arange(width) + 0.5) / width * 2.0 - 1.0) * half * width / height
    y = (1.0 - (np.arange(first, last) + 0.5) / height * 2.0) * half
    aside = (x[None, :, None] * right + y[:, None, None] * above).reshape(-1, 3)
    if moment.parallel > 0:
        return moment.place + aside, np.tile(ahead, (len(aside), 1)), ahead
    ways = aside + ahead
    return np.tile(moment.place, (len(ways), 1)), ways / np.linalg.norm(ways, axis=1, keepdims=True), ahead


def _met(seen: _Placed, hit: NDArray[np.int64], starts: Array, ways: Array) -> tuple[Array, Array]:
    """Where rays meet triangles (n,), and the normal there towards the ray's start; both (n, 3)."""
    a, b, c = (seen.corners[hit, k].astype(float) for k in range(3))
    # T. Möller and B. Trumbore, "Fast, Minimum Storage Ray/Triangle Intersection" (1997)
    one, two = b - a, c - a
    across = np.cross(ways, two)
    scale = (one * across).sum(axis=1)
    scale = np.where(np.abs(scale) < 1e-30, 1e-30, scale)
    off = starts - a
    u = np.clip((off * across).sum(axis=1) / scale, 0.0, 1.0)
    turned = np.cross(off, one)
    v = np.clip((ways * turned).sum(axis=1) / scale, 0.0, 1.0)
    far = (two * turned).sum(axis=1) / scale
    own = seen.normals[hit].astype(float)
    normals = (1.0 - u - v)[:, None] * own[:, 0] + u[:, None] * own[:, 1] + v[:, None] * own[:, 2]
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    away = (normals * ways).sum(axis=1) > 0
    return starts + far[:, None] * ways, np.where(away[:, None], -normals, normals)


class _Lights:
    """What shines: directions drawn from the surroundings by their brightness, and the lamps."""

    def __init__(self, environment: Single, lamps: Sequence[Lamp]) -> None:
        height = len(environment)
        ways = directions(height).reshape(-1, 3)
        weight = environment.mean(axis=2) * np.sin((np.arange(height) + 0.5) / height * np.pi)[:, None]
        total = float(weight.sum())
        self.ways = ways
        self.sums = np.cumsum(weight.ravel()) / total if total > 0 else None
        # irradiance by a draw: all of them are equally bright that way
        self.each = total * (np.pi / height) ** 2 / _RAYS
        self.lamps = lamps

    def drawn(self, count: int, random: np.random.Generator, number: int) -> tuple[Array, Array]:
        """Directions (n, 3) towards the surroundings, one of several draws that share them evenly, and what they weigh."""
        assert self.sums is not None
        places = (number + random.random(count)) / _RAYS
        which = np.minimum(np.searchsorted(self.sums, places), len(self.ways) - 1)
        return self.ways[which], np.full(count, self.each)


def _held_off(
    shades: EmbreeScene, lights: _Lights, places: Array, normals: Array, random: np.random.Generator
) -> Array:
    """The share of direct light that does not arrive at places (n, 3)."""
    given, kept = np.zeros(len(places)), np.zeros(len(places))

    def look(ways: Array, weights: Array, far: Array | None) -> None:
        nonlocal given, kept
        light = weights * np.clip((normals * ways).sum(axis=1), 0.0, None)
        lit = light > 0
        if not lit.any():
            return
        reach = np.full(len(places), np.inf)
        reach[lit] = shades.run(places[lit].astype(np.float32), ways[lit].astype(np.float32), query="DISTANCE")
        free = reach > (1e30 if far is None else far)
        given += light
        kept += np.where(free, light, 0.0)

    if lights.sums is not None:
        for number in range(_RAYS):
            look(*lights.drawn(len(places), random, number), None)
    for lamp in lights.lamps:
        ways, weights, far = _towards(lamp, places, random)
        look(ways, weights, far)
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
    ways = source - places
    far = np.maximum(np.linalg.norm(ways, axis=1), 1e-9)
    ways = ways / far[:, None]
    weights = strength / far**2
    along = -(ways @ axis)
    if lamp.kind == "spot":
        weights = np.where(along > np.cos(np.radians(lamp.half)), weights, 0.0)
    if lamp.kind == "area":
        weights = weights * lamp.size[0] * lamp.size[1] * np.clip(along, 0.0, None)
    return ways, weights, 0.999 * far


def lit_by(lamps: Sequence[Lamp], places: Array, normals: Array) -> Array:
    """The irradiance (n, 3) of lamps at places (n, 3) of normals (n, 3), where nothing stands between."""
    random, found = np.random.default_rng(0), np.zeros((len(places), 3))
    for lamp in lamps:
        for _ in range(_RAYS):
            ways, weights, _far = _towards(lamp, places, random)
            light = weights * np.clip((normals * ways).sum(axis=1), 0.0, None) / _RAYS
            colour = np.asarray(lamp.strength, float) / max(float(np.mean(lamp.strength)), 1e-12)
            found += light[:, None] * colour
    return found


def on_level(moment: Moment, width: int, height: int, level: float) -> Array:
    """Where the rays of pixels come down to a level (h, w, 3), in metres; far away where they do not."""
    starts, ways, _ = _rays(moment, width, height, 0, height)
    with np.errstate(divide="ignore", invalid="ignore"):
        far = (level - starts[:, 2]) / ways[:, 2]
    far = np.where(np.isfinite(far) & (far > 0), far, 1e6)
    return np.asarray((starts + far[:, None] * ways).reshape(height, width, 3))
