"""What is drawn of each geometry, worked out at once, or of large products meanwhile: first as it is, then smooth and with its edges."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Collection, Hashable, Iterable
from typing import Any

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import vtk_to_numpy

from kestrav.core.document.surfaces import Finish
from kestrav.core.finishes.textures import structure_pixels
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.smooth_normals import smoothed
from kestrav.render.shapes import merged_surface

AT_ONCE = 120_000  # triangles that are worked out while the person waits
EACH = 400  # triangles that take as long as what a geometry takes however small it is
COARSE_FROM = 80  # triangles of a mesh that has a coarse form
_COARSE_SHARE = 0.05  # of its triangles that a coarse form has, about
_PER_BIN = (
    12.0  # triangles of a shape about as wide as it is high, for each square of as many bins along a side as it has
)
_FEWEST_BINS = 4  # along the longest side
_BOX_FACES = np.array(
    [
        [0, 1, 3],
        [0, 3, 2],
        [4, 6, 7],
        [4, 7, 5],
        [0, 4, 5],
        [0, 5, 1],
        [2, 3, 7],
        [2, 7, 6],
        [0, 2, 6],
        [0, 6, 4],
        [1, 5, 7],
        [1, 7, 3],
    ]
)  # of corners whose last coordinate changes first


class Outline(msgspec.Struct, frozen=True):
    """What is drawn of one geometry: surface with normals (none yet, and so flat, while it is ``rough``), and the lines along its sharp edges.

    ``middle`` (3,) is that of its box, ``coarse`` what is drawn of a large one while the view of a large product moves. ``uv`` are the places
    of triangles' corners (m, 3, 2) on the pictures of a finish."""

    points: NDArray[np.float32]
    normals: NDArray[np.float32] | None
    triangles: NDArray[np.int64]
    tints: tuple[str, ...]  # colours of points that are not in the part's own
    tint_of: NDArray[np.int64] | None
    edge_points: NDArray[np.float32]
    edges: NDArray[np.int64]
    middle: NDArray[np.float64]
    coarse: Outline | None = None
    uv: NDArray[np.float32] | None = None

    @property
    def rough(self) -> bool:
        """Whether its normals and edges are not worked out yet."""
        return self.normals is None


def outline(mesh: Mesh, *, edges: bool = True, coarse: bool = False) -> Outline:
    """Work out what is drawn of a mesh, with or without its sharp edges, and with a coarse form if it is large and that is asked for."""
    smooth = smoothed(mesh)
    ends = smooth.sharp if edges else np.empty((0, 2, 3))
    return Outline(
        smooth.points.astype(np.float32),
        smooth.normals.astype(np.float32),
        smooth.triangles,
        mesh.tints,
        None if mesh.tint_of is None else mesh.tint_of[smooth.of].astype(np.int64),
        ends.reshape(-1, 3).astype(np.float32),
        np.arange(2 * len(ends)).reshape(-1, 2),
        mesh.bounds.mean(axis=0),
        outline(coarse_mesh(mesh), edges=False) if coarse and len(mesh.triangles) >= COARSE_FROM else None,
        mesh.uv,
    )


def coarse_mesh(mesh: Mesh) -> Mesh:
    """About a twentieth of a mesh's triangles: those that are left when all points in a cube become one (VTK's binned decimation)."""
    from vtkmodules.vtkFiltersCore import vtkBinnedDecimation  # takes a while to load, and only large products need it

    points = mesh.vertices.astype(np.float32)
    maker = vtkBinnedDecimation()
    maker.SetInputData(merged_surface(points, None, mesh.triangles.astype(np.int64), np.zeros_like(points, np.uint8)))
    maker.SetPointGenerationModeToBinAverages()
    maker.ProducePointDataOff()
    size = np.ptp(mesh.bounds, axis=0)
    along = max(2.0 * np.sqrt(_COARSE_SHARE * len(mesh.triangles) / _PER_BIN), _FEWEST_BINS)
    maker.SetAutoAdjustNumberOfDivisions(False)
    maker.SetNumberOfDivisions(*(int(max(np.ceil(along * side / max(size.max(), 1e-9)), 1)) for side in size))
    maker.Update()
    coarse = maker.GetOutput()
    if not coarse.GetNumberOfPolys():
        return mesh
    kept = vtk_to_numpy(coarse.GetPoints().GetData()).astype(float)
    triangles = vtk_to_numpy(coarse.GetPolys().GetConnectivityArray()).reshape(-1, 3).astype(np.int32)
    tint_of = uv = None
    if mesh.tint_of is not None:
        centres = scipy.spatial.KDTree(mesh.vertices[mesh.triangles].mean(axis=1))
        tint_of = mesh.tint_of[centres.query(kept[triangles].mean(axis=1))[1]]
    if mesh.uv is not None:
        near = scipy.spatial.KDTree(mesh.vertices[mesh.triangles.reshape(-1)]).query(kept)[1]
        uv = mesh.uv.reshape(-1, 2)[near][triangles]
    return Mesh(kept, triangles, (), None, mesh.tints, tint_of, uv)


