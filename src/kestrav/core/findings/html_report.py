"""A check's result as one HTML page: what was checked, what came of it, a chart, pictures, and how to repeat it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from html import escape
from typing import Any

import msgspec
import numpy as np

from kestrav import __version__
from kestrav.core.clearance.breaches import outcomes
from kestrav.core.clearance.certificate import STEPS
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.page import Figure, figure_html, page, table
from kestrav.core.findings.report import first_frame, span_of, standing_in_words, title_of

_WIDE, _HIGH, _LEFT, _FOOT = 900.0, 220.0, 56.0, 26.0  # of the chart, in its own units


def as_html(project: Project, result: CheckResult, figures: Sequence[Figure] = (), command: str = "") -> str:
    """The page; ``command`` is what another person types to repeat it."""
    start, end = span_of(result)
    certificate = result.certificate
    sections = [
        f"<h1>Clearance of {escape(project.name)}</h1>",
        f"<p>{len(result.times)} frames at {project.settings.fps:g} per second, from {start:g} to {end:g} s. "
        f"{escape(standing_in_words(result))}.</p>",
        "<h2>What was checked</h2>",
        table(
            ("What", "Required mm", "Least mm", "Nearest pair", "At s", "Pairs", "Status"),
            (
                (
                    title_of(project, outcome),
                    f"{outcome.required:g}",
                    "–" if outcome.least is None else f"{outcome.least:.3f}",
                    "–" if outcome.pair is None else _pair(project, outcome.pair.moving, outcome.pair.other),
                    "–" if outcome.time is None else f"{outcome.time:.3f}",
                    str(outcome.pairs),
                    outcome.status,
                )
                for outcome in outcomes(project, result.clearance, certificate)
            ),
            (1, 2, 4, 5),
        ),
        "<h2>Least clearance at the frames</h2>",
        chart(result),
        "<h2>Breaches</h2>",
        _breaches(project, result),
    ]
    if figures:
        sections += ["<h2>The worst places</h2>", *(figure_html(figure) for figure in figures)]
    if result.clearance.contacts:
        sections += ["<h2>Contacts</h2>", _contacts(project, result)]
    if result.clearance.unchecked:
        sections.append(f"<p>Not checked, as not asked for: {result.clearance.unchecked} pairs.</p>")
    sections += ["<h2>How to repeat it</h2>", _settings(project, result, command)]
    return page(f"Clearance of {project.name}", sections)


def _pair(project: Project, a: str, b: str) -> str:
    return f"{qualified_name(project, a)} to {qualified_name(project, b)}"


def _breaches(project: Project, result: CheckResult) -> str:
    if not result.table:
        return "<p>None: everything keeps what is required of it.</p>"
    head = ("Pair", "From s", "To s", "Worst mm", "Required mm", "At s", "Where mm", "Speed mm/s", "Status")
    rows = (
        (
            _pair(project, row.pair.moving, row.pair.other),
            f"{row.start:.3f}",
            f"{row.end:.3f}",
            f"{row.least:.3f}",
            f"{row.required:g}",
            f"{row.time:.4f}",
            ", ".join(f"{v:.0f}" for v in row.place),
            f"{row.speed:.0f}",
            row.status,
        )
        for row in result.table
    )
    return table(head, rows, (1, 2, 3, 4, 5, 7)) + "<p>Below 0 mm they are as deep in each other, or may be.</p>"


def _contacts(project: Project, result: CheckResult) -> str:
    head = ("Pair", "Deep mm", "Allowed mm", "In contact")
    rows = (
        (_pair(project, one.pair.moving, one.pair.other), f"{one.deep:.3f}", f"{one.allowed:.3f}", one.text)
        for one in result.contacts
    )
    return table(head, rows, (1, 2)) + (
        "<p>What is in contact may slide, and must not get deeper; when it has parted it keeps its clearance.</p>"
    )


def _settings(project: Project, result: CheckResult, command: str) -> str:
    certificate = result.certificate
    document = hashlib.sha256(msgspec.json.encode(project)).hexdigest()[:16]
    rows: list[tuple[str, str]] = [
        ("Kestrav", __version__),
        ("Project", f"{project.name}, document {document}"),
        (
            "Geometry",
            f"{len(project.geometry)} shapes by content hash, {sum(g.triangles for g in project.geometry)} triangles",
        ),
        ("Required clearance", f"{project.settings.required_clearance:g} mm where no requirement says otherwise"),
        ("Contact distance", f"{project.settings.contact_distance:g} mm, within which parts count as touching at rest"),
        ("Frames", f"{first_frame(project, result)} to {first_frame(project, result) + len(result.times) - 1}"),
        ("Distances measured", str(result.clearance.measured)),
        ("Seed", "none: nothing of it is left to chance"),
    ]
    if certificate is not None:
        rows.append(
            (
                "Certificate",
                f"{certificate.pairs} pairs, {certificate.measured} distances; steps down to {STEPS[-1] * 1e6:g} µs",
            )
        )
    if command:
        rows.append(("Command", command))
    return table(("Setting", "Value"), rows, ())


def chart(result: CheckResult) -> str:
    """The clearance at the frames as a drawing (SVG): the curve, what is required dashed, breaches shaded."""
    clearance = result.clearance
    seen = np.isfinite(clearance.distance)
    if not seen.any():
        return "<p>Nothing moves past anything, so there is nothing to measure.</p>"
    times, values = clearance.times, np.where(seen, clearance.distance, np.nan)
    most = float(np.clip(np.nanmax(values), 2 * clearance.required, max(5 * clearance.required, 10.0)))
    low = min(0.0, float(np.nanmin(values)))
    start, length = float(times[0]), max(float(times[-1] - times[0]), 1e-9)

    def x(time: Any) -> Any:
        return _LEFT + (_WIDE - _LEFT - 8) * (np.asarray(time) - start) / length

    def y(value: Any) -> Any:
        return 8 + (_HIGH - _FOOT - 8) * (most - np.minimum(np.asarray(value), most)) / (most - low)

    half = 0.5 * length / max(len(times) - 1, 1)
    shapes = [
        f'<rect x="{x(max(times[a] - half, start)):.1f}" y="8" '
        f'width="{x(min(times[b] + half, times[-1])) - x(max(times[a] - half, start)):.1f}" '
        f'height="{_HIGH - _FOOT - 8:.0f}" fill="#d6452b" fill-opacity=".18"/>'
        for a, b in clearance.intervals()
    ]
    for value in dict.fromkeys((low, clearance.required, most)):
        dash = ' stroke-dasharray="6 4" stroke="#d6452b"' if value == clearance.required else ' stroke="#d9d2c3"'
        shapes.append(f'<line x1="{_LEFT}" x2="{_WIDE - 8}" y1="{y(value):.1f}" y2="{y(value):.1f}"{dash}/>')
        shapes.append(f'<text x="{_LEFT - 6}" y="{y(value) + 4:.1f}" text-anchor="end">{round(value, 1):g} mm</text>')
    for time in np.linspace(start, start + length, 6):
        shapes.append(f'<text x="{x(time):.1f}" y="{_HIGH - 8}" text-anchor="middle">{time:.1f} s</text>')
    inner = np.flatnonzero(seen)
    for part in np.split(inner, np.flatnonzero(np.diff(inner) > 1) + 1):
        points = " ".join(f"{x(times[k]):.1f},{y(values[k]):.1f}" for k in part)
        shapes.append(f'<polyline points="{points}" fill="none" stroke="#0d6b74" stroke-width="1.6"/>')
    return (
        f'<svg viewBox="0 0 {_WIDE:.0f} {_HIGH:.0f}" role="img" aria-label="Clearance over time" '
        f'font-size="12" fill="#51606a">{"".join(shapes)}</svg>'
    )
