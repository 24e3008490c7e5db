"""How a run's rider is turned: orientation, keys, ground, bank and roughness."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np
import scipy

from kestrav.app.cards.rows import Rows, angles_of, replacing, rotation_of
from kestrav.core.document.records import (
    AlongOrientation,
    BankKey,
    CarriedOrientation,
    FixedOrientation,
    Ground,
    KeyedOrientation,
    Orientation,
    OrientationKey,
    PartAim,
    PointAim,
    Roughness,
    Run,
    TowardOrientation,
)
from kestrav.core.editing.run_making import quarter_turn
from kestrav.core.kinematics.runs import course_of
from kestrav.core.kinematics.seating import keyed_turns
from kestrav.core.parts.rest import own_bounds


class OrientationRows(Rows):
    """Heading and what belongs to it."""

    def build(self, run: Run) -> None:
        """The kind of orientation and its numbers, bank and ground."""
        form, orientation = self.form, run.orientation
        kinds = {
            "fixed": FixedOrientation,
            "along": AlongOrientation,
            "carried": CarriedOrientation,
            "toward": TowardOrientation,
            "keyed": KeyedOrientation,
        }
        form.choice(
            "Orientation",
            [
                ("fixed", "fixed"),
                ("along", "along direction of travel"),
                ("carried", "on two points (vehicle)"),
                ("toward", "toward a part or point"),
                ("keyed", "by keys"),
            ],
            next(key for key, kind in kinds.items() if isinstance(orientation, kind)),
            lambda v: self._set(run.id, "Orientation", orientation=self._turned(run, kinds[v])),
            "Orientation along the path; on two points the rider takes bends as a vehicle does",
        )
        change = partial(self._change, run)
        if isinstance(orientation, CarriedOrientation):
            self._fields(orientation, "wheelbase", "share", change=change)
        if isinstance(orientation, TowardOrientation):
            self._aim(run, orientation)
        if not isinstance(orientation, FixedOrientation):
            self._fields(orientation, "forward", "up", change=change)
            form.buttons(
                ("Face the other way", lambda: self._flip(run, orientation), "Turn the rider by 180°"),
                ("Quarter turn", lambda: self._quarter(run, orientation), "Turn the rider by 90° to the left"),
            )
        if isinstance(orientation, AlongOrientation):
            self._fields(orientation, "stance", change=change)
        self._fields(run, "turn")
        if isinstance(orientation, KeyedOrientation):
            self._turns(run, orientation)
        self._ground(run)
        if not isinstance(orientation, FixedOrientation):
            self._lean(run)
        self._roughness(run)

    def _change(self, run: Run, **fields: Any) -> None:
        self._set(run.id, "Orientation", orientation=msgspec.structs.replace(run.orientation, **fields))

    def _flip(self, run: Run, orientation: Orientation) -> None:
        self._set(
            run.id,
            "Face the other way",
            orientation=msgspec.structs.replace(orientation, flip=not orientation.flip),  # type: ignore[union-attr]
        )

    def _quarter(self, run: Run, orientation: Orientation) -> None:
        self._set(run.id, "Quarter turn", orientation=quarter_turn(orientation))

    def _turns(self, run: Run, orientation: KeyedOrientation) -> None:
        """Its keys, as angles."""
        form = self.form

        def change(label: str, **fields: Any) -> None:
            self._set(run.id, label, orientation=msgspec.structs.replace(orientation, **fields))

        form.heading("Orientation keys")
        form.choice(
            "Relative to",
            [("path", "the path"), ("room", "the room")],
            "room" if orientation.room else "path",
            lambda v: change("Keys relative to", room=v == "room"),
            "Reference of the angles: the path's direction or the room",
        )
        self._fields(orientation, "smooth", change=partial(self._change, run))

        def set_keys(keys: tuple[OrientationKey, ...]) -> None:
            change("Orientation key", keys=keys)

        for i, key in enumerate(orientation.keys):
            put = replacing(orientation.keys, i, set_keys)
            self._fields(key, "place", change=put, prefix=f"Key {i + 1}")
            form.vector(
                f"Key {i + 1}",
                angles_of(key.rotation),
                "°",
                partial(lambda f, v: f(rotation=rotation_of(v)), put),
                "Yaw to the left, pitch with the front up, roll to the right",
            )
        form.buttons(
            (
                "Add key here",
                lambda: self._add_turn(run, orientation),
                "Add a key at the playhead with the present orientation",
            ),
            (
                "Delete last key",
                lambda: len(orientation.keys) > 1 and change("Orientation key", keys=orientation.keys[:-1]),
                "Delete the last key",
            ),
        )

    def _add_turn(self, run: Run, orientation: KeyedOrientation) -> None:
        course = course_of(self.session.project, run)
        place = float(course.stations([self.session.time])[0]) / course.path.length
        turned = keyed_turns(orientation.keys, np.array([place]), smooth=orientation.smooth)[0]
        quaternion = np.roll(scipy.spatial.transform.Rotation.from_matrix(turned).as_quat(), 1)
        key = OrientationKey(place, tuple(float(q) for q in quaternion))  # type: ignore[arg-type]
        kept = [k for k in orientation.keys if abs(k.place - place) > 1e-6]
        keys = tuple(sorted([*kept, key], key=lambda k: k.place))
        self._set(run.id, "Orientation key", orientation=msgspec.structs.replace(orientation, keys=keys))

    def _ground(self, run: Run) -> None:
        """Riding on what lies beneath."""
        form, ground = self.form, run.ground
        form.heading("Ground")
        form.check(
            "Ground",
            "parts beneath the path",
            ground is not None,
            lambda v: self._set(run.id, "Ground", ground=Ground() if v else None),
            "The path gives the route in plan; the height comes from the fixed parts beneath, or the floor",
        )
        if ground is None:
            return

        def change(**fields: Any) -> None:
            # what was found beneath is looked for anew
            self._set(run.id, "Ground", ground=msgspec.structs.replace(Ground(ground.reach, ground.tilted), **fields))

        self._fields(ground, "reach", "tilted", change=change)
        missing = sum(not f for f in ground.found)
        if missing:
            form.note(f"No ground within reach under {100 * missing / len(ground.found):.0f} % of the path")

    def _roughness(self, run: Run) -> None:
        """Small repeatable irregularity."""
        form = self.form

        def change(roughness: tuple[Roughness, ...]) -> None:
            self._set(run.id, "Roughness", roughness=roughness)

        form.heading("Roughness")
        for i, rough in enumerate(run.roughness):
            put, which = replacing(run.roughness, i, change), f"{i + 1}:"
            turns = rough.axis in ("roll", "pitch", "yaw")
            self._fields(rough, "axis", change=put, prefix=which)
            self._fields(rough, "amplitude", change=put, prefix=which, unit="°" if turns else "mm")
            form.choice(
                f"{i + 1}: by",
                [("distance", "distance"), ("time", "time")],
                "distance" if rough.frequency is None else "time",
                partial(lambda f, v: f(frequency=None if v == "distance" else 4.0), put),
                "Deviation by distance travelled or by time",
            )
            about = "wavelength" if rough.frequency is None else "frequency"
            self._fields(rough, about, "seed", change=put, prefix=which)
        form.buttons(
            ("Add roughness", lambda: change((*run.roughness, Roughness())), "Add a random deviation from the path"),
            ("Delete last", lambda: run.roughness and change(run.roughness[:-1]), "Delete the last roughness"),
        )

    def _aim(self, run: Run, orientation: TowardOrientation) -> None:
        """What it points at."""
        form, project = self.form, self.session.shown

        def change(aim: PartAim | PointAim) -> None:
            self._set(run.id, "Target", orientation=msgspec.structs.replace(orientation, aim=aim))

        things = [("", "a point")]
        things += [
            (p.id, p.name)
            for p in project.parts
            if p.id != run.rider and (p.parent is None or p.geometry is None or p.id == _aimed_part(orientation))
        ]
        form.choice(
            "Target",
            things,
            _aimed_part(orientation),
            lambda k: change(PartAim(k) if k else PointAim((0.0, 0.0, 0.0))),
            "Target of the forward axis: the middle of a part, or a point",
        )
        if isinstance(orientation.aim, PointAim):
            form.vector("Point", orientation.aim.point, "mm", lambda v: change(PointAim(v)), "Point in the room")

    def _lean(self, run: Run) -> None:
        """How it rolls about its direction of travel."""
        form, bank = self.form, run.bank

        def change(**fields: Any) -> None:
            self._set(run.id, "Bank", bank=msgspec.structs.replace(bank, **fields))

        form.heading("Bank")
        self._fields(bank, "computed", change=change)
        if bank.computed:
            self._fields(bank, "limit", "smoothing", change=change)
        self._each(bank.keys, "Key", "place", "angle", change=lambda keys: change(keys=keys))
        form.buttons(
            (
                "Add bank key",
                lambda: change(keys=_with_key(bank.keys)),
                "Add a bank angle at a station; keys are joined smoothly",
            ),
            (
                "Delete last key",
                lambda: bank.keys and change(keys=bank.keys[:-1]),
                "Delete the last key",
            ),
        )

    def _turned(self, run: Run, kind: type) -> Orientation:
        """A heading of another kind that faces as the old one does; on two points by the rider's own length."""
        old = run.orientation
        facing: dict[str, Any] = (
            {} if isinstance(old, FixedOrientation) else {"forward": old.forward, "flip": old.flip, "up": old.up}
        )
        if kind is FixedOrientation:
            return FixedOrientation()
        if kind is AlongOrientation:
            return AlongOrientation(**facing)
        if kind is KeyedOrientation:
            return KeyedOrientation(**facing)
        if kind is TowardOrientation:
            others = [p for p in self.session.project.parts if p.parent is None and p.id != run.rider]
            aim = PartAim(others[0].id) if others else PointAim((0.0, 0.0, 0.0))
            return TowardOrientation(aim=aim, **facing)
        box = own_bounds(self.session.project, run.rider)
        axis = "xyz".index(facing.get("forward", "+x")[1])
        length = float(box[1, axis] - box[0, axis])
        return CarriedOrientation(wheelbase=float(f"{0.7 * length:.2g}") if length > 1 else 800.0, **facing)


def _aimed_part(orientation: TowardOrientation) -> str:
    return orientation.aim.part if isinstance(orientation.aim, PartAim) else ""


def _with_key(keys: tuple[BankKey, ...]) -> tuple[BankKey, ...]:
    """Keys with one more: behind the last one, half way to the end."""
    place = 0.5 if not keys else 0.5 * (keys[-1].place + 1.0)
    return (*keys, BankKey(place, keys[-1].angle if keys else 0.0))
