"""Depth of field: against the lens formula and the tables of photographers' handbooks."""

import msgspec
import numpy as np
import pytest

from kestrav.core.camera.focusing import aperture_diameter, focus_distances, open_times, sharp_span
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Camera, Focus, FocusKey, PointAim
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.poses import world_poses

EYE = Camera(
    "camera-1", "Eye", PointAim((0.0, 0.0, 0.0)), position=(0.0, -2000.0, 0.0), focal_length=50.0, f_number=2.8
)


def image(opening, f, s, d):
    """How large on the sensor the image of a point at d is: 1/f = 1/s + 1/s', the sensor stands where s comes together, d does at d'."""
    sensor, meets = 1 / (1 / f - 1 / s), 1 / (1 / f - 1 / d)
    return opening * abs(meets - sensor) / meets


def test_the_sharp_span_is_that_of_the_hyperfocal_distance():
    # at the hyperfocal distance H = f²/(N c) + f all is sharp from H/2 to infinity (W. J. Smith, "Modern Optical Engineering")
    f, n, c = 50.0, 8.0, 0.03
    hyperfocal = f**2 / (n * c) + f
    near, far = sharp_span(msgspec.structs.replace(EYE, f_number=n), f, hyperfocal, c)
    assert near == pytest.approx(hyperfocal / 2, rel=0.01) and far > 1e6
    near, far = sharp_span(EYE, f, 2000.0, c)
    opening = float(aperture_diameter(EYE, f))
    assert [image(opening, f, 2000.0, d) for d in (near, far)] == pytest.approx([c, c])
    assert sharp_span(msgspec.structs.replace(EYE, f_number=0.0), f, 2000.0, c) == (0.0, np.inf)


def distances(passing, focus, times):
    project = edits.add(passing.project, msgspec.structs.replace(EYE, focus=focus))
    poses = world_poses(project, times)
    seen = views(project, passing.meshes, project.cameras[0], times, poses, 1.5)
    return focus_distances(project, project.cameras[0], times, poses, seen)


def test_focus_is_at_the_aim_a_point_a_part_or_keyed(passing):
    times = [0.0, 1.0, 2.0]
    assert distances(passing, Focus(), times) == pytest.approx([2000.0] * 3)
    assert distances(passing, Focus(point=(500.0, -500.0, 0.0)), times) == pytest.approx([1500.0] * 3)
    keys = (FocusKey(0.0, 1000.0), FocusKey(2.0, 3000.0))
    assert distances(passing, Focus(keys=keys), times) == pytest.approx([1000.0, 2000.0, 3000.0])
    # the cube passes across the view: along the axis it stays where it is
    assert distances(passing, Focus(part="part-1"), times) == pytest.approx([2000.0] * 3, abs=15.0)


def test_the_shutter_is_open_from_the_frame_on_in_even_parts():
    found = open_times(1.0, 25.0, 180.0, 8)
    assert found[0] > 1.0 and found[-1] < 1.02 and np.diff(found) == pytest.approx(0.02 / 8)
    assert found.mean() == pytest.approx(1.01)
    assert open_times(1.0, 25.0, 0.0, 8) == pytest.approx([1.0])


@pytest.mark.parametrize(
    "fields", [{"f_number": -1.0}, {"f_number": 0.1}, {"focus": Focus(keys=(FocusKey(1.0, 10.0), FocusKey(0.5, 10.0)))}]
)
def test_a_lens_that_cannot_be_is_refused(passing, fields):
    with pytest.raises(BadInput):
        edits.add(passing.project, msgspec.structs.replace(EYE, **fields))
