"""Finding things in a project."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import TypeVar

import numpy as np

from kestrav.core.document.base import Placement, Vector
from kestrav.core.document.records import COLLECTIONS, KIND_WORDS, AnyTrigger, Item, Part, Project, Trigger, Turner
from kestrav.core.document.references import named
from kestrav.core.errors import BadInput
from kestrav.core.memo import Memo


def items(project: Project) -> Iterator[Item]:
    """Everything in a project that has an id."""
    for name in COLLECTIONS.values():
        yield from getattr(project, name)


def find(project: Project, item_id: str) -> Item | None:
    """The item of an id, or None."""
    for name in COLLECTIONS.values():
        if item_id in (by_id := _by_id(getattr(project, name))):
            return by_id[item_id]
    return None


Kind = TypeVar("Kind")


def get(project: Project, item_id: str) -> Item:
    """The item of an id. Raises BadInput when there is none."""
    item = find(project, item_id)
    if item is None:
        raise BadInput(f"the project “{project.name}” holds nothing with the id “{item_id}”")
    return item


def _word(kind: type) -> str:
    return KIND_WORDS.get(kind, kind.__name__.lower())


def get_as(project: Project, item_id: str, kind: type[Kind]) -> Kind:
    """The item of an id, which is of a kind. Raises BadInput when there is none, or it is of another."""
    item = get(project, item_id)
    if not isinstance(item, kind):
        raise BadInput(f"“{item.name}” is a {_word(type(item))}, not a {_word(kind)}")
    return item


_ids: Memo[dict[str, Item]] = Memo(64)
_names: Memo[Counter[str]] = Memo(64)


def _by_id(collection: tuple[Item, ...]) -> dict[str, Item]:
    return _ids.get((collection,), lambda: {item.id: item for item in collection})


def _name_counts(collection: tuple[Item, ...]) -> Counter[str]:
    return _names.get((collection,), lambda: Counter(item.name for item in collection))


def called(project: Project, name: str, kind: type[Item] | None = None) -> str:
    """The id of the thing (of a kind) of a name or id. Raises BadInput when there is none, or more than one."""
    known = [item for item in items(project) if kind is None or isinstance(item, kind)]
    if any(item.id == name for item in known):
        return name
    ids = [item.id for item in known if item.name == name]
    if len(ids) != 1:
        what = "thing" if kind is None else _word(kind)
        text = f"holds no {what}" if not ids else f"holds {len(ids)} {what}s"
        raise BadInput(f"the project {text} called “{name}”; give a name or id of one (see “kestrav info”)")
    return ids[0]


def part_called(project: Project, name: str) -> str:
    """The id of the part of a name or id. Raises BadInput as :func:`called`."""
    return called(project, name, Part)


def solids(project: Project, *things: str) -> list[Part]:
    """The parts with geometry in things, in the document's order."""
    inner = {i for thing in things for i in subtree(project, thing)}
    return [part for part in project.parts if part.geometry is not None and part.id in inner]


def children(project: Project, part_id: str | None) -> list[Part]:
    """Parts directly under a parent (None for the top)."""
    rows = _below(project.parts).get(part_id, ())
    return [project.parts[row] for row in rows]


def subtree(project: Project, part_id: str) -> list[str]:
    """Ids of a part and everything below it; parents come before their children in a document."""
    below = _below(project.parts)
    if part_id not in _by_id(project.parts):
        return []
    rows, waiting = list[int](), [part_id]
    while waiting:
        mine = below.get(waiting.pop(), ())
        rows += mine
        waiting += [project.parts[row].id for row in mine]
    return [part_id, *(project.parts[row].id for row in sorted(rows))]


_children: Memo[dict[str | None, list[int]]] = Memo(4)


def _below(parts: tuple[Part, ...]) -> dict[str | None, list[int]]:
    """The rows of the parts directly under each, and under None those at the top; kept by the parts."""
    return _children.get((parts,), lambda: _by_parent(parts))


def _by_parent(parts: tuple[Part, ...]) -> dict[str | None, list[int]]:
    by_parent: dict[str | None, list[int]] = {}
    for row, part in enumerate(parts):
        by_parent.setdefault(part.parent, []).append(row)
    return by_parent


def ancestors(project: Project, part_id: str) -> list[str]:
    """Ids from the top down to the part's own parent."""
    chain: list[str] = []
    part = get(project, part_id)
    while isinstance(part, Part) and part.parent is not None:
        chain.append(part.parent)
        part = get(project, part.parent)
    return chain[::-1]


