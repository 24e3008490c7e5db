"""Rods between pins: level, pointing, slider-cranks, four-bars and copies."""

import numpy as np
import pytest
from shapes import box_mesh

from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Axle, Coupled, Part, Pin, Placement, Project, Rod, TimedRotation
from kestrav.core.editing.mechanism_making import add_rod, copy_rod, couple, lengthened, rod_lengths, shortfalls
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.parts.solids import geometry_record

UP = Axle((0, 0, 0), (0, 0, 1))
TIMES = np.linspace(0.0, 4.0, 481)
R, L = 40.0, 130.0


def spinning(*parts, turns=2.0):
    made = Project(parts=(Part("part-1", "Crank"), *parts))
    return edits.add(made, TimedRotation("rotation-1", "Turns", "part-1", UP, end=4.0, turns=turns, rpm=None))


def slider_crank(offset=0.0, **fields):
    """A crank of 40 mm about z, a rod of 130 mm, a slider along x, as it stands at crank angle 0."""
    at = R + np.sqrt(L**2 - offset**2)
    made = spinning(
        Part("part-2", "Rod", placement=Placement((R, 0, 0))),
        Part("part-3", "Slider", placement=Placement((at, offset, 0))),
    )
    turn = np.arctan2(offset, at - R)
    made = edits.update(made, "part-2", placement=Placement((R, 0, 0), (np.cos(turn / 2), 0, 0, np.sin(turn / 2))))
    rod = Rod(
        "rod-1", "Rod", "part-2", Pin("part-1", (R, 0, 0)), (0, 0, 0), (L, 0, 0), "slider", Pin("part-3"), **fields
    )
    return edits.add(made, rod)


@pytest.mark.parametrize("offset", [0.0, 25.0])
def test_a_slider_crank_goes_by_its_closed_form(offset):
    made = slider_crank(offset)
    theta = 2 * np.pi * 2 * TIMES / 4
    # the slider-crank of any handbook: x = r cos θ + sqrt(l² - (r sin θ - e)²)
    told = R * np.cos(theta) + np.sqrt(L**2 - (R * np.sin(theta) - offset) ** 2)
    slider = Motion(made).poses("part-3", TIMES)
    assert slider[:, 0, 3] == pytest.approx(told, abs=1e-9)
    assert slider[:, 1, 3] == pytest.approx(offset) and np.allclose(slider[:, :3, :3], np.eye(3))
    # the rod ends on both pins at all times
    rod = Motion(made).poses("part-2", TIMES)
    assert rod[:, :2, 3] == pytest.approx(R * np.column_stack([np.cos(theta), np.sin(theta)]), abs=1e-9)
    far = rod[:, :3, :3] @ [L, 0, 0] + rod[:, :3, 3]
    assert far == pytest.approx(slider[:, :3, 3], abs=1e-9)


def test_the_other_way_to_put_a_slider_crank_together():
    made = slider_crank(other=True)
    theta = 2 * np.pi * 2 * TIMES / 4
    told = R * np.cos(theta) - np.sqrt(L**2 - (R * np.sin(theta)) ** 2)
    assert Motion(made).poses("part-3", TIMES)[:, 0, 3] == pytest.approx(told, abs=1e-9)


def test_a_rod_too_short_stops_where_it_cannot_reach_and_says_by_how_much():
    made = lengthened(slider_crank(), "rod-1", 30.0)
    short = shortfalls(made, made.rods[0], TIMES)
    assert short.max() == pytest.approx(R - 30.0, abs=1e-6)
    assert np.isfinite(Motion(made).poses("part-3", TIMES)).all()
    assert shortfalls(slider_crank(), slider_crank().rods[0], TIMES).max() == 0.0
    with pytest.raises(BadInput, match="not possible"):
        lengthened(made, "rod-1", 0.0)


GROUND, ROCKER = 150.0, 90.0


