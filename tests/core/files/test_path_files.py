"""Paths from and to files: lengths against ezdxf's own flattening and closed forms; damaged files."""

import math

import ezdxf
import ezdxf.path
import msgspec
import numpy as np
import pytest

from kestrav.core.document.records import ArcShape, EllipseShape, Path, PathPoint, PointShape, Project, RectangleShape
from kestrav.core.errors import BadInput
from kestrav.core.files.path_files import MOST_PATHS, add_paths, read_paths, used_again, write_path
from kestrav.core.files.reading import as_unicode
from kestrav.core.paths.path_curves import path_curve


def dxf(folder, draw, units=4, name="plan.dxf"):
    document = ezdxf.new()
    document.header["$INSUNITS"] = units
    draw(document.modelspace())
    document.saveas(folder / name)
    return folder / name


def paths(file, unit=None):
    found = read_paths(file)
    return add_paths(Project(), found, unit or found.unit or 1.0).paths


ENTITIES = {
    "line": lambda m: m.add_line((0, 0, 5), (300, 400, 5)),
    "arc": lambda m: m.add_arc((10, 20, 30), 100, 30, 250),
    "circle": lambda m: m.add_circle((10, 20), 75),
    "tilted arc": lambda m: m.add_arc((0, 0, 0), 50, 10, 200, dxfattribs={"extrusion": (0, 1, 0)}),
    "ellipse": lambda m: m.add_ellipse((0, 0), (200, 100), 0.4),
    "part of an ellipse": lambda m: m.add_ellipse((0, 0), (200, 0), 0.6, 0.5, 3.0),
    "polyline": lambda m: m.add_lwpolyline([(0, 0), (300, 0), (300, 200), (0, 200)], close=True),
    "bulges": lambda m: m.add_lwpolyline([(0, 0, 0.5), (200, 0, -1.0), (400, 100, 0), (600, 100, 0)], format="xyb"),
    "3d polyline": lambda m: m.add_polyline3d([(0, 0, 0), (100, 0, 50), (100, 200, 90)]),
    "spline": lambda m: m.add_spline([(0, 0, 0), (100, 200, 30), (300, 100, 0), (400, 300, 10)]),
}


