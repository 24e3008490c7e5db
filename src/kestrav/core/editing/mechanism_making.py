"""Making gears, rods and balls out of parts as they stand: edits. Lengths in mm, angles in degrees."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import add, change, replace, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name
from kestrav.core.document.records import Axle, Ball, Coupled, End, Feature, Gear, Part, Pin, Project, Rod, Vector
from kestrav.core.editing.wheel_making import axle_of, picked_axle, take_axle
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.teeth import Teeth, rack_tooth, read_teeth
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import turned_about
from kestrav.core.mechanisms.gears import CHAIN_PITCHES, MODULES, Stand, across, meshing_phase, pitch_radius, stand
from kestrav.core.mechanisms.joints import joints
from kestrav.core.mechanisms.linkage import unit
from kestrav.core.parts.arranging import copy
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import own_bounds, rest_and_pivot
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]
Kind = Literal["external", "internal", "rack", "chain", "belt"]
Keeps = Literal["level", "points", "slider", "rocker"]

_STANDARD = 0.03  # share by which a module read off a solid may differ from the standard one that is taken
_DIRECT = 0.9  # cosine above which one of a part's own axes is taken for a direction


def _solid(project: Project, part_id: str) -> Part:
    part = get(project, part_id)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is no part; choose a part")
    return part


def turning_axle(project: Project, meshes: Mapping[str, Mesh], part_id: str) -> Axle:
    """What a part turns about: what already turns it, its widest cylinder, or its pivot's upright."""
    for joint in joints(project).get(part_id, ()):
        if joint.role == "turns":
            return joint.axle
    try:
        return axle_of(project, meshes, part_id)[0]
    except BadInput:
        part = _solid(project, part_id)
        return Axle(part.pivot.position, (0.0, 0.0, 1.0))


# gears


def add_gear(project: Project, meshes: Mapping[str, Mesh], first: str, second: str, kind: Kind) -> Project:
    """The project with two parts that drive each other.

    Axles come from what turns them or their cylinders; numbers of teeth, module and where the teeth are from the solids, and
    where those have none from how large and how far apart they are. Raises BadInput for what cannot drive each other.
    """
    if first == second:
        raise BadInput("a drive needs two parts; select both ends, the rack or driven one last")
    a = End(first, turning_axle(project, meshes, first))
    if kind == "rack":
        b = End(second, _rack_line(project, a, second))
    else:
        b = End(second, turning_axle(project, meshes, second))
    name = new_name(project, Gear, f"{get(project, first).name} and {get(project, second).name}")
    gear = Gear(new_id(project, Gear), name, a, b, kind, _default_pitch(kind))
    gear = _measured(project, meshes, gear)
    return add(project, meshed(project, meshes, gear))


def _default_pitch(kind: Kind) -> float:
    return {"chain": 12.7, "belt": 5.0}.get(kind, 2.0)


def _rack_line(project: Project, pinion: End, rack: str) -> Axle:
    """The line of a rack: through its middle, along its longest own axis, on the side of its gear where its teeth are."""
    box = own_bounds(project, rack)
    sides = np.ptp(box, axis=0)
    line = np.eye(3)[int(np.argmax(sides))]
    pose, gear = (rest_and_pivot(project, part)[0] for part in (rack, pinion.part))
    toward = pose[:3, :3].T @ (gear[:3, :3] @ np.array(pinion.axle.origin) + gear[:3, 3] - pose[:3, 3])
    axis = pose[:3, :3].T @ gear[:3, :3] @ unit(pinion.axle.direction)
    up = np.cross(axis, line)
    up = up * (1.0 if (toward - box.mean(axis=0)) @ up >= 0 else -1.0)
    middle = box.mean(axis=0)
    top = middle + 0.5 * float(np.abs(up) @ sides) * up
    return Axle(vector(np.round(top, 6)), vector(line))


