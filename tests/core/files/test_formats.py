"""Every format that is read: what survives, units, and damaged files."""

import json
import os
import re
import struct
import zipfile
from pathlib import Path

import numpy as np
import pytest
import trimesh
from PIL import Image

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.files import cad_kernel
from kestrav.core.files.product_import import (
    into_project,
    proposed_unit,
    read_product,
    size_of,
    with_unit,
)
from kestrav.core.files.project_file import load, save
from kestrav.core.parts.rest import rest_poses, top_bounds, world_bounds

THIRD_PARTY = Path(__file__).parents[3] / ".third-party"


def third_party(name):
    file = THIRD_PARTY / name
    if not file.exists():
        pytest.skip("third-party files are not there; scripts/third-party fetches them")
    return file


# files made here, 10 x 20 x 30 in their unit, beside their formats' own writers


def box_obj(folder):
    (folder / "paint.mtl").write_text("newmtl Vermilion rubber\nKd 0.8 0.2 0.1\n")
    corners = "\n".join(f"v {x} {y} {z}" for z in (0, 30) for y in (0, 20) for x in (0, 10))
    sides = "1 3 4 2\nf 5 6 8 7\nf 1 2 6 5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6"
    text = f"mtllib paint.mtl\no Housing\n{corners}\nusemtl Vermilion rubber\nf {sides}\n"
    (folder / "box.obj").write_text(text)
    return folder / "box.obj"


def by_trimesh(kind, **options):
    def make(folder):
        body = trimesh.creation.box((10, 20, 30))
        data = body.export(file_type=kind, **options)
        target = folder / f"box.{kind.split('_')[0]}"
        target.write_bytes(data if isinstance(data, bytes) else data.encode())
        return target

    return make


def box_3mf(folder, unit="millimeter"):
    body = trimesh.creation.box((10, 20, 30))
    vertices = "".join(f'<vertex x="{x}" y="{y}" z="{z}"/>' for x, y, z in body.vertices)
    triangles = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in body.faces)
    model = (
        f'<model unit="{unit}" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>'
        '<basematerials id="9"><base name="Oak" displaycolor="#B98D3CFF"/></basematerials>'
        f'<object id="1" name="Block" pid="9" pindex="0"><mesh><vertices>{vertices}</vertices>'
        f"<triangles>{triangles}</triangles></mesh></object>"
        '<object id="2" name="Pair"><components><component objectid="1"/>'
        '<component objectid="1" transform="1 0 0 0 1 0 0 0 1 50 0 0"/></components></object></resources>'
        '<build><item objectid="2"/></build></model>'
    )
    target = folder / "pair.3mf"
    with zipfile.ZipFile(target, "w") as archive:
        archive.writestr("3D/3dmodel.model", model)
    return target


def box_dae(folder):
    mesh = (
        '<float_array id="p-a" count="12">0 0 0 10 0 0 0 20 0 0 0 30</float_array><technique_common>'
        '<accessor source="#p-a" count="4" stride="3"><param name="X" type="float"/><param name="Y" type="float"/>'
        '<param name="Z" type="float"/></accessor></technique_common>'
    )
    text = (
        '<?xml version="1.0"?><COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1">'
        '<asset><unit name="inch" meter="0.0254"/><up_axis>Z_UP</up_axis></asset>'
        '<library_effects><effect id="e"><profile_COMMON><technique sid="c"><lambert><diffuse>'
        "<color>0.2 0.4 0.6 1</color></diffuse></lambert></technique></profile_COMMON></effect></library_effects>"
        '<library_materials><material id="m" name="Blue paint"><instance_effect url="#e"/></material></library_materials>'
        f'<library_geometries><geometry id="g" name="Wedge"><mesh><source id="p">{mesh}</source>'
        '<vertices id="v"><input semantic="POSITION" source="#p"/></vertices>'
        '<triangles material="s" count="4"><input semantic="VERTEX" source="#v" offset="0"/>'
        "<p>0 2 1 0 1 3 1 2 3 2 0 3</p></triangles></mesh></geometry></library_geometries>"
        '<library_visual_scenes><visual_scene id="sc"><node id="a" name="Frame"><translate>0 0 5</translate>'
        '<node id="b" name="Wedge 1"><instance_geometry url="#g"><bind_material><technique_common>'
        '<instance_material symbol="s" target="#m"/></technique_common></bind_material></instance_geometry></node>'
        '<node id="c" name="Wedge 2"><translate>40 0 0</translate><instance_geometry url="#g"/></node></node>'
        '</visual_scene></library_visual_scenes><scene><instance_visual_scene url="#sc"/></scene></COLLADA>'
    )
    (folder / "frame.dae").write_text(text)
    return folder / "frame.dae"


