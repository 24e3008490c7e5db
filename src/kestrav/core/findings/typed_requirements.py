"""Requirements as they are typed: what is to keep how far from what."""

from __future__ import annotations

from collections.abc import Sequence

from kestrav.core.document.edits import add, settings
from kestrav.core.document.lookup import get, new_id, new_name, part_called
from kestrav.core.document.records import Project, Requirement
from kestrav.core.errors import BadInput


def with_pairs(project: Project, texts: Sequence[str], *, only: bool = False) -> Project:
    """The project with requirements typed as “thing:thing=mm”, “thing=mm” or with “=off”; ``only`` these pairs are checked then.

    Raises BadInput naming the text that cannot be read, or the thing that is not there.
    """
    if only and not texts:
        raise BadInput("only the given pairs are to be checked, and none is given; give at least one")
    for text in texts:
        names, sign, amount = text.rpartition("=")
        if not sign or not names.strip():
            raise BadInput(f"“{text}” is no pair; give “thing:thing=mm”, “thing=mm” or “thing:thing=off”")
        required, checked = _amount(text, amount)
        project = required_between(project, *_sides(project, names), required, checked=checked)
    return settings(project, only_listed=True) if only else project


def required_between(
    project: Project,
    things: Sequence[str],
    others: Sequence[str] = (),
    required: float | None = None,
    *,
    checked: bool = True,
) -> Project:
    """The project with one more requirement, between things and others or all the rest."""
    text = " and ".join(get(project, i).name for i in things)
    rest = " and ".join(get(project, i).name for i in others) or "the rest"
    item = Requirement(
        new_id(project, Requirement),
        new_name(project, Requirement, f"{text} to {rest}"),
        tuple(things),
        tuple(others),
        required,
        checked,
    )
    return add(project, item)


def _sides(project: Project, names: str) -> tuple[list[str], list[str]]:
    one, _, two = names.partition(":")
    return [part_called(project, one.strip())], [part_called(project, two.strip())] if two.strip() else []


def _amount(text: str, amount: str) -> tuple[float | None, bool]:
    word = amount.strip().removesuffix("mm").strip()
    if word == "off":
        return None, False
    try:
        return float(word), True
    except ValueError:
        raise BadInput(f"“{text}” asks for “{amount}”, which is no number of mm; give one, or “off”") from None
