"""The command line: what it prints, and its exit codes."""

import json
import subprocess
import sys
import threading
import time

import numpy as np
import pytest
from PIL import Image
from shapes import DEMO, box_mesh, make_project, straight

from kestrav.cli import main
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Finish, PointAim, Shot
from kestrav.core.editing.finishing import shown_in, with_colourway, with_finish
from kestrav.core.files import project_file


def run(capsys, *arguments):
    code = main([str(a) for a in arguments])
    out, err = capsys.readouterr()
    return code, out, err


def test_check_reports_the_breach(capsys, saved):
    code, out, _ = run(capsys, "check", saved, "--json")
    data = json.loads(out)
    assert code == 1
    assert data["min_clearance_mm"] == pytest.approx(4.0)
    assert data["pair"] == ["Cube", "Post"]
    assert data["time_s"] == pytest.approx(1.0, abs=0.2)
    assert data["breach_frames"]
    assert data["findings"][0]["rule"] == "clearance-breach"
    assert data["findings"][0]["severity"] == "breach"


def test_check_with_a_smaller_requirement_is_fine(capsys, saved):
    code, out, _ = run(capsys, "check", saved, "--required", "3")
    assert code == 0
    assert "Findings: 0" in out


PREVIEW = ("--quality", "preview")


def test_the_demo_breaches_at_the_riser_pipe(capsys):
    code, out, _ = run(capsys, "check", DEMO, "--span", "1.4:1.9", "--no-certify", "--json")
    data = json.loads(out)
    assert code == 1
    assert any("Riser" in name for name in data["pair"])
    assert 0 < data["min_clearance_mm"] < data["required_clearance_mm"]


def test_new_then_info(capsys, tmp_path):
    target = tmp_path / "made.kestrav"
    step = DEMO.parent / "swing-gate.step"
    code, out, _ = run(capsys, "new", target, step, "--json")
    assert code == 0
    assert json.loads(out)["files"][0]["parts"] == 14
    code, out, _ = run(capsys, "info", target)
    assert code == 0
    assert "Swing gate" in out
    assert "Leaf bar 8" in out
    code, _, err = run(capsys, "new", target, step)
    assert code == 2
    assert "is there already" in err
    assert run(capsys, "new", target, step, "--force")[0] == 0


def test_a_still_and_a_sequence_are_rendered(capsys, tmp_path):
    still = tmp_path / "still.png"
    code, _, err = run(capsys, "render", DEMO, "-o", still, "--at", "1.6", "--size", "320x180", *PREVIEW)
    assert (code, err) == (0, "")
    assert Image.open(still).size == (320, 180)
    folder = tmp_path / "frames"
    code, out, _ = run(
        capsys, "render", DEMO, "-o", folder, "--size", "160x90", "--fps", "10", "--span", "1:1.4", "--json", *PREVIEW
    )
    assert code == 0
    assert json.loads(out)["frames"] == 4
    assert sorted(p.name for p in folder.iterdir()) == [f"frame_{i:05d}.png" for i in range(4)]


def test_looks_backgrounds_and_sizes_by_name_are_taken(capsys, tmp_path):
    still = tmp_path / "still.png"
    options = ["--look", "wire", "--quality", "preview", "--background", "#000000:#204060", "--size", "sd", "--at", "1"]
    assert run(capsys, "render", DEMO, "-o", still, *options)[0] == 0
    picture = np.asarray(Image.open(still).convert("RGB"))
    assert picture.shape == (360, 640, 3)
    # dark below, the other colour above, light wires in between
    assert picture[-1, 0].max() < 25 and picture[0, 0, 2] > 80 and picture.max() > 200
    clear = tmp_path / "clear.png"
    options = ["--background", "clear", "--quality", "preview", "--size", "160x90", "--at", "1"]
    assert run(capsys, "render", DEMO, "-o", clear, *options)[0] == 0
    assert Image.open(clear).mode == "RGBA"


def test_a_chart_is_written(capsys, saved, tmp_path):
    code, out, _ = run(capsys, "export", saved, tmp_path / "lanes.svg", "--json")
    assert code == 0 and "Clearance" in json.loads(out)["lanes"]
    assert (tmp_path / "lanes.svg").read_text(encoding="utf-8").startswith("<?xml")
    code, _, err = run(capsys, "export", saved, tmp_path / "lanes.svg")
    assert code == 2 and "is there already" in err


