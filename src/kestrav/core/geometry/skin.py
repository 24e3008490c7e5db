"""A mesh drawn in by a skin, and how far facets are from the round surface that they stand for. Lengths in mm."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import Mesh

Array = NDArray[np.float64]

_FLAT = np.radians(0.5)  # between facets that are one
_SMOOTH = np.radians(46.0)  # between facets of one round surface at most: eight around
_ALIKE = 2.0  # times as much as the next that an angle of one round surface may be
_MOST = 0.02  # of a part's size that facets may be off


def drawn_in(shape: Mesh, by: float) -> Mesh:
    """A mesh whose vertices go in by so much along their normals: no point of its surface goes farther than that."""
    body = shape.body
    return Mesh(np.asarray(body.vertices) - by * np.asarray(body.vertex_normals), np.asarray(body.faces, np.int32))


# by identity of the mesh; a cache of the work and not of the result
@lru_cache(maxsize=2048)
def facet_error(shape: Mesh) -> float:
    """How far in mm the facets of a mesh are from the round surfaces that they stand for, at most; 0 where all is flat.

    A facet as wide as w that meets the next one at an angle t is off by w / 2 · tan(t / 4), the sagitta of a regular polygon. Facets
    count as round where another one follows on each side at a like angle, so that a slope or a chamfer does not.
    """
    body = shape.body
    pairs, angles = np.asarray(body.face_adjacency), np.asarray(body.face_adjacency_angles)
    if not len(pairs):
        return 0.0
    import trimesh

    facet = trimesh.graph.connected_component_labels(pairs[angles < _FLAT], node_count=len(body.faces))  # type: ignore[no-untyped-call]
    # what a facet is wide: of a strip its area by its length, of a single triangle its height
    across = np.bincount(facet, weights=body.area_faces) * np.where(np.bincount(facet) == 1, 2.0, 1.0)
    smooth = (angles >= _FLAT) & (angles <= _SMOOTH)
    if not smooth.any():
        return 0.0
    ends = np.asarray(body.vertices)[np.asarray(body.face_adjacency_edges)[smooth]]
    # what is round is a row of facets, each of which has a neighbour at a like angle on either side
    signed = np.where(np.asarray(body.face_adjacency_convex)[smooth], angles[smooth], -angles[smooth])
    sides = facet[pairs[smooth]]
    length = np.linalg.norm(ends[:, 0] - ends[:, 1], axis=1)
    followed = np.ones(len(sides), bool)
    width = np.full(len(sides), np.inf)
    for k in range(2):
        followed &= _followed(sides[:, k], signed)
        width = np.minimum(width, across[sides[:, k]] / np.maximum(length, 1e-9))
    if not followed.any():
        return 0.0
    sagitta = 0.5 * width[followed] * np.tan(0.25 * np.abs(signed[followed]))
    return float(min(sagitta.max(), _MOST * np.linalg.norm(np.ptp(shape.bounds, axis=0))))


def _followed(facets: NDArray[np.int_], angles: Array) -> NDArray[np.bool_]:
    """For edges (n,) of facets whether another edge of the same facet has an angle like theirs, bent to the same side."""
    order = np.lexsort((angles, facets))
    of, bent = facets[order], angles[order]
    like = np.zeros(len(order), bool)
    ratio = bent[1:] / bent[:-1]
    next_is = (of[1:] == of[:-1]) & (ratio > 1.0 / _ALIKE) & (ratio < _ALIKE)
    like[1:] |= next_is
    like[:-1] |= next_is
    followed = np.zeros(len(order), bool)
    followed[order] = like
    return followed
