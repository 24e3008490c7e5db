"""What must hold of what turns and drives: wheels, castors, rotations, gears, rods and balls."""

from __future__ import annotations

import math

from kestrav.core.document.check_values import check_time, name_of, positive
from kestrav.core.document.lookup import turners
from kestrav.core.document.mechanisms import LARGEST_RADIUS
from kestrav.core.document.records import Axle, Ball, Castor, Gear, Project, Rod, TimedRotation, Turner, Vector, Wheel
from kestrav.core.errors import BadInput

MOST_TEETH = 100_000
_UNIT = 1e-6


def check_turners(project: Project) -> None:
    """Raise BadInput when something that turns or drives does not hold together."""
    for turner in turners(project):
        check_turner(turner)
    _one_way_to_turn(project)


def check_turner(item: Turner) -> None:
    """Raise BadInput when a wheel, castor, spinning part, gear, rod or ball cannot turn."""
    label = name_of(item)
    if isinstance(item, Wheel):
        _check_axle(label, item.axle)
    elif isinstance(item, Castor):
        _check_axle(label, item.kingpin)
        if math.hypot(*_cross(item.forward, item.kingpin.direction)) < _UNIT:
            raise BadInput(f"{label} looks along its kingpin; give it a forward direction across it")
    elif isinstance(item, TimedRotation):
        _check_axle(label, item.axle)
        _check_rotation(label, item)
    elif isinstance(item, Gear):
        _check_drive(label, item)
    elif isinstance(item, Rod):
        _check_rod(label, item)
    else:
        _check_ball(label, item)


def _check_axle(label: str, axle: Axle) -> None:
    if math.hypot(*axle.direction) < _UNIT:
        raise BadInput(f"{label} has an axle without direction")


def _check_radius(label: str, radius: float) -> None:
    positive(f"{label} in mm", radius)
    if radius > LARGEST_RADIUS:
        raise BadInput(f"{label} is {radius:g} mm; {LARGEST_RADIUS:g} mm is the most")


def _check_rotation(label: str, item: TimedRotation) -> None:
    check_time(item.start, f"{label} starts")
    if (item.turns is None) == (item.rpm is None):
        raise BadInput(f"{label} needs either turns or a rate, and not both")
    if item.end is not None:
        check_time(item.end, f"{label} ends")
        if item.end <= item.start:
            raise BadInput(f"{label} is from {item.start:g} to {item.end:g} s; its end must come after its start")
    elif item.turns is not None:
        raise BadInput(f"{label} makes {item.turns:g} turns; give it an end in time")
    if min(item.ramp_in, item.ramp_out) < 0:
        raise BadInput(f"{label} has a negative ramp; give 0 or more")


def _check_drive(label: str, item: Gear) -> None:
    if item.a.part == item.b.part:
        raise BadInput(f"{label} has the same part at both ends; give it two")
    for end in (item.a, item.b):
        _check_axle(label, end.axle)
        if not 0 <= end.teeth <= MOST_TEETH:
            raise BadInput(f"{label} has an end of {end.teeth} teeth; give up to {MOST_TEETH}")
    if _has_teeth(item):
        positive(
            f"{label}: its {'module' if item.kind in ('external', 'internal', 'rack') else 'pitch'} in mm", item.pitch
        )
    for end, rack in ((item.a, False), (item.b, item.kind == "rack")):
        if rack:
            continue
        if item.kind == "belt" and not _has_teeth(item):
            _check_radius(f"{label}: the radius of a pulley", end.radius)
        elif end.teeth < 3:
            raise BadInput(f"{label} has an end of {end.teeth} teeth; give 3 or more")
    if item.kind == "internal" and item.a.teeth == item.b.teeth:
        raise BadInput(f"{label} has {item.a.teeth} teeth at both ends; a ring has more than what runs in it")
    if item.crossed and item.kind != "belt":
        raise BadInput(f"{label} is crossed; only belts can be")


def _has_teeth(item: Gear) -> bool:
    return item.kind != "belt" or (item.a.teeth > 0 and item.b.teeth > 0)


def _check_rod(label: str, item: Rod) -> None:
    if item.crank.part == item.part:
        raise BadInput(f"{label} hangs on itself; give it a crank of another part")
    if item.keeps == "level":
        for coupled in item.coupled:
            _check_axle(label, coupled.axle)
            if coupled.part in (item.part, item.crank.part):
                raise BadInput(f"{label} turns itself or its crank along; couple other parts")
        return
    if item.to is None:
        raise BadInput(f"{label} has no second pin to look at; choose one")
    if item.to.part in (item.part, item.crank.part):
        raise BadInput(f"{label} has both pins on one part; give the second one another")
    if math.dist(item.near, item.far) < _UNIT:
        raise BadInput(f"{label} has both of its own pins at one place; it needs a length")
    if item.keeps == "slider" and math.hypot(*item.line) < _UNIT:
        raise BadInput(f"{label} moves its slider along no direction")
    if item.keeps == "rocker":
        _check_axle(label, item.axle)


def _check_ball(label: str, item: Ball) -> None:
    if item.on == item.part:
        raise BadInput(f"{label} rolls on itself; choose another part")


def _one_way_to_turn(project: Project) -> None:
    """Raise BadInput when parts drive each other in a ring, so that one would turn by itself."""
    leader: dict[str, str] = {}

    def top(part: str) -> str:
        while part in leader:
            part = leader[part]
        return part

    links: list[tuple[Gear | Rod, str, str]] = [(d, d.a.part, d.b.part) for d in project.gears]
    for rod in project.rods:
        links += [(rod, rod.crank.part, c.part) for c in rod.coupled]
        if rod.keeps in ("slider", "rocker") and rod.to is not None:
            links.append((rod, rod.crank.part, rod.to.part))
    names = {p.id: p.name for p in project.parts}
    for item, one, two in links:
        a, b = top(one), top(two)
        if a == b:
            raise BadInput(f"{name_of(item)} closes a ring: “{names[two]}” would drive itself; leave one link out")
        leader[a] = b


def _cross(a: Vector, b: Vector) -> Vector:
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
