"""Drives with teeth, rods and balls."""

from __future__ import annotations

import numpy as np

from kestrav.app.cards.turning import TurningRows
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Ball, Coupled, Drive, End, Pin, Project, Rod
from kestrav.core.document.trains import driven
from kestrav.core.motion.drives import CHAIN_PITCHES, MODULES, pitch_radius, ratio, right_distance, told_ratio, toothed
from kestrav.core.motion.kinematics import rod_length
from kestrav.core.motion.lane_values import mesh_errors, ways_rolled
from kestrav.core.motion.mechanisms import (
    centre_distance,
    copy_rod,
    couple,
    into_mesh,
    length_of_chain,
    lengthened,
    rod_lengths,
    set_drive,
    set_end,
    shortfalls,
    stroke,
)
from kestrav.core.motion.runs import span
from kestrav.core.units import show

_KINDS = [
    ("outside", "two gears"),
    ("inside", "a gear in a ring"),
    ("rack", "a gear on a rack"),
    ("chain", "sprockets with a chain"),
    ("belt", "pulleys with a belt"),
]


class DriveRows(TurningRows):
    """Both ends, their teeth, and the sums of ratio, distance and mesh."""

    def build(self, drive: Drive) -> None:
        project, form = self.session.shown, self.form
        self.card.title.setText(f"{drive.name} · {told_ratio(drive)}")
        self._name(drive)
        form.choice(
            "Kind", _KINDS, drive.kind, lambda v: self._drive(drive, "Kind", kind=v), "What passes the turning on"
        )
        if toothed(drive):
            self._pitch(drive)
        for side, end in (("a", drive.a), ("b", drive.b)):
            self._end(drive, side, end)
        if drive.kind == "belt":
            form.check(
                "",
                "Crossed",
                drive.crossed,
                lambda on: self._drive(drive, "Crossed", crossed=on),
                "A crossed belt turns its pulleys the opposite ways",
            )
        form.number(
            "Starts at",
            drive.phase,
            "mm" if drive.kind == "rack" else "°",
            lambda v: self._set(drive.id, "Phase", phase=v),
            "How far the second end stands turned, so that the teeth mesh",
            3,
        )
        form.worked(*self._sums(project, drive))
        if toothed(drive):
            known = drive.a.toothed and drive.b.toothed
            form.note(
                "Teeth were found on both solids."
                if known
                else "Teeth were not found on both solids, so they cannot be brought into mesh."
            )
            form.buttons(
                (
                    "Bring into mesh",
                    lambda: self.session.edit("Into mesh", lambda p: into_mesh(p, self.session.meshes, drive.id)),
                    "Find the teeth on both solids, and turn the second end until they mesh",
                )
            )
        self._delete(drive.id, "drive")

    def _drive(self, drive: Drive, label: str, **fields: object) -> None:
        self.session.edit(label, lambda p: set_drive(p, self.session.meshes, drive.id, **fields))

    def _pitch(self, drive: Drive) -> None:
        chain = drive.kind in ("chain", "belt")
        self.form.number(
            "Pitch" if chain else "Module",
            drive.pitch,
            "mm",
            lambda v: self._drive(drive, "Pitch" if chain else "Module", pitch=v),
            "From tooth to tooth along the chain or belt"
            if chain
            else "Pitch diameter by the number of teeth (ISO 54)",
            4,
        )
        standard = CHAIN_PITCHES if drive.kind == "chain" else () if drive.kind == "belt" else sorted(MODULES)
        if standard:
            here = f"{drive.pitch:g}" if drive.pitch in standard else ""
            self.form.choice(
                "Standard",
                [("", "none of them"), *((f"{size:g}", f"{size:g}\u2009mm") for size in standard)],
                here,
                lambda v: self._drive(drive, "Standard size", pitch=float(v)) if v else None,
                "Sizes of ISO 606" if drive.kind == "chain" else "Modules of ISO 54",
            )

    def _end(self, drive: Drive, side: str, end: End) -> None:
        project, form = self.session.shown, self.form
        rack = drive.kind == "rack" and side == "b"
        form.heading(get(project, end.part).name)

        def change(label: str, **fields: object) -> None:
            self.session.edit(label, lambda p: set_end(p, self.session.meshes, drive.id, side, **fields))

        if not rack:
            form.number(
                f"Teeth {'one' if side == 'a' else 'two'}",
                end.teeth,
                "",
                lambda v: change("Teeth", teeth=round(v)),
                "How many teeth it has",
                0,
                zero="smooth" if drive.kind == "belt" else "",
            )
        if drive.kind == "belt" and not toothed(drive):
            form.number(
                f"Radius {'one' if side == 'a' else 'two'}",
                end.radius,
                "mm",
                lambda v: change("Radius", radius=v),
                "Of the pulley, where its belt runs",
                3,
            )
        self._line(
            "Line" if rack else "Axle",
            end.axle,
            lambda axle: change("Line" if rack else "Axle", axle=axle),
            " one" if side == "a" else " two",
        )
        self._pick(f"{drive.id}/{side}")

    def _sums(self, project: Project, drive: Drive) -> list[str]:
        lines = []
        for end in (drive.a, drive.b):
            if drive.kind in ("outside", "inside") or (drive.kind == "rack" and end is drive.a):
                size = show(2 * pitch_radius(drive, end), "mm pitch diameter", 3)
                lines.append(f"{drive.pitch:g} × {end.teeth} = {size}")
            elif drive.kind == "chain":
                size = show(2 * pitch_radius(drive, end), "mm pitch diameter", 3)
                lines.append(f"{drive.pitch:g} ÷ sin(180° ÷ {end.teeth}) = {size}")
        if drive.kind != "rack":
            told = (drive.b.teeth, drive.a.teeth) if toothed(drive) else (drive.b.radius, drive.a.radius)
            lines.append(f"{told[0]:g} ÷ {told[1]:g} = <b>{show(1 / ratio(drive), '', 4).strip()} to 1</b>")
        apart, wanted = centre_distance(project, drive), right_distance(drive)
        needed = "" if wanted is None else f", the teeth need {show(wanted, 'mm', 3)}"
        lines.append(f"{show(apart, 'mm', 3)} from axle to {'pitch line' if drive.kind == 'rack' else 'axle'}{needed}")
        if drive.kind in ("chain", "belt"):
            length = length_of_chain(project, drive)
            links = f" = {show(length / drive.pitch, 'links', 2)}" if drive.kind == "chain" else ""
            lines.append(f"{drive.kind} {show(length, 'mm', 1)} around{links}")
        side = driven(project)[drive.id]
        if side is None:
            lines.append("both ends are turned by something else")
        else:
            a, b = (get(project, end.part).name for end in (drive.a, drive.b))
            lines.append(f"{a} turns {b}" if side == "b" else f"{b} turns {a}")
        if toothed(drive) and drive.a.toothed and drive.b.toothed:
            error = np.abs(mesh_errors(project, drive, np.linspace(0.0, span(project), 101))).max()
            lines.append(f"out of mesh by {show(float(error), 'of a tooth', 3)} at most")
        return lines


