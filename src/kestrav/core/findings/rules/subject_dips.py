"""What the film is about, dipping out of the frame in a shot that is not of it alone."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.fixes import Candidate
from kestrav.core.camera.framing import Framed, framed
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.subject import subject_id, thing_as_subject
from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import AlongAim, Camera, Project, Shot
from kestrav.core.findings.model import Evidence, Finding, name_of
from kestrav.core.findings.of_cameras import fixes, lasting, over_frames, seconds_of

DIPS = 0.5  # s from which on it is seen as a fault (common practice, no source)
_FITS = 0.9  # of the frame that a thing fills at most to be expected in it whole
_SEEN = 0.04  # of the frame's height or width, below which nobody looks for it
_TURNS = (4.0, 8.0, 12.0, 16.0, 20.0)  # degrees that the camera may look aside
_EDGES = ("left", "lower", "right", "upper")


def find(evidence: Evidence) -> list[Finding]:
    """For each shot of no subject: where a subject of the film's other shots, which was whole in the frame before and is after, is cut by
    its edge."""
    project = evidence.project
    shown = [shot for shot in project.shots if shot.in_film]
    things = dict.fromkeys(subject_id(camera_of(project, shot.camera)) for shot in shown)
    findings = []
    for shot, judged in evidence.filmed:
        if judged.subject is not None or not shot.in_film:
            continue
        for thing in things:
            if thing:
                findings += _dips(evidence, shot, judged, thing)
    return findings


def _framed(judged: Judged, thing: str) -> Framed | None:
    subject = thing_as_subject(judged.project, judged.meshes, thing)
    if subject is None:
        return None
    return framed(judged.camera, subject, judged.seen, judged.poses, judged.aspect)


def _dipping(at: Framed, times: np.ndarray) -> np.ndarray:
    """The frames (n,) at which it is cut or gone between others at which it is whole."""
    faulty = np.zeros(len(times), bool)
    whole = at.margin >= 0
    for first, last in intervals_of(np.flatnonzero(~whole)):
        if first == 0 or last == len(times) - 1 or times[last] - times[first] < DIPS:
            continue
        span = slice(first, last + 1)
        if at.filling[span].max() <= _FITS and at.filling[[first - 1, last + 1]].min() >= _SEEN:
            faulty[span] = True
    return faulty


def _dips(evidence: Evidence, shot: Shot, judged: Judged, thing: str) -> list[Finding]:
    at = _framed(judged, thing)
    if at is None:
        return []
    faulty = _dipping(at, judged.times)
    if not faulty.any():
        return []
    worst = int(np.argmin(np.where(faulty, at.margin, np.inf)))
    over = np.array([-1 - at.low[worst][0], -1 - at.low[worst][1], at.high[worst][0] - 1, at.high[worst][1] - 1])
    edge = _EDGES[int(np.argmax(over))]

    def goal(other: Judged) -> float:
        framing = _framed(other, thing)
        if framing is None:
            return 1.0
        # it is to be whole where it was not, and not only gone before or after as well
        then = np.interp(other.times, judged.times, faulty) > 0.5
        return float((framing.margin[then] < 0).sum() + _dipping(framing, other.times).sum())

    offered = fixes(judged, goal, _turned(judged))
    name = name_of(evidence.project, thing)
    return [
        over_frames(
            evidence,
            shot,
            judged,
            faulty,
            worst,
            subject=(thing,),
            rule="subject-dips",
            severity="warning",
            title=f"{name} dips out of the frame at its {edge} edge",
            detail=f"It is whole before and after; {lasting(judged, faulty)} cut or gone, {DIPS:g} s allowed, most at "
            f"{judged.times[worst]:.2f} s, {judged.camera.name}",
            value=seconds_of(judged, faulty),
            unit="s",
            limit=DIPS,
            offered=offered,
        )
    ]


def _turned(judged: Judged) -> list[Candidate]:
    """Looking lower or higher, and to the sides."""
    aim = judged.camera.aim
    if not isinstance(aim, AlongAim):
        return []
    candidates = []
    for by in _TURNS:
        for label, yaw, pitch in (
            ("lower", 0.0, -by),
            ("higher", 0.0, by),
            ("to the left", by, 0.0),
            ("to the right", -by, 0.0),
        ):
            edit = partial(_looking, camera_id=judged.camera.id, yaw=yaw, pitch=pitch)
            candidates.append(Candidate(f"Look {by:g}° {label}", edit))
    return candidates


def _looking(project: Project, camera_id: str, yaw: float, pitch: float) -> Project:
    aim = get_as(project, camera_id, Camera).aim
    assert isinstance(aim, AlongAim)
    return update(
        project,
        camera_id,
        aim=msgspec.structs.replace(aim, yaw=aim.yaw + yaw, pitch=float(np.clip(aim.pitch + pitch, -89, 89))),
    )
