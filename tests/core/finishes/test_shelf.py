"""The shelf of finishes, against optical constants and what surfaces can be."""

import numpy as np
import pytest

from kestrav.core.colours import linear, srgb_hex, to_linear, to_srgb
from kestrav.core.document.surface_checks import check_finish
from kestrav.core.document.surfaces import Finish
from kestrav.core.errors import BadInput
from kestrav.core.finishes.shelf import BY_NAME, METALS, SHELF

# optical constants n + ik of metals at about 610, 550 and 465 nm weighted to sRGB, as Mitsuba 3 distributes SOPRA's and Palik's tables
MEASURED = {
    "aluminium": ((1.658, 9.224), (0.880, 6.270), (0.521, 4.837)),
    "copper": ((0.201, 3.913), (0.924, 2.453), (1.102, 2.142)),
    "gold": ((0.143, 3.983), (0.375, 2.386), (1.442, 1.603)),
    "silver": ((0.155, 4.828), (0.117, 3.122), (0.138, 2.147)),
    "chromium": ((4.370, 5.207), (2.917, 4.231), (1.655, 3.755)),
    "nickel": ((2.367, 4.499), (1.663, 3.050), (1.467, 2.345)),
}


def test_the_shelf_has_thirty_finishes_and_more_of_different_names():
    names = [finish.name for _, finishes in SHELF for finish in finishes]
    assert len(names) == len(set(names)) >= 30
    for finish in BY_NAME.values():
        check_finish(finish)


@pytest.mark.parametrize("metal", MEASURED)
def test_metals_reflect_as_their_optical_constants_say(metal):
    # Fresnel's equations at normal incidence: M. Born, E. Wolf, "Principles of Optics", 7th ed., 14.2
    wanted = [((n - 1) ** 2 + k**2) / ((n + 1) ** 2 + k**2) for n, k in MEASURED[metal]]
    assert METALS[metal] == pytest.approx(wanted, abs=0.01)


def test_srgb_goes_there_and_back():
    # IEC 61966-2-1: the two pieces meet, and middle grey
    assert to_srgb(0.0031308) == pytest.approx(12.92 * 0.0031308)
    assert to_linear(0.5) == pytest.approx(0.21404, abs=1e-5)
    values = np.linspace(0, 1, 257)
    assert to_srgb(to_linear(values)) == pytest.approx(values, abs=1e-9)
    assert srgb_hex(linear("#2f7f8a")) == "#2f7f8a"


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"roughness": 1.2}, "120 %; it can be 0 % to 100 %"),
        ({"index": 0.5}, "1 to 5"),
        ({"colour": "red"}, "colour"),
        ({"grain": 0.0}, "above 0"),
    ],
)
def test_a_finish_that_no_surface_has_is_refused(fields, said):
    with pytest.raises(BadInput, match=said):
        check_finish(Finish("finish-1", "Odd", **fields))
