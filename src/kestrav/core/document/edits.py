"""Edits: each takes a project and returns a new one that shares what did not change.

All raise BadInput, and so change nothing, when the outcome would not be valid.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any, Literal, TypeVar

import msgspec
import numpy as np

from kestrav.core.document.lookup import get, solids, subtree
from kestrav.core.document.records import (
    COLLECTIONS,
    LINKED,
    AlongAim,
    Camera,
    Carry,
    Contact,
    Cue,
    Form,
    Item,
    OrbitShape,
    Part,
    PartAim,
    Path,
    PathAim,
    PathPoint,
    PointAim,
    PointShape,
    Poses,
    Project,
    Requirement,
    Rod,
    Roll,
    Run,
    Shot,
    Spin,
    SurfaceShape,
    TowardHeading,
    Vector,
)
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
    if isinstance(record, Run | Roll | Spin | Rod) and record.link:
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
    """A stand-in's measures with one of them changed."""
    assert part.form is not None
    found: Form = msgspec.structs.replace(part.form, **{field: value})
    return found


def restyle(project: Project, part_ids: Iterable[str], **fields: Any) -> Project:
    """Looks (colour, opacity, finish) of parts, of all solids of assemblies, and of what is linked to them."""
    ids = {inner for part_id in part_ids for inner in subtree(project, part_id)}
    links = {p.link for p in project.parts if p.id in ids and p.link}
    chosen = {p.id for p in project.parts if p.geometry is not None and (p.id in ids or p.link in links)}
    return update_parts(project, {part_id: fields for part_id in chosen})


