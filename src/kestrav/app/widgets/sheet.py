"""What a form shows, described without widgets: rows of fields, worked lines, buttons, in sections that fold.

Cards and dialogs write such a sheet; :class:`kestrav.app.widgets.form.Form` shows it and keeps its widgets where the
next sheet has the same rows. Sheets of several things can be merged into one that edits them all.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from functools import partial
from typing import Any, Concatenate, ParamSpec

import msgspec

from kestrav.core.document.fields import FieldInfo, infos, options as known_options

Action = tuple[str, Callable[[], object], str]  # what a button says, does, and its tooltip
Axes = tuple[float | None, float | None, float | None]
PICK = ("", "choose …")  # the first option of a choice that does something, and keeps no value


class Field(msgspec.Struct, frozen=True, kw_only=True):
    """What fields share: whether one ``acts`` (it does something with what is typed, and keeps no value), and whether it is a thing's
    ``own``, as its name and place are, which are not given to others with its settings."""

    label: str
    acts: bool = False
    own: bool = False


class Text(Field, frozen=True):
    """A line of text."""

    label: str
    value: str | None
    change: Callable[[str], object]
    tip: str


class Number(Field, frozen=True):
    """A number with its unit; ``zero`` is what 0 is called; a value of None differs between several things."""

    label: str
    value: float | None
    unit: str
    change: Callable[[float], object]
    tip: str
    places: int = 1
    step: float = 1.0
    zero: str = ""


class Vector(Field, frozen=True):
    """Three numbers along x, y and z; the unit stands in the label."""

    label: str
    values: Sequence[float | None]
    unit: str
    change: Callable[[Any], object]
    tip: str
    places: int = 1


class Choice(Field, frozen=True):
    """One of named options, each a key and what is shown."""

    label: str
    options: Sequence[tuple[str, str]]
    value: str | None
    change: Callable[[str], object]
    tip: str


class Check(Field, frozen=True):
    """Yes or no."""

    label: str
    text: str
    value: bool | None
    change: Callable[[bool], object]
    tip: str


class Colour(Field, frozen=True):
    """A colour as #rrggbb."""

    label: str
    value: str | None
    change: Callable[[str], object]
    tip: str


class Worked(msgspec.Struct, frozen=True):
    """Computed numbers, written so that a person can check them."""

    lines: tuple[str, ...]
    label: str = ""


class Note(msgspec.Struct, frozen=True):
    """A muted remark."""

    text: str
    label: str = ""


class Heading(msgspec.Struct, frozen=True):
    """A small heading within a section."""

    text: str
    label: str = ""


class Buttons(msgspec.Struct, frozen=True):
    """Buttons, two in a line."""

    actions: tuple[Action, ...]
    label: str = ""


class Section(msgspec.Struct, frozen=True):
    """The head of the rows that follow; they are in the sheet when it is open."""

    label: str
    is_open: bool
    summary: str = ""


class Own(msgspec.Struct, frozen=True):
    """A widget of its own over the whole width, made anew with each sheet."""

    make: Callable[[], Any]
    label: str = ""


AnyField = Text | Number | Vector | Choice | Check | Colour
Row = AnyField | Worked | Note | Heading | Buttons | Section | Own
P = ParamSpec("P")


def _adder(kind: Callable[P, Row]) -> Callable[Concatenate[Sheet, P], None]:
    """A method of a sheet that adds a row of a kind, with that kind's fields."""

    def add(sheet: Sheet, *arguments: P.args, **named: P.kwargs) -> None:
        sheet.rows.append(kind(*arguments, **named))

    add.__doc__ = kind.__doc__
    return add


