"""Step sheets: which motions are a step, how far they are shown apart, lines that are hidden or not, pages as PDF and HTML."""

import io
import re

import msgspec
import numpy as np
import pytest
import trimesh
from pypdf import PdfReader
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.comments import SavedView
from kestrav.core.document.records import KeyPose, Placement, PoseTrack, Run, StepSheet
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.geometry.meshes import mesh
from kestrav.core.sheets import steps
from kestrav.core.sheets.drawing import Placed, line_drawing, sight_of
from kestrav.core.sheets.layout import pages_of, parts_list
from kestrav.core.sheets.paper import SIZES, Clip, Lines, Page, Text, as_html, as_pdf, fitting, width_of, wrapped
from kestrav.core.sheets.steps import is_stale, make_sheet, shown_in, view_of

FRONT = SavedView((0.0, -1000.0, 0.0), (0.0, 0.0, 0.0), angle=20.0)


@pytest.fixture
def apart():
    """A cover and two equal screws that leave a base upwards: first both screws at once, then the cover."""
    made = make_project(
        {
            "Base": (box_mesh(200, 100, 40), (0.0, 0.0, 0.0)),
            "Cover": (box_mesh(200, 100, 10), (0.0, 0.0, 25.0)),
            "Screw": (box_mesh(10, 10, 30), (60.0, 0.0, 35.0)),
            "Screw ": (box_mesh(10, 10, 30), (-60.0, 0.0, 35.0)),
        }
    )
    project = edits.update(made.project, "part-4", name="Screw")
    for number, (part, x, z, start) in enumerate(
        [("part-3", 60, 35, 0.0), ("part-4", -60, 35, 0.0), ("part-2", 0, 25, 2.0)]
    ):
        keys = (KeyPose(0.0, Placement((x, 0, z))), KeyPose(1.0, Placement((x, 0, z + 300))))
        track = PoseTrack(f"pose-track-{number}", f"Out {number}", part, keys, start, "straight")
        project = edits.add(project, track)
    return project, made.meshes


def test_what_starts_at_once_is_one_step_with_counted_names(apart):
    project, _ = apart
    sheet = make_sheet(project).sheets[0]
    assert [step.title for step in sheet.steps] == ["2 × Screw", "Cover"]
    assert [len(step.motions) for step in sheet.steps] == [2, 1]
    assert not is_stale(make_sheet(project), sheet)


def test_steps_are_split_joined_moved_and_edited(apart):
    project = make_sheet(apart[0])
    sheet = project.sheets[0].id
    project = steps.split(project, sheet, 0)
    assert [step.title for step in project.sheets[0].steps] == ["Screw", "Screw", "Cover"]
    project = steps.change(project, sheet, 2, text="Lift it off", tools="none")
    project = steps.join(project, sheet, 1)
    assert project.sheets[0].steps[1].title == "Screw, Cover" and project.sheets[0].steps[1].text == "Lift it off"
    project = steps.move(project, sheet, 1, -1)
    assert [len(step.motions) for step in project.sheets[0].steps] == [2, 1]
    for wrong in (
        lambda: steps.join(project, sheet, 1),
        lambda: steps.split(project, sheet, 1),
        lambda: steps.move(project, sheet, 1, 1),
    ):
        with pytest.raises(BadInput):
            wrong()


def test_a_change_of_the_project_makes_the_sheet_out_of_date(apart):
    project = make_sheet(apart[0])
    assert not is_stale(project, project.sheets[0])
    # what the sheet does not show does not matter
    assert not is_stale(edits.settings(project, fps=12.0), project.sheets[0])
    changed = edits.update(project, "part-1", placement=Placement((0.0, 5.0, 0.0)))
    assert is_stale(changed, changed.sheets[0])
    again = steps.current(changed, changed.sheets[0].id)
    assert not is_stale(again, again.sheets[0])


def test_parts_are_shown_as_far_apart_as_asked_with_their_trails(apart):
    project, meshes = apart
    step = make_sheet(project).sheets[0].steps[1]
    shown = shown_in(project, meshes, msgspec.structs.replace(step, apart=0.5))
    size = float(np.linalg.norm([200, 100, 10]))
    way = shown.trails[0][-1] - shown.trails[0][0]
    # as far as one of the times that are looked at tells
    assert np.linalg.norm(way) == pytest.approx(0.5 * size, abs=300 / 119 + 0.1)
    assert way / np.linalg.norm(way) == pytest.approx([0, 0, 1])
    # what cannot go so far is shown at its end
    assert shown_in(project, meshes, msgspec.structs.replace(step, apart=5.0)).time == pytest.approx(3.0)
    assert shown_in(project, meshes, msgspec.structs.replace(step, apart=0.0)).time == pytest.approx(2.0)


