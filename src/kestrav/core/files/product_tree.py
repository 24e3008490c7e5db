"""A product as read from any file: a tree of nodes with shapes, and how it becomes parts and meshes.

All readers make :class:`Node` trees in the file's own unit; :func:`gather` turns one into parts, meshes of
content hash, and a list of what was left out. Nothing here recurses: files nest as deep as they like.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable
from typing import Literal

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Finish, Part, Placement, Vector
from kestrav.core.geometry.faces import Face, moved_faces, vector
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid, quaternion_from_rotation, split_stretch

Array = NDArray[np.float64]

Upward = Literal["x", "y", "z"]

# glTF has Y up (section 3.4 of its specification); Kestrav has Z up
Y_UP_TO_Z_UP = np.array([[1.0, 0, 0, 0], [0, 0, -1.0, 0], [0, 1.0, 0, 0], [0, 0, 0, 1.0]])
X_UP_TO_Z_UP = np.array([[0, -1.0, 0, 0], [0, 0, -1.0, 0], [1.0, 0, 0, 0], [0, 0, 0, 1.0]])

GREY = "#9aa7ab"
FAR = 1e4  # mm; a mesh whose middle is farther from its own origin than this, and than its size, is brought to it
LARGEST_SHARE_SHOWN = 30  # lines of what was left out, before the rest is only counted
_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f\u2028\u2029\ufeff\ufffe\uffff\ud800-\udfff]+")


def no_faces() -> tuple[Face, ...]:
    """The faces of a mesh that has none."""
    return ()


class Shape(msgspec.Struct):
    """A mesh of a node: vertices (n, 3) in the file's unit, triangles (m, 3), its looks, its CAD faces if any.

    ``key`` tells shapes apart that a file places more than once. Faces are asked for only where a mesh is new.
    """

    key: object
    vertices: Array
    triangles: NDArray[np.int64]
    colour: str = GREY
    opacity: float = 1.0
    finish: Finish | None = None
    name: str = ""
    faces: Callable[[], tuple[Face, ...]] = no_faces
    face_of: NDArray[np.int32] | None = None
    tints: tuple[str, ...] = ()
    tint_of: NDArray[np.int32] | None = None
    uv: NDArray[np.float32] | None = None


class NodeMotion(msgspec.Struct):
    """Where a node is in the file's space, as matrices (k, 4, 4), at times (k,) in s."""

    times: Array
    matrices: Array


class Node(msgspec.Struct):
    """A name, a matrix (4, 4) relative to the parent, shapes, children, and how it moves where it does."""

    name: str = ""
    matrix: Array = msgspec.field(default_factory=lambda: np.eye(4))
    shapes: list[Shape] = msgspec.field(default_factory=list)
    children: list[Node] = msgspec.field(default_factory=list)
    motion: NodeMotion | None = None


class PartMotion(msgspec.Struct, frozen=True):
    """Where a part is, as placements at times (k,) in s."""

    part: str
    times: tuple[float, ...]
    placements: tuple[Placement, ...]


class Imported(msgspec.Struct):
    """What a file holds: parts (parents first), their finishes and motions with ids of their own, meshes by hash, and what was left out.

    ``unit`` is one of the file's units in mm, or None while nobody has said; lengths are in the file's unit
    then, and :func:`with_unit` brings them to mm. ``declared`` is what the file says of its unit.
    """

    source: str
    parts: list[Part] = msgspec.field(default_factory=list)
    meshes: dict[str, Mesh] = msgspec.field(default_factory=dict)
    left_out: list[str] = msgspec.field(default_factory=list)
    unit: float | None = 1.0
    declared: str = ""
    chord: float = 0.0
    up: Upward = "z"
    path: str = ""
    finishes: list[Finish] = msgspec.field(default_factory=list)
    motions: list[PartMotion] = msgspec.field(default_factory=list)

    @property
    def triangles(self) -> int:
        """Triangles placed, a mesh used twice counted twice."""
        return sum(len(self.meshes[p.geometry].triangles) for p in self.parts if p.geometry is not None)

    @property
    def solids(self) -> int:
        """Parts with geometry."""
        return sum(p.geometry is not None for p in self.parts)