@pytest.mark.parametrize("draw", ENTITIES.values(), ids=ENTITIES)
def test_dxf_entities_have_the_length_of_ezdxfs_own_flattening(tmp_path, draw):
    file = dxf(tmp_path, draw)
    (made,) = paths(file)
    (entity,) = ezdxf.readfile(file).modelspace()
    flat = np.array([tuple(v) for v in ezdxf.path.make_path(entity).flattening(1e-4, segments=64)])
    expected = np.linalg.norm(np.diff(flat, axis=0), axis=1).sum()
    curve = path_curve(made).curve
    assert curve.length == pytest.approx(expected, rel=3e-4)
    for place in flat[:: max(len(flat) // 25, 1)]:
        # ezdxf draws arcs by cubic curves, which leave the circle by up to 2.7e-4 of its radius
        assert np.linalg.norm(curve.position([curve.nearest(place)])[0] - place) < 3e-4 * max(curve.length, 100)


def test_arcs_and_circles_keep_their_parameters(tmp_path):
    def draw(m):
        m.add_arc((10, 20, 30), 100, 30, 250)
        m.add_circle((10, 20), 75, dxfattribs={"layer": "Aisle"})

    arc, circle = paths(dxf(tmp_path, draw))
    assert isinstance(arc.shape, ArcShape)
    assert arc.shape.sweep == pytest.approx(220)
    assert path_curve(arc).length == pytest.approx(100 * math.radians(220), rel=1e-12)
    assert (circle.name, circle.shape.half_x) == ("Aisle", 75)


@pytest.mark.parametrize(("units", "factor"), [(1, 25.4), (4, 1.0), (5, 10.0), (6, 1000.0)])
def test_dxf_units_are_those_of_its_header(tmp_path, units, factor):
    (made,) = paths(dxf(tmp_path, ENTITIES["line"], units))
    assert path_curve(made).length == pytest.approx(500 * factor)


def test_a_dxf_without_unit_waits_for_one(tmp_path):
    found = read_paths(dxf(tmp_path, ENTITIES["line"], 0))
    assert found.unit is None
    assert found.size == pytest.approx([300, 400, 0])


def test_what_is_no_curve_is_told(tmp_path):
    def draw(m):
        m.add_text("hello")
        m.add_line((0, 0), (1, 0))
        m.add_circle((0, 0), 0)

    found = read_paths(dxf(tmp_path, draw))
    assert len(found.shapes) == 1
    assert any("TEXT" in note for note in found.left_out)
    assert any("half width" in note for note in found.left_out)


def test_of_a_large_drawing_the_longest_curves_are_brought_in_and_the_others_told(tmp_path):
    document = ezdxf.new()
    for k in range(MOST_PATHS + 40):
        document.modelspace().add_line((0, k), (100 + (k * 37) % 1000, k))
    document.saveas(tmp_path / "plan.dxf")
    found = read_paths(tmp_path / "plan.dxf")
    assert len(found.shapes) == MOST_PATHS
    assert "40 shorter curves" in found.left_out[0]
    lengths = [np.linalg.norm(np.subtract(s.points[0].position, s.points[1].position)) for _, s in found.shapes]
    assert min(lengths) >= sorted(100 + (k * 37) % 1000 for k in range(MOST_PATHS + 40))[40]


def test_a_drawing_with_slips_is_mended_while_it_is_read(tmp_path):
    document = ezdxf.new()
    document.modelspace().add_circle((0, 0), 50)
    document.saveas(tmp_path / "plan.dxf")
    text = (tmp_path / "plan.dxf").read_text()
    # a group code that is no number, in a comment
    (tmp_path / "slips.dxf").write_text(text.replace("ENTITIES", "ENTITIES\n999\na remark", 1).replace("EOF", ""))
    assert len(read_paths(tmp_path / "slips.dxf").shapes) == 1


def test_svg_path_data_and_shapes_come_in_mm_with_y_up(tmp_path):
    (tmp_path / "plan.svg").write_text(
        '<svg xmlns="http://www.w3.org/2000/svg" width="200mm" height="100mm" viewBox="0 0 200 100">'
        '<path id="Aisle" d="M 10 90 L 110 90 A 40 40 0 0 0 150 50 L 150 10"/>'
        '<g transform="translate(20,10)"><rect width="30" height="20"/></g><circle id="Ring" cx="50" cy="50" r="25"/></svg>'
    )
    aisle, rect, ring = paths(tmp_path / "plan.svg")
    assert aisle.name == "Aisle"
    assert path_curve(aisle).length == pytest.approx(100 + 20 * np.pi + 40, rel=1e-4)
    ends = path_curve(aisle).curve.position([0.0, path_curve(aisle).length])
    assert ends == pytest.approx(np.array([[10, -90, 0], [150, -10, 0]]), abs=1e-3)
    assert path_curve(rect).length == pytest.approx(100)
    assert path_curve(rect).curve.closed
    assert path_curve(ring).length == pytest.approx(50 * np.pi, rel=1e-4)


@pytest.mark.parametrize(
    "text",
    [
        "x,y,z\n0,0,0\n100,0,5\n200,50,10\n",
        "0;0;0\n100;0;5\n200;50;10",
        "0 0 0\n100 0 5\n200 50 10\n",
        "# drawn\nx\ty\tz\n0\t0\t0\n100,0\t0\t5,0\n200\t50\t10",
    ],
)
def test_tables_of_points_in_every_common_hand(tmp_path, text):
    (tmp_path / "points.csv").write_text(text)
    found = read_paths(tmp_path / "points.csv")
    assert found.unit is None
    (made,) = add_paths(Project(), found, 1.0).paths
    assert [p.position for p in made.shape.points] == [(0, 0, 0), (100, 0, 5), (200, 50, 10)]


def test_ten_thousand_points_are_read_and_travelled(tmp_path):
    turn = np.linspace(0, 40 * np.pi, 10_000)
    rows = "\n".join(f"{500 * np.cos(a):.6f},{500 * np.sin(a):.6f},{3 * a:.6f}" for a in turn)
    (tmp_path / "many.csv").write_text(rows)
    (made,) = paths(tmp_path / "many.csv", 1.0)
    assert path_curve(made).length == pytest.approx(40 * np.pi * np.hypot(500, 3), rel=1e-5)


BAD = {
    "empty": ("a.csv", b"", "is empty"),
    "words": ("a.csv", b"one,two\nthree,four\n", "row 1 has no two or three numbers"),
    "nan": ("a.csv", b"0,0,0\nnan,1,2\n", "not finite"),
    "one point": ("a.csv", b"1,2,3\n", "no curve"),
    "same points": ("a.csv", b"1,2,3\n1,2,3\n", "no curve"),
    "binary": ("a.csv", bytes(range(256)), "not a table"),
    "dxf garbage": ("a.dxf", b"this is no drawing at all\n" * 20, "a.dxf"),
    "svg garbage": ("a.svg", b"<html></html>", "no svg element"),
    "svg without curves": ("a.svg", b'<svg xmlns="http://www.w3.org/2000/svg"><text>hi</text></svg>', "no curve"),
    "svg torn": ("a.svg", b'<svg xmlns="http://www.w3.org/2000/svg"><path d="M 0 0 L', "a.svg"),
    "other kind": ("a.txt", b"0,0", "not a kind of file"),
}


@pytest.mark.parametrize(("name", "data", "message"), BAD.values(), ids=BAD)
def test_bad_files_are_refused_by_name_and_reason(tmp_path, name, data, message):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(BadInput, match=message) as caught:
        read_paths(tmp_path / name)
    assert name in str(caught.value)


WRITTEN = {
    "corners": PointShape(tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (300, 0, 0), (300, 200, 50)])),
    "smooth": PointShape(tuple(PathPoint(p, "smooth") for p in [(0, 0, 0), (300, 0, 0), (300, 200, 50), (0, 500, 0)])),
    "arc": ArcShape((0, 0, 0), (100, 0, 0), 135.0),
    "ellipse": EllipseShape((1, 2, 3), 100, 250, 30),
    "rectangle": RectangleShape((0, 0, 0), 600, 400, 80, 2.5),
}


