"""From a part to its solid: the geometry it names, under its own scale."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec
import numpy as np

from kestrav.core.document.records import Geometry, Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.bores import bore_middle
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.memo import Memo

_scaled: Memo[Mesh] = Memo(1024)


def solid_mesh(meshes: Mapping[str, Mesh], part: Part) -> Mesh:
    """A part's mesh in its own coordinates, its scale applied. Raises BadInput when it is not loaded."""
    if part.geometry is None or part.geometry not in meshes:
        raise BadInput(f"the geometry of the part “{part.name}” is not loaded")
    shape = meshes[part.geometry]
    if part.scale == (1.0, 1.0, 1.0):
        return shape
    return _scaled.get((), lambda: shape.moved(np.diag([*part.scale, 1.0])), part.geometry, part.scale)


def solid_box(boxes: Mapping[str, Geometry], part: Part) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """Lowest and highest corner of a part in its own coordinates, its scale applied."""
    assert part.geometry is not None
    box = boxes[part.geometry]
    low = tuple(v * s for v, s in zip(box.low, part.scale, strict=True))
    high = tuple(v * s for v, s in zip(box.high, part.scale, strict=True))
    return low, high


def geometry_record(shape: Mesh) -> Geometry:
    """What the document says of a mesh."""
    low, high = (vector(row) for row in shape.bounds)
    bore = bore_middle(shape)
    middle = None if bore is None else vector(np.round(bore, 6))
    return Geometry(shape.hash, len(shape.triangles), low, high, shape.watertight, middle)


def with_meshes(project: Project, shapes: Iterable[Mesh]) -> Project:
    """The project listing these meshes as well; list them before parts name them."""
    known = {g.hash for g in project.geometry}
    fresh = {shape.hash: shape for shape in shapes if shape.hash not in known}
    if not fresh:
        return project
    records = tuple(geometry_record(shape) for shape in fresh.values())
    return msgspec.structs.replace(project, geometry=(*project.geometry, *records))


def without_unused(project: Project) -> Project:
    """The project without geometry and sources that no part names."""
    used = {part.geometry for part in project.parts}
    sources = {part.source for part in project.parts}
    if all(g.hash in used for g in project.geometry) and all(s.id in sources for s in project.sources):
        return project
    return msgspec.structs.replace(
        project,
        geometry=tuple(g for g in project.geometry if g.hash in used),
        sources=tuple(s for s in project.sources if s.id in sources),
    )
