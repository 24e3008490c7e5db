"""A run."""

from __future__ import annotations

import msgspec

from kestrav.app.cards.pacing import PacingRows, worked_lines
from kestrav.app.cards.rows import Rows
from kestrav.core.document.records import (
    AlongHeading,
    FixedHeading,
    Run,
)
from kestrav.core.motion.path_curves import path_curve
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
        kind = "along" if isinstance(heading, AlongHeading) else "fixed"
        form.choice(
            "Heading",
            [("fixed", "fixed"), ("along", "along travel")],
            kind,
            lambda v: self._set(run.id, "Heading", heading=AlongHeading() if v == "along" else FixedHeading()),
            "How it is turned along the path",
        )
        if isinstance(heading, AlongHeading):
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
            form.check(
                "Upright",
                "left side stays level",
                heading.upright,
                lambda v: self._set(run.id, "Upright", heading=msgspec.structs.replace(heading, upright=v)),
                "Otherwise it is carried with the least rotation",
            )