def settings(project: Project, **fields: Any) -> Project:
    """The project with some settings changed."""
    return validate(msgspec.structs.replace(project, settings=msgspec.structs.replace(project.settings, **fields)))


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

    Runs go with their path or rider, key poses and rides with their things, shots with their camera, contacts and
    notes with their parts, requirements with all that they are about; a camera or light that aimed at a removed part keeps looking at where the part's origin stood,
    and a path on its surface stays where it is as one of points. What waited for a removed run begins at its own start.
    """
    item = get(project, item_id)
    gone = set(subtree(project, item_id)) if isinstance(item, Part) else {item_id}
    parts = tuple(_unswept(p, gone) for p in project.parts if p.id not in gone)
    used = {p.geometry for p in parts}
    return validate(
        msgspec.structs.replace(
            project,
            parts=parts,
            geometry=tuple(g for g in project.geometry if g.hash in used),
            paths=tuple(_without_around(_without_part(p, gone), gone) for p in project.paths if p.id not in gone),
            **moving_without(project, gone, lambda part_id: _stood(project, part_id)),
            shots=tuple(_unlabelled(s, gone) for s in project.shots if not {s.id, s.camera} & gone),
            contacts=tuple(c for c in project.contacts if not {c.a, c.b} & gone),
            sources=tuple(s for s in project.sources if s.id in {p.source for p in parts}),
            notes=tuple(n for n in project.notes if n.id not in gone and not {f.part for f in n.features} & gone),
            requirements=requirements_without(project, gone),
        )
    )


def _unlabelled(shot: Shot, gone: set[str]) -> Shot:
    """A shot without the labels of removed things."""
    kept = tuple(thing for thing in shot.shows.labels if thing not in gone)
    return shot if kept == shot.shows.labels else change(shot, shows=msgspec.structs.replace(shot.shows, labels=kept))


def _unswept(part: Part, gone: set[str]) -> Part:
    """A swept space as a plain part, where what swept it is gone."""
    return change(part, swept=None) if part.swept is not None and part.swept.thing in gone else part


def _without_part(path: Path, gone: set[str]) -> Path:
    shape = path.shape
    if not isinstance(shape, SurfaceShape) or shape.part not in gone:
        return path
    samples = shape.samples[:-1] if shape.closed else shape.samples
    return change(path, shape=PointShape(tuple(PathPoint(place) for place in samples), shape.closed))


Stood = Callable[[str], Vector]
"""Where a part stood."""


def moving_without(project: Project, gone: Iterable[str], stood: Stood) -> dict[str, Any]:
    """The runs, key poses, rides, wheels, cameras and lights of a project without some things, as its fields."""
    out = set(gone)
    out |= {r.id for r in project.runs if {r.path, r.rider} & out}
    return {
        "runs": tuple(_alone(_facing_on(r, out, stood), out) for r in project.runs if r.id not in out),
        "poses": tuple(_uncued(p, out) for p in project.poses if not {p.id, p.rider} & out),
        "carries": tuple(
            _put_anywhere(_uncued(c, out), out) for c in project.carries if not {c.id, c.rider, c.carrier} & out
        ),
        "rolls": tuple(r for r in project.rolls if not {r.id, r.part} & out),
        "swivels": tuple(s for s in project.swivels if not {s.id, s.part} & out),
        "spins": tuple(_uncued(s, out) for s in project.spins if not {s.id, s.part} & out),
        "drives": tuple(d for d in project.drives if not {d.id, d.a.part, d.b.part} & out),
        "rods": tuple(_uncoupled(r, out) for r in project.rods if not _named_by(r) & out),
        "balls": tuple(
            change(b, on=None, normals=()) if b.on in out else b for b in project.balls if not {b.id, b.part} & out
        ),
        "cameras": tuple(_looking_on(c, out, stood) for c in project.cameras if c.id not in out),
        "lights": tuple(
            light if (aim := _aimed_on(light.aim, out, stood)) is light.aim else change(light, aim=aim)
            for light in project.lights
            if light.id not in out
        ),
    }


C = TypeVar("C", Run, Poses, Carry, Spin)
T = TypeVar("T")


def _uncued(item: C, gone: set[str]) -> C:
    """What waited for a removed run, or for a touch of a removed part, waits no more."""
    if item.cue is None:
        return item
    of = {item.cue.run} if isinstance(item.cue, Cue) else {item.cue.a, item.cue.b}
    return change(item, cue=None) if of & gone else item


def _put_anywhere(carry: Carry, gone: set[str]) -> Carry:
    """A ride that ended on a removed part ends as it is."""
    return change(carry, onto=None, put=None) if carry.onto in gone else carry


def _named_by(rod: Rod) -> set[str]:
    return {rod.id, rod.part, rod.crank.part, *(() if rod.to is None else (rod.to.part,))}


def _uncoupled(rod: Rod, gone: set[str]) -> Rod:
    """A rod without the removed ones that it turned."""
    kept = tuple(c for c in rod.coupled if c.part not in gone)
    return rod if len(kept) == len(rod.coupled) else change(rod, coupled=kept)


def _alone(run: Run, gone: set[str]) -> Run:
    """A run without the removed ones that it followed, waited for or took along."""
    run = _uncued(run, gone)
    if run.follows is not None and run.follows.run in gone:
        run = change(run, follows=None)
    if gone & set(run.company):
        run = change(run, company=tuple(c for c in run.company if c not in gone))
    return run


def _aimed_on(aim: T, gone: set[str], stood: Stood) -> T | PointAim:
    """What aimed at a removed part aims at where it stood."""
    return PointAim(stood(aim.part)) if isinstance(aim, PartAim) and aim.part in gone else aim


def _looking_on(camera: Camera, gone: set[str], stood: Stood) -> Camera:
    """A camera without the removed things that it aimed at, that its picture was of, or that were faint to it.

    Without the second path that it aimed along, it looks along its own way.
    """
    fields: dict[str, Any] = {}
    aim = _aimed_on(camera.aim, gone, stood)
    if isinstance(aim, PathAim) and aim.path in gone:
        aim = AlongAim()
    if aim is not camera.aim:
        fields["aim"] = aim
    if camera.subject in gone:
        fields["subject"] = ""
    if gone & {f.thing for f in camera.fades}:
        fields["fades"] = tuple(f for f in camera.fades if f.thing not in gone)
    return change(camera, **fields) if fields else camera


def _without_around(path: Path, gone: set[str]) -> Path:
    """An orbit around what was removed keeps its outline."""
    shape = path.shape
    if not isinstance(shape, OrbitShape) or not gone & set(shape.around):
        return path
    return change(path, shape=msgspec.structs.replace(shape, around=tuple(i for i in shape.around if i not in gone)))


def _facing_on(run: Run, gone: set[str], stood: Stood) -> Run:
    """A run that faced a removed part, or stopped to look at it, goes on facing where it stood."""
    if any(isinstance(h.look, PartAim) and h.look.part in gone for h in run.holds):
        run = change(
            run, holds=tuple(msgspec.structs.replace(h, look=_aimed_on(h.look, gone, stood)) for h in run.holds)
        )
    heading = run.heading
    if isinstance(heading, TowardHeading) and isinstance(heading.aim, PartAim) and heading.aim.part in gone:
        left = msgspec.structs.replace(heading, aim=PointAim(stood(heading.aim.part)))
        return change(run, heading=left)
    return run


def _stood(project: Project, part_id: str) -> Vector:
    part = get(project, part_id)
    assert isinstance(part, Part)
    return part.placement.position


def requirements_without(project: Project, gone: set[str]) -> tuple[Requirement, ...]:
    """Requirements as they are without some things: what is about none of what is left goes with them."""
    found = []
    for item in project.requirements:
        things = tuple(i for i in item.things if i not in gone)
        others = tuple(i for i in item.others if i not in gone)
        if item.id in gone or not things or (item.others and not others):
            continue
        same = (things, others) == (item.things, item.others)
        found.append(item if same else change(item, things=things, others=others))
    return tuple(found)


def set_contact(project: Project, a: str, b: str, intended: bool) -> Project:
    """Say whether two parts are meant to touch, or the solids of two assemblies."""
    told = [Contact(one.id, two.id, intended) for one in solids(project, a) for two in solids(project, b)]
    pairs = {frozenset((c.a, c.b)) for c in told}
    kept = [c for c in project.contacts if frozenset((c.a, c.b)) not in pairs]
    return validate(msgspec.structs.replace(project, contacts=(*kept, *told)))


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
