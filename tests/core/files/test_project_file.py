"""The project file: round runs, and every way it can be broken."""

import json
import os
import zipfile
from pathlib import Path

import jsonschema
import msgspec
import numpy as np
import pytest
from shapes import DEMO, make_project

from kestrav.core.document.records import (
    FORMAT_VERSION,
    AlongOrientation,
    Keyed,
    Law,
    Placement,
    Project,
    Run,
    SpeedKey,
    Trigger,
)
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file, reading
from kestrav.core.files.mesh_entries import kept_mesh, to_glb
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.geometry.meshes import Mesh, mesh

DOCS = Path(__file__).parents[3] / "docs"


def rewrite(source, target, change):
    """Copy a project file, its entries changed by a function of name and bytes (None leaves one out)."""
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w") as new:
        for name in old.namelist():
            data = change(name, old.read(name))
            if data is not None:
                new.writestr(name, data)
    return target


def with_document(source, target, **fields):
    def change(name, data):
        if name != "project.json":
            return data
        return json.dumps({**json.loads(data), **fields}).encode()

    return rewrite(source, target, change)


def test_what_is_saved_is_what_is_loaded(demo, tmp_path):
    target = tmp_path / "again.kestrav"
    project_file.save(demo.project, demo.meshes, target)
    loaded = project_file.load(target)
    assert loaded.project == demo.project
    assert loaded.meshes.keys() == demo.meshes.keys()
    assert all(loaded.meshes[k].hash == k for k in loaded.meshes)
    # twenty bolts are one geometry
    assert len(demo.project.geometry) < sum(p.geometry is not None for p in demo.project.parts) / 2


@pytest.mark.parametrize(
    "part",
    [{"name": 3}, {"shown": 1}, {"name": "\ud800"}, {"opacity": "thin"}, {"placement": 5}, {"scale": ("1", 1.0, 1.0)}],
)
def test_what_could_not_be_read_is_not_saved(passing, saved, part):
    before = saved.read_bytes()
    first, *rest = passing.project.parts
    other = msgspec.structs.replace(passing.project, parts=(msgspec.structs.replace(first, **part), *rest))
    with pytest.raises(BadInput, match="was not saved"):
        project_file.save(other, passing.meshes, saved)
    assert saved.read_bytes() == before


def test_what_is_only_written_like_the_right_kind_is_saved_as_it_reads(passing, tmp_path):
    parts = (msgspec.structs.replace(passing.project.parts[0], placement={}), *passing.project.parts[1:])
    file = tmp_path / "like.kestrav"
    project_file.save(msgspec.structs.replace(passing.project, parts=parts), passing.meshes, file)
    assert project_file.load(file).project.parts[0].placement == Placement()


def test_the_same_project_gives_the_same_bytes(passing, tmp_path):
    a, b = tmp_path / "a.kestrav", tmp_path / "b.kestrav"
    project_file.save(passing.project, passing.meshes, a)
    project_file.save(passing.project, passing.meshes, b)
    assert a.read_bytes() == b.read_bytes()


def test_documents_fit_the_published_schema(demo):
    published = json.loads((DOCS / "project.schema.json").read_text())
    assert published == json.loads(json.dumps(project_file.schema()))
    jsonschema.validate(json.loads(msgspec.json.encode(demo.project)), published)


def test_a_failed_save_leaves_the_old_file_and_no_rest(passing, saved, monkeypatch):
    before = saved.read_bytes()

    def full(*_):
        raise OSError(28, os.strerror(28))

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(BadInput, match="what was there is as it was"):
        project_file.save(passing.project, passing.meshes, saved)
    assert saved.read_bytes() == before
    assert [p.name for p in saved.parent.iterdir()] == [saved.name]


def test_an_unwritable_folder_is_told(passing, tmp_path):
    with pytest.raises(BadInput, match="cannot be written"):
        project_file.save(passing.project, passing.meshes, tmp_path / "nowhere" / "x.kestrav")


def empty(source, target):
    target.write_bytes(b"")


def truncated(source, target):
    target.write_bytes(source.read_bytes()[:-400])


def renamed(source, target):
    target.write_bytes(b"ISO-10303-21;\n")


def broken_json(source, target):
    rewrite(source, target, lambda n, d: d[:50] if n == "project.json" else d)


def newer(source, target):
    with_document(source, target, version=FORMAT_VERSION + 7)


def ancient(source, target):
    with_document(source, target, version=-3)


def versionless(source, target):
    with_document(source, target, version="two")


def unknown_field(source, target):
    with_document(source, target, colour="blue")


def wrong_type(source, target):
    with_document(source, target, paths="none")


def not_a_project(source, target):
    rewrite(source, target, lambda n, d: None if n == "project.json" else d)


