"""How a run's distance grows with time."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows, replacing
from kestrav.core.document.records import (
    Eased,
    Even,
    Keyed,
    Law,
    Limited,
    Run,
    SpeedKey,
    SpeedProfile,
    SpeedZone,
)
from kestrav.core.kinematics.laws import LAWS
from kestrav.core.kinematics.passes import FollowingProfile, SegmentedProfile, steady_part
from kestrav.core.kinematics.runs import RunCourse
from kestrav.core.kinematics.speed_profile import EasedProfile, TabledProfile, part_as_keys, peak
from kestrav.core.units import show

_KINDS = [
    ("even", "even"),
    ("eased", "soft start and stop"),
    *((f"law:{name}", name) for name in LAWS),
    ("limited", "fastest within limits"),
    ("keyed", "by keys"),
]
_BY = [("mm", "over a length"), ("s", "over a time"), ("frames", "over frames")]


def _kind(speed_profile: SpeedProfile) -> str:
    return (
        f"law:{speed_profile.name}"
        if isinstance(speed_profile, Law)
        else str(type(speed_profile).__struct_config__.tag)
    )


def profile_name(run: Run) -> str:
    """What the card calls a run's speed profile."""
    return dict(_KINDS)[_kind(run.speed_profile)]


class SpeedProfileRows(Rows):
    """The kind of speed profile and its numbers."""

    def build(self, run: Run, course: RunCourse) -> None:
        speed_profile = run.speed_profile
        self.form.choice(
            "Speed profile",
            _KINDS,
            _kind(speed_profile),
            lambda key: self._set(run.id, "Speed profile", speed_profile=_profile_of(key, course)),
            "Law of distance over time; standard laws after VDI 2143",
        )
        if isinstance(speed_profile, Eased):
            self._eased(run, speed_profile)
        elif isinstance(speed_profile, Limited):
            self._limited(run, speed_profile, course)
        elif isinstance(speed_profile, Keyed):
            self._keyed(run, speed_profile, course)

    def _change(self, run: Run, label: str, **fields: Any) -> None:
        self._set(run.id, label, speed_profile=msgspec.structs.replace(run.speed_profile, **fields))

    def _eased(self, run: Run, speed_profile: Eased) -> None:
        form, fps = self.form, self.session.shown.settings.fps
        for label, length, time in (
            ("Soft start", "start_length", "start_time"),
            ("Soft stop", "stop_length", "stop_time"),
        ):
            seconds = getattr(speed_profile, time)
            by = "mm" if seconds is None else self.card.ramps.get(time, "s")

            def switch(key: str, time: str = time, label: str = label) -> None:
                self.card.ramps[time] = key
                self._change(run, label, **{time: None if key == "mm" else getattr(speed_profile, time) or 0.5})
                self.card.rebuild()

            form.choice(label, _BY, by, switch, "Unit of the ramp")
            if by == "mm":
                form.number(
                    f"{label}, mm",
                    getattr(speed_profile, length),
                    "mm",
                    partial(lambda f, what, v: self._change(run, what, **{f: v}), length, label),
                    "Length of the ramp",
                    step=10,
                )
            elif by == "s":
                form.number(
                    f"{label}, s",
                    seconds,
                    "s",
                    partial(lambda f, what, v: self._change(run, what, **{f: v}), time, label),
                    "Duration of the ramp",
                    3,
                    0.1,
                )
            else:
                form.number(
                    f"{label}, frames",
                    seconds * fps,
                    "",
                    partial(lambda f, what, v: self._change(run, what, **{f: v / fps}), time, label),
                    "Duration of the ramp in frames",
                    1,
                )

    def _limited(self, run: Run, speed_profile: Limited, course: RunCourse) -> None:
        def change(**fields: Any) -> None:
            self._change(run, "Limits", **fields)

        form, names = self.form, ("top", "sideways", "forward", "braking", "from_rest", "to_rest")
        self._fields(speed_profile, *names, change=change)
        for number, zone in enumerate(speed_profile.zones):
            self._zone(run, speed_profile, number, zone)
        form.buttons(
            (
                "Add a speed zone",
                lambda: self._change(run, "Speed zone", zones=(*speed_profile.zones, SpeedZone(0.4, 0.6, 400.0))),
                "Add a speed limit between two stations of the path",
            )
        )

    def _zone(self, run: Run, speed_profile: Limited, number: int, zone: SpeedZone) -> None:
        form = self.form

        def change(zones: tuple[SpeedZone, ...]) -> None:
            self._change(run, "Speed zone", zones=zones)

        which = f"Zone {number + 1}"
        form.heading(which)
        self._fields(zone, "begin", "end", "speed", change=replacing(speed_profile.zones, number, change), prefix=which)
        form.buttons(
            (
                f"Delete zone {number + 1}",
                lambda: change(tuple(z for z in speed_profile.zones if z is not zone)),
                "Delete this speed zone",
            )
        )

    def _keyed(self, run: Run, speed_profile: Keyed, course: RunCourse) -> None:
        form, keys = self.form, speed_profile.keys
        moving = course.once - sum(hold.duration for hold in run.holds)

        def change(index: int, **fields: float | None) -> None:
            changed = list(keys)
            changed[index] = msgspec.structs.replace(keys[index], **fields)
            self._change(run, "Key", keys=tuple(changed))

        form.note("Keys of time and distance since the start; the curve between them never runs backwards on its own.")
        for i, key in enumerate(keys):
            inner = 0 < i < len(keys) - 1
            if inner:
                form.number(
                    f"Key {i + 1}, s",
                    key.time * moving,
                    "s",
                    partial(lambda k, v: change(k, time=v / moving), i),
                    "Time of the key",
                    3,
                    0.1,
                )
            form.number(
                f"Key {i + 1}, mm",
                key.distance * course.length,
                "mm",
                partial(lambda k, v: change(k, distance=v / course.length), i),
                "Distance from the start",
                1,
                10,
            )
        form.buttons(
            (
                "Add key here",
                lambda: self._add_key(run, speed_profile, course),
                "Add a key at the playhead, on the present curve",
            ),
            (
                "Delete last key",
                lambda: len(keys) > 2 and self._change(run, "Delete key", keys=(*keys[:-2], keys[-1])),
                "Delete the last key before the end",
            ),
        )

    def _add_key(self, run: Run, speed_profile: Keyed, course: RunCourse) -> None:
        since = self.session.time - course.whole_start
        stops = [
            (float(course.entire.times_at([h.place * course.path.length])[0]) - course.start, h.duration)
            for h in run.holds
        ]
        waited = sum(min(max(since - at, 0.0), seconds) for at, seconds in stops)
        moving = course.once - sum(seconds for _, seconds in stops)
        share = (since - waited) / moving
        if not 0.01 < share < 0.99 or any(abs(k.time - share) < 0.01 for k in speed_profile.keys):
            self.session.refused.emit("move the playhead into the run, away from its other keys")
            return
        distance = float(course.entire.profile.distance([since])[0]) / course.length
        keys = sorted((*speed_profile.keys, SpeedKey(share, distance)), key=lambda k: k.time)
        self._change(run, "Add key", keys=tuple(keys))


