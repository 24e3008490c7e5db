"""A project as one HTML page: shots with pictures, paths, runs and wheels with their sums, clearance with its status, findings."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from html import escape

import numpy as np

from kestrav import __version__
from kestrav.core.camera.lens import angles
from kestrav.core.clearance.breaches import outcomes
from kestrav.core.document.lookup import get, get_as, qualified_name
from kestrav.core.document.records import Camera, Project, Shot, Wheel
from kestrav.core.document.shots import frame_count
from kestrav.core.editing.wheel_making import rolled_distance, turns_of
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.html_report import chart
from kestrav.core.findings.page import Figure, figure_html, page, table
from kestrav.core.findings.report import standing_in_words, title_of
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.paths.path_curves import path_curve


def as_page(project: Project, result: CheckResult, pictures: Mapping[str, Sequence[Figure]]) -> str:
    """The page; ``pictures`` are those of each shot, by its id."""
    solids = sum(part.geometry is not None for part in project.parts)
    sections = [
        f"<h1>{escape(project.name)}</h1>",
        f"<p>{solids} parts, {len(project.runs)} runs, {len(project.shots)} shots; {span(project):.2f} s at "
        f"{project.settings.fps:g} frames a second. Written by Kestrav {__version__}.</p>",
        "<h2>Shots</h2>",
        *(_shot(project, shot, pictures.get(shot.id, ())) for shot in project.shots),
        "" if project.shots else "<p>There is none.</p>",
        "<h2>Paths</h2>",
        table(
            ("Path", "Length mm", "Height mm", "Tightest bend mm"),
            ((path.name, *_path(project, path.id)) for path in project.paths),
            (1, 2, 3),
        ),
        "<h2>Runs</h2>",
        table(
            ("Run", "Travels", "On", "From s", "To s", "Distance mm", "÷ time s", "Greatest mm/s"),
            (_run(project, run.id) for run in project.runs),
            (3, 4, 5, 6, 7),
        ),
    ]
    if project.wheels:
        sections += [
            "<h2>Wheels</h2>",
            table(
                ("Wheel", "2 · π · radius mm = circumference mm", "distance mm ÷ circumference mm = turns", "Degrees"),
                (_wheel(project, roll) for roll in project.wheels),
                (3,),
            ),
        ]
    sections += [
        "<h2>Clearance</h2>",
        f"<p>{escape(standing_in_words(result))}.</p>",
        chart(result),
        table(
            ("What", "Required mm", "Least mm", "At s", "Status"),
            (
                (
                    title_of(project, outcome),
                    f"{outcome.required:g}",
                    "–" if outcome.least is None else f"{outcome.least:.3f}",
                    "–" if outcome.time is None else f"{outcome.time:.3f}",
                    outcome.status,
                )
                for outcome in outcomes(project, result.clearance, result.certificate)
            ),
            (1, 2, 3),
        ),
        "<h2>Open findings</h2>",
        table(
            ("Severity", "Finding", "Detail", "Time [s]", "Fixes"),
            (
                (
                    f.severity,
                    f.title,
                    f.detail,
                    f"{f.time:.2f}",
                    "; ".join(m.label for m in (f.fix, *f.also) if m is not None) or "–",
                )
                for f in result.findings
            ),
            (3,),
        )
        if result.findings
        else "<p>None.</p>",
    ]
    return page(project.name, [s for s in sections if s])


def _shot(project: Project, shot: Shot, pictures: Sequence[Figure]) -> str:
    camera = get_as(project, shot.camera, Camera)
    wide = np.degrees(angles(camera, shot.width, shot.height)[0])
    lens = (
        f"shows {camera.view_height:g} mm" if camera.parallel else f"{camera.focal_length:g} mm lens, {wide:.1f}° wide"
    )
    facts = (
        f"{camera.name}, {lens}; {shot.start:.2f} to {shot.end:.2f} s, {frame_count(shot)} frames at {shot.fps:g} a second, "
        f"{shot.width} × {shot.height}{', loops' if shot.loops else ''}"
    )
    return f"<h3>{escape(shot.name)}</h3><p>{escape(facts)}</p>" + "".join(figure_html(p) for p in pictures)


def _path(project: Project, path_id: str) -> tuple[str, str, str]:
    path = get(project, path_id)
    curve = path_curve(path)  # type: ignore[arg-type]
    stations = np.linspace(0.0, curve.length, 400)
    heights = curve.curve.position(stations)[:, 2]
    bend = float(curve.curve.curvature(stations).max())
    level = f"{heights.min():,.0f}" if np.ptp(heights) < 0.5 else f"{heights.min():,.0f} to {heights.max():,.0f}"
    return f"{curve.length:,.1f}", level, f"{1 / bend:,.0f}" if bend > 1e-7 else "straight"


def _run(project: Project, run_id: str) -> tuple[str, ...]:
    run = get(project, run_id)
    course = course_of(project, run)  # type: ignore[arg-type]
    start, end = (f"{t:.2f}" if np.isfinite(t) else "never" for t in (course.start, course.end))
    names = run.name, get(project, course.run.rider).name, get(project, course.run.path).name
    return (*names, start, end, f"{course.length:,.1f}", f"{course.once:.3f}", f"{course.greatest_speed:,.1f}")


def _wheel(project: Project, roll: Wheel) -> tuple[str, ...]:
    distance, around, turns = rolled_distance(project, roll), 2 * np.pi * roll.radius, turns_of(project, roll)
    slip = "" if roll.slip == 0 else f" × {1 + roll.slip:.4f}"
    return (
        qualified_name(project, roll.part),
        f"2 · π · {roll.radius:.3f} = {around:.3f}",
        f"{distance:,.1f} ÷ {around:.3f}{slip} = {turns:.4f}",
        f"{360 * turns:,.1f}",
    )
