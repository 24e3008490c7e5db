"""How a run's rider is turned: heading, keys, ground, lean and roughness."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np
from scipy.spatial.transform import Rotation

from kestrav.app.cards.rows import Rows, angles_of, rotation_of
from kestrav.core.document.records import (
    AlongHeading,
    CarriedHeading,
    FixedHeading,
    Ground,
    Heading,
    KeyedHeading,
    LeanKey,
    PartAim,
    PointAim,
    Roughness,
    Run,
    TowardHeading,
    TurnKey,
)
from kestrav.core.motion.making import quarter_turn
from kestrav.core.motion.resting import own_bounds
from kestrav.core.motion.runs import journey
from kestrav.core.motion.seating import keyed_turns


class HeadingRows(Rows):
    """Heading and what belongs to it."""

    def build(self, run: Run) -> None:
        """The kind of heading and its numbers, lean and ground."""
        form, heading = self.form, run.heading
        kinds = {
            "fixed": FixedHeading,
            "along": AlongHeading,
            "carried": CarriedHeading,
            "toward": TowardHeading,
            "keyed": KeyedHeading,
        }
        form.choice(
            "Heading",
            [
                ("fixed", "fixed"),
                ("along", "along travel"),
                ("carried", "on two points"),
                ("toward", "toward a thing"),
                ("keyed", "by keys"),
            ],
            next(key for key, kind in kinds.items() if isinstance(heading, kind)),
            lambda v: self._set(run.id, "Heading", heading=self._turned(run, kinds[v])),
            "How it is turned along the path; on two points it takes bends as a vehicle does",
        )
        if isinstance(heading, CarriedHeading):
            form.number(
                "Wheelbase",
                heading.wheelbase,
                "mm",
                lambda v: self._set(run.id, "Wheelbase", heading=msgspec.structs.replace(heading, wheelbase=v)),
                "Distance of its front and rear points, both on the path",
                1,
                10,
            )
            form.number(
                "Sits at",
                100 * heading.share,
                "%",
                lambda v: self._set(run.id, "Sits at", heading=msgspec.structs.replace(heading, share=v / 100)),
                "Where between the rear (0 %) and the front point (100 %) lies what is on the path",
                1,
                5,
            )
        if isinstance(heading, TowardHeading):
            self._aim(run, heading)
        if not isinstance(heading, FixedHeading):
            axes = [(a, f"its {a}") for a in ("+x", "-x", "+y", "-y", "+z", "-z")]
            form.choice(
                "Forward",
                axes,
                heading.forward,
                lambda v: self._set(run.id, "Forward", heading=msgspec.structs.replace(heading, forward=v)),
                "Which of its axes looks ahead",
            )
            form.choice(
                "Up",
                axes,
                heading.up,
                lambda v: self._set(run.id, "Up", heading=msgspec.structs.replace(heading, up=v)),
                "Which of its axes looks up",
            )
            form.buttons(
                ("Turn about", lambda: self._flip(run, heading), "Turn it half round, to face the other way"),
                ("Quarter turn", lambda: self._quarter(run, heading), "Turn it a quarter to the left"),
            )
        if isinstance(heading, AlongHeading):
            form.choice(
                "Stance",
                [("slope", "with the slope"), ("level", "upright"), ("free", "least rotation")],
                heading.stance,
                lambda v: self._set(run.id, "Stance", heading=msgspec.structs.replace(heading, stance=v)),
                "With the slope its left stays level; upright it does not tip; least rotation carries it over loops",
            )
        form.vector(
            "Own turn",
            run.turn,
            "°",
            lambda v: self._set(run.id, "Own turn", turn=v),
            "The thing's own yaw, pitch and roll under the run, which stays as it is",
        )
        if isinstance(heading, KeyedHeading):
            self._turns(run, heading)
        self._ground(run)
        if not isinstance(heading, FixedHeading):
            self._lean(run)
        self._roughness(run)

    def _flip(self, run: Run, heading: Heading) -> None:
        self._set(run.id, "Turn about", heading=msgspec.structs.replace(heading, flip=not heading.flip))  # type: ignore[union-attr]

    def _quarter(self, run: Run, heading: Heading) -> None:
        self._set(run.id, "Quarter turn", heading=quarter_turn(heading))

    def _turns(self, run: Run, heading: KeyedHeading) -> None:
        """Its keys, as angles."""
        form = self.form

        def change(label: str, **fields: Any) -> None:
            self._set(run.id, label, heading=msgspec.structs.replace(heading, **fields))

        form.heading("Keys of the heading")
        form.choice(
            "Against",
            [("path", "the path"), ("room", "the room")],
            "room" if heading.room else "path",
            lambda v: change("Keys against", room=v == "room"),
            "Whether the angles count from the path's own direction or from the room",
        )
        form.check(
            "Smooth",
            "gathers and loses its turning softly",
            heading.smooth,
            lambda v: change("Smooth heading", smooth=v),
            "Otherwise it turns at an even rate from key to key",
        )
        for i, key in enumerate(heading.keys):

            def set_key(k: int = i, **fields: Any) -> None:
                keys = list(heading.keys)
                keys[k] = msgspec.structs.replace(keys[k], **fields)
                change("Key of heading", keys=tuple(keys))

            form.number(
                f"Key {i + 1} at",
                100 * key.place,
                "%",
                lambda v, f=set_key: f(place=v / 100),
                "Share of the path",
                2,
                5,
            )
            form.vector(
                f"Key {i + 1}",
                angles_of(key.rotation),
                "°",
                lambda v, f=set_key: f(rotation=rotation_of(v)),
                "Yaw to the left, pitch with the front up, and roll to the right",
            )
        form.buttons(
            ("Add key here", lambda: self._add_turn(run, heading), "A key at the playhead, turned as it is there"),
            (
                "Delete last key",
                lambda: len(heading.keys) > 1 and change("Key of heading", keys=heading.keys[:-1]),
                "Take the last key away",
            ),
        )

    def _add_turn(self, run: Run, heading: KeyedHeading) -> None:
        trip = journey(self.session.project, run)
        place = float(trip.stations([self.session.time])[0]) / trip.path.length
        turned = keyed_turns(heading.keys, np.array([place]), heading.smooth)[0]
        quaternion = np.roll(Rotation.from_matrix(turned).as_quat(), 1)
        key = TurnKey(place, tuple(float(q) for q in quaternion))  # type: ignore[arg-type]
        kept = [k for k in heading.keys if abs(k.place - place) > 1e-6]
        keys = tuple(sorted([*kept, key], key=lambda k: k.place))
        self._set(run.id, "Key of heading", heading=msgspec.structs.replace(heading, keys=keys))

    def _ground(self, run: Run) -> None:
        """Riding on what lies beneath."""
        form, ground = self.form, run.ground
        form.heading("Ground")
        form.check(
            "Rides on",
            "what lies beneath the path",
            ground is not None,
            lambda v: self._set(run.id, "Ground", ground=Ground() if v else None),
            "The path gives the way in plan; its height is that of the parts that nothing moves, or of the floor",
        )
        if ground is None:
            return
        form.number(
            "Reach",
            ground.reach,
            "mm",
            lambda v: self._set(run.id, "Reach", ground=Ground(v, ground.tilted)),
            "How far above and below the path the ground is looked for",
            0,
            50,
        )
        form.check(
            "Tilted",
            "with the slope beneath it",
            ground.tilted,
            lambda v: self._set(run.id, "Tilted", ground=Ground(ground.reach, v)),
            "Otherwise it stays upright",
        )
        missing = sum(not f for f in ground.found)
        if missing:
            form.note(f"Nothing lies within reach under {100 * missing / len(ground.found):.0f} % of the path")

    def _roughness(self, run: Run) -> None:
        """Small repeatable irregularity."""
        form = self.form

        def change(roughness: tuple[Roughness, ...]) -> None:
            self._set(run.id, "Roughness", roughness=roughness)

        form.heading("Roughness")
        for i, rough in enumerate(run.roughness):

            def set_one(k: int = i, **fields: Any) -> None:
                every = list(run.roughness)
                every[k] = msgspec.structs.replace(every[k], **fields)
                change(tuple(every))

            turns = rough.axis in ("roll", "pitch", "yaw")
            axes = [(a, a) for a in ("along", "side", "up", "roll", "pitch", "yaw")]
            form.choice(f"{i + 1}: axis", axes, rough.axis, lambda v, f=set_one: f(axis=v), "Along or about which axis")
            form.number(
                f"{i + 1}: at most",
                rough.amplitude,
                "°" if turns else "mm",
                lambda v, f=set_one: f(amplitude=v),
                "Its greatest deviation",
                2,
                0.1,
            )
            form.choice(
                f"{i + 1}: by",
                [("way", "way"), ("time", "time")],
                "way" if rough.frequency is None else "time",
                lambda v, f=set_one: f(frequency=None if v == "way" else 4.0),
                "Whether it repeats by the way travelled or by time",
            )
            if rough.frequency is None:
                form.number(
                    f"{i + 1}: about",
                    rough.wavelength,
                    "mm",
                    lambda v, f=set_one: f(wavelength=v),
                    "Its wavelength, an octave wide",
                    0,
                    10,
                )
            else:
                form.number(
                    f"{i + 1}: about",
                    rough.frequency,
                    "1/s",
                    lambda v, f=set_one: f(frequency=v),
                    "Its frequency, an octave wide",
                    1,
                    0.5,
                )
            form.number(
                f"{i + 1}: seed",
                rough.seed,
                "",
                lambda v, f=set_one: f(seed=round(v)),
                "The same seed gives the same roughness",
                0,
            )
        form.buttons(
            ("Add roughness", lambda: change((*run.roughness, Roughness())), "None is there unless you add it"),
            ("Delete last", lambda: run.roughness and change(run.roughness[:-1]), "Take the last one away"),
        )

    def _aim(self, run: Run, heading: TowardHeading) -> None:
        """What it points at."""
        form, project = self.form, self.session.shown

        def change(aim: PartAim | PointAim) -> None:
            self._set(run.id, "Toward", heading=msgspec.structs.replace(heading, aim=aim))

        things = [("", "a point")]
        things += [
            (p.id, p.name)
            for p in project.parts
            if p.id != run.rider and (p.parent is None or p.geometry is None or p.id == _aimed_part(heading))
        ]
        form.choice(
            "Toward",
            things,
            _aimed_part(heading),
            lambda k: change(PartAim(k) if k else PointAim((0.0, 0.0, 0.0))),
            "What its forward axis points at: the middle of a part, or a point",
        )
        if isinstance(heading.aim, PointAim):
            form.vector("Point", heading.aim.point, "mm", lambda v: change(PointAim(v)), "The point in space")

    def _lean(self, run: Run) -> None:
        """How it rolls about its direction of travel."""
        form, lean = self.form, run.lean

        def change(label: str, **fields: Any) -> None:
            self._set(run.id, label, lean=msgspec.structs.replace(lean, **fields))

        form.heading("Lean")
        form.check(
            "Computed",
            "from bend and speed",
            lean.computed,
            lambda v: change("Lean", computed=v),
            "So that weight and the force of the bend press straight down: tan(lean) = v² ÷ (g r)",
        )
        if lean.computed:
            form.number("At most", lean.limit, "°", lambda v: change("Limit of lean", limit=v), "Never more than this")
            form.number(
                "Averaged",
                lean.smoothing,
                "mm",
                lambda v: change("Smoothing of lean", smoothing=v),
                "Over this way, so that it rolls into a bend and does not snap",
                0,
                50,
            )
        for i, key in enumerate(lean.keys):

            def set_key(k: int = i, **fields: float) -> None:
                keys = list(lean.keys)
                keys[k] = msgspec.structs.replace(keys[k], **fields)
                change("Key of lean", keys=tuple(keys))

            form.number(
                f"Key {i + 1} at",
                100 * key.place,
                "%",
                lambda v, f=set_key: f(place=v / 100),
                "Share of the path",
                2,
                5,
            )
            form.number(
                f"Key {i + 1} lean", key.angle, "°", lambda v, f=set_key: f(angle=v), "To the left; minus: right"
            )
        form.buttons(
            (
                "Add a lean key",
                lambda: change("Key of lean", keys=_with_key(lean.keys)),
                "A lean at a place of the path; more keys are joined smoothly",
            ),
            (
                "Delete last key",
                lambda: lean.keys and change("Key of lean", keys=lean.keys[:-1]),
                "Take the last key away",
            ),
        )

    def _turned(self, run: Run, kind: type) -> Heading:
        """A heading of another kind that faces as the old one does; on two points by the rider's own length."""
        old = run.heading
        facing = {} if isinstance(old, FixedHeading) else {"forward": old.forward, "flip": old.flip, "up": old.up}
        if kind is FixedHeading:
            return FixedHeading()
        if kind is AlongHeading:
            return AlongHeading(**facing)
        if kind is KeyedHeading:
            return KeyedHeading(**facing)
        if kind is TowardHeading:
            others = [p for p in self.session.project.parts if p.parent is None and p.id != run.rider]
            aim = PartAim(others[0].id) if others else PointAim((0.0, 0.0, 0.0))
            return TowardHeading(aim=aim, **facing)
        box = own_bounds(self.session.project, run.rider)
        axis = "xyz".index(facing.get("forward", "+x")[1])
        length = float(box[1, axis] - box[0, axis])
        return CarriedHeading(wheelbase=float(f"{0.7 * length:.2g}") if length > 1 else 800.0, **facing)


def _aimed_part(heading: TowardHeading) -> str:
    return heading.aim.part if isinstance(heading.aim, PartAim) else ""


def _with_key(keys: tuple[LeanKey, ...]) -> tuple[LeanKey, ...]:
    """Keys with one more: behind the last one, half way to the end."""
    place = 0.5 if not keys else 0.5 * (keys[-1].place + 1.0)
    return (*keys, LeanKey(place, keys[-1].angle if keys else 0.0))
