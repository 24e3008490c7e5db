"""Products from STEP and GLB."""

import struct
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
from kestrav.core.motion.poses import rest_poses, world_bounds

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
    assert "path Way out" in text


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
