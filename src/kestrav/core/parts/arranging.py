"""The tree of parts: grouping, moving to other parents, copies. What is placed keeps its place in space."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import (
    ancestors,
    children,
    common_parent,
    fresh_part_ids,
    get,
    subtree,
    topmost,
)
from kestrav.core.document.records import Note, Part, Placement, Project
from kestrav.core.document.references import named, users
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.parts.placing import bounds_of, placement, shift, turn_between
from kestrav.core.parts.rest import rest_poses

Array = NDArray[np.float64]

MOST_COPIES = 10_000


def reparent(project: Project, part_ids: Iterable[str], parent: str | None, before: str | None = None) -> Project:
    """The project with parts put under another assembly (None: the top), before one of its children or at its end.

    Raises BadInput when a part would come to lie below itself, or below a solid.
    """
    ids = topmost(project, part_ids)
    if parent is not None:
        holder = get(project, parent)
        if not isinstance(holder, Part) or holder.geometry is not None:
            raise BadInput(f"“{holder.name}” is a solid and cannot hold other parts; group them instead")
        for part_id in ids:
            if part_id in (parent, *ancestors(project, parent)):
                raise BadInput(f"“{get(project, part_id).name}” cannot be put into itself")
    rest = rest_poses(project)
    rows = {part.id: i for i, part in enumerate(project.parts)}
    above = np.eye(4) if parent is None else rest[rows[parent]]
    moved: list[Part] = []
    taken: set[str] = set()
    for part_id in ids:
        inner = subtree(project, part_id)
        taken |= set(inner)
        for inner_id in inner:
            part = project.parts[rows[inner_id]]
            if inner_id == part_id and part.parent != parent:
                part = msgspec.structs.replace(
                    part, parent=parent, placement=placement(inverse_rigid(above) @ rest[rows[part_id]])
                )
            moved.append(part)
    left = [part for part in project.parts if part.id not in taken]
    at = len(left)
    if before is not None and before not in taken:
        at = next((i for i, part in enumerate(left) if part.id == before), len(left))
    elif parent is not None:
        # at the end of its new parent's own tree
        under = set(subtree(project, parent)) - taken
        at = max(i for i, part in enumerate(left) if part.id in under) + 1
    parts = (*left[:at], *moved, *left[at:])
    return validate(msgspec.structs.replace(project, parts=parents_first(parts)))


def parents_first(parts: Sequence[Part]) -> tuple[Part, ...]:
    """Parts in an order in which every parent comes before its children, else as they are."""
    seen: set[str | None] = {None}
    if all((part.parent in seen, seen.add(part.id))[0] for part in parts):  # type: ignore[func-returns-value]
        return tuple(parts)
    below: dict[str | None, list[Part]] = {}
    for part in parts:
        below.setdefault(part.parent, []).append(part)
    ordered: list[Part] = []
    waiting = list(reversed(below.get(None, [])))
    while waiting:
        part = waiting.pop()
        ordered.append(part)
        waiting.extend(reversed(below.get(part.id, [])))
    return tuple(ordered)


def group(project: Project, part_ids: Iterable[str], name: str = "Group") -> Project:
    """The project with parts gathered in a new assembly, whose pivot lies in their middle; it is the last new id.

    Raises BadInput for no parts.
    """
    ids = topmost(project, part_ids)
    if not ids:
        raise BadInput("nothing is selected that could be grouped")
    parent = common_parent(project, ids)
    edited = Part(fresh_part_ids(project, 1)[0], name, parent)
    rest = rest_poses(project)
    rows = {part.id: i for i, part in enumerate(project.parts)}
    above = np.eye(4) if parent is None else rest[rows[parent]]
    middle = bounds_of(project, ids).mean(axis=0)
    local = vector(np.round(apply(inverse_rigid(above), middle[None])[0], 4))
    edited = msgspec.structs.replace(edited, pivot=Placement(local))
    first = min(rows[part_id] for part_id in ids)
    parts = (*project.parts[:first], edited, *project.parts[first:])
    return reparent(msgspec.structs.replace(project, parts=parts), ids, edited.id)


def ungroup(project: Project, part_id: str) -> Project:
    """The project with an assembly dissolved: its children go to its parent. Raises BadInput for what is needed."""
    part = get(project, part_id)
    if not isinstance(part, Part) or part.geometry is not None:
        raise BadInput(f"“{part.name}” is not an assembly")
    using = [item for item in users(project, part_id) if not isinstance(item, Note)]
    if using:
        user = getattr(using[0], "name", "") or "an intended contact"
        raise BadInput(f"“{part.name}” is used by “{user}”; give that another thing first")
    inner = [child.id for child in children(project, part_id)]
    project = reparent(project, inner, part.parent, before=part_id)
    parts = tuple(p for p in project.parts if p.id != part_id)
    notes = tuple(n for n in project.notes if part_id not in named(n))
    return validate(msgspec.structs.replace(project, parts=parts, notes=notes))


# copies


def copy(project: Project, part_ids: Iterable[str], matrices: Sequence[ArrayLike], *, linked: bool = True) -> Project:
    """The project with copies of parts and all below them, one for each rigid (4, 4) matrix in space.

    Linked copies follow later changes of geometry and looks. Runs are not copied. Raises BadInput for too many.
    """
    ids = topmost(project, part_ids)
    if not ids:
        raise BadInput("nothing is selected that could be copied")
    inner = {part_id: subtree(project, part_id) for part_id in ids}
    total = sum(map(len, inner.values())) * len(matrices)
    if total > MOST_COPIES:
        raise BadInput(f"that would make {total} parts; {MOST_COPIES} at a time is the most")
    rest = rest_poses(project)
    rows = {part.id: i for i, part in enumerate(project.parts)}
    fresh = iter(fresh_part_ids(project, total))
    links: dict[str, str] = {}
    copies: list[Part] = []
    for matrix in matrices:
        for part_id in ids:
            renamed: dict[str, str] = {}
            for old in inner[part_id]:
                part = project.parts[rows[old]]
                renamed[old] = next(fresh)
                fields: dict[str, object] = {
                    "id": renamed[old],
                    "source": None,
                    "origin": "",
                    "link": "",
                    "baseline": None,
                }
                if old == part_id:
                    above = np.eye(4) if part.parent is None else rest[rows[part.parent]]
                    local = inverse_rigid(above) @ np.asarray(matrix, float) @ rest[rows[old]]
                    fields["placement"] = placement(local)
                    fields["name"] = _copy_name(project, copies, part)
                else:
                    fields["parent"] = renamed[part.parent or ""]
                if linked and part.geometry is not None:
                    links[old] = part.link or old
                    fields["link"] = links[old]
                copies.append(msgspec.structs.replace(part, **fields))
    parts = [msgspec.structs.replace(p, link=links[p.id]) if p.id in links else p for p in project.parts]
    return validate(msgspec.structs.replace(project, parts=parents_first([*parts, *copies])))


def _copy_name(project: Project, copies: Sequence[Part], part: Part) -> str:
    taken = {p.name for p in (*project.parts, *copies)}
    stem = part.name.rstrip("0123456789").rstrip() or part.name
    number = 2
    while f"{stem} {number}" in taken:
        number += 1
    return f"{stem} {number}"


def array_steps(step: ArrayLike, count: int) -> list[Array]:
    """Matrices of the copies in a row of ``count`` things (the first one is there), each a step (3,) on.

    Raises BadInput for fewer than two things or no step.
    """
    step = np.asarray(step, float)
    if count < 2:
        raise BadInput(f"an array of {count} needs no copies; give 2 or more")
    if np.linalg.norm(step) < 1e-6:
        raise BadInput("the step is 0 mm, so all copies would lie in one place")
    return [shift(k * step) for k in range(1, count)]


def array_places(start: ArrayLike, places: ArrayLike, tangents: ArrayLike | None = None) -> list[Array]:
    """Matrices that take what stands at ``start`` (3,) to places (n, 3), turned with tangents (n, 3) if given.

    The first tangent is the direction in which it stands at the start.
    """
    start, places = np.asarray(start, float), np.asarray(places, float).reshape(-1, 3)
    array_places = []
    for k, place in enumerate(places):
        matrix = shift(place - start)
        if tangents is not None:
            directions = np.asarray(tangents, float)
            turn = np.eye(4)
            turn[:3, :3] = turn_between(directions[0], directions[k])
            matrix = shift(place) @ turn @ shift(-start)
        array_places.append(matrix)
    return array_places


def linked_with(project: Project, part_ids: Iterable[str]) -> set[str]:
    """These parts and all that are linked to them."""
    chosen = set(part_ids)
    links: Mapping[str, str] = {p.id: p.link for p in project.parts if p.link}
    keys = {links[i] for i in chosen if i in links}
    return chosen | {i for i, key in links.items() if key in keys}
