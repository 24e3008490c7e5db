"""VTK data from arrays: triangles with normals, lines, tubes and small marks."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkCommonMath import vtkMatrix4x4
from vtkmodules.vtkRenderingCore import vtkProp


def put_data(actor: vtkProp, data: vtkPolyData) -> None:
    """Let an actor, in space or on the picture, draw other data than before."""
    # the common base of the mappers does not declare what all of ours have
    mapper: Any = actor.GetMapper()  # type: ignore[attr-defined]
    mapper.SetInputData(data)


def _points(values: ArrayLike) -> vtkPoints:
    points = vtkPoints()
    points.SetDataTypeToDouble()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(values, float), deep=True))
    return points


def _cells(corners: NDArray[np.integer]) -> vtkCellArray:
    """Cells of equally many corners (n, k)."""
    array = vtkCellArray()
    flat = np.ascontiguousarray(corners, np.int64).ravel()
    array.SetData(corners.shape[1], numpy_to_vtkIdTypeArray(flat, deep=True))
    return array


def merged_surface(
    points: NDArray[np.float32],
    normals: NDArray[np.float32] | None,
    triangles: NDArray[np.int64],
    colours: NDArray[np.uint8],
    mapped: tuple[NDArray[np.float32], NDArray[np.float32]] | None = None,
) -> vtkPolyData:
    """Triangles (m, 3) over points (n, 3) with colours (n, 3) of 0 to 255, and normals (n, 3) unless they are to look flat.

    ``mapped`` are places on a texture (n, 2) and the directions of its u (n, 3).
    """
    data = _coloured(points, colours)
    if mapped is not None:
        data.GetPointData().SetTCoords(numpy_to_vtk(mapped[0], deep=True))
        tangents = numpy_to_vtk(mapped[1], deep=True)
        tangents.SetName("tangents")
        data.GetPointData().SetTangents(tangents)
    data.SetPolys(_cells(triangles))
    if normals is not None:
        data.GetPointData().SetNormals(numpy_to_vtk(normals, deep=True))
    return data


def merged_lines(points: NDArray[np.float32], lines: NDArray[np.int64], colours: NDArray[np.uint8]) -> vtkPolyData:
    """Lines (m, 2) over points (n, 3) with colours (n, 3) of 0 to 255."""
    data = _coloured(points, colours)
    data.SetLines(_cells(lines))
    return data


def _coloured(points: NDArray[np.float32], colours: NDArray[np.uint8]) -> vtkPolyData:
    data = vtkPolyData()
    held = vtkPoints()
    held.SetData(numpy_to_vtk(points, deep=True))
    data.SetPoints(held)
    data.GetPointData().SetScalars(numpy_to_vtk(colours, deep=True))
    return data


def segments(pairs: ArrayLike) -> vtkPolyData:
    """Separate lines from pairs of points (n, 2, 3)."""
    pairs = np.asarray(pairs, float).reshape(-1, 2, 3)
    data = vtkPolyData()
    data.SetPoints(_points(pairs.reshape(-1, 3)))
    data.SetLines(_cells(np.arange(2 * len(pairs)).reshape(-1, 2)))
    return data


def polygons_2d(corners: ArrayLike) -> vtkPolyData:
    """Flat polygons of corners (n, k, 2), in the plane z = 0."""
    corners = np.asarray(corners, float)
    count, sides = corners.shape[:2]
    data = vtkPolyData()
    data.SetPoints(_points(np.concatenate([corners, np.zeros((count, sides, 1))], axis=2).reshape(-1, 3)))
    data.SetPolys(_cells(np.arange(count * sides).reshape(count, sides)))
    return data


def polyline(points: ArrayLike) -> vtkPolyData:
    """One line through points (n, 3)."""
    points = np.asarray(points, float)
    data = vtkPolyData()
    data.SetPoints(_points(points))
    data.SetLines(_cells(np.arange(len(points))[None]))
    return data


def tube(points: ArrayLike, radius: float) -> vtkPolyData:
    """A tube of radius mm about a line through points (n, 3)."""
    # the filters take a while to load, and the window's start needs none of them
    from vtkmodules.vtkFiltersCore import vtkTubeFilter

    maker = vtkTubeFilter()
    maker.SetInputData(polyline(points))
    maker.SetRadius(radius)
    maker.SetNumberOfSides(8)
    maker.CappingOn()
    maker.Update()
    return maker.GetOutput()


def point_cloud(points: ArrayLike) -> vtkPolyData:
    """Points (n, 3) to put marks on."""
    data = vtkPolyData()
    data.SetPoints(_points(np.asarray(points, float).reshape(-1, 3)))
    return data


def vertices(points: ArrayLike) -> vtkPolyData:
    """Points as cells that VTK draws."""
    data = point_cloud(points)
    data.SetVerts(_cells(np.arange(data.GetNumberOfPoints()).reshape(-1, 1)))
    return data


def diamond() -> vtkPolyData:
    """A flat-faced octahedron of half width 1, the mark of a path's point."""
    corners = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], float)
    faces = [[i, j, k] for k in (4, 5) for i, j in ((0, 2), (2, 1), (1, 3), (3, 0))]
    data = vtkPolyData()
    data.SetPoints(_points(corners))
    data.SetPolys(_cells(np.array([face if face[2] == 4 else face[::-1] for face in faces])))
    return data


def vtk_matrix(values: ArrayLike, into: vtkMatrix4x4 | None = None) -> vtkMatrix4x4:
    """A (4, 4) array as VTK's matrix."""
    matrix = vtkMatrix4x4() if into is None else into
    matrix.DeepCopy(np.asarray(values, float).ravel().tolist())
    return matrix
