"""What the cards of all things share."""

from __future__ import annotations

import warnings
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

import msgspec
import numpy as np
import scipy

from kestrav.app.cards.card_base import CardBase
from kestrav.core.document import edits
from kestrav.core.document.fields import infos
from kestrav.core.document.lookup import ancestors, find, subtree, topmost
from kestrav.core.document.records import (
    KIND_WORDS,
    AnyTrigger,
    Attachment,
    ContactTrigger,
    Item,
    PoseTrack,
    Record,
    Run,
    Settings,
    TimedRotation,
    Trigger,
)
from kestrav.core.editing.run_making import add_run
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.kinematics.runs import begins

_CONTACT = "contact"  # a choice beside the ids of runs
Vector = tuple[float, float, float]


class Rows:
    """Fills a card's form for one kind of thing."""

    def __init__(self, card: CardBase) -> None:
        self.card, self.session, self.form = card, card.session, card.sheet

    def _name(self, item: Item) -> None:
        self.form.text("Name", item.name, lambda text: self._set(item.id, "Rename", name=text), "Name", own=True)

    def _set(self, item_id: str, label: str, **fields: Any) -> None:
        self.session.edit(label, lambda project: edits.update(project, item_id, **fields))

    def _fields(
        self,
        record: Record,
        *names: str,
        change: Callable[..., object] | None = None,
        options: Sequence[tuple[str, str]] = (),
        own: bool = False,
        prefix: str = "",
        unit: str = "",
    ) -> None:
        """Rows for fields of a record, as :meth:`Sheet.fields` makes them; without ``change`` the record is a thing whose fields are set."""
        changed = change or partial(self._set_fields, record)
        self.form.fields(record, *names, change=changed, options=options, own=own, prefix=prefix, unit=unit)

    def _set_fields(self, record: Record, **fields: Any) -> None:
        described = infos(type(record))
        label = next((described[name].label or described[name].text for name in fields if name in described), "Change")
        self._set(record.id, label, **fields)  # type: ignore[attr-defined]

    def _each(self, records: Sequence[Record], prefix: str, *names: str, change: Callable[[Any], object]) -> None:
        """Rows for fields of several records, which are counted behind a ``prefix``; ``change`` is told all of them anew."""
        for k, record in enumerate(records):
            self._fields(record, *names, change=replacing(records, k, change), prefix=f"{prefix} {k + 1}")

    def _settings(self, *names: str) -> None:
        """Rows for fields of the project's settings."""

        def change(**fields: Any) -> None:
            label = infos(Settings)[next(iter(fields))].label
            self.session.edit(label, lambda project: edits.settings(project, **fields))

        self._fields(self.session.shown.settings, *names, change=change)

    def _trigger(self, item: Run | PoseTrack | Attachment | TimedRotation) -> None:
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
            self._fields(trigger, "a", change=change, options=things)
            self._fields(trigger, "b", change=change, options=things)
        else:
            self._fields(trigger, "at", change=change)
            if trigger.at == "station":
                self._fields(trigger, "place", change=change)
        self._fields(trigger, "delay", change=change)
        begun = begins(project, item)
        places = 4 if isinstance(trigger, ContactTrigger) else 3
        form.note(
            f"starts at {begun:.{places}f}\u2009s" if np.isfinite(begun) else "never starts: the trigger never occurs"
        )

    def _trigger_of(self, item: Run | PoseTrack | Attachment | TimedRotation, chosen: str) -> AnyTrigger | None:
        """What a choice of a trigger means: for a contact, that of the thing itself with what moves."""
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
        self._fields(item, "blend")

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


def replacing(records: Sequence[Any], number: int, change: Callable[[Any], object]) -> Callable[..., object]:
    """What changes fields of one of several records and tells all of them anew."""

    def put(**fields: Any) -> None:
        changed = list(records)
        changed[number] = msgspec.structs.replace(changed[number], **fields)
        change(tuple(changed))

    return put


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
