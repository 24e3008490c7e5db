"""Which pairs are in contact by the way they are built or used, and when that is known. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.bodies import Bodies, Pair, bodies_of
from kestrav.core.clearance.depth_limit import nested
from kestrav.core.document.lookup import named_parts, solids, subtree
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_distances, turned_bounds
from kestrav.core.geometry.models import nearest, placed
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import begins, course_of
from kestrav.core.parts.rest import rest_poses

Array = NDArray[np.float64]

Reason = Literal["at rest", "taken up or set down", "works on", "intended"]

_HAIR = 1e-9  # mm


class Meant(msgspec.Struct, frozen=True):
    """A pair that is in contact: why, whether it is as all stands at rest, and at which ``times`` in s besides; ``always`` if it may be
    whenever."""

    pair: Pair
    reason: Reason
    at_rest: bool
    times: tuple[float, ...] = ()
    always: bool = False


def touching_at_rest(project: Project, meshes: Mapping[str, Mesh], within: float | None = None) -> tuple[Pair, ...]:
    """Pairs that move to each other and touch or overlap with no run under way; or that are within a distance in mm."""
    return resting_contacts(project, bodies_of(project, meshes), within)


def resting_contacts(project: Project, bodies: Bodies, within: float | None = None) -> tuple[Pair, ...]:
    """Those of the bodies' pairs that touch or overlap as all stands at rest, or are within a distance in mm."""
    limit = project.settings.contact_distance if within is None else within
    rest = rest_poses(project)[bodies.rows]
    bounds = turned_bounds(bodies.boxes, rest)
    close = np.flatnonzero(box_distances(bounds[bodies.first], bounds[bodies.second]) <= limit)
    transforms = [placed(m) for m in rest]
    pairs = []
    for k in close:
        a, b = bodies.first[k], bodies.second[k]
        near = nearest(bodies.models[a], transforms[a], bodies.models[b], transforms[b], limit + _HAIR)
        if near is not None or nested(bodies.solid(a), inverse_rigid(rest[b]) @ rest[a], bodies.solid(b)):
            pairs.append(Pair(bodies.ids[a], bodies.ids[b]))
    return tuple(pairs)


def standing_at(project: Project, bodies: Bodies, need: Array) -> Array:
    """How far apart (p,) the bodies' pairs stand with no run under way, of those that are nearer than they need be in mm (p,); infinite for
    the others, and for those in contact."""
    rest = rest_poses(project)[bodies.rows]
    bounds = turned_bounds(bodies.boxes, rest)
    distances = np.full(len(need), np.inf)
    transforms = [placed(m) for m in rest]
    for k in np.flatnonzero(box_distances(bounds[bodies.first], bounds[bodies.second]) < need):
        a, b = bodies.first[k], bodies.second[k]
        near = nearest(bodies.models[a], transforms[a], bodies.models[b], transforms[b], float(need[k]))
        if near is not None and near.distance > project.settings.contact_distance:
            distances[k] = near.distance
    return distances


def working_pairs(project: Project) -> tuple[Pair, ...]:
    """Pairs that work on each other, and so are as near as they are built: both ends of gears, rods and what hangs on their pins."""
    links: list[tuple[str, str]] = [(gear.a.part, gear.b.part) for gear in project.gears]
    for rod in project.rods:
        links += [(rod.part, other) for other in named_parts(rod)[1:]]
    pairs = []
    for one, two in links:
        sides = [[part.id for part in solids(project, thing)] for thing in (one, two)]
        pairs += [Pair(a, b) for a in sides[0] for b in sides[1] if a != b]
    return tuple(pairs)


def _met(project: Project, bodies: Bodies) -> dict[Pair, list[float]]:
    """Pairs that touch as one is attached to the other or is put down onto it, and wheels with what they stand on as the runs begin
    and end, with the times then."""
    row = {i: k for k, i in enumerate(bodies.ids)}
    wheels = {part.id for roll in project.wheels for part in solids(project, roll.part)} & row.keys()
    looks: dict[float, set[tuple[str, str]]] = {}
    for attachment in project.attachments:
        start = begins(project, attachment)
        ends = [(start, attachment.carrier)]
        if attachment.end is not None and attachment.onto is not None:
            ends.append((attachment.end, attachment.onto))
        for time, other in ends:
            if np.isfinite(time):
                looks.setdefault(time, set()).update(
                    (a.id, b.id)
                    for a in solids(project, attachment.rider)
                    for b in solids(project, other)
                    if a.id != b.id
                )
    grounds = [i for i, still in zip(bodies.ids, bodies.still, strict=True) if still]
    for run in project.runs if wheels else ():
        course = course_of(project, run)
        if wheels & set(subtree(project, run.rider)):
            for time in (course.start, course.end):
                looks.setdefault(time, set()).update((a, b) for a in wheels for b in grounds)
    times = sorted(time for time in looks if np.isfinite(time))
    met: dict[Pair, list[float]] = {}
    if not times:
        return met
    limit = project.settings.contact_distance
    for time, poses in zip(times, world_poses(project, times)[:, bodies.rows], strict=True):
        bounds = turned_bounds(bodies.boxes, poses)
        for one, two in looks[time]:
            a, b = row.get(one), row.get(two)
            if a is None or b is None:
                continue
            if box_distances(bounds[a], bounds[b]) > limit or (
                one in wheels and bounds[b, 1, 2] > bounds[a, 0, 2] + limit
            ):
                continue
            near = nearest(bodies.models[a], placed(poses[a]), bodies.models[b], placed(poses[b]), limit + _HAIR)
            if near is not None:
                met.setdefault(Pair(one, two), []).append(time)
    return met


def meant_pairs(project: Project, bodies: Bodies) -> list[Meant]:
    """The pairs in contact: that touch or overlap at rest, as something is taken up or put down, or under wheels; that work on each other;
    and the recorded ones, less those recorded as not intended."""
    said = {frozenset((c.a, c.b)): c.intended for c in project.contacts}
    resting = {frozenset((p.moving, p.other)): p for p in resting_contacts(project, bodies)}
    met = {frozenset((p.moving, p.other)): (p, times) for p, times in _met(project, bodies).items()}
    working = {frozenset((p.moving, p.other)): p for p in working_pairs(project)}
    meant_pairs = []
    for key in dict.fromkeys((*working, *resting, *met, *said)):
        times = tuple(met[key][1]) if key in met else ()
        at_rest = key in resting
        if said.get(key) is False:
            continue
        if key in working:
            meant_pairs.append(Meant(working[key], "works on", at_rest, times, always=True))
        elif key in said:
            a, b = sorted(key) if key not in resting else (resting[key].moving, resting[key].other)
            meant_pairs.append(Meant(Pair(a, b), "intended", at_rest, times, always=not at_rest))
        elif at_rest:
            meant_pairs.append(Meant(resting[key], "at rest", True, times))
        else:
            meant_pairs.append(Meant(met[key][0], "taken up or set down", False, times))
    return meant_pairs
