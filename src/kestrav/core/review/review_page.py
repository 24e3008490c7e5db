"""The review page: one HTML file that shows a project in motion, with its findings, to people who have a browser and nothing else."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Mapping
from html import escape
from importlib import resources
from pathlib import Path
from typing import Any

import jinja2
import msgspec
import numpy as np

from kestrav import __version__
from kestrav.core.clearance.measuring import read
from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.charts import Charted
from kestrav.core.files.writing import refuse_existing, write_whole
from kestrav.core.findings.charted import charted
from kestrav.core.findings.check import CheckResult, certified, check
from kestrav.core.findings.report import as_data, standing_in_words
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.parts.rest import rest_poses
from kestrav.core.progress import Progress, portion
from kestrav.core.review.packed_scene import Contents, pack_scene
from kestrav.core.review.packing import Pack
from kestrav.core.units import show

_LANES = ("subject size", "visible")  # of cameras
_MOST_PAIRS = 200


class ReviewPage(msgspec.Struct, frozen=True):
    """A page as bytes of HTML, and what is in it."""

    html: bytes
    contents: Contents

    @property
    def text(self) -> str:
        """What it holds, in words."""
        exact = (
            "surfaces as in the project" if self.contents.off == 0 else f"surfaces within {self.contents.off:.2f} mm"
        )
        return f"{self.contents.parts} parts, {self.contents.triangles:,} triangles ({exact}), {len(self.html) / 1e6:.1f} MB"


def write_review_page(
    project: Project,
    meshes: Mapping[str, Mesh],
    target: Path,
    *,
    overwrite: bool = False,
    simplify: float = 0.0,
    result: CheckResult | None = None,
    progress: Progress | None = None,
) -> ReviewPage:
    """Write a project's review page; see :func:`review_page`. Raises BadInput for another ending, or a file that is there or cannot be
    written."""
    if target.suffix.lower() not in (".html", ".htm"):
        raise BadInput(f"“{target}” has an ending that is not known: give .html")
    refuse_existing(target, force=overwrite)
    page = review_page(project, meshes, simplify, result, progress)
    write_whole(target, page.html)
    return page


def review_page(
    project: Project,
    meshes: Mapping[str, Mesh],
    simplify: float = 0.0,
    result: CheckResult | None = None,
    progress: Progress | None = None,
) -> ReviewPage:
    """A project's review page, whose surfaces may be off by ``simplify`` mm; checks the project first where no result is handed in.

    Raises BadInput for a negative distance.
    """
    if not simplify >= 0:
        raise BadInput(f"surfaces cannot be off by {simplify:g} mm; give 0 or more")
    if result is None:
        sampled = check(project, meshes, portion(progress, 0.0, 0.4))
        result = certified(project, meshes, sampled, portion(progress, 0.4, 0.6))
    pack = Pack()
    scene, contents = pack_scene(project, meshes, pack, simplify, portion(progress, 0.6, 0.9))
    measured = result.clearance.worst is not None
    numbers = {camera["id"]: k for k, camera in enumerate(scene["cameras"])}
    header = {
        "name": project.name,
        "fps": project.settings.fps,
        "span": span(project),
        "scene": scene,
        "shots": [
            {
                "name": shot.name,
                "camera": numbers[shot.camera],
                "start": shot.start,
                "end": shot.end,
                "in_film": shot.in_film,
                "background": shot.background,
            }
            for shot in project.shots
        ],
        "runs": _runs(project),
        "lanes": [
            _lane(pack, lane)
            for lane in charted(project, meshes, result.clearance, _LANES)
            if np.isfinite(lane.values).any()
        ],
        "gaps": _gaps(pack, project, result),
        "pairs": _pairs(project, result),
        "check": _check(project, result),
        # of what does not move there is nothing to be sure of
        "certainty": result.status if measured else "",
        "certainty_told": f"{standing_in_words(result)}." if measured else "",
        "measures": _measures(project, meshes),
        "comments": [
            {
                "name": c.author,
                "text": c.text,
                "time": c.time,
                "view": msgspec.to_builtins(c.view),
                "parts": list(c.parts),
                "made": c.made,
            }
            for c in project.comments
        ],
    }
    # tells pages of one project apart, and is the same for the same one
    header["page"] = hashlib.sha256(msgspec.json.encode(header)).hexdigest()[:16]
    html = _html(project.name, pack.packed(header))
    if progress is not None:
        progress(1.0)
    return ReviewPage(html, contents)


def _html(name: str, data: bytes) -> bytes:
    room = resources.files("kestrav") / "assets" / "review"
    three, script, style, page = (
        (room / one).read_text("utf-8") for one in ("three.min.js", "review.js", "review.css", "page.html")
    )
    # nothing but these two scripts may run, and nothing may be asked of anybody
    hashes = " ".join(f"'sha256-{_digest(text)}'" for text in (three, script))
    template = jinja2.Environment(undefined=jinja2.StrictUndefined, autoescape=False).from_string(page)
    text = template.render(
        name=escape(name),
        made=f"Kestrav {__version__}",
        hashes=hashes,
        style=style,
        data=base64.b64encode(data).decode(),
        three=three,
        script=script,
    )
    return text.encode("utf-8")


def _digest(script: str) -> str:
    return base64.b64encode(hashlib.sha256(script.encode("utf-8")).digest()).decode()


def _runs(project: Project) -> list[dict[str, Any]]:
    bars = []
    for run in project.runs:
        course = course_of(project, run)
        if np.isfinite(course.start):
            bars.append({"name": run.name, "start": course.start, "end": min(course.end, span(project))})
    return bars


def _lane(pack: Pack, lane: Charted) -> dict[str, Any]:
    return {
        "title": lane.title.replace("\n", ": "),
        "unit": lane.unit,
        "x": pack.add(lane.x),
        "values": pack.add(lane.values, "f4"),
        "limit": lane.limit,
        "breached": [list(one) for one in lane.breached],
        "top": lane.top,
    }


def _gaps(pack: Pack, project: Project, result: CheckResult) -> dict[str, Any] | None:
    """The least clearance at each frame, with its pair and the points that it is between."""
    clearance = result.clearance
    if not len(clearance.times):
        return None
    pairs = list(dict.fromkeys(pair for pair in clearance.pairs if pair is not None))
    number = {pair: k for k, pair in enumerate(pairs)}
    return {
        "times": pack.add(clearance.times),
        "distance": pack.add(np.where(np.isfinite(clearance.distance), clearance.distance, 0.0)),
        "required": pack.add(clearance.needs),
        "pair": pack.add([-1 if pair is None else number[pair] for pair in clearance.pairs], "i4"),
        "points": pack.add(
            np.where(np.isfinite(clearance.points), clearance.points, 0.0).reshape(len(clearance.times), 6)
        ),
        "pairs": [[qualified_name(project, i) for i in (pair.moving, pair.other)] for pair in pairs],
    }


def _pairs(project: Project, result: CheckResult) -> list[dict[str, Any]]:
    """Each pair that is nearest at some frame, at the frame where it is nearest; the nearest first."""
    clearance = result.clearance
    best: dict[Any, int] = {}
    for k, pair in enumerate(clearance.pairs):
        if pair is not None and (pair not in best or clearance.distance[k] < clearance.distance[best[pair]]):
            best[pair] = k
    rows = [
        {
            "names": [qualified_name(project, i) for i in (pair.moving, pair.other)],
            "ids": [pair.moving, pair.other],
            "least": float(clearance.distance[k]),
            "required": float(clearance.needs[k]),
            "time": float(clearance.times[k]),
            "points": clearance.points[k].tolist(),
        }
        for pair, k in best.items()
    ]
    return sorted(rows, key=lambda row: row["least"])[:_MOST_PAIRS]


def _check(project: Project, result: CheckResult) -> dict[str, Any]:
    """What of a check the page shows."""
    data = as_data(project, result)
    findings = [
        {**row, "place": finding.place, "gap": finding.gap, "value_told": show(finding.value, finding.unit, 2)}
        for row, finding in zip(data["findings"], result.findings, strict=True)
    ]
    return {"findings": findings, "table": data["table"], "contacts": data["contacts"]}


def _measures(project: Project, meshes: Mapping[str, Mesh]) -> list[dict[str, Any]]:
    poses, measures = rest_poses(project), []
    for note in project.notes:
        try:
            reading = read(note, project, meshes, poses)
        except BadInput:
            continue  # what it measured is not there any more
        measures.append({"name": note.name, "text": reading.text, "lines": reading.drawn.tolist()})
    return measures
