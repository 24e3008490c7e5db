"""The demo's scene put together with VTK alone, for comparison."""

from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper, vtkRenderer

from kestrav.core.motion.poses import world_poses
from kestrav.render.batches import EDGE_SHADE
from kestrav.render.palette import rgb
from kestrav.render.scene import light
from kestrav.render.shapes import sharp_edges, surface, vtk_matrix


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