def _measured(project: Project, meshes: Mapping[str, Mesh], gear: Gear) -> Gear:
    """A drive with the numbers of teeth, pitch and kind of its ends as their solids tell."""
    read = [None if gear.kind == "rack" and end is gear.b else _teeth(project, meshes, end) for end in _ends(gear)]
    if gear.kind == "belt":
        radii = [_radius(project, meshes, end) for end in _ends(gear)]
        return change(gear, a=_with(gear.a, radius=radii[0]), b=_with(gear.b, radius=radii[1]))
    counts = [0 if teeth is None else teeth.number for teeth in read]
    pitch = gear.pitch
    toothed = [teeth for teeth in read if teeth is not None]
    if toothed:
        teeth = toothed[0]
        if gear.kind == "chain":
            # tips stand about a third of the pitch out of the pitch circle
            pitch = _nearest(2 * np.sin(np.pi / teeth.number) * (0.5 * (teeth.low + teeth.high)), CHAIN_PITCHES, 0.1)
        else:
            pitch = _nearest((teeth.high - teeth.low) / 2.25, MODULES, 0.2)
    else:
        # as many as make the pitch circles meet
        stands = _stands(project, gear)
        radii = [_radius(project, meshes, end) for end in _ends(gear)]
        apart = float(stands.apart[0])
        if gear.kind == "rack":
            pitch = 2 * apart / 20
        elif gear.kind == "chain":
            pitch = 2 * radii[0] * float(np.sin(np.pi / 20))
        elif gear.kind == "internal":
            pitch = 2 * apart / (20 * abs(radii[1] / radii[0] - 1)) if abs(radii[1] - radii[0]) > 1e-6 else 2.0
        else:
            pitch = 2 * apart / (20 * (1 + radii[1] / radii[0]))
    radii = [_radius(project, meshes, end) for end in _ends(gear)]
    for k in (0, 1):
        if counts[k] == 0:
            other = counts[1 - k]
            share = radii[k] / max(radii[1 - k], 1e-9)
            counts[k] = (
                max(round(other * share), 3) if other else 20 if k == 0 else max(round(20 * radii[1] / radii[0]), 3)
            )
    if gear.kind == "rack":
        counts[1] = 0
    return change(
        gear, pitch=float(pitch), a=_with(gear.a, teeth=counts[0]), b=_with(gear.b, teeth=counts[1])
    )  # fmt: skip


def _with(end: End, **fields: object) -> End:
    changed: End = msgspec.structs.replace(end, **fields)
    return changed


def _ends(gear: Gear) -> tuple[End, End]:
    return gear.a, gear.b


def _nearest(value: float, standard: Iterable[float], within: float = _STANDARD) -> float:
    """The standard size next to a value, if one is near enough; otherwise the value."""
    best = min(standard, key=lambda size: abs(size - value))
    return best if abs(best - value) <= within * value else round(value, 4)


def _radius(project: Project, meshes: Mapping[str, Mesh], end: End) -> float:
    try:
        return axle_of(project, meshes, end.part)[1]
    except BadInput:
        sides = np.sort(np.ptp(own_bounds(project, end.part), axis=0))
        return max(0.5 * float(sides[1]), 1e-3)


def _teeth(project: Project, meshes: Mapping[str, Mesh], end: End) -> Teeth | None:
    part = _solid(project, end.part)
    if part.geometry is None:
        return None
    axis = unit(end.axle.direction)
    return read_teeth(solid_mesh(meshes, part), end.axle.origin, axis, across(axis))


def _stands(project: Project, gear: Gear) -> Stand:
    return stand(gear, *(rest_and_pivot(project, end.part)[0][None] for end in _ends(gear)))


def meshed(project: Project, meshes: Mapping[str, Mesh], gear: Gear) -> Gear:
    """A drive with its teeth found on the solids, a rack's pitch line where its gear needs it, and the phase that brings them into
    mesh."""
    ends = []
    for end in _ends(gear):
        if gear.kind == "rack" and end is gear.b:
            ends.append(_rack_end(project, meshes, gear))
            continue
        teeth = None if gear.kind == "belt" else _teeth(project, meshes, end)
        if teeth is not None and teeth.number == end.teeth:
            end = _with(end, tooth=float(np.degrees(teeth.middle)), toothed=True)
        ends.append(end)
    gear = change(gear, a=ends[0], b=ends[1])
    return change(gear, phase=meshing_phase(gear, _stands(project, gear)))


def _rack_end(project: Project, meshes: Mapping[str, Mesh], drive: Gear) -> End:
    part = _solid(project, drive.b.part)
    if part.geometry is None:
        return drive.b
    pose, gear = (rest_and_pivot(project, p)[0] for p in (drive.b.part, drive.a.part))
    toward = gear[:3, :3] @ np.array(drive.a.axle.origin) + gear[:3, 3] - pose[:3, 3]
    line, axis = unit(drive.b.axle.direction), pose[:3, :3].T @ gear[:3, :3] @ unit(drive.a.axle.direction)
    up = unit(np.cross(axis, line))
    own = pose[:3, :3].T @ toward - np.array(drive.b.axle.origin)
    up = up if own @ up >= 0 else -up
    tooth = rack_tooth(solid_mesh(meshes, part), drive.b.axle.origin, line, up, np.pi * drive.pitch)
    return drive.b if tooth is None else _with(drive.b, tooth=tooth, toothed=True)


