"""The bodies of a project, and which pairs of them move to each other. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.depth import Solid
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.models import model
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]


class Pair(msgspec.Struct, frozen=True):
    """Two parts: the moving one first."""

    moving: str
    other: str


class Bodies(msgspec.Struct):
    """Arrays over the bodies (parts with geometry that are shown) and over the pairs between them."""

    ids: list[str]
    rows: NDArray[np.intp]
    meshes: list[Mesh]
    boxes: Array
    models: list[Any]
    watertight: list[bool]
    still: NDArray[np.bool_]
    first: NDArray[np.intp] = msgspec.field(default_factory=lambda: np.empty(0, np.intp))
    second: NDArray[np.intp] = msgspec.field(default_factory=lambda: np.empty(0, np.intp))

    def solid(self, k: int) -> Solid:
        """A body by its number, as interference is measured of."""
        return Solid(self.meshes[k], self.models[k], self.watertight[k])

    def pairs(self) -> list[tuple[str, str]]:
        """The ids of the bodies of each pair, the moving one first."""
        return [(self.ids[a], self.ids[b]) for a, b in zip(self.first, self.second, strict=True)]


def bodies_of(project: Project, meshes: Mapping[str, Mesh]) -> Bodies:
    """Every shown solid, and the pairs of which at least one moves, and not with the other."""
    closed = {g.hash: g.watertight for g in project.geometry}
    shown = shown_parts(project)
    chosen = [(row, part) for row, part in enumerate(project.parts) if part.geometry is not None and part.id in shown]
    group = moving_groups(project)
    shapes = [solid_mesh(meshes, part) for _, part in chosen]
    groups = np.array([group.get(part.id, -1) for _, part in chosen], int)
    bodies = Bodies(
        [part.id for _, part in chosen],
        np.array([row for row, _ in chosen], np.intp),
        shapes,
        np.array([m.bounds for m in shapes]).reshape(-1, 2, 3),
        [model(m) for m in shapes],
        [closed.get(part.geometry or "", False) for _, part in chosen],
        groups < 0,
    )
    moving = np.flatnonzero(groups >= 0)
    first = np.repeat(moving, len(chosen))
    second = np.tile(np.arange(len(chosen)), len(moving))
    # two moving bodies make one pair, not two
    keep = (groups[first] != groups[second]) & ((groups[second] < 0) | (groups[first] < groups[second]))
    bodies.first, bodies.second = first[keep], second[keep]
    return bodies


def moving_pairs(project: Project, meshes: Mapping[str, Mesh]) -> list[tuple[str, str]]:
    """Pairs of shown solids of which at least one moves, and not with the other; the moving one first."""
    return bodies_of(project, meshes).pairs()
