"""Variants of a project, one for each row of a table."""

import csv
import json
import os
import signal

import msgspec
import pytest
import trimesh
from clusters import cluster_here
from shapes import box_mesh, make_project, straight

from kestrav import variants
from kestrav.cli import main
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Colourway, PointAim, Shot
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.render.cluster import Cluster
from kestrav.render.formats import file_name
from kestrav.variants import Wanted, read_variants, run_variants


@pytest.fixture
def room(tmp_path):
    """A folder with a project: a cube that comes as near as 4 mm to a wall, and a smaller cube to take its place."""
    made = make_project(
        {"Cube": (box_mesh(80, 80, 80), (0, 0, 0)), "Wall": (box_mesh(20, 300, 300), (344, 0, 0))},
        straight((0, 0, 0), (290, 0, 0)),
        duration=1.0,
    )
    camera = Camera("camera-1", "Eye", PointAim((150.0, 0.0, 0.0)), position=(150.0, -900.0, 300.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 1.0, 64, 48, 10.0, quality="preview")
    project = msgspec.structs.replace(
        edits.add(made.project, camera, shot), colourways=(Colourway("colourway-1", "Red"),)
    )
    project_file.save(project, made.meshes, tmp_path / "project.kestrav")
    trimesh.creation.box((60, 60, 60)).export(tmp_path / "small.stl")
    return tmp_path


def table(room, text):
    (room / "variants.csv").write_text(text)
    return read_variants(room / "variants.csv")


def ran(room, text, wanted=Wanted(), processes=2):  # noqa: B008
    return run_variants(room / "project.kestrav", table(room, text), room / "out", wanted, processes)


def test_values_parts_and_colourways_are_changed_and_told_in_one_table(room):
    found = ran(
        room,
        "name,Run.duration,settings.required_clearance,part Cube,colourway\n"
        "as it is,,,,\nslow,2.5,3,,\nsmall,,,small.stl,Red\n",
    )
    assert [r.name for r in found] == ["as it is", "slow", "small"]
    assert [r.fault for r in found] == ["", "", ""]
    # half of 80 and of 20 mm from 344 − 290 mm, and half of 60 mm
    assert [r.least_clearance_mm for r in found] == pytest.approx([4.0, 4.0, 14.0], abs=0.01)
    assert [r.breaches for r in found] == [1, 0, 0]
    assert [r.duration_s for r in found] == pytest.approx([1.0, 2.5, 1.0])
    saved = project_file.load(room / "out" / "small" / "variant.kestrav").project
    assert saved.colourway == "colourway-1"
    with (room / "out" / "results.csv").open() as stream:
        rows = list(csv.DictReader(stream))
    assert [row["least clearance [mm]"] for row in rows] == ["4.0000", "4.0000", "14.0000"]
    assert "as it is" in (room / "out" / "results.html").read_text()


def test_the_workers_of_a_cluster_make_the_same_of_them(room):
    text = "name,Run.duration,part Cube\nas it is,,\nsmall,2,small.stl\nbroken,,missing.stl\n"
    here = ran(room, text, Wanted(at=0.5, size="64x48"))
    with cluster_here(n_workers=1) as local:
        there = run_variants(
            room / "project.kestrav",
            read_variants(room / "variants.csv"),
            room / "there",
            Wanted(at=0.5, size="64x48"),
            1,
            cluster=Cluster(local.scheduler_address),
        )
        # what is done is not done again
        again = run_variants(
            room / "project.kestrav",
            read_variants(room / "variants.csv")[:2],
            room / "there",
            Wanted(at=0.5, size="64x48"),
            1,
        )
    assert [r.least_clearance_mm for r in there] == [r.least_clearance_mm for r in here]
    assert [bool(r.fault) for r in there] == [False, False, True] and "missing.stl" in there[2].fault
    assert [r.seconds for r in again] == [r.seconds for r in there[:2]]
    for name in ("picture.png", "variant.kestrav"):
        mine, theirs = (room / folder / "small" / name for folder in ("out", "there"))
        assert theirs.stat().st_size == pytest.approx(mine.stat().st_size, rel=0.2)
    assert project_file.load(room / "there" / "small" / "variant.kestrav").project.runs[0].duration == 2.0


def test_one_that_fails_does_not_end_the_others_and_is_tried_again(room):
    text = "name,part Cube,Run.duration\ngood,,2\nbad,missing.stl,\nworse,,-1\n"
    first = ran(room, text)
    assert first[0].fault == "" and "missing.stl" in first[1].fault and first[2].fault
    before = (room / "out" / "good" / "result.json").stat().st_mtime_ns
    (room / "missing.stl").write_bytes((room / "small.stl").read_bytes())
    again = ran(room, text)
    assert again[1].fault == ""
    # what was done is not done again
    assert (room / "out" / "good" / "result.json").stat().st_mtime_ns == before


def test_what_a_variant_is_made_from_is_looked_at(room):
    text = "name,part Cube\nsmall,small.stl\n"
    (first,) = ran(room, text, processes=1)
    trimesh.creation.box((40, 40, 40)).export(room / "small.stl")
    (second,) = ran(room, text, processes=1)
    assert second.least_clearance_mm == pytest.approx(first.least_clearance_mm + 10.0, abs=0.01)


def test_pictures_and_extraction_are_made_for_each(room):
    wanted = Wanted(shot="Take", at=0.5, extract=("Cube",))
    found = ran(room, "name,light.exposure\ndark,-2\nbright,1\n", wanted)
    assert all(r.picture == "picture.png" and r.extraction for r in found)
    assert (room / "out" / "dark" / "picture.png").read_bytes() != (
        room / "out" / "bright" / "picture.png"
    ).read_bytes()


def dies(*arguments):
    if arguments[1].name == "fatal":
        os.kill(os.getpid(), signal.SIGKILL)
    return variants.Result(arguments[1].name, {})


def test_one_whose_process_dies_is_told_and_the_others_go_on(room, monkeypatch):
    monkeypatch.setattr(variants, "work_out", dies)
    found = ran(room, "name\none\nfatal\ntwo\nthree\n")
    assert [bool(r.fault) for r in found] == [False, True, False, False]


@pytest.mark.parametrize(("text", "told"), [
    ("", "no column"), ("a,b\n1,2\n", "no column"), ("name\n\n,\n", "another number|no name|no rows"),
    ("name\na\na\n", "again"), ("name\na/b\na-b\n", "again"), ("name,x\na\n", "another number"),
])  # fmt: skip
def test_a_table_that_cannot_be_read_says_where(room, text, told):
    with pytest.raises(BadInput, match=told):
        table(room, text)


@pytest.mark.parametrize(("column", "told"), [
    ("nonsense", "says nothing"), ("Nobody.speed", "Nobody"), ("Run.nothing", "nothing"), ("settings.none", "none"),
])  # fmt: skip
def test_what_cannot_be_changed_is_told_in_its_row(room, column, told):
    (found,) = ran(room, f"name,{column}\none,1\n", processes=1)
    assert told in found.fault


def test_names_are_safe_as_folders_and_in_the_page(room):
    assert file_name("../../etc") == "-..-etc" and "/" not in file_name("a/b") and file_name("..") == "unnamed"
    (found,) = ran(room, "name,Run.name\n<script>alert(1)</script>,=cmd()\n", processes=1)
    assert not found.fault
    # no cell is a formula to a spreadsheet
    assert "'=cmd()" in (room / "out" / "results.csv").read_text()
    page = (room / "out" / "results.html").read_text()
    assert "<script>" not in page and "&lt;script&gt;" in page


def test_the_command_tells_all_and_exits_with_1_when_one_failed(room, capsys):
    (room / "variants.csv").write_text("name,Run.duration\ngood,2\nbad,-1\n")
    arguments = ["batch", room / "project.kestrav", room / "variants.csv", "-o", room / "out", "--json"]
    assert main([str(a) for a in arguments]) == 1
    told = json.loads(capsys.readouterr().out)
    assert [bool(v["fault"]) for v in told["variants"]] == [False, True]
