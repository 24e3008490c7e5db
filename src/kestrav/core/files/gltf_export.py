"""Animated glTF 2.0: parts with hierarchy and finishes, cameras, and their motion in as few keys as tell it.

Reference: Khronos glTF 2.0 specification, sections 3.6 (binary data), 3.9 (materials), 3.10 (cameras), 3.11
(animations) and 4 (GLB container). Metres, Y up, as glTF has it.
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

import kestrav
from kestrav.core.camera.views import Views, views
from kestrav.core.colours import linear
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Camera, Finish, Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.files.gltf_motion import Keys, Samples, Where, depths, finer, place_keys, samples, turn_keys
from kestrav.core.files.writing import refuse_existing, write_whole
from kestrav.core.finishes.applied import finishes_of
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.bounds import WORLD, at
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import riders, world_poses
from kestrav.core.light.exposure import WHITE
from kestrav.core.parts.rest import placement_matrix, rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

TOLERANCE = 0.05  # mm that anything of a part may be off between its keys
_M = 1e-3  # m of a mm
_TO_Y_UP = (-float(np.sqrt(0.5)), 0.0, 0.0, float(np.sqrt(0.5)))  # x, y, z, w: a quarter turn about x
_FLOAT, _UINT, _ARRAY, _ELEMENTS = 5126, 5125, 34962, 34963
_STILL = 1e-9
_OF_KEYS = 0.7  # of the tolerance, that the samples may be off what the keys tell
_NEAR, _FAR = 0.01, 1000.0  # m


@dataclass(frozen=True)
class Written:
    """What was written: bytes, nodes that move, keys in all, and the samples that they were taken from."""

    size: int
    moving: int
    keys: int
    samples: int


@dataclass
class _Buffer:
    """Binary data with its views and accessors."""

    data: bytearray = field(default_factory=bytearray)
    views: list[dict[str, Any]] = field(default_factory=list)
    accessors: list[dict[str, Any]] = field(default_factory=list)

    def add(self, values: NDArray[Any], kind: str, target: int | None = None, bounds: bool = False) -> int:
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


def write_animated(
    project: Project,
    meshes: Mapping[str, Mesh],
    target: Path,
    overwrite: bool = False,
    tolerance: float = TOLERANCE,
    frames: Array | None = None,
) -> Written:
    """Write a project with its motion as GLB. Raises BadInput for another ending, or a file that is there or cannot be written."""
    if target.suffix.lower() != ".glb":
        raise BadInput(f"“{target}” has an ending that is not known: give .glb")
    refuse_existing(target, overwrite)
    if not tolerance > 0:
        raise BadInput(f"a tolerance of {tolerance:g} mm is not possible; give above 0")
    data, told = animated(project, meshes, tolerance, frames)
    write_whole(target, data)
    return told


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
    materials = _Materials(finishes)
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
                kinds.append(_mesh(buffer, materials, solid_mesh(meshes, part), part))
            node["mesh"] = shapes[key]
        nodes.append(node)
        above = 0 if part.parent is None else number[part.parent]
        children.setdefault(above, []).append(number[part.id])
    animation: dict[str, list[dict[str, Any]]] = {"samplers": [], "channels": []}
    told = _Telling(buffer, animation, samples(project, frames), tolerance)
    _parts(project, meshes, nodes, number, told)
    cameras = _cameras(project, meshes, nodes, children, told)
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
        document |= {"meshes": kinds, "materials": materials.found}
    if materials.extensions:
        document["extensionsUsed"] = sorted(materials.extensions)
    if cameras:
        document["cameras"] = cameras
    if animation["channels"]:
        document["animations"] = [{"name": project.name or "Motion", **animation}]
    if buffer.data:
        document["buffers"] = [{"byteLength": len(buffer.data)}]
    else:
        del document["bufferViews"], document["accessors"]
    data = _packed(document, bytes(buffer.data))
    return data, Written(len(data), told.moving, told.keys, told.samples)


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


PAINT = Finish("", "Paint")  # what paint is where everything must be physically based


class _Materials:
    """Materials by colour, opacity and finish."""

    def __init__(self, finishes: Mapping[str, Finish]) -> None:
        self.found: list[dict[str, Any]] = []
        self.extensions: set[str] = set()
        self._finishes = finishes
        self._known: dict[tuple[str, float, str], int] = {}

    def of(self, part: Part, colour: str) -> int:
        """The number of a part's material in a colour."""
        finish = self._finishes.get(part.id, PAINT)
        key = (colour, part.opacity, finish.id)
        if key not in self._known:
            made: dict[str, Any] = {
                "name": f"{finish.name} {colour}",
                "pbrMetallicRoughness": {
                    "baseColorFactor": [*_linear(finish.colour or colour), part.opacity],
                    "metallicFactor": finish.metallic,
                    "roughnessFactor": finish.roughness,
                },
                "doubleSided": part.opacity < 1 or finish.transmission > 0,
            }
            if part.opacity < 1:
                made["alphaMode"] = "BLEND"
            extensions = _extensions(finish)
            if finish.emission:
                made["emissiveFactor"] = _linear(finish.emission)
            if extensions:
                made["extensions"] = extensions
                self.extensions |= extensions.keys()
            self._known[key] = len(self.found)
            self.found.append(made)
        return self._known[key]