class RodRows(TurningRows):
    """Pins, what it does, and its copies."""

    def build(self, rod: Rod) -> None:
        project, form = self.session.shown, self.form
        level = rod.keeps == "level"
        self.card.title.setText(rod.name if level else f"{rod.name} · {show(rod_length(rod), 'mm', 2)}")
        self._name(rod)
        second = rod.to is not None
        form.choice(
            "It",
            [
                ("level", "stays level"),
                ("points", "points at a pin"),
                ("slider", "moves a slider"),
                ("rocker", "moves a rocker"),
            ],
            rod.keeps,
            lambda v: self._set(rod.id, "What the rod does", keeps=v),
            "What becomes of its other end",
        )
        parts = [(p.id, p.name) for p in project.parts if p.id != rod.part]
        form.choice(
            "Crank",
            parts,
            rod.crank.part,
            lambda v: self._set(rod.id, "Crank", crank=Pin(v, rod.crank.at)),
            "The turning part whose pin it hangs on",
        )
        form.vector(
            "Pin on it",
            rod.crank.at,
            "mm",
            lambda v: self._set(rod.id, "Pin", crank=Pin(rod.crank.part, v)),
            "Where on the crank, in its own coordinates",
        )
        if rod.keeps != "level" or second:
            form.choice(
                "Other end",
                [("", "choose …"), *parts] if not second else parts,
                rod.to.part if rod.to is not None else "",
                lambda v: (
                    self._set(rod.id, "Other end", to=Pin(v, rod.to.at if rod.to else (0.0, 0.0, 0.0))) if v else None
                ),
                "The part with the second pin",
            )
        if rod.to is not None and rod.keeps != "level":
            to = rod.to
            form.vector(
                "Pin there",
                to.at,
                "mm",
                lambda v: self._set(rod.id, "Pin", to=Pin(to.part, v)),
                "Where on that part, in its own coordinates",
            )
        form.vector(
            "Near end", rod.near, "mm", lambda v: self._set(rod.id, "Near end", near=v), "Its own pin on the crank"
        )
        if not level:
            form.vector("Far end", rod.far, "mm", lambda v: self._set(rod.id, "Far end", far=v), "Its own other pin")
            form.number(
                "Length",
                rod_length(rod),
                "mm",
                lambda v: self.session.edit("Rod length", lambda p: lengthened(p, rod.id, v)),
                "From pin to pin; its far end moves",
                3,
            )
        if rod.keeps == "slider":
            form.vector(
                "Slides along", rod.line, "", lambda v: self._set(rod.id, "Line", line=v), "In the slider's own axes", 3
            )
        elif rod.keeps == "rocker":
            self._line("Axle", rod.axle, lambda axle: self._set(rod.id, "Axle", axle=axle))
            self._pick(rod.id)
        if rod.keeps in ("slider", "rocker"):
            form.check(
                "",
                "The other way round",
                rod.other,
                lambda on: self._set(rod.id, "Other way round", other=on),
                "Put the mechanism together the other of the two ways in which it can be",
            )
        form.worked(*self._sums(project, rod))
        if rod.keeps == "level":
            self._coupled(project, rod)
        self._copies(rod)
        self._delete(rod.id, "rod")

    def _sums(self, project: Project, rod: Rod) -> list[str]:
        times = np.linspace(0.0, max(span(project), 1e-3), 721)
        if rod.keeps == "level":
            return [
                f"its pin goes {show(stroke(project, rod, times), 'mm', 1)} across, and every point of it likewise",
                f"turns {len(rod.coupled)} parts as {get(project, rod.crank.part).name} turns",
            ]
        lines = [f"{show(rod_length(rod), 'mm', 3)} from pin to pin"]
        if rod.keeps == "points" and rod.to is not None:
            told = rod_lengths(project, rod, times)
            lines.append(
                f"its pins are {show(float(told.min()), places=2)} to {show(float(told.max()), 'mm', 2)} apart"
            )
        elif rod.keeps in ("slider", "rocker") and rod.to is not None:
            moved = stroke(project, rod, times)
            if rod.keeps == "slider":
                lines.append(f"stroke <b>{show(moved, 'mm', 3)}</b>")
            else:
                lines.append(f"rocks <b>{show(float(np.degrees(moved)), '°', 2)}</b>")
            short = float(shortfalls(project, rod, times).max())
            lines.append("reaches at all times" if short <= 1e-3 else f"{show(short, 'mm', 2)} short")
        return lines

    def _coupled(self, project: Project, rod: Rod) -> None:
        form = self.form
        form.heading("Turns along")
        for coupled in rod.coupled:
            form.buttons(
                (
                    f"Without {get(project, coupled.part).name}",
                    lambda c=coupled: self._let_go(rod, c),
                    "The rod does not turn it along any more",
                )
            )
        known = {rod.part, rod.crank.part, *(c.part for c in rod.coupled)}
        options = [(p.id, p.name) for p in project.parts if p.id not in known]
        form.choice(
            "Also turns",
            [("", "choose …"), *options],
            "",
            lambda v: self.session.edit("Couple", lambda p: couple(p, self.session.meshes, rod.id, [v])) if v else None,
            "Another part that turns as the crank does, as a wheel coupled to it",
        )
        chosen = [i for i in self.session.chosen if i not in known]
        if chosen:
            form.buttons(
                (
                    "Turn the selection along",
                    lambda: self.session.edit("Couple", lambda p: couple(p, self.session.meshes, rod.id, chosen)),
                    "All that is selected in the stage turns as the crank does",
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
                form.note("Is as " + ", ".join(others) + " is")
        form.number("In all", ask.count, "", lambda v: ask.set(count=round(v)), "How many, this one among them", 0)
        form.vector("Apart", ask.offset, "mm", lambda v: ask.set(offset=v), "From one to the next, in the room")
        form.number(
            "Phase", ask.phase, "°", lambda v: ask.set(phase=v), "How far each pin is turned on from the last", 2
        )
        offers = [
            (
                "Make copies",
                lambda: self.session.edit(
                    "Copies of a rod",
                    lambda p: copy_rod(p, self.session.meshes, rod.id, ask.count, ask.offset, ask.phase),
                ),
                "Linked copies of the rod and what it moves, their pins on the same crank",
            )
        ]
        if rod.link:
            offers.append(("On its own", lambda: self._set(rod.id, "On its own", link=""), "Not linked any more"))
        form.buttons(*offers)


class BallRows(TurningRows):
    """Radius, what it rolls on, and its sum."""

    def build(self, ball: Ball) -> None:
        project, form = self.session.shown, self.form
        way = float(ways_rolled(project, ball, [span(project)])[0])
        around = 2 * np.pi * ball.radius
        self.card.title.setText(f"{ball.name} · {show(way / around, 'turns', 2)}")
        self._name(ball)
        form.number(
            "Radius", ball.radius, "mm", lambda v: self._set(ball.id, "Radius", radius=v), "By which it rolls", 3
        )
        form.vector(
            "Centre", ball.centre, "mm", lambda v: self._set(ball.id, "Centre", centre=v), "In its own coordinates"
        )
        parts = [(p.id, p.name) for p in project.parts if p.id != ball.part]
        form.choice(
            "Rolls on",
            [("", "a plane along its way"), *parts],
            ball.on or "",
            lambda v: self._set(ball.id, "Rolls on", on=v or None, normals=(), until=0.0),
            "A plane, level or sloping with its way, or the surface of a part",
        )
        form.worked(
            f"2 · π · {show(ball.radius, places=3)} = {show(around, 'mm', 3)} around",
            f"{show(way)} ÷ {show(around, places=3)} = <b>{show(way / around, 'turns', 4)}</b>",
            "turned step by step about the line across its way, without slip and without spinning",
        )
        self._delete(ball.id, "ball")
