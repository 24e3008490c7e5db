"""As few keys as tell a sampled motion within a tolerance. Lengths in mm, angles in rad."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import ArrayLike, NDArray

Array = NDArray[np.float64]
Off = Callable[[int, int], float]
"""How far samples between two of them are at most from what goes evenly from the one to the other."""


def told_by(count: int, off: Off, tolerance: float) -> NDArray[np.intp]:
    """The samples, of ``count``, that tell all of them within a tolerance; the first and the last are among them.

    From each the farthest is taken up to which it holds, found by doubling and halving. As what holds for a stretch
    nearly always holds for its beginnings, no other choice has fewer but by chance.
    """
    kept = [0]
    while kept[-1] < count - 1:
        here, step = kept[-1], 1
        good = here + 1
        while here + 2 * step < count and off(here, here + 2 * step) <= tolerance:
            step *= 2
            good = here + step
        low, high = good, min(here + 2 * step, count - 1)
        while low < high:
            middle = (low + high + 1) // 2
            if off(here, middle) <= tolerance:
                low = middle
            else:
                high = middle - 1
        kept.append(low)
    return np.array(kept, np.intp)


def places_off(times: ArrayLike, places: ArrayLike, allowed: ArrayLike = 1.0) -> Off:
    """How far samples of places (n, 3) are from a straight even way between two of them, as shares of what is ``allowed`` (n,)."""
    times, places = np.asarray(times, float), np.asarray(places, float)
    allowed = np.broadcast_to(allowed, len(times))

    def off(first: int, last: int) -> float:
        if last - first < 2:
            return 0.0
        inner = slice(first + 1, last)
        share = ((times[inner] - times[first]) / (times[last] - times[first]))[:, None]
        between = places[first] + share * (places[last] - places[first])
        return float((np.linalg.norm(places[inner] - between, axis=1) / allowed[inner]).max())

    return off


def turns_off(
    times: ArrayLike, quaternions: ArrayLike, allowed: ArrayLike = 1.0, most: float = np.radians(115.0)
) -> Off:
    """By what angle samples of unit quaternions (n, 4) are off an even turn between two of them, as shares of what is ``allowed`` (n,);
    infinite where it turns by more than ``most`` in all, as then the shorter way may not be the way it goes.

    Spherical linear interpolation, as glTF 2.0 (appendix C.4) has it.
    """
    times, quaternions = np.asarray(times, float), np.asarray(quaternions, float)
    allowed = np.broadcast_to(allowed, len(times))
    halves = np.linalg.norm(np.diff(quaternions, axis=0), axis=1)
    turned = np.concatenate([[0.0], np.cumsum(4.0 * np.arcsin(np.minimum(0.5 * halves, 1.0)))])

    def off(first: int, last: int) -> float:
        if last - first < 2:
            return 0.0
        if turned[last] - turned[first] > most:
            return np.inf
        inner = slice(first + 1, last)
        share = (times[inner] - times[first]) / (times[last] - times[first])
        between = slerp(quaternions[first], quaternions[last], share)
        cosine = np.abs(np.einsum("ij,ij->i", between, quaternions[inner]))
        sine = np.linalg.norm(
            quaternions[inner] - np.sign(np.einsum("ij,ij->i", between, quaternions[inner]))[:, None] * between, axis=1
        )
        # by half the chord, which tells small angles well
        angles = np.where(
            cosine > 0.9, 4.0 * np.arcsin(np.minimum(0.5 * sine, 1.0)), 2 * np.arccos(np.minimum(cosine, 1.0))
        )
        return float((angles / allowed[inner]).max())

    return off


def slerp(first: Array, last: Array, share: Array) -> Array:
    """Unit quaternions (n, 4) at shares (n,) of an even turn from one to another, the shorter way."""
    cosine = float(first @ last)
    sign, cosine = (-1.0, -cosine) if cosine < 0 else (1.0, cosine)
    angle = float(np.arccos(min(cosine, 1.0)))
    if angle < 1e-6:
        blended = first + share[:, None] * (sign * last - first)
    else:
        blended = (
            np.sin((1 - share) * angle)[:, None] * first + sign * np.sin(share * angle)[:, None] * last
        ) / np.sin(angle)
    return np.asarray(blended / np.linalg.norm(blended, axis=1, keepdims=True))