def box_gltf(folder):
    scene = trimesh.Scene()
    body = trimesh.creation.box((0.01, 0.02, 0.03))
    body.visual = trimesh.visual.TextureVisuals(
        material=trimesh.visual.material.PBRMaterial(
            baseColorFactor=[255, 0, 0, 255], metallicFactor=1.0, roughnessFactor=0.1
        )
    )
    scene.add_geometry(body, "Box", "Box")
    for name, data in scene.export(file_type="gltf").items():
        (folder / name).write_bytes(data)
    return folder / "model.gltf"


MADE = {
    "obj": box_obj,
    "stl": by_trimesh("stl"),
    "stl as text": by_trimesh("stl_ascii"),
    "ply": by_trimesh("ply"),
    "ply as text": by_trimesh("ply", encoding="ascii"),
    "off": by_trimesh("off"),
}


@pytest.mark.parametrize("make", MADE.values(), ids=MADE.keys())
def test_unitless_files_ask_for_their_unit_and_take_it(tmp_path, make):
    file = make(tmp_path)
    imported = read_product(file)
    assert imported.unit is None
    assert size_of(imported) == pytest.approx([10, 20, 30], abs=1e-3)
    assert proposed_unit(imported) == "mm"
    in_inches = into_project(Project(), with_unit(imported, 25.4))
    (box,) = top_bounds(in_inches)
    assert np.ptp(box, axis=0) == pytest.approx([254, 508, 762], abs=0.01)
    assert np.ptp(top_bounds(into_project(Project(), read_product(file, unit=10.0)))[0], axis=0) == pytest.approx(
        [100, 200, 300], abs=0.01
    )


def test_a_product_a_few_units_large_is_proposed_in_metres(tmp_path):
    file = tmp_path / "room.stl"
    file.write_bytes(trimesh.creation.box((4.0, 3.0, 2.5)).export(file_type="stl"))
    assert proposed_unit(read_product(file)) == "m"


def finish_names(imported):
    """Names of the finishes that the parts of an import have."""
    known = {finish.id: finish.name for finish in imported.finishes}
    return {known[p.finish] for p in imported.parts if p.geometry}


def test_obj_keeps_names_colours_and_what_a_material_is(tmp_path):
    imported = read_product(box_obj(tmp_path))
    (part,) = imported.parts
    assert (part.name, part.colour, finish_names(imported)) == ("Housing", "#cc331a", {"Rubber"})


def test_obj_without_its_mtl_comes_in_grey_and_says_so(tmp_path):
    file = box_obj(tmp_path)
    (tmp_path / "paint.mtl").unlink()
    imported = read_product(file)
    assert imported.solids == 1
    assert imported.parts[0].name == "Housing"
    assert any("paint.mtl" in note and "missing" in note for note in imported.left_out)


def test_3mf_keeps_nesting_instances_colours_and_unit(tmp_path):
    imported = read_product(box_3mf(tmp_path))
    assert [p.name for p in imported.parts] == ["Pair", "Block", "Block"]
    assert len(imported.meshes) == 1
    assert {p.colour for p in imported.parts if p.geometry} == {"#b98d3c"} and finish_names(imported) == {"Oak"}
    (box,) = top_bounds(into_project(Project(), read_product(box_3mf(tmp_path, "inch"))))
    assert np.ptp(box, axis=0) == pytest.approx([60 * 25.4, 20 * 25.4, 30 * 25.4], abs=0.01)


def test_collada_keeps_nesting_instances_colours_and_unit(tmp_path):
    imported = read_product(box_dae(tmp_path))
    project = into_project(Project(), imported)
    assert [p.name for p in project.parts] == ["Frame", "Wedge 1", "Wedge 2"]
    assert len(project.geometry) == 1
    assert project.parts[1].colour == "#336699"
    box = world_bounds(project, project.parts[2].id, rest_poses(project)[None])[0]
    assert box[0] == pytest.approx([40 * 25.4, 0, 5 * 25.4], abs=0.01)


