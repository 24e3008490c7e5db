"""How parts are moved within what carries them: turned about axles, slid along lines, hung on pins, rolled."""

from __future__ import annotations

from typing import Literal

import msgspec

from kestrav.core.document.records import Axle, Project, TimedRotation, Turner, Wheel
from kestrav.core.document.trains import driven
from kestrav.core.memo import Memo

_NO_AXLE = Axle()


class Joint(msgspec.Struct, frozen=True):
    """One way in which something moves a part: it ``turns`` it about an axle, ``slides`` it along an axle's direction, hangs it
    on pins as a ``rod``, or lets it roll as a ``ball``."""

    item: Turner
    role: Literal["turns", "slides", "rod", "ball"]
    part: str
    axle: Axle = _NO_AXLE


_joints: Memo[dict[str, list[Joint]]] = Memo(4)


def joints(project: Project) -> dict[str, list[Joint]]:
    """The joints of each part that has some, by its id; kept by the records' tuples."""
    state = (
        project.wheels, project.castors, project.rotations, project.gears, project.rods, project.balls,
        project.runs, project.pose_tracks, project.attachments,
    )  # fmt: skip
    return _joints.get(state, lambda: _by_part(project))


def _by_part(project: Project) -> dict[str, list[Joint]]:
    by_part: dict[str, list[Joint]] = {}
    for joint in _every(project):
        by_part.setdefault(joint.part, []).append(joint)
    return by_part


def _every(project: Project) -> list[Joint]:
    joints = [Joint(item, "turns", item.part, item.kingpin) for item in project.castors]
    turned: tuple[Wheel | TimedRotation, ...] = (*project.wheels, *project.rotations)
    joints += [Joint(item, "turns", item.part, item.axle) for item in turned]
    driven_parts = driven(project)
    for gear in project.gears:
        side = driven_parts[gear.id]
        if side is None:
            continue
        end = gear.b if side == "b" else gear.a
        role: Literal["turns", "slides"] = "slides" if gear.kind == "rack" and side == "b" else "turns"
        joints.append(Joint(gear, role, end.part, end.axle))
    for rod in project.rods:
        joints.append(Joint(rod, "rod", rod.part))
        if rod.keeps == "level":
            joints += [Joint(rod, "turns", c.part, c.axle) for c in rod.coupled]
        elif rod.to is not None and rod.keeps == "slider":
            joints.append(Joint(rod, "slides", rod.to.part, Axle(rod.to.at, rod.line)))
        elif rod.to is not None and rod.keeps == "rocker":
            joints.append(Joint(rod, "turns", rod.to.part, rod.axle))
    joints += [Joint(ball, "ball", ball.part) for ball in project.balls]
    return joints


def joints_of(project: Project, item: Turner) -> list[Joint]:
    """What one wheel, castor, rotation, gear, rod or ball moves."""
    return [joint for mine in joints(project).values() for joint in mine if joint.item is item or joint.item == item]
