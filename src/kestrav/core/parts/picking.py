"""What a ray meets in the product: the part, its triangle, the place."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import pickable_parts, shown_parts
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, turned_bounds
from kestrav.core.geometry.rays import cast
from kestrav.core.parts.solids import solid_box, solid_mesh

Array = NDArray[np.float64]


class Pick(msgspec.Struct, frozen=True):
    """The part met, its row in the project, the triangle of its mesh, and the place (3,) in space."""

    part: str
    row: int
    triangle: int
    place: Array


class Pickable:
    """The parts that can be picked: shown, not locked, and among ``only`` when that is given."""

    def __init__(self, project: Project, meshes: Mapping[str, Mesh], only: frozenset[str] | None = None) -> None:
        boxes = {g.hash: g for g in project.geometry}
        open_to = shown_parts(project) & pickable_parts(project)
        if only is not None:
            open_to &= only
        chosen = [(row, part) for row, part in enumerate(project.parts) if part.geometry and part.id in open_to]
        self.of = (project.parts, only)
        self.ids = [part.id for _, part in chosen]
        self.rows = np.array([row for row, _ in chosen], np.intp)
        self.shapes = [solid_mesh(meshes, part) for _, part in chosen]
        self.boxes = np.sort(np.array([solid_box(boxes, part) for _, part in chosen], float).reshape(-1, 2, 3), axis=1)

    def pick(
        self, poses: Array, origin: ArrayLike, direction: ArrayLike, clip: tuple[Array, Array] | None = None
    ) -> Pick | None:
        """The first part that a ray meets, under world poses (parts, 4, 4).

        ``clip`` is a point and normal of a plane; what lies on the side that the normal shows is not there.
        """
        if not len(self.rows):
            return None
        here = poses[self.rows]
        hit = cast(origin, direction, self.shapes, here, turned_bounds(self.boxes, here), clip)
        if hit is None:
            return None
        return Pick(self.ids[hit.body], int(self.rows[hit.body]), hit.triangle, hit.place)
