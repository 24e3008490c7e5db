"""A project's product, motion, cameras and finishes as the review page takes them.

Lengths in mm, times in s, angles in rad; right-handed, Z up, as everywhere in Kestrav.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec
import numpy as np
from msgspec.structs import astuple
from numpy.typing import NDArray

from kestrav.core.camera.lens import frame_on_sensor
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Finish, Project
from kestrav.core.document.surfaces import Pictures
from kestrav.core.files.motion_keys import Keys, samples
from kestrav.core.files.tracks import Exactness, Track, camera_tracks, part_tracks
from kestrav.core.finishes.applied import finishes_of
from kestrav.core.finishes.pictures import decoded, file_of, picture_mapped
from kestrav.core.geometry.meshes import Mesh, smooth_surface
from kestrav.core.geometry.simplifying import simplified
from kestrav.core.kinematics.poses import riders
from kestrav.core.kinematics.runs import span
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.progress import Progress
from kestrav.core.review.packing import Pack

Array = NDArray[np.float64]

EXACT = Exactness(0.008, float(np.radians(0.008)))  # 0.01 mm and 0.01° are promised
GRID = 0.01  # mm that points of surfaces are kept to
# by which the size of a page is told before it is made: of the page itself, of a key, and keys of what moves
_PAGE_BYTES, _KEY_BYTES, _KEYS_PER_S, _CAMERA_KEYS_PER_S = 650_000, 14, 80, 200


class Contents(msgspec.Struct, frozen=True):
    """What there is in a scene: ``parts`` that are shown, ``triangles``, how far surfaces are off in mm, keys of the motion."""

    parts: int
    triangles: int
    off: float
    keys: int


def pack_scene(
    project: Project,
    meshes: Mapping[str, Mesh],
    pack: Pack,
    simplify: float = 0.0,
    progress: Progress | None = None,
) -> tuple[dict[str, Any], Contents]:
    """Put a scene into a pack; returns what its header says of it. Surfaces may be off by ``simplify`` mm."""
    tell = progress or (lambda share: None)
    shown = shown_parts(project)
    chosen = [part for part in project.parts if part.id in shown]
    row = {part.id: k for k, part in enumerate(chosen)}
    finishes = _Finishes(project)
    shapes: dict[object, int] = {}
    kinds: list[dict[str, Any]] = []
    triangles, off = 0, 0.0
    counts: list[int] = []
    sampled = samples(project)
    tell(0.02)
    tracks = dict(zip([p.id for p in project.parts], part_tracks(project, meshes, sampled, EXACT), strict=True))
    tell(0.25)
    nodes = []
    for part in chosen:
        node: dict[str, Any] = {
            "id": part.id,
            "name": part.name,
            "parent": -1 if part.parent is None else row[part.parent],
            "colour": part.colour,
            "opacity": part.opacity,
            **_track(pack, tracks[part.id]),
        }
        if part.geometry is not None and part.opacity > 0:
            key = part.geometry, part.scale
            if key not in shapes:
                shapes[key] = len(kinds)
                kind, count, amount = _shape(pack, solid_mesh(meshes, part), simplify)
                kinds.append(kind)
                counts.append(count)
                off = max(off, amount)
            node["shape"] = shapes[key]
            triangles += counts[shapes[key]]
        nodes.append(node)
    tell(0.3)
    cameras = []
    for one in camera_tracks(project, meshes, sampled, EXACT):
        camera = {
            "id": one.camera.id,
            "name": one.camera.name,
            "parallel": one.camera.parallel,
            "aspect": one.aspect,
            # the angle of view follows from this and the focal length
            "frame": frame_on_sensor(one.camera, one.aspect, 1.0)[1],
            "lens": pack.add(np.column_stack([one.times, one.focal_length, one.view_height])),
            "fades": [[row[f.thing], f.start, f.end, f.opacity] for f in one.camera.fades if f.thing in row],
            **_track(pack, one.track),
        }
        cameras.append(camera)
    tell(1.0)
    colourways = {"": finishes.of(chosen, "")} | {
        colourway.id: finishes.of(chosen, colourway.id) for colourway in project.colourways
    }
    scene = {
        "parts": nodes,
        "shapes": kinds,
        "grid": GRID,
        "cameras": cameras,
        "finishes": finishes.entries,
        "colourways": [
            {"id": "", "name": "Own finishes", "of": pack.add(colourways[""], "i4")},
            *({"id": w.id, "name": w.name, "of": pack.add(colourways[w.id], "i4")} for w in project.colourways),
        ],
        "colourway": project.colourway,
    }
    keys = sum(track.keys for track in tracks.values())
    return scene, Contents(sum(p.geometry is not None for p in chosen), triangles, off, keys)


class _Finishes:
    """Finishes that parts have, once each."""

    def __init__(self, project: Project) -> None:
        self._project = project
        self._known: dict[str, int] = {}
        self.entries: list[dict[str, Any]] = []

    def of(self, parts: Sequence[Any], colourway: str) -> NDArray[np.int32]:
        """The numbers (n,) of parts' finishes in a colourway; -1 for plain colour."""
        given = finishes_of(self._project, colourway)
        return np.array([self._number(given.get(part.id)) for part in parts], np.int32)

    def _number(self, finish: Finish | None) -> int:
        if finish is None:
            return -1
        if finish.id not in self._known:
            self._known[finish.id] = len(self.entries)
            self.entries.append(
                {
                    "name": finish.name,
                    "colour": finish.colour,
                    "metallic": finish.metallic,
                    "roughness": finish.roughness,
                    "transmission": finish.transmission,
                    "emission": finish.emission,
                    "pictures": None if finish.pictures is None else _pictures(finish, finish.pictures),
                }
            )
        return self._known[finish.id]


