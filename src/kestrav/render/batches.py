"""Many parts as few drawings: parts that move as one are merged, each with its colour at its vertices.

A graphics driver spends about as long on a drawing of ten triangles as on one of ten thousand, so an
assembly of hundreds of parts is drawn as a handful of merged bodies.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from kestrav.core.geometry.meshes import Mesh
from kestrav.render.palette import rgb
from kestrav.render.shapes import merged_lines, merged_surface, sharp_edges, surface, vtk_matrix

Array = NDArray[np.float64]

EDGE_SHADE = 0.45  # an edge is the part's own colour, darkened: black lines would shout


@dataclass(frozen=True)
class Outline:
    """What is drawn of one geometry: surface with normals, and the lines along its sharp edges."""

    points: NDArray[np.float32]
    normals: NDArray[np.float32]
    triangles: NDArray[np.int64]
    edge_points: NDArray[np.float32]
    edges: NDArray[np.int64]


def outline(mesh: Mesh) -> Outline:
    """Work out what is drawn of a mesh."""
    face, line = surface(mesh), sharp_edges(mesh)
    return Outline(
        vtk_to_numpy(face.GetPoints().GetData()).astype(np.float32),
        vtk_to_numpy(face.GetPointData().GetNormals()).astype(np.float32),
        vtk_to_numpy(face.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int64),
        _points(line),
        vtk_to_numpy(line.GetLines().GetConnectivityArray()).reshape(-1, 2).astype(np.int64)
        if line.GetNumberOfLines()
        else np.empty((0, 2), np.int64),
    )


def _points(data: vtkPolyData) -> NDArray[np.float32]:
    if not data.GetNumberOfPoints():
        return np.empty((0, 3), np.float32)
    return vtk_to_numpy(data.GetPoints().GetData()).astype(np.float32)


@dataclass(frozen=True)
class Member:
    """A part within a batch: its outline, its place in the batch, its colour."""

    part: str
    outline: Outline
    matrix: Array
    colour: str


class Batch:
    """Parts that move as one, as a surface actor and an edge actor under one matrix."""

    def __init__(self, members: Sequence[Member], opacity: float, closed: bool) -> None:
        self.members = tuple(members)
        self.last_cells = np.cumsum([len(m.outline.triangles) for m in members])
        self.matrix = vtk_matrix(np.eye(4))
        self.surface = _actor(surface_of(members), self.matrix)
        look = self.surface.GetProperty()
        look.SetOpacity(opacity)
        look.SetAmbient(0.34)
        look.SetDiffuse(0.72)
        look.SetSpecular(0.12)
        look.SetSpecularPower(22)
        # the far side of a closed solid is never seen, unless the solid is see-through
        look.SetBackfaceCulling(closed and opacity >= 1)
        self.edges = _actor(edges_of(members, lambda m: m.colour, EDGE_SHADE), self.matrix)
        self.edges.GetProperty().SetLighting(False)
        self.edges.PickableOff()

    def part_of(self, cell: int) -> str:
        """The part that a cell of the surface belongs to."""
        return self.members[int(np.searchsorted(self.last_cells, cell, side="right"))].part

    def place(self, matrix: Array) -> None:
        """Put the whole batch somewhere."""
        vtk_matrix(matrix, self.matrix)


def _actor(data: vtkPolyData, matrix: object) -> vtkActor:
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.SetColorModeToDirectScalars()
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    actor = vtkActor()
    actor.SetMapper(mapper)
    actor.SetUserMatrix(matrix)
    return actor


def surface_of(members: Sequence[Member]) -> vtkPolyData:
    """The members' surfaces in the batch's coordinates, with normals and colours."""
    points, normals, triangles, colours = [], [], [], []
    count = 0
    for m in members:
        turn, shift = m.matrix[:3, :3].astype(np.float32), m.matrix[:3, 3].astype(np.float32)
        points.append(m.outline.points @ turn.T + shift)
        normals.append(m.outline.normals @ turn.T)
        triangles.append(m.outline.triangles + count)
        colours.append(_shades(m.colour, 1.0, len(m.outline.points)))
        count += len(m.outline.points)
    return merged_surface(
        _joined(points, 3), _joined(normals, 3), _joined(triangles, 3, np.int64), _joined(colours, 3, np.uint8)
    )


def edges_of(members: Sequence[Member], colour: Callable[[Member], str], shade: float) -> vtkPolyData:
    """The members' sharp edges in the batch's coordinates."""
    points, lines, colours = [], [], []
    count = 0
    for m in members:
        turn, shift = m.matrix[:3, :3].astype(np.float32), m.matrix[:3, 3].astype(np.float32)
        points.append(m.outline.edge_points @ turn.T + shift)
        lines.append(m.outline.edges + count)
        colours.append(_shades(colour(m), shade, len(m.outline.edge_points)))
        count += len(m.outline.edge_points)
    return merged_lines(_joined(points, 3), _joined(lines, 2, np.int64), _joined(colours, 3, np.uint8))


def _shades(colour: str, shade: float, count: int) -> NDArray[np.uint8]:
    return np.tile(np.rint(255 * shade * np.array(rgb(colour))).astype(np.uint8), (count, 1))


def _joined(arrays: list[NDArray], width: int, kind: type = np.float32) -> NDArray:  # type: ignore[type-arg]
    return np.concatenate(arrays).astype(kind) if arrays else np.empty((0, width), kind)
