"""What stands about a camera, as rigid bodies that rays and distances are asked of. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import shown_parts, subtree
from kestrav.core.document.records import Project
from kestrav.core.finishes.applied import finishes_of, lets_through
from kestrav.core.geometry.meshes import Mesh, joined, turned_bounds
from kestrav.core.geometry.rays import Tree
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.motion_segments import moving_state
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

STILL = -1  # the row of what nothing moves


class Body(msgspec.Struct, eq=False, dict=True):
    """Shown parts that move as one, in the coordinates of the part in whose row their pose stands (of what is still: the room).

    For each part there are its row, its place (4, 4) and its bounds (2, 3) within the body. ``faint`` names what it
    belongs to that may be shown faint.
    """

    row: int
    rows: tuple[int, ...]
    shapes: tuple[Mesh, ...]
    places: Array
    clear: NDArray[np.bool_]  # which parts are see-through
    faint: str = ""

    @cached_property
    def boxes(self) -> Array:
        """Bounds (k, 2, 3) of its parts."""
        return turned_bounds(np.stack([s.bounds for s in self.shapes]), self.places)

    @cached_property
    def ball(self) -> tuple[Array, float]:
        """A ball around it: middle (3,) and radius."""
        low, high = self.boxes[:, 0].min(axis=0), self.boxes[:, 1].max(axis=0)
        return 0.5 * (low + high), 0.5 * float(np.linalg.norm(high - low))

    def _tree(self, which: NDArray[np.intp]) -> Tree | None:
        if not len(which):
            return None
        return Tree(joined([_placed(self.shapes[k], self.places[k]) for k in which]))

    @cached_property
    def opaque(self) -> Tree | None:
        """Its parts that hide what is behind them."""
        return self._tree(np.flatnonzero(~self.clear))

    @cached_property
    def whole(self) -> Tree | None:
        """All its parts."""
        return self.opaque if not self.clear.any() else self._tree(np.arange(len(self.shapes)))

    def poses(self, poses: Array) -> Array:
        """Its own poses (n, 4, 4) among world poses (n, parts, 4, 4)."""
        return np.broadcast_to(np.eye(4), (len(poses), 4, 4)) if self.row == STILL else poses[:, self.row]


def _placed(shape: Mesh, place: Array) -> Mesh:
    return Mesh(apply(place, shape.vertices), shape.triangles)


_bodies: Memo[tuple[Body, ...]] = Memo(8)
_of_parts: Memo[tuple[Body, ...]] = Memo(8)  # the last ones of the same parts, whatever moves them


def bodies(project: Project, meshes: Mapping[str, Mesh], apart: tuple[str, ...] = ()) -> tuple[Body, ...]:
    """The shown parts of a project by what they move with; the things ``apart`` and what is in them are bodies by themselves.

    Kept for as long as the parts and what moves them are the same. Swept spaces are not there.
    """
    finishes = finishes_of(project, project.colourway)

    def made() -> tuple[Body, ...]:
        groups = moving_groups(project)
        # an edit of a run's time leaves the bodies as they are
        earlier = _of_parts.known((project.parts, meshes, finishes), apart)
        if earlier is not None and _groups_of(earlier, project) == groups:
            return earlier
        new = _bodies_of_scene(project, meshes, apart, groups)
        _of_parts.put((project.parts, meshes, finishes), new, apart)
        return new

    return _bodies.get((*moving_state(project), meshes, finishes), made, apart)


def _groups_of(bodies: tuple[Body, ...], project: Project) -> dict[str, int]:
    """The rows that moving solids move with, as bodies have it."""
    return {project.parts[row].id: body.row for body in bodies if body.row != STILL for row in body.rows}


def _bodies_of_scene(
    project: Project, meshes: Mapping[str, Mesh], apart: tuple[str, ...], groups: Mapping[str, int]
) -> tuple[Body, ...]:
    rest, shown, finishes = rest_poses(project), shown_parts(project), finishes_of(project, project.colourway)
    belongs = {inner: thing for thing in apart for inner in subtree(project, thing)}
    together: dict[tuple[int, str], list[int]] = {}
    for row, part in enumerate(project.parts):
        if part.geometry is not None and part.id in shown and part.swept is None:
            together.setdefault((groups.get(part.id, STILL), belongs.get(part.id, "")), []).append(row)
    bodies = []
    for (leader, faint), members in together.items():
        parts = [project.parts[row] for row in members]
        back = np.eye(4) if leader == STILL else inverse_rigid(rest[leader])
        clear = np.array([p.opacity < 1 or lets_through(finishes.get(p.id)) for p in parts])
        shapes = tuple(solid_mesh(meshes, p) for p in parts)
        bodies.append(Body(leader, tuple(members), shapes, back @ rest[members], clear, faint))
    return tuple(bodies)
