"""Key poses and rides."""

from __future__ import annotations

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows, angles_of, rotation_of
from kestrav.core.clearance.putting import as_it_is, put_at, target_placement
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Carry, KeyPose, Placement, Poses, Project
from kestrav.core.motion.key_poses import places
from kestrav.core.motion.kinematics import Motion
from kestrav.core.motion.legs import leg_of
from kestrav.core.motion.making import add_pose, poses_to_run
from kestrav.core.motion.placing import placement
from kestrav.core.motion.resting import rest_and_pivot
from kestrav.core.units import show


class PosesRows(Rows):
    """A thing's poses at times."""

    def build(self, poses: Poses) -> None:
        project, form = self.session.shown, self.form
        leg = leg_of(project, poses)
        self.card.title.setText(f"{poses.name} · {show(poses.keys[-1].time, 's', 2)}")
        self._name(poses)
        if poses.cue is None:
            self._number(poses, "Starts", "start", "s", "When the first pose is left", 3, 0.1)
        self._cue(poses)
        form.choice(
            "In between",
            [("straight", "straight"), ("smooth", "smooth"), ("by hand", "by hand")],
            poses.between,
            lambda v: self._set(poses.id, "In between", between=v),
            "Straight at even speed, smooth without overshooting, or with handles of your own",
        )
        self._blend(poses)
        for i, key in enumerate(poses.keys):
            self._key(poses, i, key)
        form.buttons(
            ("Pose here", lambda: self._add(poses), "A pose at the playhead, where the thing is then (P)"),
            ("Delete last pose", lambda: self._drop(poses), "Take the last pose away"),
            ("Into path and run", lambda: self._to_run(poses), "The same way as a path, and a run on it"),
        )
        way = places(poses, np.linspace(0.0, poses.keys[-1].time, 400))
        length = float(np.linalg.norm(np.diff(way, axis=0), axis=1).sum())
        frames = poses.keys[-1].time * project.settings.fps
        begun = f"from {leg.start:.3f} to {leg.end:.3f}\u2009s" if np.isfinite(leg.start) else "never begins"
        form.worked(
            f"{len(poses.keys)} poses of {get(project, poses.rider).name}",
            f"{show(length)}\u2009mm of way of its pivot",
            f"{poses.keys[-1].time:.3f}\u2009s × {project.settings.fps:g} fps = {frames:.1f} frames",
            begun,
        )
        self._delete(poses.id, "poses")

    def _key(self, poses: Poses, index: int, key: KeyPose) -> None:
        form = self.form

        def put(**fields: object) -> None:
            keys = list(poses.keys)
            keys[index] = msgspec.structs.replace(keys[index], **fields)
            self._set(poses.id, "Key pose", keys=tuple(keys))

        form.heading(f"Pose {index + 1}")
        if index:
            form.number(f"{index + 1}: after", key.time, "s", lambda v: put(time=v), "Since the first pose", 3, 0.1)
        form.vector(
            f"{index + 1}: at",
            key.placement.position,
            "mm",
            lambda v: put(placement=Placement(v, key.placement.rotation)),
            "Where its pivot is in the room",
        )
        form.vector(
            f"{index + 1}: turned",
            angles_of(key.placement.rotation),
            "°",
            lambda v: put(placement=Placement(key.placement.position, rotation_of(v))),
            "Yaw to the left, pitch with the front up, and roll to the right",
        )
        if poses.between == "by hand":
            for side, field in (("in", "handle_in"), ("out", "handle_out")):
                form.vector(
                    f"{index + 1}: {side}",
                    getattr(key, field) or (0.0, 0.0, 0.0),
                    "mm",
                    lambda v, f=field: put(**{f: v}),
                    "Its handle, from the pose",
                )

    def _add(self, poses: Poses) -> None:
        self.session.edit("Key pose", lambda p: add_pose(p, poses.rider, self.session.time))

    def _drop(self, poses: Poses) -> None:
        if len(poses.keys) > 1:
            self._set(poses.id, "Delete pose", keys=poses.keys[:-1])

    def _to_run(self, poses: Poses) -> None:
        if self.session.edit("Into path and run", lambda p: poses_to_run(p, poses.id)):
            self.session.select(self.session.project.runs[-1].id)


