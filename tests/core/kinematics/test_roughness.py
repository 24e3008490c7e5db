"""Roughness: its spectrum, its greatest deviation, and that it repeats."""

import numpy as np
import pytest
from scipy.signal import welch

from kestrav.core.document import edits
from kestrav.core.document.records import AlongOrientation, Part, Path, PathPoint, PointShape, Project, Roughness, Run
from kestrav.core.geometry.transforms import rotation_angle
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.roughness import deviation


@pytest.mark.parametrize("seed", [1, 2, 77])
def test_its_power_lies_in_an_octave_about_its_wavelength(seed):
    # against SciPy's estimate of the spectrum (P. Welch's method)
    step, wavelength = 5.0, 200.0
    stations = np.arange(0, 400_000, step)
    values = deviation(Roughness(amplitude=2.0, wavelength=wavelength, seed=seed), stations, np.zeros(len(stations)))
    frequency, power = welch(values, 1 / step, nperseg=16_384)
    inside = (frequency > 1 / (wavelength * 1.5)) & (frequency < 1.5 / wavelength)
    assert power[inside].sum() > 0.99 * power.sum()
    assert np.abs(values).max() <= 2.0
    # seven waves of a seventh each: their mean square adds up
    assert np.mean(values**2) == pytest.approx(7 * (2 / 7) ** 2 / 2, rel=0.05)


def test_by_frequency_it_goes_with_time():
    times = np.linspace(0, 100, 20_001)
    values = deviation(Roughness(frequency=3.0), np.zeros(len(times)), times)
    frequency, power = welch(values, 200, nperseg=4096)
    assert 3 / 2**0.55 < frequency[np.argmax(power)] < 3 * 2**0.55


def test_it_repeats_and_differs_by_seed():
    stations = np.linspace(0, 3000, 500)
    rough = Roughness(seed=5)
    assert np.array_equal(deviation(rough, stations, stations), deviation(Roughness(seed=5), stations, stations))
    assert not np.allclose(deviation(rough, stations, stations), deviation(Roughness(seed=6), stations, stations))


@pytest.mark.parametrize(("axis", "row"), [("along", 0), ("side", 1), ("up", 2)])
def test_a_rough_run_stays_within_its_amplitude_along_one_axis(axis, row):
    made = Project(
        parts=(Part("part-1", "Trolley"),),
        paths=(Path("path-1", "Aisle", PointShape((PathPoint((0, 0, 0)), PathPoint((5000, 0, 0))))),),
    )
    made = edits.add(made, Run("run-1", "Rolls", "part-1", "path-1"))
    times = np.linspace(0, 4, 400)
    plain = Motion(made).poses("part-1", times)
    rough = Motion(edits.update(made, "run-1", roughness=(Roughness(axis, 3.0),))).poses("part-1", times)
    away = rough[:, :3, 3] - plain[:, :3, 3]
    assert np.ptp(away[:, row]) > 2 and np.abs(away).max() <= 3
    assert np.delete(away, row, axis=1) == pytest.approx(0)
    turned = edits.update(made, "run-1", orientation=AlongOrientation(), roughness=(Roughness("roll", 2.0),))
    angles = np.degrees(rotation_angle(plain[:, :3, :3], Motion(turned).poses("part-1", times)[:, :3, :3]))
    assert 1 < angles.max() <= 2
