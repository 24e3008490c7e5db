"""Swept spaces against Minkowski sums and other closed forms, and as parts to check others against."""

import msgspec
import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight
from test_certificate import UP, goes, scene

from kestrav.core.clearance.certificate import certify
from kestrav.core.clearance.sweep import sweep
from kestrav.core.clearance.swept import add_swept, is_outdated, renew_swept, swept_space
from kestrav.core.document import edits
from kestrav.core.document.records import Part, Path, Run, TimedRotation
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.files.part_files import write_part
from kestrav.core.findings.check import check
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.runs import frame_times


def along(shape, to, **fields):
    return make_project({"Body": (shape, (0, 0, 0))}, straight((0, 0, 0), to), duration=1.0, **fields)


def test_a_ball_that_goes_straight_sweeps_a_capsule():
    made = trimesh.creation.icosphere(4, radius=20.0)
    opened = along(mesh(made.vertices, made.faces), (100, 0, 0))
    found = swept_space(opened.project, opened.meshes, "part-1")
    # Minkowski sum of ball and segment (Steiner's formula): 4/3 π r³ + π r² l; of the faceted ball a little less
    assert found.volume == pytest.approx(4 / 3 * np.pi * 8000 + np.pi * 400 * 100, rel=0.01)
    assert found.solid.watertight and not found.thickened
    assert np.allclose(found.solid.bounds, [[-20, -20, -20], [120, 20, 20]], atol=0.1)


def test_a_box_that_goes_aslant_sweeps_the_sum_of_box_and_segment():
    a, b, c, way = 40.0, 30.0, 20.0, np.array([100.0, 50.0, 30.0])
    opened = along(box_mesh(a, b, c), tuple(way))
    found = swept_space(opened.project, opened.meshes, "part-1", tolerance=1.0)
    # Minkowski sum of box and segment: its volume, and each face's area times the way across it
    assert found.volume == pytest.approx(a * b * c + way @ [b * c, a * c, a * b], rel=0.02)


def test_a_bar_that_turns_about_its_middle_sweeps_a_disc():
    made, meshes = scene(bar=(box_mesh(200, 20, 20), (0, 0, 0)))
    made = edits.add(made, TimedRotation("rotation-1", "Swing", "bar", UP, turns=1.0, rpm=None, end=2.0))
    found = swept_space(made, meshes, "bar", tolerance=3.0)
    # a whole turn about the middle: a disc out to the corners
    assert found.volume == pytest.approx(np.pi * (100**2 + 10**2) * 20, rel=0.03)


def test_things_that_move_one_after_another_are_both_followed():
    made, meshes = scene(early=(box_mesh(20, 20, 20), (0, 0, 0)), late=(box_mesh(20, 20, 20), (0, 100, 0)))
    made = edits.add(made, Part("both", "Both"))
    for part in ("early", "late"):
        made = edits.update_parts(reordered(made), {part: {"parent": "both"}})
    made = goes(made, "early", (0, 0, 0), (200, 0, 0), duration=1.0)
    made = edits.add(
        made,
        Path("path-2", "Later", straight((0, 100, 0), (200, 100, 0))),
        Run("run-2", "Goes later", "late", "path-2", start=1.0, duration=1.0),
    )
    found = swept_space(made, meshes, "both", tolerance=2.0)
    assert found.volume == pytest.approx(2 * 220 * 20 * 20, rel=0.03)


def reordered(made):
    """Parents first, as a document has them."""
    parts = sorted(made.parts, key=lambda p: p.id != "both")
    return msgspec.structs.replace(made, parts=tuple(parts))


def test_what_stands_still_sweeps_itself_and_thin_parts_are_said_to_be_thickened():
    made, meshes = scene(block=(box_mesh(30, 30, 30), (5, 0, 0)), sheet=(box_mesh(60, 60, 0.2), (0, 0, 90)))
    made = goes(made, "block", (5, 0, 0), (6, 0, 0))
    assert swept_space(made, meshes, "block", 0.0, 0.0, 1.0).volume == pytest.approx(27000, rel=0.02)
    sheet = swept_space(made, meshes, "sheet", tolerance=2.0)
    assert sheet.thickened == ("sheet",) and sheet.volume >= 60 * 60 * 0.2


