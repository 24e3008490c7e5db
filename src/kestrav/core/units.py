"""Quantities as people type and read them."""

from __future__ import annotations

import math
import re

from kestrav.core.errors import BadInput

THIN = "\u2009"  # thin space between thousands (ISO 80000-1, 7.3.1) and before units

# what a unit is worth in the unit that is kept inside
KINDS: dict[str, dict[str, float]] = {
    "mm": {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4, "ft": 304.8},
    "s": {"s": 1.0, "ms": 0.001, "min": 60.0},
    "mm/s": {"mm/s": 1.0, "m/s": 1000.0, "m/min": 1000.0 / 60.0, "km/h": 1e6 / 3600.0},
    "mm/s²": {"mm/s²": 1.0, "m/s²": 1000.0, "mm/s2": 1.0, "m/s2": 1000.0, "g": 9806.65},
    "°": {"°": 1.0, "deg": 1.0, "rad": 180.0 / math.pi},
    "%": {"%": 1.0},
    "px": {"px": 1.0},
    "cd": {"cd": 1.0, "kcd": 1000.0},
    "lx": {"lx": 1.0, "klx": 1000.0},
    "1/s": {"1/s": 1.0, "Hz": 1.0},
    "m/s": {"m/s": 1.0, "mm/s": 0.001, "km/h": 1 / 3.6},
    "m/s²": {"m/s²": 1.0, "m/s2": 1.0, "mm/s²": 0.001},
    "rpm": {"rpm": 1.0, "1/min": 1.0, "1/s": 60.0, "°/s": 1.0 / 6.0, "rad/s": 30.0 / math.pi},
    "fps": {"fps": 1.0, "1/s": 1.0},
    "": {},
}
_NUMBER = re.compile(r"\s*([-+−]?(?:\d[\d \u2009\u202f]*)?(?:[.,]\d+)?(?:[eE][-+]?\d+)?)\s*([^\d\s]\S*)?\s*")


def parse(text: str, unit: str) -> float:
    """A typed quantity in the unit kept inside, such as ``1.2 m`` for mm. Raises BadInput."""
    found = _NUMBER.fullmatch(text)
    digits = re.sub(r"[ \u2009\u202f]", "", found[1]).replace("−", "-").replace(",", ".") if found else ""
    try:
        value = float(digits)
    except ValueError:
        raise BadInput(f"“{text}” is not a number{f' with a unit such as {unit}' if unit else ''}") from None
    given = found[2] if found else None
    if given is None or given == unit:
        return value
    if given not in KINDS.get(unit, {}):
        known = ", ".join(KINDS.get(unit, {})) or "none"
        raise BadInput(f"the unit “{given}” does not fit here; units are {known}")
    return value * KINDS[unit][given]


def show_size(millimetres: float) -> str:
    """A size as people say it: “0.7 mm”, “745 mm”, “7.45 m”, “745 m”, “1.2 km”."""
    for unit, factor in (("km", 1e6), ("m", 1e3), ("mm", 1.0), ("µm", 1e-3)):
        value = millimetres / factor
        if value >= 1.0 or unit == "µm":
            if unit == "m" and value < 2.0:
                continue  # 1,200 mm and not 1.2 m, as drawings have it
            places = 0 if value >= 100 else 1 if value >= 10 else 2
            text = f"{value:,.{places}f}".replace(",", THIN)
            return (text.rstrip("0").rstrip(".") if "." in text else text) + THIN + unit
    raise AssertionError


def show(value: float, unit: str = "", places: int = 1) -> str:
    """A number with thin spaces between thousands, and its unit."""
    text = f"{value:,.{places}f}".replace(",", THIN).replace("-", "−")
    if text.lstrip("−").strip("0.") == "" and text.startswith("−"):
        text = text[1:]
    if not unit:
        return text
    return text + ("" if unit == "°" else THIN) + unit
