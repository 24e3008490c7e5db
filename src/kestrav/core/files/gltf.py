"""glTF 2.0 and GLB into node trees: names, nesting, colours, finishes, and the CAD faces that cascadio adds.

trimesh reads the meshes. It makes names unique, rounds colours to bytes and follows the nodes by recursion;
so it is given a flat file with one node for every primitive, and the tree is taken from the JSON.
Reference: Khronos glTF 2.0 specification, sections 3.5 (scenes and nodes), 3.6 (binary data), 3.9 (materials)
and 4 (GLB container).
"""

from __future__ import annotations

import base64
import binascii
import io
import struct
from collections.abc import Callable
from functools import cached_property, partial
from typing import Any
from urllib.parse import unquote

import msgspec
import numpy as np
import scipy
import trimesh
from numpy.typing import NDArray

from kestrav.core.errors import Damaged, in_words
from kestrav.core.files.gltf_materials import Look, Materials
from kestrav.core.files.gltf_unpacking import Unpacked, stands_in
from kestrav.core.files.product_tree import GREY, Node, Shape, no_faces
from kestrav.core.geometry.faces import Face, vector

Array = NDArray[np.float64]
Fetch = Callable[[str], bytes]

_HEADER = struct.Struct("<4sII")
_CHUNK = struct.Struct("<I4s")
_TRIANGLES = 4
_UNREADABLE = {"KHR_meshopt_compression": "a newer meshopt than EXT_meshopt_compression"}
_KINDS = {5121: "u1", 5123: "<u2", 5125: "<u4"}
_MODES = {0: "points", 1: "lines", 2: "a line loop", 3: "a line strip", 5: "a triangle strip", 6: "a triangle fan"}


class _File(msgspec.Struct, dict=True):
    """The JSON, the binary data by buffer, and what was left out."""

    json: dict[str, Any]
    buffers: list[bytes]
    left_out: list[str] = msgspec.field(default_factory=list)
    fetch: Fetch | None = None
    _sound: dict[str, list[dict[str, Any]]] = msgspec.field(default_factory=dict)

    @cached_property
    def materials(self) -> Materials:
        """Its materials."""
        return Materials(self.items, self.buffers, self.fetch, self.left_out)

    def forget(self) -> None:
        """The lists of the JSON are other ones now."""
        self._sound.clear()

    def items(self, kind: str) -> list[dict[str, Any]]:
        """A list of the JSON. Raises ValueError when it is something else."""
        if kind not in self._sound:
            items = self.json.get(kind, [])
            if not isinstance(items, list) or not all(isinstance(item, dict) for item in items):
                raise Damaged(f"its “{kind}” is not a list of objects")
            self._sound[kind] = items
        return self._sound[kind]


def read_gltf(data: bytes, fetch: Fetch) -> tuple[list[Node], list[str]]:
    """The node trees of a glTF or GLB file in metres, Y up, and what was left out.

    ``fetch`` gives the content of a file that it points at, or raises ValueError. Raises ValueError when the
    file is not one, or is cut short.
    """
    file = _opened(data, fetch)
    shapes = _shapes(file)
    return _trees(file, shapes), file.left_out


def _opened(data: bytes, fetch: Fetch) -> _File:
    if data[:4] == b"glTF":
        json, binary = _chunks(data)
    else:
        json, binary = data, None
    try:
        tree = msgspec.json.decode(json)
    except (msgspec.DecodeError, RecursionError, UnicodeDecodeError) as fault:
        raise Damaged("its description is broken JSON") from fault
    if not isinstance(tree, dict):
        raise Damaged("its description is not an object")
    asset = tree.get("asset")
    asked = asset.get("version") if isinstance(asset, dict) else None
    version = f"{asked:.20}" if isinstance(asked, str) else ""
    if not version.startswith("2"):
        raise Damaged(f"it is glTF version {version or 'unknown'}; version 2 is read")
    for name in tree.get("extensionsRequired") or []:
        if name in _UNREADABLE:
            raise Damaged(f"its meshes are packed with {_UNREADABLE[name]}, which is not read; export it unpacked")
    file = _File(tree, [], fetch=fetch)
    for number, buffer in enumerate(file.items("buffers")):
        file.buffers.append(_buffer(buffer, binary if number == 0 else None, fetch))
    packed = Unpacked(tree, file.buffers)
    packed.unpack()
    file.left_out += packed.left_out
    file.forget()
    return file


