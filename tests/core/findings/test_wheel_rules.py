"""Rules about wheels; each mend removes its finding."""

import pytest
from shapes import wheeled as trolley

from kestrav.core.document import edits
from kestrav.core.document.records import Axle, Placement
from kestrav.core.editing.wheel_making import add_castor, add_wheels
from kestrav.core.findings.check import check


@pytest.fixture
def rolling():
    """A trolley with a wheel on the floor that rolls without fault."""
    project, meshes = trolley()
    made = add_castor(add_wheels(project, meshes, ["part-3"]), "part-2")
    return made, meshes


def found(made, rule, meshes):
    return [f for f in check(made, meshes).findings if f.rule == rule]


RULES = ("wheel-slip", "wheel-axle-along", "wheel-dragged", "wheel-off-axle", "wheel-radius", "wheel-off-ground")


def test_a_wheel_that_rolls_is_not_spoken_of(rolling):
    made, meshes = rolling
    assert not [f for rule in RULES for f in found(made, rule, meshes)]


@pytest.mark.parametrize(
    ("fields", "rule"),
    [
        ({"slip": 0.02}, "wheel-slip"),
        ({"axle": Axle((5, 0, 0), (1, 0, 0))}, "wheel-axle-along"),
        ({"axle": Axle((5, 0, 3), (0, 1, 0))}, "wheel-off-axle"),
        ({"radius": 55.0}, "wheel-radius"),
    ],
)
def test_faults_of_wheels_have_mends(rolling, fields, rule):
    made, meshes = rolling
    made = edits.update(made, "wheel-1", **fields)
    (fault,) = found(made, rule, meshes)
    assert not found(fault.fix.edit(made), rule, meshes)


def test_slip_is_told_in_mm(rolling):
    made, meshes = rolling
    (fault,) = found(edits.update(made, "wheel-1", slip=-0.05), "wheel-slip", meshes)
    assert fault.value == pytest.approx(50) and fault.unit == "mm"


@pytest.mark.parametrize(("height", "how"), [(60, "above"), (40, "sunk into")])
def test_a_wheel_off_the_ground_is_found(rolling, height, how):
    made, meshes = rolling
    made = edits.update(made, "part-2", placement=Placement((300, 200, height)))
    (fault,) = found(made, "wheel-off-ground", meshes)
    assert how in fault.detail and fault.value == pytest.approx(10, abs=1e-6)


def test_a_wheel_dragged_across_is_noted(rolling):
    made, meshes = rolling
    made = edits.update(made, "castor-1", forward=(0.8, 0.6, 0.0))
    made = edits.remove(made, "castor-1")
    made = edits.update(made, "wheel-1", axle=Axle((5, 0, 0), (0.3, 0.954, 0.0)))
    assert found(made, "wheel-dragged", meshes)
