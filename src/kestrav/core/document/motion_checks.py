"""What must hold of what moves and shines: runs, key poses, carries and lights."""

from __future__ import annotations

import math
from collections.abc import Mapping
from itertools import pairwise

from kestrav.core.document.check_values import check_colour, check_time, name_of, positive
from kestrav.core.document.records import (
    AnyTrigger,
    Attachment,
    Camera,
    CarriedOrientation,
    ContactTrigger,
    Eased,
    Following,
    Keyed,
    KeyedOrientation,
    Light,
    Limited,
    Part,
    PoseTrack,
    Project,
    Run,
    SpeedProfile,
    TimedRotation,
    Trigger,
)
from kestrav.core.document.trains import turned_by
from kestrav.core.document.turning_checks import check_turners
from kestrav.core.errors import BadInput

MOST_PASSES = 10_000
_UNIT = 1e-6


def check_motion(project: Project) -> None:
    """Raise BadInput when something that moves or shines does not hold together."""
    for run in project.runs:
        if run.rider in run.companions:
            raise BadInput(f"{name_of(run)} has its rider among its companions")
        check_run(run)
    cued: tuple[Run | PoseTrack | Attachment | TimedRotation, ...] = (
        *project.runs,
        *project.pose_tracks,
        *project.attachments,
        *project.rotations,
    )
    for item in cued:
        if item.trigger is not None:
            _check_trigger(item.trigger, name_of(item))
    _no_circle({r.id: _waits_for(r) for r in project.runs}, {r.id: r.name for r in project.runs}, "waits for itself")
    for poses in project.pose_tracks:
        check_poses(poses)
    for attachment in project.attachments:
        check_attachment(attachment)
    check_turners(project)
    _check_riding(project)
    for light in project.lights:
        check_light(light)


def _waits_for(run: Run) -> set[str]:
    return {other.run for other in (run.trigger, run.follows) if isinstance(other, Trigger | Following)}


def _check_riding(project: Project) -> None:
    """Raise BadInput when something is carried by what it carries, however far around."""
    things: tuple[Part | Camera | Light, ...] = (*project.parts, *project.cameras, *project.lights)
    names = {item.id: item.name for item in things}
    needs: dict[str, set[str]] = {}
    for attachment in project.attachments:
        needs.setdefault(attachment.rider, set()).add(attachment.carrier)
        if attachment.onto is not None:
            needs[attachment.rider].add(attachment.onto)
    for run in project.runs:
        for other in run.companions:
            needs.setdefault(other, set()).add(run.rider)
    for turned, others in turned_by(project).items():
        needs.setdefault(turned, set()).update(others)
    if needs:
        for part in project.parts:
            if part.parent is not None:
                needs.setdefault(part.id, set()).add(part.parent)
    _no_circle(needs, names, "is carried or driven by itself")


def _no_circle(needs: Mapping[str, set[str]], names: Mapping[str, str], fault: str) -> None:
    """Raise BadInput when following what each needs leads back to where one began."""
    done: set[str] = set()
    for first in needs:
        stack: list[tuple[str, list[str]]] = [(first, list(needs[first]))]
        passed = {first}
        while stack:
            here, left = stack[-1]
            if not left:
                stack.pop()
                passed.discard(here)
                done.add(here)
                continue
            following = left.pop()
            if following in passed:
                raise BadInput(f"“{names.get(following, following)}” {fault}, by way of “{names.get(here, here)}”")
            if following not in done and following in needs:
                passed.add(following)
                stack.append((following, list(needs[following])))


def _check_trigger(trigger: AnyTrigger, label: str) -> None:
    if isinstance(trigger, ContactTrigger) and trigger.a == trigger.b:
        raise BadInput(f"{label} waits until a thing touches itself; give two things")


def check_run(run: Run) -> None:
    """Raise BadInput when a run takes no time or covers no way."""
    label = f"the run “{run.name}”"
    if not 0 <= run.begin < run.end <= 1:
        raise BadInput(
            f"{label} covers {run.begin:.4%} to {run.end:.4%} of its path; it must go forward within 0 to 100 %"
        )
    if (run.duration is None) == (run.speed is None):
        raise BadInput(f"{label} needs either a duration or a speed, and not both")
    check_time(run.start, f"{label} starts")
    _check_speed_profile(run.speed_profile, label)
    if isinstance(run.orientation, CarriedOrientation):
        positive(f"{label}: the wheelbase in mm", run.orientation.wheelbase)
    if isinstance(run.orientation, KeyedOrientation):
        _check_turns(run.orientation, label)
    _check_stops(run, label)
    for rough in run.roughness:
        if rough.amplitude < 0:
            raise BadInput(f"{label} has a roughness of a negative amplitude; give 0 or more")
    if run.ground is not None:
        positive(f"{label}: the reach to the ground in mm", run.ground.reach)
    places = [key.place for key in run.bank.keys]
    if any(b <= a for a, b in pairwise(places)) or any(not 0 <= p <= 1 for p in places):
        raise BadInput(f"{label} has bank keys that do not go forward within 0 to 100 % of the path")
    if not 0 <= run.bank.limit < 90 or run.bank.smoothing < 0:
        raise BadInput(
            f"{label} has a bank limit of {run.bank.limit:g}°; give 0 to below 90, and a smoothing of 0 or more"
        )


