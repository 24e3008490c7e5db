"""The studio that a shot's quality asks for: quick pictures, or finished ones by path tracing."""

from __future__ import annotations

from collections.abc import Mapping

from kestrav.core.document.records import Project, Shot
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.picture import Studio
from kestrav.render.tracing.studio import FinishedStudio


def is_traced(shot: Shot) -> bool:
    """Whether a shot's pictures are path-traced; those that are drawn in lines or wires, or cut open, are quick in every quality."""
    return shot.quality == "finished" and shot.look == "studio" and shot.section is None


def studio_of(
    project: Project, meshes: Mapping[str, Mesh], shot: Shot, width: int, height: int, alpha: bool = False
) -> Studio | FinishedStudio:
    """A studio for a shot's pictures in a size of its own."""
    made = FinishedStudio if is_traced(shot) else Studio
    return made(project, meshes, shot, width, height, alpha)