def _chunks(data: bytes) -> tuple[bytes, bytes]:
    """The JSON and binary chunks of a GLB."""
    if len(data) < _HEADER.size + _CHUNK.size:
        raise Damaged("it is too short to be a GLB file")
    _, version, total = _HEADER.unpack_from(data)
    if version != 2:
        raise Damaged(f"it is glTF version {version}; version 2 is read")
    if total > len(data):
        raise Damaged(f"it is cut short: {len(data)} of {total} bytes are there")
    length, kind = _CHUNK.unpack_from(data, _HEADER.size)
    start = _HEADER.size + _CHUNK.size
    if kind != b"JSON":
        raise Damaged("its first chunk is not JSON")
    rest = start + length
    if rest + _CHUNK.size > total:
        return data[start:rest], b""
    size, _ = _CHUNK.unpack_from(data, rest)
    return data[start:rest], data[rest + _CHUNK.size : rest + _CHUNK.size + size]


def _buffer(buffer: dict[str, Any], binary: bytes | None, fetch: Fetch) -> bytes:
    uri = buffer.get("uri")
    if uri is None:
        if stands_in(buffer):
            return b""
        if binary is None:
            raise Damaged("a buffer names no data")
        content = binary
    elif not isinstance(uri, str):
        raise Damaged("a buffer's address is no text")
    elif uri.startswith("data:"):
        try:
            content = base64.b64decode(uri.split(",", 1)[1], validate=False)
        except (IndexError, binascii.Error) as fault:
            raise Damaged("a buffer's embedded data is damaged") from fault
    else:
        content = fetch(unquote(uri))
    if len(content) < int(buffer.get("byteLength", 0)):
        raise Damaged(f"a buffer is cut short: {len(content)} of {buffer['byteLength']} bytes are there")
    return content


# meshes


def _shapes(file: _File) -> dict[tuple[int, int], Shape]:
    """Shapes by the numbers of their mesh and primitive."""
    flat: list[dict[str, Any]] = []
    of: list[tuple[int, int]] = []
    same: dict[str, int] = {}  # primitives of the same data are read once
    at: dict[tuple[int, int], int] = {}
    for number, item in enumerate(file.items("meshes")):
        for k, primitive in enumerate(item.get("primitives") or []):
            mode = primitive.get("mode", _TRIANGLES)
            label = item.get("name") or f"mesh {number + 1}"
            if mode < _TRIANGLES:
                file.left_out.append(f"“{label}”: it is {_MODES.get(mode, 'something')}, not a surface")
                continue
            if "POSITION" not in primitive.get("attributes", {}):
                file.left_out.append(f"“{label}”: it has no positions")
                continue
            fault = _broken(file, primitive)
            if fault:
                file.left_out.append(f"“{label}”: {fault}")
                continue
            bare = {"attributes": {"POSITION": primitive["attributes"]["POSITION"]}, "mode": mode}
            if "COLOR_0" in primitive["attributes"]:
                bare["attributes"]["COLOR_0"] = primitive["attributes"]["COLOR_0"]
            if "indices" in primitive:
                bare["indices"] = primitive["indices"]
            # on other places, or with others, it is another shape
            data = msgspec.json.encode([bare, _places_by(file, primitive)]).decode()
            if data not in same:
                same[data] = len(flat)
                flat.append({"name": f"m{len(flat)}", "primitives": [bare]})
                of.append((number, k))
            at[number, k] = same[data]
    loaded = _loaded(file, flat)
    shapes = {}
    for (number, k), index in at.items():
        item = file.items("meshes")[number]
        body = loaded.get(f"m{index}")
        if body is None:
            file.left_out.append(f"“{item.get('name') or f'mesh {number + 1}'}”: it is not made of triangles")
            continue
        primitive = item["primitives"][k]
        look = file.materials.look(primitive.get("material"))
        colour = look.colour
        visual: Any = body.visual
        if colour in (GREY, "#ffffff") and "COLOR_0" in primitive["attributes"] and visual.kind == "vertex":
            colour = "#" + "".join(f"{int(v):02x}" for v in visual.main_color[:3])
        face_of = _face_numbers(file, primitive, len(body.faces))
        name = str(item.get("name") or "")
        shapes[number, k] = Shape(
            index,
            np.asarray(body.vertices, float),
            np.asarray(body.faces, np.int64),
            colour,
            look.opacity,
            look.finish,
            name,
            partial(_cad_faces, primitive) if face_of is not None else no_faces,
            face_of,
            uv=_uv(file, primitive, look, body),
        )
    return shapes