def four_bar(crank=R, coupler=L, rocker=ROCKER, ground=GROUND, other=False, turns=2.0):
    """A crank about z, a coupler, a rocker about an axle 150 mm along x, as they stand at crank angle 0."""
    away = ground - crank
    cosine = (rocker**2 + away**2 - coupler**2) / (2 * rocker * away)
    stands = np.pi - np.arccos(np.clip(cosine, -1, 1))
    pin = np.array([ground + rocker * np.cos(stands), rocker * np.sin(stands), 0.0])
    bank = np.arctan2(pin[1], pin[0] - crank)
    half = [(np.cos(a / 2), 0.0, 0.0, np.sin(a / 2)) for a in (bank, stands)]
    made = spinning(
        Part("part-2", "Coupler", placement=Placement((crank, 0, 0), half[0])),
        Part("part-3", "Rocker", placement=Placement((ground, 0, 0), half[1])),
        turns=turns,
    )
    rod = Rod(
        "rod-1", "Coupler", "part-2", Pin("part-1", (crank, 0, 0)), (0, 0, 0), (coupler, 0, 0), "rocker",
        Pin("part-3", (rocker, 0, 0)), axle=UP, other=other,
    )  # fmt: skip
    return edits.add(made, rod), stands


def test_a_four_bar_fulfils_freudensteins_equation():
    made, stands = four_bar()
    theta = 2 * np.pi * 2 * TIMES / 4
    psi = stands + Motion(made).angles(made.rods[0], TIMES)
    # K1 cos ψ - K2 cos θ + K3 = cos(θ - ψ) (F. Freudenstein, "Approximate Synthesis of Four-Bar Linkages", 1955)
    k1, k2 = GROUND / R, GROUND / ROCKER
    k3 = (R**2 + ROCKER**2 + GROUND**2 - L**2) / (2 * R * ROCKER)
    assert k1 * np.cos(psi) - k2 * np.cos(theta) + k3 == pytest.approx(np.cos(theta - psi), abs=1e-9)
    assert psi[0] == pytest.approx(stands) and psi[-1] == pytest.approx(stands)  # a rocker comes back
    coupler = Motion(made).poses("part-2", TIMES)
    pin = Motion(made).poses("part-3", TIMES)[:, :3, :3] @ [ROCKER, 0, 0] + [GROUND, 0, 0]
    assert coupler[:, :3, :3] @ [L, 0, 0] + coupler[:, :3, 3] == pytest.approx(pin, abs=1e-9)
    other, _ = four_bar(other=True)
    turned = Motion(other).angles(other.rods[0], TIMES) + stands
    assert k1 * np.cos(turned) - k2 * np.cos(theta) + k3 == pytest.approx(np.cos(theta - turned), abs=1e-9)
    assert abs(turned[0] - psi[0]) > 0.1


def test_a_parallel_crank_goes_on_through_its_dead_centres():
    # rocker as long as crank and coupler as the ground: both ways to put it together meet twice a turn
    made, stands = four_bar(R, 150.0, R, 150.0, turns=3.0)
    made = edits.update(made, "rotation-1", turns=3.0)
    turned = Motion(made).angles(made.rods[0], TIMES)
    assert abs(stands) < 1e-6
    assert turned == pytest.approx(2 * np.pi * 3 * TIMES / 4, abs=1e-6)
    odd = np.array([0.31, 1.0 / 3 * 2, 2.0000001, 3.9])
    assert Motion(made).angles(made.rods[0], odd) == pytest.approx(2 * np.pi * 3 * odd / 4, abs=1e-6)


def test_a_mechanism_that_cannot_close_says_by_how_much():
    made, _ = four_bar()
    made = lengthened(made, "rod-1", 90.0)
    far = GROUND + R - 90.0 - ROCKER
    assert shortfalls(made, made.rods[0], TIMES).max() == pytest.approx(far, abs=1e-6)
    assert np.isfinite(Motion(made).poses("part-2", TIMES)).all()