def into_mesh(project: Project, meshes: Mapping[str, Mesh], gear_id: str) -> Project:
    """The project with a drive's teeth brought into mesh at the start."""
    gear = get_as(project, gear_id, Gear)
    return replace(project, meshed(project, meshes, gear))


def set_gear(project: Project, meshes: Mapping[str, Mesh], gear_id: str, **fields: object) -> Project:
    """The project with fields of a drive changed, and its teeth brought into mesh again."""
    gear = get_as(project, gear_id, Gear)
    wanted: Gear = msgspec.structs.replace(gear, **fields)
    if wanted.kind == "belt":
        # without teeth a pulley keeps the size that it had with them
        for side in ("a", "b"):
            new, old = getattr(wanted, side), getattr(gear, side)
            if not new.radius > 0:
                radius = pitch_radius(gear, old) or _radius(project, meshes, new)
                wanted = msgspec.structs.replace(wanted, **{side: _with(new, radius=radius)})
    return into_mesh(replace(project, wanted), meshes, gear_id)


def set_end(project: Project, meshes: Mapping[str, Mesh], gear_id: str, side: str, **fields: object) -> Project:
    """The project with fields of one end of a gear (``a`` or ``b``) changed, and its teeth brought into mesh again."""
    gear = get_as(project, gear_id, Gear)
    end = msgspec.structs.replace(getattr(gear, side), **fields)
    return set_gear(project, meshes, gear_id, **{side: end})


def pick_axle(project: Project, meshes: Mapping[str, Mesh], target: str, feature: Feature) -> Project:
    """The project with a wheel, castor, rotation, rod or one end of a gear (``id/a``) that turns about what was picked.

    Raises BadInput for what has no axis.
    """
    item_id, _, side = target.partition("/")
    item = get(project, item_id)
    if isinstance(item, Gear):
        end = getattr(item, side)
        return set_end(project, meshes, item_id, side, axle=picked_axle(project, end.part, feature, end.axle))
    if isinstance(item, Rod):
        part = item.part if item.to is None else item.to.part
        return update(project, item_id, axle=picked_axle(project, part, feature, item.axle))
    return take_axle(project, item_id, feature)


# rods


def add_rod(
    project: Project, meshes: Mapping[str, Mesh], rod: str, crank: str, keeps: Keeps, to: str | None = None
) -> Project:
    """The project with a part as a rod between a crank and, unless it stays level, a second part, all as they stand.

    The rod's pins are the two of its holes that are farthest apart, or the ends of its longest side; the near one is that
    nearer to the crank. Raises BadInput when parts are missing.
    """
    if keeps != "level" and to is None:
        raise BadInput("the rod needs a second part to look at; choose it")
    ends = _pins_of(project, meshes, rod)
    pose = rest_and_pivot(project, rod)[0]
    holes = [pose[:3, :3] @ end + pose[:3, 3] for end in ends]
    order = [0, 1]
    if _away(project, meshes, crank, holes[1]) < _away(project, meshes, crank, holes[0]):
        order = [1, 0]
    near, far = (ends[k] for k in order)
    name = new_name(project, Rod, f"{get(project, rod).name} as a rod")
    edited = Rod(
        new_id(project, Rod),
        name,
        rod,
        Pin(crank, _own(project, crank, holes[order[0]])),
        vector(np.round(near, 6)),
        vector(np.round(far, 6)),
        keeps,
    )
    if to is not None and keeps != "level":
        pin = Pin(to, _own(project, to, holes[order[1]]))
        edited = change(edited, to=pin)
        if keeps == "slider":
            edited = change(edited, line=_slide(project, meshes, edited))
        elif keeps == "rocker":
            edited = change(edited, axle=_rocking(project, meshes, edited))
        else:
            edited = change(edited, axle=_crank_axle_in(project, meshes, edited, to))
    elif keeps == "level" and to is not None:
        edited = change(edited, coupled=(_coupled(project, meshes, edited, to),))
    return add(project, edited)


