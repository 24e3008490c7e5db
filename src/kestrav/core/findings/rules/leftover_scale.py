"""Leftover scale: an imported thing that is going to move still carries a scale of its file."""

from __future__ import annotations

from functools import partial

from kestrav.core.document.lookup import get, subtree
from kestrav.core.document.records import Part
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.parts.placeholders import bake_scales
from kestrav.core.parts.solids import solid_mesh

# common practice, no source: models are moved with their scale baked, so that lengths in them are true lengths
_ALLOWED = 1e-6


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each mover with scaled solids that came from a file."""
    project, findings = evidence.project, []
    for mover in evidence.movers:
        scaled = [
            p
            for inner in subtree(project, mover)
            if isinstance(p := get(project, inner), Part)
            and p.geometry is not None
            and p.baseline is not None
            and max(abs(s - 1.0) for s in p.scale) > _ALLOWED
        ]
        if not scaled:
            continue
        worst = max((s for p in scaled for s in p.scale), key=lambda s: abs(s - 1.0))
        shapes = {(p.geometry or "", p.scale): solid_mesh(evidence.meshes, p) for p in scaled}
        part = get(project, mover)
        box = evidence.boxes.get(mover)
        findings.append(
            Finding(
                rule="leftover-scale",
                severity="warning",
                subject=(mover,),
                title=f"{part.name} has a leftover scale",
                detail=f"{len(scaled)} of its parts are scaled, {scaled[0].name} by {worst:g}",
                time=0.0,
                value=worst,
                unit="",
                limit=1.0,
                place=point(box.mean(axis=0)) if box is not None else None,
                fix=Fix(
                    "Bake the scale",
                    partial(bake_scales, shapes=shapes, part_id=mover),
                    {shape.hash: shape for shape in shapes.values()},
                ),
            )
        )
    return findings