def test_a_level_rod_stays_level_and_turns_what_is_coupled_to_it():
    made = spinning(
        Part("part-2", "Rod", placement=Placement((R, 0, 5))), Part("part-3", "Wheel", placement=Placement((300, 0, 0)))
    )
    made = edits.add(made, Rod("rod-1", "Rod", "part-2", Pin("part-1", (R, 0, 5)), coupled=(Coupled("part-3", UP),)))
    theta = 2 * np.pi * 2 * TIMES / 4
    rod = Motion(made).poses("part-2", TIMES)
    assert np.allclose(rod[:, :3, :3], np.eye(3))
    assert rod[:, :3, 3] == pytest.approx(
        np.column_stack([R * np.cos(theta), R * np.sin(theta), np.full(len(theta), 5.0)])
    )
    assert Motion(made).turned("part-3", (0, 0, 1), TIMES) == pytest.approx(theta, abs=1e-9)
    # every point of it goes on a circle: also where it would sit on the wheel's pin
    pin = Motion(made).poses("part-3", TIMES)[:, :3, :3] @ [R, 0, 5] + [300, 0, 0]
    assert rod[:, :3, 3] + [300, 0, 0] == pytest.approx(pin, abs=1e-9)


def test_a_rod_points_at_its_second_pin_and_tells_its_length():
    made = spinning(Part("part-2", "Rod"), Part("part-3", "Post", placement=Placement((200, 0, 0))))
    made = edits.add(
        made, Rod("rod-1", "Rod", "part-2", Pin("part-1", (R, 0, 0)), (0, 0, 0), (160, 0, 0), "points", Pin("part-3"))
    )
    theta = 2 * np.pi * 2 * TIMES / 4
    rod = Motion(made).poses("part-2", TIMES)
    way = np.array([200, 0, 0]) - rod[:, :3, 3]
    assert rod[:, :3, 0] == pytest.approx(way / np.linalg.norm(way, axis=1)[:, None], abs=1e-12)
    assert np.allclose(rod[:, 2, 2], 1.0)  # it stays in its plane
    told = np.sqrt(R**2 + 200**2 - 2 * R * 200 * np.cos(theta))
    assert rod_lengths(made, made.rods[0], TIMES) == pytest.approx(told)


def standing_mechanism():
    """A slider-crank whose solids stand as built, at crank angle 0."""
    shapes = {"Crank": box_mesh(80, 10, 10), "Rod": box_mesh(L, 8, 8), "Slider": box_mesh(30, 30, 30)}
    places = {"Crank": (0, 0, 0), "Rod": (R + L / 2, 0, 20), "Slider": (R + L, 0, 20)}
    parts = [
        Part(f"part-{k}", name, placement=Placement(places[name]), geometry=shape.hash)
        for k, (name, shape) in enumerate(shapes.items(), 1)
    ]
    meshes = {shape.hash: shape for shape in shapes.values()}
    made = Project(parts=tuple(parts), geometry=tuple(geometry_record(m) for m in meshes.values()))
    return edits.add(made, TimedRotation("rotation-1", "Turns", "part-1", UP, end=4.0, turns=2.0, rpm=None)), meshes


def test_a_mechanism_is_read_as_it_stands():
    made, meshes = standing_mechanism()
    made = add_rod(made, meshes, "part-2", "part-1", "slider", "part-3")
    rod = made.rods[0]
    assert rod.crank.at == pytest.approx((R, 0, 20)) and rod.line == pytest.approx((1, 0, 0))
    theta = 2 * np.pi * 2 * TIMES / 4
    told = R * np.cos(theta) + np.sqrt(L**2 - (R * np.sin(theta)) ** 2)
    assert Motion(made).poses("part-3", TIMES)[:, 0, 3] == pytest.approx(told, abs=1e-6)
    with pytest.raises(BadInput, match="second part"):
        add_rod(made, meshes, "part-2", "part-1", "rocker")


