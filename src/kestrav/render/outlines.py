"""What is drawn of each geometry, worked out at once, or of large products meanwhile: first as it is, then smooth and with its edges."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Collection, Hashable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.smoothing import smoothed

AT_ONCE = 120_000  # triangles that are worked out while the person waits
EACH = 400  # triangles that take as long as what a geometry takes however small it is


@dataclass(frozen=True)
class Outline:
    """What is drawn of one geometry: surface with normals (none yet, and so flat, while it is ``rough``), and the lines along its sharp edges."""

    points: NDArray[np.float32]
    normals: NDArray[np.float32] | None
    triangles: NDArray[np.int64]
    tints: tuple[str, ...]  # colours of points that are not in the part's own
    tint_of: NDArray[np.int64] | None
    edge_points: NDArray[np.float32]
    edges: NDArray[np.int64]

    @property
    def rough(self) -> bool:
        """Whether its normals and edges are not worked out yet."""
        return self.normals is None


def outline(mesh: Mesh, edges: bool = True) -> Outline:
    """Work out what is drawn of a mesh, with or without its sharp edges."""
    found = smoothed(mesh)
    ends = found.sharp if edges else np.empty((0, 2, 3))
    return Outline(
        found.points.astype(np.float32),
        found.normals.astype(np.float32),
        found.triangles,
        mesh.tints,
        None if mesh.tint_of is None else mesh.tint_of[found.of].astype(np.int64),
        ends.reshape(-1, 3).astype(np.float32),
        np.arange(2 * len(ends)).reshape(-1, 2),
    )


def rough_outline(mesh: Mesh) -> Outline:
    """A mesh as it is: flat facets, no edges."""
    points, triangles, tint_of = mesh.vertices, mesh.triangles.astype(np.int64), None
    if mesh.tint_of is not None:
        # facets of several tints share no points
        points, triangles = mesh.vertices[mesh.triangles.reshape(-1)], np.arange(3 * len(triangles)).reshape(-1, 3)
        tint_of = np.repeat(mesh.tint_of, 3).astype(np.int64)
    none = np.empty((0, 3), np.float32)
    return Outline(points.astype(np.float32), None, triangles, mesh.tints, tint_of, none, np.empty((0, 2), np.int64))


@dataclass(eq=False)
class Outlines:
    """The outlines of geometries by their keys. What need not be there at once is rough first, and worked out by a thread of its own."""

    known: dict[Hashable, Outline] = field(default_factory=dict)
    _wanted: dict[Hashable, tuple[Mesh, bool]] = field(default_factory=dict)
    _thread: threading.Thread | None = None

    def of(self, key: Hashable, mesh: Mesh, edges: bool, now: bool) -> Outline:
        """The outline of a mesh, with or without sharp edges; rough if it need not be there ``now``."""
        self._wanted.pop(key, None)
        if now:
            self.known[key] = outline(mesh, edges)
        else:
            self.known[key], self._wanted[key] = rough_outline(mesh), (mesh, edges)
        return self.known[key]

    def want_only(self, keys: Collection[Hashable]) -> None:
        """Do not work out what is not among keys any more, as of a project that was left."""
        for key in self._wanted.keys() - set(keys):
            self._wanted.pop(key, None)
            self.known.pop(key, None)

    @property
    def waiting(self) -> bool:
        """Whether some are being worked out still; a thread that does is begun."""
        alive = self._thread is not None and self._thread.is_alive()
        if self._wanted and not alive:
            self._thread = threading.Thread(target=self._work, args=(threading.main_thread(),), daemon=True)
            self._thread.start()
        return alive or bool(self._wanted)

    def _work(self, main: threading.Thread) -> None:
        while main.is_alive():
            try:
                key, (mesh, edges) = self._wanted.popitem()
            except KeyError:
                return
            # one that fails stays rough, and is not tried again
            with contextlib.suppress(MemoryError, ValueError):
                self.known[key] = outline(mesh, edges)