def test_the_parts_list_counts_each_part_once(apart):
    project, meshes = apart
    shown = [shown_in(project, meshes, step) for step in make_sheet(project).sheets[0].steps]
    assert [(one.number, one.name, one.count) for one in parts_list([*shown, *shown])] == [
        (1, "Screw", 2),
        (2, "Cover", 1),
    ]


def test_removing_the_motions_of_a_step_removes_the_step(apart):
    project = make_sheet(apart[0])
    project = edits.remove(project, "pose-track-2")
    assert [step.title for step in project.sheets[0].steps] == ["2 × Screw"]
    project = edits.remove(project, "pose-track-0")
    assert project.sheets[0].steps[0].motions == ("pose-track-1",)


def test_nothing_that_moves_makes_no_sheet(passing):
    still = edits.remove(passing.project, "run-1")
    with pytest.raises(BadInput, match="take something apart"):
        make_sheet(still)


def test_a_sheet_is_saved_and_read_again(apart, tmp_path):
    project, meshes = apart
    project = steps.change(make_sheet(project), "step-sheet-1", 0, text="Loosen", view=FRONT)
    project_file.save(project, meshes, tmp_path / "a.kestrav")
    assert project_file.load(tmp_path / "a.kestrav").project.sheets == project.sheets


def test_a_sheet_that_cannot_be_is_refused(apart):
    project = make_sheet(apart[0])
    step = project.sheets[0].steps[0]
    for wrong, why in (
        ((), "has no steps"),
        ((msgspec.structs.replace(step, motions=()),), "shows no motion"),
        ((msgspec.structs.replace(step, apart=-1.0),), "apart"),
        ((msgspec.structs.replace(step, text="x" * 5000),), "letters"),
        ((msgspec.structs.replace(step, motions=("run-77",)),), "run-77"),
    ):
        with pytest.raises(BadInput, match=why):
            edits.update(project, "step-sheet-1", steps=wrong)


# lines


def lengths(lines):
    return np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1)


def test_a_box_from_the_front_shows_its_front(passing):
    lines, heavy = line_drawing([Placed(box_mesh(100, 100, 60), np.eye(4), True)], FRONT, 1.5)
    # perspective: the front, 950 mm away, is drawn; the back, smaller, lies hidden behind it
    scale = 1.0 / (950.0 * np.tan(np.radians(10.0)))
    assert heavy.all()
    assert np.abs(lines[..., 0]).max() == pytest.approx(50 * scale, rel=1e-6)
    assert np.abs(lines[..., 1]).max() == pytest.approx(30 * scale, rel=1e-6)
    assert lengths(lines).sum() == pytest.approx(2 * (100 + 60) * scale, rel=0.02)


def test_what_stands_behind_is_hidden_just_where_it_is():
    near = np.eye(4)
    near[:3, 3] = (0.0, -200.0, 0.0)
    wide, small = box_mesh(300, 2, 20), box_mesh(60, 2, 100)
    lines, heavy = line_drawing([Placed(wide, np.eye(4)), Placed(small, near, True)], FRONT, 2.0)
    ahead, behind = 1.0 / (799.0 * np.tan(np.radians(10.0))), 1.0 / (999.0 * np.tan(np.radians(10.0)))
    # the long edges of the bar end at the plate before it, to a thousandth of the frame
    long = lines[~heavy]
    level = long[np.abs(long[:, 0, 1] - long[:, 1, 1]) < 1e-6]
    inner = np.abs(level[..., 0]).min(axis=1)
    assert len(level) >= 4 and inner == pytest.approx(np.full(len(level), 30 * ahead), abs=2e-3)
    assert np.abs(level[..., 0]).max() == pytest.approx(150 * behind, rel=1e-3)
    assert lengths(lines[heavy]).sum() == pytest.approx(2 * (60 + 100) * ahead, rel=0.03)


def test_a_ball_is_drawn_by_its_outline():
    ball = trimesh.creation.icosphere(5, 50.0)
    lines, _ = line_drawing([Placed(mesh(ball.vertices, ball.faces), np.eye(4))], FRONT, 1.0)
    # the outline of a ball is a circle; of radius r / sqrt(d² − r²) by a slope (similar triangles)
    radius = 50.0 / np.sqrt(1000.0**2 - 50.0**2) / np.tan(np.radians(10.0))
    assert np.linalg.norm(lines, axis=2) == pytest.approx(np.full(lines.shape[:2], radius), rel=0.02)
    assert lengths(lines).sum() == pytest.approx(2 * np.pi * radius, rel=0.05)


def test_a_viewpoint_straight_above_has_a_direction_up():
    sight = sight_of(SavedView((0.0, 0.0, 500.0), (0.0, 0.0, 0.0)))
    assert sight.seen(np.array([[0.0, 10.0, 0.0]]))[0, 1] > 0


