"""Imported solids against closed forms and against OpenCASCADE's own reading and properties of the same files."""

from pathlib import Path

import numpy as np
import pytest
from OCP.BRepGProp import BRepGProp
from OCP.GProp import GProp_GProps
from OCP.IGESControl import IGESControl_Reader
from OCP.Interface import Interface_Static
from OCP.STEPControl import STEPControl_Reader
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from shapes import DEMO

from kestrav.core.document.records import Project
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh

THIRD_PARTY = Path(__file__).parents[3] / ".third-party"
FILES = [DEMO.parent / f"{name}.step" for name in ("trolley", "swing-gate", "jib-hoist")]
FILES += [THIRD_PARTY / name for name in ("as1-tu-203.stp", "screw.step", "frame.step")]


def theirs(file):
    """Volume, area and centre of gravity of every solid, by OpenCASCADE, in mm."""
    reader = STEPControl_Reader()
    reader.ReadFile(str(file))
    reader.TransferRoots()
    found = []
    explorer = TopExp_Explorer(reader.OneShape(), TopAbs_ShapeEnum.TopAbs_SOLID)
    while explorer.More():
        volume, area = GProp_GProps(), GProp_GProps()
        BRepGProp.VolumeProperties_s(explorer.Current(), volume)
        BRepGProp.SurfaceProperties_s(explorer.Current(), area)
        centre = volume.CentreOfMass()
        found.append((volume.Mass(), area.Mass(), centre.X(), centre.Y(), centre.Z()))
        explorer.Next()
    return np.array(sorted(found))


def ours(file):
    imported = read_product(file, chord=0.01)
    project = into_project(Project(), imported)
    rest = rest_poses(project)
    found = []
    for row, part in enumerate(project.parts):
        if part.geometry is not None:
            shape = solid_mesh(imported.meshes, part)
            found.append((shape.volume, shape.area, *apply(rest[row], shape.centroid[None])[0]))
    return np.array(sorted(found))


@pytest.mark.parametrize("file", FILES, ids=lambda f: f.name)
def test_volumes_areas_and_centres_of_gravity_are_opencascades(file):
    if not file.exists():
        pytest.skip("third-party files are not there; scripts/third-party fetches them")
    expected, found = theirs(file), ours(file)
    assert len(found) == len(expected)
    # facets lie within 0.01 mm of the faces, and neighbouring ones within 0.5 rad; that is what they lose
    assert found[:, 0] == pytest.approx(expected[:, 0], rel=8e-3)
    assert found[:, 1] == pytest.approx(expected[:, 1], rel=8e-3)
    size = expected[:, 0] ** (1 / 3)
    near = [np.abs(expected[:, 2:] - row).max(axis=1).min() for row in found[:, 2:]]
    assert (np.array(near) < 0.02 * size.max()).all()


def test_an_iges_file_of_others_has_opencascades_area():
    file = THIRD_PARTY / "bearing.iges"
    if not file.exists():
        pytest.skip("third-party files are not there; scripts/third-party fetches them")
    reader = IGESControl_Reader()
    reader.ReadFile(str(file))
    reader.TransferRoots()
    area = GProp_GProps()
    BRepGProp.SurfaceProperties_s(reader.OneShape(), area)
    # the file says mm, and is 0.1 of them large: our grid of 0.0001 mm is coarse there
    (shape,) = read_product(file, chord=1e-5).meshes.values()
    assert shape.area == pytest.approx(area.Mass(), rel=1.5e-2)


def test_a_box_in_inches_has_its_closed_form():
    # 10 x 5 x 1 inch; 25.4 mm exactly, NIST Special Publication 811 (2008), appendix B.8
    imported = read_product(Path(__file__).parents[2] / "data" / "box-in-inches.step")
    (shape,) = imported.meshes.values()
    assert shape.volume == pytest.approx(10 * 5 * 1 * 25.4**3, rel=1e-6)
    assert shape.area == pytest.approx(2 * (10 * 5 + 5 * 1 + 10 * 1) * 25.4**2, rel=1e-6)


def write_units(folder, unit):
    """The same 100 x 50 x 20 mm box with a bore of 8 mm radius, by OpenCASCADE, in a unit."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    box = BRepPrimAPI_MakeBox(100.0, 50.0, 20.0).Shape()
    bore = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(30, 25, -1), gp_Dir(0, 0, 1)), 8.0, 30.0).Shape()
    writer = STEPControl_Writer()
    Interface_Static.SetCVal_s("write.step.unit", unit)
    writer.Transfer(BRepAlgoAPI_Cut(box, bore).Shape(), STEPControl_StepModelType.STEPControl_AsIs)
    file = folder / f"{unit}.step"
    writer.Write(str(file))
    Interface_Static.SetCVal_s("write.step.unit", "MM")
    return file


@pytest.mark.parametrize("unit", ["MM", "IN", "M"])
def test_iges_units_are_converted(tmp_path, unit):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox
    from OCP.IGESControl import IGESControl_Writer

    writer = IGESControl_Writer(unit, 0)
    writer.AddShape(BRepPrimAPI_MakeBox(100.0, 50.0, 20.0).Shape())
    writer.ComputeModel()
    writer.Write(str(tmp_path / "box.igs"))
    (shape,) = read_product(tmp_path / "box.igs").meshes.values()
    assert np.ptp(shape.bounds, axis=0) == pytest.approx([100, 50, 20], abs=1e-3)


@pytest.mark.parametrize("unit", ["MM", "INCH", "M"])
def test_declared_units_are_converted_in_meshes_and_in_analytic_faces(tmp_path, unit):
    (shape,) = read_product(write_units(tmp_path, unit)).meshes.values()
    assert np.ptp(shape.bounds, axis=0) == pytest.approx([100, 50, 20], abs=1e-3)
    (bore,) = [f for f in shape.faces if f.kind == "cylinder"]
    assert bore.radius == pytest.approx(8.0, abs=1e-9)
    corners = shape.vertices[np.unique(shape.triangles[shape.face_of == shape.faces.index(bore)])]
    assert bore.distance(corners).max() < 1e-3
    assert abs(np.array(bore.axis)) == pytest.approx([0, 0, 1], abs=1e-12)


@pytest.mark.parametrize("size", [0.05, 0.4, 3.0, 50.0])
def test_facets_are_as_fine_for_a_solid_of_any_size(tmp_path, size):
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer

    # closed forms: a cylinder as high as wide, and a ball
    solids = (
        (BRepPrimAPI_MakeCylinder(size / 2, size), np.pi * size**3 / 4),
        (BRepPrimAPI_MakeSphere(size / 2), np.pi * size**3 / 6),
    )
    for k, (made, volume) in enumerate(solids):
        writer = STEPControl_Writer()
        writer.Transfer(made.Shape(), STEPControl_StepModelType.STEPControl_AsIs)
        file = tmp_path / f"{k}.step"
        writer.Write(str(file))
        (shape,) = read_product(file).meshes.values()
        assert shape.volume == pytest.approx(volume, rel=4e-3)
