"""Fewer triangles for the same surface, within a distance. Lengths in mm.

Quadric error edge collapses: M. Garland, P. S. Heckbert, "Surface simplification using quadric error metrics", SIGGRAPH 1997, as the
meshoptimizer library has them.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]

# of a distance, that is asked of the library: its quadrics tell the mean of squares, and single points may be farther off
_SHARE = 0.6


def simplified(points: Array, triangles: NDArray[np.integer], most: float) -> tuple[Array, NDArray[np.int64], float]:
    """Points (k, 3) and triangles (m, 3) with as few triangles as stay within about ``most`` mm of a mesh's points (n, 3) and triangles,
    and how far they are off. Points that lie in one place stay joined; open borders stay."""
    import meshoptimizer

    if len(triangles) < 8:
        return points, triangles.astype(np.int64), 0.0
    middle = points.mean(axis=0)
    places = np.ascontiguousarray(points - middle, np.float32)
    corners = np.ascontiguousarray(triangles.reshape(-1), np.uint32)
    kept, error = np.zeros_like(corners), np.zeros(1, np.float32)
    count = meshoptimizer.simplify(
        kept,
        corners,
        places,
        target_index_count=3,
        target_error=_SHARE * most,
        options=meshoptimizer.SIMPLIFY_ERROR_ABSOLUTE | meshoptimizer.SIMPLIFY_LOCK_BORDER,
        result_error=error,
    )
    if count < 3:
        return points, triangles.astype(np.int64), 0.0
    used, numbers = np.unique(kept[:count].astype(np.int64), return_inverse=True)
    return points[used], numbers.reshape(-1, 3), float(error[0]) / _SHARE
