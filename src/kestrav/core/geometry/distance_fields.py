"""Signed distances of solids on grids, and surfaces drawn out of them. Lengths in mm."""

from __future__ import annotations

from collections.abc import Sequence

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.transforms import apply, inverse_rigid

Array = NDArray[np.float64]
Field = NDArray[np.float32]

_PAD = 3  # nodes around a solid
_NEAR = 4  # pieces of the surface nearest to a node that are measured exactly
_BAND = 3.0  # times the spacing within which distances are measured
_HAIR = 0.01  # of the spacing
_AT_ONCE = 200_000  # nodes measured together


class Grid(msgspec.Struct, frozen=True):
    """Distances at nodes (a, b, c) a ``spacing`` apart from a lowest corner (3,) on; below 0 inside."""

    low: Array
    spacing: float
    values: Field

    @property
    def box(self) -> Array:
        """Bounds (2, 3) of the nodes."""
        return np.array([self.low, self.low + self.spacing * (np.array(self.values.shape) - 1)])


def distance_grid(shapes: Sequence[Mesh], spacing: float) -> tuple[Grid, list[bool]]:
    """The signed distance of solids that belong together on one grid, and which of them had to be thickened: what closes no volume, or is
    so thin that no node lies well inside, is taken as thick as the spacing."""
    bounds = np.array([np.min([s.bounds[0] for s in shapes], axis=0), np.max([s.bounds[1] for s in shapes], axis=0)])
    space, thickened = empty_space(bounds, spacing), []
    for shape in shapes:
        first = np.floor((shape.bounds[0] - space.low) / spacing).astype(int) - _PAD + 1
        last = np.ceil((shape.bounds[1] - space.low) / spacing).astype(int) + _PAD
        window = tuple(slice(a, b) for a, b in zip(first, last, strict=True))
        nodes = space.low + spacing * np.stack(
            np.meshgrid(*(np.arange(a, b) for a, b in zip(first, last, strict=True)), indexing="ij"), -1
        )
        away, thick = _signed(shape, nodes.reshape(-1, 3), spacing)
        thickened.append(thick)
        space.values[window] = np.minimum(space.values[window], away.reshape(nodes.shape[:3]).astype(np.float32))
    return Grid(space.low, spacing, space.values), thickened


def _signed(shape: Mesh, nodes: Array, spacing: float) -> tuple[Array, bool]:
    away = surface_distance(shape, nodes, spacing)
    if shape.watertight:
        near_box = ((nodes >= shape.bounds[0]) & (nodes <= shape.bounds[1])).all(axis=1)
        inside = np.zeros(len(nodes), bool)
        inside[near_box] = shape.body.contains(nodes[near_box])
        signed = np.where(inside, -away, away)
        if signed.min() < -0.5 * spacing:
            return signed, False
    return away - 0.5 * spacing, True


def surface_distance(shape: Mesh, places: Array, spacing: float) -> Array:
    """How far (n,) places (n, 3) are from a surface: exactly near it, and a few times the ``spacing`` wherever it is farther."""
    import trimesh

    vertices, faces, index = trimesh.remesh.subdivide_to_size(  # type: ignore[no-untyped-call]
        shape.vertices, shape.triangles, spacing, max_iter=32, return_index=True
    )
    middles = vertices[faces].mean(axis=1)
    tree = scipy.spatial.cKDTree(middles)
    corners = shape.vertices[shape.triangles]
    surface_distance = np.empty(len(places))
    for start in range(0, len(places), _AT_ONCE):
        part = places[start : start + _AT_ONCE]
        rough, which = tree.query(part, k=min(_NEAR, len(middles)), distance_upper_bound=_BAND * spacing, workers=-1)
        rough, which = rough.reshape(len(part), -1), which.reshape(len(part), -1)
        best = np.minimum(rough[:, 0], _BAND * spacing)
        for k in range(which.shape[1]):
            close = np.flatnonzero(which[:, k] < len(middles))
            nearest = trimesh.triangles.closest_point(  # type: ignore[no-untyped-call]
                corners[index[which[close, k]]], part[close]
            )
            best[close] = np.minimum(best[close], np.linalg.norm(nearest - part[close], axis=1))
        surface_distance[start : start + _AT_ONCE] = best
    return surface_distance


