"""Wheels, castors and spins."""

from __future__ import annotations

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Axle, Project, Roll, Spin, Swivel
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.rolling import sideways
from kestrav.core.motion.runs import span
from kestrav.core.motion.wheels import (
    axle_of,
    ending_as_it_began,
    turns_of,
    way_rolled,
    with_turns,
    with_whole_turns,
)
from kestrav.core.units import show


class _AxleRows(Rows):
    """The line that something turns about."""

    def _axle(self, item: Roll | Spin | Swivel, field: str, label: str) -> None:
        axle: Axle = getattr(item, field)

        def change(**fields: object) -> None:
            self._set(item.id, label, **{field: msgspec.structs.replace(axle, **fields)})

        self.form.vector(
            f"{label} at", axle.origin, "mm", lambda v: change(origin=v), "A point of it, in the part's own coordinates"
        )
        self.form.vector(
            f"{label} along",
            axle.direction,
            "",
            lambda v: change(direction=v),
            "Its direction, in the part's own axes",
            3,
        )


class RollRows(_AxleRows):
    """Radius, axle, and the sum of its turns."""

    def build(self, roll: Roll) -> None:
        project, form = self.session.shown, self.form
        turns = turns_of(project, roll)
        self.card.title.setText(f"{roll.name} · {show(turns, 'turns', 2)}")
        self._name(roll)
        form.number(
            "Radius",
            roll.radius,
            "mm",
            lambda v: self._set(roll.id, "Radius", radius=v),
            "By which it rolls: the working radius",
            3,
        )
        form.number(
            "Diameter",
            2 * roll.radius,
            "mm",
            lambda v: self._set(roll.id, "Radius", radius=v / 2),
            "Twice the working radius",
            3,
        )
        form.number(
            "Around",
            2 * np.pi * roll.radius,
            "mm",
            lambda v: self._set(roll.id, "Radius", radius=v / (2 * np.pi)),
            "The circumference by which it rolls",
            3,
        )
        form.number(
            "Outer",
            roll.outer,
            "mm",
            lambda v: self._set(roll.id, "Outer radius", outer=v),
            "The radius of its tread, that touches the ground",
            3,
            zero="as above",
        )
        form.number(
            "Starts at", roll.start, "°", lambda v: self._set(roll.id, "Start angle", start=v), "Its angle at the start"
        )
        form.number(
            "Slip",
            100 * roll.slip,
            "%",
            lambda v: self._set(roll.id, "Slip", slip=v / 100),
            "How much more it turns than it rolls (spinning), or with a minus less (braking)",
            2,
            zero="none",
        )
        self._axle(roll, "axle", "Axle")
        way, around = way_rolled(project, roll), 2 * np.pi * roll.radius
        slipped = "" if roll.slip == 0 else f" × {1 + roll.slip:.4f}"
        dragged = float(sideways(Motion(project).rolling(roll).path)[-1])
        form.worked(
            f"2 · π · {show(roll.radius, places=3)} = {show(around, 'mm', 3)} around",
            f"{show(way)} ÷ {show(around, places=3)}{slipped} = <b>{show(turns, 'turns', 4)}</b>",
            f"{show(turns, places=4)} × 360 = {show(360 * turns, '°')}",
            f"dragged across {show(dragged, 'mm')} in all",
        )
        form.heading("Make ends meet")
        form.number(
            "For turns",
            abs(turns),
            "",
            lambda v: self.session.edit("Path for turns", lambda p: with_turns(p, roll.id, v)),
            "Give its path the length at which it makes so many turns; the start of the path stays",
            4,
        )
        form.buttons(
            (
                "Whole turns",
                lambda: self.session.edit("Whole turns", lambda p: with_whole_turns(p, roll.id)),
                "The working radius by which it makes a whole number of turns",
            ),
            (
                "End as begun",
                lambda: self.session.edit("Start angle", lambda p: ending_as_it_began(p, roll.id)),
                "The start angle by which its mark is at the end where it now is at the start",
            ),
            ("From its cylinder", lambda: self._from_cylinder(roll), "Axle and radius from its CAD cylinder"),
        )
        self._delete(roll.id, "roll")

    def _from_cylinder(self, roll: Roll) -> None:
        def take(project: Project) -> Project:
            axle, radius = axle_of(project, self.session.meshes, roll.part)
            return edits.update(project, roll.id, axle=axle, radius=radius, outer=radius)

        self.session.edit("From its cylinder", take)


class SwivelRows(_AxleRows):
    """Kingpin, way ahead and trail."""

    def build(self, swivel: Swivel) -> None:
        form = self.form
        self.card.title.setText(swivel.name)
        self._name(swivel)
        form.number(
            "Trail",
            swivel.trail,
            "mm",
            lambda v: self._set(swivel.id, "Trail", trail=v),
            "How far behind the kingpin its wheel touches the ground; without any it is not turned about by reversing",
            1,
            zero="none",
        )
        self._axle(swivel, "kingpin", "Kingpin")
        form.vector(
            "Ahead",
            swivel.forward,
            "",
            lambda v: self._set(swivel.id, "Ahead", forward=v),
            "Its own way ahead, at no angle",
            3,
        )
        form.note(f"{get(self.session.shown, swivel.part).name} turns about its kingpin, along the way that it goes")
        self._delete(swivel.id, "swivel")


class SpinRows(_AxleRows):
    """Rate or turns, span and ramps."""

    def build(self, spin: Spin) -> None:
        project, form = self.session.shown, self.form
        self.card.title.setText(spin.name)
        self._name(spin)
        by = "turns" if spin.turns is not None else "rpm"

        def switch(kind: str) -> None:
            if kind == "turns":
                end = spin.end or spin.start + 4.0
                made = (spin.rpm or 60.0) * (end - spin.start) / 60.0
                self._set(spin.id, "By turns", turns=made, rpm=None, end=end)
            else:
                rate = 60.0 * (spin.turns or 1.0) / ((spin.end or spin.start + 4.0) - spin.start)
                self._set(spin.id, "By rate", turns=None, rpm=rate)

        form.choice(
            "Set by", [("rpm", "turns a minute"), ("turns", "turns in all")], by, switch, "Which of the two is given"
        )
        if spin.turns is not None:
            form.number(
                "Turns",
                spin.turns,
                "",
                lambda v: self._set(spin.id, "Turns", turns=v),
                "In all; with a minus the other way",
                3,
            )
        else:
            form.number(
                "Rate",
                spin.rpm or 0.0,
                "",
                lambda v: self._set(spin.id, "Rate", rpm=v),
                "Turns a minute; with a minus the other way",
                2,
                10,
            )
        if spin.cue is None:
            self._number(spin, "From", "start", "s", "When it begins", 3, 0.1)
        self._cue(spin)
        form.number(
            "To",
            spin.end or 0.0,
            "s",
            lambda v: self._set(spin.id, "End", end=v or None),
            "When it ends",
            3,
            0.1,
            zero="for good",
        )
        for label, field in (("Soft start", "ramp_in"), ("Soft stop", "ramp_out")):
            form.number(
                label,
                getattr(spin, field),
                "s",
                lambda v, f=field, n=label: self._set(spin.id, n, **{f: v}),
                "Over how long its rate grows or falls",
                2,
                0.1,
            )
        self._axle(spin, "axle", "Axle")
        end = span(project)
        turned = float(Motion(project).angles(spin, [end])[0]) / (2 * np.pi)
        form.worked(
            f"{show(turned, 'turns', 3)} until {show(end, 's', 2)}",
            f"{show(turned, places=3)} × 360 = {show(360 * turned, '°')}",
        )
        self._delete(spin.id, "spin")
