"""Dead time: nothing moves or changes for a while in the project's span."""

from __future__ import annotations

from functools import partial

from kestrav.core.editing.timing import dead_spans, without_span
from kestrav.core.findings.model import Evidence, Finding, Fix


def find(evidence: Evidence) -> list[Finding]:
    """A note for each span in which no thing, camera or light is under way, longer than the limit (0: never)."""
    project = evidence.project
    limit = project.settings.dead_time
    if limit <= 0:
        return []
    findings = []
    for first, last in dead_spans(project, limit):
        frames = (evidence.frame(first), evidence.frame(last))
        findings.append(
            Finding(
                rule="dead-time",
                severity="note",
                subject=(),
                title="Nothing moves",
                detail=f"For {last - first:.2f} s, from {first:.2f} to {last:.2f} s; {limit:g} s allowed",
                time=first,
                value=last - first,
                unit="s",
                limit=limit,
                intervals=(frames,),
                fix=Fix(f"Cut {last - first:.2f} s", partial(without_span, first=first, last=last)),
            )
        )
    return findings
