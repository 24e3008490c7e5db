"""Which end of each drive turns the other, and what that makes parts hang on."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Literal

from kestrav.core.document.records import Attachment, Castor, Gear, PoseTrack, Project, Run, TimedRotation, Wheel
from kestrav.core.memo import Memo

Side = Literal["a", "b"]
_driven: Memo[dict[str, Side | None]] = Memo(4)


def driven(project: Project) -> dict[str, Side | None]:
    """For each drive which end is turned by the other; None where both ends turn by something else.

    Turning begins at what rolls, spins or is turned by a rod, then at what is moved by itself, and goes along the gears from
    there. Where nothing turns at all a rack and first ends are taken to hold the others. Kept by the records' tuples.
    """
    if not project.gears:
        return {}
    state = (
        project.gears, project.wheels, project.rotations, project.castors, project.rods,
        project.runs, project.pose_tracks, project.attachments,
    )  # fmt: skip
    return _driven.get(state, lambda: _resolved(project))


def _resolved(project: Project) -> dict[str, Side | None]:
    sides: dict[str, Side | None] = {}
    by_part: dict[str, list[Gear]] = {}
    for gear in project.gears:
        for end in (gear.a, gear.b):
            by_part.setdefault(end.part, []).append(gear)
    reached: set[str] = set()

    def spread(sources: Iterable[str]) -> None:
        left = [s for s in dict.fromkeys(sources) if s in by_part and s not in reached]
        reached.update(left)
        while left:
            here = left.pop(0)
            for gear in by_part[here]:
                if gear.id in sides:
                    continue
                other = gear.b.part if gear.a.part == here else gear.a.part
                if other in reached:
                    sides[gear.id] = None
                    continue
                sides[gear.id] = "b" if gear.a.part == here else "a"
                reached.add(other)
                left.append(other)

    turners: tuple[Wheel | Castor | TimedRotation, ...] = (*project.wheels, *project.rotations, *project.castors)
    turned = [item.part for item in turners]
    for rod in project.rods:
        turned += [c.part for c in rod.coupled] if rod.keeps == "level" else []
        if rod.keeps in ("slider", "rocker") and rod.to is not None:
            turned.append(rod.to.part)
    spread(turned)
    moving: tuple[Run | PoseTrack | Attachment, ...] = (*project.runs, *project.pose_tracks, *project.attachments)
    moved = [p for m in moving for p in (m.rider, *(m.companions if isinstance(m, Run) else ()))]
    # a gear that is moved along a rack that stands rolls on it
    spread([d.b.part for d in project.gears if d.kind == "rack" and d.a.part in moved and d.b.part not in moved])
    spread(moved)
    spread([d.b.part for d in project.gears if d.kind == "rack"])
    for gear in project.gears:
        spread([gear.a.part])
    return sides


def turned_by(project: Project) -> dict[str, set[str]]:
    """For each part that a drive, rod or ball moves, the parts that this hangs on."""
    needs: dict[str, set[str]] = {}
    driven_parts = driven(project)
    for gear in project.gears:
        side = driven_parts[gear.id]
        if side is not None:
            one, two = (gear.a.part, gear.b.part) if side == "b" else (gear.b.part, gear.a.part)
            needs.setdefault(two, set()).add(one)
    for rod in project.rods:
        needs.setdefault(rod.part, set()).add(rod.crank.part)
        for coupled in rod.coupled:
            needs.setdefault(coupled.part, set()).add(rod.crank.part)
        if rod.to is not None and rod.keeps != "level":
            needs[rod.part].add(rod.to.part)
            if rod.keeps != "points":
                needs.setdefault(rod.to.part, set()).add(rod.crank.part)
    for ball in project.balls:
        if ball.on is not None:
            needs.setdefault(ball.part, set()).add(ball.on)
    return needs
