"""Key poses and rides."""

from __future__ import annotations

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows, angles_of, rotation_of
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Carry, KeyPose, Placement, Poses
from kestrav.core.motion.key_poses import places
from kestrav.core.motion.legs import leg_of
from kestrav.core.motion.making import add_pose, poses_to_run
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
        end = f"to {leg.end:.3f}\u2009s" if np.isfinite(leg.end) else "for good"
        form.worked(
            f"{get(project, carry.rider).name} rides with {get(project, carry.carrier).name}",
            f"from {leg.start:.3f}\u2009s {end}" if np.isfinite(leg.start) else "never begins",
        )
        self._delete(carry.id, "ride")
