"""What can be said of a path: its bends, slopes and crossings. Lengths in mm."""

from __future__ import annotations

import itertools

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.geometry.arclength import Curve
from kestrav.core.paths.path_curves import PathCurve

Array = NDArray[np.float64]

STRAIGHT = 1e-7  # 1/mm; a bend of more than 10 km is none
_PER_PIECE = 16
_MOST_SAMPLES = 20_000


class Spot(msgspec.Struct, frozen=True):
    """A value and the station at which it is found."""

    value: float
    station: float


def judging_stations(curve: Curve) -> Array:
    """Stations (n,) dense enough to find every bend of a curve by."""
    count = min(_PER_PIECE * max(len(curve.breaks) - 1, 40), _MOST_SAMPLES)
    inner = 0.5 * (curve.breaks[:-1] + curve.breaks[1:])
    return np.unique(np.concatenate([np.linspace(0.0, curve.length, count), curve.breaks, inner]))


def least_bend(curve: Curve) -> Spot | None:
    """The least radius of curvature and where it is; None for a curve that is straight. Kinks are not bends."""
    stations = judging_stations(curve)
    bend = curve.curvature(stations)
    k = int(np.argmax(bend))
    if bend[k] <= STRAIGHT:
        return None
    low, high = stations[max(k - 1, 0)], stations[min(k + 1, len(stations) - 1)]
    best = Spot(1.0 / float(bend[k]), float(stations[k]))
    # within the two pieces beside the sample the bend is smooth
    inside = curve.breaks[(curve.breaks > low) & (curve.breaks < high)]
    ends = np.concatenate([[low], inside, [high]])
    for a, b in itertools.pairwise(ends):
        minimum = scipy.optimize.minimize_scalar(
            lambda s: -float(curve.curvature([s])[0]),
            bounds=(a, b),
            method="bounded",
            options={"xatol": 1e-7 * curve.length},
        )
        if -minimum.fun > 1.0 / best.value:
            best = Spot(1.0 / -float(minimum.fun), float(minimum.x))
    return best


class Bend(msgspec.Struct, frozen=True):
    """A stretch of a curve that bends too tightly: first and last station, and the least radius and where it is."""

    first: float
    last: float
    radius: float
    station: float


def tight_spans(curve: Curve, radius: float) -> list[Bend]:
    """The stretches that bend more tightly than a radius; a kink is one of no length and no radius."""
    stations = judging_stations(curve)
    bend = curve.curvature(stations)
    tight = bend > (1 + 1e-6) / radius
    edges = np.flatnonzero(np.diff(np.concatenate([[0], tight.astype(int), [0]])))
    bends = [Bend(float(s), float(s), 0.0, float(s)) for s in curve.kink_stations]
    for a, b in zip(edges[::2], edges[1::2], strict=True):
        k = a + int(np.argmax(bend[a:b]))
        bends.append(Bend(float(stations[a]), float(stations[b - 1]), 1.0 / float(bend[k]), float(stations[k])))
    return sorted(bends, key=lambda span: span.first)


def steepest(curve: Curve) -> Spot:
    """The steepest slope in degrees, rising positive, and where it is."""
    stations = judging_stations(curve)
    slope = np.degrees(np.arcsin(np.clip(curve.tangent(stations)[:, 2], -1.0, 1.0)))
    k = int(np.argmax(np.abs(slope)))
    return Spot(float(slope[k]), float(stations[k]))


def bend_radii(curve: Curve, stations: ArrayLike) -> Array:
    """Radii of curvature (n,) at stations (n,); infinite where it is straight."""
    with np.errstate(divide="ignore"):
        bend_radii: Array = 1.0 / curve.curvature(stations)
    return bend_radii


def heights(curve: Curve) -> tuple[float, float]:
    """The lowest and the highest place."""
    z = curve.position(judging_stations(curve))[:, 2]
    return float(z.min()), float(z.max())


