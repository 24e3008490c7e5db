"""What the window offers for motion and its time: key poses, attachments, lights, stretching, reversing, splitting."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import Literal

import numpy as np
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.asking import ask_request
from kestrav.app.dialogs.questions import ask_choice
from kestrav.app.session import Session
from kestrav.app.stage.stage import Stage
from kestrav.core.clearance.knocking import add_knock
from kestrav.core.clearance.putting import put_down
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Attachment, Camera, Light, Part, Project, Run
from kestrav.core.document.requests import FitRequest, KnockRequest, ShiftRequest, StretchRequest
from kestrav.core.editing import mechanism_making, run_making, timing
from kestrav.core.editing.wheel_making import add_castor, add_rotations, add_wheels
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.runs import begins, span
from kestrav.core.parts.rest import own_bounds


class MotionActions(Actions):
    """What the window does about what moves."""

    def __init__(self, session: Session, prompts: Prompts, stage: Stage, marked: Callable[[], Sequence[str]]) -> None:
        """``marked`` are the things whose bars are marked."""
        super().__init__(session, prompts)
        self.stage, self._marked = stage, marked
        self.time_menu = QMenu(prompts.over)  # what can be done with what lasts some time

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of motion; the part of it that is about time is a menu of its own as well."""
        menu = QMenu("Motion", self.prompts.over)
        for text, slot, keys, tip in (
            ("Add key pose", self.pose, ("P",), "Add a key pose of the selection at the playhead"),
            ("Attach to …", self.attach, (), "Attach the selection to a part from the playhead on"),
        ):
            menu.addAction(action(text, slot, *keys, tip=tip))
        for text, slot, tip in (
            (
                "Add wheel",
                self.add_wheel,
                "Rotate the selected wheels by the distance rolled; axis and radius come from their cylinders",
            ),
            ("Add castor", self.add_castor, "Turn the selected castor about its kingpin, so that its wheel rolls"),
            ("Add rotation", self.add_rotation, "Rotate the selection by time; several parts are linked"),
            ("Add ball", self.add_ball, "Roll the selection as a ball, without slip"),
        ):
            menu.addAction(action(text, slot, tip=tip))
        gear_menu = menu.addMenu("Gear")
        gears: tuple[tuple[mechanism_making.Kind, str], ...] = (
            ("external", "Two gears"),
            ("internal", "Gear in a ring"),
            ("rack", "Gear on a rack"),
            ("chain", "Sprockets with a chain"),
            ("belt", "Pulleys with a belt"),
        )
        for kind, text in gears:
            tip = "Connect the two selected parts; the one selected last is the driven part" + (
                ": the rack" if kind == "rack" else ""
            )
            gear_menu.addAction(action(text, partial(self.add_gear, kind), tip=tip))
        rods = menu.addMenu("Rod")
        kinds: tuple[tuple[mechanism_making.Keeps, str], ...] = (
            ("level", "Stays parallel"),
            ("points", "Points at a pin"),
            ("slider", "Moves a slider"),
            ("rocker", "Moves a rocker"),
        )
        for keeps, text in kinds:
            tip = "Select the rod, then its crank" + (
                ", then all that it turns along" if keeps == "level" else ", then the part at its other end"
            )
            rods.addAction(action(text, partial(self.add_rod, keeps), tip=tip))
        menu.addSeparator()
        menu.addAction(
            action(
                "Set down at playhead",
                self.put_down,
                tip="Release the attached part at the playhead and lower it onto the surface below",
            )
        )
        menu.addAction(
            action("Knock over …", self.knock, tip="Select the striking part, then the part that slides and tips over")
        )
        menu.addSeparator()
        lights = menu.addMenu("Light")
        shapes: tuple[Literal["point", "spot", "area", "sun"], ...] = ("point", "spot", "area", "sun")
        for shape in shapes:
            lights.addAction(
                action(
                    f"{shape.capitalize()} light",
                    partial(self.light, shape),
                    tip=f"Add a {shape} light at the view's centre",
                )
            )
        menu.addSeparator()
        times: list[tuple[str, Callable[[], object], tuple[str, ...], str]] = [
            ("Split at the playhead", self.split, ("/",), "Split the run into two consecutive runs"),
            (
                "Add hold here",
                self.hold,
                (),
                "Add a hold of one second at the playhead; the run takes longer accordingly",
            ),
            ("Stretch …", self.stretch, (), "Stretch the selection, or everything, in time"),
            ("Fit in time …", self.fit, (), "Stretch the selection, or everything, to a duration"),
            ("Move by …", self.move, (), "Move the selection, or everything, later in time; negative is earlier"),
            ("Reverse in time", self.reverse, (), "Reverse the selection, or everything, in time"),
        ]
        for text, work, shortcuts, tip in times:
            entry = action(text, work, *shortcuts, tip=tip)
            menu.addAction(entry)
            self.time_menu.addAction(entry)
        return menu

    # making

    def _chosen_thing(self) -> str | None:
        item = self.session.item
        return item.id if isinstance(item, (Part, Camera, Light)) else getattr(item, "rider", None)

    def pose(self) -> None:
        """A key pose of the selection at the playhead."""
        thing = self._chosen_thing()
        if thing is None:
            self.prompts.complain("select the part to pose first")
            return
        if self.session.edit("Key pose", lambda p: run_making.add_pose(p, thing, self.session.time)):
            # what was there stays so; the thing is moved or turned at another time, and posed by that
            self.stage_hint()

    def stage_hint(self) -> None:
        """Say how to go on."""
        self.prompts.hint(
            "Key pose added. Go to another time and move or turn the part: each time gets its own key pose"
        )

    def attach(self) -> None:
        """Attach the selection to a part from the playhead on."""
        thing = self._chosen_thing()
        project = self.session.project
        if thing is None:
            self.prompts.complain("select the part to attach first")
            return
        moving = movers(project)
        things = [(p.id, p.name) for p in project.parts if p.id != thing and (p.id in moving or p.parent is None)]
        things.sort(key=lambda pair: pair[0] not in moving)
        carrier = ask_choice(self.prompts.over, "Attach to", f"{get(project, thing).name} is attached to", things)
        if carrier is not None and self.session.edit(
            "Attach", lambda p: run_making.add_attachment(p, thing, carrier, self.session.time)
        ):
            self.session.select(self.session.project.attachments[-1].id)

    def _parts(self) -> list[str]:
        chosen = [i for i in self.session.chosen if isinstance(get(self.session.project, i), Part)]
        if not chosen:
            self.prompts.complain("select the part first")
        return chosen

    def add_wheel(self) -> None:
        """Let the selected wheels roll."""
        wheels = self._parts()
        if wheels and self.session.edit("Add wheel", lambda p: add_wheels(p, self.session.meshes, wheels)):
            self.session.select(self.session.project.wheels[-1].id)

    def add_castor(self) -> None:
        """Make castors of the selected wheel holders."""
        castors = self._parts()
        if castors and self.session.edit("Add castor", lambda p: add_castor(p, castors[-1])):
            self.session.select(self.session.project.castors[-1].id)

    def add_rotation(self) -> None:
        """Rotate the selection by time."""
        parts = self._parts()
        if parts and self.session.edit("Add rotation", lambda p: add_rotations(p, self.session.meshes, parts)):
            self.session.select(self.session.project.rotations[-1].id)

    def add_ball(self) -> None:
        """Let the selection roll as a ball."""
        parts = self._parts()
        if parts and self.session.edit(
            "Add ball", lambda p: mechanism_making.add_ball(p, self.session.meshes, parts[-1])
        ):
            self.session.select(self.session.project.balls[-1].id)

    def add_gear(self, kind: mechanism_making.Kind) -> None:
        """Let the two selected parts turn each other by teeth, chain or belt."""
        parts = self._parts()
        if parts and len(parts) != 2:
            self.prompts.complain("select the two parts to connect (Ctrl+click adds the second one)")
        elif parts and self.session.edit(
            "Gear", lambda p: mechanism_making.add_gear(p, self.session.meshes, parts[0], parts[1], kind)
        ):
            self.session.select(self.session.project.gears[-1].id)

    def add_rod(self, keeps: mechanism_making.Keeps) -> None:
        """Make the first selected part a rod between the others."""
        parts, least = self._parts(), 2 if keeps == "level" else 3
        if not parts:
            return
        if len(parts) < least:
            third = "" if keeps == "level" else ", then the part at its other end"
            self.prompts.complain(f"select the rod, then its crank{third} (Ctrl+click takes several)")
            return
        meshes, rod, crank, others = self.session.meshes, parts[0], parts[1], parts[2:]

        def make(project: Project) -> Project:
            edited = mechanism_making.add_rod(
                project, meshes, rod, crank, keeps, others[0] if keeps != "level" else None
            )
            return (
                mechanism_making.couple(edited, meshes, edited.rods[-1].id, others)
                if keeps == "level" and others
                else edited
            )

        if self.session.edit("Rod", make):
            self.session.select(self.session.project.rods[-1].id)

    def put_down(self, attachment_id: str = "") -> None:
        """Put down what is attached, at the playhead: of the selected attachment, or of the latest one of the selection."""
        project, time = self.session.project, self.session.time
        item = self.session.item
        if not attachment_id and isinstance(item, Attachment):
            attachment_id = item.id
        if not attachment_id:
            thing = self._chosen_thing()
            rides = [c for c in project.attachments if c.rider == thing and begins(project, c) < time]
            if not rides:
                self.prompts.complain("select an attachment, or a part attached at the playhead, first")
                return
            attachment_id = max(rides, key=lambda c: begins(project, c)).id
        self.session.edit("Set down", lambda p: put_down(p, self.session.meshes, attachment_id, time))

    def knock(self) -> None:
        """Let the second selected part be knocked over by the first."""
        parts = self._parts()
        if len(parts) != 2:
            if parts:
                self.prompts.complain(
                    "select the striking part, then the part it strikes (Ctrl+click adds the second one)"
                )
            return
        project = self.session.project
        tall = float(np.ptp(own_bounds(project, parts[1]), axis=0).max())
        name = get(project, parts[1]).name
        request = ask_request(
            self.prompts.over,
            "Knock over",
            KnockRequest(round(0.6 * project.settings.fps), float(round(0.3 * tall, -1))),
            text=f"What {name} does when {get(project, parts[0]).name} touches it",
        )
        if request is None:
            return
        striker, struck = parts
        if self.session.edit(
            "Knock over",
            lambda p: add_knock(p, self.session.meshes, striker, struck, request.frames, request.slide, request.tilt),
        ):
            self.session.select(self.session.project.pose_tracks[-1].id)

    def light(self, kind: Literal["point", "spot", "area", "sun"]) -> None:
        """Add a light above where the view looks."""
        focus = np.array(self.stage.viewpoint.focus, float)
        place = focus + np.array([0.0, 0.0, max(2200.0 - focus[2], 800.0)])
        if self.session.edit(
            "Add light", lambda p: run_making.add_light(p, kind, np.round(place, -1), np.round(focus, -1))
        ):
            self.session.select(self.session.project.lights[-1].id)

    # time

    def _ids(self) -> list[str]:
        """What is marked in the timeline, or selected, or all of it."""
        project = self.session.project
        marked = self._marked()
        if marked:
            return list(marked)
        chosen = [*self.session.chosen, *([self.session.selection] if self.session.selection else [])]
        ids = timing.timed_ids(project, chosen) if chosen else []
        return ids or timing.timed_ids(project)

    def _run(self) -> Run | None:
        item = self.session.item
        if isinstance(item, Run):
            return item
        self.prompts.complain("select a run first")
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
            self.session.edit("Hold", lambda p: run_making.with_hold(p, run.id, self.session.time))

    def stretch(self) -> None:
        """Ask by how much, and stretch."""
        ids = self._ids()
        request = ask_request(self.prompts.over, "Stretch", StretchRequest(), text=_count(ids), remember="factor")
        if request is not None:
            self.session.edit("Stretch", lambda p: timing.stretched(p, ids, request.factor, self._about(ids)))

    def _about(self, ids: list[str]) -> float | None:
        """All of the project is stretched from 0 on."""
        return 0.0 if set(ids) == set(timing.timed_ids(self.session.project)) else None

    def fit(self) -> None:
        """Ask for a length of time, and stretch to it."""
        ids = self._ids()
        now = span(self.session.project)
        request = ask_request(self.prompts.over, "Fit in time", FitRequest(now), text=_count(ids))
        if request is not None:
            self.session.edit("Fit", lambda p: timing.fitted(p, ids, request.duration))

    def move(self) -> None:
        """Ask by how much, and move in time."""
        ids = self._ids()
        request = ask_request(self.prompts.over, "Move in time", ShiftRequest(), text=_count(ids), remember="later")
        if request is not None:
            self.session.edit("Move in time", lambda p: timing.moved(p, ids, request.later))

    def reverse(self) -> None:
        """Reverse what is selected in time."""
        ids = self._ids()
        self.session.edit("Reverse in time", lambda p: timing.reversed_in_time(p, ids))


def _count(ids: list[str]) -> str:
    return "one entry" if len(ids) == 1 else f"{len(ids)} entries"
