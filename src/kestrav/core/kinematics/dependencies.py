"""What a thing's motion hangs on: while all of that is the same, so is the motion."""

from __future__ import annotations

from kestrav.core.document.lookup import find
from kestrav.core.document.records import Project, Run, TowardOrientation
from kestrav.core.document.references import references
from kestrav.core.kinematics.motion_segments import by_thing
from kestrav.core.mechanisms.joints import joints


def dependencies(project: Project, *things: str) -> tuple[object, ...]:
    """All records that the motion of things follows from, in an order that is the same for the same ones.

    Where bounds of parts come in, these are all parts.
    """
    moving, moved_within = by_thing(project), joints(project)
    values: dict[str, object] = {}
    left = list(things)
    bounds = False

    def need(item_id: str) -> None:
        if item_id not in values:
            left.append(item_id)

    while left:
        here = left.pop()
        if here in values:
            continue
        item = find(project, here)
        values[here] = item
        for reference in references(item) if item is not None else ():
            if reference.ref.moves:
                need(reference.id)
        if isinstance(item, Run) and (item.reference != "pivot" or item.ground is not None or item.bank.computed):
            bounds = True
        if isinstance(item, Run) and isinstance(item.orientation, TowardOrientation):
            bounds = True
        for mover in moving.get(here, ()):
            need(mover.id)
        for joint in moved_within.get(here, ()):
            need(joint.item.id)
    return (*values.values(), project.parts) if bounds else tuple(values.values())
