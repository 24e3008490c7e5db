"""Normals and sharp edges against VTK's own filters, and large products that are shown rough first."""

import time

import numpy as np
import pytest
import trimesh
from shapely import Point
from shapes import box_mesh, make_project
from vtkmodules.util.numpy_support import numpy_to_vtk, numpy_to_vtkIdTypeArray, vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkPoints
from vtkmodules.vtkCommonDataModel import vtkCellArray, vtkPolyData
from vtkmodules.vtkFiltersCore import vtkCleanPolyData, vtkFeatureEdges, vtkPolyDataNormals

from kestrav.core.document import edits
from kestrav.core.editing.finishing import with_finish
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.geometry.smooth_normals import SHARP, smoothed
from kestrav.core.memo import Memo
from kestrav.render import outlines
from kestrav.render.outlines import outline, rough_outline
from kestrav.render.scene import Scene


def by_vtk(shape: Mesh):
    """The corners' normals (m, 3, 3) and the number and length of sharp edges, by VTK's filters."""
    points, cells, data = vtkPoints(), vtkCellArray(), vtkPolyData()
    points.SetData(numpy_to_vtk(np.ascontiguousarray(shape.vertices), deep=True))
    cells.SetData(3, numpy_to_vtkIdTypeArray(shape.triangles.astype(np.int64).ravel(), deep=True))
    data.SetPoints(points)
    data.SetPolys(cells)
    clean, normals, edges = vtkCleanPolyData(), vtkPolyDataNormals(), vtkFeatureEdges()
    clean.SetInputData(data)
    normals.SetInputConnection(clean.GetOutputPort())
    normals.SetFeatureAngle(SHARP)
    normals.SplittingOn()
    normals.ConsistencyOff()
    normals.Update()
    edges.SetInputConnection(clean.GetOutputPort())
    edges.SetFeatureAngle(SHARP)
    for off in (edges.BoundaryEdgesOff, edges.NonManifoldEdgesOff, edges.ManifoldEdgesOff):
        off()
    edges.Update()
    found, lines = normals.GetOutput(), edges.GetOutput()
    corners = vtk_to_numpy(found.GetPolys().GetConnectivityArray()).reshape(-1, 3)
    return vtk_to_numpy(found.GetPointData().GetNormals())[corners], found.GetNumberOfPoints(), lines.GetNumberOfLines()


def solids():
    random = np.random.default_rng(3)
    cut = trimesh.boolean.difference(
        [trimesh.creation.box((60, 40, 20)), trimesh.creation.cylinder(8, 50, sections=40)]
    )
    crumpled = trimesh.creation.icosphere(3, 20)
    open_one = trimesh.creation.capsule(20, 6).slice_plane((0, 0, 3), (0, 1, 0.3))
    apart = trimesh.Trimesh(
        cut.vertices[cut.faces].reshape(-1, 3), np.arange(3 * len(cut.faces)).reshape(-1, 3), process=False
    )
    yield "cut block", cut
    yield "its facets apart", apart
    yield (
        "crumpled ball",
        trimesh.Trimesh(crumpled.vertices + random.normal(0, 1.2, crumpled.vertices.shape), crumpled.faces),
    )
    yield "open sheet", open_one
    yield "gear-like", trimesh.creation.extrude_polygon(Point(0, 0).buffer(20, 6), 8)


@pytest.mark.parametrize(("name", "solid"), list(solids()), ids=[name for name, _ in solids()])
def test_normals_and_edges_are_those_of_vtk(name, solid):
    shape = mesh(solid.vertices, solid.faces)
    normals, points, lines = by_vtk(shape)
    found = smoothed(shape)
    assert (len(found.points), len(found.sharp)) == (points, lines)
    assert found.normals[found.triangles] == pytest.approx(normals, abs=2e-4)
    # the triangles are the same ones in the same order
    assert found.points[found.triangles] == pytest.approx(shape.vertices[shape.triangles], abs=1e-9)


