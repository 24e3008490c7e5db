"""Daylight against published examples and formulas, and surroundings against what was put into them."""

import math

import numpy as np
import pytest

from kestrav.core.colours import LUMA, packed_light, unpacked_light
from kestrav.core.document.light_setup import Daylight, LightSetup, Surroundings
from kestrav.core.document.records import Project
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.light.daylight import Sun, level_illuminance, metered, sky, sun_of, sunlight
from kestrav.core.light.environments import UP, directions, irradiance, solid_angles
from kestrav.core.light.exposure import METERED
from kestrav.core.light.setups import environment, key_share, soft_boxes, surround


def test_the_sun_stands_where_the_published_example_says():
    # I. Reda, A. Andreas, "Solar Position Algorithm for Solar Radiation Applications", NREL/TP-560-34302, table A5.1: zenith 50.11162°,
    # azimuth 194.34024° (from memory)
    sun = sun_of(Daylight("2003-10-17", "12:30:30", -7.0, 39.742476, -105.1786))
    assert 90.0 - sun.elevation == pytest.approx(50.11162, abs=0.02)
    assert sun.azimuth == pytest.approx(194.34024, abs=0.02)
    # clockwise from +y as north: a little west of south
    assert sun.direction == pytest.approx(
        [math.sin(math.radians(194.34)) * 0.7673, math.cos(math.radians(194.34)) * 0.7673, 0.6413], abs=1e-3
    )


@pytest.mark.parametrize("elevation", [15.0, 30.0, 50.0, 70.0])
def test_sun_and_sky_give_what_the_illuminating_engineers_formulas_say(elevation):
    # IESNA, "Recommended Practice for the Calculation of Daylight Availability" (1984), clear sky, from memory: sunlight
    # 127.5 klx · exp(−0.21 / sin h), sky on a level surface 0.8 + 15.5 √sin h klx
    high = math.sin(math.radians(elevation))
    sun = Sun(elevation, 180.0)
    assert sunlight(sun, 2.6) @ LUMA == pytest.approx(127_500 * math.exp(-0.21 / high), rel=0.2)
    ways = directions(96)
    given = irradiance(sky(ways, sun, 2.6) * (ways[..., 2:] > 0), UP) @ LUMA * math.pi
    assert given == pytest.approx(800 + 15_500 * math.sqrt(high), rel=0.15)


def test_the_sky_is_blue_and_brightest_about_the_sun():
    ways, sun = directions(64), Sun(35.0, 120.0)
    light = sky(ways, sun, 2.5)
    luma = light @ LUMA
    brightest = ways[np.unravel_index(luma.argmax(), luma.shape)]
    assert brightest @ sun.direction > 0.97
    away = light[
        np.unravel_index(np.abs(ways - [-sun.direction[0], -sun.direction[1], 0.8]).sum(axis=-1).argmin(), luma.shape)
    ]
    assert away[2] > 1.2 * away[0]
    # what is below the horizon is the ground, everywhere alike
    below = light[ways[..., 2] < 0]
    assert np.ptp(below, axis=0).max() == 0


def test_a_low_sun_is_red_and_one_below_the_horizon_gives_nothing():
    low, high = sunlight(Sun(3.0, 0.0), 3.0), sunlight(Sun(60.0, 0.0), 3.0)
    assert low[0] / low[2] > 2.0 * high[0] / high[2] and low.sum() < 0.3 * high.sum()
    assert not sunlight(Sun(-0.5, 0.0), 3.0).any()


def test_dusk_goes_over_into_night_without_a_step():
    given = []
    for elevation in np.arange(8.0, -19.0, -0.5):
        ways = directions(48)
        light = sky(ways, Sun(float(elevation), 0.0), 3.0) * (ways[..., 2:] > 0)
        given.append(irradiance(light, UP) @ LUMA * math.pi)
    steps = np.array(given[1:]) / np.array(given[:-1])
    assert steps.max() < 1.05 and steps.min() > 0.3
    assert given[-1] < 0.01