def clean_name(name: str) -> str:
    """A name without control characters, on one line."""
    return " ".join(_CONTROL.sub(" ", name).split())


def gather(source: str, roots: list[Node], to_mm: ArrayLike, left_out: list[str]) -> Imported:
    """Parts and meshes of a node tree; ``to_mm`` is the (4, 4) matrix from the file's space to ours.

    A node's scale that is the same, or plain along its own axes, stays a scale of the part; what shears or
    mirrors goes into the mesh. A file's only root without a shape of its own says nothing and is dropped.
    """
    work = _Gathering(Imported(source, left_out=list(left_out)), np.asarray(to_mm, float))
    start = work.to_mm
    if len(roots) == 1 and not roots[0].shapes and len(roots[0].children) == 1 and roots[0].motion is None:
        start = start @ roots[0].matrix
        roots = roots[0].children
    work.unit = abs(float(np.linalg.det(np.asarray(to_mm, float)[:3, :3]))) ** (1 / 3)
    waiting: list[tuple[Node, Array, str | None, Array, str]] = []
    waiting += [(node, start, None, np.eye(4), "") for node in reversed(roots)]
    while waiting:
        node, above, parent, parent_rigid, trail = waiting.pop()
        world = above @ node.matrix
        inside = work.node(node, world, parent, parent_rigid, trail)
        if inside is not None:
            part, rigid, path = inside
            waiting.extend((child, world, part, rigid, path) for child in reversed(node.children))
    work.finish()
    return work.out


