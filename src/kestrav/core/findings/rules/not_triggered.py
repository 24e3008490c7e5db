"""Contacts that start nothing, and things that wait for what never comes."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.clearance.contacts import Touch
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors, awaited, get, subtree
from kestrav.core.document.records import Attachment, ContactTrigger, PoseTrack, Project, Run, TimedRotation
from kestrav.core.findings.model import Evidence, Finding, Fix
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import segments_of
from kestrav.core.kinematics.runs import begins

NEAR = 1.0  # s around a contact within which what begins is taken to be meant by it; common practice, no source
_TINY = 1e-3  # s before a contact, in which what strikes moves
_Starts = Run | PoseTrack | Attachment | TimedRotation


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each contact of two things meant to touch that starts nothing, though one of them sets out about then; and for
    key poses, attachments and spins that never begin."""
    project = evidence.project
    findings, named = [], set()
    for touch in evidence.touches:
        pairs = [(touch.b, touch.a), (touch.a, touch.b)]
        setting_out = [(item, *pair) for pair in pairs if (item := _sets_out(project, pair[0], touch)) is not None]
        if setting_out:
            # of both the later one is struck: the other one came along
            item, struck, striker = max(setting_out, key=lambda s: begins(project, s[0]))
            if item.id not in named and _moves(evidence, striker, touch):
                named.add(item.id)
                findings.append(_not_triggered(evidence, touch, striker, struck, item))
    waiting: tuple[PoseTrack | Attachment | TimedRotation, ...] = (
        *project.pose_tracks,
        *project.attachments,
        *project.rotations,
    )
    findings += [_never(evidence, item) for item in waiting if not np.isfinite(begins(project, item))]
    return findings


def _sets_out(project: Project, struck: str, touch: Touch) -> _Starts | None:
    """What moves a struck part, begins by time about when it is touched, and stood until then."""
    if any(isinstance(i.trigger, ContactTrigger) and _about(project, i.trigger, touch) for i in _starting(project)):
        return None
    for thing in (struck, *ancestors(project, struck)[::-1]):
        segments = segments_of(project, thing)
        mine: list[_Starts] = [segment.item for segment in segments[:1]]
        mine += [rotation for rotation in project.rotations if rotation.part == thing]
        for item in mine:
            if not isinstance(item.trigger, ContactTrigger) and abs(begins(project, item) - touch.time) <= NEAR:
                return item
        if mine:
            return None
    return None


def _moves(evidence: Evidence, part: str, touch: Touch) -> bool:
    """Whether a part moves as it touches."""
    around = np.array([touch.time - _TINY, touch.time])
    poses = Motion(evidence.project).poses(part, around)
    places = (poses @ inverse_rigid(poses[1]) @ np.append(touch.place, 1.0))[:, :3]
    return float(np.linalg.norm(places[1] - places[0])) > 0.1 * touch.speed * _TINY


def _starting(project: Project) -> tuple[_Starts, ...]:
    return (*project.runs, *project.pose_tracks, *project.attachments, *project.rotations)


def _about(project: Project, trigger: ContactTrigger, touch: Touch) -> bool:
    """Whether a trigger is of a touch: of the parts themselves, or what holds them."""
    a, b = (set(subtree(project, thing)) for thing in (trigger.a, trigger.b))
    return (touch.a in a and touch.b in b) or (touch.a in b and touch.b in a)


def _not_triggered(evidence: Evidence, touch: Touch, striker: str, struck: str, item: _Starts) -> Finding:
    project = evidence.project
    start = begins(project, item)
    trigger = ContactTrigger(striker, struck, time=touch.time)
    early = "before" if start < touch.time else "after"
    frame = evidence.frame(touch.time)
    return Finding(
        rule="not-triggered",
        severity="warning",
        subject=(item.id, struck, striker),
        title=f"{item.name} is not triggered by the contact",
        detail=f"{get(project, striker).name} touches {get(project, struck).name} at {touch.time:.3f} s, at "
        f"{touch.speed:,.0f} mm/s; it starts {abs(start - touch.time):.3f} s {early}",
        time=touch.time,
        value=abs(start - touch.time),
        unit="s",
        limit=0.0,
        intervals=((frame, frame),),
        place=touch.place,
        fix=Fix("Use the contact as trigger", partial(update, item_id=item.id, trigger=trigger)),
    )


def _never(evidence: Evidence, item: PoseTrack | Attachment | TimedRotation) -> Finding:
    project = evidence.project
    assert item.trigger is not None
    return Finding(
        rule="never-begins",
        severity="breach",
        subject=(item.id, item.part if isinstance(item, TimedRotation) else item.rider),
        title=f"{item.name} never starts",
        detail=f"The moment of {awaited(project, item.trigger)} that triggers it never occurs",
        time=0.0,
        value=1.0,
        unit="",
        limit=0.0,
        fix=Fix("Start by time", partial(update, item_id=item.id, trigger=None)),
    )
