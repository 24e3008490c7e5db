"""A run."""

from __future__ import annotations

import msgspec

from kestrav.app.cards.rows import Rows
from kestrav.core.document.records import (
    AlongHeading,
    Eased,
    Even,
    FixedHeading,
    Run,
)
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.motion.runs import journey
from kestrav.core.units import show


class RunRows(Rows):
    """Rider, path, time, pacing, heading."""

    def build(self, run: Run) -> None:
        project, form = self.session.shown, self.form
        self.card.title.setText(run.name)
        trip = journey(project, run)
        riders = [(p.id, p.name) for p in project.parts if p.geometry is None or p.id == run.rider or p.parent is None]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        self._name(run)
        form.choice("Rider", riders, run.rider, lambda v: self._set(run.id, "Rider", rider=v), "What travels")
        paths = [(p.id, f"{p.name} ({show(path_curve(p).length, 'mm', 0)})") for p in project.paths]
        form.choice("Path", paths, run.path, lambda v: self._set(run.id, "Path", path=v), "Where it travels")
        self._number(run, "Starts", "start", "s", "When it sets out", 3, 0.1)
        by = "duration" if run.duration is not None else "speed"

        def switch(kind: str) -> None:
            if kind == "speed":
                self._set(run.id, "Set by speed", duration=None, speed=trip.steady_speed)
            else:
                self._set(run.id, "Set by duration", duration=trip.duration, speed=None)

        form.choice("Set by", [("duration", "duration"), ("speed", "speed")], by, switch, "Which of the two is given")
        if run.duration is not None:
            self._number(run, "Duration", "duration", "s", "How long it takes", 3, 0.1)
        else:
            self._number(run, "Speed", "speed", "mm/s", "Speed between start and stop", 1, 10)
        form.number(
            "From",
            100 * run.begin,
            "%",
            lambda v: self._set(run.id, "Portion", begin=v / 100),
            "Where on the path it begins",
            2,
        )
        form.number("To", 100 * run.end, "%", lambda v: self._set(run.id, "Portion", end=v / 100), "Where it ends", 2)
        pacing = "eased" if isinstance(run.pacing, Eased) else "even"
        form.choice(
            "Pacing",
            [("even", "even"), ("eased", "soft start and stop")],
            pacing,
            lambda v: self._set(run.id, "Pacing", pacing=Eased() if v == "eased" else Even()),
            "How distance grows with time",
        )
        eased = run.pacing
        if isinstance(eased, Eased):
            for label, field in (("Soft start", "start_length"), ("Soft stop", "stop_length")):
                form.number(
                    label,
                    getattr(eased, field),
                    "mm",
                    lambda v, f=field, what=label: self._set(
                        run.id, what, pacing=msgspec.structs.replace(eased, **{f: v})
                    ),
                    "Distance over which it gathers or loses speed",
                    step=10,
                )
        if any(p.id == run.rider for p in project.parts):
            self._heading(run)
        start, stop = (eased.start_length, eased.stop_length) if isinstance(eased, Eased) else (0.0, 0.0)
        share = min(1.0, trip.length / (start + stop)) if start + stop else 1.0
        ramps = f" + {show(start * share)} + {show(stop * share)}" if start + stop else ""
        frames = trip.duration * project.settings.fps
        form.worked(
            f"({show(trip.length)}{ramps})\u2009mm ÷ {trip.duration:.3f}\u2009s = <b>{show(trip.steady_speed, 'mm/s')}</b>",
            f"{trip.duration:.3f}\u2009s × {project.settings.fps:g} fps = {frames:.1f} frames",
            f"arrives at {trip.end:.3f}\u2009s, {show(trip.last, 'mm')}",
        )
        self._delete(run.id, "run")

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
