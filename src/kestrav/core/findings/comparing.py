"""Two checks compared: what is new, what is gone, what became worse or better. Works on what :func:`kestrav.core.findings.report.as_data`
tells, so that a check that was written down once can be compared with one of today."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, Literal

import msgspec

from kestrav.core.errors import BadInput
from kestrav.core.units import show


class _Found(msgspec.Struct):
    """What is compared of a finding that was written down."""

    rule: str
    severity: str
    subject: list[str]
    title: str
    time: float = 0.0
    value: float | None = None
    unit: str = ""
    limit: float | None = None


class _Check(msgspec.Struct):
    """What is compared of a check that was written down."""

    findings: list[_Found]
    min_clearance_mm: float | None = None


Change = Literal["new", "worse", "better", "same", "resolved"]
_ORDER: tuple[Change, ...] = ("new", "worse", "same", "better", "resolved")
_ALIKE = 1e-3  # of the unit, by which a number may differ and be the same: facets and grids give no more


class Compared(msgspec.Struct, frozen=True):
    """A finding of the first check (none: new), of the second (none: gone), and what became of it."""

    change: Change
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None

    @property
    def finding(self) -> Mapping[str, Any]:
        """The finding as it is, or was."""
        finding = self.after if self.after is not None else self.before
        assert finding is not None
        return finding


class Comparison(msgspec.Struct, frozen=True):
    """The findings, the gravest changes first, and the least clearances in mm (none: nothing to measure)."""

    findings: tuple[Compared, ...]
    least_before: float | None
    least_after: float | None

    @property
    def is_worse(self) -> bool:
        """Whether a breach is new or became worse."""
        return any(c.change in ("new", "worse") and c.finding["severity"] == "breach" for c in self.findings)


def read_check(file: Path) -> dict[str, Any]:
    """A check as ``kestrav check --json`` wrote it down. Raises BadInput."""
    try:
        data: dict[str, Any] = msgspec.to_builtins(msgspec.json.decode(file.read_bytes(), type=_Check))
        return data
    except OSError as fault:
        raise BadInput(f"“{file}” cannot be read: {fault.strerror or fault}") from fault
    except (msgspec.MsgspecError, UnicodeDecodeError) as fault:
        raise BadInput(f"“{file}” is no check that was written down with “kestrav check --json”: {fault}") from fault


def compare(before: Mapping[str, Any], after: Mapping[str, Any]) -> Comparison:
    """What became of a check's findings: they are the same where they are of one rule and about things of the same names, in their order in
    time."""
    left: dict[tuple[object, ...], list[Mapping[str, Any]]] = {}
    for finding in sorted(before["findings"], key=_when):
        left.setdefault(_key(finding), []).append(finding)
    compared = []
    for finding in sorted(after["findings"], key=_when):
        earlier = left.get(_key(finding), [])
        was = earlier.pop(0) if earlier else None
        compared.append(Compared("new" if was is None else _change(was, finding), was, finding))
    compared += [Compared("resolved", was, None) for rest in left.values() for was in rest]
    grave = {"breach": 0, "warning": 1}
    compared.sort(
        key=lambda c: (_ORDER.index(c.change), grave.get(str(c.finding["severity"]), 2), str(c.finding["title"]))
    )
    return Comparison(tuple(compared), before.get("min_clearance_mm"), after.get("min_clearance_mm"))


def _key(finding: Mapping[str, Any]) -> tuple[object, ...]:
    return str(finding["rule"]), tuple(sorted(str(name) for name in finding["subject"]))


def _when(finding: Mapping[str, Any]) -> float:
    return float(finding.get("time") or 0.0)


def _change(was: Mapping[str, Any], now: Mapping[str, Any]) -> Change:
    beyond = [_beyond(finding) for finding in (was, now)]
    if abs(beyond[0] - beyond[1]) <= _ALIKE:
        return "same"
    return "worse" if beyond[1] > beyond[0] else "better"


def _beyond(finding: Mapping[str, Any]) -> float:
    """How far a finding's number is beyond its limit."""
    value, limit = finding.get("value"), finding.get("limit")
    return abs(float(value) - float(limit)) if value is not None and limit is not None else 0.0


def as_data(comparison: Comparison) -> dict[str, Any]:
    """JSON-ready."""
    return {
        "min_clearance_mm": {"before": comparison.least_before, "after": comparison.least_after},
        "is_worse": comparison.is_worse,
        "findings": [
            {
                "change": c.change,
                "rule": c.finding["rule"],
                "severity": c.finding["severity"],
                "subject": list(c.finding["subject"]),
                "title": c.finding["title"],
                "unit": c.finding.get("unit"),
                "before": None if c.before is None else c.before.get("value"),
                "after": None if c.after is None else c.after.get("value"),
                "limit": c.finding.get("limit"),
            }
            for c in comparison.findings
        ],
    }


def as_text(comparison: Comparison) -> str:
    """A line for each finding, what became worse first, and how many there are of each kind."""
    lines = []
    if comparison.least_before is not None or comparison.least_after is not None:
        lines.append(f"least clearance: {_mm(comparison.least_before)} before, {_mm(comparison.least_after)} after")
    for change in _ORDER:
        some = [c for c in comparison.findings if c.change == change]
        if not some:
            continue
        lines.append(f"{change} ({len(some)}):")
        lines += [f"  {c.finding['severity']}: {c.finding['title']}{_numbers(c)}" for c in some]
    if not comparison.findings:
        lines.append("neither check found anything")
    return "\n".join(lines) + "\n"


def _mm(value: float | None) -> str:
    return "nothing to measure" if value is None else show(value, "mm", 2)


def _numbers(c: Compared) -> str:
    texts = [None if f is None or f.get("value") is None else f"{float(f['value']):.4g}" for f in (c.before, c.after)]
    unit = f" {c.finding['unit']}" if c.finding.get("unit") else ""
    if c.change in ("worse", "better") and None not in texts:
        return f"; {texts[0]} before, {texts[1]}{unit} after"
    shown = next((value for value in texts if value is not None), None)
    return "" if shown is None else f"; {shown}{unit}"


def in_words(comparison: Comparison) -> str:
    """A comparison in one line: how many findings are new, worse, better, gone, and the least clearances."""
    counts = {change: 0 for change in ("new", "worse", "better", "resolved")}
    for one in comparison.findings:
        if one.change in counts:
            counts[one.change] += 1
    text = ", ".join(f"{count} {change}" for change, count in counts.items() if count) or "no finding has changed"
    before, after = comparison.least_before, comparison.least_after
    if before is not None and after is not None:
        text += f"; least clearance {before:.3f} → {after:.3f} mm"
    return f"against the check before: {text}"
