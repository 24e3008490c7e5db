"""What must hold in every project; a document that fails is never shown, saved or computed with."""

from __future__ import annotations

import math
from itertools import chain
from typing import Any

import msgspec
import numpy as np

from kestrav.core.document.camera_checks import check_camera, check_orbit, check_shot
from kestrav.core.document.check_values import check_colour, name_of
from kestrav.core.document.comment_checks import check_comment, check_sheet
from kestrav.core.document.fields import check_fields
from kestrav.core.document.light_checks import check_light
from kestrav.core.document.lookup import items
from kestrav.core.document.motion_checks import check_motion
from kestrav.core.document.records import (
    COLLECTIONS,
    ArcShape,
    Contact,
    EllipseShape,
    Finish,
    Geometry,
    Ground,
    HelixShape,
    OrbitShape,
    Part,
    Path,
    PointShape,
    Project,
    RectangleShape,
    Requirement,
    Source,
    SurfaceShape,
    WallForm,
)
from kestrav.core.document.references import references
from kestrav.core.document.surface_checks import check_finish
from kestrav.core.errors import BadInput

SMALLEST_SCALE = 1e-9
SMALLEST_SOLID, LARGEST_SOLID = 0.01, 1e9  # mm; what a mesh's coordinates can hold, and a path's
LARGEST = 1e12  # of any number
COINCIDENT = 1e-6  # mm; closer points cannot give a direction


def validate(project: Project) -> Project:
    """The project itself, if all holds, with plain numbers in place of numpy's, which no file can hold. Raises BadInput naming the first
    thing that is wrong."""
    for field in project.__struct_fields__:
        value = getattr(project, field)
        if field == "parts":
            fresh: object = tuple(fresh_parts(project))
        elif (known := _known.get(field)) is value:
            continue
        elif isinstance(value, tuple) and isinstance(known, tuple):
            # an edit of one record looks at that record only; the others are the same objects
            seen_before = set(map(id, known))
            fresh = tuple(v for v in value if id(v) not in seen_before)
        else:
            fresh = value
        if _finite(fresh, "the project"):
            value = _plain(value)
            project = msgspec.structs.replace(project, **{field: value})
        if field != "parts":
            _known[field] = value
    everything = list(items(project))
    seen: set[str] = set()
    for item in everything:
        if not item.id:
            raise BadInput(f"{name_of(item)} has an empty id")
        if item.id in seen:
            raise BadInput(f"two things have the id “{item.id}”; ids must differ")
        seen.add(item.id)
    if not _is_sound(project):
        _check_parts(project)
        _sound.append((project.parts, project.geometry, project.sources, project.finishes))
        del _sound[:-_REMEMBERED]
    _check_references(project)
    for path in project.paths:
        check_path(path)
    check_motion(project)
    for camera in project.cameras:
        check_camera(camera)
    for shot in project.shots:
        check_shot(shot)
    check_light(project.light_setup)
    for finish in project.finishes:
        check_finish(finish)
    if project.colourway and project.colourway not in {c.id for c in project.colourways}:
        raise BadInput(f"the project shows the colourway “{project.colourway}”, which it does not hold")
    for item in project.requirements:
        _check_requirement(item)
    for contact in project.contacts:
        _check_contact(contact)
    for note in project.notes:
        if not note.features:
            raise BadInput(f"{name_of(note)} measures nothing")
    for comment in project.comments:
        check_comment(comment)
    for sheet in project.sheets:
        check_sheet(sheet)
    settings = project.settings
    if settings.contact_distance < 0:
        raise BadInput(f"the contact distance is {settings.contact_distance:g} mm; it cannot be negative")
    if min(settings.walking_speed, settings.crossing_time) < 0:
        raise BadInput("the limit of walking speed or of the time to cross the frame is negative; give 0 for none")
    return project


# parts and geometry already found sound: edits of paths and runs share them, and looking through thousands of
# parts at every step of a drag would be felt
_sound: list[tuple[tuple[Part, ...], tuple[Geometry, ...], tuple[Source, ...], tuple[Finish, ...]]] = []
_REMEMBERED = 4
_known: dict[str, object] = {}  # the last value of each field that holds finite numbers only


def _is_sound(project: Project) -> bool:
    return any(
        parts is project.parts
        and geometry is project.geometry
        and sources is project.sources
        and finishes is project.finishes
        for parts, geometry, sources, finishes in _sound
    )


def fresh_parts(project: Project) -> list[Part]:
    """The parts that no document found sound lately has: an edit of one part looks at that part only."""
    if not _sound:
        return list(project.parts)
    known = set(map(id, _sound[-1][0]))  # the tuple is held, so these are the same objects
    return [part for part in project.parts if id(part) not in known]