def test_linked_copies_follow_with_offset_and_phase():
    made, meshes = standing_mechanism()
    made = add_rod(made, meshes, "part-2", "part-1", "slider", "part-3")
    made = copy_rod(made, meshes, "rod-1", 4, (0, 0, 50), 90.0)
    assert len(made.rods) == 4 and len({r.link for r in made.rods}) == 1
    theta = 2 * np.pi * 2 * TIMES / 4
    for k, rod in enumerate(made.rods):
        turned = theta + k * np.pi / 2
        told = R * np.cos(turned) + np.sqrt(L**2 - (R * np.sin(turned)) ** 2)
        slider = Motion(made).poses(rod.to.part, TIMES)
        assert slider[:, 0, 3] == pytest.approx(told, abs=1e-6)
        assert slider[:, 2, 3] == pytest.approx(20 + 50 * k)
    # linked: a change of the length is one of all
    assert {r.far for r in lengthened(made, "rod-2", 140.0).rods} == {lengthened(made, "rod-2", 140.0).rods[0].far}
    with pytest.raises(BadInput, match="2 to 100"):
        copy_rod(made, meshes, "rod-1", 1, (0, 0, 1), 0.0)


def test_more_parts_are_coupled_and_what_turns_twice_is_refused():
    made, meshes = standing_mechanism()
    made = add_rod(made, meshes, "part-2", "part-1", "level", "part-3")
    assert made.rods[0].coupled[0].part == "part-3"
    with pytest.raises(BadInput, match="would drive itself"):
        couple(made, meshes, "rod-1", ["part-3"])
    with pytest.raises(BadInput, match="itself or its crank"):
        couple(made, meshes, "rod-1", ["part-1"])
    slider = edits.remove(made, "rod-1")
    slider = add_rod(slider, meshes, "part-2", "part-1", "slider", "part-3")
    with pytest.raises(BadInput, match="does not stay level"):
        couple(slider, meshes, "rod-1", ["part-3"])


@pytest.mark.parametrize(
    ("rod", "complaint"),
    [
        (Rod("r", "R", "part-2", Pin("part-2")), "hangs on itself"),
        (Rod("r", "R", "part-2", Pin("part-1"), keeps="slider"), "no second pin"),
        (Rod("r", "R", "part-2", Pin("part-1"), keeps="points", to=Pin("part-1")), "both pins on one part"),
        (Rod("r", "R", "part-2", Pin("part-1"), far=(0, 0, 0), keeps="points", to=Pin("part-3")), "needs a length"),
        (Rod("r", "R", "part-2", Pin("part-1"), keeps="slider", to=Pin("part-3"), line=(0, 0, 0)), "no direction"),
        (Rod("r", "R", "part-2", Pin("part-7")), "does not hold"),
    ],
)
def test_rods_that_cannot_be_are_refused(rod, complaint):
    made = Project(parts=(Part("part-1", "Crank"), Part("part-2", "Rod"), Part("part-3", "Slider")))
    with pytest.raises(BadInput, match=complaint):
        edits.add(made, rod)


def test_what_is_driven_by_what_it_drives_is_refused():
    made = Project(parts=(Part("part-1", "Crank"), Part("part-3", "Slider"), Part("part-2", "Rod", "part-3")))
    rod = Rod("rod-1", "R", "part-2", Pin("part-1"), keeps="points", to=Pin("part-3"))
    assert edits.add(made, rod)
    nested = Project(parts=(Part("part-3", "Slider"), Part("part-1", "Crank", "part-3"), Part("part-2", "Rod")))
    with pytest.raises(BadInput, match="carried or driven by itself"):
        edits.add(nested, edits.change(rod, keeps="slider"))


def test_a_rod_goes_with_its_parts_and_lets_go_of_coupled_ones():
    made, meshes = standing_mechanism()
    made = add_rod(made, meshes, "part-2", "part-1", "level", "part-3")
    left = edits.remove(made, "part-3")
    assert left.rods[0].coupled == () and get(left, "rod-1")
    assert edits.remove(made, "part-1").rods == ()
