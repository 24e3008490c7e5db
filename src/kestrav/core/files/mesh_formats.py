"""OBJ, STL, PLY and OFF through trimesh, COLLADA through pycollada, 3MF by its XML, into node trees.

trimesh reads COLLADA and 3MF too, but gives up their nesting, their names and 3MF's colours.
"""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Callable
from typing import Any
from xml.etree import ElementTree

import collada
import numpy as np
import trimesh
from numpy.typing import NDArray
from trimesh.resolvers import Resolver

from kestrav.core.errors import Damaged
from kestrav.core.files.gltf_materials import finish_by_name
from kestrav.core.files.product_tree import GREY, Node, Shape, Upward
from kestrav.core.files.reading import GUESSED, UTF_8, as_utf8, unpacked
from kestrav.core.finishes.shelf import BY_NAME

Array = NDArray[np.float64]
Fetch = Callable[[str], bytes]

# 3MF core specification 1.3, section 3.2.1: the units of a model, in mm
MODEL_UNITS = {
    "micron": 0.001,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}
_DEEPEST = 400  # components within components; a loop of them would have no end
MOST_PLACED = 100_000  # things of one file; instances of instances grow to any number from a few lines


class _Beside(Resolver):
    """Gives trimesh the files beside the one being read, and notes those that are missing."""

    def __init__(self, fetch: Fetch, left_out: list[str]) -> None:
        self.fetch, self.left_out = fetch, left_out

    def get(self, name: str) -> bytes:
        try:
            data = self.fetch(str(name).strip())
        except ValueError as fault:
            note = f"{fault}; its colours are not shown"
            if note not in self.left_out:
                self.left_out.append(note)
            raise OSError(str(fault)) from fault
        return as_utf8(data)[0] if str(name).strip().lower().endswith(".mtl") else data

    def namespaced(self, namespace: str) -> _Beside:
        """Files in folders are not looked for apart."""
        return self

    def keys(self) -> list[str]:
        """Not known beforehand."""
        return []

    def write(self, name: str, data: bytes) -> None:
        """Nothing is written beside a product."""
        raise OSError(f"“{name}” is not written")


# OBJ, STL, PLY, OFF


def read_by_trimesh(data: bytes, suffix: str, fetch: Fetch) -> tuple[list[Node], list[str]]:
    """Nodes of an OBJ, STL, PLY or OFF file in its own unit. Raises whatever a damaged file makes trimesh raise."""
    left_out: list[str] = []
    options: dict[str, Any] = {"process": False}
    kind = suffix.removeprefix(".")
    data, encoding = _text_as_utf8(data, kind)
    if encoding == GUESSED:
        left_out.append(f"signs that {GUESSED} does not have: its text is not {UTF_8} and was read as {GUESSED}")
    if kind == "obj":
        objects = re.search(rb"^\s*o\s+\S", data, re.MULTILINE) is not None
        options |= {"split_objects": objects, "split_groups": not objects, "group_material": True}
        options["resolver"] = _Beside(fetch, left_out)
    loaded = trimesh.load_scene(io.BytesIO(data), file_type=kind, **options)
    materials = re.findall(rb"^\s*usemtl\s+(.+)$", data, re.MULTILINE) if kind == "obj" else []
    used = {m.decode("utf-8", "replace").strip() for m in materials}
    nodes = []
    for key, body in loaded.geometry.items():
        material = getattr(body.visual, "material", None) if hasattr(body, "visual") else None
        label = _without_material(str(key), used)
        if not hasattr(body, "faces"):
            left_out.append(f"“{label}”: it is not made of triangles")
            continue
        # trimesh's own word for what has no name
        name = "" if re.fullmatch(r"geometry(_\d+)?", label) else label
        colour, opacity, finish = _visual(body, material)
        shape = Shape(key, np.asarray(body.vertices, float), np.asarray(body.faces, np.int64), colour, opacity, finish)
        nodes.append(Node(name, shapes=[shape]))
    if kind == "obj":
        nodes.reverse()  # trimesh takes the file's pieces from its end
    return nodes, left_out