def _check_speed_profile(speed_profile: SpeedProfile, label: str) -> None:
    if isinstance(speed_profile, Eased):
        if speed_profile.start_length < 0 or speed_profile.stop_length < 0:
            raise BadInput(f"{label} has a negative start or stop length; give 0 or more")
        if min(speed_profile.start_time or 0.0, speed_profile.stop_time or 0.0) < 0:
            raise BadInput(f"{label} has a negative start or stop time; give 0 or more")
    elif isinstance(speed_profile, Limited):
        if (
            max(speed_profile.top, speed_profile.sideways) == 0
            and max(speed_profile.forward, speed_profile.braking) == 0
        ):
            raise BadInput(f"{label} has no limit at all; give a top speed or an acceleration")
        for zone in speed_profile.zones:
            if not 0 <= zone.begin < zone.end <= 1:
                raise BadInput(
                    f"{label} has a speed zone from {zone.begin:.2%} to {zone.end:.2%}; it must go forward within 0 to 100 %"
                )
            positive(f"{label}: the speed of a zone in mm/s", zone.speed)
    elif isinstance(speed_profile, Keyed):
        times = [key.time for key in speed_profile.keys]
        if len(times) < 2 or times[0] != 0 or times[-1] != 1 or any(b <= a for a, b in pairwise(times)):
            raise BadInput(f"{label} needs keys from its start to its end whose times go forward")
        if any(not 0 <= key.distance <= 1 for key in speed_profile.keys):
            raise BadInput(f"{label} has a key beyond its distance; keys lie within 0 to 100 % of it")


def _check_turns(orientation: KeyedOrientation, label: str) -> None:
    places = [key.place for key in orientation.keys]
    if not places or any(b <= a for a, b in pairwise(places)) or any(not 0 <= p <= 1 for p in places):
        raise BadInput(f"{label} needs orientation keys that go forward within 0 to 100 % of the path")
    if any(abs(math.fsum(q * q for q in key.rotation) - 1) > _UNIT for key in orientation.keys):
        raise BadInput(f"{label} has an orientation key that is not a unit quaternion")


def _check_stops(run: Run, label: str) -> None:
    """Holds, passes, marks and when it is due."""
    places = [hold.place for hold in run.holds]
    if any(b <= a for a, b in pairwise(places)) or any(not run.begin < p < run.end for p in places):
        raise BadInput(f"{label} has holds that do not go forward within its portion of the path")
    for hold in run.holds:
        positive(f"{label}: the duration of a hold in s", hold.duration)
    if run.holds and run.duration is not None and sum(h.duration for h in run.holds) >= run.duration:
        raise BadInput(f"{label} holds for longer than its {run.duration:g} s; give it more time or shorter holds")
    if not 0 <= run.passes <= MOST_PASSES:
        raise BadInput(f"{label} is made {run.passes} times; give 1 to {MOST_PASSES}, or 0 for without end")
    if run.mark is not None and not 0 <= run.mark <= 1:
        raise BadInput(f"{label} has its mark at {run.mark:.2%} of its path; give 0 to 100 %")
    if run.arrive_by is not None:
        positive(f"{label}: the time at which it is due in s", run.arrive_by)
    if run.portion is not None:
        first, last = run.portion
        if not (0 <= first <= 1 and 0 <= last <= 1 and first != last):
            raise BadInput(f"{label} makes {first:.2%} to {last:.2%} of its time; give two shares from 0 to 100 %")
        if run.passes == 0 or run.follows is not None:
            raise BadInput(f"{label} goes without end or follows another run, so no portion of its time can be made")


def check_poses(poses: PoseTrack) -> None:
    """Raise BadInput when key poses do not follow each other in time."""
    label = name_of(poses)
    times = [key.time for key in poses.keys]
    if not times or times[0] != 0 or any(b <= a for a, b in pairwise(times)):
        raise BadInput(f"{label} need keys from their start on whose times go forward")
    check_time(poses.start, f"{label} start")
    check_time(times[-1], f"{label} end")
    if any(abs(math.fsum(q * q for q in key.placement.rotation) - 1) > _UNIT for key in poses.keys):
        raise BadInput(f"{label} have a rotation that is not a unit quaternion")


def check_attachment(attachment: Attachment) -> None:
    """Raise BadInput when an attachment has no span of time."""
    label = name_of(attachment)
    check_time(attachment.start, f"{label} starts")
    if attachment.end is not None:
        check_time(attachment.end, f"{label} ends")
    if attachment.end is not None and attachment.trigger is None and attachment.end <= attachment.start:
        raise BadInput(
            f"{label} is from {attachment.start:g} to {attachment.end:g} s; its end must come after its start"
        )
    if attachment.put is not None:
        if attachment.end is None:
            raise BadInput(f"{label} sets its rider down, and has no end; give it the time to be down")
        if abs(math.fsum(q * q for q in attachment.put.rotation) - 1) > _UNIT:
            raise BadInput(f"{label} sets its rider down at a rotation that is not a unit quaternion")


def check_light(light: Light) -> None:
    """Raise BadInput when a light cannot shine."""
    label = name_of(light)
    if min([light.strength, *(key.strength for key in light.keys)]) < 0:
        raise BadInput(f"{label} has a negative strength; give 0 or more")
    for side in light.size:
        positive(f"{label}: a side in mm", side)
    for colour in (light.colour, *(key.colour for key in light.keys)):
        check_colour(colour, f"the colour of {label}")
    times = [key.time for key in light.keys]
    if any(b <= a for a, b in pairwise(times)):
        raise BadInput(f"{label} has keys whose times do not go forward")
    for time in times:
        check_time(time, f"{label} has a key")
