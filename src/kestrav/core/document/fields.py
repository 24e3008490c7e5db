"""What fields of records are called, the unit that they are in, and what they may be: said once, beside the field.

A card's row, the check of what is typed or read, and the published schema are all made from it.
"""

from __future__ import annotations

import typing
from collections.abc import Mapping
from functools import cache
from types import MappingProxyType
from typing import Any, Literal, get_args

import msgspec

from kestrav.core.errors import BadInput

Kind = Literal["number", "whole number", "vector", "switch", "colour", "text"]
_KINDS: Mapping[type, Kind] = {bool: "switch", int: "whole number", float: "number", tuple: "vector"}
_NO_WORDS: Mapping[str, str] = MappingProxyType({})


class FieldInfo(msgspec.Struct, frozen=True):
    """What is said of a field: its ``label`` and a sentence on it (``tip``).

    Of a number: the ``unit`` and ``places`` that it is shown in, so many times what is kept (``factor``), how far a ``step`` goes, what 0 is
    called (``zero``), and the bounds of what is kept: ``above`` one and ``below`` another, or from ``low`` to ``high``. Of yes or no: the
    ``text`` beside the box. Of one of several: how each is called (``words``). The ``kind``, and whether there may be none, which is typed
    as 0 (``none``), follow from the field's type.
    """

    label: str
    tip: str
    unit: str = ""
    places: int = 1
    step: float = 1.0
    zero: str = ""
    factor: float = 1.0
    above: float | None = None
    below: float | None = None
    low: float | None = None
    high: float | None = None
    text: str = ""
    kind: Kind = "text"
    none: bool = False
    words: Mapping[str, str] = msgspec.field(default_factory=lambda: _NO_WORDS)


def _meta(info: FieldInfo) -> msgspec.Meta:
    bounds = {
        "exclusiveMinimum": info.above,
        "exclusiveMaximum": info.below,
        "minimum": info.low,
        "maximum": info.high,
    }
    schema = {key: bound for key, bound in bounds.items() if bound is not None}
    return msgspec.Meta(
        title=info.label,
        description=info.tip + (f", in {info.unit}" if info.unit and info.factor == 1 else ""),
        extra_json_schema=schema or None,
        extra={"info": info},
    )


def quantity(
    label: str,
    unit: str,
    tip: str,
    places: int = 1,
    step: float = 1.0,
    *,
    zero: str = "",
    factor: float = 1.0,
    above: float | None = None,
    below: float | None = None,
    low: float | None = None,
    high: float | None = None,
) -> msgspec.Meta:
    """Of a number, or of numbers along x, y and z: see :class:`FieldInfo`."""
    return _meta(FieldInfo(label, tip, unit, places, step, zero, factor, above, below, low, high))


def option(label: str, tip: str, **words: str) -> msgspec.Meta:
    """Of a text, or of one of several texts, each as it is called in ``words`` where that is not the text itself."""
    return _meta(FieldInfo(label, tip, words=MappingProxyType(words)))


def swatch(label: str, tip: str) -> msgspec.Meta:
    """Of a colour."""
    return _meta(FieldInfo(label, tip, kind="colour"))


def switch(label: str, text: str, tip: str) -> msgspec.Meta:
    """Of yes or no: ``text`` says what yes means."""
    return _meta(FieldInfo(label, tip, text=text))


@cache
def infos(kind: type) -> Mapping[str, FieldInfo]:
    """What is said of the fields of a kind of record, by their names."""
    described: dict[str, FieldInfo] = {}
    plain = typing.get_type_hints(kind)
    for name, hint in typing.get_type_hints(kind, include_extras=True).items():
        for extra in getattr(hint, "__metadata__", ()):
            if isinstance(extra, msgspec.Meta) and extra.extra is not None and "info" in extra.extra:
                info = extra.extra["info"]
                none = bool(info.zero) and type(None) in get_args(plain[name])
                described[name] = msgspec.structs.replace(info, kind=_kind_of(plain[name], info.kind), none=none)
    return MappingProxyType(described)


def _kind_of(hint: Any, otherwise: Kind) -> Kind:
    """What a field of a type holds, which may be none."""
    for inner in (hint, *(a for a in get_args(hint) if typing.get_origin(hint) is not Literal)):
        known = _KINDS.get(typing.get_origin(inner) or inner)
        if known is not None:
            return known
    return otherwise


@cache
def options(kind: type, name: str) -> tuple[tuple[str, str], ...]:
    """The texts that a field may be, each with what it is called."""
    info = infos(kind)[name]
    hint: Any = typing.get_type_hints(kind)[name]
    allowed = [v for v in get_args(hint) if isinstance(v, str)] if typing.get_origin(hint) is Literal else []
    return tuple((key, info.words.get(key, key)) for key in allowed or info.words)


@cache
def _bounded(kind: type) -> tuple[tuple[str, FieldInfo], ...]:
    return tuple(
        (name, info)
        for name, info in infos(kind).items()
        if any(bound is not None for bound in (info.above, info.below, info.low, info.high))
    )


def check_fields(record: msgspec.Struct, label: str) -> None:
    """Raise BadInput, with the ``label`` of the record, unless its numbers lie within what is said of its fields."""
    for name, info in _bounded(type(record)):
        value = getattr(record, name)
        for number in value if isinstance(value, tuple) else (value,):
            if number is not None and not _within(number, info):
                called = info.label[:1].lower() + info.label[1:]
                raise BadInput(f"the {called} of {label} is {_shown(number, info)}; {_allowed(info)}")


def _within(value: float, info: FieldInfo) -> bool:
    return (
        (info.above is None or value > info.above)
        and (info.below is None or value < info.below)
        and (info.low is None or value >= info.low)
        and (info.high is None or value <= info.high)
    )


def _shown(value: float, info: FieldInfo) -> str:
    number = info.factor * value
    text = f"{number:,.0f}" if 1e5 <= abs(number) <= 1e12 else f"{number:g}"
    return f"{text}{'' if info.unit in ('', '°') else ' '}{info.unit}"


def _allowed(info: FieldInfo) -> str:
    """The bounds as a sentence's end."""
    low, high, above, below = (
        None if bound is None else _shown(bound, info) for bound in (info.low, info.high, info.above, info.below)
    )
    if low is not None and high is not None:
        return f"it can be {low} to {high}"
    least = f"above {above}" if above is not None else f"{low} or more" if low is not None else ""
    most = f"below {below}" if below is not None else f"at most {high}" if high is not None else ""
    return f"it must be {' and '.join(filter(None, (least, most)))}"