class _Gathering:
    """The parts made so far."""

    def __init__(self, out: Imported, to_mm: Array) -> None:
        self.out, self.to_mm = out, to_mm
        self.unit = 1.0
        self.kept: dict[object, tuple[str, Array] | None] = {}
        self.siblings: Counter[str] = Counter()
        self.faults: Counter[str] = Counter()
        self.finish_ids: dict[Finish, str] = {}

    def node(
        self, node: Node, world: Array, parent: str | None, parent_rigid: Array, trail: str
    ) -> tuple[str | None, Array, str] | None:
        """Make a node's parts; tells its children's parent, that one's rigid matrix and path of names."""
        if not np.isfinite(world).all():
            self._fault(f"“{clean_name(node.name) or 'unnamed'}”: its placement is not finite")
            return None
        linear = world[:3, :3]
        if abs(np.linalg.det(linear)) < 1e-18 * self.unit**3:
            if node.shapes or node.children:
                self._fault(f"“{clean_name(node.name) or 'unnamed'}”: it is scaled to nothing")
            return None
        placed, stretch = split_stretch(world)
        fallback = node.shapes[0].name if node.shapes else ""
        name = clean_name(node.name) or clean_name(fallback) or f"Part {len(self.out.parts) + 1}"
        trail = self._trail(trail, name)
        if node.children or len(node.shapes) > 1:
            parent = self._part(name, parent, parent_rigid, placed, origin=trail)
            parent_rigid = placed
            self._moves(node, parent, np.zeros(3))
        for number, shape in enumerate(node.shapes):
            label = name if len(node.shapes) == 1 else clean_name(shape.name) or f"{name} ({number + 1})"
            path = trail if label == name else f"{trail}/{label}"
            part = self._shape(shape, label, stretch, placed, parent, parent_rigid, path)
            if part is not None and not node.children and len(node.shapes) == 1:
                self._moves(node, *part)
        return parent, parent_rigid, trail

    def _trail(self, above: str, name: str) -> str:
        path = f"{above}/{name}" if above else name
        self.siblings[path] += 1
        return path if self.siblings[path] == 1 else f"{path}#{self.siblings[path]}"

    def _shape(
        self,
        shape: Shape,
        label: str,
        stretch: Array,
        placed: Array,
        parent: str | None,
        parent_rigid: Array,
        origin: str,
    ) -> tuple[str, Array] | None:
        """Make the part of a shape; tells its id, and where in the node it is."""
        scale, baked = _plain_scale(stretch / self.unit)
        kept = self._keep(shape, baked * self.unit, label)
        if kept is None:
            return None
        key, shift = kept
        # a mesh brought to its origin stands where it was
        shift = shift * np.array(scale)
        here = placed.copy()
        here[:3, 3] = apply(placed, shift[None])[0]
        return self._part(label, parent, parent_rigid, here, key, shape, scale, origin), shift

    def _moves(self, node: Node, part: str, shift: Array) -> None:
        """Note how a part moves that stands for a node, or for what is at a place in it."""
        if node.motion is None:
            return
        world = self.to_mm @ node.motion.matrices
        if not np.isfinite(world).all() or np.abs(np.linalg.det(world[:, :3, :3])).min() < 1e-18 * self.unit**3:
            self._fault(f"“{clean_name(node.name) or 'unnamed'}”: its motion is not one that a solid can make")
            return
        # it keeps the stretch that it has at first, so that the rest is a turn; the nearest one where it does not quite
        left, _, right = np.linalg.svd(world[:, :3, :3] @ np.linalg.inv(split_stretch(world[0])[1]))
        turns = left @ right
        places = np.round(world[:, :3, 3] + turns @ shift, 4) + 0.0
        quaternions = np.round(scipy.spatial.transform.Rotation.from_matrix(turns).as_quat(scalar_first=True), 9)
        quaternions /= np.linalg.norm(quaternions, axis=1, keepdims=True)
        placements = [Placement(tuple(p), tuple(q)) for p, q in zip(places.tolist(), quaternions.tolist(), strict=True)]
        self.out.motions.append(PartMotion(part, tuple(map(float, node.motion.times)), tuple(placements)))

    def _keep(self, shape: Shape, stretch: Array, name: str) -> tuple[str, Array] | None:
        """The hash of a shape's mesh under a stretch, and how far it was brought to its origin."""
        known = (shape.key, np.round(stretch, 9).tobytes())
        if known not in self.kept:
            self.kept[known] = self._rigid_and_shape(shape, stretch, name)
        return self.kept[known]

    def _rigid_and_shape(self, shape: Shape, stretch: Array, name: str) -> tuple[str, Array] | None:
        vertices = np.asarray(shape.vertices, float).reshape(-1, 3)
        triangles = np.asarray(shape.triangles, np.int64).reshape(-1, 3)
        face_of, tint_of, uv = shape.face_of, shape.tint_of, shape.uv
        if uv is None and shape.finish is not None and shape.finish.pictures is not None:
            self._fault(f"“{name}”: it has no places for its pictures; their mean colour is shown")
        with np.errstate(invalid="ignore", over="ignore"):
            vertices = vertices @ stretch.T
        finite = np.isfinite(vertices).all(axis=1)
        if not finite.all() and len(triangles) and triangles.max() < len(vertices) and triangles.min() >= 0:
            sound = finite[triangles].all(axis=1)
            lost = int(len(triangles) - sound.sum())
            triangles = triangles[sound]
            face_of = face_of[sound] if face_of is not None else None
            tint_of = tint_of[sound] if tint_of is not None else None
            uv = uv[sound] if uv is not None else None
            vertices = np.where(finite[:, None], vertices, 0.0)
            if len(triangles):
                self._fault(f"“{name}”: {lost} of its triangles have corners that are not finite")
        if np.linalg.det(stretch) < 0:
            # a mirror image turns triangles inside out
            triangles, uv = triangles[:, ::-1], None if uv is None else uv[:, ::-1]
        matrix = np.eye(4)
        matrix[:3, :3] = stretch
        shift = np.zeros(3)
        if len(vertices):
            low, high = vertices.min(axis=0), vertices.max(axis=0)
            middle = np.round(0.5 * (low + high))
            if np.linalg.norm(middle) > max(FAR, float(np.linalg.norm(high - low))):
                # single precision, of files and graphics, is too coarse so far out
                shift = middle
                vertices = vertices - shift
                matrix[:3, 3] = -shift
        try:
            solid = mesh(vertices, triangles, (), None, shape.tints, tint_of, uv)
            if solid.hash not in self.out.meshes and face_of is not None:
                solid = mesh(vertices, triangles, moved_faces(shape.faces(), matrix), face_of, shape.tints, tint_of, uv)
        except ValueError as fault:
            self._fault(f"“{name}”: {fault}")
            return None
        self.out.meshes.setdefault(solid.hash, solid)
        return solid.hash, shift

    def _finish(self, finish: Finish) -> str:
        """The id of a finish, which is noted the first time."""
        if finish not in self.finish_ids:
            self.finish_ids[finish] = f"finish-{len(self.finish_ids) + 1}"
            self.out.finishes.append(msgspec.structs.replace(finish, id=self.finish_ids[finish]))
        return self.finish_ids[finish]

    def _fault(self, text: str) -> None:
        self.faults[text] += 1

    def finish(self) -> None:
        """Say what was left out, equal things once; assemblies that hold nothing are left as they are."""
        lines = [text if count == 1 else f"{text} ({count} times)" for text, count in self.faults.items()]
        if len(lines) > LARGEST_SHARE_SHOWN:
            lines = [*lines[:LARGEST_SHARE_SHOWN], f"and {len(lines) - LARGEST_SHARE_SHOWN} things more"]
        self.out.left_out += lines

    def _part(
        self,
        name: str,
        parent: str | None,
        parent_rigid: Array,
        placed: Array,
        geometry: str | None = None,
        looks: Shape | None = None,
        scale: Vector = (1.0, 1.0, 1.0),
        origin: str = "",
    ) -> str:
        local = inverse_rigid(parent_rigid) @ placed
        part_id = f"part-{len(self.out.parts) + 1}"
        self.out.parts.append(
            Part(
                part_id,
                name,
                parent,
                placement_of(local),
                geometry=geometry,
                colour=looks.colour if looks else GREY,
                opacity=looks.opacity if looks else 1.0,
                finish=self._finish(looks.finish) if looks and looks.finish is not None else "",
                scale=scale,
                origin=origin,
            )
        )
        return part_id


