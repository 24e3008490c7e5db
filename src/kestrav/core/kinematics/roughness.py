"""Roughness: small repeatable irregularity of a run."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Roughness

Array = NDArray[np.float64]

WAVES = 7
_LOW, _HIGH = 2**-0.5, 2**0.5  # an octave about the middle


@lru_cache(maxsize=256)
def _spectrum(seed: int) -> tuple[Array, Array, Array]:
    """Frequencies (k,) about 1, phases (k,) and weights (k,) that add up to 1.

    One wave in each of k equal bands of an octave, at a random place in it, so that no period repeats within sight: a
    band-limited sum of cosines of random phase (M. Shinozuka, C.-M. Jan, "Digital simulation of random processes and its
    applications", J. Sound and Vibration 25(1), 1972).
    """
    random = np.random.default_rng(seed)
    edges = np.geomspace(_LOW, _HIGH, WAVES + 1)
    return (
        edges[:-1] + random.random(WAVES) * np.diff(edges),
        random.random(WAVES) * 2 * np.pi,
        np.full(WAVES, 1.0 / WAVES),
    )


def deviation(rough: Roughness, stations: ArrayLike, times: ArrayLike) -> Array:
    """The deviation (n,) in mm or degrees at stations (n,) in mm and times (n,) in s; never more than its amplitude."""
    if rough.frequency is not None:
        along = np.asarray(times, float) * rough.frequency
    else:
        along = np.asarray(stations, float) / rough.wavelength
    frequencies, phases, weights = _spectrum(rough.seed)
    deviation: Array = rough.amplitude * (np.cos(2 * np.pi * along[:, None] * frequencies + phases) @ weights)
    return deviation


AXES_OF_TURN = ("roll", "pitch", "yaw")


def most_change(rough: Roughness, distance: ArrayLike, seconds: ArrayLike) -> Array:
    """By how much (n,) in mm or degrees the deviation changes at most over ways (n,) in mm, or times (n,) in s: every wave by no more than
    its greatest slope."""
    along = (
        np.asarray(seconds, float) * rough.frequency
        if rough.frequency is not None
        else np.asarray(distance, float) / rough.wavelength
    )
    frequencies, _, weights = _spectrum(rough.seed)
    steepest = 2 * np.pi * float(frequencies @ weights)
    return np.minimum(steepest * along, 4.0) * rough.amplitude


def deviations(roughness: tuple[Roughness, ...], stations: ArrayLike, times: ArrayLike) -> dict[str, Array]:
    """The summed deviation (n,) for every axis that has one."""
    deviations: dict[str, Array] = {}
    for rough in roughness:
        deviations[rough.axis] = deviations.get(rough.axis, 0.0) + deviation(rough, stations, times)
    return deviations
