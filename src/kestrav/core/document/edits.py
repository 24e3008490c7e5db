"""Edits: each takes a project and returns a new one that shares what did not change.

All raise BadInput, and so change nothing, when the outcome would not be valid.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any, Literal, TypeVar

import msgspec
import numpy as np

from kestrav.core.document.lookup import find, get, solids, stands_at, subtree
from kestrav.core.document.records import (
    COLLECTIONS,
    LINKED,
    Contact,
    Form,
    Item,
    Part,
    Path,
    PathPoint,
    PointShape,
    Project,
    Rod,
    Run,
    TimedRotation,
    Vector,
    Wheel,
)
from kestrav.core.document.references import parts_without, without
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput

R = TypeVar("R", bound=Item)


def change(record: R, **fields: Any) -> R:
    """A copy of a record with some fields changed."""
    return msgspec.structs.replace(record, **fields)


def replace(project: Project, record: Item) -> Project:
    """The project with the record of the same id replaced."""
    get(project, record.id)
    name = COLLECTIONS[type(record)]
    old = getattr(project, name)
    swapped = tuple(record if item.id == record.id else item for item in old)
    if isinstance(record, Run | Wheel | TimedRotation | Rod) and record.link:
        swapped = _linked(swapped, record)
    return validate(msgspec.structs.replace(project, **{name: swapped}))


def _linked(records: Iterable[Any], changed: Any) -> tuple[Any, ...]:
    """Records of which those linked to a changed one go as it does."""
    shared = {name: getattr(changed, name) for name in LINKED[type(changed)]}
    return tuple(change(r, **shared) if r.link == changed.link and r.id != changed.id else r for r in records)


def update(project: Project, item_id: str, **fields: Any) -> Project:
    """The project with some fields of one item changed."""
    return replace(project, change(get(project, item_id), **fields))


def add(project: Project, *records: Item) -> Project:
    """The project with records added at the end of their lists."""
    for record in records:
        name = COLLECTIONS[type(record)]
        project = msgspec.structs.replace(project, **{name: (*getattr(project, name), record)})
    return validate(project)


def update_parts(project: Project, changes: Mapping[str, Mapping[str, Any]]) -> Project:
    """The project with fields of several parts changed, by part id. Raises BadInput for an id that is not there."""
    for part_id in changes:
        get(project, part_id)
    parts = tuple(change(p, **changes[p.id]) if p.id in changes else p for p in project.parts)
    return validate(msgspec.structs.replace(project, parts=parts))


def change_form(part: Part, field: str, value: float) -> Form:
    """A placeholder's measures with one of them changed."""
    assert part.form is not None
    form: Form = msgspec.structs.replace(part.form, **{field: value})
    return form


def restyle(project: Project, part_ids: Iterable[str], **fields: Any) -> Project:
    """Looks (colour, opacity, finish) of parts, of all solids of assemblies, and of what is linked to them."""
    ids = {inner for part_id in part_ids for inner in subtree(project, part_id)}
    links = {p.link for p in project.parts if p.id in ids and p.link}
    chosen = {p.id for p in project.parts if p.geometry is not None and (p.id in ids or p.link in links)}
    return update_parts(project, {part_id: fields for part_id in chosen})


def settings(project: Project, **fields: Any) -> Project:
    """The project with some settings changed."""
    return validate(msgspec.structs.replace(project, settings=msgspec.structs.replace(project.settings, **fields)))


def light(project: Project, **fields: Any) -> Project:
    """The project with some of its steady light changed."""
    return validate(
        msgspec.structs.replace(project, light_setup=msgspec.structs.replace(project.light_setup, **fields))
    )


def reordered(project: Project, shot_id: str, by: int) -> Project:
    """The project with a shot so many places later among the shots (negative: earlier)."""
    shots = list(project.shots)
    here = next(k for k, shot in enumerate(shots) if shot.id == shot_id)
    shot = shots.pop(here)
    shots.insert(min(max(here + by, 0), len(shots)), shot)
    return validate(msgspec.structs.replace(project, shots=tuple(shots)))


def rename_project(project: Project, name: str) -> Project:
    """The project under another name."""
    return msgspec.structs.replace(project, name=name)