def _places_by(file: _File, primitive: dict[str, Any]) -> list[Any] | None:
    """By what a primitive's pictures lie on it: the number of its coordinates, and the matrix that they are under. None without pictures."""
    look = file.materials.look(primitive.get("material"))
    if look.finish is None or look.finish.pictures is None:
        return None
    number = primitive["attributes"].get(f"TEXCOORD_{look.coordinates}")
    return [number, None if look.transform is None else look.transform.tolist()]


def _uv(file: _File, primitive: dict[str, Any], look: Look, body: trimesh.Trimesh) -> NDArray[np.float32] | None:
    """Where the corners of triangles lie on the pictures (m, 3, 2), v upwards; None where they have no place, or pictures there are none."""
    number = primitive["attributes"].get(f"TEXCOORD_{look.coordinates}")
    if look.finish is None or look.finish.pictures is None or number is None:
        return None
    try:
        places = _pairs(file, number)
    except (KeyError, IndexError, TypeError, ValueError):
        return None
    if len(places) != len(body.vertices):
        return None
    if look.transform is not None:
        places = places @ look.transform[:2, :2].T + look.transform[:2, 2]
    if not np.isfinite(places).all():
        return None
    # the first row of a picture is at v = 0 there
    upward = np.stack([places[:, 0], 1.0 - places[:, 1]], axis=1).astype(np.float32)
    corners: NDArray[np.float32] = upward[np.asarray(body.faces)]
    return corners


def _pairs(file: _File, number: int) -> Array:
    """The pairs (n, 2) of an accessor; whole numbers stand for shares of their greatest (glTF 2.0, 3.6.2.2)."""
    accessor = file.items("accessors")[number]
    kind = np.dtype("<f4" if accessor["componentType"] == 5126 else _KINDS[accessor["componentType"]])
    if accessor["type"] != "VEC2" or "sparse" in accessor:
        raise ValueError(accessor["type"])
    view, count = file.items("bufferViews")[accessor["bufferView"]], int(accessor["count"])
    start = int(view.get("byteOffset", 0)) + int(accessor.get("byteOffset", 0))
    step = int(view.get("byteStride", 2 * kind.itemsize))
    data = file.buffers[view["buffer"]]
    if step < 2 * kind.itemsize or start < 0 or start + (count - 1) * step + 2 * kind.itemsize > len(data):
        raise ValueError(step)
    held = np.ndarray((count, 2), kind, data, start, (step, kind.itemsize))
    return held.astype(float) if kind.kind == "f" else held / float(np.iinfo(kind).max)


def _broken(file: _File, primitive: dict[str, Any]) -> str:
    """What is wrong with a primitive's data, or nothing; one bad mesh must not lose the others."""
    accessors = file.items("accessors")
    try:
        place = accessors[primitive["attributes"]["POSITION"]]
        if place.get("type") != "VEC3":
            return "its positions are not points in space"
        if "indices" not in primitive:
            return ""
        number = primitive["indices"]
        values = _accessor(file, number)
        if len(values) and int(values.max()) >= int(place["count"]):
            return "its triangles name corners that are not there"
    except (KeyError, IndexError, TypeError, ValueError, struct.error) as fault:
        return in_words(fault, "its data is damaged")
    return ""