def new_id(project: Project, kind: type) -> str:
    """An unused id for a record of a kind, such as ``path-3``."""
    prefix = KIND_WORDS[kind].replace(" ", "-")
    taken = {item.id for item in items(project)}
    number = 1
    while f"{prefix}-{number}" in taken:
        number += 1
    return f"{prefix}-{number}"


def fresh_part_ids(project: Project, count: int) -> list[str]:
    """Part ids that are not used yet, in order."""
    numbers = [int(p.id[5:]) for p in project.parts if p.id.startswith("part-") and p.id[5:].isdigit()]
    start = 1 + max(numbers, default=0)
    return [f"part-{start + i}" for i in range(count)]


def new_source_id(project: Project) -> str:
    """An unused id for a source."""
    taken = {source.id for source in project.sources}
    return next(name for i in range(1, len(taken) + 2) if (name := f"source-{i}") not in taken)


def new_name(project: Project, kind: type, wanted: str) -> str:
    """A name not used yet among records of a kind."""
    taken = {item.name for item in getattr(project, COLLECTIONS[kind])}
    if wanted not in taken:
        return wanted
    number = 2
    while f"{wanted} {number}" in taken:
        number += 1
    return f"{wanted} {number}"


def shown_parts(project: Project) -> set[str]:
    """Ids of the parts that are shown, as all above them are."""
    return _held_down(project, "shown", wanted=True)


def pickable_parts(project: Project) -> set[str]:
    """Ids of the parts that are not locked, nor anything above them."""
    return _held_down(project, "locked", wanted=False)


def _held_down(project: Project, field: str, *, wanted: bool) -> set[str]:
    """Ids of the parts that have a field as wanted and so have all above them."""
    ids: set[str | None] = {None}
    for part in project.parts:
        if part.parent in ids and getattr(part, field) is wanted:
            ids.add(part.id)
    return {i for i in ids if i is not None}


def common_parent(project: Project, part_ids: Iterable[str]) -> str | None:
    """The deepest assembly that holds all these parts, or None for the top."""
    chains = [ancestors(project, part_id) for part_id in part_ids]
    if not chains:
        return None
    shared: str | None = None
    for level in zip(*chains, strict=False):
        if len(set(level)) > 1:
            break
        shared = level[0]
    return shared


def topmost(project: Project, part_ids: Iterable[str]) -> list[str]:
    """These parts without those that lie below another of them, in the document's order."""
    chosen = set(part_ids)
    below: set[str] = set()
    topmost = []
    for part in project.parts:
        if part.parent in chosen or part.parent in below:
            below.add(part.id)
        if part.id in chosen and part.id not in below:
            topmost.append(part.id)
    return topmost


def named_parts(item: Turner) -> tuple[str, ...]:
    """Ids of all parts that something that turns or drives names, the one it is about first."""
    return named(item, "parts")


def stands_at(project: Project, part_id: str) -> Vector:
    """Where a part's origin stands in the room at rest, in mm."""
    item = get_as(project, part_id, Part)
    place = item.placement.position
    for above in ancestors(project, part_id)[::-1]:
        holder = get_as(project, above, Part)
        place = _placed(holder.placement, place)
    return place


def _placed(placement: Placement, place: Vector) -> Vector:
    """A place in what is placed as the one that holds that sees it: turned by a unit quaternion, v + 2 w (u × v) + 2 u × (u × v)."""
    w, u = placement.rotation[0], np.array(placement.rotation[1:])
    across = 2.0 * np.cross(u, place)
    x, y, z = (float(v) for v in np.array(place) + w * across + np.cross(u, across) + np.array(placement.position))
    return x, y, z


def turners(project: Project) -> tuple[Turner, ...]:
    """All that turns or drives: castors, wheels, rotations, gears, rods and balls."""
    return (
        *project.castors, *project.wheels, *project.rotations, *project.gears, *project.rods, *project.balls,
    )  # fmt: skip


def awaited(project: Project, trigger: AnyTrigger) -> str:
    """What a trigger waits for, in words."""
    if isinstance(trigger, Trigger):
        return f"“{get(project, trigger.run).name}”"
    return f"the touch of “{get(project, trigger.a).name}” and “{get(project, trigger.b).name}”"


def qualified_name(project: Project, part_id: str) -> str:
    """A part's name, with that of what it belongs to where other parts have the same name."""
    part = get(project, part_id)
    if _name_counts(project.parts)[part.name] < 2 or not isinstance(part, Part) or part.parent is None:
        return part.name
    return f"{part.name} of {get(project, part.parent).name}"


def one_of_several(project: Project, part: Part) -> bool:
    """Whether a solid is one of several that came in one file."""
    return (
        part.source is not None
        and part.geometry is not None
        and any(p.source == part.source and p.geometry is not None and p.id != part.id for p in project.parts)
    )
