"""What a finding is, and what the rules are given to look at."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.judged import Judged, shot_times
from kestrav.core.clearance.certificate import Certificate
from kestrav.core.clearance.contacts import Touch, touches
from kestrav.core.clearance.sweep import Clearance
from kestrav.core.derive import derived
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import Camera, Project, Shot
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import all_bounds, rest_poses

Array = NDArray[np.float64]
Severity = Literal["breach", "warning", "note"]

_HAIR = 1e-9  # s


class Fix(msgspec.Struct, frozen=True):
    """An edit that removes a finding: what to call it, and what to do to the project.

    It is an edit and not the edited project, so that one accepted later keeps what was edited meanwhile. Meshes
    that it puts into the project are given with it, or made by ``with_meshes``, which does it instead of ``edit`` where meshes are to be
    worked out. ``detail`` is what it comes to, when that is known.
    """

    label: str
    edit: Callable[[Project], Project]
    meshes: Mapping[str, Mesh] = msgspec.field(default_factory=dict)
    detail: str = ""
    with_meshes: Callable[[Project, Mapping[str, Mesh]], tuple[Project, Mapping[str, Mesh]]] | None = None

    def applied(self, project: Project, meshes: Mapping[str, Mesh]) -> tuple[Project, Mapping[str, Mesh]]:
        """The project with it done, and the meshes that are new. Raises BadInput when it cannot be."""
        if self.with_meshes is not None:
            return self.with_meshes(project, meshes)
        return self.edit(project), self.meshes


class Finding(msgspec.Struct, frozen=True):
    """A fault: the rule that found it, what it is about, where in time, the number and its limit.

    ``subject`` are ids; ``time`` in s is the worst moment; ``intervals`` are frames (first, last);
    ``place`` is a point in space to look at, and ``gap`` two points to draw a dimension line between. ``also`` are
    other fixes.
    """

    rule: str
    severity: Severity
    subject: tuple[str, ...]
    title: str
    detail: str
    time: float
    value: float
    unit: str
    limit: float
    intervals: tuple[tuple[int, int], ...] = ()
    place: tuple[float, float, float] | None = None
    gap: tuple[tuple[float, float, float], tuple[float, float, float]] | None = None
    fix: Fix | None = None
    also: tuple[Fix, ...] = ()


class Evidence(msgspec.Struct, frozen=True, dict=True):
    """What rules look at: the project, its meshes, the frames' times, the clearance if measured, and
    its certificate if there is one."""

    project: Project
    meshes: Mapping[str, Mesh]
    times: Array
    clearance: Clearance | None = None
    certificate: Certificate | None = None

    def renewed(self, tried: Project) -> Project:
        """The project as an edit that is tried makes it, with what hangs on it worked out; as it is where that cannot be."""
        try:
            return derived(tried, self.meshes, self.project)
        except BadInput:
            return tried

    @cached_property
    def rest(self) -> Array:
        """World poses (parts, 4, 4) with no run under way."""
        return rest_poses(self.project)

    @cached_property
    def boxes(self) -> dict[str, Array]:
        """Bounds (2, 3) at rest of every solid and of every assembly that holds one."""
        return all_bounds(self.project, self.rest)

    @cached_property
    def movers(self) -> list[str]:
        """Ids of what has runs, and of what is meant to move."""
        project = self.project
        ridden = movers(project)
        return [part.id for part in project.parts if part.id in ridden or part.role == "moving"]

    def frame(self, time: float) -> int:
        """The frame nearest to a time; 0 where there are none."""
        return frame_of(self.times, time) if len(self.times) else 0

    @cached_property
    def touches(self) -> tuple[Touch, ...]:
        """The comings together of parts that are meant to touch, in the order of time."""
        return touches(self.project, self.meshes, meant=True)

    @cached_property
    def filmed(self) -> tuple[tuple[Shot, Judged], ...]:
        """The shots with their cameras at their frames, as far as these lie within the frames looked at."""
        filmed = []
        for shot in self.project.shots:
            camera = get_as(self.project, shot.camera, Camera)
            times = shot_times(shot)
            if len(self.times):
                times = times[(times >= self.times[0] - _HAIR) & (times <= self.times[-1] + _HAIR)]
            if len(times):
                filmed.append((shot, Judged(self.project, self.meshes, camera, times, shot.width / shot.height)))
        return tuple(filmed)

    @cached_property
    def poses(self) -> Array:
        """World poses (n, parts, 4, 4) at the frames."""
        return world_poses(self.project, self.times)


def point(values: Array) -> tuple[float, float, float]:
    """An array (3,) as plain numbers."""
    x, y, z = (float(v) for v in values)
    return (x, y, z)


def at_moment(
    evidence: Evidence,
    subject: tuple[str, ...],
    time: float,
    place: Array,
    frames: tuple[tuple[int, int], ...] = (),
    **fields: Any,
) -> Finding:
    """A finding of a moment and a place (3,): over some frames, or that of the moment."""
    frame = evidence.frame(time)
    return Finding(
        subject=subject,
        time=time,
        intervals=frames or ((frame, frame),),
        place=point(place),
        **fields,
    )


def name_of(project: Project, part_id: str) -> str:
    """A part's name in quotes' place: plain, for titles."""
    return next((p.name for p in project.parts if p.id == part_id), part_id)


def frame_of(times: Array, time: float) -> int:
    """The frame nearest to a time."""
    return int(np.argmin(np.abs(times - time)))
