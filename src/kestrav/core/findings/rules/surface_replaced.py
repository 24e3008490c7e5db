"""A path on the surface of a part that has another shape now."""

from __future__ import annotations

from functools import partial

from kestrav.core.document.records import SurfaceShape
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding, Fix, name_of, point
from kestrav.core.findings.on_paths import moment
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.surface_paths import is_replaced, reshaped


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each such path; it stays as it was until it is laid onto the part again."""
    project = evidence.project
    findings = []
    for path in project.paths:
        shape = path.shape
        if not isinstance(shape, SurfaceShape) or not _is_replaced(evidence, shape):
            continue
        findings.append(
            Finding(
                rule="surface-replaced",
                severity="warning",
                subject=(path.id,),
                title=f"{name_of(project, shape.part)} was replaced under {path.name}",
                detail="The path follows the old surface",
                time=moment(project, path.id, 0.0),
                value=1.0,
                unit="",
                limit=0.0,
                place=point(path_curve(path).curve.position([0.0])[0]),
                fix=Fix(
                    "Project the path onto the new surface", partial(reshaped, meshes=evidence.meshes, path_id=path.id)
                ),
            )
        )
    return findings


def _is_replaced(evidence: Evidence, shape: SurfaceShape) -> bool:
    try:
        return is_replaced(evidence.project, evidence.meshes, shape)
    except BadInput:
        return False
