"""A part is attached to something that is not there yet."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import remove, update
from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import Attachment, Part, Project
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.geometry.meshes import turned_bounds
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]

APART = 5.0  # mm; common practice, no source


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each attachment of a part that begins while its carrier is farther from it than the limit."""
    findings = []
    project = evidence.project
    for attachment in project.attachments:
        start = segment_of(project, attachment).start
        if not isinstance(get(project, attachment.rider), Part) or not np.isfinite(start):
            continue
        gap, ends = _gap(evidence, project, attachment, start)
        if gap <= APART or ends is None:
            continue
        later = _when_there(evidence, attachment, start)
        fixes = (
            [Fix(f"Begin at {later:.2f} s", partial(update, item_id=attachment.id, start=later, trigger=None))]
            if later
            else []
        )
        fixes.append(Fix("Delete the attachment", partial(remove, item_id=attachment.id)))
        frame = evidence.frame(start)
        findings.append(
            Finding(
                rule="absent-carrier",
                severity="warning",
                subject=(attachment.id, attachment.rider, attachment.carrier),
                title=f"{get(project, attachment.rider).name} is attached before {get(project, attachment.carrier).name} is there",
                detail=f"{gap:,.1f} mm apart at {start:.2f} s, when the attachment begins; {APART:g} mm allowed",
                time=start,
                value=gap,
                unit="mm",
                limit=APART,
                intervals=((frame, frame),),
                place=point(ends[0]),
                gap=(point(ends[0]), point(ends[1])),
                fix=fixes[0],
                also=tuple(fixes[1:]),
            )
        )
    return findings


def _gap(
    evidence: Evidence, project: Project, attachment: Attachment, time: float
) -> tuple[float, tuple[Array, Array] | None]:
    """The least distance between the solids of rider and carrier at a time, and between which places it is."""
    poses = world_poses(project, [time])[0]
    # what rides along with the carrier, the rider among it, is not the carrier
    mine, theirs = set(subtree(project, attachment.rider)), set(subtree(project, attachment.carrier))
    sides = []
    for ids in (mine, theirs - mine):
        solids = [(i, p) for i, p in enumerate(project.parts) if p.id in ids and p.geometry is not None]
        sides.append([(solid_mesh(evidence.meshes, p), poses[i]) for i, p in solids])
    best, ends = np.inf, None
    pairs = [(a, pa, b, pb) for a, pa in sides[0] for b, pb in sides[1]]
    boxes = {id(s): turned_bounds(s[0].bounds, s[1]) for side in sides for s in side}
    keyed = [(boxes[id(x)], boxes[id(y)]) for x in sides[0] for y in sides[1]]
    apart = [float(np.linalg.norm(np.maximum(np.maximum(a[0] - b[1], b[0] - a[1]), 0))) for a, b in keyed]
    for k in np.argsort(apart):
        if apart[k] >= best:
            break
        a, pa, b, pb = pairs[k]
        near = nearest(model(a), placed(pa), model(b), placed(pb), best)
        if near is not None:
            best, ends = near.distance, (near.first, near.second)
            if best == 0:
                break
    return best, ends


def _when_there(evidence: Evidence, attachment: Attachment, start: float) -> float | None:
    """The first frame after a time at which the two are close enough, were there no attachment."""
    free = remove(evidence.project, attachment.id)
    times = evidence.times[evidence.times > start]
    if attachment.end is not None:
        times = times[times < attachment.end]
    for time in times:
        if _gap(evidence, free, attachment, float(time))[0] <= APART:
            return float(time)
    return None
