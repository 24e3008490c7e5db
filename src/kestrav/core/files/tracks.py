"""How the parts and cameras of a scene move, as few keys as tell it: what glTF, OpenUSD and the review page are written from.

Lengths in mm, times in s, angles in rad; right-handed, Z up.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.camera.focusing import focus_distances
from kestrav.core.camera.views import Views, views
from kestrav.core.document.records import Camera, Project
from kestrav.core.errors import BadInput
from kestrav.core.files.key_reduction import told_by
from kestrav.core.files.motion_keys import (
    TURN_OFF,
    Keys,
    Samples,
    Where,
    depths,
    finer,
    place_keys,
    turn_keys,
)
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.bounds import WORLD, at
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import riders, world_poses
from kestrav.core.parts.rest import placement_matrix, rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

TOLERANCE = 0.05  # mm that anything of a part may be off between its keys
_STILL = 1e-9
_OF_KEYS = 0.7  # of the tolerance, that the samples may be off what the keys tell
_LENS_OFF = 1e-4  # share of a focal length or distance that may be off between its keys


class Exactness(msgspec.Struct, frozen=True):
    """By how much anything may be off between keys: ``place`` in mm, of any point, and ``turn`` in rad."""

    place: float = TOLERANCE
    turn: float = TURN_OFF

    def __post_init__(self) -> None:
        if not self.place > 0:
            raise BadInput(f"a tolerance of {self.place:g} mm is not possible; give above 0")

    def shared(self, nodes: int) -> Exactness:
        """What each of some nodes that hang on one another may be off."""
        return Exactness(self.place / nodes, self.turn / nodes)


EXACTNESS = Exactness()  # where nothing else is asked


class Track(msgspec.Struct, frozen=True, eq=False):
    """A node's matrix (4, 4) where it stands, and the keys of its places (k, 3) and turns (k, 4: x, y, z, w) where it moves; ``samples``
    are how many these were taken from."""

    stands: Array
    places: Keys | None = None
    turns: Keys | None = None
    samples: int = 0

    @property
    def moves(self) -> bool:
        """Whether it has any keys."""
        return self.places is not None or self.turns is not None

    @property
    def keys(self) -> int:
        """How many keys it has."""
        return sum(len(keys.times) for keys in (self.places, self.turns) if keys is not None)


class CameraTrack(msgspec.Struct, frozen=True, eq=False):
    """A camera's motion in space (it looks along its -z, its +y up), and its lens by keys: at ``times`` (k,) the focal lengths, the heights
    of what a parallel one shows, and the distances that are sharp, each (k,) in mm. ``aspect`` is that of its pictures."""

    camera: Camera
    track: Track
    aspect: float
    times: Array
    focal_length: Array
    view_height: Array
    focus: Array

    @property
    def changes(self) -> bool:
        """Whether the lens changes."""
        return len(self.times) > 1


def part_tracks(
    project: Project, meshes: Mapping[str, Mesh], sampled: Samples, exact: Exactness = EXACTNESS
) -> list[Track]:
    """How each part moves against what it lies in, in the order of the project's parts."""
    rest, row, reach = rest_poses(project), rows(project), _reaches(project, meshes)
    motion = Motion(project)
    moving = set(riders(project)) if len(sampled.times) > 1 else set()
    parents = [None if part.parent is None else row[part.parent] for part in project.parts]
    shares = depths(parents, [part.id in moving for part in project.parts])
    moves = Displacement(motion, sampled.times)
    still = at((0.0, 0.0, 0.0))
    known = (
        {}
        if moving
        else dict(zip([p.id for p in project.parts], world_poses(project, sampled.times[:1])[0], strict=True))
    )
    tracks = []
    for k, part in enumerate(project.parts):
        parent = parents[k]
        above = None if parent is None else project.parts[parent]
        if part.id not in moving:
            own = placement_matrix(part.placement)
            if known:
                own = known[part.id] if above is None else inverse_rigid(known[above.id]) @ known[part.id]
            tracks.append(Track(own))
            continue

        def where(times: Array, part: str = part.id, above: str | None = above.id if above else None) -> Array:
            poses = motion.poses(part, times)
            return poses if above is None else inverse_rigid(motion.poses(above, times)) @ poses

        turned = moves.of(part.id, WORLD, still).turn
        if above is not None:
            turned = np.minimum(turned + moves.of(above.id, WORLD, still).turn, moves.of(part.id, above.id, still).turn)
        at_rest = rest[k] if above is None else inverse_rigid(rest[row[above.id]]) @ rest[k]
        tracks.append(_track(sampled, where, at_rest, float(reach[k]), turned, exact.shared(shares[k])))
    return tracks


def camera_tracks(
    project: Project, meshes: Mapping[str, Mesh], sampled: Samples, exact: Exactness = EXACTNESS
) -> list[CameraTrack]:
    """How each camera moves, in the order of the project's cameras."""
    times = sampled.moments
    poses = world_poses(project, times)
    return [_camera_track(project, meshes, camera, sampled, poses, exact) for camera in project.cameras]


