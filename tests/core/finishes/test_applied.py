"""Which part has which finish: its own, by a rule, in a colourway; and that a new delivery keeps them."""

import io

import msgspec
import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight
from trimesh.visual.material import PBRMaterial

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.editing.finishing import (
    in_all_colourways,
    replaced_everywhere,
    shown_in,
    users_of,
    with_colourway,
    with_finish,
    with_rule,
    without_unused,
)
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.refresh import reload, replace
from kestrav.core.finishes.applied import finish_of, finishes_of, in_colourway
from kestrav.core.finishes.shelf import BY_NAME


@pytest.fixture
def opened():
    """A cover with screws, and a housing."""
    shapes = {"Cover M6 screw 1": (box_mesh(5, 5, 5), (0, 0, 0)), "Cover M6 Screw 2": (box_mesh(6, 5, 5), (20, 0, 0))}
    shapes |= {"Housing": (box_mesh(50, 50, 50), (100, 0, 0))}
    return make_project(shapes, straight((0, 0, 0), (100, 0, 0)))


def names(project, colourway=""):
    return {part: finish.name for part, finish in finishes_of(project, colourway).items()}


def test_a_rule_gives_a_finish_by_words_in_any_case_and_a_star_for_anything(opened):
    project = with_rule(opened.project, "m6*screw", BY_NAME["Zinc-plated"])
    assert names(project) == {"part-1": "Zinc-plated", "part-2": "Zinc-plated"}
    # of several the last one counts, and a part's own finish before all of them
    project = with_rule(project, "screw 2", BY_NAME["Brass"])
    project = with_finish(project, ["part-1"], BY_NAME["Copper"])
    assert names(project) == {"part-1": "Copper", "part-2": "Brass"}
    assert finish_of(project, "part-3") is None
    with pytest.raises(BadInput, match="words"):
        with_rule(project, " * ", BY_NAME["Brass"])


def test_an_assembly_passes_its_rule_and_its_colourway_on(opened, demo):
    bare = msgspec.structs.replace(demo.project, finish_rules=())
    project = with_rule(bare, "fan cassette", BY_NAME["Paint, gloss"])
    inner = next(p for p in project.parts if p.name == "Housing")
    assert finish_of(project, inner.id).name == "Paint, gloss"
    top = next(p.id for p in project.parts if p.name == "Fan cassette")
    project, _ = with_colourway(project, "Green")
    project = with_finish(project, [top], BY_NAME["Anodised, black"])
    assert finish_of(project, inner.id, project.colourway).name == "Anodised, black"
    assert finish_of(project, inner.id, "").name == "Paint, gloss"


def test_a_colourway_takes_what_is_given_while_it_is_shown(opened):
    project = with_finish(opened.project, ["part-3"], BY_NAME["Paint, matt"])
    project, way = with_colourway(project, "Copper top")
    project = with_finish(project, ["part-3"], BY_NAME["Copper"])
    assert (
        project.colourway == way
        and names(project, way) == {"part-3": "Copper"}
        and names(project) == {"part-3": "Paint, matt"}
    )
    # taken back there, the part shows its own again
    assert names(with_finish(project, ["part-3"], ""), way) == {"part-3": "Paint, matt"}
    project = shown_in(project, "")
    assert names(with_finish(project, ["part-3"], BY_NAME["Brass"])) == {"part-3": "Brass"}
    shot = Shot("shot-1", "Take", "camera-1")
    project = edits.add(project, Camera("camera-1", "Eye", PointAim((0, 0, 0))), shot)
    assert [(name, one.colourway) for name, (one,) in in_all_colourways(project, [shot])] == [("Copper top", way)]
    with pytest.raises(BadInput, match="no colourway"):
        in_all_colourways(opened.project, [shot])
    assert in_colourway(project, way).colourway == way and in_colourway(project, "") is project