def rough_outline(mesh: Mesh) -> Outline:
    """A mesh as it is: flat facets, no edges; its coarse form is its box."""
    points, triangles, tint_of = mesh.vertices, mesh.triangles.astype(np.int64), None
    if mesh.tint_of is not None:
        # facets of several tints share no points
        points, triangles = mesh.vertices[mesh.triangles.reshape(-1)], np.arange(3 * len(triangles)).reshape(-1, 3)
        tint_of = np.repeat(mesh.tint_of, 3).astype(np.int64)
    none, no_lines = np.empty((0, 3), np.float32), np.empty((0, 2), np.int64)
    corners = box_corners(mesh.bounds)[_BOX_FACES].reshape(-1, 3).astype(np.float32)
    middle = mesh.bounds.mean(axis=0)
    box = Outline(corners, None, np.arange(len(corners)).reshape(-1, 3), (), None, none, no_lines, middle)
    return Outline(
        points.astype(np.float32), None, triangles, mesh.tints, tint_of, none, no_lines, middle, box, mesh.uv
    )


class Outlines(msgspec.Struct, eq=False):
    """The outlines of geometries by their keys, and the structures of finishes. What need not be there at once is rough first, and worked out by a thread of its own.

    Where large products are shown as the view moves they have a ``coarse`` form too."""

    coarse: bool = False
    known: dict[Hashable, Outline] = msgspec.field(default_factory=dict)
    _wanted: dict[Hashable, tuple[Mesh, bool]] = msgspec.field(default_factory=dict)
    _structures: list[Finish] = msgspec.field(default_factory=list)
    _thread: threading.Thread | None = None

    def of(self, key: Hashable, mesh: Mesh, *, edges: bool, now: bool) -> Outline:
        """The outline of a mesh, with or without sharp edges; rough if it need not be there ``now``."""
        self._wanted.pop(key, None)
        if now:
            self.known[key] = outline(mesh, edges=edges, coarse=self.coarse)
        else:
            self.known[key], self._wanted[key] = rough_outline(mesh), (mesh, edges)
        return self.known[key]

    def want_only(self, keys: Collection[Hashable], possible: Callable[[Any], bool]) -> None:
        """Do not work out what is not among keys any more, and forget what is not ``possible`` any more, as of a project that was left."""
        for key in self._wanted.keys() - set(keys):
            self._wanted.pop(key, None)
            self.known.pop(key, None)
        for key in list(self.known):  # the thread may put in more meanwhile
            if not possible(key):
                self.known.pop(key, None)

    def want_structures(self, finishes: Iterable[Finish]) -> None:
        """Draw the structures of finishes too, after the outlines."""
        self._structures = list(finishes)

    @property
    def waiting(self) -> bool:
        """Whether some are being worked out still; a thread that does is begun."""
        alive = self._thread is not None and self._thread.is_alive()
        if (self._wanted or self._structures) and not alive:
            self._thread = threading.Thread(target=self._work, args=(threading.main_thread(),), daemon=True)
            self._thread.start()
        return alive or bool(self._wanted)

    def _work(self, main: threading.Thread) -> None:
        while main.is_alive():
            try:
                key, (mesh, edges) = self._wanted.popitem()
            except KeyError:
                break
            # one that fails stays rough, and is not tried again
            with contextlib.suppress(MemoryError, ValueError):
                self.known[key] = outline(mesh, edges=edges, coarse=self.coarse)
        while main.is_alive():
            # others may be wanted meanwhile; one that fails is left even
            try:
                finish = self._structures.pop()
            except IndexError:
                return
            with contextlib.suppress(MemoryError, ValueError):
                structure_pixels(finish)
