"""Rods: of changing length, or mechanisms that cannot reach."""

from __future__ import annotations

from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.records import Rod
from kestrav.core.editing.mechanism_making import lengthened, rod_lengths, shortfalls
from kestrav.core.findings.model import Evidence, Finding, Fix, at_moment
from kestrav.core.kinematics.motion import Motion, rod_length

CHANGE = 0.1  # mm; common practice, no source
SHORT = 1e-3  # mm by which a mechanism may fail to reach


def find(evidence: Evidence) -> list[Finding]:
    """For each rod that points at its second pin how much its length changes; for each other one by how much it falls short."""
    findings = []
    times = Motion(evidence.project).grid
    for rod in evidence.project.rods:
        if rod.keeps == "points":
            findings += _changing(evidence, rod, times)
        elif rod.keeps in ("slider", "rocker"):
            findings += _short(evidence, rod, times)
    return findings


def _changing(evidence: Evidence, rod: Rod, times: NDArray[np.float64]) -> list[Finding]:
    project, length = evidence.project, rod_length(rod)
    needed = rod_lengths(project, rod, times)
    off = np.abs(needed - length)
    worst = int(np.argmax(off))
    if off[worst] <= CHANGE:
        return []
    fix = None
    if np.ptp(needed) <= CHANGE:
        right = float(needed.mean())
        fix = Fix(f"Make it {right:,.2f} mm long", partial(lengthened, rod_id=rod.id, length=right))
    detail = f"Its pins are {needed.min():,.2f} to {needed.max():,.2f} mm apart, and it is {length:,.2f} mm long"
    return [
        _finding(
            evidence,
            rod,
            float(times[worst]),
            rule="rod-length",
            severity="breach",
            title=f"{rod.name} changes its length",
            detail=f"{detail}; {CHANGE:g} mm allowed. A slider or a rocker would move with it",
            value=float(off[worst]),
            unit="mm",
            limit=CHANGE,
            fix=fix,
        )
    ]


def _short(evidence: Evidence, rod: Rod, times: NDArray[np.float64]) -> list[Finding]:
    project = evidence.project
    short = shortfalls(project, rod, times)
    worst = int(np.argmax(short))
    if short[worst] <= SHORT:
        return []
    fix = None
    for by in (float(short.max()), -float(short.max())):
        right = rod_length(rod) + 1.0001 * by
        if right > 0 and shortfalls(project, next(iter(_with_length(evidence, rod, right))), times).max() <= SHORT:
            fix = Fix(f"Make it {right:,.2f} mm long", partial(lengthened, rod_id=rod.id, length=right))
            break
    frames = np.flatnonzero(np.interp(evidence.times, times, short) > SHORT)
    return [
        _finding(
            evidence,
            rod,
            float(times[worst]),
            frames=((int(frames[0]), int(frames[-1])),) if len(frames) else (),
            rule="out-of-reach",
            severity="breach",
            title=f"{rod.name} cannot reach",
            detail=f"{short[worst]:,.2f} mm short at {times[worst]:.2f} s; it stops where it is nearest",
            value=float(short[worst]),
            unit="mm",
            limit=SHORT,
            fix=fix,
        )
    ]


def _with_length(evidence: Evidence, rod: Rod, length: float) -> list[Rod]:
    changed = lengthened(evidence.project, rod.id, length)
    return [r for r in changed.rods if r.id == rod.id]


def _finding(
    evidence: Evidence, rod: Rod, time: float, frames: tuple[tuple[int, int], ...] = (), **fields: Any
) -> Finding:
    place = Motion(evidence.project).pin(rod.crank.part, rod.crank.at, np.array([time]))[0]
    return at_moment(evidence, (rod.id, rod.part), time, place, frames, **fields)