def _linear(colour: str) -> list[float]:
    return [round(float(v), 6) for v in linear(colour)]


def _extensions(finish: Finish) -> dict[str, Any]:
    """What of a finish is beyond glTF's core, by the ratified extensions of the Khronos registry."""
    found: dict[str, Any] = {}
    if finish.coat:
        found["KHR_materials_clearcoat"] = {
            "clearcoatFactor": finish.coat,
            "clearcoatRoughnessFactor": finish.coat_roughness,
        }
    if finish.transmission:
        found["KHR_materials_transmission"] = {"transmissionFactor": finish.transmission}
    if finish.index != 1.5:
        found["KHR_materials_ior"] = {"ior": finish.index}
    if finish.anisotropy:
        found["KHR_materials_anisotropy"] = {"anisotropyStrength": finish.anisotropy}
    if finish.sheen:
        found["KHR_materials_sheen"] = {
            "sheenColorFactor": _linear(finish.sheen),
            "sheenRoughnessFactor": finish.sheen_roughness,
        }
    if finish.emission and finish.luminance > 0:
        found["KHR_materials_emissive_strength"] = {"emissiveStrength": round(finish.luminance / WHITE, 6)}
    return found


def _mesh(buffer: _Buffer, materials: _Materials, shape: Mesh, part: Part) -> dict[str, Any]:
    """A mesh, one primitive for each colour, smooth within each CAD face and sharp between them."""
    tints = shape.tint_of if shape.tint_of is not None else np.zeros(len(shape.triangles), np.int32)
    primitives = []
    for tint in np.unique(tints):
        chosen = tints == tint
        colour = (shape.tints[tint] if shape.tint_of is not None else "") or part.colour
        points, normals, corners = _smooth(shape, chosen)
        primitives.append(
            {
                "attributes": {
                    "POSITION": buffer.add(points * _M, "VEC3", _ARRAY, bounds=True),
                    "NORMAL": buffer.add(normals, "VEC3", _ARRAY),
                },
                "indices": buffer.add(corners.reshape(-1).astype(np.uint32), "SCALAR", _ELEMENTS),
                "material": materials.of(part, colour),
            }
        )
    return {"name": part.name, "primitives": primitives}


def _smooth(shape: Mesh, chosen: NDArray[np.bool_]) -> tuple[Array, Array, NDArray[np.intp]]:
    """Points (k, 3), their unit normals (k, 3) and triangles (m, 3) of some of a mesh's triangles."""
    triangles = shape.triangles[chosen].astype(np.int64)
    faces = shape.face_of[chosen].astype(np.int64) if shape.face_of is not None else np.arange(len(triangles))
    corners = shape.vertices[triangles]
    across = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    key = np.repeat(faces, 3) * len(shape.vertices) + triangles.reshape(-1)
    used, numbers = np.unique(key, return_inverse=True)
    normals = np.zeros((len(used), 3))
    # weighed by area, so that long thin triangles do not bend them
    np.add.at(normals, numbers, np.repeat(across, 3, axis=0))
    size = np.linalg.norm(normals, axis=1, keepdims=True)
    normals = np.where(size > 1e-12, normals / np.maximum(size, 1e-12), [0.0, 0.0, 1.0])
    return shape.vertices[used % len(shape.vertices)], normals, numbers.reshape(-1, 3)


