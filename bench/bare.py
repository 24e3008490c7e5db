"""The demo's scene put together with VTK alone, for comparison."""

import numpy as np
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkCleanPolyData, vtkFeatureEdges, vtkPolyDataNormals
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper, vtkRenderer

from kestrav.core.kinematics.poses import world_poses
from kestrav.render.batches import EDGE_SHADE
from kestrav.render.palette import rgb
from kestrav.render.shapes import vtk_matrix
from kestrav.render.steady_light import light

SHARP = 32.0  # degrees, as Kestrav has it


def _merged(mesh):
    """A mesh as polygons that share their corners across faces."""
    points, cells, data = vtkPoints(), vtkCellArray(), vtkPolyData()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(mesh.vertices), deep=True))
    cells.SetData(3, numpy_to_vtkIdTypeArray(mesh.triangles.astype(np.int64).ravel(), deep=True))
    data.SetPoints(points)
    data.SetPolys(cells)
    clean = vtkCleanPolyData()
    clean.SetInputData(data)
    clean.ConvertPolysToLinesOff()
    clean.Update()
    return clean.GetOutput()


def surface(mesh):
    """A mesh with smooth normals split at sharp edges."""
    normals = vtkPolyDataNormals()
    normals.SetInputData(_merged(mesh))
    normals.SetFeatureAngle(SHARP)
    normals.SplittingOn()
    normals.ConsistencyOff()
    normals.Update()
    return normals.GetOutput()


def sharp_edges(mesh):
    """The lines along a mesh's sharp edges."""
    edges = vtkFeatureEdges()
    edges.SetInputData(_merged(mesh))
    edges.SetFeatureAngle(SHARP)
    edges.BoundaryEdgesOff()
    edges.NonManifoldEdgesOff()
    edges.ManifoldEdgesOff()
    edges.ColoringOff()
    edges.Update()
    return edges.GetOutput()


def bare_renderer(project, meshes, edges=True):
    """A renderer with an actor for each part, as VTK is commonly used; returns it and the actors by row."""
    renderer = vtkRenderer()
    light(renderer)
    drawn = {g.hash: (surface(meshes[g.hash]), sharp_edges(meshes[g.hash]), g.watertight) for g in project.geometry}
    poses = world_poses(project, [0.0])[0]
    actors = {}
    for row, part in enumerate(project.parts):
        if part.geometry is None:
            continue
        face, line, closed = drawn[part.geometry]
        for data, shade in ((face, 1.0), (line, EDGE_SHADE))[: 2 if edges else 1]:
            mapper = vtkPolyDataMapper()
            mapper.SetInputData(data)
            mapper.ScalarVisibilityOff()
            mapper.SetResolveCoincidentTopologyToPolygonOffset()
            actor = vtkActor()
            actor.SetMapper(mapper)
            actor.SetUserMatrix(vtk_matrix(poses[row]))
            look = actor.GetProperty()
            look.SetColor(*(shade * c for c in rgb(part.colour)))
            look.SetLighting(data is face)
            look.SetOpacity(part.opacity if data is face else 1.0)
            look.SetAmbient(0.34)
            look.SetDiffuse(0.72)
            look.SetSpecular(0.12)
            look.SetSpecularPower(22)
            look.SetBackfaceCulling(closed and part.opacity >= 1 and data is face)
            renderer.AddActor(actor)
            actors.setdefault(row, []).append(actor)
    return renderer, actors