def _text_as_utf8(data: bytes, kind: str) -> tuple[bytes, str]:
    """A file with what is text in it as UTF-8, and the encoding it was in."""
    if kind == "stl" and len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little"):
        return data, UTF_8
    if kind == "ply":
        head, mark, rest = data.partition(b"end_header")
        text, encoding = as_utf8(head)
        return text + mark + rest, encoding
    return as_utf8(data)


def _without_material(key: str, materials: set[str]) -> str:
    """trimesh joins the name of a thing and of its material."""
    fitting = [m for m in materials if key.endswith(f"_{m}")]
    return key[: -len(max(fitting, key=len)) - 1] if fitting else key


def _visual(body: Any, material: Any) -> tuple[str, float, Any]:
    """Colour, opacity and finish of one of trimesh's meshes."""
    visual = body.visual
    if material is not None and hasattr(material, "main_color"):
        r, g, b, a = (int(v) for v in material.main_color)
        shine = float(
            material.kwargs.get("Ns", [0])[0] if hasattr(material, "kwargs") and material.kwargs.get("Ns") else 0
        )
        finish = finish_by_name(str(material.name or "")) or (
            BY_NAME["Moulded plastic, gloss"] if shine > 200 else None
        )
        return f"#{r:02x}{g:02x}{b:02x}", round(a / 255, 4), finish
    if getattr(visual, "defined", False) and visual.kind in ("vertex", "face"):
        r, g, b, a = (int(v) for v in np.asarray(visual.main_color))
        return f"#{r:02x}{g:02x}{b:02x}", round(a / 255, 4), None
    return GREY, 1.0, None


# COLLADA


def read_collada(data: bytes) -> tuple[list[Node], list[str], float, Upward]:
    """Node trees of a COLLADA file, what was left out, one of its units in mm, and its upward axis."""
    left_out: list[str] = []
    ignored = [
        collada.common.DaeError,
        collada.common.DaeIncompleteError,
        collada.common.DaeBrokenRefError,
        collada.common.DaeUnsupportedError,
        collada.common.DaeMalformedError,
    ]
    data, damaged = _with_sound_looks(data)
    if damaged:
        left_out.append(f"the colours of {damaged} of its effects, which are damaged")
    file = collada.Collada(io.BytesIO(data), ignore=ignored)
    if file.errors:
        left_out.append(f"{len(file.errors)} of its elements, which are damaged or of a kind that is not read")
    if file.scene is None:
        raise Damaged("it has no scene")
    roots = []
    waiting: list[tuple[Any, Node | None]] = [(node, None) for node in reversed(file.scene.nodes)]
    placed = 0
    while waiting:
        element, parent = waiting.pop()
        placed = _one_more(placed)
        if isinstance(element, collada.scene.GeometryNode):
            holder = parent
            if holder is None:
                holder = Node(_xml_name(element.geometry))
                roots.append(holder)
            holder.shapes += _collada_shapes(element, left_out)
        elif isinstance(element, (collada.scene.Node, collada.scene.NodeNode)):
            inner = element.node if isinstance(element, collada.scene.NodeNode) else element
            node = Node(_xml_name(inner), np.asarray(element.matrix, float))
            (roots if parent is None else parent.children).append(node)
            waiting += [(child, node) for child in reversed(inner.children)]
    unit = float(file.assetInfo.unitmeter or 1.0) * 1000.0
    axes: dict[str, Upward] = {"X_UP": "x", "Y_UP": "y", "Z_UP": "z"}
    up = axes.get(str(file.assetInfo.upaxis), "y")
    return roots, left_out, unit, up


_PLAIN_LOOKS = "<profile_COMMON><technique sid='common'><lambert/></technique></profile_COMMON>"


