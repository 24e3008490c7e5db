"""What is placed by key poses digs into the floor, or what stands there, between its keys."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Part
from kestrav.core.editing.floor import depths, kept_on_surface, watched_times
from kestrav.core.findings.model import Evidence, Finding, Fix, point


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each key poses of a part that dig in by more than a gap to the ground may be."""
    findings = []
    project, limit = evidence.project, evidence.project.settings.ground_gap
    for poses in project.pose_tracks:
        times = watched_times(project, poses)
        if not isinstance(get(project, poses.rider), Part) or not len(times):
            continue
        deep, places = depths(project, evidence.meshes, poses.rider, times)
        worst = int(np.argmax(deep))
        if deep[worst] <= limit:
            continue
        frames = np.unique([evidence.frame(t) for t in times[deep > limit]])
        fix = partial(kept_on_surface, meshes=evidence.meshes, poses_id=poses.id, allowed=0.5 * limit)
        findings.append(
            Finding(
                rule="digging",
                severity="warning",
                subject=(poses.id, poses.rider),
                title=f"{get(project, poses.rider).name} digs in",
                detail=f"{deep[worst]:,.1f} mm deep at {times[worst]:.2f} s, between keys of {poses.name}; {limit:g} mm allowed",
                time=float(times[worst]),
                value=float(deep[worst]),
                unit="mm",
                limit=limit,
                intervals=intervals_of(frames),
                place=point(places[worst]),
                fix=Fix("Add keys that keep it on the surface", fix),
            )
        )
    return findings