# motion


def _parts(
    project: Project, meshes: Mapping[str, Mesh], nodes: list[dict[str, Any]], number: Mapping[str, int], told: _Telling
) -> None:
    """Place the nodes of all parts, and tell how those move that something moves against what they lie in."""
    rest, row, reach = rest_poses(project), rows(project), _reaches(project, meshes)
    motion = Motion(project)
    moving = set(riders(project)) if len(told.sampled.times) > 1 else set()
    parents = [None if part.parent is None else row[part.parent] for part in project.parts]
    shares = depths(parents, [part.id in moving for part in project.parts])
    moves = Displacement(motion, told.sampled.times)
    still = at((0.0, 0.0, 0.0))
    known = (
        {}
        if moving
        else dict(zip([p.id for p in project.parts], world_poses(project, told.sampled.times[:1])[0], strict=True))
    )
    for k, part in enumerate(project.parts):
        parent = parents[k]
        above = None if parent is None else project.parts[parent]
        if part.id not in moving:
            own = placement_matrix(part.placement)
            if known:
                own = known[part.id] if above is None else inverse_rigid(known[above.id]) @ known[part.id]
            told.still(nodes[number[part.id]], own)
            continue

        def where(times: Array, part: str = part.id, above: str | None = above.id if above else None) -> Array:
            found = motion.poses(part, times)
            return found if above is None else inverse_rigid(motion.poses(above, times)) @ found

        turned = moves.of(part.id, WORLD, still).turn
        if above is not None:
            turned = np.minimum(turned + moves.of(above.id, WORLD, still).turn, moves.of(part.id, above.id, still).turn)
        at_rest = rest[k] if above is None else inverse_rigid(rest[row[above.id]]) @ rest[k]
        told.node(nodes, number[part.id], where, at_rest, float(reach[k]), turned, shares[k])


def _reaches(project: Project, meshes: Mapping[str, Mesh]) -> Array:
    """How far (parts,) in mm anything that hangs on a part is from its origin at rest."""
    rest, row = rest_poses(project), rows(project)
    found = np.zeros(len(project.parts))
    for k, part in enumerate(project.parts):
        if part.geometry is None:
            continue
        low, high = solid_mesh(meshes, part).bounds
        corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
        placed = corners @ rest[k, :3, :3].T + rest[k, :3, 3]
        here: str | None = part.id
        while here is not None:
            at = row[here]
            found[at] = max(found[at], float(np.linalg.norm(placed - rest[at, :3, 3], axis=1).max()))
            here = project.parts[at].parent
    return found


@dataclass
class _Telling:
    """Puts the motion of nodes into an animation, in as few keys as tell it."""

    buffer: _Buffer
    animation: dict[str, list[dict[str, Any]]]
    sampled: Samples
    tolerance: float
    moving: int = 0
    keys: int = 0
    samples: int = 0

    def still(self, node: dict[str, Any], there: Array) -> None:
        """Place a node at a matrix (4, 4)."""
        where, turn = there[:3, 3] * _M, _quaternions(there[None, :3, :3])[0]
        if np.abs(where).max() > 0:
            node["translation"] = where.tolist()
        if np.abs(turn - [0, 0, 0, 1]).max() > 1e-12:
            node["rotation"] = turn.tolist()

    def node(
        self,
        nodes: list[dict[str, Any]],
        number: int,
        where: Where,
        at_rest: Array | None,
        reach: float,
        turned: Array,
        shares: int = 1,
    ) -> None:
        """Tell how a node moves, whose place is told by a function of time: ``reach`` in mm is how far anything of it is from its origin,
        ``turned`` (n - 1,) how much it turns at most between samples, and ``shares`` how many nodes in a row the tolerance is for."""
        own = self.tolerance / shares
        sampled, local = finer(self.sampled, where, reach, own, turned, shares)
        places, turns = local[:, :3, 3], _quaternions(local[:, :3, :3])
        moved = float(np.abs(places - places[0]).max(initial=0.0)) > _STILL
        turning = float(np.abs(turns - turns[0]).max(initial=0.0)) > _STILL
        self.still(nodes[number], at_rest if at_rest is not None and not (moved or turning) else local[0])
        if not (moved or turning):
            return
        self.moving += 1
        # either may be off by half of it, less what lies between the samples
        share = _OF_KEYS * (0.5 * own if moved and turning else own)
        if moved:
            self._channel(number, "translation", place_keys(sampled, places, share), "VEC3")
        if turning:
            self._channel(number, "rotation", turn_keys(sampled, turns, share, reach, shares), "VEC4")
        self.samples += len(sampled.times) * (moved + turning)

    def _channel(self, node: int, path: str, told: Keys, kind: str) -> None:
        self.keys += len(told.times)
        moments = self.buffer.add(told.times, "SCALAR", bounds=True)
        values = told.values * _M if path == "translation" else told.values
        self.animation["samplers"].append(
            {
                "input": moments,
                "interpolation": "STEP" if told.step else "LINEAR",
                "output": self.buffer.add(values, kind),
            }
        )
        sampler = len(self.animation["samplers"]) - 1
        self.animation["channels"].append({"sampler": sampler, "target": {"node": node, "path": path}})


