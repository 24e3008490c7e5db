"""All that is measured of a camera over times: for lanes, findings and tables. Lengths in mm, angles in degrees, times in s."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.camera_surroundings import Near, passed_through, surroundings
from kestrav.core.camera.framing import Framed, framed
from kestrav.core.camera.subject import Subject, keeps_in_view, subject_of
from kestrav.core.camera.turning import crossing_times, rates, rolls
from kestrav.core.camera.views import Views, views
from kestrav.core.camera.visibility import RAYS, Sight, sight
from kestrav.core.camera.walking import kept_distances
from kestrav.core.document.lookup import subtree
from kestrav.core.document.records import Camera, Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion_segments import by_thing
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.rest import rows

Array = NDArray[np.float64]

DEFAULT_ASPECT = 16 / 9


class Judged(msgspec.Struct, frozen=True, dict=True):
    """A camera at times (n,), in an output frame of a width by height ``aspect``; each measure is worked out when first asked for."""

    project: Project
    meshes: Mapping[str, Mesh]
    camera: Camera
    times: Array
    aspect: float = DEFAULT_ASPECT
    rays: int = RAYS

    @cached_property
    def poses(self) -> Array:
        """World poses (n, parts, 4, 4)."""
        return world_poses(self.project, self.times)

    @cached_property
    def seen(self) -> Views:
        """Where it stands and looks."""
        return views(self.project, self.meshes, self.camera, self.times, self.poses, self.aspect)

    @cached_property
    def subject(self) -> Subject | None:
        """What its picture is of."""
        return subject_of(self.project, self.meshes, self.camera)

    @cached_property
    def framed(self) -> Framed | None:
        """How its subject lies in the frame."""
        if self.subject is None:
            return None
        return framed(self.camera, self.subject, self.seen, self.poses, self.aspect)

    @cached_property
    def sight(self) -> Sight | None:
        """How much of its subject is seen."""
        if self.subject is None:
            return None
        return sight(
            self.project,
            self.meshes,
            self.camera,
            self.subject,
            self.seen,
            self.times,
            self.poses,
            self.aspect,
            self.rays,
        )

    @cached_property
    def near(self) -> Near:
        """What is nearest to it, of one that walks to its whole height; what it rides with does not count."""
        row = rows(self.project)
        carriers = {getattr(item, "carrier", "") for item in by_thing(self.project).get(self.camera.id, ())}
        but = frozenset(row[i] for c in carriers if c in row for i in subtree(self.project, c))
        if self.camera.walk is not None:
            return kept_distances(self.project, self.meshes, self.camera.walk, self.seen.position, self.poses)
        return surroundings(self.project, self.meshes, self.seen.position, self.poses, but)

    @cached_property
    def passed(self) -> NDArray[np.intp]:
        """The row of what it goes through from each frame to the next (n − 1,), or −1."""
        return passed_through(self.project, self.meshes, self.seen.position, self.poses)

    @cached_property
    def _rates(self) -> tuple[Array, Array, Array]:
        return rates(self.project, self.meshes, self.camera, self.times, self.aspect)

    @property
    def speed(self) -> Array:
        """Speeds (n,) in mm/s."""
        return self._rates[0]

    @property
    def pan_rate(self) -> Array:
        """How fast (n,) its look turns, in degrees/s."""
        return np.degrees(self._rates[1])

    @cached_property
    def roll(self) -> Array:
        """How far (n,) its horizon is rolled, in degrees."""
        return np.degrees(rolls(self.seen))

    @cached_property
    def crossing(self) -> Array:
        """How long (n,) in s what it looks at would take to cross the frame."""
        aimed = self.subject if keeps_in_view(self.camera) else None
        return crossing_times(
            self.project, self.meshes, self.camera, aimed, self.times, self.seen, self.poses, self.aspect
        )


def shots_of(project: Project, camera: Camera) -> list[Shot]:
    """The shots that a camera films."""
    return [shot for shot in project.shots if shot.camera == camera.id]


def shot_times(shot: Shot) -> Array:
    """The times (n,) of a shot's frames."""
    return np.array([frame_time(shot, frame) for frame in range(frame_count(shot))])


def of_shot(project: Project, meshes: Mapping[str, Mesh], shot: Shot, camera: Camera) -> Judged:
    """A shot's camera at its frames."""
    return Judged(project, meshes, camera, shot_times(shot), shot.width / shot.height)


def of_camera(project: Project, meshes: Mapping[str, Mesh], camera: Camera, times: ArrayLike | None = None) -> Judged:
    """A camera over the whole project, in the frame of its first shot."""
    shots = shots_of(project, camera)
    aspect = shots[0].width / shots[0].height if shots else DEFAULT_ASPECT
    return Judged(project, meshes, camera, frame_times(project) if times is None else np.asarray(times, float), aspect)
