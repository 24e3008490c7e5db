"""Products from STEP and GLB."""

import importlib
import re
import struct
import sys
from pathlib import Path

import msgspec
import numpy as np
import pytest
import trimesh
from shapes import DEMO

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.info import describe
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.step_names import decode
from kestrav.core.parts.rest import rest_poses, world_bounds

STEP = DEMO.parent / "trolley.step"


@pytest.fixture(scope="module")
def trolley():
    return into_project(Project(), read_product(STEP))


def test_step_keeps_names_nesting_instances_and_colours(trolley):
    names = [p.name for p in trolley.parts]
    assert names[0] == "Service trolley"
    assert names.count("Wheel") == 4
    wheels = [p for p in trolley.parts if p.name == "Wheel"]
    assert len({w.geometry for w in wheels}) == 1
    parents = {p.id: p.name for p in trolley.parts}
    assert {parents[w.parent] for w in wheels} == {
        f"Castor, {a} {b}" for a in ("front", "rear") for b in ("left", "right")
    }
    assert next(p for p in trolley.parts if p.name == "Deck").colour == "#5c829a"


def test_step_lengths_are_mm(trolley):
    # the wheel is made with a radius of 62.5 mm and stands on the floor
    poses = rest_poses(trolley)[None]
    wheel = next(p for p in trolley.parts if p.name == "Wheel")
    low, high = world_bounds(trolley, wheel.id, poses)[0]
    assert high - low == pytest.approx([125, 36, 125], abs=0.2)
    assert low[2] == pytest.approx(0.0, abs=0.1)


def test_a_step_file_in_inches_comes_in_mm():
    # a box of 10 x 5 x 1 inch; 25.4 mm exactly, NIST Special Publication 811 (2008), appendix B.8
    project = into_project(Project(), read_product(Path(__file__).parents[2] / "data" / "box-in-inches.step"))
    low, high = world_bounds(project, project.parts[0].id, rest_poses(project)[None])[0]
    assert high - low == pytest.approx([254.0, 127.0, 25.4], abs=1e-3)


def test_panels_keep_their_opacity(demo):
    panel = next(p for p in demo.project.parts if p.name == "Back panel")
    assert panel.opacity == pytest.approx(0.35, abs=0.01)


def glb(tmp_path, name="thing.glb"):
    """Y up, in metres: a red plate scaled to 2 x 1 x 0.1 m, and two pins below a node."""
    plate = trimesh.creation.box((1, 1, 1))
    plate.visual = trimesh.visual.TextureVisuals(
        material=trimesh.visual.material.PBRMaterial(baseColorFactor=[255, 0, 0, 255])
    )
    pin = trimesh.creation.cylinder(radius=0.05, height=0.2, sections=16)
    scene = trimesh.Scene()
    scene.add_geometry(plate, "Plate", "Plate", transform=np.diag([2.0, 0.1, 1.0, 1.0]))
    scene.graph.update("Pins", "world", matrix=trimesh.transformations.translation_matrix([0, 0.5, 0]))
    for i in range(2):
        at = trimesh.transformations.translation_matrix([i, 0, 0])
        scene.add_geometry(pin, f"Pin {i}", "Pin", parent_node_name="Pins", transform=at)
    target = tmp_path / name
    target.write_bytes(scene.export(file_type="glb"))
    return target


def test_glb_is_turned_upright_and_brought_to_mm_with_scales_baked(tmp_path):
    project = into_project(Project(), read_product(glb(tmp_path)))
    plate = next(p for p in project.parts if p.name == "Plate")
    low, high = world_bounds(project, plate.id, rest_poses(project)[None])[0]
    assert high - low == pytest.approx([2000, 1000, 100], abs=1e-3)
    assert plate.colour == "#ff0000"
    pins = [p for p in project.parts if p.name.startswith("Pin ")]
    heights = [world_bounds(project, p.id, rest_poses(project)[None])[0][:, 2].mean() for p in pins]
    assert heights == pytest.approx([500, 500], abs=1e-3)
    assert len({p.geometry for p in pins}) == 1


def test_a_mirrored_instance_is_not_inside_out(tmp_path):
    scene = trimesh.Scene()
    scene.add_geometry(trimesh.creation.box((1, 2, 3)), "Box", transform=np.diag([-1.0, 1, 1, 1]))
    target = tmp_path / "mirror.glb"
    target.write_bytes(scene.export(file_type="glb"))
    shape = next(iter(read_product(target).meshes.values()))
    assert trimesh.Trimesh(shape.vertices, shape.triangles).volume == pytest.approx(6e9, rel=1e-6)


def test_a_second_product_gets_ids_of_its_own(trolley, tmp_path):
    project = into_project(trolley, read_product(glb(tmp_path)))
    ids = [p.id for p in project.parts]
    assert len(ids) == len(set(ids))
    again = into_project(trolley, read_product(STEP))
    assert len(again.geometry) == len(trolley.geometry)


def test_info_describes_a_cad_file_and_a_project():
    data, text = describe(STEP)
    assert data["parts"] == 17
    assert "Castor, rear left" in text
    data, text = describe(DEMO)
    assert data["parts"] > 140
    assert data["runs"][0]["rider"] == "Fan cassette"
    assert "path Extraction path" in text


