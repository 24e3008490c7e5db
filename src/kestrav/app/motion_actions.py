"""What the window offers for motion and its time: key poses, rides, lights, stretching, reversing, splitting."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QObject
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.dialogs import ask_choice, ask_quantity
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Camera, Light, Part, Run
from kestrav.core.motion import making, timing
from kestrav.core.motion.legs import movers
from kestrav.core.motion.runs import span
from kestrav.core.motion.wheels import add_rolls, add_spin, add_swivel

if TYPE_CHECKING:
    from kestrav.app.window import Window


class MotionActions(QObject):
    """The window's hands for what moves."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.window, self.session, self.deck = window, window.session, window.deck

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of motion; the part of it that is about time is the deck's as well."""
        menu = QMenu("Motion", self.window)
        for text, slot, keys, tip in (
            ("Pose here", self.pose, ("P",), "A key pose of the selection at the playhead, where it is then"),
            ("Ride with …", self.ride, (), "The selection rides with a part from the playhead on"),
        ):
            menu.addAction(action(text, slot, *keys, tip=tip))
        for text, slot, tip in (
            (
                "Let it roll",
                self.roll,
                "The selected wheels turn by the way that they roll; axle and radius from their cylinders",
            ),
            ("Let it swivel", self.swivel, "The selected castor turns about its kingpin so that its wheel rolls"),
            ("Let it spin", self.spin, "The selection spins by time"),
        ):
            menu.addAction(action(text, slot, tip=tip))
        lights = menu.addMenu("Light")
        for kind in ("point", "spot", "area", "sun"):
            lights.addAction(
                action(
                    f"{kind.capitalize()} light",
                    partial(self.light, kind),
                    tip=f"Add a {kind} light where the view looks",
                )
            )
        menu.addSeparator()
        times = [
            ("Split at the playhead", self.split, ("/",), "One run becomes two that follow each other"),
            ("Hold here", self.hold, (), "Stand for a second at the playhead; the run takes so much longer"),
            ("Stretch …", self.stretch, (), "Tell what is selected, or all, so many times as slowly"),
            ("Fit into …", self.fit, (), "Stretch what is selected, or all, to a length of time"),
            ("Move by …", self.move, (), "Begin what is selected, or all, later or (with a minus) earlier"),
            ("Reverse in time", self.reverse, (), "As a film played backwards shows it"),
        ]
        for text, slot, keys, tip in times:
            made = action(text, slot, *keys, tip=tip)
            menu.addAction(made)
            self.deck.time_menu.addAction(made)
        return menu

    # making

    def _chosen_thing(self) -> str | None:
        item = self.session.item
        return item.id if isinstance(item, (Part, Camera, Light)) else getattr(item, "rider", None)

    def pose(self) -> None:
        """A key pose of the selection at the playhead."""
        thing = self._chosen_thing()
        if thing is None:
            self.window.card.complain("select the thing to pose first")
            return
        if self.session.edit("Key pose", lambda p: making.add_pose(p, thing, self.session.time)):
            # what was there stays so; the thing is moved or turned at another time, and posed by that
            self.stage_hint()

    def stage_hint(self) -> None:
        """Say how to go on."""
        self.window.say("Posed. Go to another time and move or turn it: each time gets its own pose")

    def ride(self) -> None:
        """Let the selection ride with a part from the playhead on."""
        thing = self._chosen_thing()
        project = self.session.project
        if thing is None:
            self.window.card.complain("select what is to ride first")
            return
        moving = movers(project)
        things = [(p.id, p.name) for p in project.parts if p.id != thing and (p.id in moving or p.parent is None)]
        things.sort(key=lambda pair: pair[0] not in moving)
        carrier = ask_choice(self.window, "Ride with", f"{get(project, thing).name} rides with", things)
        if carrier is not None and self.session.edit(
            "Ride", lambda p: making.add_carry(p, thing, carrier, self.session.time)
        ):
            self.session.select(self.session.project.carries[-1].id)

    def _parts(self) -> list[str]:
        chosen = [i for i in self.session.chosen if isinstance(get(self.session.project, i), Part)]
        if not chosen:
            self.window.card.complain("select the part first")
        return chosen

    def roll(self) -> None:
        """Let the selected wheels roll."""
        wheels = self._parts()
        if wheels and self.session.edit("Roll", lambda p: add_rolls(p, self.session.meshes, wheels)):
            self.session.select(self.session.project.rolls[-1].id)

    def swivel(self) -> None:
        """Let the selected castor swivel."""
        castors = self._parts()
        if castors and self.session.edit("Swivel", lambda p: add_swivel(p, castors[-1])):
            self.session.select(self.session.project.swivels[-1].id)

    def spin(self) -> None:
        """Let the selection spin."""
        parts = self._parts()
        if parts and self.session.edit("Spin", lambda p: add_spin(p, self.session.meshes, parts[-1])):
            self.session.select(self.session.project.spins[-1].id)

    def light(self, kind: str) -> None:
        """Add a light above where the view looks."""
        focus = np.array(self.window.stage.viewpoint.focus, float)
        place = focus + np.array([0.0, 0.0, max(2200.0 - focus[2], 800.0)])
        if self.session.edit(
            "Add light", lambda p: making.add_light(p, kind, np.round(place, -1), np.round(focus, -1))
        ):
            self.session.select(self.session.project.lights[-1].id)

    # time

    def _ids(self) -> list[str]:
        """What is marked in the deck, or selected, or all of it."""
        project = self.session.project
        if self.deck.marked:
            return list(self.deck.marked)
        chosen = [*self.session.chosen, *([self.session.selection] if self.session.selection else [])]
        found = timing.timed_ids(project, chosen) if chosen else []
        return found or timing.timed_ids(project)

    def _run(self) -> Run | None:
        item = self.session.item
        if isinstance(item, Run):
            return item
        self.window.card.complain("select a run first")
        return None

    def split(self) -> None:
        """Split the selected run at the playhead."""
        run = self._run()
        if run is not None:
            self.session.edit("Split run", lambda p: timing.split_run(p, run.id, self.session.time))

    def hold(self) -> None:
        """Let the selected run stand at the playhead."""
        run = self._run()
        if run is not None:
            self.session.edit("Hold", lambda p: making.with_hold(p, run.id, self.session.time))

    def stretch(self) -> None:
        """Ask by how much, and stretch."""
        ids = self._ids()
        factor = ask_quantity(self.window, "Stretch", f"{_count(ids)}, so many times as slowly", 2.0, "", 3)
        if factor is not None:
            self.session.edit("Stretch", lambda p: timing.stretched(p, ids, factor, self._about(ids)))

    def _about(self, ids: list[str]) -> float | None:
        """All of the project is stretched from 0 on."""
        return 0.0 if set(ids) == set(timing.timed_ids(self.session.project)) else None

    def fit(self) -> None:
        """Ask for a length of time, and stretch to it."""
        ids = self._ids()
        seconds = ask_quantity(self.window, "Fit into", f"{_count(ids)} take", span(self.session.project), "s", 3)
        if seconds is not None:
            self.session.edit("Fit", lambda p: timing.fitted(p, ids, seconds))

    def move(self) -> None:
        """Ask by how much, and move in time."""
        ids = self._ids()
        by = ask_quantity(self.window, "Move", f"{_count(ids)}, later by", 1.0, "s", 3)
        if by is not None:
            self.session.edit("Move in time", lambda p: timing.moved(p, ids, by))

    def reverse(self) -> None:
        """Reverse what is selected in time."""
        ids = self._ids()
        self.session.edit("Reverse in time", lambda p: timing.reversed_in_time(p, ids))


def _count(ids: list[str]) -> str:
    return "one thing" if len(ids) == 1 else f"{len(ids)} things"
