"""Quantities as people type and read them."""

from __future__ import annotations

import ast
import math
import operator
import re
from collections.abc import Sequence

import msgspec

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
    "EV": {"EV": 1.0},
    "K": {"K": 1.0},
    "cd/m²": {"cd/m²": 1.0, "cd/m2": 1.0, "nt": 1.0},
    "fps": {"fps": 1.0, "1/s": 1.0},
    "": {},
}
_NUMBER = re.compile(r"(?:\d{1,3}(?:[ \u2009\u202f]\d{3})+(?!\d)|\d*)(?:[.,]\d+)?(?:[eE][-+]?\d+)?")
_SIGNS = {ast.Add: operator.add, ast.Sub: operator.sub, ast.Mult: operator.mul, ast.Div: operator.truediv}
_LONGEST = 200  # characters of what is typed


class _Quantity(msgspec.Struct, frozen=True):
    """A number within a sum; ``power`` is that of the unit: 0 for a plain number, 1 for a quantity."""

    value: float
    power: int


def parse(text: str, unit: str) -> float:
    """A typed quantity in the unit kept inside, such as ``1.2 m`` for mm, or a sum such as ``3*45 mm`` or ``120°/4``.

    Numbers may have units and be joined by ``+ - * /`` and brackets. A plain number beside a quantity in a sum, and a
    plain result, count in the unit kept inside. Raises BadInput.
    """
    typed = text.replace("−", "-").replace("×", "*").replace("·", "*").replace("÷", "/").strip()
    if len(typed) > _LONGEST:
        raise BadInput(f"“{text[:40]} …” is too long for a number")
    quantities: list[_Quantity] = []
    code = _coded(typed, unit, quantities)
    if code is None:
        raise BadInput(f"“{text}” is not a number{f' with a unit such as {unit}' if unit else ''}")
    try:
        worked = _worked(ast.parse(code, mode="eval").body, quantities)
    except (SyntaxError, KeyError, RecursionError, ValueError):
        raise BadInput(f"“{text}” is not a number{f' with a unit such as {unit}' if unit else ''}") from None
    except ZeroDivisionError:
        raise BadInput(f"“{text}” divides by zero") from None
    if worked.power not in (0, 1):
        raise BadInput(f"“{text}” is not in {unit}: its units do not come out")
    if not math.isfinite(worked.value):
        raise BadInput(f"“{text}” is not a finite number")
    return worked.value


def _coded(typed: str, unit: str, quantities: list[_Quantity]) -> str | None:
    """The sum with its quantities as ``q[0]``, ``q[1]`` …, put into a list; None where something else is in it."""
    known = sorted({unit, *KINDS.get(unit, {})} - {""}, key=len, reverse=True)
    code, at = [], 0
    while at < len(typed):
        if typed[at].isspace():
            at += 1
            continue
        if typed[at] in "+-*/()":
            code.append(typed[at])
            at += 1
            continue
        match = _NUMBER.match(typed, at)
        if match is None or not match[0] or match[0][0] in "eE":
            return None
        try:
            value = float(re.sub(r"[ \u2009\u202f]", "", match[0]).replace(",", "."))
        except ValueError:
            return None
        at = match.end()
        rest = typed[at:].lstrip()
        named = next((u for u in known if rest.startswith(u) and not rest[len(u) :][:1].isalnum()), None)
        if named is not None:
            at = len(typed) - len(rest) + len(named)
        elif rest and rest[0] not in "+-*/()":
            word = re.split(r"[\s+*()-]", rest, maxsplit=1)[0]
            units = ", ".join(KINDS.get(unit, {})) or "none"
            if word[:1] in ".,0123456789":
                return None
            raise BadInput(f"the unit “{word}” does not fit here; units are {units}")
        code.append(f"q[{len(quantities)}]")
        factor = 1.0 if named is None else KINDS.get(unit, {}).get(named, 1.0)
        quantities.append(_Quantity(value * factor, 0 if named is None else 1))
    return "".join(code)


def _worked(node: ast.expr, quantities: Sequence[_Quantity]) -> _Quantity:
    """The value of a sum of quantities. Raises KeyError or ValueError where it is something else."""
    if isinstance(node, ast.Subscript):
        assert isinstance(node.slice, ast.Constant)
        return quantities[node.slice.value]  # type: ignore[index]
    if isinstance(node, ast.UnaryOp):
        inner = _worked(node.operand, quantities)
        return _Quantity(-inner.value if isinstance(node.op, ast.USub) else inner.value, inner.power)
    if not isinstance(node, ast.BinOp):
        raise ValueError
    left, right = _worked(node.left, quantities), _worked(node.right, quantities)
    kind = type(node.op)
    value = _SIGNS[kind](left.value, right.value)
    if kind is ast.Mult:
        return _Quantity(value, left.power + right.power)
    if kind is ast.Div:
        return _Quantity(value, left.power - right.power)
    if {left.power, right.power} - {0, 1}:
        raise ValueError
    return _Quantity(value, max(left.power, right.power))


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
