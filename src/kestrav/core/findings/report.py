"""A check's result as plain data and as text."""

from __future__ import annotations

from typing import Any

import numpy as np

from kestrav.core.document.records import Project
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import name_of


def as_data(project: Project, result: CheckResult) -> dict[str, Any]:
    """JSON-ready: the least clearance with its pair, time and breach intervals, and every finding."""
    clearance, worst = result.clearance, result.clearance.worst
    pair = clearance.pairs[worst] if worst is not None else None
    return {
        "project": project.name,
        "frames": len(result.times),
        "fps": project.settings.fps,
        "required_clearance_mm": clearance.required,
        "certainty": result.standing,
        "certificate": _certificate(project, result),
        "min_clearance_mm": float(clearance.distance[worst]) if worst is not None else None,
        "pair": [name_of(project, pair.moving), name_of(project, pair.other)] if pair else None,
        "pair_ids": [pair.moving, pair.other] if pair else None,
        "time_s": float(clearance.times[worst]) if worst is not None else None,
        "frame": worst,
        "breach_frames": [list(i) for i in clearance.intervals()],
        "breaches": [
            {
                "pair": [name_of(project, b.pair.moving), name_of(project, b.pair.other)],
                "min_clearance_mm": b.distance,
                "time_s": float(clearance.times[b.frame]),
                "frames": [list(i) for i in b.intervals],
                "points_mm": np.round(b.points, 4).tolist(),
            }
            for b in clearance.breaches
        ],
        "intended_contacts": [[name_of(project, c.moving), name_of(project, c.other)] for c in clearance.contacts],
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
                "frames": [list(i) for i in f.intervals],
                "mend": f.mend.label if f.mend else None,
            }
            for f in result.findings
        ],
    }


def _certificate(project: Project, result: CheckResult) -> dict[str, Any] | None:
    told = result.certificate
    if told is None:
        return None
    return {
        "standing": told.standing,
        "until_s": told.until,
        "elsewhere_at_least_mm": told.at_least if np.isfinite(told.at_least) else None,
        "pairs": told.pairs,
        "measured": told.measured,
        "stretches": [
            {
                "pair": [name_of(project, s.pair.moving), name_of(project, s.pair.other)],
                "standing": s.standing,
                "from_s": s.start,
                "to_s": s.end,
                "least_mm": s.least,
                "time_s": s.time,
            }
            for s in told.stretches
        ],
    }


def _standing(data: dict[str, Any]) -> list[str]:
    told = data["certificate"]
    if told is None:
        return []
    bound = told["elsewhere_at_least_mm"]
    much = "nothing comes near anything" if bound is None else f"at least {bound:.3f} mm"
    if told["standing"] == "certified":
        return [f"Certified for the whole motion, between the frames too: {much}"]
    lines = [f"Whole motion, between the frames too: {told['standing']}; certified elsewhere: {much}"]
    lines += [f"{'mm':>9}  {'from s':>8}  {'to s':>8}  {'standing':<10} pair"]
    lines += [
        f"{s['least_mm']:9.3f}  {s['from_s']:8.4f}  {s['to_s']:8.4f}  {s['standing']:<10} {' to '.join(s['pair'])}"
        for s in told["stretches"]
    ]
    return lines


def as_text(project: Project, result: CheckResult) -> str:
    """The report that people read."""
    data = as_data(project, result)
    lines = [f"{project.name}: {data['frames']} frames at {data['fps']:g} per second"]
    if data["min_clearance_mm"] is None:
        lines.append("Clearance: nothing moves past anything, so there is nothing to measure")
    else:
        first, second = data["pair"]
        lines.append(
            f"Least clearance {data['min_clearance_mm']:.3f} mm at {data['time_s']:.3f} s (frame {data['frame']}): "
            f"{first} to {second}; {data['required_clearance_mm']:g} mm required; sampled at the frames"
        )
    lines += _standing(data)
    if data["breaches"]:
        lines += ["", "Pairs nearer than required", f"{'mm':>9}  {'s':>7}  {'frames':<14} pair"]
        for breach in data["breaches"]:
            frames = ", ".join(f"{a}–{b}" for a, b in breach["frames"])
            number, time = breach["min_clearance_mm"], breach["time_s"]
            lines.append(f"{number:9.3f}  {time:7.3f}  {frames:<14} {' to '.join(breach['pair'])}")
    contacts = data["intended_contacts"]
    if contacts:
        lines += ["", f"Left out as intended contact ({len(contacts)} pairs that touch at rest or were accepted)"]
        lines += [f"  {a} on {b}" for a, b in contacts]
    lines += ["", f"Findings: {len(data['findings'])}"]
    for finding in data["findings"]:
        lines += [f"  [{finding['severity']}] {finding['title']}", f"      {finding['detail']}"]
    return "\n".join(lines) + "\n"
