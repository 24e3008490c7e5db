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