def test_facets_of_other_tints_share_no_points_but_no_line_parts_them():
    ball = trimesh.creation.icosphere(3, 20)
    tint_of = (ball.triangles_center[:, 2] > 0).astype(np.int32)
    found = outline(Mesh(ball.vertices, ball.faces.astype(np.int32), (), None, ("", "#ff0000"), tint_of))
    assert not len(found.edges) and (found.tint_of[found.triangles] == tint_of[:, None]).all()
    rough = rough_outline(Mesh(ball.vertices, ball.faces.astype(np.int32), (), None, ("", "#ff0000"), tint_of))
    assert rough.rough and (rough.tint_of[rough.triangles] == tint_of[:, None]).all()


def test_a_mesh_of_nothing_but_slivers_is_drawn():
    corners = np.array([(0, 0, 0), (1, 0, 0), (2, 0, 0), (1, 0, 0)], float)
    flat = Mesh(corners, np.array([(0, 1, 2), (1, 3, 2)], np.int32))
    found = outline(flat)
    assert np.isfinite(found.normals).all() and len(found.triangles) == 2


@pytest.fixture
def large(monkeypatch):
    """A project of more triangles than are worked out at once."""
    monkeypatch.setattr(outlines, "AT_ONCE", 20)
    monkeypatch.setattr("kestrav.render.scene.AT_ONCE", 20)
    return make_project({f"Part {k}": (box_mesh(20 + k, 20, 20), (40.0 * k, 0, 0)) for k in range(6)})


def test_a_patient_scene_shows_a_large_product_rough_and_refines_it(large):
    scene = Scene(patient=True)
    scene.update(large.project, large.meshes)
    assert scene.refining and len(scene.shown_parts()) == 6
    assert all(not len(m.outline.edges) for batch in scene.batches for m in batch.members)
    until = time.monotonic() + 20
    while scene.refining and time.monotonic() < until:
        scene.refine()
        time.sleep(0.01)
    assert not scene.refining and sorted(scene.shown_parts()) == [p.id for p in large.project.parts]
    assert all(len(m.outline.edges) == 12 for batch in scene.batches for m in batch.members)


def test_a_scene_for_pictures_has_all_at_once(large):
    scene = Scene()
    scene.update(large.project, large.meshes)
    assert not scene.refining and all(not m.outline.rough for batch in scene.batches for m in batch.members)


def test_a_patient_scene_shows_finishes_even_until_their_structure_is_drawn(monkeypatch):
    made = make_project({"Block": (box_mesh(20, 20, 20), (0, 0, 0))})
    wood = next(f for f in BY_NAME.values() if f.texture == "wood")
    project = with_finish(made.project, ["part-1"], wood)
    structures = Memo(8)
    monkeypatch.setattr("kestrav.core.finishes.textures._pixels", structures)
    scene = Scene(patient=True)
    scene.set_style("finished")
    scene.update(project, made.meshes)
    (batch,) = scene.batches
    look = batch.stage.GetProperty()
    assert scene.refining and not look.GetNumberOfTextures() and not len(structures)
    until = time.monotonic() + 20
    while scene.refining and time.monotonic() < until:
        scene.refine()
        time.sleep(0.01)
    assert batch.structured and look.GetNumberOfTextures() == 3
    # pictures that are kept have it at once
    structures.clear()
    at_once = Scene()
    at_once.update(project, made.meshes)
    assert not at_once.refining and at_once.batches[0].final.GetProperty().GetNumberOfTextures() == 3


def test_outlines_of_what_was_deleted_stay_and_of_another_project_do_not():
    first = make_project({"Block": (box_mesh(20, 20, 20), (0, 0, 0)), "Bar": (box_mesh(9, 9, 90), (50, 0, 0))})
    scene = Scene()
    scene.update(first.project, first.meshes)
    assert len(scene._outlines.known) == 2
    # it may be wanted back by undo
    scene.update(edits.remove(first.project, "part-2"), first.meshes)
    assert len(scene._outlines.known) == 2
    other = make_project({"Plate": (box_mesh(70, 70, 5), (0, 0, 0))})
    scene.update(other.project, other.meshes)
    assert [key[0] for key in scene._outlines.known] == [g.hash for g in other.project.geometry]
