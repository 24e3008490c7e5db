"""A run."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.app.cards.orientation import OrientationRows
from kestrav.app.cards.rows import Rows
from kestrav.app.cards.speed_profile import SpeedProfileRows, profile_name, worked_lines
from kestrav.app.cards.ties import TieRows
from kestrav.core.document.records import Project, Run
from kestrav.core.editing.run_making import bring_path, stop_at_mark
from kestrav.core.kinematics.passes import RepeatedProfile
from kestrav.core.kinematics.runs import RunCourse, course_of
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show


class RunRows(Rows):
    """Rider, path, time, speed profile, orientation."""

    def build(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        course = course_of(project, run)
        whole = show(course.duration, "s", 2) if np.isfinite(course.duration) else "no end"
        self.form.title = f"{run.name} · {whole}"
        if form.section("Run"):
            self._journey(run, course)
            form.worked(*worked_lines(course), *arrival_lines(project, course))
        if form.section("Portion and passes", self._told_portion(run)):
            self._extent(run, course)
        if any(p.id == run.rider for p in project.parts) and form.section("Placement on the path", run.reference):
            self._placement(run)
        if form.section("Mark and arrival", self._told_mark(run, course)):
            self._mark(run, course)
        if form.section("Speed", profile_name(run)):
            SpeedProfileRows(self.card).build(run, course)
        if not any(c.id == run.rider for c in project.cameras) and form.section("Orientation"):
            OrientationRows(self.card).build(run)
        if form.section("Links", "triggered" if run.trigger is not None else ""):
            TieRows(self.card).build(run)
        self._delete(run)

    def _journey(self, run: Run, course: RunCourse) -> None:
        """Who travels, where and when."""
        project = self.session.shown
        riders = [(p.id, p.name) for p in project.parts if p.geometry is None or p.id == run.rider or p.parent is None]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        riders += [(light.id, f"light {light.name}") for light in project.lights]
        self._name(run)
        self._fields(run, "rider", options=riders, own=True)
        paths = [(p.id, f"{p.name} ({show(path_curve(p).length, 'mm', 0)})") for p in project.paths]
        self._fields(run, "path", options=paths, own=True)
        if run.trigger is None and run.follows is None:
            self._fields(run, "start", own=True)
        self._time(run, course)

    def _told_mark(self, run: Run, course: RunCourse) -> str:
        """What is asked of the arrival."""
        texts = [] if run.mark is None else [show(run.mark * course.path.length, "mm", 0)]
        return " · ".join([*texts, *([f"by {run.arrive_by:.1f}\u2009s"] if run.arrive_by else [])])

    def _told_portion(self, run: Run) -> str:
        """What is not as usual about how much of the path is travelled, and how often."""
        texts = [] if (run.begin, run.end) == (0.0, 1.0) else [f"{100 * abs(run.end - run.begin):.0f} %"]
        if run.passes != 1:
            texts.append(f"{run.passes} passes" if run.passes else "no end")
        return " · ".join([*texts, *(["backwards"] if run.backwards else [])])

    def _extent(self, run: Run, course: RunCourse) -> None:
        """How much of the path is travelled, which way, how often, and where the rider is before and after."""
        form = self.form
        for label, share, field in (("From", run.begin, "begin"), ("To", run.end, "end")):
            where = "begins" if field == "begin" else "ends"
            form.number(
                label,
                share * course.path.length,
                "mm",
                partial(lambda f, v: self._set(run.id, "Portion", **{f: v / course.path.length}), field),
                f"Station at which the run {where}",
                1,
                10,
            )
            form.number(
                f"{label} %",
                100 * share,
                "%",
                partial(lambda f, v: self._set(run.id, "Portion", **{f: v / 100}), field),
                f"Share of the path's length at which the run {where}",
                2,
            )
        self._fields(run, "backwards")
        self._passes(run)

    def _placement(self, run: Run) -> None:
        """Which point of the rider lies on the path, and how far beside."""
        form = self.form
        self._fields(run, "reference")
        if run.reference == "point":
            self._fields(run, "reference_point")
        form.buttons(
            (
                "Pick point …",
                lambda: self.card.place_asked.emit("reference"),
                "Pick a corner, centre or place of the rider in the stage to lie on the path",
            )
        )
        self._fields(run, "offset")

    def _passes(self, run: Run) -> None:
        """How often, and what is before and after."""
        form = self.form
        form.number(
            "Passes",
            run.passes,
            "",
            lambda v: self._set(run.id, "Passes", passes=round(v)),
            "Number of passes; 0 for no end",
            0,
            1,
            zero="no end",
        )
        if run.passes != 1:
            self._fields(run, "returns")
        if run.portion is not None:
            self._portion(run, run.portion)
        choices = ("Before", "before", [("waits", "waits on the path"), ("rests", "at its rest position")])
        after = ("After", "after", [("stays", "stays on the path"), ("rests", "at its rest position")])
        for label, field, options in (choices, after):
            form.choice(
                label,
                options,
                getattr(run, field),
                partial(lambda f, n, v: self._set(run.id, n, **{f: v}), field, label),
                f"Position of the rider {label.lower()} this run, if nothing else moves it then",
            )

    def _portion(self, run: Run, portion: tuple[float, float]) -> None:
        """Which part of its time is made, of a run that was split or is made backward in time."""
        for k, (label, tip) in enumerate(
            (
                ("Time from", "Share of the whole run's time at which this portion starts"),
                (
                    "Time to",
                    "Share of the whole run's time at which this portion ends; below the start it runs backward",
                ),
            )
        ):
            self.form.number(
                label,
                100 * portion[k],
                "%",
                partial(
                    lambda k, v: self._set(
                        run.id, "Portion of time", portion=(v / 100, portion[1]) if k == 0 else (portion[0], v / 100)
                    ),
                    k,
                ),
                tip,
                2,
            )
        self.form.buttons(
            (
                "Use the whole run",
                lambda: self._set(run.id, "Use the whole run", portion=None),
                "Use the whole run again, forward",
            )
        )

    def _mark(self, run: Run, course: RunCourse) -> None:
        """Where its front must stop, and when it must be there."""
        form, length = self.form, course.path.length
        form.number(
            "Mark",
            (run.mark or 0.0) * length,
            "mm",
            lambda v: self._set(run.id, "Mark", mark=v / length if v else None),
            "Station at which the front must stop; checked",
            1,
            10,
            zero="none",
        )
        self._fields(run, "arrive_by")
        offers = [
            ("Move path to rider", lambda: self._bring(run), "Move the path so that it starts at the rider's position")
        ]
        if run.mark is not None:
            stop = ("Stop at the mark", lambda: self._stop(run), "End the run with the front at the mark")
            offers.insert(0, stop)
        form.buttons(*offers)

    def _bring(self, run: Run) -> None:
        self.session.edit("Move path to rider", lambda p: bring_path(p, run.id))

    def _stop(self, run: Run) -> None:
        self.session.edit("Stop at the mark", lambda p: stop_at_mark(p, run.id))

    def _time(self, run: Run, course: RunCourse) -> None:
        form = self.form
        if run.follows is not None:
            return  # it takes as long as what it follows
        by = "duration" if run.duration is not None else "speed"

        def switch(kind: str) -> None:
            if kind == "speed":
                self._set(run.id, "Set by speed", duration=None, speed=course.greatest_speed)
            else:
                self._set(run.id, "Set by duration", duration=course.once, speed=None)

        form.choice(
            "Set by",
            [("duration", "duration"), ("speed", "speed")],
            by,
            switch,
            "Quantity that is given; the other follows",
        )
        if run.duration is not None:
            self._fields(run, "duration")
        else:
            self._fields(run, "speed")
        if np.isfinite(course.end):
            form.number(
                "Arrival",
                course.end,
                "s",
                lambda v: self._set(
                    run.id, "Arrival", duration=course.once * (v - course.start) / course.duration, speed=None
                ),
                "Time of arrival; the duration follows",
                3,
                0.1,
                own=True,
            )


def arrival_lines(project: Project, course: RunCourse) -> list[str]:
    """The sums behind a run's frames and arrival."""
    fps = project.settings.fps
    once = f"{course.once:.3f}\u2009s × {fps:g} fps = {course.once * fps:.1f} frames"
    lines = [once if course.run.passes == 1 else f"a pass: {once}"]
    if not np.isfinite(course.start):
        return [*lines, "never starts: the trigger never occurs"]
    if course.run.portion is not None:
        first, last = course.run.portion
        whole = course.entire.duration
        lines.append(
            f"{100 * abs(last - first):.2f}\u2009% of {whole:.3f}\u2009s = <b>{course.duration:.3f}\u2009s</b>"
            f"{', backward in time' if last < first else ''}"
        )
    elif course.run.passes > 1 and _uneven(course):
        lines.append(f"{course.run.passes} passes there and back take <b>{course.duration:.3f}\u2009s</b>")
    elif course.run.passes > 1:
        lines.append(f"{course.run.passes} × {course.once:.3f}\u2009s = <b>{course.duration:.3f}\u2009s</b>")
    begun = (
        "" if course.run.trigger is None and course.run.follows is None else f"starts at {course.start:.3f}\u2009s, "
    )
    if np.isfinite(course.end):
        lines.append(f"{begun}arrives at {course.end:.3f}\u2009s, {show(course.arrives_at, 'mm')}")
    else:
        lines.append(f"{begun}runs with no end")
    return lines


def _uneven(course: RunCourse) -> bool:
    """Whether the way back takes another time than the way there."""
    whole = course.profile
    back = whole.back if isinstance(whole, RepeatedProfile) else None
    return back is not None and abs(back.duration - course.once) > 1e-9