def _pins_of(project: Project, meshes: Mapping[str, Mesh], rod: str) -> tuple[Array, Array]:
    part = _solid(project, rod)
    if part.geometry is not None:
        holes = [f for f in solid_mesh(meshes, part).faces if f.kind == "cylinder"]
        middles = [np.array(f.origin) + 0.5 * sum(f.along) * np.array(f.axis) for f in holes]
        pairs = [
            (float(np.linalg.norm(b - a)), a, b)
            for i, a in enumerate(middles)
            for j, b in enumerate(middles[i + 1 :], i + 1)
            if abs(np.dot(holes[i].axis, holes[j].axis)) > _DIRECT and _beside(holes[i], holes[j]) > 1e-3
        ]
        if pairs:
            _, a, b = max(pairs, key=lambda pair: pair[0])
            return a, b
    box = own_bounds(project, rod)
    middle, half = box.mean(axis=0), 0.5 * np.ptp(box, axis=0)
    longest = np.eye(3)[int(np.argmax(half))] * half
    return middle - longest, middle + longest


def _beside(one: Face, two: Face) -> float:
    """How far apart the axes of two parallel cylinders are."""
    step = np.array(two.origin) - np.array(one.origin)
    axis = np.array(one.axis)
    return float(np.linalg.norm(step - (step @ axis) * axis))


def _away(project: Project, meshes: Mapping[str, Mesh], part_id: str, place: Array) -> float:
    """How far a place in space is from a part: from the nearest axis of its cylinders, or from its bounds."""
    pose = rest_and_pivot(project, part_id)[0]
    own = pose[:3, :3].T @ (place - pose[:3, 3])
    part = _solid(project, part_id)
    if part.geometry is not None:
        cylinders = [f for f in solid_mesh(meshes, part).faces if f.kind == "cylinder"]
        if cylinders:
            steps = [(own - np.array(f.origin), np.array(f.axis)) for f in cylinders]
            return min(float(np.linalg.norm(step - (step @ axis) * axis)) for step, axis in steps)
    box = own_bounds(project, part_id)
    return float(np.linalg.norm(own - np.clip(own, box[0], box[1])))


def _own(project: Project, part_id: str, place: ArrayLike) -> Vector:
    """A place in space in a part's own coordinates at rest."""
    pose = rest_and_pivot(project, part_id)[0]
    return vector(np.round(pose[:3, :3].T @ (np.asarray(place) - pose[:3, 3]), 6))


def _crank_line(project: Project, meshes: Mapping[str, Mesh], rod: Rod) -> tuple[Array, Array]:
    """Where a rod's crank turns, and about which direction, in space at rest."""
    axle = turning_axle(project, meshes, rod.crank.part)
    pose = rest_and_pivot(project, rod.crank.part)[0]
    return pose[:3, :3] @ np.array(axle.origin) + pose[:3, 3], pose[:3, :3] @ unit(axle.direction)


def _crank_axle_in(project: Project, meshes: Mapping[str, Mesh], rod: Rod, part_id: str) -> Axle:
    """The direction of a rod's crank's axle through a part's pivot, in that part's own coordinates."""
    pose, pivot = rest_and_pivot(project, part_id)
    _, direction = _crank_line(project, meshes, rod)
    return Axle(vector(pivot[:3, 3]), vector(np.round(pose[:3, :3].T @ direction, 9)))


def _slide(project: Project, meshes: Mapping[str, Mesh], rod: Rod) -> Vector:
    """A slider's line, in its own axes: away from the crank, along one of its own axes if one is near that."""
    assert rod.to is not None
    centre, axis = _crank_line(project, meshes, rod)
    pose = rest_and_pivot(project, rod.to.part)[0]
    offset = pose[:3, :3] @ np.array(rod.to.at) + pose[:3, 3] - centre
    own = pose[:3, :3].T @ unit(offset - (offset @ axis) * axis)
    best = int(np.argmax(np.abs(own)))
    if abs(own[best]) > _DIRECT:
        own = np.sign(own[best]) * np.eye(3)[best]
    return vector(np.round(own, 9))