def test_a_render_that_is_killed_goes_on_where_it_was(capsys, tmp_path):
    target, store = tmp_path / "film.mp4", tmp_path / ".film.mp4.frames"
    arguments = [
        "render",
        DEMO,
        "-o",
        target,
        "--size",
        "160x90",
        "--fps",
        "24",
        "--span",
        "0:1",
        *PREVIEW,
    ]
    command = [sys.executable, "-m", "kestrav.cli", *map(str, arguments), "--processes", "1"]
    killed = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    until = time.monotonic() + 120
    while len(list(store.glob("*.frame"))) < 6 and time.monotonic() < until:
        time.sleep(0.02)
    killed.kill()
    killed.wait()
    kept = {p.name: p.stat().st_mtime_ns for p in store.glob("[!.]*.frame")}
    assert len(kept) >= 6 and not target.exists()
    seen = {}

    def watch():
        while not target.exists():
            seen.update({p.name: p.stat().st_mtime_ns for p in store.glob("[!.]*.frame")})
            time.sleep(0.005)

    watcher = threading.Thread(target=watch, daemon=True)
    watcher.start()
    assert run(capsys, *arguments, "--resume", "--processes", "1")[0] == 0
    watcher.join(5)
    # those that were there have been used as they were
    assert all(seen[name] == made for name, made in kept.items() if name in seen) and len(seen) > len(kept) - 2
    assert target.exists() and not store.exists()


BAD = {
    "no project": ["check", "nowhere.kestrav"],
    "no shot": ["render", DEMO, "-o", "x.mp4", "--shot", "Nope"],
    "no folder": ["render", DEMO, "-o", "/nowhere/at/all/x.mp4"],
    # nobody can write into /proc, not even root
    "unwritable film": ["render", DEMO, "-o", "/proc/x.mp4"],
    "unwritable project": ["new", "/proc/x.kestrav", DEMO.parent / "swing-gate.step"],
    "ending": ["render", DEMO, "-o", "x.mov"],
    "codec": ["render", DEMO, "-o", "x.mp4", "--codec", "h265"],
    "alpha": ["render", DEMO, "-o", "x.mp4", "--alpha"],
    "film and shot": ["render", DEMO, "-o", "x.mp4", "--film", "--shot", "Cabinet orbit"],
    "size": ["render", DEMO, "-o", "x.mp4", "--size", "huge"],
    "look": ["render", DEMO, "-o", "x.mp4", "--look", "oil"],
    "quality": ["render", DEMO, "-o", "x.mp4", "--quality", "superb"],
    "background": ["render", DEMO, "-o", "x.mp4", "--background", "#112233:blue"],
    "no frames": ["render", DEMO, "-o", "x.mp4", "--span", "2:2"],
    "sheet that is no picture": ["render", DEMO, "-o", "x.mp4", "--sheet"],
    "sheet at a time": ["render", DEMO, "-o", "x.png", "--sheet", "--at", "1"],
    "export": ["export", DEMO, "x.xyz"],
    "at": ["render", DEMO, "-o", "x.mp4", "--at", "1"],
    "option": ["check", DEMO, "--wrong"],
    "argument": ["check"],
    "number": ["check", DEMO, "--required", "wide"],
    "negative": ["check", DEMO, "--required", "-1"],
    "command": ["explode", "now"],
    "kind": ["info", "readme.txt"],
    "suffix": ["new", "x.zip", "a.step"],
}


