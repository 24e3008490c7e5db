"""Animated glTF 2.0: parts with hierarchy and finishes, cameras, and their motion in as few keys as tell it.

Reference: Khronos glTF 2.0 specification, sections 3.6 (binary data), 3.9 (materials), 3.10 (cameras), 3.11
(animations) and 4 (GLB container). Metres, Y up, as glTF has it.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

import kestrav
from kestrav.core.camera.lens import frame_on_sensor
from kestrav.core.colours import linear
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Finish, Part, Project
from kestrav.core.document.surfaces import Pictures
from kestrav.core.errors import BadInput
from kestrav.core.files.motion_keys import Keys, samples
from kestrav.core.files.tracks import (
    TOLERANCE,
    CameraTrack,
    Exactness,
    Track,
    camera_tracks,
    part_tracks,
    quaternions,
)
from kestrav.core.files.writing import refuse_existing, write_whole
from kestrav.core.finishes.applied import PAINT, finishes_of, laid_on
from kestrav.core.finishes.pictures import decoded, drawn, file_of, mapping_of, tangents
from kestrav.core.geometry.meshes import Mesh, smooth_surface
from kestrav.core.light.exposure import WHITE
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

_M = 1e-3  # m of a mm
_TO_Y_UP = (-float(np.sqrt(0.5)), 0.0, 0.0, float(np.sqrt(0.5)))  # x, y, z, w: a quarter turn about x
_FLOAT, _UINT, _ARRAY, _ELEMENTS = 5126, 5125, 34962, 34963
_NEAR, _FAR = 0.01, 1000.0  # m
_SAMPLER = {
    "magFilter": 9729,
    "minFilter": 9987,
    "wrapS": 10497,
    "wrapT": 10497,
}  # linear, with smaller copies; repeated


class Written(msgspec.Struct, frozen=True):
    """What was written: bytes, nodes that move, keys in all, and the samples that they were taken from."""

    size: int
    moving: int
    keys: int
    samples: int


class _Buffer(msgspec.Struct):
    """Binary data with its views and accessors."""

    data: bytearray = msgspec.field(default_factory=bytearray)
    views: list[dict[str, Any]] = msgspec.field(default_factory=list)
    accessors: list[dict[str, Any]] = msgspec.field(default_factory=list)

    def add(self, values: NDArray[Any], kind: str, target: int | None = None, *, bounds: bool = False) -> int:
        """Put an array in; returns its accessor."""
        flat = np.ascontiguousarray(values)
        component = _UINT if flat.dtype == np.uint32 else _FLOAT
        if component == _FLOAT:
            flat = flat.astype(np.float32)
        while len(self.data) % 4:
            self.data.append(0)
        view: dict[str, Any] = {"buffer": 0, "byteOffset": len(self.data), "byteLength": flat.nbytes}
        if target is not None:
            view["target"] = target
        self.data += flat.tobytes()
        self.views.append(view)
        accessor: dict[str, Any] = {
            "bufferView": len(self.views) - 1,
            "componentType": component,
            "count": len(flat),
            "type": kind,
        }
        if bounds:
            table = flat.reshape(len(flat), -1)
            accessor["min"], accessor["max"] = table.min(axis=0).tolist(), table.max(axis=0).tolist()
        self.accessors.append(accessor)
        return len(self.accessors) - 1

    def add_bytes(self, data: bytes) -> int:
        """Put a file in; returns its view."""
        while len(self.data) % 4:
            self.data.append(0)
        self.views.append({"buffer": 0, "byteOffset": len(self.data), "byteLength": len(data)})
        self.data += data
        return len(self.views) - 1


def write_animated(
    project: Project,
    meshes: Mapping[str, Mesh],
    target: Path,
    *,
    overwrite: bool = False,
    tolerance: float = TOLERANCE,
    frames: Array | None = None,
) -> Written:
    """Write a project with its motion as GLB. Raises BadInput for another ending, or a file that is there or cannot be written."""
    if target.suffix.lower() != ".glb":
        raise BadInput(f"“{target}” has an ending that is not known: give .glb")
    refuse_existing(target, force=overwrite)
    data, note = animated(project, meshes, tolerance, frames)
    write_whole(target, data)
    return note


def animated(
    project: Project, meshes: Mapping[str, Mesh], tolerance: float = TOLERANCE, frames: Array | None = None
) -> tuple[bytes, Written]:
    """A project with its motion as the bytes of a GLB, and what is in it.

    No point of a part is off by more than ``tolerance`` in mm between the keys, nor by more than a hundredth of that at the frames: those of
    the project and its shots, or ``frames`` (n,) in s. A single frame is a still. Cameras keep the focal length that they have at first:
    glTF 2.0 has no keys for it.
    """
    buffer, shown = _Buffer(), shown_parts(project)
    finishes = finishes_of(project, project.colourway)
    materials = _Materials(buffer)
    shapes: dict[object, int] = {}
    kinds: list[dict[str, Any]] = []
    nodes: list[dict[str, Any]] = [{"name": project.name or "Project", "rotation": list(_TO_Y_UP)}]
    number = {part.id: k + 1 for k, part in enumerate(project.parts)}
    children: dict[int, list[int]] = {}
    for part in project.parts:
        node: dict[str, Any] = {"name": part.name}
        if part.geometry is not None and part.id in shown and part.opacity > 0:
            key = (
                part.geometry,
                part.scale,
                part.colour,
                part.opacity,
                finishes[part.id].id if part.id in finishes else "",
            )
            if key not in shapes:
                shapes[key] = len(kinds)
                kinds.append(_mesh(buffer, materials, solid_mesh(meshes, part), part, finishes.get(part.id, PAINT)))
            node["mesh"] = shapes[key]
        nodes.append(node)
        above = 0 if part.parent is None else number[part.parent]
        children.setdefault(above, []).append(number[part.id])
    animation, exact, sampled = _Animation(buffer), Exactness(tolerance), samples(project, frames)
    for part, track in zip(project.parts, part_tracks(project, meshes, sampled, exact), strict=True):
        animation.node(nodes, number[part.id], track)
    cameras: list[dict[str, Any]] = []
    for one in camera_tracks(project, meshes, sampled, exact):
        cameras.append({"name": one.camera.name, **_lens(one)})
        nodes.append({"name": one.camera.name, "camera": len(cameras) - 1})
        children.setdefault(0, []).append(len(nodes) - 1)
        animation.node(nodes, len(nodes) - 1, one.track)
    for above, inner in children.items():
        nodes[above]["children"] = inner
    document: dict[str, Any] = {
        "asset": {
            "version": "2.0",
            "generator": f"Kestrav {kestrav.__version__}",
            "extras": {"tolerance_mm": tolerance},
        },
        "scene": 0,
        "scenes": [{"name": project.name or "Project", "nodes": [0]}],
        "nodes": nodes,
        "bufferViews": buffer.views,
        "accessors": buffer.accessors,
    }
    if kinds:
        document |= {"meshes": kinds, "materials": materials.records}
    if materials.images:
        pictures = [{"source": k, "sampler": 0} for k in range(len(materials.images))]
        document |= {"images": materials.images, "textures": pictures, "samplers": [_SAMPLER]}
    if materials.extensions:
        document["extensionsUsed"] = sorted(materials.extensions)
    if cameras:
        document["cameras"] = cameras
    if animation.data["channels"]:
        document["animations"] = [{"name": project.name or "Motion", **animation.data}]
    if buffer.data:
        document["buffers"] = [{"byteLength": len(buffer.data)}]
    else:
        del document["bufferViews"], document["accessors"]
    data = _packed(document, bytes(buffer.data))
    return data, Written(len(data), animation.moving, animation.keys, animation.samples)


def _packed(document: dict[str, Any], binary: bytes) -> bytes:
    """The GLB of a document and its binary data."""
    text = msgspec.json.encode(document)
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    chunks = struct.pack("<I4s", len(text), b"JSON") + text
    if binary:
        chunks += struct.pack("<I4s", len(binary), b"BIN\0") + binary
    return struct.pack("<4sII", b"glTF", 2, 12 + len(chunks)) + chunks


# looks


class _Materials:
    """Materials by colour, opacity and finish, and the pictures that lie on them."""

    def __init__(self, buffer: _Buffer) -> None:
        self.records: list[dict[str, Any]] = []
        self.images: list[dict[str, Any]] = []
        self.extensions: set[str] = set()
        self._buffer = buffer
        self._known: dict[tuple[str, float, Finish], int] = {}
        self._pictures: dict[str, int] = {}

    def _picture(self, text: str) -> int:
        """The number of a picture, which is put in once."""
        if text not in self._pictures:
            data, kind = file_of(text)
            self._pictures[text] = len(self.images)
            self.images.append({"bufferView": self._buffer.add_bytes(data), "mimeType": f"image/{kind}"})
        return self._pictures[text]

    def _lay(self, material: dict[str, Any], finish: Finish, pictures: Pictures, *, holes: bool) -> None:
        """Tell of the pictures on a material, which have ``holes`` or an opacity where they have any."""
        look = material["pbrMetallicRoughness"]
        if pictures.colour:
            look["baseColorTexture"] = {"index": self._picture(pictures.colour)}
            look["baseColorFactor"][:3] = _linear(pictures.factor)
            if decoded(pictures.colour).shape[2] == 4 and "alphaMode" not in material:
                material |= {"alphaMode": "MASK" if holes else "BLEND", "doubleSided": True}
        if pictures.surface:
            number = self._picture(pictures.surface)
            look["metallicRoughnessTexture"] = {"index": number}
            material["occlusionTexture"] = {"index": number, "strength": finish.contrast}
        if pictures.normal:
            material["normalTexture"] = {"index": self._picture(pictures.normal), "scale": finish.relief}
        if pictures.emission and finish.emission:
            material["emissiveTexture"] = {"index": self._picture(pictures.emission)}

    def of(self, part: Part, colour: str, finish: Finish) -> int:
        """The number of the material of a part's surface in a colour."""
        key = (colour, part.opacity, finish)
        if key not in self._known:
            material: dict[str, Any] = {
                "name": f"{finish.name} {colour}",
                "pbrMetallicRoughness": {
                    "baseColorFactor": [*_linear(finish.colour or colour), part.opacity],
                    "metallicFactor": finish.metallic,
                    "roughnessFactor": finish.roughness,
                },
                "doubleSided": part.opacity < 1 or finish.transmission > 0,
            }
            if part.opacity < 1:
                material["alphaMode"] = "BLEND"
            extensions = _extensions(finish)
            if finish.emission:
                material["emissiveFactor"] = _linear(finish.emission)
            if extensions:
                material["extensions"] = extensions
                self.extensions |= extensions.keys()
            shown = drawn(finish, finish.colour or colour)
            if shown.pictures is not None:
                self._lay(material, shown, shown.pictures, holes=finish.pictures is None)
                look = material["pbrMetallicRoughness"]
                look["roughnessFactor"] = shown.roughness
            self._known[key] = len(self.records)
            self.records.append(material)
        return self._known[key]


