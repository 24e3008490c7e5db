"""Charts as SVG and PNG, read back."""

import io
import xml.etree.ElementTree as ET

import numpy as np
import pytest
from PIL import Image
from shapes import box_mesh, make_project, straight

from kestrav.core.errors import BadInput
from kestrav.core.files.charts import Charted, drawn, write_chart
from kestrav.core.findings.charted import charted
from kestrav.core.findings.check import check

X = np.linspace(0.0, 4.0, 81)
LANES = [
    Charted("Clearance", "mm", X, 20 - 6 * np.sin(X), 16.0, [(1.0, 2.0)]),
    Charted("Nothing", "mm", X, np.full(81, np.nan)),
    Charted("Speed", "m/s", X, 0.1 * X),
]
SVG = "{http://www.w3.org/2000/svg}"


def test_an_svg_holds_its_text_its_curves_and_the_file_says_who_wrote_it(tmp_path):
    target = write_chart(LANES, tmp_path / "lanes.svg", "A cube & a post")
    root = ET.parse(target).getroot()
    assert root.tag == f"{SVG}svg"
    texts = " ".join("".join(t.itertext()) for t in root.iter(f"{SVG}text"))
    for text in ("A cube & a post", "Clearance in mm", "Speed in m/s", "time in s", "limit 16 mm"):
        assert text in texts
    assert "Nothing" not in texts
    assert b"Kestrav" in target.read_bytes()


@pytest.mark.parametrize("limit", [-5000.0, 9.0, 5e6])
def test_a_limit_far_off_the_curve_leaves_the_axes_their_room(limit):
    lane = Charted("Clearance", "mm", X, 300 + 0.1 * X, limit, [], 301.0)
    image = Image.open(io.BytesIO(drawn([lane] * 3, "A cube", "time in s", "png")))
    assert image.width > 1000  # no warning of matplotlib's that the layout failed, which would be an error


def test_a_name_with_signs_of_formulas_is_drawn_as_it_is():
    root = ET.fromstring(drawn([Charted("pump $\\frac{$", "mm", X, 0.1 * X)], "$x_1$", "time in s", "svg"))
    texts = " ".join("".join(t.itertext()) for t in root.iter(f"{SVG}text"))
    assert "pump $\\frac{$ in mm" in texts and "$x_1$" in texts


def test_the_curve_is_where_its_values_are():
    # the curve with most points of the drawing: as many as were given, rising as they do
    root = ET.fromstring(drawn([Charted("Speed", "m/s", X, 0.1 * X)], "T", "time in s", "svg"))
    paths = [p.get("d", "") for p in root.iter(f"{SVG}path")]
    numbers = [
        np.array([float(v) for v in d.replace("M", " ").replace("L", " ").split()]).reshape(-1, 2)
        for d in paths
        if set(d) <= set("ML0123456789.- \n") and d.count("L") > 1
    ]
    line = max(numbers, key=lambda n: np.ptp(n[:, 0]))
    slopes = (line[-1] - line[0]) / np.ptp(line[:, 0])
    assert np.allclose(line[:, 1] - line[0, 1], slopes[1] * (line[:, 0] - line[0, 0]), atol=0.6)


def test_a_png_shows_breaches_in_vermilion_and_has_the_same_bytes_again():
    one = drawn(LANES, "T", "time in s", "png")
    assert one == drawn(LANES, "T", "time in s", "png")
    with Image.open(io.BytesIO(one)) as image:
        picture = np.asarray(image.convert("RGB")).astype(int)
        assert image.width == 1440
    reddish = (picture[..., 0] - picture[..., 2]) > 25
    columns = np.nonzero(reddish[: picture.shape[0] // 2].any(axis=0))[0]
    # a quarter of the axis, from a quarter of it
    assert np.ptp(columns) == pytest.approx(0.25 * 1360, rel=0.08)


def test_what_cannot_be_drawn_or_written_is_told(tmp_path):
    with pytest.raises(BadInput, match="nothing to draw"):
        write_chart(LANES[1:2], tmp_path / "a.svg", "T")
    with pytest.raises(BadInput, match=r"give \.svg or \.png"):
        write_chart(LANES, tmp_path / "a.pdf", "T")
    (tmp_path / "b.svg").write_text("mine")
    with pytest.raises(BadInput, match="is there already"):
        write_chart(LANES, tmp_path / "b.svg", "T")
    assert (tmp_path / "b.svg").read_text() == "mine"
    with pytest.raises(BadInput):
        write_chart(LANES, tmp_path / "none" / "b.svg", "T")


def test_the_curves_of_a_project_are_its_clearance_and_its_speeds():
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-300, 0, 0)), "Post": (box_mesh(40, 40, 120), (0, 70, 0))},
        straight((-300, 0, 0), (300, 0, 0)),
        duration=2.0,
    )
    result = check(opened.project, opened.meshes)
    lanes = {lane.title: lane for lane in charted(opened.project, opened.meshes, result.clearance)}
    assert np.nanmin(lanes["Clearance"].values) == pytest.approx(20.0, abs=0.01)
    # the way is the integral of the speed
    assert np.trapezoid(lanes["Cube"].values, lanes["Cube"].x) == pytest.approx(0.6, rel=0.01)