def _quaternions(rotation: Array) -> Array:
    """Unit quaternions (n, 4), x y z w, of rotations (n, 3, 3), each the nearer of both to the one before."""
    found = Rotation.from_matrix(rotation).as_quat()
    signs = np.cumprod(np.concatenate([[1.0], np.where(np.einsum("ij,ij->i", found[1:], found[:-1]) < 0, -1.0, 1.0)]))
    if found[0, 3] < 0:
        signs = -signs
    return np.asarray(found * signs[:, None])


# cameras


def _cameras(
    project: Project,
    meshes: Mapping[str, Mesh],
    nodes: list[dict[str, Any]],
    children: dict[int, list[int]],
    told: _Telling,
) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = []
    times = told.sampled.moments
    poses = world_poses(project, times)
    for camera in project.cameras:
        aspect = _aspect(project, camera)
        seen = views(project, meshes, camera, times, poses, aspect)
        half = float(seen.half_height(camera, aspect, 1.0)[0])
        lens: dict[str, Any]
        if camera.parallel:
            lens = {
                "type": "orthographic",
                "orthographic": {"xmag": half * aspect * _M, "ymag": half * _M, "znear": _NEAR, "zfar": _FAR},
            }
        else:
            yfov = float(seen.vertical_angle(camera, aspect, 1.0)[0])
            lens = {
                "type": "perspective",
                "perspective": {"yfov": yfov, "aspectRatio": aspect, "znear": _NEAR, "zfar": _FAR},
            }
        found.append({"name": camera.name, **lens})
        nodes.append({"name": camera.name, "camera": len(found) - 1})
        children.setdefault(0, []).append(len(nodes) - 1)
        first = _camera_matrices(seen)
        turned = (
            Rotation.from_matrix(np.swapaxes(first[:-1, :3, :3], 1, 2) @ first[1:, :3, :3]).magnitude()
            if len(times) > 1
            else np.zeros(0)
        )

        def where(moments: Array, camera: Camera = camera, aspect: float = aspect) -> Array:
            there = world_poses(project, moments)
            return _camera_matrices(views(project, meshes, camera, moments, there, aspect))

        # what it looks at should be off by no more
        away = float(np.linalg.norm(seen.target - seen.position, axis=1).max())
        told.node(nodes, len(nodes) - 1, where, None, away, turned)
    return found


def _camera_matrices(seen: Views) -> Array:
    """World matrices (n, 4, 4) of a camera of glTF: it looks along its -z, its +y up."""
    found = np.tile(np.eye(4), (len(seen.position), 1, 1))
    found[:, :3, :3] = np.stack([np.cross(seen.forward, seen.up), seen.up, -seen.forward], axis=2)
    found[:, :3, 3] = seen.position
    return found


def _aspect(project: Project, camera: Camera) -> float:
    return next((s.width / s.height for s in project.shots if s.camera == camera.id), 16 / 9)
