"""Curves drawn by columns of pixels."""

import numpy as np
import pytest

from kestrav.app.timeline.drawn_curve import columns


@pytest.mark.parametrize("count", [3, 40, 5000])
def test_columns_hold_all_that_a_curve_does_in_them(count):
    x = np.sort(np.random.default_rng(count).uniform(0, 10, count))
    y = np.sin(7 * x)
    edges = np.linspace(-1, 11, 241)
    low, high = columns(x, y, edges)
    fine = np.linspace(x[0], x[-1], 100_000)
    values = np.interp(fine, x, y)
    where = np.clip(np.searchsorted(edges, fine, side="right") - 1, 0, 239)
    for k in np.unique(where)[1:-1]:
        mine = values[where == k]
        assert low[k] <= mine.min() + 1e-3 and high[k] >= mine.max() - 1e-3
        # and no more than that, but for what the next samples add at its edges
        assert low[k] >= mine.min() - 0.05 and high[k] <= mine.max() + 0.05
    assert np.isnan(low[edges[1:] < x[0]]).all() and np.isnan(high[edges[:-1] > x[-1]]).all()


def test_gaps_and_too_few_samples_leave_columns_empty():
    x, y = np.linspace(0, 10, 101), np.ones(101)
    y[40:60] = np.nan
    low, _ = columns(x, y, np.linspace(0, 10, 11))
    assert np.isnan(low[[4, 5]]).sum() >= 1 and np.isfinite(low[[1, 8]]).all()
    assert np.isnan(columns(np.array([1.0]), np.array([2.0]), np.linspace(0, 1, 5))[0]).all()
