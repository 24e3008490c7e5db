"""Implausible size: a product so small or large that its file was likely read in another unit."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.records import Part, Project
from kestrav.core.findings.model import Evidence, Finding, Fix, point
from kestrav.core.parts.placing import scale
from kestrav.core.parts.unit_change import in_other_unit
from kestrav.core.units import show_size

# common practice, no source: the units that files are mistaken for, in mm
_UNITS = (
    ("millimetres", 1.0),
    ("metres", 1000.0),
    ("inches", 25.4),
    ("centimetres", 10.0),
    ("feet", 304.8),
    ("micrometres", 0.001),
)
_USUAL = 500.0  # mm; products are about as large
_RARE = {
    "centimetres": 1.0,
    "feet": 1.5,
    "inches": 0.5,
}  # powers of ten by which a unit is less likely than millimetres or metres


def find(evidence: Evidence) -> list[Finding]:
    """One finding for each file whose product is over or under the project's limits of size."""
    project, findings = evidence.project, []
    low, high = project.settings.smallest_size, project.settings.largest_size
    by_file: dict[str, list[Part]] = {}
    for part in project.parts:
        if part.parent is None and part.source is not None and part.id in evidence.boxes:
            by_file.setdefault(part.source, []).append(part)
    for source, parts in by_file.items():
        boxes = np.array([evidence.boxes[part.id] for part in parts])
        box = np.array([boxes[:, 0].min(axis=0), boxes[:, 1].max(axis=0)])
        size = float(np.max(box[1] - box[0]))
        if low <= size <= high:
            continue
        name = parts[0].name if len(parts) == 1 else f"{parts[0].name} and {len(parts) - 1} more"
        fixes = [
            _fix(unit, larger, [part.id for part in parts], size) for unit, larger in _fitting(project, source, size)
        ]
        findings.append(_finding(parts[0], name, size, low if size < low else high, box, fixes))
    return findings


def _fitting(project: Project, source: str, size: float) -> list[tuple[str, float]]:
    """Units that make sense of a size in mm, the likeliest first, with how many times as large all is then."""
    now = next((s.unit for s in project.sources if s.id == source), 1.0)
    low, high = project.settings.smallest_size, project.settings.largest_size
    options = [(name, unit / now) for name, unit in _UNITS if not np.isclose(unit, now)]
    fit = [(name, larger) for name, larger in options if low <= size * larger <= high]
    return sorted(fit, key=lambda o: abs(np.log10(size * o[1] / _USUAL)) + _RARE.get(o[0], 0.0))


def _fix(unit: str, larger: float, part_ids: list[str], size: float) -> Fix:
    return Fix(
        f"Change unit to {unit}: {show_size(size * larger)}",
        partial(_larger, part_ids=tuple(part_ids), factor=larger),
        detail=f"{show_size(size * larger)} overall instead of {show_size(size)}",
        with_meshes=partial(in_other_unit, part_ids=tuple(part_ids), factor=larger),
    )


def _larger(project: Project, part_ids: tuple[str, ...], factor: float) -> Project:
    """All of it larger where there are no meshes to change with it."""
    for part_id in part_ids:
        project = scale(project, part_id, factor, (0.0, 0.0, 0.0))
    return project


def _finding(part: Part, name: str, size: float, limit: float, box: NDArray[np.float64], fixes: list[Fix]) -> Finding:
    return Finding(
        rule="implausible-size",
        severity="warning",
        subject=(part.id,),
        title=f"{name} is {'very small' if size < limit else 'very large'}",
        detail=f"{show_size(size)} overall; the file may be in another unit",
        time=0.0,
        value=size,
        unit="mm",
        limit=limit,
        place=point(box.mean(axis=0)),
        fix=fixes[0] if fixes else None,
        also=tuple(fixes[1:]),
    )
