"""The studio that a shot's quality asks for: quick pictures, or finished ones by path tracing."""

from __future__ import annotations

from collections.abc import Mapping

from kestrav.core.document.records import Project, Shot
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.formats import Bits
from kestrav.render.picture import Studio
from kestrav.render.tracing.studio import FinishedStudio


def is_traced(shot: Shot) -> bool:
    """Whether a shot's pictures are path-traced; those that are drawn in lines or wires are quick in every quality."""
    return shot.quality == "finished" and shot.look == "studio"


def check_studio(shot: Shot, bits: Bits) -> None:
    """Raise BadInput where linear light is asked of what is not path-traced."""
    if bits == 32 and not is_traced(shot):
        raise BadInput(
            f"OpenEXR holds linear light, which only finished pictures have; the shot “{shot.name}” is "
            f"{'drawn in another style' if shot.quality == 'finished' else f'of the quality {shot.quality}'}: "
            "render it finished in the style studio, or to PNG"
        )


def studio_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    width: int,
    height: int,
    *,
    alpha: bool = False,
    bits: Bits = 8,
) -> Studio | FinishedStudio:
    """A studio for a shot's pictures in a size of its own. Raises BadInput as :func:`check_studio`."""
    check_studio(shot, bits)
    kind = FinishedStudio if is_traced(shot) else Studio
    return kind(project, meshes, shot, width, height, alpha=alpha, bits=bits)