def _profile_of(key: str, course: RunCourse) -> SpeedProfile:
    """A speed profile of another kind, near to what the run does now."""
    if key == "even":
        return Even()
    if key == "eased":
        return Eased()
    if key == "limited":
        return Limited(top=float(f"{course.greatest_speed:.3g}"))
    if key == "keyed":
        # as it is, told by a few keys that can be moved
        every = part_as_keys(steady_part(course.profile), 0.0, course.once).keys[::4]
        return Keyed(tuple(msgspec.structs.replace(k, slope=None) for k in every))
    return Law(key.removeprefix("law:"))  # type: ignore[arg-type]


def worked_lines(course: RunCourse) -> list[str]:
    """The sums behind a run's speed."""
    profile, length, seconds = steady_part(course.profile), course.length, course.once
    if isinstance(profile, (SegmentedProfile, FollowingProfile)):
        lines = [
            f"{show(length)}\u2009mm in {seconds:.3f}\u2009s, <b>{show(course.greatest_speed, 'mm/s')}</b> at most"
        ]
        waits = sum(hold.duration for hold in course.run.holds)
        return [*lines, f"{waits:.3f}\u2009s of it on holds"] if waits else lines
    speed = f"<b>{show(course.greatest_speed, 'mm/s')}</b>"
    if isinstance(profile, EasedProfile):
        ramps = 0.5 * (profile.ramp_in + profile.ramp_out)
        under = f"({seconds:.3f} − {ramps:.3f})" if ramps > 0 else f"{seconds:.3f}"
        return [f"{show(length)}\u2009mm ÷ {under}\u2009s = {speed}"]
    if isinstance(course.run.speed_profile, Law):
        law = course.run.speed_profile
        return [
            f"{peak(law):.3f} × {show(length)} ÷ {seconds:.3f} = {speed} at most",
            f"{peak(law, 2):.3f} × {show(length)} ÷ {seconds:.3f}² = "
            f"<b>{show(peak(law, 2) * length / seconds**2, 'mm/s²', 0)}</b> at most",
        ]
    lines = [f"{show(length)}\u2009mm in {seconds:.3f}\u2009s, {speed} at most"]
    if isinstance(profile, TabledProfile):
        lines.append(f"within its limits {profile.least:.3f}\u2009s at least")
        if seconds < profile.least * (1 - 1e-9):
            lines.append(f"its limits are broken: {np.round(profile.least / seconds, 2):g} times as fast as they allow")
    return lines
