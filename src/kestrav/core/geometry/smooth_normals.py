"""Smooth normals of a mesh, split at its sharp edges. Lengths in mm."""

from __future__ import annotations

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import GRID, Mesh

Array = NDArray[np.float64]
Numbers = NDArray[np.int64]

SHARP = 32.0  # degrees between facets that are shown as an edge; the importer's facets differ by less
_NEXT = np.array([1, 2, 0])
_MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)


class Edges(msgspec.Struct, frozen=True):
    """The edges of triangles (m, 3) over points that they share: ``ends`` (e, 2) of those that two triangles share, which (``sides``, (e, 2)
    numbers of half-edges 3 t + k, that go from a triangle's corner k), and those half-edges that are not shared by two (``loose``)."""

    ends: Numbers
    sides: Numbers
    loose: Numbers


def merged(vertices: Array) -> tuple[Numbers, Numbers]:
    """Which vertices (p,) stand for all at their places, and the number (n,) among these of each."""
    whole = np.rint(vertices / GRID).astype(np.int64)
    # one number for a place: sorting numbers is several times faster than sorting rows; were two places to share one, all would be told apart
    with np.errstate(over="ignore"):
        keys = (whole.view(np.uint64) * _MIX).sum(axis=1, dtype=np.uint64)
    keys ^= keys >> np.uint64(29)
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    if (whole[first][number] != whole).any():
        _, first, number = np.unique(whole, axis=0, return_index=True, return_inverse=True)
    return first.astype(np.int64), number.reshape(-1).astype(np.int64)


def edges_of(triangles: Numbers) -> Edges:
    """The edges of triangles (m, 3)."""
    ends = np.stack([triangles, triangles[:, _NEXT]], axis=2).reshape(-1, 2)
    low, high = ends.min(axis=1), ends.max(axis=1)
    order = np.argsort(low * (int(triangles.max(initial=0)) + 1) + high, kind="stable")
    order = order[low[order] != high[order]]
    low, high = low[order], high[order]
    begins = np.flatnonzero(np.r_[True, (low[1:] != low[:-1]) | (high[1:] != high[:-1])]) if len(order) else order
    counts = np.diff(np.r_[begins, len(order)])
    two = begins[counts == 2]
    single = np.ones(len(order), bool)
    single[two] = single[two + 1] = False
    return Edges(np.stack([low[two], high[two]], axis=1), np.stack([order[two], order[two + 1]], axis=1), order[single])


def facet_normals(points: Array, triangles: Numbers) -> Array:
    """Unit normals (m, 3) of triangles; of those without area, 0."""
    corners = points[triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return _unit(normals)


class Smoothed(msgspec.Struct, frozen=True):
    """Points (p, 3) with normals (p, 3), triangles (m, 3) over them, the triangle (p,) that each point is of, and the ends (e, 2, 3) of sharp
    edges."""

    points: Array
    normals: Array
    triangles: Numbers
    of: Numbers
    sharp: Array


def smoothed(shape: Mesh) -> Smoothed:
    """A mesh with a normal at each point: the mean of those of the facets that meet there without a sharp edge, or another tint, between."""
    first, number = merged(shape.vertices)
    places, triangles = shape.vertices[first], number[shape.triangles]
    facets = facet_normals(places, triangles)
    edges = edges_of(triangles)
    one, two = edges.sides.T // 3
    sharp = np.einsum("ij,ij->i", facets[one], facets[two]) < np.cos(np.radians(SHARP))
    apart = sharp if shape.tint_of is None else sharp | (shape.tint_of[one] != shape.tint_of[two])
    # corners that share a place and a smooth patch are one point
    _, at, corner = np.unique(_parted(triangles, edges, apart, len(places)), return_index=True, return_inverse=True)
    sums = np.empty((len(at), 3))
    for k in range(3):
        sums[:, k] = np.bincount(corner, np.repeat(facets[:, k], 3), minlength=len(at))
    return Smoothed(
        places[triangles.reshape(-1)[at]], _unit(sums), corner.reshape(-1, 3), at // 3, places[edges.ends[sharp]]
    )


def _parted(triangles: Numbers, edges: Edges, apart: NDArray[np.bool_], places: int) -> Numbers:
    """A number for each corner (3 m,), which those that share a place and a smooth patch have in common."""
    corner = triangles.reshape(-1).copy()
    # only where an edge parts its facets or is open can a place have more than one patch about it
    split = np.zeros(places, bool)
    split[edges.ends[apart]] = True
    split[corner[edges.loose]] = split[corner[_end(edges.loose)]] = True
    here = np.flatnonzero(split[corner])
    if not len(here):
        return corner
    row = np.empty(len(corner), np.int64)
    row[here] = np.arange(len(here))
    one, two = edges.sides[~apart].T
    # a half-edge of the one triangle runs against that of the other, unless one of them is turned over
    along = corner[one] == corner[two]
    starts = np.where(along, two, _end(two))
    ends = np.where(along, _end(two), two)
    pairs = np.concatenate([np.stack([one, starts], axis=1), np.stack([_end(one), ends], axis=1)])
    pairs = row[pairs[split[corner[pairs[:, 0]]]]]
    links = scipy.sparse.coo_matrix((np.ones(len(pairs), bool), (pairs[:, 0], pairs[:, 1])), (len(here), len(here)))
    corner[here] = places + scipy.sparse.csgraph.connected_components(links, directed=False)[1]
    return corner


def _end(half: Numbers) -> Numbers:
    """The corners at which half-edges end, which begin at the corners of their numbers."""
    corner: Numbers = 3 * (half // 3) + _NEXT[half % 3]
    return corner


def _unit(vectors: Array) -> Array:
    lengths = np.linalg.norm(vectors, axis=1, keepdims=True)
    unit: Array = np.divide(vectors, lengths, out=np.zeros_like(vectors), where=lengths > 0)
    return unit
