"""Light set-ups and their environments, colour temperatures, and what light shows as."""

import numpy as np
import pytest

from kestrav.core.colours import to_linear, to_srgb
from kestrav.core.document.light_setup import LightSetup
from kestrav.core.document.records import Project
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.light.environments import directions, irradiance
from kestrav.core.light.response import KNEE, light_shown_as, shown_light
from kestrav.core.light.setups import SETUPS, environment, gains, kelvin_colour, soft_boxes, surround

LUMA = np.array([0.2126, 0.7152, 0.0722])  # ITU-R BT.709-6


def test_directions_are_even_unit_vectors_that_begin_above():
    ways = directions(64)
    assert np.linalg.norm(ways, axis=-1) == pytest.approx(1.0)
    assert ways[0, :, 2].min() > 0.99 and ways[-1, :, 2].max() < -0.99
    # columns go from +y over +x
    assert ways[32, 0] @ [0, 1, 0] > 0.99 and ways[32, 32] @ [1, 0, 0] > 0.99


def test_an_even_environment_gives_what_its_luminance_says():
    # a surface under an even sky of luminance 1 gets π, which shows as white: E = π L (Lambert's law)
    assert irradiance(np.ones((256, 512, 3)), np.array([0.0, 0.0, 1.0])) == pytest.approx(1.0, abs=2e-4)


@pytest.mark.parametrize("name", SETUPS)
def test_a_set_up_gives_what_its_boxes_are_said_to_and_turns_with_its_light(name):
    light = LightSetup(name)
    key = soft_boxes(light)[0]
    boxes = environment(light, 128) - surround(light, directions(128))
    alone = irradiance(boxes, key.direction) @ LUMA
    assert alone >= 0.98 * key.strength
    turned = LightSetup(name, turn=90.0)
    assert soft_boxes(turned)[0].direction == pytest.approx([[0, -1, 0], [1, 0, 0], [0, 0, 1]] @ key.direction)
    # a quarter of a turn moves the picture by a quarter of its columns
    assert environment(turned, 64) == pytest.approx(
        np.roll(environment(light, 64), -32, axis=1), abs=0.02 * environment(light, 64).max()
    )
    brighter = LightSetup(name, level=1.0)
    assert environment(brighter, 64) == pytest.approx(2.0 * environment(light, 64))


def test_larger_boxes_give_as_much_and_are_less_bright():
    hard, soft = (environment(LightSetup("three-point", softness=s), 128) for s in (0.7, 1.4))
    key = soft_boxes(LightSetup("three-point"))[0].direction
    assert irradiance(soft, key) == pytest.approx(irradiance(hard, key), rel=0.05)
    assert soft.max() < 0.5 * hard.max()


def test_colour_temperatures_have_the_places_that_the_standards_tabulate():
    # chromaticities of CIE illuminants A (2856 K) and D50 and of D65: CIE 15:2004, tables T.3
    from_rgb = np.array([[0.4124, 0.3576, 0.1805], [0.2126, 0.7152, 0.0722], [0.0193, 0.1192, 0.9505]])  # IEC 61966-2-1
    for kelvin, x, y in ((2856.0, 0.44757, 0.40745), (5003.0, 0.34567, 0.35850), (6504.0, 0.31272, 0.32903)):
        xyz = from_rgb @ kelvin_colour(kelvin)
        assert xyz[:2] / xyz.sum() == pytest.approx([x, y], abs=0.004)
        assert kelvin_colour(kelvin) @ LUMA == pytest.approx(1.0)


def test_what_shines_at_the_white_balance_shows_as_grey():
    light = LightSetup(white=3200.0, exposure=1.0)
    shown = kelvin_colour(3200.0) * gains(light)
    assert shown == pytest.approx([2.0, 2.0, 2.0], rel=1e-6)
    assert gains(LightSetup()) == pytest.approx([1.0, 1.0, 1.0])


def test_light_is_shown_as_it_is_up_to_the_knee_and_never_beyond_white():
    light = np.linspace(0, 50, 5001)
    shown = shown_light(light)
    assert shown[light <= KNEE] == pytest.approx(to_srgb(light[light <= KNEE]))
    assert np.all(np.diff(shown) >= 0) and shown.max() <= 1.0
    # the shoulder leaves the knee with the same slope
    steps = np.diff(to_linear(shown_light(np.array([KNEE - 1e-4, KNEE, KNEE + 1e-4]))))
    assert steps[0] == pytest.approx(steps[1], rel=1e-2)
    colours = np.linspace(0, 0.99, 50)
    assert shown_light(light_shown_as(colours)) == pytest.approx(colours, abs=1e-9)


@pytest.mark.parametrize(
    ("fields", "said"),
    [({"softness": 0.0}, "softness"), ({"white": 500.0}, "white balance"), ({"exposure": 20.0}, "exposure")],
)
def test_light_that_cannot_be_is_refused(fields, said):
    with pytest.raises(BadInput, match=said):
        validate(Project(light_setup=LightSetup(**fields)))
