"""Typed quantities."""

import pytest

from kestrav.core.errors import BadInput
from kestrav.core.units import parse, show


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("12.5", "mm", 12.5),
        ("1.2 m", "mm", 1200.0),
        ("1 801.3 mm", "mm", 1801.3),
        ("1\u2009801,5", "mm", 1801.5),
        ("−3 cm", "mm", -30.0),
        ("1 in", "mm", 25.4),  # exactly, NIST Special Publication 811 (2008), appendix B.8
        ("3.6 km/h", "mm/s", 1000.0),
        ("1.5 min", "s", 90.0),
        ("24 fps", "fps", 24.0),
        ("1e3", "mm", 1000.0),
    ],
)
def test_typed_quantities_are_understood(text, unit, value):
    assert parse(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(("text", "unit"), [("", "mm"), ("abc", "mm"), ("5 kg", "mm"), ("1.2.3", "mm"), ("-", "s")])
def test_other_text_is_refused_with_a_reason(text, unit):
    with pytest.raises(BadInput, match="“"):
        parse(text, unit)


def test_numbers_are_shown_with_their_unit():
    assert show(1801.26, "mm") == "1\u2009801.3\u2009mm"
    assert show(-0.04, "mm") == "0.0\u2009mm"
    assert show(90, "°", 0) == "90°"
    assert parse(show(12345.6, "mm"), "mm") == pytest.approx(12345.6)


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("3*45 mm", "mm", 135.0),
        ("120°/4", "°", 30.0),
        ("1.2 m + 35", "mm", 1235.0),
        ("2 × (1 m − 35 cm)", "mm", 1300.0),
        ("1 m / 4", "mm", 250.0),
        ("3 m / 2 m", "mm", 1.5),
        ("-(2+3)", "mm", -5.0),
        ("1 000 * 2", "mm", 2000.0),
        ("7.2 km/h / 2", "mm/s", 1000.0),
        ("60 1/min + 1 1/s", "rpm", 120.0),
        ("-.5", "mm", -0.5),
    ],
)
def test_sums_are_worked_out(text, unit, value):
    assert parse(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "unit", "why"),
    [
        ("2 mm * 3 mm", "mm", "units do not come out"),
        ("2 / 3 mm", "mm", "units do not come out"),
        ("1 / 0", "mm", "divides by zero"),
        ("2 ** 9", "mm", "not a number"),
        ("2 * 5 kg", "mm", "“kg” does not fit"),
        ("(" * 150, "mm", "not a number"),
        ("1e308 * 10", "mm", "not a finite number"),
        ("1+" * 200, "mm", "too long"),
        ("__import__", "mm", "not a number"),
    ],
)
def test_what_is_no_sum_is_refused(text, unit, why):
    with pytest.raises(BadInput, match=why.replace("(", r"\(")):
        parse(text, unit)