class CarryRows(Rows):
    """A ride."""

    def build(self, carry: Carry) -> None:
        project, form = self.session.shown, self.form
        leg = leg_of(project, carry)
        self.card.title.setText(carry.name)
        self._name(carry)
        riders = [
            (p.id, p.name) for p in project.parts if p.parent is None or p.geometry is None or p.id == carry.rider
        ]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        riders += [(light.id, f"light {light.name}") for light in project.lights]
        form.choice("Rider", riders, carry.rider, lambda v: self._set(carry.id, "Rider", rider=v), "What rides")
        carriers = [(p.id, p.name) for p in project.parts if p.id != carry.rider]
        form.choice(
            "With", carriers, carry.carrier, lambda v: self._set(carry.id, "Carrier", carrier=v), "What carries it"
        )
        if carry.cue is None:
            self._number(carry, "From", "start", "s", "When the ride begins", 3, 0.1)
        self._cue(carry)
        form.number(
            "To",
            carry.end or 0.0,
            "s",
            lambda v: self._set(carry.id, "End", end=v or None),
            "When it ends; it stays where it is then",
            3,
            0.1,
            zero="for good",
        )
        self._put(carry)
        end = f"to {leg.end:.3f}\u2009s" if np.isfinite(leg.end) else "for good"
        form.worked(
            f"{get(project, carry.rider).name} rides with {get(project, carry.carrier).name}",
            f"from {leg.start:.3f}\u2009s {end}" if np.isfinite(leg.start) else "never begins",
        )
        self._delete(carry.id, "ride")

    def _put(self, carry: Carry) -> None:
        """Where it is put down."""
        project, form = self.session.shown, self.form
        form.heading("Put down")
        target = target_placement(project, carry)
        form.buttons(
            (
                "Put down here",
                lambda: self.card.put_down_asked.emit(carry.id),
                "At the playhead it is let down onto what lies below it then; if that moves, it rides on with it",
            )
        )
        if target is None:
            form.note("It stays as it is when the ride ends." if carry.end else "It rides for good.")
            if carry.end is not None:
                here = self.session.project
                form.buttons(
                    (
                        "Put down at a place",
                        lambda: self.session.edit("Put down", lambda p: put_at(p, carry.id, _where(here, carry))),
                        "Tell by numbers where its pivot comes to rest",
                    )
                )
            return

        def change(**fields: object) -> None:
            self.session.edit("Put down", lambda p: put_at(p, carry.id, msgspec.structs.replace(target, **fields)))

        form.vector(
            "At", target.position, "mm", lambda v: change(position=v), "Where its pivot comes to rest, in the room"
        )
        form.vector(
            "Turned",
            angles_of(target.rotation),
            "°",
            lambda v: change(rotation=rotation_of(v)),
            "Yaw to the left, pitch with the front up, roll to the right, in the room",
            2,
        )
        form.number(
            "Lowering",
            carry.lowering,
            "s",
            lambda v: self._set(carry.id, "Lowering", lowering=v),
            "Over how long before the end of the ride it is brought there",
            3,
            0.1,
        )
        if carry.onto is not None:
            form.note(f"On {get(project, carry.onto).name}, wherever that is then.")
        form.buttons(
            (
                "Leave as it is",
                lambda: self.session.edit("Put down", lambda p: as_it_is(p, carry.id)),
                "It stays where it is when the ride ends",
            )
        )


def _where(project: Project, carry: Carry) -> Placement:
    """Where a rider's pivot is when its ride ends."""
    moment = carry.end if carry.end is not None else 0.0
    return placement(Motion(project).poses(carry.rider, [moment])[0] @ rest_and_pivot(project, carry.rider)[1])
