"""The interface for scripts: its recipes run, its arrays are the window's own, and its errors are sentences."""

import re
import shutil
from pathlib import Path as FilePath

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight

import kestrav
from kestrav.core.files import project_file
from kestrav.core.kinematics.poses import world_poses

PAGE = FilePath(__file__).parents[1] / "docs" / "scripting.md"
RECIPES = re.findall(
    r"^## (\d+)\. (.+?)\n\n```python\n(.*?)```", PAGE.read_text(encoding="utf-8"), re.DOTALL | re.MULTILINE
)


@pytest.fixture
def room(tmp_path, monkeypatch):
    """A folder with the files that the recipes name."""
    made = make_project(
        {"Cube": (box_mesh(80, 80, 80), (0, 0, 0)), "Wall": (box_mesh(20, 300, 300), (-120, 0, 0))},
        straight((0, 0, 0), (300, 0, 0)),
        duration=1.0,
    )
    project_file.save(made.project, made.meshes, tmp_path / "project.kestrav")
    trimesh.creation.box((300, 200, 150)).export(tmp_path / "cabinet.stl")
    shutil.copy(PAGE.parents[1] / "demo" / "trolley.step", tmp_path)
    monkeypatch.chdir(tmp_path)
    return tmp_path


@pytest.mark.parametrize(("number", "title", "code"), RECIPES, ids=[title for _, title, _ in RECIPES])
def test_each_recipe_of_the_page_runs(room, number, title, code, capsys):
    # the page names a STEP file; any CAD or mesh file will do. What takes long is made small
    code = (
        code.replace("cabinet.step", "cabinet.stl")
        .replace("seconds=12", "seconds=0.5")
        .replace('size="hd"', 'size="64x36"')
    )
    exec(compile(code, title, "exec"), {})
    told = capsys.readouterr().out
    made = {p.name for p in room.iterdir()}
    expected = {
        "1": {"turntable.kestrav", "turntable.mp4"},
        "8": {"finished.kestrav"},
        "9": {"still.png"},
        "10": {"motion.glb", "scene.usdc", "review.html", "steps.pdf", "motion.csv"},
    }
    assert expected.get(number, set()) <= made
    assert told or number in expected


def test_there_are_ten_recipes():
    assert [number for number, _, _ in RECIPES] == [str(k + 1) for k in range(10)]


def test_poses_are_those_of_the_document(room):
    project = kestrav.open("project.kestrav")
    times = np.linspace(0.0, 1.0, 7)
    opened = project_file.load(room / "project.kestrav").project
    assert np.array_equal(project.poses(times), world_poses(opened, times))
    assert project.poses(0.5).shape == (1, 2, 4, 4) and project.parts == ("Cube", "Wall")


def test_wheels_turn_by_their_route_over_their_circumference(room):
    project = kestrav.new("trolley.step")
    (trolley,) = project.products
    wheels = [i for name, i in zip(project.parts, project.part_ids, strict=True) if name == "Wheel"]
    project.add_run(trolley, project.add_path([(0, 0, 0), (1000, 0, 0)], kind="corner"), speed=500, turned=False)
    project.add_wheels(*wheels)
    turns = np.abs(list(project.wheel_turns().values()))
    # a wheel is as high as it is wide across its axle
    shape = project._meshes[project._document.parts[project.part_ids.index(wheels[0])].geometry]
    across = float(np.sort(np.ptp(shape.vertices, axis=0))[-1])
    assert len(turns) == 4 and turns == pytest.approx(1000 / (np.pi * across), rel=1e-3)


def test_a_change_is_taken_back_and_a_save_keeps_it(room):
    project = kestrav.open("project.kestrav")
    project.set("Run", duration=3.0)
    assert project.duration == pytest.approx(3.0)
    project.undo()
    assert project.duration == pytest.approx(1.0)
    with pytest.raises(kestrav.Error, match="nothing was changed"):
        project.undo()
    project.set_settings(required_clearance=12.0)
    project.save()
    assert project_file.load(room / "project.kestrav").project.settings.required_clearance == 12.0


def test_a_check_tells_numbers_and_names(room):
    project = kestrav.open("project.kestrav")
    project.set("Wall", placement=project_file.load(room / "project.kestrav").project.parts[0].placement)
    check = project.check(certify=False)
    assert check.has_breach and check.least_clearance < 0
    assert len(check.times) == len(check.clearance)
    assert any({"Cube", "Wall"} <= set(f.subject) for f in check.findings)
    assert check.as_data()["project"] == project.name


