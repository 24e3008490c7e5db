"""Drives with teeth, rods and balls."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.wheels import TurningRows
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Ball, Coupled, End, Gear, Pin, Project, Rod
from kestrav.core.document.trains import driven
from kestrav.core.editing.mechanism_making import (
    centre_distance,
    copy_rod,
    couple,
    into_mesh,
    length_of_chain,
    lengthened,
    rod_lengths,
    set_end,
    set_gear,
    shortfalls,
    stroke,
)
from kestrav.core.kinematics.lane_values import mesh_errors, rolled_distances
from kestrav.core.kinematics.motion import rod_length
from kestrav.core.kinematics.runs import span
from kestrav.core.mechanisms.gears import (
    CHAIN_PITCHES,
    MODULES,
    given_ratio,
    pitch_radius,
    ratio,
    right_distance,
    toothed,
)
from kestrav.core.units import show


class GearRows(TurningRows):
    """Both ends, their teeth, and the sums of ratio, distance and mesh."""

    def build(self, gear: Gear) -> None:
        project, form = self.session.shown, self.form
        self.form.title = f"{gear.name} · {given_ratio(gear)}"
        self._name(gear)
        drive = partial(self._drive, gear)
        self._fields(gear, "kind", change=drive)
        if toothed(gear):
            self._pitch(gear)
        for side, end in (("a", gear.a), ("b", gear.b)):
            self._end(gear, side, end)
        if gear.kind == "belt":
            self._fields(gear, "crossed", change=drive)
        self._fields(gear, "phase", unit="mm" if gear.kind == "rack" else "")
        form.worked(*self._sums(project, gear))
        if toothed(gear):
            known = gear.a.toothed and gear.b.toothed
            form.note(
                "Teeth were found on both solids."
                if known
                else "No teeth were found on both solids, so the gears cannot be meshed automatically."
            )
            form.buttons(
                (
                    "Mesh gears",
                    lambda: self.session.edit("Mesh teeth", lambda p: into_mesh(p, self.session.meshes, gear.id)),
                    "Find the teeth on both solids and turn the second gear until they mesh",
                )
            )
        self._delete(gear)

    def _drive(self, gear: Gear, label: str = "Change gear", **fields: object) -> None:
        self.session.edit(label, lambda p: set_gear(p, self.session.meshes, gear.id, **fields))

    def _pitch(self, gear: Gear) -> None:
        chain = gear.kind in ("chain", "belt")
        self.form.number(
            "Pitch" if chain else "Module",
            gear.pitch,
            "mm",
            lambda v: self._drive(gear, "Pitch" if chain else "Module", pitch=v),
            "From tooth to tooth along the chain or belt"
            if chain
            else "Pitch diameter by the number of teeth (ISO 54)",
            4,
        )
        standard = CHAIN_PITCHES if gear.kind == "chain" else () if gear.kind == "belt" else sorted(MODULES)
        if standard:
            here = f"{gear.pitch:g}" if gear.pitch in standard else ""
            self.form.choice(
                "Standard",
                [("", "not standard"), *((f"{size:g}", f"{size:g}\u2009mm") for size in standard)],
                here,
                lambda v: self._drive(gear, "Standard size", pitch=float(v)) if v else None,
                "Sizes of ISO 606" if gear.kind == "chain" else "Modules of ISO 54",
            )

    def _end(self, gear: Gear, side: str, end: End) -> None:
        project, form = self.session.shown, self.form
        rack = gear.kind == "rack" and side == "b"
        form.heading(get(project, end.part).name)

        def change(label: str, **fields: object) -> None:
            self.session.edit(label, lambda p: set_end(p, self.session.meshes, gear.id, side, **fields))

        if not rack:
            form.number(
                f"Teeth {'one' if side == 'a' else 'two'}",
                end.teeth,
                "",
                lambda v: change("Teeth", teeth=round(v)),
                "Number of teeth",
                0,
                zero="smooth" if gear.kind == "belt" else "",
            )
        if gear.kind == "belt" and not toothed(gear):
            form.number(
                f"Radius {'one' if side == 'a' else 'two'}",
                end.radius,
                "mm",
                lambda v: change("Radius", radius=v),
                "Radius of the pulley at the belt",
                3,
            )
        self._line(
            "Line" if rack else "Axle",
            end.axle,
            lambda axle: change("Line" if rack else "Axle", axle=axle),
            " one" if side == "a" else " two",
        )
        self._pick(f"{gear.id}/{side}")

    def _sums(self, project: Project, gear: Gear) -> list[str]:
        lines = []
        for end in (gear.a, gear.b):
            if gear.kind in ("external", "internal") or (gear.kind == "rack" and end is gear.a):
                size = show(2 * pitch_radius(gear, end), "mm pitch diameter", 3)
                lines.append(f"{gear.pitch:g} × {end.teeth} = {size}")
            elif gear.kind == "chain":
                size = show(2 * pitch_radius(gear, end), "mm pitch diameter", 3)
                lines.append(f"{gear.pitch:g} ÷ sin(180° ÷ {end.teeth}) = {size}")
        if gear.kind != "rack":
            sizes = (gear.b.teeth, gear.a.teeth) if toothed(gear) else (gear.b.radius, gear.a.radius)
            lines.append(f"{sizes[0]:g} ÷ {sizes[1]:g} = <b>{show(1 / ratio(gear), '', 4).strip()} to 1</b>")
        apart, wanted = centre_distance(project, gear), right_distance(gear)
        needed = "" if wanted is None else f", the teeth need {show(wanted, 'mm', 3)}"
        lines.append(f"{show(apart, 'mm', 3)} from axle to {'pitch line' if gear.kind == 'rack' else 'axle'}{needed}")
        if gear.kind in ("chain", "belt"):
            length = length_of_chain(project, gear)
            links = f" = {show(length / gear.pitch, 'links', 2)}" if gear.kind == "chain" else ""
            lines.append(f"{gear.kind} {show(length, 'mm', 1)} around{links}")
        side = driven(project)[gear.id]
        if side is None:
            lines.append("both gears are turned by something else")
        else:
            a, b = (get(project, end.part).name for end in (gear.a, gear.b))
            lines.append(f"{a} turns {b}" if side == "b" else f"{b} turns {a}")
        if toothed(gear) and gear.a.toothed and gear.b.toothed:
            error = np.abs(mesh_errors(project, gear, np.linspace(0.0, span(project), 101))).max()
            lines.append(f"out of mesh by {show(float(error), 'of a tooth', 3)} at most")
        return lines


class RodRows(TurningRows):
    """Pins, what it does, and its copies."""

    def build(self, rod: Rod) -> None:
        project, form = self.session.shown, self.form
        level = rod.keeps == "level"
        self.form.title = rod.name if level else f"{rod.name} · {show(rod_length(rod), 'mm', 2)}"
        self._name(rod)
        second = rod.to is not None
        self._fields(rod, "keeps")
        parts = [(p.id, p.name) for p in project.parts if p.id != rod.part]
        crank = rod.crank
        self._fields(
            crank, "part", "at", change=partial(self._put_pin, rod, "crank", crank), options=parts, prefix="Crank"
        )
        if rod.keeps != "level" or second:
            form.choice(
                "Other end",
                [("", "choose …"), *parts] if not second else parts,
                rod.to.part if rod.to is not None else "",
                lambda v: (
                    self._set(rod.id, "Other end", to=Pin(v, rod.to.at if rod.to else (0.0, 0.0, 0.0))) if v else None
                ),
                "Part that carries the second pin",
            )
        if rod.to is not None and rod.keeps != "level":
            self._fields(rod.to, "at", change=partial(self._put_pin, rod, "to", rod.to), prefix="Second")
        self._fields(rod, "near")
        if not level:
            self._fields(rod, "far")
            form.number(
                "Length",
                rod_length(rod),
                "mm",
                lambda v: self.session.edit("Rod length", lambda p: lengthened(p, rod.id, v)),
                "Distance from pin to pin; typing a length moves the far pin",
                3,
            )
        if rod.keeps == "slider":
            self._fields(rod, "line")
        elif rod.keeps == "rocker":
            self._line("Axle", rod.axle, lambda axle: self._set(rod.id, "Axle", axle=axle))
            self._pick(rod.id)
        if rod.keeps in ("slider", "rocker"):
            self._fields(rod, "other")
        form.worked(*self._sums(project, rod))
        if rod.keeps == "level":
            self._coupled(project, rod)
        self._copies(rod)
        self._delete(rod)

    def _put_pin(self, rod: Rod, name: str, pin: Pin, **fields: Any) -> None:
        self._set(rod.id, "Pin", **{name: msgspec.structs.replace(pin, **fields)})

    def _sums(self, project: Project, rod: Rod) -> list[str]:
        times = np.linspace(0.0, max(span(project), 1e-3), 721)
        if rod.keeps == "level":
            return [
                f"its pin goes {show(stroke(project, rod, times), 'mm', 1)} across, and every point of it likewise",
                f"turns {len(rod.coupled)} parts as {get(project, rod.crank.part).name} turns",
            ]
        lines = [f"{show(rod_length(rod), 'mm', 3)} from pin to pin"]
        if rod.keeps == "points" and rod.to is not None:
            lengths = rod_lengths(project, rod, times)
            lines.append(
                f"its pins are {show(float(lengths.min()), places=2)} to {show(float(lengths.max()), 'mm', 2)} apart"
            )
        elif rod.keeps in ("slider", "rocker") and rod.to is not None:
            moved = stroke(project, rod, times)
            if rod.keeps == "slider":
                lines.append(f"stroke <b>{show(moved, 'mm', 3)}</b>")
            else:
                lines.append(f"rocks <b>{show(float(np.degrees(moved)), '°', 2)}</b>")
            short = float(shortfalls(project, rod, times).max())
            lines.append("the rod reaches at all times" if short <= 1e-3 else f"{show(short, 'mm', 2)} short")
        return lines

    def _coupled(self, project: Project, rod: Rod) -> None:
        form = self.form
        form.heading("Coupled parts")
        for coupled in rod.coupled:
            form.buttons(
                (
                    f"Without {get(project, coupled.part).name}",
                    partial(self._let_go, rod, coupled),
                    "Uncouple this part from the rod",
                )
            )
        known = {rod.part, rod.crank.part, *(c.part for c in rod.coupled)}
        options = [(p.id, p.name) for p in project.parts if p.id not in known]
        form.choice(
            "Couple part",
            [("", "choose …"), *options],
            "",
            lambda v: self.session.edit("Couple", lambda p: couple(p, self.session.meshes, rod.id, [v])) if v else None,
            "Couple another part that turns with the crank, such as a coupled wheel",
        )
        chosen = [i for i in self.session.chosen if i not in known]
        if chosen:
            form.buttons(
                (
                    "Couple selection",
                    lambda: self.session.edit("Couple", lambda p: couple(p, self.session.meshes, rod.id, chosen)),
                    "Couple the selected parts, so that they turn with the crank",
                )
            )

    def _let_go(self, rod: Rod, coupled: Coupled) -> None:
        self._set(rod.id, "Couple", coupled=tuple(c for c in rod.coupled if c != coupled))

    def _copies(self, rod: Rod) -> None:
        form, ask = self.form, self.card.repeating
        form.heading("Copies")
        if rod.link:
            others = [r.name for r in self.session.shown.rods if r.link == rod.link and r.id != rod.id]
            if others:
                form.note("Linked with " + ", ".join(others))
        form.fields(ask, "count", "offset", "phase", change=ask.set)
        offers: list[tuple[str, Callable[[], object], str]] = [
            (
                "Make copies",
                lambda: self.session.edit(
                    "Copies of a rod",
                    lambda p: copy_rod(p, self.session.meshes, rod.id, ask.count, ask.offset, ask.phase),
                ),
                "Make linked copies of the rod and its parts, with pins on the same crank",
            )
        ]
        if rod.link:
            offers.append(("Unlink", lambda: self._set(rod.id, "Unlink", link=""), "Unlink"))
        form.buttons(*offers)


class BallRows(TurningRows):
    """Radius, what it rolls on, and its sum."""

    def build(self, ball: Ball) -> None:
        project, form = self.session.shown, self.form
        distance = float(rolled_distances(project, ball, [span(project)])[0])
        around = 2 * np.pi * ball.radius
        self.form.title = f"{ball.name} · {show(distance / around, 'turns', 2)}"
        self._name(ball)
        self._fields(ball, "radius", "centre")
        parts = [(p.id, p.name) for p in project.parts if p.id != ball.part]
        form.choice(
            "Rolls on",
            [("", "a plane along its path"), *parts],
            ball.on or "",
            lambda v: self._set(ball.id, "Rolls on", on=v or None, normals=(), until=0.0),
            "Ground of the ball: a plane along its path, or the surface of a part",
        )
        form.worked(
            f"2 · π · {show(ball.radius, places=3)} = {show(around, 'mm', 3)} around",
            f"{show(distance)} ÷ {show(around, places=3)} = <b>{show(distance / around, 'turns', 4)}</b>",
            "rolled step by step without slip and without spin about the contact normal",
        )
        self._delete(ball)