def _rocking(project: Project, meshes: Mapping[str, Mesh], rod: Rod) -> Axle:
    """What a rocker turns about: what turns it, the cylinder farthest from its pin, or its pivot; along the crank's axle."""
    assert rod.to is not None
    part = _solid(project, rod.to.part)
    fallback = _crank_axle_in(project, meshes, rod, part.id)
    direction = np.array(fallback.direction)
    if part.geometry is not None:
        pin = np.array(rod.to.at)
        along = [
            f
            for f in solid_mesh(meshes, part).faces
            if f.kind == "cylinder" and abs(np.dot(f.axis, direction)) > _DIRECT
        ]
        if along:
            far = max(along, key=lambda f: _off(pin, f))
            if _off(pin, far) > 1e-3:
                middle = np.array(far.origin) + 0.5 * sum(far.along) * np.array(far.axis)
                return Axle(vector(np.round(middle, 6)), fallback.direction)
    return fallback


def _off(place: Array, face: Face) -> float:
    step = place - np.array(face.origin)
    axis = np.array(face.axis)
    return float(np.linalg.norm(step - (step @ axis) * axis))


def _coupled(project: Project, meshes: Mapping[str, Mesh], rod: Rod, part_id: str) -> Coupled:
    """A part that turns along with a rod's crank, about what it turns about already or its cylinder, sensed as the crank's axle."""
    axle = turning_axle(project, meshes, part_id)
    wanted = _crank_axle_in(project, meshes, rod, part_id)
    same = float(unit(axle.direction) @ unit(wanted.direction))
    if abs(same) < _DIRECT:
        return Coupled(part_id, wanted)
    return Coupled(part_id, axle if same > 0 else Axle(axle.origin, vector(-np.array(axle.direction))))


def couple(project: Project, meshes: Mapping[str, Mesh], rod_id: str, part_ids: Iterable[str]) -> Project:
    """The project with more parts turned along by a level rod, as its crank turns."""
    rod = _rod(project, rod_id)
    if rod.keeps != "level":
        raise BadInput(f"“{rod.name}” does not stay level, so it turns nothing along as its crank turns")
    more = tuple(_coupled(project, meshes, rod, part_id) for part_id in part_ids)
    return update(project, rod_id, coupled=(*rod.coupled, *more))


def _rod(project: Project, rod_id: str) -> Rod:
    rod = get_as(project, rod_id, Rod)
    return rod


def lengthened(project: Project, rod_id: str, length: float) -> Project:
    """The project with a rod's far pin moved along it, so that it is of a length."""
    rod = _rod(project, rod_id)
    if not length > 0:
        raise BadInput(f"a rod {length:g} mm long is not possible; give more than 0")
    near = np.array(rod.near)
    direction = unit(np.array(rod.far) - near)
    return update(project, rod_id, far=vector(near + length * direction))


def copy_rod(
    project: Project, meshes: Mapping[str, Mesh], rod_id: str, count: int, offset: Vector, phase: float
) -> Project:
    """The project with linked copies of a rod and of what it moves, each an ``offset`` (3,) in space farther along, its pin on the same
    crank turned ``phase`` degrees farther about the crank's axle."""
    rod = _rod(project, rod_id)
    if not 2 <= count <= 100:
        raise BadInput(f"{count} rods are not possible; give 2 to 100 in all, the first among them")
    link = rod.link or new_id(project, Rod).replace("rod", "rods")
    project = update(project, rod_id, link=link)
    rod = _rod(project, rod_id)
    moved = [rod.part] if rod.to is None or rod.keeps in ("level", "points") else [rod.part, rod.to.part]
    axle = turning_axle(project, meshes, rod.crank.part)
    own_offset = rest_and_pivot(project, rod.crank.part)[0][:3, :3].T @ np.array(offset, float)
    first = Motion(project).slider_first(rod) if rod.keeps == "slider" else None
    for k in range(1, count):
        known = {p.id for p in project.parts}
        project = copy(project, moved, [shift(k * np.array(offset, float))])
        fresh = [p.id for p in project.parts if p.id not in known]
        turned = turned_about(axle, [np.radians(k * phase)])[0]
        at = turned[:3, :3] @ np.array(rod.crank.at) + turned[:3, 3] + k * own_offset
        fields: dict[str, object] = {
            "id": new_id(project, Rod),
            "name": new_name(project, Rod, rod.name),
            "part": fresh[0],
            "crank": Pin(rod.crank.part, vector(np.round(at, 6))),
            "coupled": (),
        }
        if len(moved) > 1:
            assert rod.to is not None
            fields["to"] = Pin(next(p for p in fresh[1:] if _names_alike(project, p, rod.to.part)), rod.to.at)
        edited = change(rod, **fields)
        project = add(project, edited)
        if first is not None:
            project = _as_built(project, edited, first=first)
    return project