def check_path(path: Path) -> None:
    """Raise BadInput when a path cannot be travelled."""
    shape = path.shape
    check_fields(shape, f"the path “{path.name}”")
    begin, end = path.trim
    if not 0 <= begin < end <= 1:
        raise BadInput(
            f"the path “{path.name}” is trimmed to {begin:.2%} to {end:.2%}; it must go forward within 0 to 100 %"
        )
    if isinstance(shape, EllipseShape):
        return
    if isinstance(shape, SurfaceShape):
        count, needed = len(shape.points), 3 if shape.closed else 2
        if count < needed:
            raise BadInput(f"the path “{path.name}” has {count} of the {needed} points that it needs on its surface")
        expected = count + (1 if shape.closed else 0)
        steps = np.diff(shape.marks)
        if len(shape.marks) != expected or (steps < 1).any() or shape.marks[-1] != len(shape.samples) - 1:
            raise BadInput(f"the path “{path.name}” is not worked out on its surface; put it onto the part again")
        return
    if isinstance(shape, OrbitShape):
        check_orbit(path, shape)
        return
    if not isinstance(shape, PointShape):
        _check_exact(path, shape)
        return
    sharp = next((i for i, p in enumerate(shape.points) if p.radius < 0), None)
    if sharp is not None:
        raise BadInput(f"point {sharp + 1} of the path “{path.name}” has a negative radius; give 0 or more")
    count, needed = len(shape.points), 3 if shape.closed else 2
    if count < needed:
        kind = "closed path" if shape.closed else "path"
        raise BadInput(
            f"the path “{path.name}” has {count} point{'s' if count != 1 else ''}; a {kind} needs {needed} or more"
        )
    pair = coincident_points(shape)
    if pair is not None:
        raise BadInput(
            f"points {pair[0] + 1} and {pair[1] + 1} of the path “{path.name}” lie in the same place; "
            "move or delete one of them"
        )


def _check_exact(path: Path, shape: ArcShape | RectangleShape | HelixShape) -> None:
    """Raise BadInput when an exact shape cannot be."""
    label = f"the path “{path.name}”"
    if isinstance(shape, ArcShape):
        if math.dist(shape.centre, shape.start) < COINCIDENT:
            raise BadInput(f"{label} is an arc of radius 0; move its start away from its centre")
        if not 0 < abs(shape.sweep) <= 360:
            raise BadInput(f"{label} is an arc of {shape.sweep:g}°; give up to 360, and not 0")
        if math.hypot(*shape.axis) < COINCIDENT:
            raise BadInput(f"{label} is an arc about an axis without direction")
        return
    if isinstance(shape, HelixShape):
        return
    room = min(shape.width, shape.depth) / 2
    if not 0 <= shape.radius <= room * (1 + 1e-12):
        raise BadInput(f"{label} has corners of {shape.radius:g} mm, rounder than its sides; at most {room:g} mm fit")


def coincident_points(shape: PointShape) -> tuple[int, int] | None:
    """The first two neighbouring points that lie in one place, or None."""
    points = np.array([point.position for point in shape.points], float)
    following = np.roll(points, -1, axis=0)
    gaps = np.linalg.norm(following - points, axis=1)
    if not shape.closed:
        gaps = gaps[:-1]
    if len(gaps) and gaps.min() < COINCIDENT:
        first = int(np.argmin(gaps))
        return first, (first + 1) % len(points)
    return None


def _check_parts(project: Project) -> None:
    shapes = {geometry.hash: geometry for geometry in project.geometry}
    known = shapes.keys()
    sources = {source.id for source in project.sources}
    finishes = {finish.id for finish in project.finishes}
    above: set[str] = set()
    for part in project.parts:
        if part.parent is not None and part.parent not in above:
            raise BadInput(f"the part “{part.name}” names a parent “{part.parent}” that does not come before it")
        above.add(part.id)
        if part.geometry is not None and part.geometry not in known:
            raise BadInput(f"the geometry “{part.geometry}” of the part “{part.name}” is not listed in the project")
        if part.source is not None and part.source not in sources:
            raise BadInput(f"the part “{part.name}” names a source “{part.source}” that the project does not list")
        if part.finish and part.finish not in finishes:
            raise BadInput(f"the part “{part.name}” has the finish “{part.finish}”, which the project does not hold")
    for part in fresh_parts(project):
        check_colour(part.colour, f"the colour of the part “{part.name}”")
        if min(abs(s) for s in part.scale) < SMALLEST_SCALE:
            raise BadInput(f"the part “{part.name}” has a scale of 0; a scale must be above 0")
        if min(part.scale) < 0:
            raise BadInput(f"the part “{part.name}” has a negative scale; mirror its geometry instead")
        if part.geometry is not None:
            _check_size(part, shapes[part.geometry])
        check_form(part)
        if not 0 <= part.opacity <= 1:
            raise BadInput(f"the opacity of the part “{part.name}” is {part.opacity:g}; it can be 0 to 1")
        for placement in (part.placement, part.pivot):
            if abs(math.fsum(q * q for q in placement.rotation) - 1) > 1e-6:
                raise BadInput(f"the part “{part.name}” has a rotation that is not a unit quaternion")