class Space(msgspec.Struct, frozen=True):
    """A grid in space into which solids are put one after another; what holds any of them is below 0."""

    low: Array
    spacing: float
    values: Field

    def put(self, solid: Grid, pose: Array) -> None:
        """Put a solid's grid in at a pose (4, 4)."""

        there = (turned_bounds(solid.box, pose) - self.low) / self.spacing
        first = np.clip(np.floor(there[0]).astype(int), 0, self.values.shape)
        last = np.clip(np.ceil(there[1]).astype(int) + 1, 0, self.values.shape)
        window = tuple(slice(a, b) for a, b in zip(first, last, strict=True))
        # from nodes of the window to nodes of the solid's grid
        back = inverse_rigid(pose)
        start = (apply(back, (self.low + self.spacing * first)[None])[0] - solid.low) / solid.spacing
        values = scipy.ndimage.affine_transform(
            solid.values,
            back[:3, :3] * (self.spacing / solid.spacing),
            start,
            tuple(last - first),
            order=1,
            mode="nearest",
            prefilter=False,
        )
        np.minimum(self.values[window], values, out=self.values[window])

    def near(self) -> Near:
        """The nodes just outside."""
        flat = np.flatnonzero((self.values > 0) & (self.values < self.spacing))
        places = self.low + self.spacing * np.stack(np.unravel_index(flat, self.values.shape), axis=-1)
        return Near(flat, places, self.values.ravel()[flat])

    def take(self, near: Near) -> None:
        """Take in what was put in near the surface."""
        self.values.ravel()[near.nodes] = near.values

    def surface(self) -> Mesh:
        """The surface between inside and outside, closed (W. Lorensen and H. Cline, "Marching cubes", SIGGRAPH 1987)."""
        # a node just on the surface would make triangles without area
        hair = np.float32(_HAIR * self.spacing)
        values = np.where(np.abs(self.values) < hair, -hair, self.values)
        from skimage.measure import marching_cubes

        vertices, faces, _, _ = marching_cubes(  # type: ignore[no-untyped-call]
            values, 0.0, spacing=(self.spacing,) * 3
        )
        # its triangles face inwards, as what is inside is lower
        return Mesh(np.asarray(vertices, float) + self.low, np.asarray(faces[:, ::-1], np.int32))


class Near(msgspec.Struct, frozen=True):
    """Nodes (n,) just outside, where they are (n, 3), and what is known there (n,)."""

    nodes: NDArray[np.intp]
    places: Array
    values: Field

    def put(self, solid: Grid, pose: Array) -> None:
        """Put a solid's grid in at a pose (4, 4), at these nodes only."""

        low, high = turned_bounds(solid.box, pose)
        here = np.flatnonzero(((self.places > low) & (self.places < high)).all(axis=1))
        seen = (apply(inverse_rigid(pose), self.places[here]) - solid.low) / solid.spacing
        inside = ((seen > 0) & (seen < np.array(solid.values.shape) - 1)).all(axis=1)
        values = scipy.ndimage.map_coordinates(solid.values, seen[inside].T, order=1, prefilter=False)
        self.values[here[inside]] = np.minimum(self.values[here[inside]], values)


def empty_space(bounds: Array, spacing: float) -> Space:
    """A grid over bounds (2, 3) with room around, with nothing in it."""
    low = bounds[0] - _PAD * spacing
    count = np.ceil(np.ptp(bounds, axis=0) / spacing).astype(int) + 2 * _PAD + 1
    return Space(low, spacing, np.full(count, _PAD * spacing, np.float32))


def node_count(bounds: Array, spacing: float) -> int:
    """How many nodes such a grid has."""
    return int(np.prod(np.ceil(np.ptp(bounds, axis=0) / spacing) + 2 * _PAD + 1))
