"""What a camera's picture is of: the outermost points of a thing, wherever its parts are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
import scipy
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import shown_parts, subtree
from kestrav.core.document.records import Camera, OrbitShape, PartAim, PointAim, Project
from kestrav.core.editing.floor import hull_of
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import movers, moving_state
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]


class Subject(msgspec.Struct, frozen=True):
    """A thing as its rigid groups: for each the row of the part that it moves with, and points (k, 3) in that part's own
    coordinates. Whatever is seen of the thing lies within what is seen of the points."""

    thing: str
    groups: tuple[tuple[int, Array], ...]
    rows: tuple[int, ...]  # of all its shown solids
    belongs: tuple[int, ...] = ()  # of these and of those that move by themselves: what belongs to it never hides it

    def places(self, poses: Array) -> Array:
        """The points in space (n, k, 3) under world poses (n, parts, 4, 4)."""
        return self.placed(self.group_poses(poses))

    def places_at(self, project: Project, times: ArrayLike) -> Array:
        """The points in space (n, k, 3) at times (n,)."""
        return self.placed(self.group_poses_at(project, times))

    def group_poses(self, poses: Array) -> list[Array]:
        """Of each group its poses (n, 4, 4), out of world poses (n, parts, 4, 4)."""
        return [poses[:, row] for row, _ in self.groups]

    def group_poses_at(self, project: Project, times: ArrayLike) -> list[Array]:
        """Of each group its poses (n, 4, 4) at times (n,)."""
        motion, times = Motion(project), np.asarray(times, float)
        return [motion.poses(project.parts[row].id, times) for row, _ in self.groups]

    def placed(self, group_poses: Sequence[Array]) -> Array:
        """The points in space (n, k, 3), the groups being at poses (n, 4, 4) each."""
        return np.concatenate(
            [apply(pose, points) for pose, (_, points) in zip(group_poses, self.groups, strict=True)], axis=1
        )

    def along(self, group_poses: Sequence[Array], origins: Array, directions: Array) -> Array:
        """How far in mm the points (n, k) lie from origins (n, 3) along unit vectors (n, 3), the groups being at poses (n, 4, 4) each: the
        same as of their places in space, which need not be worked out for it."""
        ends = np.cumsum([0, *(len(points) for _, points in self.groups)])
        along = np.empty((len(origins), ends[-1]))
        for k, (pose, (_, points)) in enumerate(zip(group_poses, self.groups, strict=True)):
            mine = along[:, ends[k] : ends[k + 1]]
            np.matmul(np.einsum("nij,ni->nj", pose[:, :3, :3], directions), points.T, out=mine)
            mine += np.einsum("ni,ni->n", pose[:, :3, 3] - origins, directions)[:, None]
        return along


def subject_id(camera: Camera) -> str:
    """The thing that a camera's picture is of, or none."""
    return camera.subject or (camera.aim.part if isinstance(camera.aim, PartAim) else "")


def keeps_in_view(camera: Camera) -> bool:
    """Whether a camera aims at what its picture is of: at it, or at a point where that is."""
    if isinstance(camera.aim, PartAim):
        return subject_id(camera) == camera.aim.part
    return isinstance(camera.aim, PointAim) and bool(camera.subject)


def subject_of(project: Project, meshes: Mapping[str, Mesh], camera: Camera) -> Subject | None:
    """What a camera's picture is of; None where it is of nothing, or of nothing that is shown."""
    thing = subject_id(camera)
    return thing_as_subject(project, meshes, thing, _orbited_with(project, camera, thing)) if thing else None


def _orbited_with(project: Project, camera: Camera, thing: str) -> tuple[str, ...]:
    """What else the orbit that a camera rides on goes around, if it goes around its subject: the picture is of all of it."""
    paths = {run.path for run in project.runs if run.rider == camera.id}
    orbits = [path.shape for path in project.paths if path.id in paths and isinstance(path.shape, OrbitShape)]
    around = next((shape.around for shape in orbits if thing in shape.around), ())
    return tuple(other for other in around if other != thing)


_subjects: Memo[Subject | None] = Memo(32)


def thing_as_subject(
    project: Project, meshes: Mapping[str, Mesh], thing: str, others: tuple[str, ...] = ()
) -> Subject | None:
    """A part or assembly as a subject, with others that are part of the picture, and without parts of it that move by themselves; None when
    nothing of it is shown."""
    things = (thing, *others)
    return _subjects.get((*moving_state(project), meshes), lambda: _subject(project, meshes, things), *things)


def _subject(project: Project, meshes: Mapping[str, Mesh], things: tuple[str, ...]) -> Subject | None:
    row, shown = rows(project), shown_parts(project)
    inner = list(dict.fromkeys(i for thing in things for i in subtree(project, thing)))
    # what leaves an assembly by itself is no longer what its picture is of
    excluded = {i for mover in movers(project) & set(inner) - set(things) for i in subtree(project, mover)}
    every = [row[i] for i in inner if i in shown and project.parts[row[i]].geometry is not None]
    solids = [r for r in every if project.parts[r].id not in excluded] or every
    if not solids:
        return None
    groups, rest = moving_groups(project), rest_poses(project)
    still = next((r for r in solids if project.parts[r].id not in groups), -1)
    together: dict[int, list[Array]] = {}
    for r in solids:
        part = project.parts[r]
        # what does not move is told by any part that does not
        leader = groups.get(part.id, still)
        together.setdefault(leader, []).append(
            apply(inverse_rigid(rest[leader]) @ rest[r], hull_of(solid_mesh(meshes, part)))
        )
    return Subject(
        things[0], tuple((r, _outermost(np.concatenate(p))) for r, p in together.items()), tuple(solids), tuple(every)
    )


def _outermost(points: Array) -> Array:
    try:
        return np.asarray(points[scipy.spatial.ConvexHull(points).vertices])
    except scipy.spatial.QhullError:
        return points
