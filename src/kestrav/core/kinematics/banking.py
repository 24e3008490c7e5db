"""Lean: the roll of a rider about its direction of travel. Angles in rad, to the left positive; lengths in mm."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.kinematics.runs import RunCourse
from kestrav.core.paths.path_curves import PathCurve

Array = NDArray[np.float64]

GRAVITY = 9806.65  # mm/s², ISO 80000-3
_STEPS = 1200


def bank(course: RunCourse, stations: ArrayLike) -> Array:
    """Lean (n,) of a run's rider at stations (n,)."""
    how, stations = course.run.bank, np.asarray(stations, float)
    banked = np.zeros(len(stations))
    if how.computed:
        grid, angle = _balanced(course)
        banked = np.interp(stations, grid, angle)
    if how.keys:
        places = np.array([key.place for key in how.keys]) * course.path.length
        angles = np.radians([key.angle for key in how.keys])
        if len(places) == 1:
            banked = banked + angles[0]
        else:
            banked = banked + scipy.interpolate.PchipInterpolator(places, angles)(
                np.clip(stations, places[0], places[-1])
            )
    return np.asarray(banked)


def bank_gauge(course: RunCourse) -> list[tuple[Array, Array]]:
    """How far the bank has changed at most since the start, all changes added up: stations (k,) and rad (k,), between which it grows
    evenly, of what is computed and of what is keyed."""
    how, bank_gauge = course.run.bank, []
    if how.computed:
        grid, angle = _balanced(course)
        bank_gauge.append((grid, np.concatenate([[0.0], np.cumsum(np.abs(np.diff(angle)))])))
    if len(how.keys) > 1:
        places = np.array([key.place for key in how.keys]) * course.path.length
        curve = scipy.interpolate.PchipInterpolator(places, np.radians([key.angle for key in how.keys]))
        # between keys it goes one way; as fast as its slope is at most in each part of that
        parts = np.unique(np.concatenate([np.linspace(a, b, _PARTS + 1) for a, b in pairwise(places)]))
        step = np.diff(parts)
        # the slope is a square polynomial: it lies between its Bernstein coefficients
        first, last = curve(parts[:-1], 1), curve(np.nextafter(parts[1:], -np.inf), 1)
        steepest = np.abs([first, first + 0.5 * step * curve(parts[:-1], 2), last]).max(axis=0)
        bank_gauge.append((parts, np.concatenate([[0.0], np.cumsum(steepest * step)])))
    return bank_gauge


_PARTS = 16  # between two keys


def _balanced(course: RunCourse) -> tuple[Array, Array]:
    """Stations (n,) and the bank (n,) at which weight and the force of the bend together press straight down.

    tan(bank) = v² / (g r), as for any body in a level bend (elementary mechanics).
    """
    how, course = course.run.bank, course.entire
    grid = np.linspace(course.first, course.last, _STEPS + 1)
    speed = course.speeds(course.times_at(grid))
    angle = np.arctan(speed**2 * level_curvature(course.path, grid) / GRAVITY)
    limit = np.radians(how.limit)
    angle = np.clip(angle, -limit, limit)
    width = round(how.smoothing / max(course.length, 1e-9) * _STEPS)
    if width > 1:
        mode = "wrap" if course.path.curve.closed and course.length >= course.path.length - 1e-6 else "nearest"

        angle = scipy.ndimage.uniform_filter1d(angle, width, mode=mode)
    return grid, angle


def level_curvature(path: PathCurve, stations: ArrayLike) -> Array:
    """Curvature (n,) in 1/mm of a path as seen from above, to the left positive."""
    curve, stations = path.curve, np.asarray(stations, float)
    step = 1e-5 * curve.length
    before, after = np.maximum(stations - step, 0.0), np.minimum(stations + step, curve.length)
    a, b = curve.tangent(before), curve.tangent(after, before=True)
    turn = np.arctan2(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0], a[:, 0] * b[:, 0] + a[:, 1] * b[:, 1])
    sharp = np.isin(np.round(stations, 6), np.round(curve.kink_stations, 6))
    return np.where(sharp, 0.0, turn / np.maximum(after - before, 1e-12))


def rolled(frames: Array, angles: Array) -> Array:
    """Frames (n, 3, 3) rolled to the left by angles (n,) about their first axes."""
    c, s = np.cos(angles)[:, None], np.sin(angles)[:, None]
    turned = frames.copy()
    turned[:, :, 1] = c * frames[:, :, 1] - s * frames[:, :, 2]
    turned[:, :, 2] = s * frames[:, :, 1] + c * frames[:, :, 2]
    return turned
