"""A product taken for another unit: all of it at once, its geometry too, so that no scale is left behind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np

from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import Part, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.parts.placeholders import bake_scales
from kestrav.core.parts.placing import scale
from kestrav.core.parts.solids import solid_mesh


def in_other_unit(
    project: Project, meshes: Mapping[str, Mesh], part_ids: Sequence[str], factor: float
) -> tuple[Project, dict[str, Mesh]]:
    """The project with outermost parts and assemblies ``factor`` times as large about the room's origin, as if their file had been in
    another unit, and the meshes made for it. Raises BadInput for a factor that is not above 0."""
    converted: dict[str, Mesh] = {}
    for part_id in part_ids:
        project = scale(project, part_id, factor, (0.0, 0.0, 0.0))
        shapes = {}
        for inner in subtree(project, part_id):
            part = get(project, inner)
            # a scale that a person gave a part is left to it
            if isinstance(part, Part) and part.geometry is not None and np.allclose(part.scale, factor, rtol=1e-12):
                key = (part.geometry, part.scale)
                if key not in shapes:
                    shapes[key] = solid_mesh(meshes, part)
        project = bake_scales(project, shapes, part_id)
        converted |= {shape.hash: shape for shape in shapes.values()}
    sources = {part.source for i in part_ids for part in [get(project, i)] if isinstance(part, Part)}
    read = tuple(
        msgspec.structs.replace(source, unit=source.unit * factor) if source.id in sources else source
        for source in project.sources
    )
    return msgspec.structs.replace(project, sources=read), converted