def test_gltf_in_several_files_comes_with_its_finish(tmp_path):
    imported = read_product(box_gltf(tmp_path))
    assert size_of(imported) == pytest.approx([10, 30, 20], abs=1e-3)  # Y up in the file
    assert {p.colour for p in imported.parts} == {"#ff0000"}
    (finish,) = imported.finishes
    assert (finish.metallic, finish.colour) == (1.0, "") and {p.finish for p in imported.parts} == {finish.id}


# third-party files


def test_a_benchmark_step_assembly_keeps_its_tree_colours_and_instances():
    # AS1, the assembly that CAD vendors exchange to test STEP: 18 solids of 5 products, occurrences without names
    imported = read_product(third_party("as1-tu-203.stp"))
    project = into_project(Project(), imported)
    assert imported.solids == 18
    assert len(imported.meshes) == 5
    names = {p.id: p.name for p in project.parts}
    bolts = [p for p in project.parts if p.name == "bolt"]
    assert len(bolts) == 6
    assert all(names[p.parent] == "nut-bolt-assembly" for p in bolts)
    assert len({p.geometry for p in bolts}) == 1
    assert len({p.colour for p in project.parts if p.geometry}) == 5


def test_a_solid_with_faces_of_several_colours_stays_one_solid_with_tints():
    imported = read_product(third_party("step_boundary_colors.stp"))
    (shape,) = imported.meshes.values()
    assert shape.watertight
    assert shape.volume == pytest.approx(np.prod(np.ptp(shape.bounds, axis=0)), rel=1e-6)
    assert {"#00ff00", "#ff0000", "#0000ff"} & set(shape.tints)


OTHERS = {
    "frame.step": 1,
    "screw.step": 1,
    "hinge.stl": 1,
    "box.3mf": 1,
    "cube_xmlspecialchars.dae": 1,
    "teapot_instancenodes.DAE": 2,
    "cube_usemtl.obj": 3,
    "box_UTF16BE.obj": 1,
    "Cube.off": 1,
    "cube.ply": 1,
    "cube_binary.ply": 1,
    "sphereWithHole.stl": 1,
    "triangle_with_two_solids.stl": 2,
    "2CylinderEngine.glb": 115,
    "BoxTextured.gltf": 1,
}


@pytest.mark.parametrize(("name", "solids"), OTHERS.items(), ids=OTHERS)
def test_third_party_files_are_read(name, solids):
    imported = read_product(third_party(name))
    assert imported.solids == solids
    for shape in imported.meshes.values():
        # trimesh's own reading is the reference where it can read the file
        assert np.isfinite(shape.vertices).all()


def test_special_characters_of_xml_survive_in_names():
    assert read_product(third_party("cube_xmlspecialchars.dae")).parts[0].name == '"&<Box>&"'


# what is damaged


def written(name, data):
    def make(folder):
        (folder / name).write_bytes(data if isinstance(data, bytes) else data.encode())
        return folder / name

    return make