def _names_alike(project: Project, one: str, two: str) -> bool:
    a, b = get(project, one), get(project, two)
    return isinstance(a, Part) and isinstance(b, Part) and a.geometry == b.geometry and (a.parent == b.parent)


def _as_built(project: Project, rod: Rod, *, first: bool) -> Project:
    """The project with a copied slider placed where its mechanism holds it at rest, put together as the original."""
    assert rod.to is not None
    reach = Motion(project).slider_at_rest(rod)
    reached = float((reach.one if first else reach.two)[0])
    pose = rest_and_pivot(project, rod.to.part)[0]
    part = _solid(project, rod.to.part)
    above = np.eye(4) if part.parent is None else rest_and_pivot(project, part.parent)[0]
    there = shift(reached * (pose[:3, :3] @ unit(rod.line))) @ pose
    return update(project, part.id, placement=placement(inverse_rigid(above) @ there))


# balls


def add_ball(project: Project, meshes: Mapping[str, Mesh], part_id: str, on: str | None = None) -> Project:
    """The project with a part that rolls as a ball, over a plane or a part's surface; centre and radius from its CAD sphere, or from
    its bounds."""
    part = _solid(project, part_id)
    if any(b.part == part_id for b in project.balls):
        raise BadInput(f"“{part.name}” rolls as a ball already")
    centre, radius = own_bounds(project, part_id).mean(axis=0), 0.0
    if part.geometry is not None:
        spheres = [f for f in solid_mesh(meshes, part).faces if f.kind == "sphere"]
        if spheres:
            widest = max(spheres, key=lambda f: f.radius)
            centre, radius = np.array(widest.origin), widest.radius
    radius = radius or 0.5 * float(np.ptp(own_bounds(project, part_id), axis=0).mean())
    if not radius > 0:
        raise BadInput(f"“{part.name}” has no size to roll by; choose a ball")
    name = new_name(project, Ball, f"{part.name} rolls")
    return add(project, Ball(new_id(project, Ball), name, part_id, vector(np.round(centre, 6)), radius, on))


def centre_distance(project: Project, gear: Gear) -> float:
    """How far apart a drive's axles are at rest, in mm; of a rack, the gear's axle from its pitch line."""
    return float(_stands(project, gear).apart[0])


def length_of_chain(project: Project, gear: Gear) -> float:
    """The length in mm of an open or crossed chain or belt around both ends at rest: its two strands and what lies on the ends."""
    one, two = pitch_radius(gear, gear.a), pitch_radius(gear, gear.b)
    apart = centre_distance(project, gear)
    if gear.crossed:
        lift = float(np.arcsin(min((one + two) / apart, 1.0)))
        return float(2 * np.sqrt(max(apart**2 - (one + two) ** 2, 0.0)) + (one + two) * (np.pi + 2 * lift))
    lift = float(np.arcsin(np.clip((one - two) / apart, -1.0, 1.0)))
    return float(
        2 * np.sqrt(max(apart**2 - (one - two) ** 2, 0.0)) + np.pi * (one + two) + 2 * lift * (one - two)
    )  # fmt: skip


def rod_lengths(project: Project, rod: Rod, times: ArrayLike) -> Array:
    """How far apart (n,) in mm a rod's pins are at times (n,): of one that points at its second pin."""
    assert rod.to is not None
    motion, times = Motion(project), np.asarray(times, float)
    one = motion.pin(rod.crank.part, rod.crank.at, times)
    two = motion.pin(rod.to.part, rod.to.at, times)
    rod_lengths: Array = np.linalg.norm(two - one, axis=1)
    return rod_lengths


def stroke(project: Project, rod: Rod, times: ArrayLike) -> float:
    """How far a rod moves what it moves over times (n,): a slider in mm, a rocker in rad; a level one its own pin, in mm across."""
    motion, times = Motion(project), np.asarray(times, float)
    if rod.keeps == "level":
        return float(np.linalg.norm(np.ptp(motion.pin(rod.crank.part, rod.crank.at, times), axis=0)))
    return float(np.ptp(motion.angles(rod, times)))


def shortfalls(project: Project, rod: Rod, times: ArrayLike) -> Array:
    """By how much (n,) in mm a mechanism cannot reach at times (n,)."""
    motion, times = Motion(project), np.asarray(times, float)
    if rod.keeps == "slider":
        return motion.slider(rod, times).short
    return motion.rocker(rod, times).short if rod.keeps == "rocker" else np.zeros(len(times))
