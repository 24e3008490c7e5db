"""Shaping whole paths: what stays the same, and exact lengths."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    HelixShape,
    Path,
    PathPoint,
    PointShape,
    Project,
    RectangleShape,
)
from kestrav.core.errors import BadInput
from kestrav.core.geometry.transforms import rigid
from kestrav.core.paths import shaping
from kestrav.core.paths.path_curves import path_curve

WAVY = PointShape(
    tuple(PathPoint(p, "smooth") for p in [(0, 0, 0), (300, 100, 20), (500, -50, 80), (900, 0, 10), (1200, 300, 0)])
)
ANGULAR = PointShape(tuple(PathPoint(p, "corner") for p in [(0, 0, 0), (600, 0, 0), (600, 400, 50), (1500, 400, 50)]))
SHAPES = {
    "wavy": WAVY,
    "angular": ANGULAR,
    "arc": ArcShape((0, 0, 0), (200, 0, 0), 210.0, (0.2, -0.3, 1.0)),
    "ellipse": EllipseShape((10, 20, 30), 300, 150, 20, 15),
    "rectangle": RectangleShape((0, 0, 5), 600, 400, 90, 3.0, 12.0),
    "helix": HelixShape((0, 0, 0), 150, 90, 2.25),
}


def project(shape, trim=(0.0, 1.0)):
    return Project(paths=(Path("path-1", "Way", shape, trim),))


def curve(made):
    return path_curve(made.paths[0]).curve


def samples(made, count=60):
    found = curve(made)
    return found.position(np.linspace(0, found.length, count))


@pytest.mark.parametrize("trim", [(0.0, 1.0), (0.1, 0.7)])
@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_any_shape_becomes_free_points_within_the_tolerance(shape, trim):
    before = project(shape, trim)
    after = shaping.to_points(before, "path-1")
    made = after.paths[0]
    assert made.trim == (0.0, 1.0)
    assert all(p.kind == "free" for p in made.shape.points)
    assert made.shape.closed == curve(before).closed
    assert curve(after).length == pytest.approx(curve(before).length, rel=1e-4)
    line = curve(after)
    for place in samples(before, 40):
        assert np.linalg.norm(line.position([line.nearest(place)])[0] - place) < 0.03
    # kinks are where they were
    assert len(curve(after).kink_stations) == len(curve(before).kink_stations)


@pytest.mark.parametrize("trim", [(0.0, 1.0), (0.1, 0.7)])
@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_a_reversed_path_is_the_same_line_from_its_end(shape, trim):
    if isinstance(shape, (EllipseShape, RectangleShape)) and trim != (0.0, 1.0):
        trim = (0.25, 0.75)
    before, after = project(shape, trim), shaping.reverse(project(shape, trim), "path-1")
    assert curve(after).length == pytest.approx(curve(before).length, rel=1e-4)
    assert samples(after) == pytest.approx(samples(before)[::-1], abs=0.05)


@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_moved_turned_and_mirrored_paths_are_their_images(shape):
    before = project(shape)
    matrix = rigid(Rotation.from_euler("xyz", [0.3, -0.5, 1.1]).as_matrix(), (100, -200, 300))
    after = shaping.transformed(before, "path-1", matrix)
    expected = samples(before) @ matrix[:3, :3].T + matrix[:3, 3]
    assert samples(after) == pytest.approx(expected, abs=0.05)
    shifted = shaping.transformed(before, "path-1", rigid(np.eye(3), (1, 2, 3)))
    assert type(shifted.paths[0].shape) is type(shape)
    assert samples(shifted) == pytest.approx(np.add(samples(before), [1, 2, 3]), abs=1e-9)
    assert samples(shaping.mirrored(before, "path-1", "x", 50)) == pytest.approx(
        samples(before) * [-1, 1, 1] + [100, 0, 0], abs=0.05
    )


def test_a_distorting_matrix_is_refused():
    with pytest.raises(BadInput, match="distort"):
        shaping.transformed(project(WAVY), "path-1", np.diag([1.0, 2.0, 1.0, 1.0]))


@pytest.mark.parametrize("anchor", ["start", "middle", "end"])
@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_an_exact_length_by_scaling_keeps_its_anchor(shape, anchor):
    before = project(shape)
    after = shaping.set_length(before, "path-1", 4236.0, anchor)
    assert curve(after).length == pytest.approx(4236.0, rel=1e-9)
    assert type(after.paths[0].shape) is type(shape)
    places = [shaping.anchor_of(p.paths[0], anchor) for p in (before, after)]
    assert places[1] == pytest.approx(places[0], abs=1e-6)


@pytest.mark.parametrize("length", [1800.0, 2600.0])
@pytest.mark.parametrize("shape", [WAVY, ANGULAR], ids=["wavy", "angular"])
def test_an_exact_length_by_the_last_segment_moves_only_the_last_point(shape, length):
    after = shaping.set_length(project(shape), "path-1", length, "last")
    assert curve(after).length == pytest.approx(length, rel=1e-9)
    assert after.paths[0].shape.points[:-1] == shape.points[:-1]


@pytest.mark.parametrize(("length", "anchor"), [(0.0, "start"), (float("nan"), "end"), (-3.0, "last")])
def test_impossible_lengths_are_refused(length, anchor):
    with pytest.raises(BadInput, match="not possible"):
        shaping.set_length(project(WAVY), "path-1", length, anchor)


def test_a_closed_path_has_no_last_segment():
    with pytest.raises(BadInput, match="no last segment"):
        shaping.set_length(project(SHAPES["ellipse"]), "path-1", 500.0, "last")


@pytest.mark.parametrize("shape", SHAPES.values(), ids=SHAPES)
def test_raising_and_flattening(shape):
    up = shaping.raised(project(shape), "path-1", 750.0)
    assert shaping.anchor_of(up.paths[0], "start")[2] == pytest.approx(750.0)
    flat = shaping.flattened(project(shape), "path-1", 120.0)
    assert samples(flat)[:, 2] == pytest.approx(120.0, abs=1e-9)


def test_all_corners_are_rounded_by_what_fits():
    made = shaping.round_corners(project(ANGULAR), "path-1", 600.0)
    radii = [p.radius for p in made.paths[0].shape.points]
    assert radii[0] == radii[-1] == 0.0
    assert min(radii[1:-1]) > 0
    assert len(curve(made).kink_stations) == 0
    small = shaping.round_corners(project(ANGULAR), "path-1", 50.0)
    stations = np.linspace(0, curve(small).length, 4000)
    assert curve(small).curvature(stations).max() == pytest.approx(1 / 50, rel=1e-6)
    sharp = shaping.round_corners(small, "path-1", 0.0)
    assert sharp.paths[0].shape == ANGULAR
    with pytest.raises(BadInput, match="not made of points"):
        shaping.round_corners(project(SHAPES["arc"]), "path-1", 5.0)


@pytest.mark.parametrize(
    "shape",
    [EllipseShape((0, 0, 0), 500, 200), ArcShape((0, 0, 0), (300, 0, 0), 200.0), HelixShape((0, 0, 0), 100, 50, 2.0)],
)
def test_a_trim_by_angle_ends_at_that_angle(shape):
    path = project(shape).paths[0]
    share = shaping.share_at(path, 70.0)
    assert shaping.turn_of(path, share) == pytest.approx(70.0, abs=1e-6)
    made = project(shape, (0.0, share))
    x, y, _ = curve(made).position([np.inf])[0]
    if isinstance(shape, EllipseShape):
        x, y = x / 500, y / 200
    assert np.degrees(np.arctan2(y, x)) == pytest.approx(70.0, abs=1e-6)
    assert shaping.share_at(path, -5.0) == 0.0 and shaping.share_at(path, 5000.0) == 1.0
    assert shaping.turn_of(project(WAVY).paths[0], 0.5) is None