def _accessor(file: _File, number: int) -> NDArray[np.int64]:
    """The whole numbers (n,) of a scalar accessor."""
    accessor = file.items("accessors")[number]
    kind = np.dtype(_KINDS[accessor["componentType"]])
    if "bufferView" not in accessor:
        return np.zeros(int(accessor["count"]), np.int64)
    view = file.items("bufferViews")[accessor["bufferView"]]
    start = int(view.get("byteOffset", 0)) + int(accessor.get("byteOffset", 0))
    values = np.frombuffer(file.buffers[view["buffer"]], kind, int(accessor["count"]), start)
    return values.astype(np.int64)


def _loaded(file: _File, flat: list[dict[str, Any]]) -> dict[str, trimesh.Trimesh]:
    """The flat meshes read by trimesh, by name."""
    if not flat:
        return {}
    binary, buffers, offset = bytearray(), [], 0
    starts = []
    for content in file.buffers:
        starts.append(offset)
        binary += content + b"\0" * (-len(content) % 4)
        offset = len(binary)
    buffers = [{"byteLength": len(binary)}]
    views = [
        {**view, "buffer": 0, "byteOffset": int(view.get("byteOffset", 0)) + starts[view["buffer"]]}
        for view in file.items("bufferViews")
    ]
    tree = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(flat)))}],
        "nodes": [{"name": f"n{i}", "mesh": i} for i in range(len(flat))],
        "meshes": flat,
        "accessors": file.items("accessors"),
        "bufferViews": views,
        "buffers": buffers,
    }
    body = msgspec.json.encode(tree)
    body += b" " * (-len(body) % 4)
    total = _HEADER.size + 2 * _CHUNK.size + len(body) + len(binary)
    whole = b"".join(
        (
            _HEADER.pack(b"glTF", 2, total),
            _CHUNK.pack(len(body), b"JSON"),
            body,
            _CHUNK.pack(len(binary), b"BIN\0"),
            bytes(binary),
        )
    )
    scene = trimesh.load_scene(io.BytesIO(whole), file_type="glb", process=False)
    return {name: body for name, body in scene.geometry.items() if hasattr(body, "faces")}


# CAD faces


def _face_numbers(file: _File, primitive: dict[str, Any], triangles: int) -> NDArray[np.int32] | None:
    """The number of its analytic face for every triangle (m,), where cascadio wrote them and they fit."""
    extension = (primitive.get("extensions") or {}).get("TM_brep_faces")
    if not extension:
        return None
    numbers = _accessor(file, extension["faceIndices"])
    if len(numbers) != triangles or (len(numbers) and int(numbers.max()) >= len(extension["faces"])):
        return None
    return numbers.astype(np.int32)


def _cad_faces(primitive: dict[str, Any]) -> tuple[Face, ...]:
    """The analytic faces that cascadio writes with a primitive, in the unit of its positions."""
    return tuple(_face(one) for one in primitive["extensions"]["TM_brep_faces"]["faces"])


def _face(record: dict[str, Any] | None) -> Face:
    kind = (record or {}).get("type")
    if record is None or kind not in ("plane", "cylinder", "cone", "sphere", "torus"):
        return Face("free")
    if kind == "plane":
        return Face(
            "plane",
            vector(record["origin"]),
            vector(record["normal"]),
            across=_span(record["extent_x"]),
            along=_span(record["extent_y"]),
        )
    if kind == "cylinder":
        return Face(
            "cylinder",
            vector(record["origin"]),
            vector(record["axis"]),
            record["radius"],
            across=_span(record["extent_angle"]),
            along=_span(record["extent_height"]),
        )
    if kind == "cone":
        return Face(
            "cone",
            vector(record["apex"]),
            vector(record["axis"]),
            record["ref_radius"],
            half_angle=record["semi_angle"],
            across=_span(record["extent_angle"]),
            along=_span(record["extent_distance"]),
        )
    if kind == "sphere":
        return Face(
            "sphere",
            vector(record["center"]),
            radius=record["radius"],
            across=_span(record["extent_longitude"]),
            along=_span(record["extent_latitude"]),
        )
    return Face(
        "torus",
        vector(record["center"]),
        vector(record["axis"]),
        record["major_radius"],
        record["minor_radius"],
        across=_span(record["extent_major_angle"]),
        along=_span(record["extent_minor_angle"]),
    )


def _span(values: list[float]) -> tuple[float, float]:
    return (float(values[0]), float(values[1]))