def comb(curve: PathCurve, height: float) -> tuple[Array, Array]:
    """Teeth (n, 2, 3) of a curvature comb, the longest of a height in mm, and their tips (n, 3).

    Each stands on the path towards the outside of the bend, as long as the curvature there.
    """
    line = curve.curve
    stations = np.linspace(0.0, line.length, int(np.clip(4 * len(line.breaks), 120, 600)))
    bend = line.curvature(stations)
    most = float(bend.max())
    if most <= STRAIGHT:
        return np.empty((0, 2, 3)), np.empty((0, 3))
    tangent = line.tangent(stations)
    # away from the centre of the bend: against the change of the tangent
    step = min(line.length * 1e-4, 0.25 * line.length / len(stations))
    after, before = np.minimum(stations + step, line.length), np.maximum(stations - step, 0.0)
    inward = line.tangent(after, before=True) - line.tangent(before)
    inward -= np.einsum("ij,ij->i", inward, tangent)[:, None] * tangent
    size = np.linalg.norm(inward, axis=1)
    outward = np.where(size[:, None] > 1e-12, -inward / np.maximum(size, 1e-300)[:, None], 0.0)
    foot = line.position(stations)
    tips = foot + (height / most * bend)[:, None] * outward
    return np.stack([foot, tips], axis=1), tips


def crossings(curve: Curve, reach: float) -> list[tuple[float, float]]:
    """Pairs of stations at which a curve comes within a reach of itself, the nearest of each such place.

    Stretches that are neighbours along the curve, nearer than a few times the reach or than a bend would carry them
    together, do not count. Found on chords, so to about a thousandth of the length.
    """
    stations = np.union1d(np.linspace(0.0, curve.length, 400), curve.breaks if len(curve.breaks) < 400 else [])
    places = curve.position(stations)
    first, along = places[:-1], np.diff(places, axis=0)
    count = len(first)
    low = np.minimum(first, places[1:]) - reach
    high = np.maximum(first, places[1:]) + reach
    i, j = np.triu_indices(count, 2)
    near = np.all((low[i] <= high[j]) & (low[j] <= high[i]), axis=1)
    i, j = i[near], j[near]
    if not len(i):
        return []
    gap, s, t = segment_distances(first[i], along[i], first[j], along[j])
    at = stations[i] + s * np.diff(stations)[i], stations[j] + t * np.diff(stations)[j]
    apart = at[1] - at[0]
    if curve.closed:
        apart = np.minimum(apart, curve.length - apart)
    # two places of one bend are not a crossing: along the curve they are hardly farther than in space
    hit = (gap <= reach) & (apart > max(8 * reach, 1e-3 * curve.length))
    pairs: list[tuple[float, float]] = []
    for k in np.flatnonzero(hit)[np.argsort(gap[hit])]:
        pair = (float(at[0][k]), float(at[1][k]))
        if not any(_same(pair, known, curve) or _same(pair[::-1], known, curve) for known in pairs):
            pairs.append(pair)
    return sorted(pairs)


def _same(pair: tuple[float, float], known: tuple[float, float], curve: Curve) -> bool:
    """Whether two pairs of stations are of one crossing."""
    away = [abs(a - b) for a, b in zip(pair, known, strict=True)]
    if curve.closed:
        away = [min(d, curve.length - d) for d in away]
    return max(away) < 0.02 * curve.length


def segment_distances(p: Array, u: Array, q: Array, v: Array) -> tuple[Array, Array, Array]:
    """Distances (n,) between segments p + s u and q + t v (n, 3), and the shares s and t (n,) of their nearest places.

    C. Ericson, Real-Time Collision Detection, 2005, section 5.1.9.
    """
    r = p - q
    a, e = np.einsum("ij,ij->i", u, u), np.einsum("ij,ij->i", v, v)
    f, c, b = np.einsum("ij,ij->i", v, r), np.einsum("ij,ij->i", u, r), np.einsum("ij,ij->i", u, v)
    tiny = 1e-300
    slant = a * e - b * b
    s = np.where(slant > 1e-12 * a * e, np.clip((b * f - c * e) / np.maximum(slant, tiny), 0, 1), 0.0)
    t = np.clip((b * s + f) / np.maximum(e, tiny), 0, 1)
    s = np.clip((b * t - c) / np.maximum(a, tiny), 0, 1)
    gap = np.linalg.norm(r + s[:, None] * u - t[:, None] * v, axis=1)
    return gap, s, t
