"""Reading products: STEP through cascadio, GLB through trimesh, into parts and meshes in mm, Z up."""

from __future__ import annotations

import io
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import cascadio
import msgspec
import numpy as np
import trimesh
from numpy.typing import NDArray

from kestrav.core.document.records import Geometry, Part, Placement, Project, Vector
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.files.glb_tree import Tree, read_tree
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.geometry.transforms import inverse_rigid, quaternion_from_rotation, split_stretch

Array = NDArray[np.float64]

STEP_SUFFIXES = (".step", ".stp")
GLB_SUFFIXES = (".glb",)
SUFFIXES = STEP_SUFFIXES + GLB_SUFFIXES

CHORD_TOLERANCE = 0.1  # mm between a curved face and its facets
ANGLE_TOLERANCE = 0.5  # rad between neighbouring facets

# glTF has Y up (section 3.4 of its specification); Kestrav has Z up
Y_UP_TO_Z_UP = np.array([[1.0, 0, 0, 0], [0, 0, -1.0, 0], [0, 1.0, 0, 0], [0, 0, 0, 1.0]])


@dataclass
class Imported:
    """What a file holds: parts (parents first) with ids of their own, meshes by hash, and what was left out."""

    source: str
    parts: list[Part] = field(default_factory=list)
    meshes: dict[str, Mesh] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)

    @property
    def triangles(self) -> int:
        """Triangles placed, a mesh used twice counted twice."""
        return sum(len(self.meshes[p.geometry].triangles) for p in self.parts if p.geometry is not None)


def read_product(path: Path, chord: float = CHORD_TOLERANCE) -> Imported:
    """Read a STEP or GLB file. Raises BadInput naming the file and what is wrong with it."""
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"“{path}” is not a kind of file that can be brought in; give one of {', '.join(SUFFIXES)}")
    data = read_bytes(path)
    _check_content(path, data)
    try:
        if suffix in STEP_SUFFIXES:
            tree, up = read_tree(_step_to_glb(path, chord)), np.eye(4)
        else:
            tree, up = read_tree(data), Y_UP_TO_Z_UP
        imported = _Reader(path.name, tree, up).read()
    except BadInput:
        raise
    except Exception as fault:  # whatever a damaged file makes the readers raise
        raise BadInput(f"“{path}” cannot be read: {_sentence(fault)}") from fault
    if not imported.meshes:
        raise BadInput(f"“{path}” holds no solid or surface that can be shown; export it with its geometry")
    return imported


def read_bytes(path: Path) -> bytes:
    """A file's content. Raises BadInput when it is missing, empty or cannot be read."""
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        raise BadInput(f"“{path}” does not exist; check its name and folder") from None
    except OSError as fault:
        raise BadInput(f"“{path}” cannot be read: {fault.strerror}") from fault
    if not data:
        raise BadInput(f"“{path}” is empty; export or copy it again")
    return data


def into_project(project: Project, imported: Imported) -> Project:
    """The project with an imported product added under new ids."""
    number = 1 + max((int(p.id.removeprefix("part-")) for p in project.parts if _numbered(p.id)), default=0)
    names = {part.id: f"part-{number + i}" for i, part in enumerate(imported.parts)}
    parts = [
        msgspec.structs.replace(p, id=names[p.id], parent=None if p.parent is None else names[p.parent])
        for p in imported.parts
    ]
    known = {g.hash for g in project.geometry}
    records = [geometry_record(m) for key, m in imported.meshes.items() if key not in known]
    return validate(
        msgspec.structs.replace(project, parts=(*project.parts, *parts), geometry=(*project.geometry, *records))
    )


def geometry_record(shape: Mesh) -> Geometry:
    """What the document says of a mesh."""
    low, high = (_vector(row) for row in shape.bounds)
    return Geometry(shape.hash, len(shape.triangles), low, high, shape.watertight)


def _vector(values: Array) -> Vector:
    x, y, z = (float(v) for v in values)
    return (x, y, z)


def _numbered(part_id: str) -> bool:
    return part_id.startswith("part-") and part_id.removeprefix("part-").isdigit()


def _check_content(path: Path, data: bytes) -> None:
    """Raise BadInput for a renamed or truncated file."""
    is_glb, is_step = data[:4] == b"glTF", data[:4096].lstrip().startswith(b"ISO-10303-21")
    wants_step = path.suffix.lower() in STEP_SUFFIXES
    kind = "STEP" if is_step else "GLB" if is_glb else "a ZIP archive" if data[:2] == b"PK" else None
    if wants_step and not is_step:
        holds = f"its content is {kind}; rename it" if kind else "it does not begin with ISO-10303-21"
        raise BadInput(f"“{path}” is not a STEP file: {holds}")
    if not wants_step and not is_glb:
        holds = f"its content is {kind}; rename it" if kind else "it does not begin as one"
        raise BadInput(f"“{path}” is not a GLB file: {holds}")
    if wants_step and b"END-ISO-10303-21" not in data[-4096:]:
        raise BadInput(f"“{path}” is cut short: its closing line END-ISO-10303-21 is missing; export or copy it again")


def _step_to_glb(path: Path, chord: float) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "product.glb"
        with _silenced():
            code = cascadio.step_to_glb(str(path), str(target), chord, ANGLE_TOLERANCE)
        if code != 0 or not target.exists():
            raise BadInput(f"“{path}” is not readable as STEP: its entities are damaged, or it holds no shape")
        return target.read_bytes()