# nodes


def _trees(file: _File, shapes: dict[tuple[int, int], Shape]) -> list[Node]:
    """The scene's node trees. Raises ValueError for a node that is its own ancestor."""
    nodes, meshes = file.items("nodes"), file.items("meshes")
    tree_of: dict[int, Node] = {}
    seen: set[int] = set()
    tops = _roots(file)
    waiting: list[tuple[int, Node | None]] = [(i, None) for i in reversed(tops)]
    trees: list[Node] = []
    while waiting:
        number, parent = waiting.pop()
        if not 0 <= number < len(nodes):
            raise Damaged(f"its node {number} is not there")
        if number in seen:
            raise Damaged(f"its node {number} is its own ancestor, or has two parents")
        seen.add(number)
        described = nodes[number]
        node = tree_of[number] = Node(str(described.get("name") or ""), _matrix(described))
        mesh = described.get("mesh")
        if isinstance(mesh, int) and 0 <= mesh < len(meshes):
            count = len(meshes[mesh].get("primitives") or [])
            node.shapes = [shapes[mesh, k] for k in range(count) if (mesh, k) in shapes]
            if len(node.shapes) > 1 and any(shape.face_of is not None for shape in node.shapes):
                # one solid whose faces are coloured apart
                node.shapes = [_joined(node.shapes)]
        if parent is None:
            trees.append(node)
        else:
            parent.children.append(node)
        waiting.extend((child, node) for child in reversed(described.get("children") or []))
    return trees


def _joined(shapes: list[Shape]) -> Shape:
    """Pieces of one solid as one shape, in the colour of the largest and with tints on the others."""
    main = max(shapes, key=lambda shape: len(shape.triangles))
    tints = tuple(dict.fromkeys("" if s.colour == main.colour else s.colour for s in shapes))
    points, triangles, face_of, tint_of = [], [], [], []
    faces: list[Face] = []
    count = 0
    for shape in shapes:
        points.append(shape.vertices)
        triangles.append(shape.triangles + count)
        numbers = shape.face_of if shape.face_of is not None else np.zeros(len(shape.triangles), np.int32)
        face_of.append(numbers + len(faces))
        faces += shape.faces() or (Face("free"),)
        tint_of.append(np.full(len(shape.triangles), tints.index("" if shape.colour == main.colour else shape.colour)))
        count += len(shape.vertices)
    return Shape(
        tuple(shape.key for shape in shapes),
        np.concatenate(points),
        np.concatenate(triangles),
        main.colour,
        main.opacity,
        main.finish,
        main.name,
        lambda: tuple(faces),
        np.concatenate(face_of).astype(np.int32),
        tints,
        np.concatenate(tint_of).astype(np.int32),
    )


def _roots(file: _File) -> list[int]:
    """Numbers of the scene's top nodes; all that nobody has as a child when no scene is given."""
    scenes = file.items("scenes")
    if scenes:
        number = file.json.get("scene", 0)
        if not isinstance(number, int) or not 0 <= number < len(scenes):
            raise Damaged(f"its scene {number} is not there" if isinstance(number, int) else "its scene is no number")
        top: list[int] = scenes[number].get("nodes", [])
        return top
    nodes = file.items("nodes")
    below = {child for node in nodes for child in node.get("children") or []}
    return [i for i in range(len(nodes)) if i not in below]


def _matrix(node: dict[str, Any]) -> Array:
    """A node's matrix, from its own or from its shift, turn and scale."""
    if "matrix" in node:
        return np.array(node["matrix"], float).reshape(4, 4).T
    matrix = np.eye(4)
    turn = np.array(node.get("rotation", [0.0, 0.0, 0.0, 1.0]), float)
    if np.isfinite(turn).all() and np.linalg.norm(turn) > 1e-12:
        matrix[:3, :3] = scipy.spatial.transform.Rotation.from_quat(turn).as_matrix()
    matrix[:3, :3] = matrix[:3, :3] * np.array(node.get("scale", [1.0, 1.0, 1.0]), float)
    matrix[:3, 3] = node.get("translation", [0.0, 0.0, 0.0])
    return matrix