def placement_of(matrix: Array) -> Placement:
    """A rigid (4, 4) matrix as a placement, without the noise of single precision."""
    position = vector(np.round(matrix[:3, 3], 4))
    quaternion = np.round(quaternion_from_rotation(matrix[:3, :3]), 7)
    w, x, y, z = (float(v) for v in quaternion / np.linalg.norm(quaternion) + 0.0)
    return Placement(position, (w, x, y, z))


def _plain_scale(stretch: Array) -> tuple[Vector, Array]:
    """A stretch as factors along the own axes and the rest of it (3, 3), which is the identity if it can be."""
    diagonal = np.diag(stretch)
    if np.allclose(stretch, np.diag(diagonal), rtol=0, atol=2e-6 * np.abs(diagonal).max()) and (diagonal > 0).all():
        # single-precision noise is not a scale
        tidy = np.where(np.abs(diagonal - 1.0) < 2e-6, 1.0, np.round(diagonal, 9))
        return vector(tidy), np.eye(3)
    return (1.0, 1.0, 1.0), stretch


def with_unit(imported: Imported, unit: float) -> Imported:
    """An import whose unit was not known, in mm: ``unit`` is one of the file's units in mm."""
    if unit == 1.0:
        return msgspec.structs.replace(imported, unit=1.0)
    scale = np.diag([unit, unit, unit, 1.0])
    meshes: dict[str, Mesh] = {}
    renamed: dict[str, str] = {}
    left_out = list(imported.left_out)
    for key, shape in imported.meshes.items():
        try:
            grown = shape.moved(scale)
        except ValueError as fault:
            left_out.append(f"a mesh of {len(shape.triangles)} triangles: {fault} in this unit")
            continue
        renamed[key] = grown.hash
        meshes[grown.hash] = grown
    parts = []
    for part in imported.parts:
        if part.geometry is not None and part.geometry not in renamed:
            continue
        placement = _scaled(part.placement, unit)
        geometry = None if part.geometry is None else renamed[part.geometry]
        parts.append(msgspec.structs.replace(part, placement=placement, geometry=geometry))
    left = {part.id for part in parts}
    motions = [
        msgspec.structs.replace(one, placements=tuple(_scaled(p, unit) for p in one.placements))
        for one in imported.motions
        if one.part in left
    ]
    return msgspec.structs.replace(imported, parts=parts, meshes=meshes, left_out=left_out, unit=unit, motions=motions)


def _scaled(placement: Placement, factor: float) -> Placement:
    x, y, z = (v * factor for v in placement.position)
    return msgspec.structs.replace(placement, position=(x, y, z))
