"""The product as VTK actors, posed by arrays; shared by the stage, the lens and the film."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the renderer)
from numpy.typing import NDArray
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkLight, vtkPolyDataMapper, vtkRenderer, vtkRenderWindow

from kestrav.core.document.lookup import is_shown
from kestrav.core.document.records import Part, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.palette import INK, rgb
from kestrav.render.shapes import sharp_edges, surface, vtk_matrix

Array = NDArray[np.float64]


class Scene:
    """Actors of a project's parts. One scene belongs to one render window."""

    def __init__(self) -> None:
        self.project: Project | None = None
        self.actors: dict[str, vtkActor] = {}
        self.edges: dict[str, vtkActor] = {}
        self._surfaces: dict[str, vtkPolyData] = {}
        self._lines: dict[str, vtkPolyData] = {}
        self._renderers: list[vtkRenderer] = []
        self._poses: Array | None = None
        self._rows: dict[str, int] = {}

    def show_in(self, renderer: vtkRenderer) -> None:
        """Show the parts in a renderer, present and future ones."""
        self._renderers.append(renderer)
        for actor in (*self.actors.values(), *self.edges.values()):
            renderer.AddActor(actor)

    def update(self, project: Project, meshes: Mapping[str, Mesh]) -> None:
        """Follow an edit: new, gone and changed parts. Poses stay until :meth:`pose`."""
        if self.project is not None and project.parts is self.project.parts:
            self.project = project
            return
        wanted = {part.id: part for part in project.parts if part.geometry is not None}
        for part_id in [i for i in self.actors if i not in wanted]:
            for table in (self.actors, self.edges):
                actor = table.pop(part_id)
                for renderer in self._renderers:
                    renderer.RemoveActor(actor)
        for part in wanted.values():
            self._dress(project, part, meshes)
        self.project = project
        self._rows = {part.id: i for i, part in enumerate(project.parts)}
        self._poses = None

    def _dress(self, project: Project, part: Part, meshes: Mapping[str, Mesh]) -> None:
        key, shown = part.geometry or "", is_shown(project, part.id)
        if key not in self._surfaces:
            self._surfaces[key], self._lines[key] = surface(meshes[key]), sharp_edges(meshes[key])
        if part.id not in self.actors:
            self.actors[part.id] = self._actor()
            line = self.edges[part.id] = self._actor()
            line.GetProperty().SetColor(*rgb(INK))
            line.GetProperty().SetLighting(False)
            line.GetProperty().SetLineWidth(1.0)
            line.PickableOff()
        actor, line = self.actors[part.id], self.edges[part.id]
        for one, data in ((actor, self._surfaces[key]), (line, self._lines[key])):
            if one.GetMapper().GetInput() is not data:
                one.GetMapper().SetInputData(data)
            one.SetVisibility(shown)
        look = actor.GetProperty()
        look.SetColor(*rgb(part.colour))
        look.SetOpacity(part.opacity)
        look.SetAmbient(0.34)
        look.SetDiffuse(0.72)
        look.SetSpecular(0.12)
        look.SetSpecularPower(22)
        # the far side of a closed solid is never seen, unless the solid is see-through
        closed = next((g.watertight for g in project.geometry if g.hash == key), False)
        look.SetBackfaceCulling(closed and part.opacity >= 1)
        # the edge is the part's own colour, darkened: black lines would shout
        line.GetProperty().SetColor(*(0.45 * c for c in rgb(part.colour)))

    def _actor(self) -> vtkActor:
        mapper = vtkPolyDataMapper()
        mapper.ScalarVisibilityOff()
        mapper.SetResolveCoincidentTopologyToPolygonOffset()
        actor = vtkActor()
        actor.SetMapper(mapper)
        actor.SetUserMatrix(vtk_matrix(np.eye(4)))
        for renderer in self._renderers:
            renderer.AddActor(actor)
        return actor

    def pose(self, poses: Array) -> None:
        """Place every part by world matrices (parts, 4, 4) of the project last given to :meth:`update`."""
        changed = np.ones(len(poses), bool)
        if self._poses is not None and len(self._poses) == len(poses):
            changed = (self._poses != poses).any(axis=(1, 2))
        for part_id, actor in self.actors.items():
            row = self._rows[part_id]
            if changed[row]:
                for one in (actor, self.edges[part_id]):
                    vtk_matrix(poses[row], one.GetUserMatrix())
        self._poses = poses.copy()

    def part_of(self, actor: object) -> str | None:
        """The part that an actor shows."""
        return next((part_id for part_id, mine in self.actors.items() if mine is actor), None)


def light(renderer: vtkRenderer) -> None:
    """A steady key light from the front right above, a weaker one from the left, and one at the viewer."""
    renderer.AutomaticLightCreationOff()
    renderer.RemoveAllLights()
    for position, strength in (((0.55, -0.75, 1.1), 0.85), ((-1.0, -0.2, 0.5), 0.35)):
        lamp = vtkLight()
        lamp.SetLightTypeToSceneLight()
        lamp.SetPositional(False)
        lamp.SetPosition(*position)
        lamp.SetFocalPoint(0.0, 0.0, 0.0)
        lamp.SetIntensity(strength)
        renderer.AddLight(lamp)
    head = vtkLight()
    head.SetLightTypeToHeadlight()
    head.SetIntensity(0.3)
    renderer.AddLight(head)


def is_software(window: vtkRenderWindow) -> bool:
    """Whether a window that has been drawn once is rendered by the processor."""
    report = window.ReportCapabilities().lower()
    return any(name in report for name in ("llvmpipe", "softpipe", "swrast", "swiftshader"))


def aim_camera(
    renderer: vtkRenderer, position: Array, target: Array, up: Array, vertical_angle: float, reach: float
) -> None:
    """Point a renderer's camera; ``reach`` in mm is how far behind the target things may lie."""
    camera = renderer.GetActiveCamera()
    camera.SetPosition(*position)
    camera.SetFocalPoint(*target)
    camera.SetViewUp(*up)
    camera.SetViewAngle(float(np.degrees(vertical_angle)))
    away = float(np.linalg.norm(np.asarray(target) - np.asarray(position)))
    camera.SetClippingRange(max(10.0, 0.002 * away), away + reach)
