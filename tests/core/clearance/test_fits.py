"""The product at rest: fits by the file's own faces, everything else by its facets, against OpenCASCADE."""

import numpy as np
import pytest
from OCP.BRepAlgoAPI import BRepAlgoAPI_Common, BRepAlgoAPI_Cut
from OCP.BRepGProp import BRepGProp
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
from OCP.GProp import GProp_GProps
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from shapes import box_mesh
from test_certificate import scene

from kestrav.core.clearance.fits import alike, fits_at_rest
from kestrav.core.document import edits
from kestrav.core.document.records import Project
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.findings.report import fits_as_csv, fits_as_text

UP = gp_Dir(0, 0, 1)


def rod(x, radius, low, high):
    return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, 0, low), UP), radius, high - low).Shape()


def brought_in(folder, *solids):
    """A project of solids by OpenCASCADE, each a part of its own, through STEP."""
    project, meshes = Project(), {}
    for number, made in enumerate(solids):
        writer = STEPControl_Writer()
        writer.Transfer(made, STEPControl_StepModelType.STEPControl_AsIs)
        file = folder / f"solid {number}.step"
        writer.Write(str(file))
        imported = read_product(file)
        project = into_project(project, imported)
        meshes |= imported.meshes
    return project, meshes


def volume(shape):
    told = GProp_GProps()
    BRepGProp.VolumeProperties_s(shape, told)
    return told.Mass()


@pytest.fixture(scope="module")
def block(tmp_path_factory):
    """A block with three bores of 10 mm radius, and in them a loose, a line to line and a pressed pin; a lid on it."""
    plate = BRepPrimAPI_MakeBox(gp_Pnt(-30, -30, 0), 200, 60, 30).Shape()
    for x in (0.0, 60.0, 120.0):
        plate = BRepAlgoAPI_Cut(plate, rod(x, 10.0, -1, 31)).Shape()
    pins = [rod(0.0, 9.9, 0, 40), rod(60.0, 10.0, 0, 40), rod(120.0, 10.02, 0, 40)]
    lid = BRepPrimAPI_MakeBox(gp_Pnt(140, -30, 30), 30, 60, 5).Shape()
    project, meshes = brought_in(tmp_path_factory.mktemp("block"), plate, *pins, lid)
    return project, meshes, plate, pins


def test_a_clearance_fit_line_to_line_and_a_press_fit_are_told_apart_by_their_nominal_radii(block):
    project, meshes, plate, pins = block
    found = {fit.kind: fit for fit in fits_at_rest(project, meshes)}
    assert set(found) == {"clearance fit", "line to line", "interference fit", "touches"}
    assert found["clearance fit"].gap == pytest.approx(0.1, abs=1e-6) and found["clearance fit"].exact
    assert found["line to line"].depth == 0.0 and found["line to line"].radii == pytest.approx((10.0, 10.0))
    pressed = found["interference fit"]
    assert pressed.depth == pytest.approx(0.02, abs=1e-6) and pressed.radii == pytest.approx((10.02, 10.0))
    assert pressed.shared == pytest.approx(volume(BRepAlgoAPI_Common(plate, pins[2]).Shape()), rel=0.02)
    assert "Ø20.04 in Ø20" in pressed.text


def test_a_deeper_cut_is_measured_and_agrees_with_opencascade(tmp_path):
    plate = BRepPrimAPI_MakeBox(gp_Pnt(-30, -30, 0), 60, 60, 30).Shape()
    peg = rod(0.0, 8.0, 25, 60)
    project, meshes = brought_in(tmp_path, plate, peg)
    (fit,) = fits_at_rest(project, meshes)
    assert fit.kind == "interferes" and fit.depth == pytest.approx(5.0, rel=0.02) and not fit.exact
    assert fit.shared == pytest.approx(volume(BRepAlgoAPI_Common(plate, peg).Shape()), rel=0.02)


def test_what_is_apart_is_not_in_the_table_and_what_lies_inside_is():
    made, meshes = scene(
        one=(box_mesh(10, 10, 10), (0, 0, 0)),
        two=(box_mesh(10, 10, 10), (10.3, 0, 0)),
        pea=(box_mesh(2, 2, 2), (0, 0, 1)),
        far=(box_mesh(10, 10, 10), (0, 0, 90)),
    )
    (fit,) = fits_at_rest(made, meshes)
    assert {fit.pair.moving, fit.pair.other} == {"one", "pea"} and fit.depth == pytest.approx(5.0, abs=0.01)


def test_all_alike_are_accepted_in_one_step_and_said_to_be_intended(block):
    made, meshes = scene(
        table=(box_mesh(400, 400, 10), (0, 0, -5)),
        one=(box_mesh(10, 10, 10), (0, 0, 4.8)),
        two=(box_mesh(10, 10, 10), (50, 0, 4.8)),
        odd=(box_mesh(20, 10, 10), (-50, 0, 4.8)),
    )
    rows = fits_at_rest(made, meshes)
    assert [fit.depth for fit in rows] == pytest.approx([0.2] * 3, abs=0.005)
    same = alike(rows, next(fit for fit in rows if "one" in (fit.pair.moving, fit.pair.other)))
    assert len(same) == 2
    accepted = edits.set_contacts(made, [(fit.pair.moving, fit.pair.other) for fit in same], intended=True)
    told = fits_at_rest(accepted, meshes)
    assert sum(fit.accepted for fit in told) == 2
    table = fits_as_csv(accepted, told).splitlines()
    assert len(table) == 4 and table[0].startswith("part,other,kind,depth [mm]") and table[1].endswith((",yes", ",no"))
    assert "0.200\u2009mm deep" in fits_as_text(accepted, told)


def test_progress_is_told_and_nothing_touching_is_said_in_words():
    told = []
    made, meshes = scene(one=(box_mesh(10, 10, 10), (0, 0, 0)), two=(box_mesh(10, 10, 10), (10, 0, 0)))
    assert fits_at_rest(made, meshes, told.append)[0].kind == "touches" and told == [0.0]
    apart, meshes = scene(one=(box_mesh(10, 10, 10), (0, 0, 0)), two=(box_mesh(10, 10, 10), (30, 0, 0)))
    assert fits_as_text(apart, fits_at_rest(apart, meshes)) == "No part touches another one."
    assert np.isfinite(fits_at_rest(made, meshes)[0].place).all()
