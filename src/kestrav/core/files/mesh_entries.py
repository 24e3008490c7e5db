"""Meshes as archives keep them: GLB, and beside it their CAD faces, tints and places on pictures as JSON."""

from __future__ import annotations

import io
import struct

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.errors import Damaged
from kestrav.core.files.product_tree import Y_UP_TO_Z_UP
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh, mesh, mesh_again
from kestrav.core.memo import Memo

_GLB = struct.Struct("<4sIII4s")
OTHER = "it is not the one that was saved: its content hash differs"
_KINDS = {5126: "<f4", 5125: "<u4", 5123: "<u2"}

_encoded: Memo[bytes] = Memo(2048)


def to_glb(shape: Mesh) -> bytes:
    """A mesh as GLB: metres, Y up, as glTF has it."""
    # a saved project is saved again after every few edits; its meshes are the same
    return _encoded.get((), lambda: _glb(shape), shape.hash)


def _glb(shape: Mesh) -> bytes:
    vertices = shape.vertices @ Y_UP_TO_Z_UP[:3, :3] / 1000.0
    import trimesh

    data = trimesh.Trimesh(vertices, shape.triangles, process=False).export(file_type="glb")
    assert isinstance(data, bytes)
    return data


def from_glb(data: bytes) -> Mesh:
    """The mesh in a GLB made by :func:`to_glb`. Raises ValueError when there is none."""
    import trimesh

    scene = trimesh.load_scene(io.BytesIO(data), file_type="glb", process=False)
    shapes = list(scene.geometry.values())
    if len(shapes) != 1:
        raise Damaged(f"{len(shapes)} meshes instead of one")
    return mesh(np.asarray(shapes[0].vertices, float) * 1000.0 @ Y_UP_TO_Z_UP[:3, :3].T, shapes[0].faces)


def _plain(data: bytes) -> tuple[NDArray[np.float64], NDArray[np.int64]] | None:
    """The vertices (n, 3) in metres and triangles (m, 3) of a GLB of one mesh as it is written here: trimesh, which reads any, takes several
    times as long, and a project may hold thousands. None where it is otherwise."""
    try:
        _, _, total, length, kind = _GLB.unpack_from(data)
        tree = msgspec.json.decode(data[_GLB.size : _GLB.size + length])
        ((primitive,),) = (one["primitives"] for one in tree["meshes"])
        if kind != b"JSON" or total != len(data) or len(tree["buffers"]) != 1 or primitive.get("mode", 4) != 4:
            return None
        if any(node.keys() & {"matrix", "translation", "rotation", "scale"} for node in tree["nodes"]):
            return None
        start = _GLB.size + length + 8
        arrays = []
        for number, form, width in (
            (primitive["attributes"]["POSITION"], "VEC3", 3),
            (primitive["indices"], "SCALAR", 1),
        ):
            accessor = tree["accessors"][number]
            view = tree["bufferViews"][accessor["bufferView"]]
            if accessor["type"] != form or "byteStride" in view or "sparse" in accessor:
                return None
            at = start + view.get("byteOffset", 0) + accessor.get("byteOffset", 0)
            arrays.append(np.frombuffer(data, _KINDS[accessor["componentType"]], accessor["count"] * width, at))
        return arrays[0].reshape(-1, 3).astype(np.float64), arrays[1].reshape(-1, 3).astype(np.int64)
    except (struct.error, msgspec.DecodeError, KeyError, IndexError, TypeError, ValueError, AttributeError):
        return None


def kept_mesh(data: bytes, faces: bytes | None, name: str) -> Mesh:
    """The mesh of a content hash, from what :func:`to_glb` and :func:`to_faces` made of it. Raises ValueError when there is none, or another."""
    plain = _plain(data)
    if plain is not None:
        # whose hash is right needs no more looking through: it was looked through when it was made
        quick = mesh_again(plain[0] * 1000.0 @ Y_UP_TO_Z_UP[:3, :3].T, plain[1])
        quick = quick if faces is None else with_faces(quick, faces)
        if quick.hash == name and len(quick.triangles):
            return quick
    shape = from_glb(data)
    shape = shape if faces is None else with_faces(shape, faces)
    if shape.hash != name:
        raise Damaged(OTHER)
    return shape


class _Faces(msgspec.Struct, forbid_unknown_fields=True):
    """What is kept beside a mesh: its faces and tints, and how many triangles in a row belong to which; places on pictures as
    little-endian single-precision numbers."""

    faces: tuple[Face, ...] = ()
    face_of: list[tuple[int, int]] = []
    tints: tuple[str, ...] = ()
    tint_of: list[tuple[int, int]] = []
    uv: bytes = b""


def to_faces(shape: Mesh) -> bytes | None:
    """A mesh's CAD faces, tints and places on pictures as JSON, or None when it has none."""
    if shape.face_of is None and shape.tint_of is None and shape.uv is None:
        return None
    uv = b"" if shape.uv is None else shape.uv.astype("<f4").tobytes()
    kept = _Faces(shape.faces, _runs(shape.face_of), shape.tints, _runs(shape.tint_of), uv)
    return msgspec.json.encode(kept)


def with_faces(shape: Mesh, data: bytes) -> Mesh:
    """A mesh with the faces and tints of :func:`to_faces`. Raises ValueError when they do not fit it."""
    kept = msgspec.json.decode(data, type=_Faces)
    count = len(shape.triangles)
    face_of, tint_of = _numbers(kept.face_of, len(kept.faces), count), _numbers(kept.tint_of, len(kept.tints), count)
    uv = None
    if kept.uv:
        if len(kept.uv) != 24 * count:
            raise Damaged("its places on pictures do not fit its triangles")
        uv = np.frombuffer(kept.uv, "<f4").reshape(-1, 3, 2)
        if not np.isfinite(uv).all():
            raise Damaged("its places on pictures are not finite")
    return Mesh(shape.vertices, shape.triangles, kept.faces, face_of, kept.tints, tint_of, uv)


def _runs(numbers: NDArray[np.int32] | None) -> list[tuple[int, int]]:
    """Numbers as pairs of a number and how often it follows itself."""
    if numbers is None or not len(numbers):
        return []
    starts = np.flatnonzero(np.r_[True, np.diff(numbers) != 0])
    lengths = np.diff(np.r_[starts, len(numbers)])
    return list(zip(numbers[starts].tolist(), lengths.tolist(), strict=True))


def _numbers(runs: list[tuple[int, int]], largest: int, count: int) -> NDArray[np.int32] | None:
    if not runs:
        return None
    values, lengths = np.array(runs, np.int64).T
    if values.min() < 0 or values.max() >= largest or lengths.min() < 1 or lengths.sum() != count:
        raise Damaged("its faces do not fit its triangles")
    return np.repeat(values, lengths).astype(np.int32)
