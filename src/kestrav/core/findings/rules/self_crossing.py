"""A path that crosses itself."""

from __future__ import annotations

from functools import partial

from kestrav.core.editing.joining import cut_out
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.findings.on_paths import followers, moment
from kestrav.core.paths.analysis import crossings
from kestrav.core.paths.path_curves import path_curve

REACH = 0.5  # mm between two places of a path that are a crossing


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each followed path, at its first crossing."""
    project = evidence.project
    findings = []
    for path in project.paths:
        if not followers(project, path.id):
            continue
        curve = path_curve(path).curve
        pairs = crossings(curve, REACH)
        if not pairs:
            continue
        first, second = pairs[0]
        others = f", and {len(pairs) - 1} more" if len(pairs) > 1 else ""
        # the loop is a slip of the hand rather than meant when it is the smaller part
        loop = second - first
        fix = None
        if not curve.closed and loop < 0.5 * curve.length:
            fix = Fix("Cut the loop off", partial(cut_out, path_id=path.id, first=first, last=second))
        findings.append(
            Finding(
                rule="self-crossing",
                severity="note",
                subject=(path.id,),
                title=f"{path.name} crosses itself",
                detail=f"At {first:,.0f} and {second:,.0f} mm{others}",
                time=moment(project, path.id, first),
                value=float(len(pairs)),
                unit="",
                limit=0.0,
                place=point(curve.position([first])[0]),
                fix=fix,
            )
        )
    return findings
