"""Pictures of where things come too near: the pair as it is, all else faded, with the gap as a dimension line."""

from __future__ import annotations

import io
from collections.abc import Mapping
from typing import TYPE_CHECKING

import numpy as np
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.core.camera.sight import best_sight
from kestrav.core.clearance.breaches import Row
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project
from kestrav.core.findings.page import Figure
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.later import later
from kestrav.render.marks import Dimension
from kestrav.render.picture import Studio, plain_studio

if TYPE_CHECKING:
    from PIL import Image
else:
    Image = later("PIL.Image")

_SIZE = (720, 480)
_BACKGROUND = "#e9eded"
_REACH = 150.0  # mm about the place that are shown at least
_ANGLE = np.radians(32.0)  # that the picture is high
_UP = np.array([0.0, 0.0, 1.0])
_FROM = np.array([0.5, -0.8, 0.35])  # the side that is preferred to look from


def pictures_of(project: Project, meshes: Mapping[str, Mesh], rows: tuple[Row, ...], most: int = 4) -> list[Figure]:
    """Pictures of the worst places, one for each pair, worst first."""
    chosen: dict[frozenset[str], Row] = {}
    for row in rows:
        chosen.setdefault(frozenset((row.pair.moving, row.pair.other)), row)
    figures = list(chosen.values())[:most]
    if not figures:
        return []
    studio = plain_studio(project, meshes, *_SIZE, _BACKGROUND)
    try:
        studio.scene.show_in(studio.renderer, stage=True)
        # in front of everything, as in the stage
        over = vtkRenderer()
        over.SetLayer(1)
        over.InteractiveOff()
        over.SetActiveCamera(studio.renderer.GetActiveCamera())
        studio.window.SetNumberOfLayers(2)
        studio.window.AddRenderer(over)
        dimension = Dimension(over)
        return [_figure(studio, dimension, project, meshes, row) for row in figures]
    finally:
        studio.close()


def _figure(studio: Studio, dimension: Dimension, project: Project, meshes: Mapping[str, Mesh], row: Row) -> Figure:
    studio.scene.update(project, meshes, bright=frozenset((row.pair.moving, row.pair.other)))
    place, gap = np.array(row.place), np.array(row.points)
    reach = max(_REACH, 3 * float(np.linalg.norm(gap[0] - gap[1])))
    poses = world_poses(project, [row.time])[0]
    side = best_sight(project, meshes, poses, place, gap, _FROM / np.linalg.norm(_FROM), 6 * reach)
    away = reach / np.tan(0.5 * _ANGLE)
    dimension.show(gap, 2.4 * reach / _SIZE[1], breach=row.status in ("breached", "sampled"))
    seen = studio.picture_from(place + away * side, place, _UP, _ANGLE, poses, row.time)
    picture = io.BytesIO()
    Image.fromarray(seen).save(picture, format="PNG", compress_level=6)
    near = f"{-row.least:.2f} mm deep" if row.least < 0 else f"{row.least:.2f} mm"
    pair = f"{qualified_name(project, row.pair.moving)} to {qualified_name(project, row.pair.other)}"
    return Figure(picture.getvalue(), f"{pair}: {near} at {row.time:.3f} s, {row.required:g} mm required")
