"""What the cards of all things share."""

from __future__ import annotations

import warnings
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
import scipy

from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, find, subtree, topmost
from kestrav.core.document.records import (
    KIND_WORDS,
    AnyTrigger,
    Attachment,
    ContactTrigger,
    Item,
    PoseTrack,
    Run,
    TimedRotation,
    Trigger,
)
from kestrav.core.editing.run_making import add_run
from kestrav.core.kinematics.legs import movers
from kestrav.core.kinematics.runs import begins

if TYPE_CHECKING:
    from kestrav.app.cards.card import Card

_CONTACT = "contact"  # a choice beside the ids of runs
Vector = tuple[float, float, float]


class Rows:
    """Fills a card's form for one kind of thing."""

    def __init__(self, card: Card) -> None:
        self.card, self.session, self.form = card, card.session, card.sheet

    def _name(self, item: Item) -> None:
        self.form.text("Name", item.name, lambda text: self._set(item.id, "Rename", name=text), "Name", own=True)

    def _set(self, item_id: str, label: str, **fields: Any) -> None:
        self.session.edit(label, lambda project: edits.update(project, item_id, **fields))

    def _number(
        self,
        item: Item,
        label: str,
        field: str,
        unit: str,
        tip: str,
        places: int = 1,
        step: float = 1.0,
        own: bool = False,
    ) -> None:
        """A number of a record; a field of whole numbers takes the nearest one."""
        value = getattr(item, field)
        kind = type(value)

        def change(typed: float) -> None:
            self._set(item.id, label, **{field: round(typed) if kind is int else typed})

        self.form.number(label, value, unit, change, tip, places, step, own=own)

    def _setting(self, label: str, field: str, unit: str, tip: str, places: int = 1) -> None:
        """A number of the project's settings."""
        value = getattr(self.session.shown.settings, field)

        def change(typed: float) -> None:
            self.session.edit(label, lambda project: edits.settings(project, **{field: typed}))

        self.form.number(label, value, unit, change, tip, places)

    def _cue(self, item: Run | PoseTrack | Attachment | TimedRotation) -> None:
        """When it begins: by time, by what another run does, or by a contact."""
        project, form, trigger = self.session.shown, self.form, item.trigger
        runs = [(r.id, r.name) for r in project.runs if r.id != item.id]
        form.choice(
            "Trigger",
            [("", "at a time"), (_CONTACT, "at a contact"), *runs],
            _CONTACT if isinstance(trigger, ContactTrigger) else trigger.run if trigger is not None else "",
            lambda v: self._set(item.id, "Trigger", trigger=self._trigger_of(item, v)),
            "Start at a time, at a contact of two parts, or when another run starts, arrives or passes a station",
        )
        if trigger is None:
            return

        def change(**fields: Any) -> None:
            self._set(item.id, "Trigger", trigger=msgspec.structs.replace(trigger, **fields))

        if isinstance(trigger, ContactTrigger):
            things = [
                (p.id, p.name)
                for p in project.parts
                if p.parent is None or p.geometry is None or p.id in movers(project) or p.id in (trigger.a, trigger.b)
            ]
            form.choice("Part", things, trigger.a, lambda v: change(a=v), "First part or assembly of the contact")
            form.choice("Touches", things, trigger.b, lambda v: change(b=v), "Second part or assembly of the contact")
        else:
            form.choice(
                "Event",
                [("start", "starts"), ("way", "passes a station"), ("arrival", "arrives")],
                trigger.at,
                lambda v: change(at=v),
                "Event of that run",
            )
            if trigger.at == "way":
                form.number(
                    "Station",
                    100 * trigger.place,
                    "%",
                    lambda v: change(place=v / 100),
                    "Station as a share of its path",
                    1,
                    5,
                )
        form.number("Delay", trigger.delay, "s", lambda v: change(delay=v), "Delay after the trigger", 3, 0.1)
        begun = begins(project, item)
        places = 4 if isinstance(trigger, ContactTrigger) else 3
        form.note(
            f"starts at {begun:.{places}f}\u2009s" if np.isfinite(begun) else "never starts: the trigger never occurs"
        )

    def _trigger_of(self, item: Run | PoseTrack | Attachment | TimedRotation, chosen: str) -> AnyTrigger | None:
        """What a choice of a cue means: for a contact, that of the thing itself with what moves."""
        if chosen != _CONTACT:
            return Trigger(chosen) if chosen else None
        project = self.session.project
        own = item.part if isinstance(item, TimedRotation) else item.rider
        mine = {*subtree(project, own), *ancestors(project, own)} if find(project, own) in project.parts else {own}
        others = [p.id for p in project.parts if p.id in movers(project) and p.id not in mine]
        others += [p.id for p in project.parts if p.parent is None and p.id not in mine]
        parts = [i for i in (own, *others) if any(p.id == i for p in project.parts)]
        return ContactTrigger(parts[1], parts[0]) if len(parts) > 1 else None

    def _blend(self, item: Run | PoseTrack) -> None:
        self.form.number(
            "Blend",
            item.blend,
            "s",
            lambda v: self._set(item.id, "Blend", blend=v),
            "Time over which the motion is blended with the one before",
            2,
            0.1,
            zero="none",
        )

    def _add_run(self, rider: str, path: str) -> None:
        # what is selected with it goes along
        others = tuple(i for i in topmost(self.session.project, self.session.chosen) if i != rider)
        if rider and path and self.session.edit("Add run", lambda project: add_run(project, rider, path, others)):
            self.session.select(self.session.project.runs[-1].id)

    def _delete(self, item: Item, word: str = "") -> None:
        kind = word or KIND_WORDS[type(item)]

        def delete() -> None:
            if self.session.edit(f"Delete {kind}", lambda project: edits.remove(project, item.id)):
                self.session.select(None)

        self.form.foot()
        self.form.buttons((f"Delete {kind}", delete, f"Delete this {kind} and everything that depends on it"))


def angles_of(rotation: tuple[float, float, float, float]) -> tuple[float, float, float]:
    """A rotation as yaw to the left, pitch with the front up and roll to the right, in degrees."""
    with warnings.catch_warnings():
        # straight up or down yaw and roll are alike; the roll is told as none then
        warnings.simplefilter("ignore", UserWarning)
        yaw, pitch, roll = scipy.spatial.transform.Rotation.from_quat(np.roll(rotation, -1)).as_euler(
            "ZYX", degrees=True
        )
    return float(yaw), float(-pitch), float(roll)


def rotation_of(angles: Vector) -> tuple[float, float, float, float]:
    """Yaw, pitch and roll in degrees as a rotation (w, x, y, z)."""
    x, y, z, w = scipy.spatial.transform.Rotation.from_euler(
        "ZYX", (angles[0], -angles[1], angles[2]), degrees=True
    ).as_quat()
    return float(w), float(x), float(y), float(z)
