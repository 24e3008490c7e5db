"""Reading teeth off a solid: how many there are about an axis, how far they reach, and where their middles are."""

from __future__ import annotations

from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.meshes import Mesh
from kestrav.core.later import later

if TYPE_CHECKING:
    import shapely
else:
    shapely = later("shapely")

Array = NDArray[np.float64]

_SAMPLES = 8192  # of an outline, around
_FEWEST, _MOST = 5, 400  # teeth that are read
_DEEPER = 3.0  # times as deep as facets are
_SHARE = 0.5  # of an outline's waviness that teeth have in their own and its doubled waves


class Teeth(msgspec.Struct, frozen=True):
    """Teeth about an axis: their number, the least and greatest radius of their outline in mm, the angle in rad of the middle of
    one about the axis from a direction across, and whether they look inward, as a ring's do."""

    number: int
    low: float
    high: float
    middle: float
    inward: bool


def read_teeth(shape: Mesh, origin: ArrayLike, axis: ArrayLike, across: ArrayLike) -> Teeth | None:
    """The teeth in the outlines of a solid, cut square to an axis (3,) through its middle; None where it has none.

    ``across`` (3,) is the direction from which angles are told. The number is the strongest wave of the outline's radius about
    the axis (by its Fourier transform), the middle where that wave is highest, or lowest for a ring.
    """
    origin, axis, x = np.asarray(origin, float), np.asarray(axis, float), np.asarray(across, float)
    y = np.cross(axis, x)
    along = (shape.vertices - origin) @ axis
    middle = 0.5 * (along.min() + along.max())
    # a little off the middle, where facets seldom have their edges
    at = origin + (middle + 0.0137 * np.ptp(along)) * axis
    from trimesh.intersections import mesh_plane

    cut = np.asarray(mesh_plane(shape.body, axis, at))  # type: ignore[no-untyped-call]
    if not len(cut):
        return None
    flat = np.round(np.stack([(cut - origin) @ x, (cut - origin) @ y], axis=-1), 5)
    flat = flat[np.linalg.norm(flat[:, 1] - flat[:, 0], axis=1) > 0]
    areas = shapely.get_parts(shapely.polygonize(shapely.linestrings(flat)))
    rings = [shapely.get_coordinates(ring) for area in areas for ring in (area.exterior, *area.interiors)]
    best: Teeth | None = None
    for ring in rings:
        teeth = _of_outline(ring)
        if teeth is not None and (best is None or teeth.high - teeth.low > best.high - best.low):
            best = teeth
    if best is None:
        return None
    outer = max(float(np.hypot(ring[:, 0], ring[:, 1]).max()) for ring in rings)
    if best.high >= outer - 1e-6:
        return best
    # an outline with more of the solid around it: the teeth are where it is narrow
    return Teeth(best.number, best.low, best.high, best.middle + np.pi / best.number, True)


def _of_outline(points: Array) -> Teeth | None:
    """Teeth in an outline (n, 2) about the origin, told as looking outward."""
    angles = np.unwrap(np.arctan2(points[:, 1], points[:, 0]))
    if abs(abs(angles[-1] - angles[0]) - 2 * np.pi) > 0.1:
        return None  # it does not go once around
    if angles[-1] < angles[0]:
        points, angles = points[::-1], angles[::-1]
    # even along the outline, as long straight flanks have few points
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    distances = np.concatenate([[0.0], np.cumsum(steps)])
    every = np.linspace(0.0, distances[-1], 4 * _SAMPLES)
    dense = np.column_stack([np.interp(every, distances, points[:, k]) for k in (0, 1)])
    turn = np.unwrap(np.arctan2(dense[:, 1], dense[:, 0]))
    radius = np.hypot(dense[:, 0], dense[:, 1])
    order = np.argsort(turn, kind="stable")
    around = turn[order][0] + np.linspace(0.0, 2 * np.pi, _SAMPLES, endpoint=False)
    radii = np.interp(around, turn[order], radius[order])
    waves = np.fft.rfft(radii - radii.mean())
    power = np.abs(waves) ** 2
    number = int(np.argmax(power[: _MOST + 1]))
    high = float(np.hypot(points[:, 0], points[:, 1]).max())
    # the facets of a round outline wave too, as a polygon of so many sides does
    facet = high * (1 - np.cos(np.pi / max(number, 1)))
    if number < _FEWEST or np.ptp(radii) < _DEEPER * facet:
        return None
    if power[number::number].sum() < _SHARE * power[1:].sum():
        return None
    middle = float(around[0] - np.angle(waves[number]) / number)
    return Teeth(number, float(radii.min()), high, middle, False)


def rack_tooth(shape: Mesh, origin: ArrayLike, line: ArrayLike, up: ArrayLike, pitch: float) -> float | None:
    """Where in mm along a line (3,) from an origin the middle of a rack's tooth is, teeth looking ``up`` (3,) a ``pitch`` apart; None
    where its highest edges do not repeat so."""
    origin, line = np.asarray(origin, float), np.asarray(line, float)
    places = np.unique(np.round((shape.vertices - origin) @ np.column_stack([line, up]), 6), axis=0)
    tips = places[places[:, 1] >= places[:, 1].max() - 0.02 * pitch, 0]
    if len(tips) < 4:
        return None
    # of each tooth both edges of its top, alike far from its middle
    wave = np.exp(2j * np.pi * tips / pitch).mean()
    if abs(wave) < 0.3:
        return None
    return float(np.angle(wave) * pitch / (2 * np.pi))