@pytest.mark.parametrize(
    ("does", "told"),
    [
        (lambda p: kestrav.open("missing.kestrav"), "missing.kestrav"),
        (lambda p: kestrav.new("missing.step"), "missing.step"),
        (lambda p: kestrav.new("cabinet.stl", unit="ell"), "unit"),
        (lambda p: kestrav.new("cabinet.stl", up="w"), "upward axis"),
        (lambda p: p.add_run("Nobody", "Path"), "Nobody"),
        (lambda p: p.add_run("Cube", "Nowhere"), "Nowhere"),
        (lambda p: p.add_run("Cube", "Path", speed=1.0, duration=1.0), "one of them"),
        (lambda p: p.render("a.mp4"), "no shot"),
        (lambda p: p.export("a.xyz"), "ending"),
        (lambda p: p.save("a.txt"), "should end in"),
        (lambda p: p.give_finish("cube", "Unobtainium"), "Unobtainium"),
        (lambda p: p.extract(), "name the parts"),
        (lambda p: p.extract("Cube", wishes=1), "asked for so"),
        (lambda p: p.set("Run", duration=-1.0), "Run"),
        (lambda p: p.set("Run", pace=1.0), "run has no “pace”"),
        (lambda p: p.set("Run", duration="long"), "duration"),
        (lambda p: p.add("spell", "Magic"), "“spell” is not a kind"),
        (lambda p: p.add("attachment", "Hangs", rider="Cube"), "carrier"),
        (lambda p: p.add("attachment", "Hangs", rider="Cube", carrier="Nobody"), "called “Nobody”"),
        (lambda p: p.span_of("Path"), "is no run"),
        (lambda p: p.hold("Path", 0.5, 1.0), "no run called “Path”"),
        (lambda p: p.disassemble("Cube", speed=0.0), "more than 0"),
        (lambda p: p.set_finish("Unobtainium", "Cube"), "Unobtainium"),
        (lambda p: kestrav.info("missing.kestrav"), "missing.kestrav"),
        (lambda p: p.set_light(level=40.0), "-12 EV to 12 EV"),
        (lambda p: kestrav.new(name="New").save(), "no file yet"),
    ],
)
def test_what_cannot_be_done_is_one_sentence(room, does, told):
    with pytest.raises(kestrav.Error, match=told):
        does(kestrav.open("project.kestrav"))


def test_any_kind_of_thing_is_added_by_the_names_of_others(room):
    project = kestrav.open("project.kestrav")
    axle = {"origin": (0.0, 0.0, 40.0), "direction": (0.0, 0.0, 1.0)}
    turns = project.add("rotation", "Wall turns", part="Wall", axle=axle, end=2.0, turns=0.25, rpm=None)
    # a quarter turn about the upright through its origin brings its x axis to y
    poses = project.poses([0.0, 2.0])
    assert np.allclose(poses[1, 1, :3, 0], poses[0, 1, :3, 1], atol=1e-9)
    away = project.copy("Run", "Cube goes back", start=1.5, backwards=True)
    assert project.span_of(away) == pytest.approx((1.5, 2.5)) and project.runs == ("Run", away)
    assert project.pivot("Cube", 2.5)["position"] == pytest.approx(project.pivot("Cube", 0.0)["position"])
    light = project.add("light", "Lamp", kind="spot", aim={"type": "part", "part": "Cube"})
    project.set(light, aim={"type": "part", "part": project.part_ids[1]})
    assert project._document.lights[0].aim.part == project.part_ids[1]
    project.remove(turns)
    assert not project._document.rotations


def test_names_of_several_kinds_are_told_apart(room):
    project = kestrav.open("project.kestrav")
    project.copy("Path", "Run")
    with pytest.raises(kestrav.Error, match="2 things called “Run”"):
        project.set("Run", duration=2.0)
    project.set(project.id_of("Run", "run"), duration=2.0)
    project.hold("Run", 0.5, 1.0)
    assert project.duration == pytest.approx(3.0)


def test_parts_are_found_by_their_names(room):
    project = kestrav.new("trolley.step")
    (castor, *others) = project.find_parts("Castor, *")
    assert len(others) == 3
    assert project.find_parts("Wheel", inside=castor) == project.find_parts("Whee?", inside=castor, solids=True)
    assert len(project.find_parts("Wheel")) == 4 and not project.find_parts(castor, solids=True)


def test_parts_come_out_in_an_order_and_boxes_are_built(room):
    project = kestrav.new(name="Stack")
    for name, at in (("Lower", 0.0), ("Upper", 40.0)):
        project.add_box(name, (60.0, 60.0, 40.0), (0.0, 0.0, at), colour="#808080")
    project.allow_contact("Lower", ["Upper"])
    found = project.disassemble("Upper", speed=200.0)
    assert found.found and [one["thing"] for one in found.data["removals"]] == ["Upper"]
    assert len(project.runs) == 1 and project.contacts().data["contacts"]
    project.contacts("contacts.csv")
    assert "Upper" in (room / "contacts.csv").read_text()
    with pytest.raises(kestrav.Error, match=r"contacts\.csv"):
        project.contacts("contacts.csv")


def test_files_tell_what_they_hold(room):
    held = kestrav.info("trolley.step")
    assert held.data["unit"] and "Wheel" in held.text
    assert kestrav.info("project.kestrav").data["paths"][0]["name"] == "Path"


def test_the_interface_is_described():
    for name in ("open", "new", "info", "Check", "Contents", "Extraction", "Finding", "Project", "Error"):
        assert getattr(kestrav, name).__doc__ and name in dir(kestrav)
    for name in dir(kestrav.Project):
        assert name.startswith("_") or getattr(kestrav.Project, name).__doc__, name


def test_the_demos_script_uses_nothing_else():
    script = PAGE.parents[1] / "demo" / "make_project.py"
    named = {one for _, one in re.findall(r"^(import|from) (\S+)", script.read_text(encoding="utf-8"), re.MULTILINE)}
    assert {one for one in named if one.startswith("kestrav")} == {"kestrav"}
    with pytest.raises(AttributeError, match="nothing_here"):
        kestrav.nothing_here  # noqa: B018