def remove(project: Project, item_id: str) -> Project:
    """The project without an item and without what cannot be without it.

    Runs go with their path or rider, key poses and attachments with their things, shots with their camera, contacts and
    notes with their parts, requirements with all that they are about; a camera or light that aimed at a removed part keeps looking at where the part's origin stood,
    and a path on its surface stays where it is as one of points. What waited for a removed run begins at its own start.
    """
    item = get(project, item_id)
    removed = set(subtree(project, item_id)) if isinstance(item, Part) else {item_id}
    fields, out = without(project, removed, lambda part_id: stands_at(project, part_id))
    parts = parts_without(
        [p for p in project.parts if p.id not in removed], out, lambda part_id: stands_at(project, part_id)
    )
    used = {p.geometry for p in parts}
    return validate(
        msgspec.structs.replace(
            project,
            parts=parts,
            geometry=tuple(g for g in project.geometry if g.hash in used),
            sources=tuple(s for s in project.sources if s.id in {p.source for p in parts}),
            colourway="" if project.colourway in out else project.colourway,
            **fields,
        )
    )


def remove_all(project: Project, item_ids: Iterable[str]) -> Project:
    """The project without several items; one may have gone with another that it depends on."""
    for item_id in item_ids:
        if find(project, item_id) is not None:
            project = remove(project, item_id)
    return project


def set_contact(project: Project, a: str, b: str, *, intended: bool, deeper: float = 0.0) -> Project:
    """Say whether two parts are meant to touch, or the solids of two assemblies; and by how much in mm ``deeper`` they may get."""
    return set_contacts(project, [(a, b)], intended=intended, deeper=deeper)


def set_contacts(project: Project, pairs: Iterable[tuple[str, str]], *, intended: bool, deeper: float = 0.0) -> Project:
    """Say of several pairs whether they are meant to touch, of assemblies their solids."""
    contacts = [
        Contact(one.id, two.id, intended, deeper)
        for a, b in pairs
        for one in solids(project, a)
        for two in solids(project, b)
    ]
    said = {frozenset((c.a, c.b)) for c in contacts}
    kept = [c for c in project.contacts if frozenset((c.a, c.b)) not in said]
    return validate(msgspec.structs.replace(project, contacts=(*kept, *contacts)))


# paths


def point_shape(project: Project, path_id: str) -> PointShape:
    """The points of a path. Raises BadInput when it is not made of points."""
    path = get(project, path_id)
    if not isinstance(path, Path) or not isinstance(path.shape, PointShape):
        raise BadInput(f"“{path.name}” is not made of points")
    return path.shape


def _points_with(project: Project, path_id: str, index: int) -> tuple[PathPoint, ...]:
    """The points of a path, when it has one of that number. Raises BadInput when not."""
    points = point_shape(project, path_id).points
    if not 0 <= index < len(points):
        raise BadInput(f"the path “{get(project, path_id).name}” has no point {index + 1}; it has {len(points)}")
    return points


def _with_points(project: Project, path_id: str, points: list[PathPoint]) -> Project:
    shape = point_shape(project, path_id)
    return update(project, path_id, shape=msgspec.structs.replace(shape, points=tuple(points)))


def set_point(project: Project, path_id: str, index: int, **fields: Any) -> Project:
    """Change fields of one point of a path."""
    points = list(_points_with(project, path_id, index))
    points[index] = msgspec.structs.replace(points[index], **fields)
    return _with_points(project, path_id, points)


def set_kind(project: Project, path_id: str, index: int, kind: Literal["corner", "smooth", "free"]) -> Project:
    """Make a point a corner, smooth or free; a free point without handles gets them along its neighbours."""
    points = _points_with(project, path_id, index)
    fields: dict[str, Any] = {"kind": kind}
    if kind == "free" and points[index].handle_out is None and points[index].handle_in is None:
        fields["handle_out"] = _natural_handle(points, index)
    return set_point(project, path_id, index, **fields)


def _natural_handle(points: tuple[PathPoint, ...], index: int) -> Vector:
    before = np.array(points[max(index - 1, 0)].position)
    after = np.array(points[min(index + 1, len(points) - 1)].position)
    x, y, z = (after - before) / 6.0
    if x == y == z == 0.0:
        return (50.0, 0.0, 0.0)
    return (float(x), float(y), float(z))


def insert_point(project: Project, path_id: str, index: int, position: Vector) -> Project:
    """Put a smooth point before the point of an index (or at the end)."""
    points = list(point_shape(project, path_id).points)
    points.insert(index, PathPoint(position))
    return _with_points(project, path_id, points)


def delete_point(project: Project, path_id: str, index: int) -> Project:
    """Take a point out."""
    points = list(_points_with(project, path_id, index))
    del points[index]
    return _with_points(project, path_id, points)