def _with_sound_looks(data: bytes) -> tuple[bytes, int]:
    """A COLLADA file in which effects that are damaged are plain ones, as pycollada drops all geometry that has them; and how many they are."""
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError):
        return data, 0
    space = root.tag[: root.tag.find("}") + 1]
    ElementTree.register_namespace("", space.strip("{}"))
    damaged = 0
    for effect in root.iter(f"{space}effect"):
        if effect.find(f"{space}profile_COMMON/{space}technique/") is None or not all(
            _numbers(value.text)
            for kind in ("color", "float", "float2", "float3", "float4")
            for value in effect.iter(space + kind)
        ):
            damaged += 1
            for inner in list(effect):
                effect.remove(inner)
            effect.append(
                ElementTree.fromstring(
                    _PLAIN_LOOKS.replace("<profile_COMMON>", f'<profile_COMMON xmlns="{space.strip("{}")}">')
                )
            )
    return (ElementTree.tostring(root), damaged) if damaged else (data, 0)


def _numbers(text: str | None) -> bool:
    """Whether a text is numbers, and some."""
    try:
        return bool([float(word) for word in (text or "").split()])
    except ValueError:
        return False


def _one_more(placed: int) -> int:
    """The number of things placed, with one more. Raises ValueError when they are too many."""
    if placed >= MOST_PLACED:
        raise Damaged(f"it places more than {MOST_PLACED:,} things; export a part of it")
    return placed + 1


def _xml_name(item: Any) -> str:
    element = getattr(item, "xmlnode", None)
    own = element.get("name") if element is not None else None
    return str(own or getattr(item, "name", None) or getattr(item, "id", None) or "")


def _collada_shapes(node: Any, left_out: list[str]) -> list[Shape]:
    materials = {m.symbol: m.target for m in node.materials}
    shapes = []
    name = _xml_name(node.geometry)
    for number, primitive in enumerate(node.geometry.primitives):
        if hasattr(primitive, "triangleset"):
            primitive = primitive.triangleset()
        if not isinstance(primitive, collada.triangleset.TriangleSet) or primitive.vertex is None:
            left_out.append(f"“{name}”: a part of it is not a surface")
            continue
        colour, opacity, finish = _collada_looks(materials.get(primitive.material))
        key = (node.geometry.id, number)
        triangles = np.asarray(primitive.vertex_index, np.int64).reshape(-1, 3)
        shapes.append(Shape(key, np.asarray(primitive.vertex, float), triangles, colour, opacity, finish, name))
    return shapes


def _collada_looks(material: Any) -> tuple[str, float, Any]:
    effect: Any = getattr(material, "effect", None)
    diffuse = getattr(effect, "diffuse", None)
    name = str(getattr(material, "name", "") or "")
    if not isinstance(diffuse, tuple) or len(diffuse) < 3:
        return GREY, 1.0, finish_by_name(name)
    opacity = 1.0
    if isinstance(effect.transparency, (int, float)) and str(effect.opaque_mode or "") != "RGB_ZERO":
        opacity = float(np.clip(effect.transparency, 0.0, 1.0)) or 1.0
    # COLLADA's common profile takes colours as they are shown
    code = "#" + "".join(f"{round(255 * float(np.clip(v, 0, 1))):02x}" for v in diffuse[:3])
    return code, round(opacity, 4), finish_by_name(name)


# 3MF


def read_3mf(data: bytes) -> tuple[list[Node], list[str], float]:
    """Node trees of a 3MF file, what was left out, and one of its units in mm.

    3MF core specification 1.3: objects are meshes or components, and the build says which are placed.
    Raises ValueError when its model is missing or damaged.
    """
    left_out: list[str] = []
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        name = next((n for n in archive.namelist() if n.lower().endswith("3d/3dmodel.model")), None)
        name = name or next((n for n in archive.namelist() if n.lower().endswith(".model")), None)
        if name is None:
            raise Damaged("it holds no model")
        try:
            model = ElementTree.fromstring(unpacked(archive, name))
        except ElementTree.ParseError as fault:
            raise Damaged("its model is not whole XML") from fault
    objects = {o.get("id", ""): o for o in model.iter() if _tag(o) == "object"}
    palettes = {str(g.get("id")): g for g in model.iter() if _tag(g) == "basematerials"}
    shapes = {key: _object_shapes(key, element, palettes) for key, element in objects.items()}
    unit = MODEL_UNITS.get(str(model.get("unit", "millimeter")).lower())
    if unit is None:
        raise Damaged(f"it is in the unknown unit “{model.get('unit')}”")
    roots, placed = [], 0
    for item in (i for i in model.iter() if _tag(i) == "item"):
        node, placed = _object_node(item.get("objectid", ""), objects, shapes, placed, left_out)
        if node is not None:
            node.matrix = _transform(item.get("transform")) @ node.matrix
            roots.append(node)
    return roots, left_out, unit


