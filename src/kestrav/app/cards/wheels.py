"""Wheels, castors and rotations by time."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Axle, Castor, Project, TimedRotation, Wheel
from kestrav.core.editing.wheel_making import (
    axle_of,
    ends,
    rolled_distance,
    turns_of,
    with_length,
    with_radius,
    with_slip,
    with_start,
    with_turns,
)
from kestrav.core.errors import BadInput
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import sideways
from kestrav.core.kinematics.runs import span
from kestrav.core.units import show


class TurningRows(Rows):
    """Lines that things turn about, typed or picked."""

    def _line(self, label: str, axle: Axle, change: Callable[[Axle], object], suffix: str = "") -> None:
        replace = msgspec.structs.replace
        self.form.vector(
            f"{label}{suffix} at",
            axle.origin,
            "mm",
            lambda v: change(replace(axle, origin=v)),
            "Point on the axis, in the part's coordinates",
        )
        self.form.vector(
            f"{label}{suffix} along",
            axle.direction,
            "",
            lambda v: change(replace(axle, direction=v)),
            "Direction of the axis, in the part's axes; rotation counts clockwise seen along it",
            3,
        )

    def _axle(self, item: Wheel | TimedRotation | Castor, field: str, label: str) -> None:
        self._line(label, getattr(item, field), lambda axle: self._set(item.id, label, **{field: axle}))

    def _pick(self, target: str) -> None:
        """Offer to pick the axle in the stage."""
        self.form.buttons(
            (
                "Pick axis",
                lambda: self.card.axle_asked.emit(target),
                "Click a round edge, a cylinder or a straight edge in the stage; facets are fitted",
            )
        )


def _more(value: float, places: int) -> str:
    """A number with its sign."""
    return ("+" if value >= 0 else "") + show(value, "", places)


class WheelRows(TurningRows):
    """Radius, axle, and the sum of its turns."""

    def build(self, roll: Wheel) -> None:
        project, form = self.session.shown, self.form
        turns = turns_of(project, roll)
        self.form.title = f"{roll.name} · {show(turns, 'turns', 2)}"
        self._name(roll)
        self._fields(roll, "radius")
        form.number(
            "Diameter",
            2 * roll.radius,
            "mm",
            lambda v: self._set(roll.id, "Radius", radius=v / 2),
            "Rolling diameter",
            3,
        )
        form.number(
            "Circumference",
            2 * np.pi * roll.radius,
            "mm",
            lambda v: self._set(roll.id, "Radius", radius=v / (2 * np.pi)),
            "Rolling circumference",
            3,
        )
        self._fields(roll, "outer", "start", "slip")
        self._axle(roll, "axle", "Axle")
        distance, around = rolled_distance(project, roll), 2 * np.pi * roll.radius
        slipped = "" if roll.slip == 0 else f" × {1 + roll.slip:.4f}"
        dragged = float(sideways(Motion(project).rolling(roll).path)[-1])
        form.worked(
            f"2 · π · {show(roll.radius, places=3)} = {show(around, 'mm', 3)} around",
            f"{show(distance)} ÷ {show(around, places=3)}{slipped} = <b>{show(turns, 'turns', 4)}</b>",
            f"{show(turns, places=4)} × 360 = {show(360 * turns, '°')}, "
            f"{'clockwise' if turns >= 0 else 'counter-clockwise'} as seen along its arrow",
            f"dragged sideways by {show(dragged, 'mm')} in all",
        )
        if roll.residual > 0:
            form.note(f"Fitted to facets, {show(roll.residual, 'mm', 4)} off in the mean.")
        self._pick(roll.id)
        form.buttons(
            ("From CAD cylinder", lambda: self._from_cylinder(roll), "Take axis and radius from the CAD cylinder"),
        )
        linked = [r.name for r in project.wheels if roll.link and r.link == roll.link and r.id != roll.id]
        if linked:
            form.note(f"Radius and slip are shared with {len(linked)} more: " + ", ".join(linked))
            alone = lambda: self._set(roll.id, "Unlink", link="")  # noqa: E731
            form.buttons(("Unlink", alone, "Unlink this wheel from the others"))
        self._ends(project, roll, turns)
        self._delete(roll)

    def _ends(self, project: Project, roll: Wheel, turns: float) -> None:
        """What would make its ends meet, each with what it would change."""
        form, ask = self.form, self.card.repeating
        form.heading("End on a whole turn")
        form.number(
            "Target turns",
            abs(turns),
            "",
            lambda v: self.session.edit("Path for turns", lambda p: with_turns(p, roll.id, v)),
            "Set the path's length for this number of turns; the start stays",
            4,
        )
        form.fields(ask, "marks", change=self._marks)
        try:
            whole = ends(project, roll.id, ask.marks)
        except BadInput:
            form.note("The wheel does not roll, so there is no end to adjust.")
            return
        if abs(whole.wanted - whole.turns) < 1e-9:
            form.note(f"The wheel ends on a mark: {show(abs(whole.turns), 'turns', 4)}.")
            return
        form.note(f"The nearest mark is at {show(abs(whole.wanted), 'turns', 4)}. Any of these reaches it:")

        def offer(text: str, label: str, change: Callable[[Project, str, int], Project], tip: str) -> None:
            form.buttons(
                (text, lambda: self.session.edit(label, lambda p: change(p, roll.id, ask.marks)), tip),
            )

        offer(
            f"Radius {show(whole.radius, 'mm', 3)} ({_more(whole.radius - roll.radius, 3)})",
            "Set radius",
            with_radius,
            "Rolling radius at which the wheel ends on a mark",
        )
        if whole.length is not None:
            more = whole.length * (1 - whole.turns / whole.wanted)
            offer(
                f"Path {show(whole.length, 'mm', 1)} ({_more(more, 1)})",
                "Set path length",
                with_length,
                "Path length at which the wheel ends on a mark; the start stays",
            )
        offer(
            f"Start at {show(whole.start, '°', 2)}",
            "Set start angle",
            with_start,
            "Start angle at which the wheel ends on a mark",
        )
        offer(
            f"Accept {_more(100 * whole.slip, 3)}\u2009% slip",
            "Accept slip",
            with_slip,
            "Accept this slip, so that the wheel ends on a mark",
        )

    def _marks(self, marks: int) -> None:
        self.card.repeating.set(marks=marks)
        self.card.rebuild()

    def _from_cylinder(self, roll: Wheel) -> None:
        def take(project: Project) -> Project:
            axle, radius = axle_of(project, self.session.meshes, roll.part)
            return edits.update(project, roll.id, axle=axle, radius=radius, outer=radius)

        self.session.edit("From CAD cylinder", take)


class CastorRows(TurningRows):
    """Kingpin, way ahead and trail."""

    def build(self, castor: Castor) -> None:
        form = self.form
        self.form.title = castor.name
        self._name(castor)
        self._fields(castor, "trail")
        self._axle(castor, "kingpin", "Kingpin")
        self._fields(castor, "forward")
        form.note(f"{get(self.session.shown, castor.part).name} turns about its kingpin into the direction of travel")
        self._delete(castor)


class RotationRows(TurningRows):
    """Rate or turns, span and ramps."""

    def build(self, rotation: TimedRotation) -> None:
        project, form = self.session.shown, self.form
        self.form.title = rotation.name
        self._name(rotation)
        by = "turns" if rotation.turns is not None else "rpm"

        def switch(kind: str) -> None:
            if kind == "turns":
                end = rotation.end or rotation.start + 4.0
                turns = (rotation.rpm or 60.0) * (end - rotation.start) / 60.0
                self._set(rotation.id, "By turns", turns=turns, rpm=None, end=end)
            else:
                rate = 60.0 * (rotation.turns or 1.0) / ((rotation.end or rotation.start + 4.0) - rotation.start)
                self._set(rotation.id, "By rate", turns=None, rpm=rate)

        form.choice(
            "Set by",
            [("rpm", "revolutions per minute"), ("turns", "turns in all")],
            by,
            switch,
            "Quantity that is given; the other follows",
        )
        if rotation.turns is not None:
            self._fields(rotation, "turns")
            form.number(
                "Angle",
                360.0 * rotation.turns,
                "°",
                lambda v: self._set(rotation.id, "Angle", turns=v / 360.0),
                "Angle in degrees",
                2,
            )
        else:
            self._fields(rotation, "rpm")
        amount = rotation.turns if rotation.turns is not None else rotation.rpm or 0.0
        clockwise = (amount >= 0) != rotation.mirrored
        form.choice(
            "Direction",
            [("cw", "clockwise"), ("ccw", "counter-clockwise")],
            "cw" if clockwise else "ccw",
            lambda v: self._turn_about(rotation) if (v == "cw") != clockwise else None,
            "Direction seen along the arrow in the stage",
        )
        linked = [
            s.name for s in project.rotations if rotation.link and s.link == rotation.link and s.id != rotation.id
        ]
        if linked:
            self._fields(rotation, "mirrored")
            form.note("Linked with " + ", ".join(linked))
            alone = lambda: self._set(rotation.id, "Unlink", link="")  # noqa: E731
            form.buttons(("Unlink", alone, "Unlink this rotation from the others"))
        if rotation.trigger is None:
            self._fields(rotation, "start")
        self._trigger(rotation)
        if rotation.trigger is None:
            self._fields(rotation, "end")
        else:
            form.number(
                "Duration",
                0.0 if rotation.end is None else rotation.end - rotation.start,
                "s",
                lambda v: self._set(rotation.id, "End", end=rotation.start + v if v else None),
                "Duration from the trigger on",
                3,
                0.1,
                zero="no end",
            )
        self._fields(rotation, "ramp_in", "ramp_out")
        self._axle(rotation, "axle", "Axle")
        self._pick(rotation.id)
        end = span(project)
        turned = float(Motion(project).angles(rotation, [end])[0]) / (2 * np.pi)
        form.worked(
            f"{show(turned, 'turns', 3)} until {show(end, 's', 2)}",
            f"{show(turned, places=3)} × 360 = {show(360 * turned, '°')}",
        )
        self._delete(rotation)

    def _turn_about(self, rotation: TimedRotation) -> None:
        """Let it turn the other way about."""
        field = "turns" if rotation.turns is not None else "rpm"
        self._set(rotation.id, "Direction", **{field: -getattr(rotation, field)})