def gltf_json(change=None, **fields):
    """A triangle in an embedded buffer, its JSON changed."""
    data = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4").tobytes() + np.array([0, 1, 2, 0], "<u2").tobytes()
    import base64

    tree = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": [0]}],
        "nodes": [{"name": "Plate", "mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}],
        "accessors": [
            {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
            {"bufferView": 1, "componentType": 5123, "count": 3, "type": "SCALAR"},
        ],
        "bufferViews": [
            {"buffer": 0, "byteOffset": 0, "byteLength": 36},
            {"buffer": 0, "byteOffset": 36, "byteLength": 6},
        ],
        "buffers": [
            {"byteLength": len(data), "uri": "data:application/octet-stream;base64," + base64.b64encode(data).decode()}
        ],
    }
    tree |= fields
    if change is not None:
        change(tree)
    return json.dumps(tree)


def set_indices(tree):
    tree["accessors"][1]["componentType"] = 5121


def doubling_3mf(folder, deep=30):
    """Objects that each place the one below twice, from a few lines to a thousand million boxes."""
    text = zipfile.ZipFile(box_3mf(folder)).read("3D/3dmodel.model").decode()
    (first,) = re.findall(r'<object id="(\d+)"[^>]*>\s*<mesh', text)[:1]
    more, below = "", first
    for number in range(1000, 1000 + deep):
        more += (
            f'<object id="{number}"><components>' + f'<component objectid="{below}"/>' * 2 + "</components></object>"
        )
        below = str(number)
    text = text.replace("</resources>", more + "</resources>").replace(
        "</build>", f'<item objectid="{below}"/></build>'
    )
    return _zip(folder / "a.3mf", {"3D/3dmodel.model": text})


def own_3mf(folder):
    """An object that places itself twice."""
    inside = '<components><component objectid="1"/><component objectid="1"/></components>'
    text = f'<model><resources><object id="1">{inside}</object></resources><build><item objectid="1"/></build></model>'
    return _zip(folder / "a.3mf", {"3D/3dmodel.model": text})


def doubling_dae(folder, deep=30):
    """As :func:`doubling_3mf`, with COLLADA's library of nodes."""
    text = box_dae(folder).read_text()
    nodes, below = '<node id="n0"><instance_geometry url="#g"/></node>', "n0"
    for number in range(1, deep):
        nodes += f'<node id="n{number}">' + f'<instance_node url="#{below}"/>' * 2 + "</node>"
        below = f"n{number}"
    text = re.sub(
        r"(<library_visual_scenes>\s*<visual_scene[^>]*>)",
        lambda found: f'<library_nodes>{nodes}</library_nodes>{found[1]}<node><instance_node url="#{below}"/></node>',
        text,
    )
    (folder / "a.dae").write_text(text)
    return folder / "a.dae"


DAMAGED = {
    "3mf doubling": (doubling_3mf, "places more than 100,000 things"),
    "3mf of itself": (own_3mf, "places more than 100,000 things"),
    "dae doubling": (doubling_dae, "places more than 100,000 things"),
    "iges empty": (written("a.igs", b""), "is empty"),
    "iges garbage": (written("a.iges", b"nothing of the kind " * 50), "not an IGES file"),
    "obj garbage": (written("a.obj", bytes(range(256)) * 8), "a.obj"),
    "obj of points": (written("a.obj", "v 0 0 0\nv 1 0 0\n"), "no solid or surface|cannot be read"),
    "obj with letters": (written("a.obj", "v x y z\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"), "a.obj"),
    "obj out of range": (written("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n"), "a.obj"),
    "stl empty solid": (written("a.stl", "solid nothing\nendsolid nothing\n"), "a.stl"),
    "stl cut": (written("a.stl", b"\0" * 80 + struct.pack("<I", 500) + b"\0" * 200), "a.stl"),
    "stl is step": (written("a.stl", b"ISO-10303-21;\nHEADER;"), "its content is STEP; rename it"),
    "ply cut": (written("a.ply", "ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\n"), "a.ply"),
    "ply of no triangles": (
        written(
            "a.ply",
            "ply\nformat ascii 1.0\nelement vertex 1\nproperty float x\nproperty float y\nproperty float z\nend_header\n0 0 0\n",
        ),
        "a.ply",
    ),
    "off cut": (written("a.off", "OFF\n4 4 0\n0 0 0\n"), "a.off"),
    "off is ply": (written("a.off", "ply\nformat ascii 1.0\n"), "its content is PLY; rename it"),
    "3mf is no zip": (written("a.3mf", b"not a zip at all"), "not a 3MF file"),
    "3mf without model": (
        lambda folder: _zip(folder / "a.3mf", {"readme.txt": "hello"}),
        "its content is a ZIP archive",
    ),
    "3mf of nothing": (
        lambda folder: _zip(folder / "a.3mf", {"3D/3dmodel.model": "<model><build><item/></build></model>"}),
        "an object without a number: it is not there",
    ),
    "3mf broken": (
        lambda folder: _zip(folder / "a.3mf", {"3D/3dmodel.model": "<model><resources>"}),
        "its model is not whole XML",
    ),
    "dae garbage": (written("a.dae", "<html></html>"), "not a COLLADA file"),
    "dae cut": (written("a.dae", '<COLLADA xmlns="x"><asset>'), "cut short"),
    "gltf is not json": (written("a.gltf", "{nope"), "a.gltf"),
    "gltf of version 1": (written("a.gltf", gltf_json(asset={"version": "1.0"})), "version 1.0"),
    "gltf of no version": (written("a.gltf", gltf_json(asset={"version": [None]})), "glTF version unknown"),
    "gltf packed": (
        written("a.gltf", gltf_json(extensionsRequired=["KHR_meshopt_compression"])),
        "packed with a newer meshopt",
    ),
    "gltf missing file": (
        written("a.gltf", gltf_json(buffers=[{"byteLength": 42, "uri": "gone.bin"}])),
        "missing beside it",
    ),
    "gltf outside": (
        written("a.gltf", gltf_json(buffers=[{"byteLength": 42, "uri": "../../etc/passwd"}])),
        "outside its own folder",
    ),
    "gltf by address": (
        written("a.gltf", gltf_json(buffers=[{"byteLength": 42, "uri": "https://example.org/a.bin"}])),
        "outside its own folder",
    ),
    "gltf own ancestor": (
        written("a.gltf", gltf_json(nodes=[{"children": [0], "mesh": 0}])),
        "its own ancestor",
    ),
    "gltf indices": (written("a.gltf", gltf_json(scene=7)), "scene 7 is not there"),
    "gltf nodes": (written("a.gltf", gltf_json(nodes="many")), "not a list of objects"),
    "glb of a few bytes": (written("a.glb", b"glTF\x02\0\0\0"), "too short"),
}


def _zip(target, files):
    with zipfile.ZipFile(target, "w") as archive:
        for name, text in files.items():
            archive.writestr(name, text)
    return target


@pytest.mark.parametrize("case", DAMAGED.values(), ids=DAMAGED)
def test_damaged_files_are_refused_by_name_and_reason(tmp_path, case, capfd):
    make, message = case
    file = make(tmp_path)
    with pytest.raises(BadInput, match=message) as caught:
        read_product(file)
    assert file.name in str(caught.value)
    assert "Traceback" not in str(caught.value)
    assert capfd.readouterr() == ("", "")


def test_one_damaged_mesh_does_not_lose_the_others(tmp_path):
    def change(tree):
        tree["meshes"].append({"name": "Bad", "primitives": [{"attributes": {"POSITION": 0}, "indices": 9}]})
        tree["meshes"].append({"name": "Line", "primitives": [{"attributes": {"POSITION": 0}, "mode": 1}]})
        tree["nodes"] += [{"name": "Bad", "mesh": 1}, {"name": "Line", "mesh": 2}]
        tree["scenes"] = [{"nodes": [0, 1, 2]}]

    file = written("a.gltf", gltf_json(change))(tmp_path)
    imported = read_product(file)
    assert [p.name for p in imported.parts] == ["Plate"]
    assert any("Bad" in note for note in imported.left_out)
    assert any("Line" in note and "not a surface" in note for note in imported.left_out)


TRIANGLE = {
    "a.obj": "# für\no Gehäuse\nv 0 0 0\nv 9 0 0\nv 0 9 0\nf 1 2 3\n",
    "a.stl": "solid Gehäuse\nfacet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 9 0 0\nvertex 0 9 0\nendloop\n"
    "endfacet\nendsolid Gehäuse\n",
    "a.off": "OFF\n# Gehäuse\n3 1 0\n0 0 0\n9 0 0\n0 9 0\n3 0 1 2\n",
    "a.ply": "ply\nformat ascii 1.0\ncomment Gehäuse\nelement vertex 3\nproperty float x\nproperty float y\n"
    "property float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n9 0 0\n0 9 0\n3 0 1 2\n",
}


@pytest.mark.parametrize("encoding", ["utf-8", "latin-1"])
@pytest.mark.parametrize("name", TRIANGLE)
def test_text_in_western_encodings_is_read_and_the_guess_is_told(tmp_path, name, encoding):
    imported = read_product(written(name, TRIANGLE[name].encode(encoding))(tmp_path))
    assert imported.triangles == 1
    if name in ("a.obj", "a.stl"):
        assert imported.parts[0].name == "Gehäuse"
    assert any("Windows-1252" in note for note in imported.left_out) == (encoding == "latin-1")


def test_a_product_in_a_folder_and_file_that_are_not_unicode_can_be_saved(tmp_path):
    folder = tmp_path / os.fsdecode("Entwürfe".encode("latin-1"))
    folder.mkdir()
    file = written(os.fsdecode("Gehäuse.off".encode("latin-1")), TRIANGLE["a.off"])(folder)
    imported = read_product(file, unit=1.0)
    assert imported.parts[0].name == "Gehäuse"
    save(into_project(Project(), imported), imported.meshes, tmp_path / "made.kestrav")
    assert load(tmp_path / "made.kestrav").project.parts[0].name == "Gehäuse"


def test_a_material_file_in_latin_1_gives_its_colours(tmp_path):
    (tmp_path / "b.mtl").write_bytes("newmtl grün\nKd 0 1 0\n".encode("latin-1"))
    text = "mtllib b.mtl\n" + TRIANGLE["a.obj"].replace("f 1", "usemtl grün\nf 1")
    (part,) = read_product(written("b.obj", text.encode("latin-1"))(tmp_path)).parts
    assert part.colour == "#00ff00"


def test_a_file_on_which_the_cad_kernel_dies_is_one_sentence(tmp_path, monkeypatch):
    monkeypatch.setattr(cad_kernel, "_READER", "import os, signal; os.kill(os.getpid(), signal.SIGSEGV)")
    with pytest.raises(BadInput, match=r"part\.step.*CAD kernel failed"):
        cad_kernel.tessellated(tmp_path / "part.step", b"-", "step", 0.1, lambda: None)


def test_a_cad_file_that_has_no_end_is_given_up_and_can_be_cancelled(tmp_path, monkeypatch):
    monkeypatch.setattr(cad_kernel, "_READER", "while True: pass")
    with pytest.raises(BadInput, match=r"part\.step.*within 0 s"):
        cad_kernel.tessellated(tmp_path / "part.step", b"-", "step", 0.1, lambda: None, seconds=0.2)

    def cancel():
        raise Cancelled

    with pytest.raises(Cancelled):
        cad_kernel.tessellated(tmp_path / "part.step", b"-", "step", 0.1, cancel)


def test_third_party_indices_out_of_range_are_named():
    with pytest.raises(BadInput, match=r"IndexOutOfRange\.gltf.*corners that are not there"):
        read_product(third_party("IndexOutOfRange.gltf"))


def test_third_party_recursive_nodes_are_refused():
    with pytest.raises(BadInput, match="its own ancestor"):
        read_product(third_party("RecursiveNodes.gltf"))


def test_triangles_with_numbers_that_are_not_finite_are_left_out(tmp_path):
    body = trimesh.creation.box((10, 10, 10))
    text = body.export(file_type="obj").replace("v 5.00000000 5.00000000 5.00000000", "v nan inf 5")
    assert "nan" in text
    (tmp_path / "holes.obj").write_text(text)
    imported = read_product(tmp_path / "holes.obj")
    assert 0 < imported.triangles < 12
    assert any("not finite" in note for note in imported.left_out)


def test_a_mesh_far_from_its_origin_keeps_its_precision(tmp_path):
    body = trimesh.creation.cylinder(0.5, 2.0, sections=64)
    body.apply_translation((1e6, -2e6, 3e6))
    (tmp_path / "far.obj").write_text(body.export(file_type="obj"))
    project = into_project(Project(), read_product(tmp_path / "far.obj", unit=1.0))
    (box,) = top_bounds(project)
    assert box.mean(axis=0) == pytest.approx([1e6, -2e6, 3e6], abs=1e-3)
    assert np.ptp(box, axis=0) == pytest.approx([1, 1, 2], abs=1e-3)
    assert np.abs(project.geometry[0].high).max() < 10


def test_deep_nesting_and_ten_thousand_nodes_are_read(tmp_path):
    def deep(tree):
        count = 3000
        tree["nodes"] = [{"name": f"Level {i}", "children": [i + 1]} for i in range(count)] + [
            {"name": "End", "mesh": 0}
        ]

    imported = read_product(written("deep.gltf", gltf_json(deep))(tmp_path))
    assert imported.parts[-1].name == "End"
    assert len(imported.parts) == 3000  # the file's root is dropped

    def wide(tree):
        tree["nodes"] = [{"name": f"Pin {i}", "mesh": 0, "translation": [i, 0, 0]} for i in range(10_000)]
        tree["scenes"] = [{"nodes": list(range(10_000))}]

    project = into_project(Project(), read_product(written("wide.gltf", gltf_json(wide))(tmp_path)))
    assert len(project.parts) == 10_000
    assert len(project.geometry) == 1


def test_names_of_every_kind_of_character_survive_on_one_line(tmp_path):
    odd = "Ä\u202eß 漢字 🙂 \"'<&>/\\\t\n\u0000 end"

    def change(tree):
        tree["nodes"][0]["name"] = odd

    (part,) = read_product(written("odd.gltf", gltf_json(change))(tmp_path)).parts
    assert part.name == "Ä\u202eß 漢字 🙂 \"'<&>/\\ end"


def test_a_scale_of_a_node_stays_a_scale_and_shares_the_geometry(tmp_path):
    def change(tree):
        tree["nodes"] = [{"name": "One", "mesh": 0}, {"name": "Two", "mesh": 0, "scale": [2, 2, 2]}]
        tree["scenes"] = [{"nodes": [0, 1]}]

    imported = read_product(written("scaled.gltf", gltf_json(change))(tmp_path))
    assert [p.scale for p in imported.parts] == [(1.0, 1.0, 1.0), (2.0, 2.0, 2.0)]
    assert len(imported.meshes) == 1


def test_bytes_that_are_anything_never_bring_a_traceback(tmp_path, random):
    for suffix in (".stl", ".ply", ".off", ".obj", ".3mf", ".dae", ".gltf", ".glb", ".igs", ".step"):
        file = tmp_path / f"noise{suffix}"
        file.write_bytes(random.integers(0, 256, 3000, dtype=np.uint8).tobytes())
        with pytest.raises(BadInput, match=f"noise{suffix}"):
            read_product(file)


def test_every_prefix_of_a_file_is_read_or_refused(tmp_path, random):
    whole = {
        make(tmp_path).suffix: make(tmp_path).read_bytes()
        for make in (box_obj, box_3mf, box_dae, *list(MADE.values())[1:])
    }
    for suffix, data in whole.items():
        for cut in random.integers(1, len(data), 12):
            file = tmp_path / f"cut{suffix}"
            file.write_bytes(data[:cut])
            try:
                read_product(file)
            except BadInput as fault:
                assert f"cut{suffix}" in str(fault)


def test_the_same_file_gives_the_same_hashes(tmp_path):
    first = read_product(box_3mf(tmp_path))
    second = read_product(box_3mf(tmp_path))
    assert list(first.meshes) == list(second.meshes)


def test_a_texture_that_is_missing_costs_no_more_than_itself(tmp_path):
    def change(tree):
        tree["images"] = [{"uri": "gone.png"}]
        tree["textures"] = [{"source": 0}]
        tree["materials"] = [
            {"pbrMetallicRoughness": {"baseColorTexture": {"index": 0}, "baseColorFactor": [1, 0, 0, 1]}}
        ]
        tree["meshes"][0]["primitives"][0]["material"] = 0

    imported = read_product(written("textured.gltf", gltf_json(change))(tmp_path))
    assert imported.parts[0].colour == "#ff0000"
    assert any("a picture on a surface (colour) cannot be read" in note for note in imported.left_out)


@pytest.mark.parametrize(
    ("pattern", "instead"),
    [
        (r"<profile_COMMON>.*?</profile_COMMON>", "<profile_GLES/>"),
        (r"<color[^>]*>[^<]*</color>", "<color>a b c</color>"),
        (r"<technique sid.*?</technique>", ""),
        (r"(<effect[^>]*>).*?(</effect>)", r"\1\2"),
        (r"<float[^>]*>[^<]*</float>", "<float>zz</float>"),
    ],
)
def test_a_collada_effect_that_is_damaged_costs_its_colours_and_no_geometry(pattern, instead, tmp_path):
    sound = trimesh.exchange.dae.export_collada(trimesh.creation.box((30, 20, 10))).decode()
    file = tmp_path / "box.dae"
    file.write_text(re.sub(pattern, instead, sound, flags=re.DOTALL))
    imported = read_product(file)
    assert imported.solids == 1 and imported.left_out == ["the colours of 1 of its effects, which are damaged"]


def test_a_picture_on_a_surface_stands_for_its_mean_light(tmp_path):
    # half black, half white: half the light, which is #bcbcbc (IEC 61966-2-1), and not the mean of the numbers
    picture = np.zeros((8, 8, 3), np.uint8)
    picture[::2, ::2] = picture[1::2, 1::2] = 255
    Image.fromarray(picture).save(tmp_path / "check.png")
    body = trimesh.creation.box((100, 100, 100))
    uv = np.random.default_rng(1).uniform(size=(len(body.vertices), 2))
    paint = trimesh.visual.material.PBRMaterial(
        baseColorTexture=Image.open(tmp_path / "check.png"), baseColorFactor=[255, 255, 255, 255]
    )
    body.visual = trimesh.visual.TextureVisuals(uv, material=paint)
    body.export(tmp_path / "box.glb")
    imported = read_product(tmp_path / "box.glb")
    assert imported.parts[0].colour == "#bcbcbc" and not imported.left_out
