"""The table of rules: what is looked for, how grave it is, by what limit, and where that comes from.

Every finding tells the id of its rule, and no two rules have the same. Where the project has a setting for a limit, that holds instead of
what stands here.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

import msgspec

from kestrav.core.document.cameras import Framing
from kestrav.core.document.records import Settings
from kestrav.core.findings.model import Evidence, Finding, Severity
from kestrav.core.findings.rules import (
    absent_carrier,
    arrival,
    bad_geometry,
    below_floor,
    between_frames,
    camera_pan,
    camera_room,
    clearance,
    dead_ends,
    dead_time,
    digging,
    doubled_point,
    facing,
    frame_rate,
    ground_gap,
    hand_over,
    horizon,
    implausible_size,
    joint,
    kink_at_speed,
    kink_in_path,
    leftover_scale,
    leftover_turn,
    loop,
    not_triggered,
    orientation_flip,
    over_limit,
    pivot_outside,
    rods,
    roles,
    rotations,
    same_place,
    self_crossing,
    subject_dips,
    subject_framing,
    subject_hidden,
    subject_missing,
    surface_replaced,
    swept_outdated,
    tangled_handle,
    teeth,
    tight_bend,
    undirected_end,
    view_jump,
    walking_fast,
    wheels,
)

Find = Callable[[Evidence], Iterable[Finding]]

PRACTICE = "common practice, no source"
DEFINED = "by definition"
CHOSEN = "the project's own"


class Rule(msgspec.Struct, frozen=True):
    """A rule: what looks for it, its id, what it says in words, how grave it is at the most, the unit of its number, its limit if nothing
    else is said (none: any at all), the ``setting`` that holds instead, and the ``source`` of the limit."""

    find: Find
    id: str
    says: str
    severity: Severity
    unit: str = ""
    limit: float | None = None
    setting: str = ""
    source: str = PRACTICE


_S, _F = Settings(), Framing()

RULES: tuple[Rule, ...] = (
    # clearance
    Rule(clearance.find, "collision", "two parts interfere", "breach", "mm", 0.0, "", DEFINED),
    Rule(clearance.find, "clearance-breach", "two parts come closer than required", "breach", "mm", _S.required_clearance, "required_clearance", CHOSEN),
    Rule(between_frames.find, "between-frames", "two parts come too close between two frames", "breach", "mm", _S.required_clearance, "required_clearance", CHOSEN),
    Rule(between_frames.find, "not-shown", "the clearance could not be proved for a span of time", "warning", "mm", _S.required_clearance, "required_clearance", CHOSEN),
    Rule(swept_outdated.find, "swept-outdated", "a swept volume is out of date", "warning", "s", None, "", DEFINED),
    # runs, and what moves things one after another
    Rule(orientation_flip.find, "orientation-flip", "the orientation of a rider flips between two frames", "breach", "°", _S.flip_angle, "flip_angle"),
    Rule(over_limit.find, "speed-over-limit", "a rider exceeds the speed limit", "warning", "mm/s", None, "speed_limit", CHOSEN),
    Rule(over_limit.find, "abrupt", "a rider exceeds the acceleration limit, or its speed jumps", "warning", "mm/s²", None, "acceleration_limit", CHOSEN),
    Rule(facing.find, "facing", "a rider with a front travels sideways or backwards", "note", "°", facing.SIDEWAYS),
    Rule(hand_over.find, "overlap", "two motions move one rider at the same time", "breach", "s", 0.0, "", DEFINED),
    Rule(hand_over.find, "jump", "a rider jumps from one motion to the next", "breach", "mm", hand_over.GAP),
    Rule(hand_over.find, "speed-jump", "a rider's speed jumps from one motion to the next", "warning", "mm/s", _S.kink_step, "kink_step"),
    Rule(hand_over.find, "released-in-motion", "a part is released while it moves", "warning", "mm/s", _S.kink_step, "kink_step"),
    Rule(hand_over.find, "attached-in-motion", "a part at rest is attached to a moving part", "warning", "mm/s", _S.kink_step, "kink_step"),
    Rule(hand_over.find, "orientation-jump", "a rider's orientation jumps from one motion to the next", "warning", "°", hand_over.ANGLE),
    Rule(arrival.find, "mark", "a rider does not stop at its mark", "breach", "mm", arrival.MARK),
    Rule(arrival.find, "late", "a rider arrives late", "breach", "s", None, "", "a frame of the project"),
    Rule(arrival.find, "run-never-begins", "a run's trigger never occurs", "breach", "", None, "", DEFINED),
    Rule(arrival.find, "run-never-arrives", "a run with no end has a mark or an arrival time", "breach", "", None, "", DEFINED),
    Rule(arrival.find, "run-stops-short", "a run's last key lies before the end of its path", "warning", "mm", arrival.MARK),
    Rule(not_triggered.find, "never-begins", "the trigger of a pose track, attachment or rotation never occurs", "breach", "", None, "", DEFINED),
    Rule(not_triggered.find, "not-triggered", "a motion starts at about the time of a contact, but is not triggered by that contact", "warning", "s", None, "", DEFINED),
    Rule(absent_carrier.find, "absent-carrier", "a part is attached to another part that is not there yet", "warning", "mm", absent_carrier.APART),
    Rule(ground_gap.find, "ground", "a rider floats above the ground or sinks into the ground", "warning", "mm", _S.ground_gap, "ground_gap"),
    Rule(digging.find, "digging", "a pose track dips below the floor between its keys", "warning", "mm", _S.ground_gap, "ground_gap"),
    Rule(dead_time.find, "dead-time", "nothing moves for a while", "note", "s", _S.dead_time, "dead_time"),
    # wheels, rotations, gears and rods
    Rule(wheels.find, "wheel-slip", "a wheel slips", "warning", "mm", wheels.SLIP),
    Rule(wheels.find, "wheel-dragged", "a wheel is dragged sideways", "note", "mm", None, "", f"{wheels.DRAGGED:.0%} of its path; {PRACTICE}"),
    Rule(wheels.find, "wheel-axle-along", "a wheel's axle points along the direction of travel", "breach", "", wheels.ALONG),
    Rule(wheels.find, "wheel-off-axle", "a wheel's axle is off the axis of its CAD face", "warning", "mm", wheels.OFF_AXLE),
    Rule(wheels.find, "wheel-radius", "a wheel's rolling radius differs from its tread radius", "warning", "mm", None, "", DEFINED),
    Rule(wheels.find, "wheel-off-ground", "a wheel is above or below the ground", "warning", "mm", _S.ground_gap, "ground_gap"),
    Rule(rotations.find, "rotation-off-axle", "a part rotates about a line beside its own axis", "warning", "mm", rotations.OFF_AXLE),
    Rule(rotations.find, "rotation-wrong-sense", "a wheel rotates against its direction of rolling", "breach", "s", 0.0, "", DEFINED),
    Rule(rotations.find, "rotation-slip", "a wheel rotates faster or slower than it rolls", "warning", "mm", 1.0, "", f"or {rotations.SLIP:.0%} of its path; {PRACTICE}"),
    Rule(teeth.find, "gear-wrong-sense", "both gears of a pair are driven, in opposite senses", "breach", "°", 0.0, "", DEFINED),
    Rule(teeth.find, "gear-ratio", "both gears of a pair are driven, not by the gear ratio", "breach", "°", 0.0, "", DEFINED),
    Rule(teeth.find, "gear-less-than-a-tooth", "a gear turns by less than a tooth", "note", "mm", None, "", DEFINED),
    Rule(teeth.find, "gear-axle-distance", "the axle distance does not fit the pitch circles", "warning", "mm", teeth.APART),
    Rule(teeth.find, "gear-teeth", "the teeth of a gear pair do not mesh", "warning", "tooth", teeth.MESH),
    Rule(teeth.find, "gear-off-axle", "a gear rotates off the axis of its CAD face", "warning", "mm", teeth.OFF_AXLE),
    Rule(rods.find, "rod-length", "a rod's length differs from the distance of its pins", "breach", "mm", rods.CHANGE),
    Rule(rods.find, "out-of-reach", "a mechanism cannot be closed at all positions", "breach", "mm", rods.SHORT, "", DEFINED),
    # paths
    Rule(kink_at_speed.find, "kink-at-speed", "a rider takes a kink without stopping", "warning", "mm/s", _S.kink_step, "kink_step"),
    Rule(kink_in_path.find, "kink-in-path", "a path in use has a kink", "note", "°", 0.0, "", DEFINED),
    Rule(undirected_end.find, "undirected-end", "a path's end has no direction of its own", "warning", "°", None),
    Rule(tight_bend.find, "tight-bend", "a path bends more tightly than its rider allows", "breach", "mm", None, "", "minimum bend radius of the rider"),
    Rule(joint.find, "joint", "paths of consecutive runs do not meet, or meet at an angle", "breach", "mm", joint.GAP),
    Rule(doubled_point.find, "doubled-point", "two points of a path nearly coincide", "warning", "mm", None),
    Rule(tangled_handle.find, "tangled-handle", "a handle makes a path turn back or loop", "warning", "°", tangled_handle.TURNING),
    Rule(self_crossing.find, "self-crossing", "a path crosses itself", "note", "", None, "", DEFINED),
    Rule(surface_replaced.find, "surface-replaced", "a path lies on a part whose shape has changed", "warning", "", None, "", DEFINED),
    # the product
    Rule(pivot_outside.find, "pivot-outside", "a rider's pivot lies off the part", "warning", "mm", pivot_outside.ALLOWED),
    Rule(leftover_scale.find, "leftover-scale", "an imported part that will move has a leftover scale", "warning", "", None),
    Rule(leftover_turn.find, "leftover-turn", "an imported part that will move has axes that were never set", "note", "°", leftover_turn.ALLOWED),
    Rule(implausible_size.find, "implausible-size", "a product's size suggests a wrong unit", "warning", "mm", _S.smallest_size, "smallest_size, largest_size"),
    Rule(below_floor.find, "below-floor", "a part lies below the floor", "warning", "mm", 0.0),
    Rule(bad_geometry.find, "degenerate-geometry", "a solid has no thickness", "note", "mm", bad_geometry.THIN),
    Rule(bad_geometry.find, "far-away", "a part lies very far from the others", "warning", "mm", bad_geometry.FAR),
    Rule(bad_geometry.find, "empty-assembly", "an assembly is empty", "note", "", None, "", DEFINED),
    Rule(same_place.find, "same-place", "two identical parts lie in the same place", "warning", "mm", same_place.APART),
    Rule(roles.find, "fixed-moves", "a fixed part is moved", "warning", "", None, "", DEFINED),
    Rule(roles.find, "moving-without-motion", "a part that will move has no motion", "note", "", None, "", DEFINED),
    # cameras and shots
    Rule(subject_missing.find, "subject-missing", "a camera's subject is not visible in the project", "warning", "", None, "", DEFINED),
    Rule(subject_missing.find, "aim-at-itself", "a camera stands at its own aim", "breach", "mm", subject_missing.AT),
    Rule(subject_framing.find, "out-of-frame", "a camera's subject is out of the frame", "breach", "%", None, "", DEFINED),
    Rule(subject_framing.find, "subject-cut", "a camera's subject is cut by the frame's edge", "warning", "%", 100 * _F.margin, "framing of the camera"),
    Rule(subject_framing.find, "subject-small", "a camera's subject is too small", "warning", "%", 100 * _F.least, "framing of the camera"),
    Rule(subject_framing.find, "subject-large", "a camera's subject is too large", "warning", "%", 100 * _F.most, "framing of the camera"),
    Rule(subject_framing.find, "subject-changing", "a camera's subject changes size", "warning", "%", None, "framing of the camera", CHOSEN),
    Rule(subject_hidden.find, "subject-hidden", "a camera's subject is hidden behind another part", "warning", "%", 100 * _F.visible, "framing of the camera"),
    Rule(subject_hidden.find, "subject-crossed", "something passes before the middle of a camera's subject", "warning", "%", 100 * subject_hidden.CROSSED),
    Rule(subject_dips.find, "subject-dips", "what the film is of dips out of the frame", "warning", "s", subject_dips.DIPS),
    Rule(camera_room.find, "camera-inside", "a camera is inside a part or passes through a part", "breach", "mm", 0.0, "", DEFINED),
    Rule(camera_room.find, "camera-near", "a camera comes too close to a part", "warning", "mm", _F.near, "framing of the camera"),
    Rule(camera_pan.find, "pan-fast", "the scene crosses the frame too fast", "warning", "s", _S.crossing_time, "crossing_time"),
    Rule(walking_fast.find, "walking-fast", "a walkthrough is faster than people walk", "warning", "m/s", _S.walking_speed / 1000, "walking_speed"),
    Rule(horizon.find, "horizon-rolled", "a camera's horizon is not level", "warning", "°", _F.roll, "framing of the camera"),
    Rule(view_jump.find, "view-jump", "a camera's view jumps between two frames", "breach", "°", view_jump.TURN),
    Rule(loop.find, "loop-seam", "a looping shot does not close, or stutters at its seam", "warning", "mm", loop.PLACE),
    Rule(dead_ends.find, "dead-ends", "a shot's picture does not change at its start or end", "note", "s", _S.dead_time, "dead_time"),
    Rule(frame_rate.find, "frame-rate", "a shot has a low frame rate", "warning", "fps", frame_rate.LEAST, "", f"that of cinema (SMPTE ST 428-11); {PRACTICE}"),
)  # fmt: skip


def by_frames() -> tuple[Find, ...]:
    """What looks for the rules at the frames, each once, in the order of the table; what needs a certificate is left out."""
    return tuple(dict.fromkeys(rule.find for rule in RULES if rule.find is not between_frames.find))


def as_data() -> list[dict[str, Any]]:
    """The table for machines."""
    return [
        {
            "id": rule.id,
            "says": rule.says,
            "severity": rule.severity,
            "unit": rule.unit,
            "limit": rule.limit,
            "setting": rule.setting,
            "source": rule.source,
        }
        for rule in RULES
    ]


def as_text() -> str:
    """The table for people, in Markdown."""
    lines = ["| id | found when | at most | limit | setting | source |", "|---|---|---|---|---|---|"]
    for rule in RULES:
        limit = "" if rule.limit is None else f"{rule.limit:g} {rule.unit}".strip()
        lines.append(f"| `{rule.id}` | {rule.says} | {rule.severity} | {limit} | {rule.setting} | {rule.source} |")
    return "\n".join(lines) + "\n"