def _camera_track(
    project: Project, meshes: Mapping[str, Mesh], camera: Camera, sampled: Samples, poses: Array, exact: Exactness
) -> CameraTrack:
    aspect = next((s.width / s.height for s in project.shots if s.camera == camera.id), 16 / 9)
    times = sampled.moments
    seen = views(project, meshes, camera, times, poses, aspect)
    first = camera_matrices(seen)
    turned = scipy.spatial.transform.Rotation.from_matrix(
        np.swapaxes(first[:-1, :3, :3], 1, 2) @ first[1:, :3, :3]
    ).magnitude()

    def where(moments: Array) -> Array:
        return camera_matrices(views(project, meshes, camera, moments, aspect=aspect))

    # what it looks at should be off by no more
    away = float(np.linalg.norm(seen.target - seen.position, axis=1).max())
    track = _track(sampled, where, None, away, turned if len(times) > 1 else np.zeros(0), exact)
    lens = np.column_stack([seen.focal_length, seen.view_height, focus_distances(project, camera, times, poses, seen)])
    kept = _lens_keys(sampled.times, lens)
    return CameraTrack(camera, track, aspect, sampled.times[kept], *(lens[kept, k] for k in range(3)))


def _lens_keys(times: Array, lens: Array) -> NDArray[np.intp]:
    """The samples of a lens (n, 3) that tell the rest of them, going evenly between them."""
    scaled = lens / np.maximum(np.abs(lens).max(axis=0), 1e-9)
    if float(np.abs(scaled - scaled[0]).max()) <= _LENS_OFF:
        return np.zeros(1, np.intp)

    def off(first: int, last: int) -> float:
        inner = slice(first + 1, last)
        share = ((times[inner] - times[first]) / (times[last] - times[first]))[:, None]
        return float(np.abs(scaled[inner] - scaled[first] - share * (scaled[last] - scaled[first])).max(initial=0.0))

    return told_by(len(times), off, _LENS_OFF)


def camera_matrices(seen: Views) -> Array:
    """World matrices (n, 4, 4) of a camera that looks along its -z, its +y up."""
    matrices = np.tile(np.eye(4), (len(seen.position), 1, 1))
    matrices[:, :3, :3] = np.stack([np.cross(seen.forward, seen.up), seen.up, -seen.forward], axis=2)
    matrices[:, :3, 3] = seen.position
    return matrices


def _track(
    sampled: Samples, where: Where, at_rest: Array | None, reach: float, turned: Array, exact: Exactness
) -> Track:
    """The track of a node whose place is told by a function of time: ``reach`` in mm is how far anything of it is from its origin, and
    ``turned`` (n - 1,) how much it turns at most between samples."""
    sampled, local = finer(sampled, where, reach, exact.place, turned, exact.turn)
    places, turns = local[:, :3, 3], quaternions(local[:, :3, :3])
    moved = float(np.abs(places - places[0]).max(initial=0.0)) > _STILL
    turning = float(np.abs(turns - turns[0]).max(initial=0.0)) > _STILL
    if not (moved or turning):
        return Track(at_rest if at_rest is not None else local[0])
    # either may be off by half of it, less what lies between the samples
    share = _OF_KEYS * (0.5 * exact.place if moved and turning else exact.place)
    return Track(
        local[0],
        place_keys(sampled, places, share) if moved else None,
        turn_keys(sampled, turns, share, reach, exact.turn) if turning else None,
        len(sampled.times) * (moved + turning),
    )


def _reaches(project: Project, meshes: Mapping[str, Mesh]) -> Array:
    """How far (parts,) in mm anything that hangs on a part is from its origin at rest."""
    rest, row = rest_poses(project), rows(project)
    reaches = np.zeros(len(project.parts))
    for k, part in enumerate(project.parts):
        if part.geometry is None:
            continue
        corners = box_corners(solid_mesh(meshes, part).bounds)
        placed = corners @ rest[k, :3, :3].T + rest[k, :3, 3]
        here: str | None = part.id
        while here is not None:
            at = row[here]
            reaches[at] = max(reaches[at], float(np.linalg.norm(placed - rest[at, :3, 3], axis=1).max()))
            here = project.parts[at].parent
    return reaches


def quaternions(rotation: Array) -> Array:
    """Unit quaternions (n, 4), x y z w, of rotations (n, 3, 3), each the nearer of both to the one before."""
    turns = scipy.spatial.transform.Rotation.from_matrix(rotation).as_quat()
    signs = np.cumprod(np.concatenate([[1.0], np.where(np.einsum("ij,ij->i", turns[1:], turns[:-1]) < 0, -1.0, 1.0)]))
    if turns[0, 3] < 0:
        signs = -signs
    return np.asarray(turns * signs[:, None])