def test_the_view_is_one_from_which_what_moves_shows():
    # a wall stands before the thing, seen from the usual side
    made = make_project(
        {"Thing": (box_mesh(50, 50, 50), (0.0, 0.0, 0.0)), "Wall": (box_mesh(10, 900, 900), (150.0, 0.0, 0.0))},
        straight((0, 0, 0), (0, 300, 0)),
        duration=1.0,
    )
    step = make_sheet(made.project).sheets[0].steps[0]
    view = view_of(made.project, made.meshes, step, shown_in(made.project, made.meshes, step), 1.4)
    assert view.position[0] < 0


# pages


def flat(marks):
    for mark in marks:
        yield mark
        if isinstance(mark, Clip):
            yield from flat(mark.inner)


@pytest.mark.parametrize("paper", ["A4", "Letter"])
@pytest.mark.parametrize("landscape", [False, True])
def test_everything_on_the_pages_lies_within_their_margins(apart, paper, landscape):
    project, meshes = apart
    project = edits.update(make_sheet(project), "step-sheet-1", paper=paper, landscape=landscape)
    project = steps.change(project, "step-sheet-1", 0, text="Loosen both screws. " * 30, tools="4 mm key")
    pages = pages_of(project, meshes, project.sheets[0], "2026-11-30")
    wide, high = SIZES[paper][::-1] if landscape else SIZES[paper]
    assert len(pages) == 2 and (pages[0].width, pages[0].height) == (wide, high)
    for page in pages:
        for mark in page.marks:
            if isinstance(mark, Text):
                long = width_of(mark.text, mark.size, bold=mark.bold)
                left = mark.x - {"start": 0.0, "middle": 0.5, "end": 1.0}[mark.at] * long
                assert left >= 11.9 and left + long <= wide - 11.9, mark.text
                assert 12 <= mark.y <= high - 12
            elif isinstance(mark, Lines):
                assert (mark.points.reshape(-1, 2) >= 11.9).all() and (
                    mark.points.reshape(-1, 2) <= [wide - 11.9, high - 11.9]
                ).all()


def test_pdf_and_html_tell_the_same(apart):
    project, meshes = apart
    project = edits.update(
        make_sheet(project, name="Opening <the> box & all"), "step-sheet-1", number="K-42", author="A. Fitter"
    )
    project = steps.change(project, "step-sheet-1", 1, text="Lift the cover.", tools="two hands")
    pages = pages_of(project, meshes, project.sheets[0], "2026-11-30")
    pdf = PdfReader(io.BytesIO(as_pdf(pages, "Opening", "A. Fitter")))
    told = "\n".join(page.extract_text() for page in pdf.pages)
    html = as_html(pages, "Opening <the> box & all").decode()
    # by a PDF reader of its own: size in points, text as text, lines as lines
    assert float(pdf.pages[0].mediabox.width) == pytest.approx(210 / 25.4 * 72, abs=0.01)
    assert pdf.metadata.title == "Opening" and pdf.metadata.author == "A. Fitter"
    for text in (
        "Opening <the> box & all",
        "K-42",
        "A. Fitter",
        "2026-11-30",
        "2 × Screw",
        "Lift the cover.",
        "Tools: two hands",
        "1 of 2",
    ):
        assert text in told
        assert text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;") in html
    assert html.count("<svg") == len(pages) and "<the>" not in html
    assert len(re.findall(r"M-?[\d.]+ -?[\d.]+L", html)) > 50
    assert not re.search(r"(src|href)=\"(?!data:)", html)


def test_text_is_wrapped_and_cut_to_its_width():
    lines = wrapped("one two three four five six seven", 3.0, 20.0)
    assert len(lines) > 1 and all(width_of(line, 3.0) <= 20.0 for line in lines)
    assert " ".join(lines) == "one two three four five six seven"
    assert all(width_of(line, 3.0) <= 20.0 for line in wrapped("x" * 200, 3.0, 20.0))
    assert wrapped("a\nb", 3.0, 20.0) == ["a", "b"]
    assert wrapped("word " * 100, 3.0, 20.0, most=2)[-1].endswith("…")
    assert fitting("abc", 3.0, 50.0) == "abc" and fitting("long name indeed", 3.0, 12.0).endswith("…")


def test_a_run_is_a_step_as_well(passing):
    project = make_sheet(passing.project)
    assert isinstance(edits.update(project, "run-1", duration=3.0).runs[0], Run)
    pages = pages_of(project, passing.meshes, project.sheets[0], "")
    assert isinstance(pages[0], Page) and any(isinstance(m, Text) and m.text == "Cube" for m in flat(pages[1].marks))
    assert isinstance(project.sheets[0], StepSheet)