@contextmanager
def _silenced() -> Iterator[None]:
    """Keep the CAD kernel's own messages off the terminal, where they would spoil --json."""
    saved = [os.dup(1), os.dup(2)]
    sink = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(sink, 1)
        os.dup2(sink, 2)
        yield
    finally:
        os.dup2(saved[0], 1)
        os.dup2(saved[1], 2)
        for handle in (*saved, sink):
            os.close(handle)


class _Reader:
    """Walks a node tree."""

    def __init__(self, source: str, tree: Tree, up: Array) -> None:
        self.tree = tree
        scene = trimesh.load_scene(io.BytesIO(tree.tagged), file_type="glb", process=False)
        self.geometry = scene.geometry
        edges: list[Any] = scene.graph.to_edgelist()  # type: ignore[no-untyped-call]
        self.local = {(e[0], e[1]): np.asarray(e[2].get("matrix", np.eye(4)), float) for e in edges}
        self.shape_at = {e[1]: e[2]["geometry"] for e in edges if "geometry" in e[2]}
        self.below: dict[str, list[str]] = {}
        for parent, child in self.local:
            self.below.setdefault(parent, []).append(child)
        self.up = up
        self.out = Imported(source)
        self.kept: dict[tuple[str, bytes], str | None] = {}

    def read(self) -> Imported:
        """All parts, parents first."""
        roots = self.tree.roots()
        metres = np.diag([1000.0, 1000.0, 1000.0, 1.0])
        for root in roots:
            self._node(root, "world", self.up @ metres, None, np.eye(4), keep_wrapper=False)
        return self.out

    def _node(
        self, number: int, above: str, world: Array, parent: str | None, parent_rigid: Array, keep_wrapper: bool = True
    ) -> None:
        tag = f"n{number}"
        node = self.tree.nodes[number]
        world = world @ self.local.get((above, tag), np.eye(4))
        children: list[int] = node.get("children", [])
        if not keep_wrapper and "mesh" not in node and len(children) == 1:
            # a file's root that holds one thing says nothing
            self._node(children[0], tag, world, parent, parent_rigid)
            return
        placed, stretch = split_stretch(world)
        solids = self._solids(tag) if "mesh" in node else []
        name = self.tree.name(number) or f"Part {len(self.out.parts) + 1}"
        if children or len(solids) > 1:
            parent = self._part(name, parent, parent_rigid, placed, None, "#9aa7ab", 1.0)
            parent_rigid = placed
        for primitive, shape in enumerate(solids):
            key = self._keep(shape, stretch, name)
            if key is not None:
                colour, opacity = self.tree.colour(node["mesh"], primitive)
                label = name if primitive == 0 else f"{name} ({primitive + 1})"
                self._part(label, parent, parent_rigid, placed, key, colour, opacity)
        for child in children:
            self._node(child, tag, world, parent, parent_rigid)

    def _solids(self, tag: str) -> list[str]:
        """Names of the meshes at a node: its own, or its primitives', which trimesh hangs below it."""
        own = [self.shape_at[tag]] if tag in self.shape_at else []
        inner = [self.shape_at[c] for c in self.below.get(tag, []) if c in self.shape_at and not _is_tag(c)]
        return own + inner

    def _keep(self, shape: str, stretch: Array, name: str) -> str | None:
        known = (shape, np.round(stretch, 9).tobytes())
        if known not in self.kept:
            loaded = self.geometry[shape]
            triangles = getattr(loaded, "faces", None)
            if triangles is None:
                self.out.left_out.append(f"“{name}”: it is not made of triangles")
                self.kept[known] = None
            else:
                # the stretch carries metres to mm; a mirror image turns triangles inside out
                vertices = np.asarray(loaded.vertices, float) @ _clean(stretch).T
                if np.linalg.det(stretch) < 0:
                    triangles = np.asarray(triangles)[:, ::-1]
                try:
                    made = mesh(vertices, triangles)
                except ValueError as fault:
                    self.out.left_out.append(f"“{name}”: {fault}")
                    self.kept[known] = None
                else:
                    self.out.meshes[made.hash] = made
                    self.kept[known] = made.hash
        return self.kept[known]

    def _part(
        self,
        name: str,
        parent: str | None,
        parent_rigid: Array,
        placed: Array,
        geometry: str | None,
        colour: str,
        opacity: float,
    ) -> str:
        local = inverse_rigid(parent_rigid) @ placed
        position = _vector(np.round(local[:3, 3], 4) + 0.0)
        quaternion = np.round(quaternion_from_rotation(local[:3, :3]), 7)
        w, x, y, z = (float(v) for v in quaternion / np.linalg.norm(quaternion) + 0.0)
        part_id = f"part-{len(self.out.parts) + 1}"
        self.out.parts.append(
            Part(part_id, name, parent, Placement(position, (w, x, y, z)), Placement(), geometry, colour, opacity)
        )
        return part_id


def _is_tag(name: str) -> bool:
    return name[:1] == "n" and name[1:].isdigit()


def _clean(stretch: Array) -> Array:
    """Single-precision noise off a stretch that is a plain scale by a thousand."""
    plain = 1000.0 * np.eye(3)
    return plain if np.allclose(stretch, plain, rtol=0, atol=2e-3) else stretch


def _sentence(fault: Exception) -> str:
    text = str(fault).strip() or type(fault).__name__
    return text.splitlines()[0]