def _pictures(finish: Finish, pictures: Pictures) -> dict[str, Any]:
    """The pictures of a finish as addresses that hold them, and how much they count."""
    packed: dict[str, Any] = {"factor": pictures.factor, "relief": finish.relief, "occlusion": finish.contrast}
    for kind in ("colour", "normal", "surface", "emission"):
        text = getattr(pictures, kind)
        if text:
            packed[kind] = f"data:image/{file_of(text)[1]};base64,{text}"
    packed["clear"] = bool(pictures.colour) and decoded(pictures.colour).shape[2] == 4
    return packed


def _shape(pack: Pack, mesh: Mesh, simplify: float) -> tuple[dict[str, Any], int, float]:
    """A mesh, smooth within each CAD face and sharp between them, in groups of one colour each; its triangles, and how far it is off."""
    tints = mesh.tint_of if mesh.tint_of is not None else np.zeros(len(mesh.triangles), np.int32)
    points, corners, groups, places_on = [], [], [], []
    first = count = 0
    off = 0.0
    for tint in np.unique(tints):
        chosen = tints == tint
        if simplify > 0 and mesh.face_of is None:
            # what is not smooth anywhere has no points in common until they are joined
            body = mesh.body
            places, triangles, amount = simplified(np.asarray(body.vertices), np.asarray(body.faces)[chosen], simplify)
            places, _, triangles = smooth_surface(
                Mesh(places, triangles.astype(np.int32)), np.ones(len(triangles), bool)
            )
        else:
            places, _, triangles = smooth_surface(mesh, chosen)
            amount = 0.0
            if mesh.uv is not None and simplify == 0:
                mapped = picture_mapped(places, triangles, mesh.uv[chosen])
                places, triangles = places[mapped.source], mapped.triangles
                places_on.append(mapped.uv)
            if simplify > 0:
                places, triangles, amount = simplified(places, triangles, simplify)
        off = max(off, amount)
        points.append(places)
        corners.append(triangles + first)
        colour = mesh.tints[tint] if mesh.tint_of is not None else ""
        groups.append([3 * count, 3 * len(triangles), colour])
        first += len(places)
        count += len(triangles)
    grid = np.rint(np.concatenate(points) / GRID).astype(np.int64)
    # what is too large for the grid's numbers is nothing that one could see 0.01 mm of
    packed = {"points": pack.add(np.clip(grid, -(2**30), 2**30), "i4"), "groups": groups}
    if places_on:
        packed["uv"] = pack.add(np.concatenate(places_on), "f4")
    return (
        packed | {"triangles": pack.add(np.concatenate(corners).reshape(-1), "i4")},
        count,
        off + (GRID if off else 0.0),
    )


def _track(pack: Pack, track: Track) -> dict[str, Any]:
    packed: dict[str, Any] = {"stands": pack.add(track.stands.reshape(-1))}
    if track.places is not None:
        packed["places"] = _keys(pack, track.places)
    if track.turns is not None:
        packed["turns"] = _keys(pack, track.turns)
    return packed


def _keys(pack: Pack, keys: Keys) -> dict[str, Any]:
    return {"times": pack.add(keys.times), "values": pack.add(keys.values), "step": keys.step}


def about_bytes(project: Project, meshes: Mapping[str, Mesh], simplify: float) -> int:
    """About how many bytes a review page has whose surfaces may be off by ``simplify`` mm: its shapes as they will be, its motion by what
    motions usually need (a rule of thumb of our own)."""
    pack, shown = Pack(), shown_parts(project)
    solids = {
        (part.geometry, part.scale): part for part in project.parts if part.geometry is not None and part.id in shown
    }
    for part in solids.values():
        _shape(pack, solid_mesh(meshes, part), simplify)
    shapes = len(pack.packed({}, level=1)) + sum(
        len(text) for finish in project.finishes if finish.pictures is not None for text in astuple(finish.pictures)
    )
    keys = span(project) * (_KEYS_PER_S * len(riders(project)) + _CAMERA_KEYS_PER_S * len(project.cameras))
    return int(_PAGE_BYTES + 4 / 3 * (shapes + _KEY_BYTES * keys))
