"""The product as VTK actors, posed by arrays; shared by the stage, the lens and the film."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the renderer)
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkLight, vtkRenderer, vtkRenderWindow

from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.motion.poses import moving_groups, rest_poses
from kestrav.render.batches import Batch, Member, Outline, outline

Array = NDArray[np.float64]


class Scene:
    """A project's parts, merged into batches. One scene belongs to one render window."""

    def __init__(self) -> None:
        self.project: Project | None = None
        self.batches: list[Batch] = []
        self._groups: list[int] = []  # for each batch the row of the part that carries it, or -1
        self._outlines: dict[str, Outline] = {}
        self._renderers: dict[vtkRenderer, bool] = {}  # and whether edges are shown there
        self._drawn: tuple[object, dict[str, int]] | None = None
        self._poses: Array | None = None
        self._rest: Array = np.empty((0, 4, 4))

    def show_in(self, renderer: vtkRenderer, edges: bool = True) -> None:
        """Show the parts in a renderer, present and future ones, with or without their sharp edges.

        Said again, it changes whether edges are shown.
        """
        fresh = renderer not in self._renderers
        self._renderers[renderer] = edges
        for batch in self.batches:
            if fresh:
                renderer.AddActor(batch.surface)
            (renderer.AddActor if edges else renderer.RemoveActor)(batch.edges)

    def update(self, project: Project, meshes: Mapping[str, Mesh]) -> None:
        """Follow an edit. What moves as one is one batch, so a new rider makes the batches anew as well."""
        groups = moving_groups(project)
        if self._drawn is not None and self._drawn[0] is project.parts and self._drawn[1] == groups:
            self.project = project
            return
        for renderer in self._renderers:
            for batch in self.batches:
                renderer.RemoveActor(batch.surface)
                renderer.RemoveActor(batch.edges)
        self.project, self._drawn, self._poses = project, (project.parts, groups), None
        self._rest = rest_poses(project)
        self.batches, self._groups = [], []
        for (group, opacity, closed), members in self._sorted(project, meshes, groups).items():
            self.batches.append(Batch(members, opacity, closed))
            self._groups.append(group)
        for renderer, edges in self._renderers.items():
            for batch in self.batches:
                renderer.AddActor(batch.surface)
                if edges:
                    renderer.AddActor(batch.edges)

    def _sorted(
        self, project: Project, meshes: Mapping[str, Mesh], groups: Mapping[str, int]
    ) -> dict[tuple[int, float, bool], list[Member]]:
        """The shown parts by the row that carries them, their opacity and whether they are closed solids."""
        closed = {g.hash: g.watertight for g in project.geometry}
        found: dict[tuple[int, float, bool], list[Member]] = {}
        shown = shown_parts(project)
        for row, part in enumerate(project.parts):
            if part.geometry is None or part.id not in shown:
                continue
            key = (groups.get(part.id, -1), part.opacity, closed.get(part.geometry, False))
            found.setdefault(key, []).append(self.member(project, meshes, row))
        return found

    def member(self, project: Project, meshes: Mapping[str, Mesh], row: int) -> Member:
        """A part as it stands at rest."""
        part = project.parts[row]
        assert part.geometry is not None
        if part.geometry not in self._outlines:
            self._outlines[part.geometry] = outline(meshes[part.geometry])
        return Member(part.id, self._outlines[part.geometry], self._rest[row], part.colour)

    def pose(self, poses: Array) -> None:
        """Place everything by world matrices (parts, 4, 4) of the project last given to :meth:`update`."""
        self._poses = poses
        for batch, group in zip(self.batches, self._groups, strict=True):
            batch.place(self.displacement(group))

    def displacement(self, group: int) -> Array:
        """How a group has moved from rest, as a matrix; it is rigid, so its carrying part tells for all."""
        if group < 0 or self._poses is None:
            return np.eye(4)
        moved: Array = self._poses[group] @ inverse_rigid(self._rest[group])
        return moved

    def part_of(self, actor: object, cell: int) -> str | None:
        """The part that a cell of an actor shows."""
        return next((batch.part_of(cell) for batch in self.batches if batch.surface is actor), None)

    def shown_parts(self) -> list[str]:
        """Ids of the parts that are drawn."""
        return [m.part for batch in self.batches for m in batch.members]

    def outlines_of(self, part_ids: Iterable[str]) -> list[tuple[int, list[Member]]]:
        """These parts' members by the row that carries them."""
        wanted = set(part_ids)
        found: dict[int, list[Member]] = {}
        for batch, group in zip(self.batches, self._groups, strict=True):
            members = [m for m in batch.members if m.part in wanted]
            if members:
                found.setdefault(group, []).extend(members)
        return list(found.items())


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
    # renderers of one window share shaders; VTK gives them their lights' directions anew only where a
    # light has changed since, or one renderer would be lit as the other's camera stands
    lights = renderer.GetLights()
    lights.InitTraversal()
    while (lamp := lights.GetNextItem()) is not None:
        lamp.Modified()
    camera.SetPosition(*position)
    camera.SetFocalPoint(*target)
    camera.SetViewUp(*up)
    camera.SetViewAngle(float(np.degrees(vertical_angle)))
    away = float(np.linalg.norm(np.asarray(target) - np.asarray(position)))
    camera.SetClippingRange(max(10.0, 0.002 * away), away + reach)