def missing_geometry(source, target):
    names = [g for g in zipfile.ZipFile(source).namelist() if g.endswith(".glb")]
    rewrite(source, target, lambda n, d: None if n == names[0] else d)


def damaged_geometry(source, target):
    rewrite(source, target, lambda n, d: d[: len(d) // 2] if n.endswith(".glb") else d)


def swapped_geometry(source, target):
    glbs = {n: zipfile.ZipFile(source).read(n) for n in zipfile.ZipFile(source).namelist() if n.endswith(".glb")}
    names = list(glbs)
    rewrite(source, target, lambda n, d: glbs[names[1]] if n == names[0] else d)


def outside(source, target):
    rewrite(source, target, lambda n, d: d)
    with zipfile.ZipFile(target, "a") as archive:
        archive.writestr("../../evil.txt", "x")


def bad_reference(source, target):
    with_document(source, target, runs=[{"id": "r", "name": "R", "rider": "ghost", "path": "path-1"}])


def not_utf8(source, target):
    rewrite(source, target, lambda n, d: b'{"name": "\xb8"}' if n == "project.json" else d)


def nested(source, target):
    rewrite(source, target, lambda n, d: b"[" * 100_000 + b"]" * 100_000 if n == "project.json" else d)


def old_list_that_is_none(source, target):
    with_document(source, target, version=3, runs=5)


def old_record_that_is_none(source, target):
    with_document(source, target, version=3, runs=["run"])


def old_heading_that_is_none(source, target):
    with_document(source, target, version=3, runs=[{"id": "r", "heading": None}])


def entry_whose_name_is_no_text(source, target):
    rewrite(source, target, lambda n, d: d)
    with zipfile.ZipFile(target, "a") as archive:
        archive.writestr("wörter.txt", "x")  # marked as UTF-8
    target.write_bytes(target.read_bytes().replace("wörter".encode(), b"w\x84\xffrter"))


def endless_name(source, target):
    parts = json.loads(zipfile.ZipFile(source).read("project.json"))["parts"]
    parts[0]["geometry"] = "a" * 5000
    with_document(source, target, parts=parts)


BROKEN = {
    empty: "is empty",
    truncated: "cut short",
    renamed: "not a Kestrav project",
    broken_json: "broken project.json",
    newer: "use a newer one",
    ancient: "unknown format version -3",
    versionless: "without a format version",
    unknown_field: "colour",
    wrong_type: "does not fit the format",
    not_a_project: "no entry “project.json”",
    missing_geometry: "its geometry is not whole",
    damaged_geometry: "is damaged",
    swapped_geometry: "content hash differs",
    outside: "points outside the archive",
    bad_reference: "ghost",
    not_utf8: "is not UTF-8",
    nested: "nested too deep",
    entry_whose_name_is_no_text: "list of its entries cannot be read",
    endless_name: "geometry “a{40} …” of the part",
    old_list_that_is_none: r"does not fit the format.*runs",
    old_record_that_is_none: r"does not fit the format.*runs\[0\]",
    old_heading_that_is_none: r"does not fit the format",
}


@pytest.mark.parametrize("break_it", BROKEN, ids=lambda f: f.__name__)
def test_a_broken_file_is_refused_by_name_and_reason(saved, tmp_path, break_it):
    target = tmp_path / "broken.kestrav"
    break_it(saved, target)
    with pytest.raises(BadInput, match=BROKEN[break_it]) as caught:
        project_file.load(target)
    assert "broken.kestrav" in str(caught.value)
    assert len(str(caught.value).replace(str(target), "")) <= 300
    project_file.fingerprint(target)  # tells none where there is none


def test_an_entry_that_unpacks_to_too_much_is_refused_before_it_is(saved, tmp_path, monkeypatch):
    monkeypatch.setattr(reading, "LARGEST_ENTRY", 1000)
    rewrite(saved, tmp_path / "bomb.kestrav", lambda n, d: d + b" " * 5000 if n == "project.json" else d)
    with pytest.raises(BadInput, match=r"bomb\.kestrav.*project\.json.*unpacks to"):
        project_file.load(tmp_path / "bomb.kestrav")


def test_a_missing_file_is_told(tmp_path):
    with pytest.raises(BadInput, match="does not exist"):
        project_file.load(tmp_path / "none.kestrav")


def test_old_versions_are_upgraded_step_by_step(saved, tmp_path, monkeypatch):
    def rename_field(raw):
        raw["name"] = raw.pop("title")
        return raw

    monkeypatch.setitem(project_file.UPGRADES, FORMAT_VERSION - 1, rename_field)

    def age(name, data):
        if name != "project.json":
            return data
        raw = json.loads(data)
        raw["title"] = raw.pop("name")
        raw["version"] = FORMAT_VERSION - 1
        return json.dumps(raw).encode()

    old = rewrite(saved, tmp_path / "old.kestrav", age)
    assert project_file.load(old).project.name == "Test"


@pytest.mark.parametrize(
    ("old", "law"),
    [("quadratic parabola", "parabolic"), ("simple sine", "simple harmonic"), ("inclined sine", "cycloidal")],
)
def test_laws_and_gears_of_version_11_get_the_names_of_the_trade(saved, tmp_path, old, law):
    def age(name, data):
        if name != "project.json":
            return data
        raw = json.loads(data)
        raw["version"] = 11
        raw["runs"][0]["pacing"] = {"type": "law", "name": old}
        axle = {"origin": [0, 0, 0], "direction": [0, 0, 1]}
        ends = {"a": {"part": "part-1", "axle": axle, "teeth": 20}, "b": {"part": "part-2", "axle": axle, "teeth": 40}}
        raw["drives"] = [{"id": "drive-1", "name": "Gears", "kind": "inside", **ends}]
        return json.dumps(raw).encode()

    project = project_file.load(rewrite(saved, tmp_path / "old.kestrav", age)).project
    assert project.runs[0].speed_profile == Law(law) and project.gears[0].kind == "internal"


def test_a_file_of_version_12_is_read_in_the_terms_of_the_trade(tmp_path):
    now = json.loads(zipfile.ZipFile(DEMO).read("project.json"))
    fields = {"speed_profile": "pacing", "orientation": "heading", "bank": "lean", "trigger": "cue", "arrive_by": "due"}
    fields |= {"companions": "company", "reference": "seat", "reference_point": "seat_point"}
    kinds = {
        "attachments": "carries",
        "pose_tracks": "poses",
        "wheels": "rolls",
        "castors": "swivels",
        "rotations": "spins",
        "gears": "drives",
    }
    assert kinds.keys() <= now.keys()

    def age(name, data):
        if name != "project.json":
            return data
        raw = json.loads(data)
        for kind in ("runs", "pose_tracks", "attachments", "rotations"):
            raw[kind] = [{fields.get(k, k): v for k, v in item.items()} for item in raw[kind]]
        raw["parts"] = [{"came" if k == "baseline" else k: v for k, v in part.items()} for part in raw["parts"]]
        raw["settings"]["lanes"] = ["clearance", "heading", "lean"]
        for later in ("finishes", "finish_rules", "colourways", "colourway", "light_setup"):
            del raw[later]
        raw["parts"] = [part | {"finish": "brushed" if k == 3 else "painted"} for k, part in enumerate(raw["parts"])]
        return json.dumps({kinds.get(k, k): v for k, v in raw.items()} | {"version": 12}).encode()

    opened = project_file.load(rewrite(DEMO, tmp_path / "old.kestrav", age)).project
    known = project_file.load(DEMO).project
    # and what was named of a list of finishes has one of its own
    (finish,) = opened.finishes
    assert (finish.name, finish.metallic, finish.roughness) == ("Brushed", 1.0, 0.52)
    assert [k for k, part in enumerate(opened.parts) if part.finish] == [3] and opened.parts[3].finish == finish.id
    assert opened.settings.lanes == ("clearance", "orientation", "bank")
    assert (opened.runs, opened.wheels, opened.attachments) == (known.runs, known.wheels, known.attachments)
    assert (opened.rotations, opened.castors, opened.gears) == (known.rotations, known.castors, known.gears)


def test_a_file_of_version_17_is_read_with_its_keys_of_speed_and_its_stations(saved, tmp_path):
    trigger = {"type": "run", "run": "run-1", "at": "way", "place": 0.25}

    def age(name, data):
        if name != "project.json":
            return data
        raw = json.loads(data)
        raw["version"] = 17
        (run,) = raw["runs"]
        run["speed_profile"] = {
            "type": "keyed",
            "keys": [{"time": 0.0, "way": 0.0}, {"time": 0.5, "way": 0.7, "slope": 1.0}, {"time": 1.0, "way": 1.0}],
        }
        raw["runs"].append(run | {"id": "run-2", "name": "Later", "trigger": trigger})
        return json.dumps(raw).encode()

    one, two = project_file.load(rewrite(saved, tmp_path / "old.kestrav", age)).project.runs
    assert one.speed_profile == Keyed((SpeedKey(0.0, 0.0), SpeedKey(0.5, 0.7, 1.0), SpeedKey(1.0, 1.0)))
    assert two.trigger == Trigger("run-1", "station", 0.25)


def test_a_file_of_version_1_is_read_as_one_without_what_came_later(saved, tmp_path):
    later = {"scale", "finish", "role", "locked", "source", "origin", "form", "link", "baseline"}

    def change(name, data):
        if name != "project.json":
            return data
        document = json.loads(data)
        document["version"] = 1
        document["parts"] = [{k: v for k, v in part.items() if k not in later} for part in document["parts"]]
        for field in ("smallest_size", "largest_size"):
            del document["settings"][field]
        return json.dumps({k: v for k, v in document.items() if k not in ("sources", "notes")}).encode()

    opened = project_file.load(rewrite(saved, tmp_path / "one.kestrav", change))
    assert opened.project == project_file.load(saved).project


@pytest.mark.parametrize(("upright", "stance"), [(True, "slope"), (False, "free")])
def test_what_was_upright_in_version_3_has_its_stance(saved, tmp_path, upright, stance):
    def change(name, data):
        if name != "project.json":
            return data
        document = json.loads(data)
        document["version"] = 3
        orientation = {"type": "along", "forward": "-y", "flip": True, "upright": upright}
        later = set(Run.__struct_fields__[Run.__struct_fields__.index("companions") :])
        runs = [{k: v for k, v in run.items() if k not in later} for run in document["runs"]]
        document["runs"] = [run | {"heading": orientation} for run in runs]
        for field in ("ground_gap", "dead_time", "lanes"):
            del document["settings"][field]
        return json.dumps(
            {k: v for k, v in document.items() if k not in ("pose_tracks", "attachments", "lights")}
        ).encode()

    opened = project_file.load(rewrite(saved, tmp_path / "three.kestrav", change))
    assert opened.project.runs[0].orientation == AlongOrientation("-y", True, stance=stance)
    assert opened.project.lights == () and opened.project.settings.lanes == ("clearance", "speed")


def test_cad_faces_and_tints_are_kept_and_checked(tmp_path):
    imported = read_product(DEMO.parent / "swing-gate.step")
    project = into_project(Project(), imported)
    target = tmp_path / "gate.kestrav"
    project_file.save(project, imported.meshes, target)
    loaded = project_file.load(target)
    for key, shape in imported.meshes.items():
        assert loaded.meshes[key].faces == shape.faces
        assert (loaded.meshes[key].face_of == shape.face_of).all()
    # the same project gives the same bytes
    project_file.save(loaded.project, loaded.meshes, tmp_path / "again.kestrav")
    assert (tmp_path / "again.kestrav").read_bytes() == target.read_bytes()

    def damaged(name, data):
        return data[:-40] + b"]}" if name.endswith(".faces.json") else data

    with pytest.raises(BadInput, match="is damaged"):
        project_file.load(rewrite(target, tmp_path / "torn.kestrav", damaged))

    def short(name, data):
        if not name.endswith(".faces.json"):
            return data
        kept = json.loads(data)
        kept["face_of"] = kept["face_of"][:-1]
        return json.dumps(kept).encode()

    with pytest.raises(BadInput, match="do not fit its triangles"):
        project_file.load(rewrite(target, tmp_path / "short.kestrav", short))


def test_sources_beside_the_project_are_named_from_there(tmp_path):
    file = tmp_path / "cad" / "gate.step"
    file.parent.mkdir()
    file.write_bytes((DEMO.parent / "swing-gate.step").read_bytes())
    imported = read_product(file)
    target = tmp_path / "gate.kestrav"
    project_file.save(into_project(Project(), imported), imported.meshes, target)
    (source,) = project_file.load(target).project.sources
    assert source.file == "cad/gate.step"
    assert project_file.source_path(source.file, target) == file.resolve()


def test_odd_coordinates_far_from_the_middle_survive_a_save(tmp_path, random):
    """A file keeps single-precision metres; what is kept must have the hash it had."""
    corners = random.uniform(-9e6, 9e6, (300, 3))
    shape = mesh(corners, np.arange(300).reshape(100, 3))
    opened = make_project({"Cloud": (shape, (0, 0, 0))})
    project_file.save(opened.project, opened.meshes, tmp_path / "far.kestrav")
    assert project_file.load(tmp_path / "far.kestrav").meshes.keys() == {shape.hash}


def test_a_mesh_that_only_claims_to_be_the_saved_one_is_looked_through(passing, tmp_path):
    # its hash is right, and its triangles name corners that are not there
    shape = next(iter(passing.meshes.values()))
    broken = Mesh(shape.vertices, np.where(shape.triangles == 0, 10**6, shape.triangles).astype(np.int32))
    with pytest.raises(ValueError, match="corners are not there"):
        kept_mesh(to_glb(broken), None, broken.hash)
    assert kept_mesh(to_glb(shape), None, shape.hash).hash == shape.hash
    with pytest.raises(ValueError, match="content hash differs"):
        kept_mesh(to_glb(shape), None, "0" * 32)
