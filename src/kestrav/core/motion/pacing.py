"""Pacing: how distance grows with time. Lengths in mm, times in s, speeds in mm/s."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Eased, Pacing

Array = NDArray[np.float64]


def ramp_lengths(pacing: Pacing, length: float) -> tuple[float, float]:
    """Lengths of the soft start and stop; shrunk in proportion when they exceed the way."""
    if not isinstance(pacing, Eased):
        return 0.0, 0.0
    start, stop = pacing.start_length, pacing.stop_length
    share = min(1.0, length / (start + stop)) if start + stop > 0 else 1.0
    return start * share, stop * share


def duration_at(pacing: Pacing, length: float, speed: float) -> float:
    """Duration of a journey whose steady speed is given.

    A ramp's mean speed is half the steady one, so it takes twice the time of its length at that speed.
    """
    start, stop = ramp_lengths(pacing, length)
    return (length + start + stop) / speed


def steady_speed(pacing: Pacing, length: float, duration: float) -> float:
    """Steady speed of a journey whose duration is given."""
    start, stop = ramp_lengths(pacing, length)
    return (length + start + stop) / duration


def distance(pacing: Pacing, length: float, duration: float, times: ArrayLike) -> Array:
    """Distance (n,) at times (n,) since the start; held before the start and after the end.

    In a ramp speed follows (1 - cos)/2, so that acceleration begins and ends at zero.
    """
    t, ramp_in, ramp_out, speed = _phases(pacing, length, duration, times)
    travelled = speed * (t - ramp_in / 2)
    if ramp_in > 0:
        travelled = np.where(t < ramp_in, speed * _ramp_distance(t, ramp_in), travelled)
    if ramp_out > 0:
        left = duration - t
        travelled = np.where(left < ramp_out, length - speed * _ramp_distance(left, ramp_out), travelled)
    found: Array = np.clip(travelled, 0.0, length)
    return found


def speed(pacing: Pacing, length: float, duration: float, times: ArrayLike) -> Array:
    """Speed (n,) at times (n,) since the start; zero outside the journey."""
    raw = np.asarray(times, float)
    t, ramp_in, ramp_out, steady = _phases(pacing, length, duration, raw)
    share = np.ones_like(t)
    if ramp_in > 0:
        share = np.where(t < ramp_in, 0.5 * (1 - np.cos(np.pi * t / ramp_in)), share)
    if ramp_out > 0:
        left = duration - t
        share = np.where(left < ramp_out, 0.5 * (1 - np.cos(np.pi * left / ramp_out)), share)
    found: Array = np.where((raw >= 0) & (raw <= duration), steady * share, 0.0)
    return found


def time_at(pacing: Pacing, length: float, duration: float, distances: ArrayLike) -> Array:
    """Times (n,) since the start at which distances (n,) are reached; the inverse of :func:`distance`."""
    wanted = np.clip(np.asarray(distances, float), 0.0, length)
    low, high = np.zeros_like(wanted), np.full_like(wanted, duration)
    for _ in range(60):  # bisection: distance never falls, and its slope may vanish at the ends
        middle = 0.5 * (low + high)
        short = distance(pacing, length, duration, middle) < wanted
        low, high = np.where(short, middle, low), np.where(short, high, middle)
    found: Array = high
    return found


def _phases(pacing: Pacing, length: float, duration: float, times: ArrayLike) -> tuple[Array, float, float, float]:
    start, stop = ramp_lengths(pacing, length)
    steady = (length + start + stop) / duration
    return np.clip(np.asarray(times, float), 0.0, duration), 2 * start / steady, 2 * stop / steady, steady


def _ramp_distance(t: Array, ramp: float) -> Array:
    """Distance by unit steady speed after t of a ramp."""
    share = t / ramp
    found: Array = ramp * (share / 2 - np.sin(np.pi * share) / (2 * np.pi))
    return found
