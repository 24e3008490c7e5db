"""A camera whose subject is not shown, or that stands at what it looks at."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.camera.subject import subject_id
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import ancestors
from kestrav.core.document.records import AlongAim, FreeAim, Project
from kestrav.core.findings.model import Evidence, Finding, Fix, name_of
from kestrav.core.findings.of_cameras import lasting, over_frames

AT = 1.0  # mm


def find(evidence: Evidence) -> list[Finding]:
    """For each shot: a subject that is hidden by hand or has nothing to show, and an aim at the camera's own place."""
    findings: list[Finding] = []
    for shot, judged in evidence.filmed:
        camera = judged.camera
        thing = subject_id(camera)
        every = np.ones(len(judged.times), bool)
        if thing and judged.subject is None:
            findings.append(
                over_frames(
                    evidence,
                    shot,
                    judged,
                    every,
                    0,
                    subject=(thing,),
                    rule="subject-missing",
                    severity="warning",
                    title=f"{name_of(evidence.project, thing)} is not shown",
                    detail=f"{camera.name} has this part as its subject, but the part is hidden or has no geometry",
                    value=0.0,
                    unit="",
                    limit=1.0,
                    offered=(Fix("Show it", partial(_shown, thing=thing)),),
                )
            )
        if isinstance(camera.aim, AlongAim | FreeAim):
            continue
        away = np.linalg.norm(judged.seen.target - judged.seen.position, axis=1)
        # a camera at its own aim is told to look one millimetre ahead
        at = away < AT + 1e-6
        if at.any():
            findings.append(
                over_frames(
                    evidence,
                    shot,
                    judged,
                    at,
                    int(np.argmax(at)),
                    rule="aim-at-itself",
                    severity="breach",
                    title=f"{camera.name} stands at what it looks at",
                    detail=f"The view has no direction, at {judged.times[np.argmax(at)]:.2f} s; {lasting(judged, at)}",
                    value=0.0,
                    unit="mm",
                    limit=AT,
                    offered=(Fix("Look along its path", partial(update, item_id=camera.id, aim=AlongAim())),),
                )
            )
    return findings


def _shown(project: Project, thing: str) -> Project:
    for part in (thing, *ancestors(project, thing)):
        project = update(project, part, shown=True)
    return project