@pytest.mark.parametrize("shape", WRITTEN.values(), ids=WRITTEN)
def test_what_is_written_as_dxf_is_read_back_as_the_same_line(tmp_path, shape):
    path = Path("path-1", "Way: out", shape)
    write_path(path, tmp_path / "way.dxf")
    (made,) = paths(tmp_path / "way.dxf")
    assert made.name == "Way- out"
    one, two = path_curve(path).curve, path_curve(made).curve
    assert two.length == pytest.approx(one.length, rel=1e-4)
    for place in one.position(np.linspace(0, one.length, 30)):
        assert np.linalg.norm(two.position([two.nearest(place)])[0] - place) < 0.1
    # and another program's reader agrees
    assert ezdxf.readfile(tmp_path / "way.dxf").header["$INSUNITS"] == 4


def test_csv_holds_the_points_or_places_by_distance(tmp_path):
    path = Path("path-1", "Way", WRITTEN["corners"])
    write_path(path, tmp_path / "way.csv")
    (made,) = paths(tmp_path / "way.csv", 1.0)
    assert [p.position for p in made.shape.points] == [p.position for p in path.shape.points]
    write_path(path, tmp_path / "steps.csv", 10.0)
    table = np.loadtxt(tmp_path / "steps.csv", delimiter=",", skiprows=1)
    assert np.linalg.norm(np.diff(table, axis=0), axis=1).max() <= 10.0 + 1e-6
    with pytest.raises(BadInput, match=r"\.csv or \.dxf"):
        write_path(path, tmp_path / "way.txt")
    with pytest.raises(BadInput, match="cannot be written"):
        write_path(path, tmp_path / "none" / "way.csv")


@pytest.mark.parametrize("encoding", ["utf-8", "latin-1"])
def test_a_layer_in_a_western_encoding_keeps_its_name_and_can_be_saved(tmp_path, encoding):
    file = dxf(tmp_path, lambda m: m.add_line((0, 0), (100, 0), dxfattribs={"layer": "PLACE"}))
    file.write_bytes(file.read_bytes().replace(b"PLACE", "Straße".encode(encoding)))
    ((name, _),) = read_paths(file).shapes
    assert name == "Straße"
    assert msgspec.json.encode(add_paths(Project(), read_paths(file), 1.0))


def test_text_that_stands_for_no_bytes_becomes_valid_unicode():
    assert as_unicode("a\ud800b") == "a?b"
    assert as_unicode("Stra\udcdfe 漢字") == as_unicode("Stra\udcdfe 漢字").encode().decode()


def nested(depth, width, inner='<path id="g0" d="M0 0 L10 10"/>'):
    """A drawing that uses a group of so many of the group before, and so on."""
    groups = "".join(
        f'<g id="g{k}">' + f'<use xlink:href="#g{k - 1}" x="3"/>' * width + "</g>" for k in range(1, depth + 1)
    )
    head = '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink">'
    return f'{head}<defs>{inner}{groups}</defs><use xlink:href="#g{depth}"/></svg>'


def test_a_drawing_that_uses_its_parts_again_and_again_has_a_limit(tmp_path):
    file = tmp_path / "nested.svg"
    file.write_text(nested(2, 6))
    assert len(read_paths(file).shapes) == 36
    # a large drawing is none for that: the longest of its curves come in
    lines = "".join(f'<path d="M0 {k} L{k} 10"/>' for k in range(1, 25_000))
    file.write_text(f'<svg xmlns="http://www.w3.org/2000/svg">{lines}</svg>')
    assert used_again(file.read_bytes()) == 0
    file.write_text(nested(40, 10))
    with pytest.raises(
        BadInput, match=r"“.*nested.svg” uses its elements again more than 20,000 times; export a part of it"
    ):
        read_paths(file)
    file.write_text(nested(3, 2, '<g id="g0"><use xlink:href="#g2"/></g>'))
    with pytest.raises(BadInput, match=r"nested.svg” cannot be read: an element of it uses itself"):
        read_paths(file)
