"""A check's result as plain data, as text and as tables of comma-separated values."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

import numpy as np

from kestrav.core.clearance.breaches import Outcome, Row, outcomes
from kestrav.core.clearance.certificate import Certificate
from kestrav.core.clearance.contact_history import Contact
from kestrav.core.clearance.fits import Fit
from kestrav.core.document.lookup import get, qualified_name
from kestrav.core.document.records import Project
from kestrav.core.files.writing import as_csv
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import name_of


def as_data(project: Project, result: CheckResult) -> dict[str, Any]:
    """JSON-ready: the least clearance with its pair, time and breach intervals, the table of breaches, what came of each requirement, and
    every finding."""
    clearance, worst = result.clearance, result.clearance.worst
    pair = clearance.pairs[worst] if worst is not None else None
    first = first_frame(project, result)
    return {
        "project": project.name,
        "frames": len(result.times),
        "fps": project.settings.fps,
        "span_s": list(span_of(result)),
        "required_clearance_mm": clearance.required,
        "certainty": result.status,
        "certificate": _certificate(project, result),
        "min_clearance_mm": float(clearance.distance[worst]) if worst is not None else None,
        "pair": [name_of(project, pair.moving), name_of(project, pair.other)] if pair else None,
        "pair_ids": [pair.moving, pair.other] if pair else None,
        "time_s": float(clearance.times[worst]) if worst is not None else None,
        "frame": worst if worst is None else worst + first,
        "breach_frames": [[a + first, b + first] for a, b in clearance.intervals()],
        "breaches": [
            {
                "pair": [name_of(project, b.pair.moving), name_of(project, b.pair.other)],
                "min_clearance_mm": b.distance,
                "required_mm": b.required,
                "time_s": float(clearance.times[b.frame]),
                "frames": [[i + first, j + first] for i, j in b.intervals],
                "points_mm": np.round(b.points, 4).tolist(),
            }
            for b in clearance.breaches
        ],
        "table": [_row(project, row) for row in result.table],
        "requirements": [_outcome(project, outcome) for outcome in outcomes(project, clearance, result.certificate)],
        "pairs_not_checked": clearance.unchecked,
        "contacts": [_contact(project, contact) for contact in result.contacts],
        "findings": [
            {
                "rule": f.rule,
                "severity": f.severity,
                "subject": [name_of(project, s) for s in f.subject],
                "subject_ids": list(f.subject),
                "title": f.title,
                "detail": f.detail,
                "time": f.time,
                "value": f.value,
                "unit": f.unit,
                "limit": f.limit,
                "frames": [[i + first, j + first] for i, j in f.intervals],
                "fix": f.fix.label if f.fix else None,
            }
            for f in result.findings
        ],
    }


def span_of(result: CheckResult) -> tuple[float, float]:
    """The part of time in s that was checked."""
    return result.over if result.over is not None else (float(result.times[0]), float(result.times[-1]))


def first_frame(project: Project, result: CheckResult) -> int:
    """The number of the first frame that was checked."""
    return round(float(result.times[0]) * project.settings.fps)


def _row(project: Project, row: Row) -> dict[str, Any]:
    return {
        "pair": [qualified_name(project, row.pair.moving), qualified_name(project, row.pair.other)],
        "pair_ids": [row.pair.moving, row.pair.other],
        "from_s": row.start,
        "to_s": row.end,
        "worst_mm": row.least,
        "required_mm": row.required,
        "shared_mm3": row.shared,
        "time_s": row.time,
        "place_mm": [round(v, 3) for v in row.place],
        "speed_mm_s": row.speed,
        "status": row.status,
    }


def _contact(project: Project, contact: Contact) -> dict[str, Any]:
    return {
        "pair": [qualified_name(project, contact.pair.moving), qualified_name(project, contact.pair.other)],
        "pair_ids": [contact.pair.moving, contact.pair.other],
        "reason": contact.reason,
        "deep_mm": contact.deep,
        "allowed_mm": contact.allowed,
        "spans_s": [[t if np.isfinite(t) else None for t in one] for one in contact.spans],
        "then_at_least_mm": contact.least,
        "shown_mm": contact.shown,
        "text": contact.text,
    }


def title_of(project: Project, outcome: Outcome) -> str:
    """What a requirement is about, in words."""
    if outcome.item is None:
        return "all else that moves" if project.requirements else "all that moves"
    return outcome.item.name


def _outcome(project: Project, outcome: Outcome) -> dict[str, Any]:
    item = outcome.item
    return {
        "name": title_of(project, outcome),
        "things": None if item is None else [get(project, i).name for i in item.things],
        "others": None if item is None or not item.others else [get(project, i).name for i in item.others],
        "required_mm": outcome.required,
        "status": outcome.status,
        "least_mm": outcome.least,
        "pair": None
        if outcome.pair is None
        else [qualified_name(project, i) for i in (outcome.pair.moving, outcome.pair.other)],
        "time_s": outcome.time,
        "pairs": outcome.pairs,
    }


def _certificate(project: Project, result: CheckResult) -> dict[str, Any] | None:
    certificate = result.certificate
    if certificate is None:
        return None
    return {
        "status": certificate.status,
        "since_s": certificate.since,
        "until_s": certificate.until,
        "pairs_held_to_how_they_stand": certificate.nearer,
        "elsewhere_at_least_mm": certificate.at_least if np.isfinite(certificate.at_least) else None,
        "pairs": certificate.pairs,
        "measured": certificate.measured,
        "contacts_within_mm": certificate.contacts_within if np.isfinite(certificate.contacts_within) else None,
        "stretches": [
            {
                "pair": [name_of(project, s.pair.moving), name_of(project, s.pair.other)],
                "status": s.status,
                "from_s": s.start,
                "to_s": s.end,
                "least_mm": s.least,
                "required_mm": s.required,
                "time_s": s.time,
            }
            for s in certificate.stretches
        ],
    }


def standing_in_words(result: CheckResult) -> str:
    """What the clearance rests on, in a sentence."""
    certificate = result.certificate
    if certificate is None:
        return "Sampled at the frames; what happens between them was not looked at"
    much = (
        f"at least {certificate.at_least:.3f} mm"
        if np.isfinite(certificate.at_least)
        else "nothing comes near anything"
    )
    if certificate.contacts:
        much += f"; {contacts_in_words(certificate)}"
    if certificate.nearer:
        much += f"; {nearer_in_words(certificate)}"
    if certificate.status == "certified":
        return f"Certified for the whole motion, between the frames too: {much}"
    return f"Whole motion, between the frames too: {certificate.status}; certified elsewhere: {much}"


def nearer_in_words(certificate: Certificate) -> str:
    """That some pairs are held to how they stand, in words."""
    count = "1 pair stands" if certificate.nearer == 1 else f"{certificate.nearer} pairs stand"
    return (
        f"{count} nearer than {certificate.required:g} mm and {'is' if certificate.nearer == 1 else 'are'} held to that"
    )


def contacts_in_words(certificate: Certificate) -> str:
    """How far what the certificate says of contacts goes, in words."""
    within = certificate.contacts_within
    if not np.isfinite(within):
        return "how deep contacts get between the looks at them is not shown"
    return f"no contact deeper than it may be by more than {within:.2f} mm"


def as_text(project: Project, result: CheckResult) -> str:
    """The report that people read."""
    data = as_data(project, result)
    lines = [f"{project.name}: {data['frames']} frames at {data['fps']:g} per second"]
    if result.over is not None:
        lines[0] += f", from {result.over[0]:g} to {result.over[1]:g} s only"
    if data["min_clearance_mm"] is None:
        lines.append("Clearance: nothing moves past anything, so there is nothing to measure")
    else:
        first, second = data["pair"]
        need = float(result.clearance.needs[result.clearance.worst])
        lines.append(
            f"Least clearance {data['min_clearance_mm']:.3f} mm at {data['time_s']:.3f} s (frame {data['frame']}): "
            f"{first} to {second}; {round(need, 2):g} mm required; sampled at the frames"
        )
    if result.certificate is not None:
        lines.append(standing_in_words(result))
    if project.requirements or project.settings.only_listed:
        lines += ["", "Requirements", f"{'required':>9}  {'least mm':>9}  {'status':<12} what"]
        for one in data["requirements"]:
            least = "–" if one["least_mm"] is None else f"{one['least_mm']:.3f}"
            lines.append(f"{one['required_mm']:9.3f}  {least:>9}  {one['status']:<12} {one['name']}")
    if data["table"]:
        lines += ["", "Pairs nearer than required (below 0: how deep they are in each other, or may be)"]
        lines += [
            f"{'mm':>9}  {'required':>8}  {'from s':>8}  {'to s':>8}  {'at s':>8}  {'mm/s':>7}  {'status':<10} pair"
        ]
        for row in data["table"]:
            lines.append(
                f"{row['worst_mm']:9.3f}  {row['required_mm']:8.3f}  {row['from_s']:8.4f}  {row['to_s']:8.4f}  "
                f"{row['time_s']:8.4f}  {row['speed_mm_s']:7.0f}  {row['status']:<10} {' to '.join(row['pair'])}"
            )
    if data["contacts"]:
        lines += [
            "",
            "Contacts (how deep they are, and may be; they may slide, and keep their clearance when they have parted)",
        ]
        lines += [f"{'deep mm':>9}  {'allowed':>8}  pair"]
        for one in data["contacts"]:
            pair = f"{' on '.join(one['pair'])}: {one['text']}"
            lines.append(f"{one['deep_mm']:9.3f}  {one['allowed_mm']:8.3f}  {pair}")
    if data["pairs_not_checked"]:
        lines += ["", f"Not checked, as not asked for: {data['pairs_not_checked']} pairs"]
    lines += ["", f"Findings: {len(data['findings'])}"]
    for finding in data["findings"]:
        lines += [f"  [{finding['severity']}] {finding['title']}", f"      {finding['detail']}"]
    return "\n".join(lines) + "\n"


def table_as_csv(project: Project, result: CheckResult) -> str:
    """The table of breaches as comma-separated values (RFC 4180), with units in the head."""
    head = (
        "moving", "other", "from [s]", "to [s]", "worst [mm]", "required [mm]", "at [s]", "x [mm]", "y [mm]", "z [mm]",
        "speed [mm/s]", "status", "shared [mm³]",
    )  # fmt: skip
    rows = [
        (
            *(qualified_name(project, i) for i in (row.pair.moving, row.pair.other)),
            *(f"{v:.4f}" for v in (row.start, row.end, row.least, row.required, row.time, *row.place)),
            f"{row.speed:.1f}",
            row.status,
            "" if row.shared is None else f"{row.shared:.3f}",
        )
        for row in result.table
    ]
    return as_csv(head, rows)


def frames_as_csv(project: Project, result: CheckResult) -> str:
    """The clearance at every frame as comma-separated values, with both nearest points."""
    head = (
        "frame", "time [s]", "clearance [mm]", "required [mm]", "moving", "other",
        *(f"{axis}{k} [mm]" for k in (1, 2) for axis in "xyz"),
    )  # fmt: skip
    clearance, first = result.clearance, first_frame(project, result)
    rows = []
    for k, pair in enumerate(clearance.pairs):
        if pair is None:
            continue
        names = (qualified_name(project, i) for i in (pair.moving, pair.other))
        numbers = (f"{v:.4f}" for v in (clearance.times[k], clearance.distance[k], clearance.needs[k]))
        rows.append((str(k + first), *numbers, *names, *(f"{v:.4f}" for v in clearance.points[k].ravel())))
    return as_csv(head, rows)


def fits_as_csv(project: Project, fits: Iterable[Fit]) -> str:
    """How parts meet at rest as comma-separated values, with units in the head."""
    head = (
        "part", "other", "kind", "depth [mm]", "gap [mm]", "shared [mm³]", "shaft radius [mm]", "bore radius [mm]", "from the file’s faces",
        "x [mm]", "y [mm]", "z [mm]", "intended",
    )  # fmt: skip
    return as_csv(head, (_fit_row(project, fit) for fit in fits))


def _fit_row(project: Project, fit: Fit) -> tuple[str, ...]:
    radii = ("", "") if fit.radii is None else tuple(f"{r:.6g}" for r in fit.radii)
    return (
        *(qualified_name(project, i) for i in (fit.pair.moving, fit.pair.other)),
        fit.kind,
        f"{fit.depth:.4f}",
        f"{fit.gap:.4f}",
        "" if fit.shared is None else f"{fit.shared:.4f}",
        *radii,
        "yes" if fit.exact else "no",
        *(f"{v:.3f}" for v in fit.place),
        "yes" if fit.accepted else "no",
    )


def fits_as_data(project: Project, fits: Iterable[Fit]) -> list[dict[str, Any]]:
    """The same, JSON-ready."""
    return [
        {
            "parts": [qualified_name(project, i) for i in (fit.pair.moving, fit.pair.other)],
            "part_ids": [fit.pair.moving, fit.pair.other],
            "kind": fit.kind,
            "depth_mm": fit.depth,
            "gap_mm": fit.gap,
            "shared_mm3": fit.shared,
            "radii_mm": None if fit.radii is None else list(fit.radii),
            "exact": fit.exact,
            "place_mm": [round(v, 4) for v in fit.place],
            "intended": fit.accepted,
        }
        for fit in fits
    ]


def fits_as_text(project: Project, fits: Sequence[Fit]) -> str:
    """The same, as people read it."""
    if not fits:
        return "No part touches another one."
    lines = [f"{len(fits)} pair{'s' if len(fits) != 1 else ''} of parts meet at rest"]
    for fit in fits:
        names = " and ".join(qualified_name(project, i) for i in (fit.pair.moving, fit.pair.other))
        lines.append(f"  {names}: {fit.text}{', intended' if fit.accepted else ''}")
    return "\n".join(lines)