def test_a_level_white_surface_shows_just_below_white_in_daylight_and_lamps_count_at_night():
    light = LightSetup("daylight")
    assert irradiance(environment(light, 512), UP) @ LUMA == pytest.approx(METERED, rel=0.03)
    night = Daylight(clock="00:30")
    assert sum(level_illuminance(night)) < 1.0 and metered(night) == 1.0


def test_the_light_of_daylight_turns_with_north():
    straight, turned = LightSetup("daylight"), LightSetup("daylight", turn=90.0)
    before, after = (soft_boxes(light)[0].direction for light in (straight, turned))
    assert after == pytest.approx([-before[1], before[0], before[2]])


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"date": "2026-13-01"}, "no date"),
        ({"clock": "25:00"}, "no date and time"),
        ({"clock": "12:00+02:00"}, "time zone"),
        ({"utc": 20.0}, "ahead of UTC"),
        ({"latitude": 91.0}, "latitude"),
        ({"longitude": -181.0}, "longitude"),
        ({"turbidity": 1.0}, "turbidity"),
        ({"date": "1700-01-01"}, "1900 to 2200"),
    ],
)
def test_what_is_no_daylight_is_refused(fields, told):
    with pytest.raises(BadInput, match=told):
        validate(Project(light_setup=LightSetup("daylight", daylight=Daylight(**fields))))


def test_the_sun_stands_somewhere_at_the_poles_too():
    for latitude in (90.0, -90.0):
        sun = sun_of(Daylight(latitude=latitude))
        assert math.isfinite(sun.elevation) and math.isfinite(sun.azimuth)


def lamp_picture():
    ways = directions(256)
    spot = ways @ (np.array([0.6, 0.0, 0.8])) > math.cos(math.radians(4.0))
    light = np.full((256, 512, 3), 0.2)
    light[spot] = [300.0, 200.0, 100.0]
    return light


def test_light_comes_back_from_its_text_within_a_hundredth():
    light = lamp_picture() * np.linspace(0.001, 1e4, 512)[None, :, None]
    back = unpacked_light(packed_light(light), 256)
    brightest = light.max(axis=-1, keepdims=True)
    assert (np.abs(back - light) / brightest).max() < 0.01


def test_what_stands_out_of_surroundings_is_their_key_light():
    light = LightSetup("environment", surroundings=Surroundings("a.hdr", packed_light(lamp_picture())))
    (key,) = soft_boxes(light)
    assert key.direction == pytest.approx([0.6, 0.0, 0.8], abs=0.01)
    assert key.width == pytest.approx(4.0, abs=0.3)
    assert key.colour[0] / key.colour[2] == pytest.approx(3.0, rel=0.05)
    # what is left and the key light are all of it, whatever the units of the file
    whole = irradiance(environment(light, 256), UP) @ LUMA
    assert whole == pytest.approx(METERED, rel=1e-3)
    rest = irradiance(surround(light, directions(256)), UP) @ LUMA
    assert rest + key.strength * key.direction[2] == pytest.approx(whole, rel=0.01)
    # a smaller picture of them gives as much
    assert (environment(light, 64) * solid_angles(64)[..., None]).sum() == pytest.approx(
        (environment(light, 256) * solid_angles(256)[..., None]).sum(), rel=0.01
    )


def test_even_surroundings_have_no_key_light_and_none_are_even():
    for surroundings in (Surroundings(), Surroundings("a", packed_light(np.full((256, 512, 3), 5.0)))):
        light = LightSetup("environment", surroundings=surroundings)
        assert soft_boxes(light)[0].strength == 0
        assert np.ptp(environment(light, 64)) < 0.02


@pytest.mark.parametrize("picture", ["!", "QUJD", "eJw=", "é" * 8])
def test_damaged_surroundings_are_refused(picture):
    with pytest.raises(BadInput, match="damaged"):
        validate(Project(light_setup=LightSetup("environment", surroundings=Surroundings("a", picture))))


def test_a_key_light_takes_its_shadow_of_what_it_gives():
    # by day most of the light is the sun's; at night, and where it comes from all around, nothing throws a shadow
    assert 0.6 < key_share(LightSetup("daylight")) < 0.95
    assert key_share(LightSetup("daylight", daylight=Daylight(clock="00:30"))) == 0
    assert key_share(LightSetup("environment")) == 0
