"""Changing where geometry comes from: replacing a placeholder, and reading a changed file again."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import fresh_part_ids, get, items, new_source_id, subtree
from kestrav.core.document.records import Camera, ImportBaseline, Light, Part, Placement, Project, Source, Vector
from kestrav.core.document.references import parts_without, without
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.files.product_import import into_project
from kestrav.core.files.product_tree import Imported
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.parts.arranging import linked_with, parents_first
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import placement_matrix, rest_poses, world_bounds
from kestrav.core.parts.solids import with_meshes, without_unused

Array = NDArray[np.float64]

SAME_PLACE = 1.0  # mm between the middles of things that may be one, where names have changed
SAME_SIZE = 0.05  # share by which their sizes may differ then


class Changes(msgspec.Struct, frozen=True):
    """What a changed file brings: names of parts, and of what is lost with those that are gone."""

    added: tuple[str, ...] = ()
    removed: tuple[str, ...] = ()
    reshaped: tuple[str, ...] = ()
    recoloured: tuple[str, ...] = ()
    moved: tuple[str, ...] = ()
    found_by_place: tuple[str, ...] = ()
    lost: tuple[str, ...] = ()
    same: int = 0

    @property
    def any(self) -> bool:
        """Whether anything is different."""
        return bool(self.added or self.removed or self.reshaped or self.recoloured or self.moved or self.found_by_place)

    def text(self) -> str:
        """The changes for people."""
        rows = [
            ("New", self.added),
            ("Removed", self.removed),
            ("Other shape", self.reshaped),
            ("Other colour", self.recoloured),
            ("Other place", self.moved),
            ("Other name, same place", self.found_by_place),
            ("Lost with removed parts", self.lost),
        ]
        lines = [f"{label} ({len(names)}): {_some(names)}" for label, names in rows if names]
        lines.append(f"As before: {self.same} parts")
        return "\n".join(lines)


def _some(names: tuple[str, ...], most: int = 8) -> str:
    shown = ", ".join(names[:most])
    return shown if len(names) <= most else f"{shown} and {len(names) - most} more"


class _Matching(msgspec.Struct):
    """Old ids by new ones, and how they were found."""

    old_of: dict[str, str] = msgspec.field(default_factory=dict)
    by_place: list[str] = msgspec.field(default_factory=list)


def _match(project: Project, old: list[Part], fresh: list[Part], fresh_project: Project) -> _Matching:
    """Which fresh parts are old ones: by their names down from the top, then by name alone, then by place."""
    match = _Matching()
    left = {part.id: part for part in old}
    for key in (lambda p: p.origin, lambda p: (p.name, p.geometry), lambda p: p.name):
        index: dict[object, list[str]] = {}
        for part in left.values():
            index.setdefault((key(part), part.geometry is None), []).append(part.id)
        for part in fresh:
            wanted = index.get((key(part), part.geometry is None), [])
            if part.id in match.old_of or not wanted or not key(part):
                continue
            # one that is alone in its name, or the next of several in order
            old_id = wanted.pop(0)
            match.old_of[part.id] = old_id
            del left[old_id]
    _match_by_place(project, left, fresh, fresh_project, match)
    return match


def _match_by_place(
    project: Project, left: dict[str, Part], fresh: list[Part], fresh_project: Project, matching: _Matching
) -> None:
    rest, fresh_rest = rest_poses(project)[None], rest_poses(fresh_project)[None]
    boxes = {i: world_bounds(project, i, rest)[0] for i, p in left.items() if p.geometry is not None}
    for part in fresh:
        if part.id in matching.old_of or part.geometry is None or not boxes:
            continue
        low, high = world_bounds(fresh_project, part.id, fresh_rest)[0]
        ids = list(boxes)
        middles = np.array([0.5 * (boxes[i][0] + boxes[i][1]) for i in ids])
        away = np.linalg.norm(middles - 0.5 * (low + high), axis=1)
        best = ids[int(np.argmin(away))]
        size = float(np.linalg.norm(boxes[best][1] - boxes[best][0]))
        if away.min() <= SAME_PLACE and abs(float(np.linalg.norm(high - low)) - size) <= SAME_SIZE * size:
            matching.old_of[part.id] = best
            matching.by_place.append(part.name)
            del boxes[best]


def reload(
    project: Project, source_id: str, imported: Imported, places: Literal["file", "here"] = "file"
) -> tuple[Project, Changes]:
    """The project with a source read again, and what that changes.

    Parts found again keep their ids, and so their runs, cameras and notes; and what was changed here, their
    names, places and looks. What was not changed here follows the file; with ``places`` "here" everything stays
    where it is. Raises BadInput for a source that is not there.
    """
    source = next((s for s in project.sources if s.id == source_id), None)
    if source is None:
        raise BadInput(f"the project has no source “{source_id}”")
    old = [p for p in project.parts if p.source == source_id]
    base = msgspec.structs.replace(
        project, parts=tuple(p for p in project.parts if p.source == source_id or p.id in _above(project, old))
    )
    fresh_project = _fresh(project, imported)
    project = msgspec.structs.replace(project, finishes=fresh_project.finishes)
    fresh = list(fresh_project.parts)
    match = _match(base, old, fresh, _standing(project, old, fresh_project))
    return _merged(project, source, old, fresh, match, imported, places)


def _fresh(project: Project, imported: Imported) -> Project:
    """An import by itself, but for its finishes: these are named as the project names its own, and come after them."""
    return into_project(Project(finishes=project.finishes), imported)


def _above(project: Project, parts: Iterable[Part]) -> set[str]:
    above: set[str] = set()
    by_id = {p.id: p for p in project.parts}
    for part in parts:
        here = part.parent
        while here is not None and here not in above:
            above.add(here)
            here = by_id[here].parent
    return above


def _standing(project: Project, old: list[Part], fresh: Project) -> Project:
    """The fresh import with its top things put where the old ones of the same name stand in space."""
    inside = {p.id for p in old}
    tops = {p.origin: p for p in old if p.parent not in inside}
    rest = rest_poses(project)
    rows = {p.id: i for i, p in enumerate(project.parts)}
    parts = [
        msgspec.structs.replace(p, placement=placement(rest[rows[tops[p.origin].id]]))
        if p.parent is None and p.origin in tops
        else p
        for p in fresh.parts
    ]
    return msgspec.structs.replace(fresh, parts=tuple(parts))


def _merged(
    project: Project,
    source: Source,
    old: list[Part],
    fresh: list[Part],
    match: _Matching,
    imported: Imported,
    places: str,
) -> tuple[Project, Changes]:
    known = {p.id: p for p in project.parts}
    ids = dict(match.old_of)
    ids |= _new_ids(project, [part.id for part in fresh if part.id not in ids])
    added: list[str] = []
    reshaped: list[str] = []
    recoloured: list[str] = []
    moved: list[str] = []
    same = 0
    merged: dict[str, Part] = {}
    for part in fresh:
        parent = None if part.parent is None else ids[part.parent]
        before = known.get(match.old_of.get(part.id, ""))
        if before is None:
            added.append(part.name)
            merged[ids[part.id]] = msgspec.structs.replace(part, id=ids[part.id], parent=parent, source=source.id)
            continue
        # what was changed here stays; what was not follows the file
        baseline = before.baseline or ImportBaseline(before.name, before.placement, before.colour)
        stays = before.parent != parent or places == "here" or _differ(before.placement, baseline.placement)
        after = msgspec.structs.replace(
            before,
            name=before.name if before.name != baseline.name else part.name,
            geometry=part.geometry,
            scale=part.scale if before.scale == (1.0, 1.0, 1.0) else before.scale,
            placement=before.placement if stays else part.placement,
            origin=part.origin,
            colour=before.colour if before.colour != baseline.colour else part.colour,
            baseline=part.baseline,
        )
        merged[before.id] = after
        news = False
        for differs, names in (
            (before.geometry != after.geometry or before.scale != after.scale, reshaped),
            (before.colour != after.colour, recoloured),
            (_differ(before.placement, after.placement), moved),
        ):
            if differs:
                names.append(after.name)
                news = True
        same += not news
    kept = set(merged)
    removed = [p for p in old if p.id not in kept]
    result = with_meshes(project, imported.meshes.values())
    parts = [merged.get(p.id, p) for p in project.parts if p.id in merged or p.source != source.id]
    present = {p.id for p in parts}
    parts += [part for part_id, part in merged.items() if part_id not in present]
    result, lost = _without(project, result, parts, {p.id for p in removed})
    fresh_source = Source(
        source.id, imported.path or source.file, imported.chord, imported.unit or source.unit, imported.up
    )
    result = msgspec.structs.replace(
        result, sources=tuple(fresh_source if s.id == source.id else s for s in result.sources)
    )
    result = _follow_links(result)
    changes = Changes(
        tuple(added),
        tuple(p.name for p in removed),
        tuple(reshaped),
        tuple(recoloured),
        tuple(moved),
        tuple(match.by_place),
        tuple(lost),
        same,
    )
    return validate(without_unused(result)), changes


def _differ(a: Placement, b: Placement) -> bool:
    return not np.allclose(placement_matrix(a), placement_matrix(b), rtol=0, atol=2e-3)


def _without(before: Project, result: Project, parts: list[Part], removed: set[str]) -> tuple[Project, list[str]]:
    """The project with these parts, and without what cannot be without the ones that are gone.

    What was put below something that is gone here goes up to the nearest that is left.
    """
    old_parent = {p.id: p.parent for p in before.parts}
    rest = rest_poses(before)
    rows = {p.id: i for i, p in enumerate(before.parts)}
    fixed = []
    for part in parts:
        parent = part.parent
        while parent in removed:
            parent = old_parent[parent or ""]
        if parent != part.parent:
            above = np.eye(4) if parent is None else rest[rows[parent]]
            part = msgspec.structs.replace(
                part, parent=parent, placement=placement(inverse_rigid(above) @ rest[rows[part.id]])
            )
        fixed.append(part)

    def stood(part_id: str) -> Vector:
        return vector(rest[rows[part_id], :3, 3])

    fields, out = without(before, removed, stood)
    lost = [item.name for item in items(before) if item.id in out - removed]
    looking: tuple[Camera | Light, ...] = (*before.cameras, *before.lights)
    lost += [f"the aim of {item.name}" for item in looking if getattr(item.aim, "part", "") in removed]
    result = msgspec.structs.replace(result, parts=parents_first(parts_without(fixed, out, stood)), **fields)
    return result, lost


def _follow_links(project: Project) -> Project:
    """Linked copies take the geometry and colour of the part that came from a file."""
    leaders = {p.link: p for p in project.parts if p.link and p.source is not None}
    parts = tuple(
        msgspec.structs.replace(p, geometry=leaders[p.link].geometry, colour=leaders[p.link].colour)
        if p.link in leaders and p.source is None and leaders[p.link].geometry is not None
        else p
        for p in project.parts
    )
    return msgspec.structs.replace(project, parts=parts)


def replace(project: Project, part_id: str, imported: Imported, align: Literal["origin", "box"] = "box") -> Project:
    """The project with the geometry of a part or assembly replaced by a product, a placeholder by the real thing.

    It keeps its id, name, placement, pivot, runs and cameras. ``align`` lays the product's origin on the part's, or
    the middle of its underside on that of the old one. What is linked to a solid follows when the product is one
    solid. Children that the product has under the same name keep their ids, and so their runs.
    """
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is not a part")
    fresh = _fresh(project, imported)
    project = msgspec.structs.replace(project, finishes=fresh.finishes)
    rest = rest_poses(project)
    rows = {p.id: i for i, p in enumerate(project.parts)}
    shift = np.zeros(3)
    if align == "box":
        shift = _underside(project, part_id, inverse_rigid(rest[rows[part_id]])) - _product_underside(fresh)
    project = with_meshes(project, imported.meshes.values())
    solids = [p for p in fresh.parts if p.geometry is not None]
    source = msgspec.structs.replace(fresh.sources[0], id=new_source_id(project))
    project = msgspec.structs.replace(project, sources=(*project.sources, source))
    if len(solids) == 1:
        return _one_solid(project, part, fresh, solids[0], shift, source.id)
    old_inside = [p for p in project.parts if p.id in set(subtree(project, part_id)) - {part_id}]
    match = _match(project, old_inside, list(fresh.parts), fresh)
    known = {p.id: p for p in project.parts}
    ids = dict(match.old_of)
    ids |= _new_ids(project, [inner.id for inner in fresh.parts if inner.id not in ids])
    replaced: list[Part] = []
    lone = [p for p in fresh.parts if p.parent is None]
    holder_of: dict[str | None, str] = {None: part_id}
    for inner in fresh.parts:
        if len(lone) == 1 and inner is lone[0] and inner.geometry is None:
            # the product's own top is the part itself
            holder_of[inner.id] = part_id
            top = placement_matrix(inner.placement).copy()
            top[:3, 3] += shift
            continue
        holder = holder_of.get(inner.parent, ids.get(inner.parent or "", part_id))
        matrix = placement_matrix(inner.placement).copy()
        if len(lone) == 1 and inner.parent == lone[0].id and lone[0].geometry is None:
            matrix = top @ matrix
        elif inner.parent is None:
            matrix[:3, 3] += shift
        before = known.get(match.old_of.get(inner.id, ""))
        record = msgspec.structs.replace(
            inner, id=ids[inner.id], parent=holder, placement=placement(matrix), source=source.id
        )
        if before is not None:
            kept_here = {"pivot": before.pivot, "role": before.role, "locked": before.locked}
            record = msgspec.structs.replace(record, **kept_here, finish=inner.finish or before.finish)
        replaced.append(record)
    kept = {p.id for p in replaced}
    removed = {p.id for p in old_inside} - kept
    after = msgspec.structs.replace(
        part, geometry=None, scale=(1.0, 1.0, 1.0), form=None, source=source.id, link="", baseline=None
    )
    parts = [after if p.id == part_id else p for p in project.parts if p.id not in removed and p.id not in kept]
    result, _ = _without(project, project, [*parts, *replaced], removed)
    return validate(without_unused(result))


def _one_solid(project: Project, part: Part, fresh: Project, solid: Part, shift: Array, source: str) -> Project:
    """A single solid takes the part's place; how it stood in its own file becomes a matter of the mesh's placement."""
    rest = rest_poses(fresh)[[p.id for p in fresh.parts].index(solid.id)].copy()
    rest[:3, 3] += shift
    inside = set(subtree(project, part.id)) - {part.id}
    ids = linked_with(project, [part.id])
    parts = []
    for p in project.parts:
        if p.id in inside:
            continue
        if p.id in ids:
            # the pivot stays where it is in space
            moved = placement_matrix(p.placement) @ rest
            pivot = inverse_rigid(rest) @ placement_matrix(p.pivot)
            p = msgspec.structs.replace(
                p,
                geometry=solid.geometry,
                scale=solid.scale,
                colour=solid.colour,
                opacity=solid.opacity,
                finish=solid.finish or p.finish,
                form=None,
                placement=placement(moved),
                pivot=placement(pivot),
                baseline=None,
                source=source if p.id == part.id else p.source,
                origin=solid.origin if p.id == part.id else p.origin,
            )
        parts.append(p)
    result, _ = _without(project, project, parts, inside)
    return validate(without_unused(result))


def _new_ids(project: Project, ids: list[str]) -> dict[str, str]:
    return dict(zip(ids, fresh_part_ids(project, len(ids)), strict=True))


def _underside(project: Project, part_id: str, into: Array) -> Array:
    """The middle of the underside of a part's box, in coordinates of its own."""
    poses = into @ rest_poses(project)
    low, high = world_bounds(project, part_id, poses[None])[0]
    return np.array([*(0.5 * (low + high))[:2], low[2]])


def _product_underside(fresh: Project) -> Array:
    rest = rest_poses(fresh)[None]
    boxes = [world_bounds(fresh, p.id, rest)[0] for p in fresh.parts if p.parent is None]
    low, high = np.min([b[0] for b in boxes], axis=0), np.max([b[1] for b in boxes], axis=0)
    return np.array([*(0.5 * (low + high))[:2], low[2]])