def cut_short(folder: Path) -> Path:
    target = folder / "short.step"
    target.write_bytes(STEP.read_bytes()[:20000])
    return target


def damaged(folder: Path) -> Path:
    target = folder / "damaged.step"
    target.write_bytes(b"ISO-10303-21;\nHEADER;\nENDSEC;\nDATA;\n#1=NOTHING(;\nENDSEC;\nEND-ISO-10303-21;\n")
    return target


def of_content(name: str, data: bytes):
    def make(folder: Path) -> Path:
        (folder / name).write_bytes(data)
        return folder / name

    return make


def glb_cut(folder: Path) -> Path:
    target = glb(folder)
    target.write_bytes(target.read_bytes()[:-100])
    return target


def meshless(folder: Path) -> Path:
    tree = msgspec.json.encode({"asset": {"version": "2.0"}, "scenes": [{"nodes": [0]}], "nodes": [{"name": "Empty"}]})
    tree += b" " * (-len(tree) % 4)
    body = struct.pack("<4sII", b"glTF", 2, 20 + len(tree)) + struct.pack("<I4s", len(tree), b"JSON") + tree
    (folder / "meshless.glb").write_bytes(body)
    return folder / "meshless.glb"


BAD = {
    "missing": (lambda folder: folder / "none.step", "does not exist"),
    "empty": (of_content("empty.step", b""), "is empty"),
    "cut step": (cut_short, "cut short"),
    "damaged step": (damaged, "not readable as STEP"),
    "step named glb": (of_content("renamed.glb", b"ISO-10303-21;\n"), "its content is STEP; rename it"),
    "glb named step": (of_content("renamed.stp", b"glTF\x02\0\0\0"), "its content is GLB; rename it"),
    "text": (of_content("words.glb", b"hello there, this is no mesh at all"), "not a GLB file"),
    "cut glb": (glb_cut, "cut short"),
    "meshless": (meshless, "no solid or surface"),
    "other kind": (of_content("table.csv", b"1,2"), "not a kind of file"),
}


@pytest.mark.parametrize("case", BAD.values(), ids=BAD.keys())
def test_bad_files_are_refused_by_name_and_reason(tmp_path, case, capfd):
    make, message = case
    target = make(tmp_path)
    with pytest.raises(BadInput, match=message) as caught:
        read_product(target)
    assert target.name in str(caught.value)
    assert capfd.readouterr() == ("", "")


# names


def test_occurrences_without_a_name_show_their_products(tmp_path):
    text = re.sub(r"(NEXT_ASSEMBLY_USAGE_OCCURRENCE\('[^']*',)\s*'[^']*'", r"\1''", STEP.read_text())
    (tmp_path / "unnamed.step").write_text(text)
    imported = read_product(tmp_path / "unnamed.step")
    names = {p.name for p in imported.parts}
    assert {"Service trolley", "Deck", "Wheel"} <= names
    assert not any(name.isdigit() for name in names)


@pytest.mark.parametrize(
    ("written", "meant"),
    [
        (b"plain", "plain"),
        (b"it''s", "it's"),
        (rb"\X2\00C400DF\X0\ rest", "Äß rest"),
        (rb"\X4\0001F642\X0\ ", "\U0001f642 "),
        (rb"\X\E9t\X\E9", "été"),
        (rb"\S\D", "Ä"),
        (rb"a\\b", "a\\b"),
    ],
)
def test_step_strings_are_decoded_as_iso_10303_21_has_them(written, meant):
    assert decode(written) == meant


def as_written(group, depth=0):
    """Names with their depth, and colours of solids, of a demo assembly as its script has them."""
    for name, member, _ in group.members:
        colour = getattr(member, "colour", None)
        yield depth, name, colour
        if colour is None:
            yield from as_written(member, depth + 1)


@pytest.mark.parametrize("name", ["trolley", "swing-gate", "jib-hoist", "plant-room", "cabinet"])
def test_the_demos_step_files_have_the_tree_names_and_colours_they_were_written_with(name, monkeypatch):
    monkeypatch.syspath_prepend(str(DEMO.parent))
    # the demo's own module of shapes, not the tests'
    monkeypatch.delitem(sys.modules, "shapes")
    script = importlib.import_module("make_geometry")
    made = {"trolley": script.trolley, "swing-gate": script.gate, "jib-hoist": script.hoist, "plant-room": script.room}
    top = (made | {"cabinet": script.cabinet})[name]()
    project = into_project(Project(), read_product(DEMO.parent / f"{name}.step"))
    depth = {None: -1}
    found = []
    for part in project.parts:
        depth[part.id] = depth[part.parent] + 1
        found.append((depth[part.id], part.name, part.colour if part.geometry else None))
    expected = list(as_written(top))
    # the outermost group is the product itself
    if found[0][1] == top.name:
        expected = [(0, top.name, None), *((d + 1, n, c) for d, n, c in expected)]
    assert [(d, n) for d, n, _ in found] == [(d, n) for d, n, _ in expected]
    for (_, label, colour), (_, _, wanted) in zip(found, expected, strict=True):
        assert (colour is None) == (wanted is None), label
        if colour is not None:
            # STEP keeps colours as linear light in single precision
            channels = [[int(c[i : i + 2], 16) for i in (1, 3, 5)] for c in (colour, wanted)]
            assert channels[0] == pytest.approx(channels[1], abs=1), label
