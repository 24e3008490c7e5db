"""The one wide hole of a solid, which what is to turn it is set in."""

import numpy as np
import pytest
import trimesh
from shapes import DEMO, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Path
from kestrav.core.editing.run_making import add_run
from kestrav.core.files.product_import import read_product
from kestrav.core.geometry.bores import bore_middle
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import mesh


def lever(*holes, length=200.0, width=40.0, thick=12.0, off=(500.0, -300.0, 80.0)):
    """A bar with through holes (x, radius) along z, its file's origin far off, as CAD gives it with its cylinders."""
    bar = trimesh.creation.box((length, width, thick))
    rods = [
        trimesh.creation.cylinder(
            radius, 3 * thick, sections=48, transform=trimesh.transformations.translation_matrix((x, 0, 0))
        )
        for x, radius in holes
    ]
    made = trimesh.boolean.difference([bar, *rods])
    faces, face_of = [Face("plane")], np.zeros(len(made.faces), np.int32)
    middles = made.triangles_center
    for number, (x, radius) in enumerate(holes, 1):
        face_of[np.hypot(middles[:, 0] - x, middles[:, 1]) < radius] = number
        faces.append(Face("cylinder", (x + off[0], off[1], off[2]), (0.0, 0.0, 1.0), radius, across=(0.0, 2 * np.pi)))
    face_of[np.abs(made.face_normals[:, 2]) > 0.9] = 0
    return mesh(made.vertices + np.array(off), made.faces, tuple(faces), face_of)


def test_a_lever_turns_on_its_bore():
    assert bore_middle(lever((-80, 12), (80, 5))) == pytest.approx((420.0, -300.0, 80.0), abs=1e-3)


@pytest.mark.parametrize("holes", [[(-80, 12), (80, 11.5)], [(0, 3)]])
def test_of_several_holes_alike_or_small_ones_none_is_the_bore(holes):
    assert bore_middle(lever(*holes)) is None


def test_a_pin_is_no_bore_and_what_has_no_cad_faces_has_none():
    shape = lever((0, 12))
    # the same facets seen from the other side are a pin's
    assert bore_middle(mesh(shape.vertices, shape.triangles[:, ::-1], shape.faces, shape.face_of)) is None
    assert bore_middle(mesh(shape.vertices, shape.triangles)) is None


def test_a_run_sets_the_pivot_in_the_bore_under_the_parts_scale():
    opened = make_project({"Lever": (lever((-80, 12)), (0, 0, 0))})
    project = edits.add(opened.project, Path("path-9", "Way", straight((0, 0, 0), (500, 100, 5))))
    project = edits.update(project, "part-1", scale=(2.0, 2.0, 2.0))
    ran = add_run(project, "part-1", "path-9")
    # the pivot is in the part's own coordinates, its scale applied
    assert ran.parts[0].pivot.position == pytest.approx((840.0, -600.0, 160.0), abs=1e-3)


def test_the_wheels_of_a_cad_file_have_theirs_on_their_axle():
    product = read_product(DEMO.parent / "trolley.step")
    wheels = [product.meshes[p.geometry] for p in product.parts if p.name.startswith("Wheel") and p.geometry]
    assert wheels
    for shape in wheels:
        tread = max((f for f in shape.faces if f.kind == "cylinder"), key=lambda face: face.radius)
        step = bore_middle(shape) - np.array(tread.origin)
        assert np.linalg.norm(np.cross(step, tread.axis)) == pytest.approx(0.0, abs=1e-3)