def _tag(element: ElementTree.Element) -> str:
    return element.tag.rsplit("}", 1)[-1] if isinstance(element.tag, str) else ""


def _object_shapes(key: str, described: ElementTree.Element, palettes: dict[str, ElementTree.Element]) -> list[Shape]:
    return [_object_mesh(key, described, inner, palettes) for inner in described if _tag(inner) == "mesh"]


def _object_node(
    top: str,
    objects: dict[str, ElementTree.Element],
    shapes: dict[str, list[Shape]],
    placed: int,
    left_out: list[str],
) -> tuple[Node | None, int]:
    """The node tree of an object, and how many things are placed with it. Raises ValueError when they are too many."""
    first: Node | None = None
    waiting: list[tuple[str, Array, Node | None, int]] = [(top, np.eye(4), None, 0)]
    while waiting:
        key, matrix, parent, depth = waiting.pop()
        placed = _one_more(placed)
        described = objects.get(key)
        if described is None or depth > _DEEPEST:
            name = f"object {key}" if key else "an object without a number"
            left_out.append(f"{name}: it is not there" if described is None else f"{name}: it holds itself")
            continue
        node = Node(described.get("name") or "", matrix)
        if parent is None:
            first = node
        else:
            parent.children.append(node)
        for shape in shapes[key]:
            if len(shape.triangles):
                node.shapes.append(shape)
            else:
                left_out.append(f"“{node.name or f'object {key}'}”: the mesh has no triangles")
        parts = [c for inner in described if _tag(inner) == "components" for c in inner if _tag(c) == "component"]
        waiting += [(c.get("objectid", ""), _transform(c.get("transform")), node, depth + 1) for c in reversed(parts)]
    return first, placed


def _object_mesh(
    key: str, described: ElementTree.Element, mesh: ElementTree.Element, palettes: dict[str, ElementTree.Element]
) -> Shape:
    corners = [(v.get("x"), v.get("y"), v.get("z")) for v in mesh.iter() if _tag(v) == "vertex"]
    faces = [(t.get("v1"), t.get("v2"), t.get("v3")) for t in mesh.iter() if _tag(t) == "triangle"]
    vertices = np.array(corners, float).reshape(-1, 3)
    triangles = np.array(faces, np.int64).reshape(-1, 3)
    colour, opacity, finish = GREY, 1.0, None
    palette, index = palettes.get(str(described.get("pid"))), described.get("pindex") or "0"
    if palette is not None and index.isdigit():
        bases = [b for b in palette if _tag(b) == "base"]
        if int(index) < len(bases):
            shown = (bases[int(index)].get("displaycolor") or "").lstrip("#")
            if re.fullmatch(r"[0-9a-fA-F]{6}([0-9a-fA-F]{2})?", shown):
                colour = f"#{shown[:6].lower()}"
                opacity = round(int(shown[6:8], 16) / 255, 4) if len(shown) == 8 else 1.0
            finish = finish_by_name(bases[int(index)].get("name") or "")
    return Shape(key, vertices, triangles, colour, opacity, finish, described.get("name") or "")


def _transform(text: str | None) -> Array:
    """A 3MF transform: twelve numbers, row vectors. Raises ValueError for anything else."""
    if not text:
        return np.eye(4)
    values = [float(v) for v in text.split()]
    if len(values) != 12:
        raise Damaged(f"a transform has {len(values)} numbers, not 12")
    matrix = np.eye(4)
    matrix[:3, :] = np.array(values).reshape(4, 3).T
    return matrix