def _check_size(part: Part, shape: Geometry) -> None:
    """Raise BadInput when a scale makes a solid larger or smaller than its coordinates can be told apart."""
    pairs = list(zip(shape.low, shape.high, part.scale, strict=True))
    if max(max(abs(a), abs(b)) * s for a, b, s in pairs) > LARGEST_SOLID:
        raise BadInput(
            f"the part “{part.name}” would be larger than {LARGEST_SOLID / 1e6:g} km; give it a smaller scale"
        )
    if part.scale != (1.0, 1.0, 1.0) and max((b - a) * s for a, b, s in pairs) < SMALLEST_SOLID:
        raise BadInput(f"the part “{part.name}” would be smaller than {SMALLEST_SOLID:g} mm; give it a larger scale")


def check_form(part: Part) -> None:
    """Raise BadInput when a placeholder has measures that are not above 0, or an opening beyond its wall."""
    form = part.form
    if form is None:
        return
    for field in form.__struct_fields__:
        value = getattr(form, field)
        if value < 0 or (value == 0 and field not in ("offset", "sill")):
            raise BadInput(f"the {field.replace('_', ' ')} of “{part.name}” is {value:g} mm; it must be above 0")
    if isinstance(form, WallForm) and (
        form.offset + form.opening_width > form.length or form.sill + form.opening_height > form.height
    ):
        raise BadInput(f"the opening of “{part.name}” reaches beyond the wall; make it smaller or move it")


def _check_references(project: Project) -> None:
    """Raise BadInput when a record names something that is not there, or nothing of the kind that it may name."""
    known: dict[tuple[str, ...], set[str]] = {}
    swept = (part for part in project.parts if part.swept is not None)
    every = (item for name in COLLECTIONS.values() if name != "parts" for item in getattr(project, name))
    for record in (*swept, *every, *project.contacts):
        for reference in references(record):
            kinds = reference.ref.kinds
            if kinds not in known:
                known[kinds] = {item.id for kind in kinds for item in getattr(project, kind)}
            if reference.id not in known[kinds]:
                label = "a contact" if isinstance(record, Contact) else name_of(record)
                raise BadInput(f"{label} has the {reference.role} “{reference.id}”, which the project does not hold")


def _check_contact(item: Contact) -> None:
    if not 0 <= item.deeper < np.inf:
        raise BadInput(f"a contact may get {item.deeper:g} mm deeper; give 0 or more")


def _check_requirement(item: Requirement) -> None:
    if not item.things:
        raise BadInput(f"the requirement “{item.name}” is about nothing; give a thing that it is about")
    if set(item.things) & set(item.others):
        raise BadInput(f"the requirement “{item.name}” asks that a thing keeps away from itself")


def _plain(value: Any) -> Any:
    """A value with plain numbers in place of numpy's; the same object where there are none."""
    if isinstance(value, np.generic):
        return value.item()
    if isinstance(value, tuple):
        values = tuple(_plain(v) for v in value)
        return value if all(a is b for a, b in zip(values, value, strict=True)) else values
    if isinstance(value, msgspec.Struct):
        fields = {name: getattr(value, name) for name in value.__struct_fields__}
        changed = {name: plain for name, old in fields.items() if (plain := _plain(old)) is not old}
        return msgspec.structs.replace(value, **changed) if changed else value
    return value


def _beyond(near: str, value: float, most: float) -> BadInput:
    if not math.isfinite(value):
        return BadInput(f"{near} holds a number that is not finite ({value})")
    return BadInput(f"{near} holds the number {value:g}; {most:g} is the most")


def _finite(record: object, label: str) -> bool:
    """Whether some number is of numpy's. Raises BadInput where one is not finite, or beyond anything built, naming the nearest named thing."""
    stack: list[tuple[object, str]] = [(record, label)]
    foreign = False
    while stack:
        value, near = stack.pop()
        if isinstance(value, np.generic):
            foreign = True
        if isinstance(value, float):
            if not abs(value) <= LARGEST:
                raise _beyond(near, value, LARGEST)
        elif isinstance(value, Ground):
            if value.heights and not np.isfinite(value.heights).all():
                raise BadInput(f"{near} holds a height of the ground that is not finite")
            foreign |= any(isinstance(v, np.generic) for v in chain(value.found, *value.heights))
            stack.extend(((value.reach, near), (value.width, near)))
        elif isinstance(value, PointShape):
            # a file can bring thousands of points, and this runs at every step of a drag
            numbers = list(chain.from_iterable(p.position for p in value.points))
            handles = (h for p in value.points for h in (p.handle_in, p.handle_out) if h is not None)
            numbers.extend(chain.from_iterable(handles))
            numbers.extend(p.radius for p in value.points)
            if not (np.abs(numbers) <= LARGEST_SOLID).all():
                raise _beyond(near, next(v for v in numbers if not abs(v) <= LARGEST_SOLID), LARGEST_SOLID)
            foreign |= any(isinstance(v, np.generic) for v in numbers)
        elif isinstance(value, msgspec.Struct):
            name = getattr(value, "name", None)
            inner = name_of(value) if name is not None else near
            check_fields(value, inner)
            stack.extend((getattr(value, f), inner) for f in value.__struct_fields__)
        elif isinstance(value, tuple):
            stack.extend((v, near) for v in value)
    return foreign