def test_it_is_a_part_that_others_are_checked_against_but_not_what_sweeps_it():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), cart=(box_mesh(20, 20, 20), (300, 200, 0)))
    made = goes(made, "ram", (0, 0, 0), (600, 0, 0))
    space = swept_space(made, meshes, "ram", tolerance=4.0)
    made = add_swept(made, space)
    meshes = {**meshes, space.solid.hash: space.solid}
    part = made.parts[-1]
    assert part.swept.thing == "ram" and part.opacity < 1
    assert not sweep(made, meshes, frame_times(made)).breaches and certify(made, meshes).status == "certified"
    # a cart that drives through where the ram goes, long after it has gone
    crossing = goes_again(made, "cart", (300, 200, 0), (300, -200, 0))
    (breach,) = sweep(crossing, meshes, frame_times(crossing)).breaches
    assert {breach.pair.moving, breach.pair.other} == {"cart", part.id} and breach.distance < 0


def goes_again(made, thing, *points):
    return edits.add(
        made,
        Path("path-2", "Across", straight(*points)),
        Run("run-2", "Crosses", thing, "path-2", start=5.0, duration=2.0),
    )


def test_it_is_out_of_date_when_the_motion_changes_until_it_is_worked_out_again():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)), post=(box_mesh(10, 10, 10), (0, 0, 300)))
    made = goes(made, "ram", (0, 0, 0), (300, 0, 0))
    space = swept_space(made, meshes, "ram", tolerance=4.0)
    made, meshes = add_swept(made, space), {**meshes, space.solid.hash: space.solid}
    part = made.parts[-1]
    assert not is_outdated(made, part)
    longer = edits.set_point(made, "path-1", 1, position=(400, 0, 0))
    assert is_outdated(longer, part)
    assert "swept-outdated" in {f.rule for f in check(longer, meshes).findings}
    again = renew_swept(longer, part.id, swept_space(longer, meshes, "ram", tolerance=4.0))
    assert not is_outdated(again, again.parts[-1]) and len(again.geometry) == 3
    assert edits.remove(again, "ram").parts[-1].swept is None


def test_what_cannot_be_swept_is_said():
    made, meshes = scene(ram=(box_mesh(40, 40, 40), (0, 0, 0)))
    made = edits.add(goes(made, "ram", (0, 0, 0), (100, 0, 0)), Part("empty", "Empty"))
    for arguments, why in (
        (("empty",), "no geometry"),
        (("ram", 0.0, 9.0), "lasts from"),
        (("ram", 0.0, 1.0, 0.001), "0.05 or more"),
        (("ram", 0.0, 2.0, 0.1), "too fine"),
    ):
        with pytest.raises(BadInput, match=why):
            swept_space(made, meshes, *arguments)

    def stop(_share):
        raise Cancelled

    with pytest.raises(Cancelled):
        swept_space(made, meshes, "ram", progress=stop)


def test_a_part_is_written_as_stl_and_glb(tmp_path):
    opened = along(box_mesh(40, 30, 20), (100, 0, 0))
    for name, scale in (("a.stl", 1.0), ("a.glb", 1000.0)):
        file = write_part(opened.project, opened.meshes, "part-1", tmp_path / name)
        back = trimesh.load(file, force="mesh")
        assert back.volume * scale**3 == pytest.approx(24000, rel=1e-5)
    with pytest.raises(BadInput, match="there already"):
        write_part(opened.project, opened.meshes, "part-1", tmp_path / "a.stl")
    with pytest.raises(BadInput, match="ending"):
        write_part(opened.project, opened.meshes, "part-1", tmp_path / "a.obj")
