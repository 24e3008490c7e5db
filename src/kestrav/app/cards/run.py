"""A run."""

from __future__ import annotations

from typing import Any

import msgspec

from kestrav.app.cards.pacing import PacingRows, worked_lines
from kestrav.app.cards.rows import Rows
from kestrav.core.document.records import (
    AlongHeading,
    CarriedHeading,
    FixedHeading,
    Heading,
    LeanKey,
    PartAim,
    PointAim,
    Run,
    TowardHeading,
)
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.resting import own_bounds
from kestrav.core.motion.runs import Journey, journey
from kestrav.core.units import show

TABS = ("Journey", "Pace", "Heading")


class RunRows(Rows):
    """Rider, path, time, pacing, heading."""

    def build(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        trip = journey(project, run)
        self.card.title.setText(f"{run.name} · {show(trip.duration, 's', 2)}")
        is_part = any(p.id == run.rider for p in project.parts)
        tabs = TABS if is_part else TABS[:-1]
        tab = self.card.run_tab if self.card.run_tab in tabs else TABS[0]
        form.tabs(tabs, tab, self.card.show_run_tab, "Show")
        if tab == "Pace":
            PacingRows(self.card).build(run, trip)
        elif tab == "Heading":
            self._heading(run)
        else:
            self._journey(run, trip)
        frames = trip.duration * project.settings.fps
        form.worked(
            *worked_lines(trip),
            f"{trip.duration:.3f}\u2009s × {project.settings.fps:g} fps = {frames:.1f} frames",
            f"arrives at {trip.end:.3f}\u2009s, {show(trip.arrives_at, 'mm')}",
        )
        self._delete(run.id, "run")

    def _journey(self, run: Run, trip: Journey) -> None:
        """Who travels, where and when."""
        project, form = self.session.shown, self.form
        riders = [(p.id, p.name) for p in project.parts if p.geometry is None or p.id == run.rider or p.parent is None]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        self._name(run)
        form.choice("Rider", riders, run.rider, lambda v: self._set(run.id, "Rider", rider=v), "What travels")
        paths = [(p.id, f"{p.name} ({show(path_curve(p).length, 'mm', 0)})") for p in project.paths]
        form.choice("Path", paths, run.path, lambda v: self._set(run.id, "Path", path=v), "Where it travels")
        self._number(run, "Starts", "start", "s", "When it sets out", 3, 0.1)
        self._time(run, trip)
        for label, share, field in (("From", run.begin, "begin"), ("To", run.end, "end")):
            where = "begins" if field == "begin" else "ends"
            form.number(
                label,
                share * trip.path.length,
                "mm",
                lambda v, f=field: self._set(run.id, "Portion", **{f: v / trip.path.length}),
                f"Where on the path its way {where}",
                1,
                10,
            )
            form.number(
                f"{label} %",
                100 * share,
                "%",
                lambda v, f=field: self._set(run.id, "Portion", **{f: v / 100}),
                f"The same as a share: where its way {where}",
                2,
            )
        if any(p.id == run.rider for p in project.parts):
            seats = [
                ("pivot", "its pivot"),
                ("front", "its front"),
                ("rear", "its rear"),
                ("bottom", "middle of its underside"),
            ]
            form.choice(
                "On the path",
                seats,
                run.seat,
                lambda v: self._set(run.id, "Seat", seat=v),
                "What of it lies on the path: with the front there, its front stops at the mark",
            )
            form.vector(
                "Beside",
                run.offset,
                "mm",
                lambda v: self._set(run.id, "Offset", offset=v),
                "How far along, to the left and above the path it is carried",
            )
        form.check(
            "Backwards",
            "from end to beginning",
            run.backwards,
            lambda v: self._set(run.id, "Backwards", backwards=v),
            "Travel the portion the other way, facing as before; Turn about turns it round",
        )

    def _time(self, run: Run, trip: Journey) -> None:
        form = self.form
        by = "duration" if run.duration is not None else "speed"

        def switch(kind: str) -> None:
            if kind == "speed":
                self._set(run.id, "Set by speed", duration=None, speed=trip.greatest_speed)
            else:
                self._set(run.id, "Set by duration", duration=trip.duration, speed=None)

        form.choice("Set by", [("duration", "duration"), ("speed", "speed")], by, switch, "Which of the two is given")
        if run.duration is not None:
            self._number(run, "Duration", "duration", "s", "How long it takes", 3, 0.1)
        else:
            self._number(run, "Speed", "speed", "mm/s", "Its steady speed, or its greatest where there is none", 1, 10)
        form.number(
            "Arrives",
            trip.end,
            "s",
            lambda v: self._set(run.id, "Arrives", duration=v - run.start, speed=None),
            "When it arrives; its duration follows",
            3,
            0.1,
        )

    def _heading(self, run: Run) -> None:
        form, heading = self.form, run.heading
        kinds = {"fixed": FixedHeading, "along": AlongHeading, "carried": CarriedHeading, "toward": TowardHeading}
        form.choice(
            "Heading",
            [("fixed", "fixed"), ("along", "along travel"), ("carried", "on two points"), ("toward", "toward a thing")],
            next(key for key, kind in kinds.items() if isinstance(heading, kind)),
            lambda v: self._set(run.id, "Heading", heading=self._turned(run, kinds[v])),
            "How it is turned along the path; on two points it takes bends as a vehicle does",
        )
        if isinstance(heading, CarriedHeading):
            form.number(
                "Wheelbase",
                heading.wheelbase,
                "mm",
                lambda v: self._set(run.id, "Wheelbase", heading=msgspec.structs.replace(heading, wheelbase=v)),
                "Distance of its front and rear points, both on the path",
                1,
                10,
            )
            form.number(
                "Sits at",
                100 * heading.share,
                "%",
                lambda v: self._set(run.id, "Sits at", heading=msgspec.structs.replace(heading, share=v / 100)),
                "Where between the rear (0 %) and the front point (100 %) lies what is on the path",
                1,
                5,
            )
        if isinstance(heading, TowardHeading):
            self._aim(run, heading)
        if not isinstance(heading, FixedHeading):
            axes = [(a, f"its {a}") for a in ("+x", "-x", "+y", "-y", "+z", "-z")]
            form.choice(
                "Forward",
                axes,
                heading.forward,
                lambda v: self._set(run.id, "Forward", heading=msgspec.structs.replace(heading, forward=v)),
                "Which of its axes looks ahead",
            )
            form.check(
                "Turn about",
                "flip to face backwards",
                heading.flip,
                lambda v: self._set(run.id, "Flip", heading=msgspec.structs.replace(heading, flip=v)),
                "Turn it half round",
            )
        if isinstance(heading, AlongHeading):
            form.check(
                "Upright",
                "left side stays level",
                heading.upright,
                lambda v: self._set(run.id, "Upright", heading=msgspec.structs.replace(heading, upright=v)),
                "Otherwise it is carried with the least rotation",
            )

        if not isinstance(heading, FixedHeading):
            self._lean(run)

    def _aim(self, run: Run, heading: TowardHeading) -> None:
        """What it points at."""
        form, project = self.form, self.session.shown

        def change(aim: PartAim | PointAim) -> None:
            self._set(run.id, "Toward", heading=msgspec.structs.replace(heading, aim=aim))

        things = [("", "a point")]
        things += [
            (p.id, p.name)
            for p in project.parts
            if p.id != run.rider and (p.parent is None or p.geometry is None or p.id == _aimed_part(heading))
        ]
        form.choice(
            "Toward",
            things,
            _aimed_part(heading),
            lambda k: change(PartAim(k) if k else PointAim((0.0, 0.0, 0.0))),
            "What its forward axis points at: the middle of a part, or a point",
        )
        if isinstance(heading.aim, PointAim):
            form.vector("Point", heading.aim.point, "mm", lambda v: change(PointAim(v)), "The point in space")

    def _lean(self, run: Run) -> None:
        """How it rolls about its direction of travel."""
        form, lean = self.form, run.lean

        def change(label: str, **fields: Any) -> None:
            self._set(run.id, label, lean=msgspec.structs.replace(lean, **fields))

        form.heading("Lean")
        form.check(
            "Computed",
            "from bend and speed",
            lean.computed,
            lambda v: change("Lean", computed=v),
            "So that weight and the force of the bend press straight down: tan(lean) = v² ÷ (g r)",
        )
        if lean.computed:
            form.number("At most", lean.limit, "°", lambda v: change("Limit of lean", limit=v), "Never more than this")
            form.number(
                "Averaged",
                lean.smoothing,
                "mm",
                lambda v: change("Smoothing of lean", smoothing=v),
                "Over this way, so that it rolls into a bend and does not snap",
                0,
                50,
            )
        for i, key in enumerate(lean.keys):

            def set_key(k: int = i, **fields: float) -> None:
                keys = list(lean.keys)
                keys[k] = msgspec.structs.replace(keys[k], **fields)
                change("Key of lean", keys=tuple(keys))

            form.number(
                f"Key {i + 1} at",
                100 * key.place,
                "%",
                lambda v, f=set_key: f(place=v / 100),
                "Share of the path",
                2,
                5,
            )
            form.number(
                f"Key {i + 1} lean", key.angle, "°", lambda v, f=set_key: f(angle=v), "To the left; minus: right"
            )
        form.buttons(
            (
                "Add a lean key",
                lambda: change("Key of lean", keys=_with_key(lean.keys)),
                "A lean at a place of the path; more keys are joined smoothly",
            ),
            (
                "Delete last key",
                lambda: lean.keys and change("Key of lean", keys=lean.keys[:-1]),
                "Take the last key away",
            ),
        )

    def _turned(self, run: Run, kind: type) -> Heading:
        """A heading of another kind that faces as the old one does; on two points by the rider's own length."""
        old = run.heading
        facing = {} if isinstance(old, FixedHeading) else {"forward": old.forward, "flip": old.flip}
        if kind is FixedHeading:
            return FixedHeading()
        if kind is AlongHeading:
            return AlongHeading(**facing)
        if kind is TowardHeading:
            others = [p for p in self.session.project.parts if p.parent is None and p.id != run.rider]
            aim = PartAim(others[0].id) if others else PointAim((0.0, 0.0, 0.0))
            return TowardHeading(aim=aim, **facing)
        box = own_bounds(self.session.project, run.rider)
        axis = "xyz".index(facing.get("forward", "+x")[1])
        length = float(box[1, axis] - box[0, axis])
        return CarriedHeading(wheelbase=float(f"{0.7 * length:.2g}") if length > 1 else 800.0, **facing)


def _aimed_part(heading: TowardHeading) -> str:
    return heading.aim.part if isinstance(heading.aim, PartAim) else ""


def _with_key(keys: tuple[LeanKey, ...]) -> tuple[LeanKey, ...]:
    """Keys with one more: behind the last one, half way to the end."""
    place = 0.5 if not keys else 0.5 * (keys[-1].place + 1.0)
    return (*keys, LeanKey(place, keys[-1].angle if keys else 0.0))