def test_what_is_removed_leaves_no_name_behind(opened):
    project = with_rule(with_finish(opened.project, ["part-3"], BY_NAME["Copper"]), "screw", BY_NAME["Brass"])
    project, way = with_colourway(project)
    project = with_finish(project, ["part-3"], BY_NAME["Brass"])
    brass = next(f.id for f in project.finishes if f.name == "Brass")
    left = edits.remove(project, brass)
    assert left.finish_rules == () and left.colourways[0].finishes == () and names(left) == {"part-3": "Copper"}
    assert edits.remove(project, way).colourway == ""
    assert edits.remove(project, "part-3").colourways[0].finishes == ()


def test_a_finish_is_taken_once_replaced_everywhere_and_tidied(opened):
    project = with_finish(with_finish(opened.project, ["part-1"], BY_NAME["Copper"]), ["part-2"], BY_NAME["Copper"])
    assert [f.name for f in project.finishes] == ["Copper"] and users_of(project, "finish-1") == ["part-1", "part-2"]
    project = with_finish(project, ["part-3"], BY_NAME["Brass"])
    project = replaced_everywhere(project, "finish-1", "finish-2")
    assert set(names(project).values()) == {"Brass"}
    assert [f.name for f in without_unused(project).finishes] == ["Brass"]


def test_finishes_rules_and_colourways_are_kept_in_the_file(opened, tmp_path):
    project = with_rule(opened.project, "screw", BY_NAME["Zinc-plated"])
    project, _ = with_colourway(project, "Other")
    project_file.save(project, opened.meshes, tmp_path / "kept.kestrav")
    assert project_file.load(tmp_path / "kept.kestrav").project == project


def test_a_part_of_a_new_delivery_has_its_finish_by_its_name(opened):
    project = with_rule(opened.project, "screw", BY_NAME["Zinc-plated"])
    again = edits.update(edits.remove(project, "part-1"), "part-3", name="Screw of another length")
    assert names(again) == {"part-2": "Zinc-plated", "part-3": "Zinc-plated"}


def test_a_part_of_a_finish_that_the_project_does_not_hold_is_refused(opened):
    with pytest.raises(BadInput, match="does not hold"):
        edits.update(opened.project, "part-1", finish="finish-7")


def glb(metallic):
    """A box of a metal of its own, as a file."""
    body = trimesh.creation.box((0.1, 0.1, 0.1))
    look = PBRMaterial(name="Alloy", baseColorFactor=[200, 200, 200, 255], metallicFactor=metallic, roughnessFactor=0.3)
    body.visual = trimesh.visual.TextureVisuals(material=look)
    scene = trimesh.Scene()
    scene.add_geometry(body, node_name="Block", geom_name="Block")
    return scene.export(file_type="glb")


def test_the_finishes_of_a_new_delivery_stand_beside_those_of_the_project(opened, tmp_path):
    file = tmp_path / "block.glb"
    file.write_bytes(glb(1.0))
    # the project has a first finish of its own, so that those of the file are not numbered as the file alone would
    project = with_finish(opened.project, ["part-3"], BY_NAME["Copper"])
    project = into_project(project, read_product(file))
    block = next(p for p in project.parts if p.name == "Block")
    assert finish_of(project, block.id).metallic == 1.0 and names(project)["part-3"] == "Copper"
    # a further part comes with the next delivery, of another finish
    more = trimesh.load(io.BytesIO(glb(0.4)), file_type="glb")
    more.add_geometry(
        more.geometry["Block"].copy(), node_name="Second", geom_name="Second", transform=np.diag([1, 1, 2, 1.0])
    )
    file.write_bytes(more.export(file_type="glb"))
    again, _ = reload(project, block.source, read_product(file))
    second = next(p for p in again.parts if p.name == "Second")
    assert finish_of(again, second.id).metallic == pytest.approx(0.4)
    assert names(again)["part-3"] == "Copper" and finish_of(again, block.id).metallic == 1.0
    # and what takes a part's place keeps the part's finish where the file has none of its own
    plain = tmp_path / "plain.stl"
    plain.write_bytes(trimesh.creation.box((10, 10, 10)).export(file_type="stl"))
    put = replace(again, "part-3", read_product(plain, unit=1.0))
    assert names(put)["part-3"] == "Copper"
