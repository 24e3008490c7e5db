"""The table of breaches: which pair, from when to when, how near at the worst, where, and how fast they pass. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.asked import asked_of
from kestrav.core.clearance.between import pairing, speed_past
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.certificate import Certificate, Status
from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.interference import Interference, interference_of
from kestrav.core.clearance.sweep import Clearance, Tally
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Project, Requirement
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.models import nearest, placed
from kestrav.core.kinematics.motion import Motion

Array = NDArray[np.float64]

_STEP = 1e-4  # s over which a speed is taken


class Row(msgspec.Struct, frozen=True):
    """A pair nearer than required over a span of time: the least distance (below 0: how deep they overlap) and when, both nearest points
    then (2, 3), how fast in mm/s they pass there, what is required (below 0: how deep what is in contact may be), what it rests on, and
    the volume in mm³ that they share then, if they do and both are closed."""

    pair: Pair
    start: float
    end: float
    least: float
    time: float
    points: tuple[tuple[float, float, float], tuple[float, float, float]]
    speed: float
    required: float
    status: Literal["sampled"] | Status
    shared: float | None = None

    @property
    def place(self) -> tuple[float, float, float]:
        """The middle of both nearest points."""
        return vector(0.5 * np.sum(self.points, axis=0))


def rows_of(
    project: Project, meshes: Mapping[str, Mesh], clearance: Clearance, certificate: Certificate | None = None
) -> list[Row]:
    """The breaches, those that fall most short of what is required first; by the certificate where there is one, which knows of what
    happens between the frames too."""
    motion = Motion(project)
    if certificate is not None:
        table = [
            _row(motion, meshes, s.pair, (s.start, s.end), s.least, s.time, s.required, s.status)
            for s in certificate.stretches
        ]
    else:
        times = clearance.times
        table = [
            _row(motion, meshes, b.pair, (times[first], times[last]), low, times[frame], b.required, "sampled")
            for b in clearance.breaches
            for (first, last), (frame, low) in zip(b.intervals, b.worst, strict=True)
        ]
    return sorted(table, key=lambda row: (row.least - row.required, row.start))


def _row(
    motion: Motion,
    meshes: Mapping[str, Mesh],
    pair: Pair,
    over: tuple[float, float],
    least: float,
    time: float,
    required: float,
    status: Literal["sampled"] | Status,
) -> Row:
    points, speed = passing(motion, meshes, pair, float(time))
    ends = (vector(points[0]), vector(points[1]))
    shared = None if least >= 0 else _interference(motion, meshes, pair, float(time)).volume
    return Row(pair, float(over[0]), float(over[1]), float(least), float(time), ends, speed, required, status, shared)


def _interference(motion: Motion, meshes: Mapping[str, Mesh], pair: Pair, time: float) -> Interference:
    bodies = pairing(motion.project, meshes, pair.moving, pair.other)
    one, two = (Solid(s, m, s.watertight) for s, m in zip(bodies.shapes, bodies.models, strict=True))
    at = [motion.poses(i, np.array([time]))[0] for i in (pair.moving, pair.other)]
    return interference_of(one, at[0], two, at[1])


def passing(motion: Motion, meshes: Mapping[str, Mesh], pair: Pair, time: float) -> tuple[Array, float]:
    """The nearest points (2, 3) of a pair at a time, of what is in each other the deepest place, and how fast in mm/s they pass there."""
    bodies = pairing(motion.project, meshes, pair.moving, pair.other)
    around = np.array([max(time - _STEP, 0.0), max(time - _STEP, 0.0) + _STEP])
    one, two = (motion.poses(i, around) for i in (pair.moving, pair.other))
    now = int(time >= _STEP)
    near = nearest(bodies.models[0], placed(one[now]), bodies.models[1], placed(two[now]))
    assert near is not None
    points = np.stack([near.first, near.second])
    if near.distance <= 0:
        deep = _interference(motion, meshes, pair, time)
        if deep.depth > 0:
            points = np.stack([deep.place, deep.place])
    speed = float(np.linalg.norm(speed_past(one, two, points.mean(axis=0), _STEP)))
    return points, speed


Told = Literal["certified", "sampled", "breached", "not shown", "not checked"]


class Outcome(msgspec.Struct, frozen=True):
    """What came of one requirement, or of the general one (``item`` none): what it rests on, the least distance at the frames in mm with
    its pair and time where there is one, and how many pairs were looked at."""

    item: Requirement | None
    required: float
    status: Told
    least: float | None
    pair: Pair | None
    time: float | None
    pairs: int


def outcomes(project: Project, clearance: Clearance, certificate: Certificate | None = None) -> list[Outcome]:
    """What came of every requirement, the general one first."""
    every = [_outcome(project, tally, clearance, certificate) for tally in clearance.tallies]
    return [*every[-1:], *every[:-1]]


def _outcome(project: Project, tally: Tally, clearance: Clearance, certificate: Certificate | None) -> Outcome:
    item = None if tally.requirement is None else get(project, tally.requirement)
    assert item is None or isinstance(item, Requirement)
    if not tally.pairs_checked:
        return Outcome(item, tally.required, "not checked", None, None, None, 0)
    k = int(np.argmin(tally.distance)) if len(tally.distance) else 0
    seen = len(tally.distance) > 0 and bool(np.isfinite(tally.distance[k]))
    return Outcome(
        item,
        tally.required,
        _status(project, tally, clearance, certificate),
        float(tally.distance[k]) if seen else None,
        tally.pairs[k] if seen else None,
        float(clearance.times[k]) if seen else None,
        tally.pairs_checked,
    )


def _status(project: Project, tally: Tally, clearance: Clearance, certificate: Certificate | None) -> Told:
    if certificate is None:
        near = _whose(project, [b.pair for b in clearance.breaches])
        return "breached" if tally.requirement in near else "sampled"
    mine = [s.status for s, w in zip(
        certificate.stretches, _whose(project, [s.pair for s in certificate.stretches]), strict=True
    ) if w == tally.requirement]  # fmt: skip
    return "breached" if "breached" in mine else "not shown" if mine else "certified"


def _whose(project: Project, pairs: Iterable[Pair]) -> list[str | None]:
    """By which requirement each of some pairs is asked for; None for the general one."""
    owners = asked_of(project, [(p.moving, p.other) for p in pairs]).whose
    return [project.requirements[k].id if k >= 0 else None for k in owners]
