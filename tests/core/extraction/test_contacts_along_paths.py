"""Ways out of what touches, fits tightly or snaps in."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh
from test_search import boxes

from kestrav.core.clearance.certificate import certify
from kestrav.core.extraction.extraction_report import as_data, as_text
from kestrav.core.extraction.search import (
    ExtractionPath,
    ExtractionRequest,
    NoExtractionPath,
    add_extraction_path,
    find_extraction_path,
)
from kestrav.core.extraction.snaps import allowed, contacts_deeper
from kestrav.core.geometry.meshes import mesh

OUT = ExtractionRequest(allowed=((1.0, 0.0, 0.0),), margin=5.0, checks=20_000)


def moved(solid, *by):
    matrix = np.eye(4)
    matrix[:3, 3] = by
    return solid.moved(matrix)


def fused(*solids):
    made = trimesh.boolean.union([trimesh.Trimesh(s.vertices, s.triangles) for s in solids])
    return mesh(made.vertices, made.faces)


def rail():
    """A rail on which a slide stands, with a bead of 0.8 mm on its way out."""
    bead = fused(moved(box_mesh(200, 20, 10), 0, 0, -5), moved(box_mesh(2, 20, 2), 40, 0, -0.2))
    return boxes(slide=((40, 20, 10), (0, 0, 5)), rail=(bead, (0, 0, 0)))


def test_a_snap_fit_is_told_by_how_much_and_where_and_goes_when_that_is_allowed():
    made, meshes = rail()
    told = find_extraction_path(made, meshes, ["slide"], OUT)
    assert isinstance(told, NoExtractionPath)
    (snap,) = told.snaps
    assert {snap.part, snap.other} == {"slide", "rail"}
    # its front is at 20 and the bead begins at 39
    assert snap.deeper == pytest.approx(0.75 * 1.05, abs=0.05) and 19.0 < snap.distance < 80.0
    assert "mm deeper at" in as_text(made, told) and as_data(made, told)["snaps"][0]["deeper_mm"] == snap.deeper
    let = allowed(made, told.snaps)
    way = find_extraction_path(let, meshes, ["slide"], OUT)
    assert isinstance(way, ExtractionPath) and way.certificate.status == "certified"
    done = add_extraction_path(let, ["slide"], way)
    assert certify(done, meshes).status == "certified"
    # and without being allowed the same motion is a breach
    assert certify(add_extraction_path(made, ["slide"], way), meshes).status == "breached"


def test_all_contacts_of_a_thing_may_be_let_deeper_at_once():
    made, meshes = rail()
    let = contacts_deeper(made, meshes, ["slide"], 1.0)
    assert [(c.a, c.b, c.deeper) for c in let.contacts] == [("slide", "rail", 1.0)]
    assert isinstance(find_extraction_path(let, meshes, ["slide"], OUT), ExtractionPath)


def test_a_squeezed_seal_does_not_hold_a_part():
    # a cover squeezes a ring of 3 mm to 2.7
    ring = trimesh.creation.annulus(20.0, 24.0, 3.0, sections=48)
    seal = mesh(ring.vertices + np.array([0, 0, 1.5]), ring.faces)
    made, meshes = boxes(cover=((60, 60, 6), (0, 0, 5.7)), seal=(seal, (0, 0, 0)), base=((60, 60, 20), (0, 0, -10)))
    way = find_extraction_path(made, meshes, ["cover"], ExtractionRequest(checks=20_000))
    assert isinstance(way, ExtractionPath) and way.stage == "straight pull" and way.poses[-1].translation[2] > 0
    (contact,) = way.certificate.contacts
    assert contact.deep == pytest.approx(0.3, abs=0.01) and contact.spans[0][1] < np.inf


def test_a_pin_that_fills_its_bore_is_pulled_along_it():
    pin = trimesh.creation.cylinder(6.0, 60.0, sections=40)
    sleeve = trimesh.creation.annulus(6.0, 15.0, 40.0, sections=32)
    made, meshes = boxes(
        pin=(mesh(pin.vertices, pin.faces), (0, 0, 0)), sleeve=(mesh(sleeve.vertices, sleeve.faces), (0, 0, 0))
    )
    way = find_extraction_path(made, meshes, ["pin"], ExtractionRequest(checks=20_000))
    assert isinstance(way, ExtractionPath) and abs(way.poses[-1].translation[2]) > 49.9
    assert way.certificate.status == "certified"


def test_a_slide_before_a_wall_is_not_let_through_it():
    made, meshes = boxes(
        slide=((40, 20, 10), (0, 0, 5)), rail=((200, 20, 10), (0, 0, -5)), wall=((10, 80, 80), (60, 0, 5))
    )
    told = find_extraction_path(made, meshes, ["slide"], OUT)
    assert isinstance(told, NoExtractionPath) and told.blockers == ("wall",) and not told.snaps
