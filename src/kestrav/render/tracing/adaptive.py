"""Where a picture needs more samples: adaptive sampling, by what is still wrong in it when its noise has been taken away."""

from __future__ import annotations

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.light.response import shown_light
from kestrav.render.tracing.description import Single

Array = NDArray[np.float64]
_AROUND = 3.0  # pixels, standard deviation of the surroundings by which a pixel's error is told: one difference alone tells little
_MOST = 16.0  # times the samples that a pixel has: its error is not known well enough for more
_NEAR = 1.001  # ratio of the factors between which the one that uses up the budget is


def error_of(halves: tuple[Single, Single]) -> Array:
    """How far a picture is still off, as it is shown, around each pixel (h, w): by two pictures (h, w, 3) of half its samples each, that know
    nothing of each other and whose noise has been taken away."""
    apart = ((shown_light(halves[0]) - shown_light(halves[1])) ** 2).mean(axis=2)
    around = scipy.ndimage.gaussian_filter(np.asarray(apart, np.float32), _AROUND, truncate=3.0)
    return np.sqrt(np.maximum(around, 0.0), dtype=float) / 2.0


def further_samples(error: Array, counts: Array, budget: float, each: int) -> NDArray[np.int64]:
    """How many times ``each`` samples more a pixel gets (h, w), of ``budget`` samples in all, where the picture is off by ``error`` (h, w) with
    ``counts`` samples (h, w).

    The sum of all squared errors is least where each has samples in proportion to the standard deviation of one: Neyman's allocation
    (J. Neyman, "On the two different aspects of the representative method", 1934; W. G. Cochran, Sampling Techniques, 3rd ed. 1977, 5.5).
    """
    spread = error * np.sqrt(counts)
    most = _MOST * counts
    if budget < each or not spread.max() > 0:
        return np.zeros(error.shape, np.int64)

    def given(factor: float) -> NDArray[np.int64]:
        return np.rint((np.clip(factor * spread, counts, counts + most) - counts) / each).astype(np.int64)

    # with the first nobody gets more, with the last everybody has the most
    low, high = (
        1.0 / float((spread / counts).max()),
        float((counts + most).max() / max(spread[spread > 0].min(), 1e-12)),
    )
    if each * given(high).sum() <= budget:
        return given(high)
    while high > _NEAR * low:
        middle = float(np.sqrt(low * high))
        low, high = (middle, high) if each * given(middle).sum() <= budget else (low, middle)
    return given(low)