def _linear(colour: str) -> list[float]:
    return [round(float(v), 6) for v in linear(colour)]


def _extensions(finish: Finish) -> dict[str, Any]:
    """What of a finish is beyond glTF's core, by the ratified extensions of the Khronos registry."""
    extensions: dict[str, Any] = {}
    if finish.coat:
        extensions["KHR_materials_clearcoat"] = {
            "clearcoatFactor": finish.coat,
            "clearcoatRoughnessFactor": finish.coat_roughness,
        }
    if finish.transmission:
        extensions["KHR_materials_transmission"] = {"transmissionFactor": finish.transmission}
    if finish.index != 1.5:
        extensions["KHR_materials_ior"] = {"ior": finish.index}
    if finish.anisotropy:
        extensions["KHR_materials_anisotropy"] = {"anisotropyStrength": finish.anisotropy}
    if finish.sheen:
        extensions["KHR_materials_sheen"] = {
            "sheenColorFactor": _linear(finish.sheen),
            "sheenRoughnessFactor": finish.sheen_roughness,
        }
    if finish.emission and finish.luminance > 0:
        extensions["KHR_materials_emissive_strength"] = {"emissiveStrength": round(finish.luminance / WHITE, 6)}
    return extensions


def _mesh(buffer: _Buffer, materials: _Materials, shape: Mesh, part: Part, finish: Finish) -> dict[str, Any]:
    """A mesh, one primitive for each colour, smooth within each CAD face and sharp between them."""
    tints = shape.tint_of if shape.tint_of is not None else np.zeros(len(shape.triangles), np.int32)
    primitives = []
    laid = laid_on(finish, shape)
    for tint in np.unique(tints):
        chosen = tints == tint
        colour = (shape.tints[tint] if shape.tint_of is not None else "") or part.colour
        points, normals, corners = smooth_surface(shape, chosen)
        mapped = mapping_of(laid, points, corners, None if shape.uv is None else shape.uv[chosen])
        if mapped is not None:
            points, normals, corners = points[mapped.source], normals[mapped.source], mapped.triangles
        attributes = {
            "POSITION": buffer.add(points * _M, "VEC3", _ARRAY, bounds=True),
            "NORMAL": buffer.add(normals, "VEC3", _ARRAY),
        }
        if mapped is not None:
            # the first row of a picture is at v = 0 there
            places = np.stack([mapped.uv[:, 0], 1.0 - mapped.uv[:, 1]], axis=1)
            attributes["TEXCOORD_0"] = buffer.add(places, "VEC2", _ARRAY)
            attributes["TANGENT"] = buffer.add(tangents(mapped, normals), "VEC4", _ARRAY)
        primitives.append(
            {
                "attributes": attributes,
                "indices": buffer.add(corners.reshape(-1).astype(np.uint32), "SCALAR", _ELEMENTS),
                "material": materials.of(part, colour, laid),
            }
        )
    return {"name": part.name, "primitives": primitives}