@pytest.mark.parametrize("arguments", BAD.values(), ids=BAD.keys())
def test_bad_input_gives_one_line_and_exit_code_2(capsys, arguments, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    code, out, err = run(capsys, *arguments)
    assert code == 2
    assert out == ""
    assert err.startswith("kestrav: ")
    assert "Traceback" not in err
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize("number", ["nan", "inf", "-inf", "1e308"])
@pytest.mark.parametrize(
    "words",
    [("check", "--required"), ("extract", "Cube", "--tilt"), ("render", "--at"), ("render", "--fps")],
    ids="-".join,
)
def test_numbers_that_nothing_can_be_worked_out_with_are_refused_by_option(capsys, saved, words, number):
    command, *rest = words
    code, out, err = run(capsys, command, saved, *rest, number)
    assert (code, out) == (2, "")
    assert err.count("\n") == 1 and words[-1] in err


def test_errors_are_json_too_when_asked(capsys):
    code, out, _ = run(capsys, "check", "nowhere.kestrav", "--json")
    assert code == 2
    assert "does not exist" in json.loads(out)["error"]


def test_without_a_display_the_window_says_so(capsys, monkeypatch):
    monkeypatch.delenv("DISPLAY", raising=False)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    code, _, err = run(capsys, DEMO)
    assert code == 2
    assert "no X display" in err


def test_version_and_schema(capsys):
    assert run(capsys, "--version")[1].startswith("Kestrav ")
    assert json.loads(run(capsys, "schema")[1])["title"] == "Kestrav project"
    told = json.loads(run(capsys, "rules", "--json")[1])
    assert {"id", "severity", "unit", "limit", "source"} <= told[0].keys()
    assert "`clearance-breach`" in run(capsys, "rules")[1]


def test_new_takes_a_unit_for_files_that_do_not_say_theirs(capsys, tmp_path):
    (tmp_path / "plate.off").write_text(
        "OFF\n4 4 0\n0 0 0\n10 0 0\n0 10 0\n0 0 10\n3 0 2 1\n3 0 1 3\n3 1 2 3\n3 2 0 3\n"
    )
    out = tmp_path / "plate.kestrav"
    code, text, _ = run(capsys, "new", out, tmp_path / "plate.off")
    assert code == 0
    assert "taken for mm by its size; --unit says otherwise" in text
    code, text, _ = run(capsys, "new", out, tmp_path / "plate.off", "--unit", "in", "--force", "--json")
    assert json.loads(text)["files"][0]["unit"] == "in, as given"
    code, text, _ = run(capsys, "info", out, "--json")
    assert json.loads(text)["bounds_mm"][1] == pytest.approx([254, 254, 254], abs=0.01)
    code, _, err = run(capsys, "new", out, tmp_path / "plate.off", "--unit", "ell", "--force")
    assert code == 2
    assert "units are mm, cm, m, in, ft" in err


def test_info_tells_unit_tolerance_and_exact_faces(capsys):
    code, text, _ = run(capsys, "info", DEMO.parent / "trolley.step", "--json")
    data = json.loads(text)
    assert code == 0
    assert data["analytic_faces"] > 100
    assert data["tolerance_mm"] == 0.1
    assert "STEP" in data["unit"]


def test_extract_prints_a_way_out_and_keeps_it(capsys, tmp_path):
    shapes = {"Block": (box_mesh(60, 40, 40), (0, 0, 0)), "Floor": (box_mesh(60, 100, 10), (0, 0, -35))}
    shapes |= {"Left": (box_mesh(60, 10, 80), (0, 35, 0)), "Right": (box_mesh(60, 10, 80), (0, -35, 0))}
    made = make_project(shapes)
    source, target = tmp_path / "u.kestrav", tmp_path / "out.kestrav"
    project_file.save(made.project, made.meshes, source)
    code, out, _ = run(capsys, "extract", source, "Block", "--json", "-o", target)
    data = json.loads(out)
    assert code == 0 and data["stage"] == "straight pull" and data["status"] == "certified"
    assert data["points"] == 2 and data["greatest_tilt_deg"] == 0
    done = project_file.load(target).project
    assert done.runs[0].rider == "part-1" and len(done.paths) == 1
    code, out, _ = run(capsys, "check", target, "--json")
    assert json.loads(out)["certificate"]["status"] == "certified"
    assert run(capsys, "extract", source, "Block", "-o", target)[0] == 2
    code, _, err = run(capsys, "extract", source, "Blok")
    assert code == 2 and "holds no part called" in err


def test_extract_names_what_blocks(capsys, tmp_path):
    walls = {"Left": ((10, 120, 120), (-55, 0, 0)), "Right": ((10, 120, 120), (55, 0, 0))}
    walls |= {"Back": ((100, 10, 120), (0, 55, 0)), "Front": ((100, 10, 120), (0, -55, 0))}
    walls |= {"Floor": ((100, 100, 10), (0, 0, -55)), "Lid": ((100, 100, 10), (0, 0, 55))}
    made = make_project(
        {"Block": (box_mesh(84, 84, 84), (0, 0, 0)), **{n: (box_mesh(*s), at) for n, (s, at) in walls.items()}}
    )
    source = tmp_path / "closed.kestrav"
    project_file.save(made.project, made.meshes, source)
    code, out, _ = run(capsys, "extract", source, "Block", "--checks", "4000", "--required", "1")
    assert code == 1
    assert "No extraction path found" in out and "it could be pulled out along" in out


def test_extract_in_order_makes_a_sequence(capsys, tmp_path):
    shapes = {
        "Tray": ((100, 100, 10), (0, 0, -30)),
        "Lower": ((60, 60, 20), (0, 0, 0)),
        "Upper": ((60, 60, 20), (0, 0, 25)),
    }
    shapes |= {"Left": ((10, 100, 100), (45, 0, 20)), "Right": ((10, 100, 100), (-45, 0, 20))}
    shapes |= {"Back": ((80, 10, 100), (0, 45, 20)), "Front": ((80, 10, 100), (0, -45, 20))}
    made = make_project({n: (box_mesh(*s), at) for n, (s, at) in shapes.items()})
    source, target = tmp_path / "stack.kestrav", tmp_path / "apart.kestrav"
    project_file.save(made.project, made.meshes, source)
    code, out, _ = run(capsys, "extract", source, "Lower", "Upper", "--order", "--json", "-o", target)
    assert code == 0 and [r["thing"] for r in json.loads(out)["removals"]] == ["Upper", "Lower"]
    assert [r.rider for r in project_file.load(target).project.runs] == ["part-3", "part-2"]
    code, out, _ = run(
        capsys, "extract", source, "Lower", "Upper", "--order", "--speed", 250, "--together", "-o", target, "--force"
    )
    assert code == 0 and "1. Upper" in out and "2. Lower" in out
    together = project_file.load(target).project
    assert {r.speed for r in together.runs} == {250.0} and all(r.backwards for r in together.runs)
    code, _, err = run(capsys, "extract", source, "Lower", "Upper", "--order", "--speed", 0)
    assert code != 0 and "a speed of 0 mm/s is not possible" in err
    code, out, _ = run(capsys, "extract", source, "Lower", "--order")
    assert code == 1 and "does not come out; it is held by" in out


def passing_project(tmp_path):
    made = make_project(
        {"Cube": (box_mesh(20, 20, 20), (0, 0, 0)), "Post": (box_mesh(10, 10, 60), (100, 18.0, 0))},
        straight((0, 0, 0), (400, 0, 0)),
        duration=2.0,
    )
    file = tmp_path / "passing.kestrav"
    project_file.save(made.project, made.meshes, file)
    return file


def test_check_takes_pairs_and_spans_and_writes_reports(capsys, tmp_path):
    file = passing_project(tmp_path)
    assert run(capsys, "check", file)[0] == 1
    code, out, _ = run(capsys, "check", file, "--pair", "Cube:Post=2", "--json")
    told = json.loads(out)
    assert (
        code == 0 and told["requirements"][1]["status"] == "certified" and told["requirements"][1]["required_mm"] == 2
    )
    assert run(capsys, "check", file, "--span", "1.5:2")[0] == 0  # it has passed by then
    page, table = tmp_path / "r.html", tmp_path / "r.csv"
    code, out, _ = run(capsys, "check", file, "-o", table)
    assert code == 1 and f"made {table}" in out and "Cube,Post" in table.read_text()
    assert (tmp_path / "r-frames.csv").exists()
    code, _, fault = run(capsys, "check", file, "-o", table)
    assert code == 2 and "there already" in fault
    code, _, fault = run(capsys, "check", file, "-o", tmp_path / "r.pdf")
    assert code == 2 and "ending" in fault
    code, _, fault = run(capsys, "check", file, "--span", "2:1")
    assert code == 2 and "before it begins" in fault
    assert run(capsys, "check", file, "-o", page, "--pair", "Post=off")[0] == 0
    assert "Post=off" in page.read_text()


def test_extract_goes_to_a_place_within_limits(capsys, tmp_path):
    made = make_project({"Block": (box_mesh(40, 40, 40), (0, 0, 0)), "Lid": (box_mesh(60, 60, 10), (0, 0, 40))})
    file = tmp_path / "lid.kestrav"
    project_file.save(made.project, made.meshes, file)
    code, out, _ = run(
        capsys, "extract", file, "Block", "--required", "1", "--to", "0,0,200", "--direction", "+z", "--direction=-z",
        "--aside", "Lid", "--room=-200,-200,-200:200,200,400", "--json",
    )  # fmt: skip
    told = json.loads(out)
    assert code == 0 and told["taken_away"] == ["Lid"] and told["status"] == "certified"
    assert told["poses"][-1]["translation_mm"] == [0, 0, 200]
    for options, why in (
        (("--to", "here"), "not understood"),
        (("--direction", "0,0,0"), "leads nowhere"),
        (("--room", "1,1,1:0,0,0"), "no inside"),
    ):
        code, _, fault = run(capsys, "extract", file, "Block", *options)
        assert code == 2 and why in fault


@pytest.mark.parametrize(
    ("name", "made"),
    [("a.glb", ["a.glb"]), ("a.csv", ["a.csv", "a-turns.csv", "a-cameras.csv"]), ("a.html", ["a.html"])],
)
def test_export_writes_what_the_ending_says(saved, tmp_path, capsys, name, made):
    assert main(["export", str(saved), str(tmp_path / name), "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["out"] == [str(tmp_path / file) for file in made]
    assert all((tmp_path / file).stat().st_size > 10 for file in made)
    # not over what is there, unless told so
    assert main(["export", str(saved), str(tmp_path / name)]) == 2
    assert "there already" in capsys.readouterr().err
    assert main(["export", str(saved), str(tmp_path / name), "--force"]) == 0


def test_export_refuses_other_endings(saved, tmp_path, capsys):
    assert main(["export", str(saved), str(tmp_path / "a.xyz")]) == 2
    assert "give one of .html, .glb, .usdc" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("name", "options", "begins"),
    [
        ("page.html", ["--review", "--simplify", "0.5"], b"<!doctype html>"),
        ("scene.usdz", [], b"PK"),
        ("scene.usdc", ["--tolerance", "0.5"], b"PXR-USDC"),
        ("steps.pdf", [], b"%PDF"),
        ("steps.html", ["--sheet", "all"], b"<!doctype html>"),
        ("lanes.csv", ["--lanes"], b"time [s],Clearance [mm]"),
    ],
)
def test_each_kind_is_exported(saved, tmp_path, capsys, name, options, begins):
    code, out, _ = run(capsys, "export", saved, tmp_path / name, *options, "--json")
    assert code == 0 and json.loads(out)["out"] == [str(tmp_path / name)]
    assert (tmp_path / name).read_bytes().startswith(begins)


@pytest.mark.parametrize(
    ("options", "told"),
    [
        (["a.glb", "--review"], "give .html"),
        (["a.html", "--review", "--sheet", "all"], "one file is one thing"),
        (["a.html", "--sheet", "none"], "no step sheet is called"),
        (["a.html", "--review", "--simplify", "-1"], "0 or more"),
        (["a.usdc", "--tolerance", "0"], "give above 0"),
    ],
)
def test_exports_that_cannot_be_are_told(saved, tmp_path, capsys, options, told):
    code, _, err = run(capsys, "export", saved, tmp_path / options[0], *options[1:])
    assert code == 2 and told in err and not (tmp_path / options[0]).exists()


def test_poses_of_a_table_become_key_poses(saved, tmp_path, capsys):
    assert run(capsys, "export", saved, tmp_path / "motion.csv")[0] == 0
    code, out, _ = run(capsys, "poses", saved, tmp_path / "motion.csv", "-o", tmp_path / "posed.kestrav", "--json")
    assert code == 0 and json.loads(out)["key_poses"] == ["Cube"]
    code, _, err = run(capsys, "poses", saved, saved, "-o", tmp_path / "other.kestrav")
    assert code == 2 and "no table of poses" in err


@pytest.fixture
def rail(tmp_path):
    """A slide on a rail with a bead of 0.8 mm on its way out, and a post far off."""
    import trimesh

    from kestrav.core.geometry.meshes import mesh

    def at(solid, *by):
        return trimesh.Trimesh(solid.vertices + np.array(by, float), solid.triangles)

    bead = trimesh.boolean.union([at(box_mesh(200, 20, 10), 0, 0, -5), at(box_mesh(2, 20, 2), 40, 0, -0.2)])
    made = make_project(
        {
            "Slide": (box_mesh(40, 20, 10), (0, 0, 5)),
            "Rail": (mesh(bead.vertices, bead.faces), (0, 0, 0)),
            "Post": (box_mesh(5, 5, 5), (0, 90, 0)),
        }
    )
    file = tmp_path / "rail.kestrav"
    project_file.save(made.project, made.meshes, file)
    return file


def test_info_lists_how_parts_meet_and_writes_it_once(capsys, rail, tmp_path):
    table = tmp_path / "contacts.csv"
    code, out, _ = run(capsys, "info", rail, "--contacts", "-o", table)
    assert code == 0 and "1 pair of parts meet at rest" in out and "Slide and Rail: touches" in out
    assert table.read_text().splitlines()[1].startswith("Slide,Rail,touches,0.0000")
    code, out, _ = run(capsys, "info", rail, "--contacts", "--json")
    (pair,) = json.loads(out)["contacts"]
    assert pair["parts"] == ["Slide", "Rail"] and pair["kind"] == "touches" and not pair["intended"]
    code, _, err = run(capsys, "info", rail, "--contacts", "-o", table)
    assert code == 2 and "--force" in err
    assert run(capsys, "info", rail, "-o", table)[0] == 2  # there is nothing else to write


def test_extract_tells_a_snap_fit_and_goes_when_it_may_get_deeper(capsys, rail, tmp_path):
    asked = ("extract", rail, "Slide", "--direction", "+x", "--margin", "5", "--checks", "20000")
    code, out, _ = run(capsys, *asked)
    assert code == 1 and "mm deeper at" in out and "allow it?" in out
    target = tmp_path / "out.kestrav"
    code, out, _ = run(capsys, *asked, "--deeper", "1", "-o", target)
    assert code == 0 and "certified" in out


def test_check_tells_how_long_pairs_are_in_contact(capsys, tmp_path):
    made = make_project(
        {"Block": (box_mesh(20, 20, 20), (0, 0, 10)), "Table": (box_mesh(400, 400, 10), (0, 0, -5))},
        straight((0, 0, 10), (0, 0, 60)),
        duration=1.0,
    )
    file = tmp_path / "lifted.kestrav"
    project_file.save(made.project, made.meshes, file)
    code, out, _ = run(capsys, "check", file)
    assert code == 0 and "Block on Table: in contact until 0.1" in out
    assert "no contact deeper than it may be by more than" in out
    code, out, _ = run(capsys, "check", file, "--json")
    data = json.loads(out)
    (contact,) = data["contacts"]
    assert contact["reason"] == "at rest" and contact["then_at_least_mm"] >= 5.0
    assert data["certificate"]["contacts_within_mm"] < 0.5


def test_a_still_is_made_in_one_colourway_or_once_in_each(capsys, saved, tmp_path):
    opened = project_file.load(saved)
    project = edits.add(
        opened.project,
        Camera("camera-1", "Eye", PointAim((0, 0, 0)), (0.0, -600.0, 100.0)),
        Shot("shot-1", "Take", "camera-1", width=160, height=90, quality="preview"),
    )
    for name, colour in (("Red/matt", "#c02020"), ("Green", "#20c020")):
        project, _ = with_colourway(project, name)
        project = with_finish(project, ["part-1", "part-2", "part-3"], Finish("", name, colour=colour))
    project_file.save(shown_in(project, ""), opened.meshes, saved)
    status, _, _ = run(capsys, "render", saved, "-o", tmp_path / "still.png", "--all-colourways")
    assert status == 0
    red, green = (
        np.asarray(Image.open(tmp_path / f"still {name}.png")).mean(axis=(0, 1)) for name in ("Red-matt", "Green")
    )
    assert red[0] > green[0] + 5 and green[1] > red[1] + 5
    run(capsys, "render", saved, "-o", tmp_path / "one.png", "--colourway", "Green")
    assert np.asarray(Image.open(tmp_path / "one.png")).mean(axis=(0, 1)) == pytest.approx(green)
    status, _, fault = run(capsys, "render", saved, "-o", tmp_path / "two.png", "--colourway", "Blue")
    assert status == 2 and "“Green”" in fault


def test_two_projects_are_compared(saved, tmp_path, capsys):
    status, out, _ = run(capsys, "compare", saved, saved, "--json", "--no-certify")
    told = json.loads(out)
    assert status == 0 and not told["is_worse"] and all(f["change"] == "same" for f in told["findings"])
    status, _, err = run(capsys, "compare", saved, tmp_path / "missing.json")
    assert status == 2 and "missing.json" in err
