"""The report of a project: what it tells, and that it needs nothing beside itself."""

import html.parser
import re

import pytest

from kestrav.core.camera.making import add_standing
from kestrav.core.document import edits
from kestrav.core.document.records import Axle, Wheel
from kestrav.core.editing.wheel_making import turns_of
from kestrav.core.errors import BadInput
from kestrav.render.report_files import write_project_report


class Reader(html.parser.HTMLParser):
    """Collects text, pictures, and tags that are not closed."""

    def __init__(self):
        super().__init__()
        self.text, self.pictures, self.open = [], [], []

    def handle_starttag(self, tag, attrs):
        if tag == "img":
            self.pictures.append(dict(attrs)["src"])
        elif tag != "meta":
            self.open.append(tag)

    def handle_startendtag(self, tag, attrs):
        pass

    def handle_endtag(self, tag):
        assert self.open.pop() == tag

    def handle_data(self, data):
        self.text.append(data)


def test_a_report_tells_shots_paths_wheels_clearance_and_findings(passing, tmp_path):
    project = add_standing(passing.project, (300.0, -500.0, 250.0), "part-1")
    project = edits.add(
        project, Wheel("wheel-1", "Cube rolls", "part-1", Axle((0, 0, 0), (0, 1, 0)), radius=10.0, outer=10.0)
    )
    told = []
    target = write_project_report(
        project, passing.meshes, tmp_path / "report.html", report=lambda s, t="": told.append((s, t))
    )
    text = target.read_text(encoding="utf-8")
    reader = Reader()
    reader.feed(text)
    assert reader.open == []
    said = " ".join(reader.text)
    assert len(reader.pictures) == 3 and all(p.startswith("data:image/png;base64,") for p in reader.pictures)
    # nothing is fetched from anywhere
    assert not re.search(r"(src|href)=\"(?!data:)", text)
    for part in ("Cube camera", "35 mm lens", "200.0", "Clearance", "too close", "62.832"):
        assert part in said, part
    assert f"{turns_of(project, project.wheels[0]):.4f}" in said
    assert told[0][0] == 0.0 and told[-1][0] == 1.0
    assert [s for s, _ in told] == sorted(s for s, _ in told)


def test_names_are_no_markup(passing, tmp_path):
    project = edits.update(passing.project, "part-1", name="<script>alert(1)</script>")
    target = write_project_report(project, passing.meshes, tmp_path / "report.html")
    assert "<script>" not in target.read_text(encoding="utf-8")


def test_a_report_is_not_written_over_another_silently(passing, tmp_path):
    target = tmp_path / "report.html"
    target.write_text("mine")
    with pytest.raises(BadInput, match="there already"):
        write_project_report(passing.project, passing.meshes, target)
    assert target.read_text() == "mine"
    with pytest.raises(BadInput, match=r"give \.html"):
        write_project_report(passing.project, passing.meshes, tmp_path / "report.pdf")