class Sheet:
    """Collects the rows of a form, from top to bottom."""

    def __init__(self, folded: Callable[[str, bool], bool] = lambda _, first: not first) -> None:
        """``folded`` tells of a section whether it is folded, by its title and whether it is the first."""
        self.title = ""
        self.rows: list[Row] = []
        self._folded = folded

    text = _adder(Text)
    number = _adder(Number)
    vector = _adder(Vector)
    choice = _adder(Choice)
    check = _adder(Check)
    colour = _adder(Colour)
    note = _adder(Note)
    heading = _adder(Heading)
    own = _adder(Own)

    def fields(
        self,
        record: msgspec.Struct,
        *names: str,
        change: Callable[..., object],
        options: Sequence[tuple[str, str]] = (),
        own: bool = False,
        prefix: str = "",
        unit: str = "",
    ) -> None:
        """Rows for fields of a record as they are described there; ``change`` is told a field by its name and new value. ``options`` are
        those of a field whose record does not know them, ``prefix`` is which of several such records it is, and ``unit`` that of a quantity which
        has another one in this record."""
        for name in names:
            info, kept = infos(type(record))[name], getattr(record, name)
            info = msgspec.structs.replace(info, unit=unit) if unit else info
            if prefix:
                info = msgspec.structs.replace(info, label=f"{prefix} {info.label[:1].lower()}{info.label[1:]}")
            known = options or known_options(type(record), name)
            self._field(info, kept, partial(_take, change, name), known, own=own)

    def _field(
        self,
        info: FieldInfo,
        kept: Any,
        take: Callable[[Any], object],
        options: Sequence[tuple[str, str]],
        *,
        own: bool,
    ) -> None:
        if info.kind == "switch":
            self.check(info.label, info.text, kept, take, info.tip, own=own)
        elif info.kind == "vector":
            self.vector(info.label, kept, info.unit, take, info.tip, info.places, own=own)
        elif info.kind in ("number", "whole number"):
            whole = info.kind == "whole number"

            def typed(value: float) -> None:
                number = value / info.factor
                take(None if info.none and value == 0 else round(number) if whole else number)

            kept = 0 if kept is None and info.none else kept
            shown = None if kept is None else info.factor * kept
            self.number(info.label, shown, info.unit, typed, info.tip, info.places, info.step, info.zero, own=own)
        elif info.kind == "colour":
            self.colour(info.label, kept, take, info.tip, own=own)
        elif options:
            self.choice(info.label, options, kept, take, info.tip, own=own)
        else:
            self.text(info.label, kept, lambda text: take(text.strip()), info.tip, own=own)

    def worked(self, *lines: str) -> None:
        """Computed numbers, written so that a person can check them."""
        self.rows.append(Worked(lines))

    def buttons(self, *actions: Action) -> None:
        """Buttons, two in a line."""
        if actions:
            self.rows.append(Buttons(actions))

    def section(self, title: str, summary: str = "") -> bool:
        """Begin a section; tells whether it is open, so that its rows are wanted."""
        first = not any(isinstance(row, Section) for row in self.rows)
        is_open = not self._folded(title, first)
        self.rows.append(Section(title, is_open, summary))
        return is_open

    def foot(self) -> None:
        """End the sections: what follows belongs to the whole."""
        self.rows.append(Section("", True))

    def field(self, label: str) -> AnyField | None:
        """The field of a label."""
        return next((row for row in self.rows if isinstance(row, Field) and row.label == label), None)

    def labels(self) -> list[str]:
        """The labels of all fields."""
        return [row.label for row in self.rows if isinstance(row, Field)]

    def section_of(self, label: str) -> str:
        """The title of the section that holds a field, or a button by its text; empty where none does."""
        section = ""
        for row in self.rows:
            if isinstance(row, Section):
                section = row.label
            elif (
                (isinstance(row, Vector) and label in (row.label, *(f"{row.label} {axis}" for axis in "xyz")))
                or (isinstance(row, Buttons) and any(text.startswith(label) for text, _, _ in row.actions))
                or (isinstance(row, Field) and row.label == label)
            ):
                return section
        return ""

    def append_sections(self, other: Sheet) -> None:
        """Add the sections of another sheet, those that are folded without their rows."""
        is_open = True
        for row in other.rows:
            if isinstance(row, Section):
                is_open = self.section(row.label) if row.label else True
            elif is_open:
                self.rows.append(row)


def _take(change: Callable[..., object], name: str, value: Any) -> None:
    change(**{name: value})


def merged(sheets: Sequence[Sheet], together: Callable[[str, Callable[[], None]], object]) -> Sheet:
    """One sheet with the fields that all sheets have; a value that differs is None, a change goes to all.

    ``together`` makes the edits of a function one, by a label. Names, and choices that do something instead of keeping a
    value, are left out.
    """
    first, *others = sheets
    whole = Sheet()
    for row in first.rows:
        if isinstance(row, Section):
            if whole.rows and isinstance(whole.rows[-1], Section):
                whole.rows.pop()  # a section of which nothing is common
            whole.rows.append(msgspec.structs.replace(row, summary=""))
        elif isinstance(row, Field) and row.label != "Name" and not _does(row):
            same = [other.field(row.label) for other in others]
            if all(type(other) is type(row) for other in same):
                whole.rows.append(_common(row, [row, *same], together))  # type: ignore[list-item]
    if whole.rows and isinstance(whole.rows[-1], Section):
        whole.rows.pop()
    return whole


def _does(row: AnyField) -> bool:
    """Whether a field does something instead of keeping a value."""
    return row.acts or (isinstance(row, Choice) and bool(row.options) and tuple(row.options[0]) == PICK)


def _common(row: Any, rows: Sequence[Any], together: Callable[[str, Callable[[], None]], object]) -> AnyField:
    """A row that shows what several have in common and changes all."""

    def change(value: Any) -> None:
        def each() -> None:
            for one in rows:
                one.change(value)

        together(row.label, each)

    def change_axes(values: Axes) -> None:
        def each() -> None:
            for one in rows:
                own = zip(values, one.values, strict=True)
                one.change(tuple(old if new is None else new for new, old in own))

        together(row.label, each)

    if isinstance(row, Vector):
        axes = (_same(axis) for axis in zip(*(one.values for one in rows), strict=True))
        return msgspec.structs.replace(row, values=tuple(axes), change=change_axes)
    value = _same([one.value for one in rows])
    if isinstance(row, Choice):
        known = set.intersection(*({key for key, _ in one.options} for one in rows))
        options = tuple(option for option in row.options if option[0] in known)
        return msgspec.structs.replace(row, options=options, value=value, change=change)
    return msgspec.structs.replace(row, value=value, change=change)  # type: ignore[no-any-return]


def _same(values: Iterable[Any]) -> Any:
    """The value that all have, or None."""
    first, *others = values
    return first if all(other == first for other in others) else None


def shared_settings(source: Sheet, target: Sheet) -> list[tuple[Any, Any]]:
    """The fields of two sheets that hold different values under one label: each as in the target and in the source. What is a thing's
    own is left out."""
    pairs = []
    for row in source.rows:
        if not isinstance(row, Field) or row.own or _does(row):
            continue
        mine = target.field(row.label)
        if type(mine) is type(row) and value_of(mine) != value_of(row):
            pairs.append((mine, row))
    return pairs


def value_of(row: Any) -> Any:
    """What a field holds."""
    return row.values if isinstance(row, Vector) else row.value