# motion


class _Animation(msgspec.Struct):
    """Puts tracks into nodes and an animation."""

    buffer: _Buffer
    data: dict[str, list[dict[str, Any]]] = msgspec.field(default_factory=lambda: {"samplers": [], "channels": []})
    moving: int = 0
    keys: int = 0
    samples: int = 0

    def node(self, nodes: list[dict[str, Any]], number: int, track: Track) -> None:
        """Place a node, and tell how it moves."""
        where, turn = track.stands[:3, 3] * _M, quaternions(track.stands[None, :3, :3])[0]
        if np.abs(where).max() > 0:
            nodes[number]["translation"] = where.tolist()
        if np.abs(turn - [0, 0, 0, 1]).max() > 1e-12:
            nodes[number]["rotation"] = turn.tolist()
        self.moving += track.moves
        self.keys += track.keys
        self.samples += track.samples
        if track.places is not None:
            self._channel(number, "translation", track.places, track.places.values * _M, "VEC3")
        if track.turns is not None:
            self._channel(number, "rotation", track.turns, track.turns.values, "VEC4")

    def _channel(self, node: int, path: str, keys: Keys, values: Array, kind: str) -> None:
        moments = self.buffer.add(keys.times, "SCALAR", bounds=True)
        self.data["samplers"].append(
            {
                "input": moments,
                "interpolation": "STEP" if keys.step else "LINEAR",
                "output": self.buffer.add(values, kind),
            }
        )
        sampler = len(self.data["samplers"]) - 1
        self.data["channels"].append({"sampler": sampler, "target": {"node": node, "path": path}})


def _lens(one: CameraTrack) -> dict[str, Any]:
    """A camera's lens as it is at first."""
    if one.camera.parallel:
        half = 0.5 * float(one.view_height[0])
        sizes = {"xmag": half * one.aspect * _M, "ymag": half * _M, "znear": _NEAR, "zfar": _FAR}
        return {"type": "orthographic", "orthographic": sizes}
    high = frame_on_sensor(one.camera, one.aspect, 1.0)[1]
    yfov = 2.0 * float(np.arctan(0.5 * high / one.focal_length[0]))
    sizes = {"yfov": yfov, "aspectRatio": one.aspect, "znear": _NEAR, "zfar": _FAR}
    return {"type": "perspective", "perspective": sizes}
