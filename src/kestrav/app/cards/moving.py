"""Key poses and attachments."""

from __future__ import annotations

from functools import partial

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows, angles_of, rotation_of
from kestrav.core.clearance.putting import as_it_is, put_at, target_placement
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Attachment, KeyPose, Placement, PoseTrack, Project
from kestrav.core.editing.run_making import add_pose, poses_to_run
from kestrav.core.kinematics.key_poses import places
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.units import show


class PoseTrackRows(Rows):
    """A thing's poses at times."""

    def build(self, poses: PoseTrack) -> None:
        project, form = self.session.shown, self.form
        segment = segment_of(project, poses)
        self.form.title = f"{poses.name} · {show(poses.keys[-1].time, 's', 2)}"
        self._name(poses)
        if poses.trigger is None:
            self._fields(poses, "start")
        self._trigger(poses)
        self._fields(poses, "between")
        self._blend(poses)
        for i, key in enumerate(poses.keys):
            self._key(poses, i, key)
        form.buttons(
            (
                "Add key pose",
                lambda: self._add(poses),
                "Add a key pose at the playhead with the part's present placement (P)",
            ),
            ("Delete last key pose", lambda: self._drop(poses), "Delete the last key pose"),
            (
                "Convert to path and run",
                lambda: self._to_run(poses),
                "Convert the pose track to a path and a run on it",
            ),
        )
        path = places(poses, np.linspace(0.0, poses.keys[-1].time, 400))
        length = float(np.linalg.norm(np.diff(path, axis=0), axis=1).sum())
        frames = poses.keys[-1].time * project.settings.fps
        begun = (
            f"from {segment.start:.3f} to {segment.end:.3f}\u2009s" if np.isfinite(segment.start) else "never starts"
        )
        form.worked(
            f"{len(poses.keys)} poses of {get(project, poses.rider).name}",
            f"{show(length)}\u2009mm travelled by the pivot",
            f"{poses.keys[-1].time:.3f}\u2009s × {project.settings.fps:g} fps = {frames:.1f} frames",
            begun,
        )
        self._delete(poses)

    def _key(self, poses: PoseTrack, index: int, key: KeyPose) -> None:
        form = self.form

        def put(**fields: object) -> None:
            keys = list(poses.keys)
            keys[index] = msgspec.structs.replace(keys[index], **fields)
            self._set(poses.id, "Key pose", keys=tuple(keys))

        form.heading(f"Pose {index + 1}")
        if index:
            form.number(
                f"{index + 1}: after", key.time, "s", lambda v: put(time=v), "Time since the first pose", 3, 0.1
            )
        form.vector(
            f"{index + 1}: at",
            key.placement.position,
            "mm",
            lambda v: put(placement=Placement(v, key.placement.rotation)),
            "Position of the pivot in the room",
        )
        form.vector(
            f"{index + 1}: rotation",
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
                    partial(lambda f, v: put(**{f: v}), field),
                    "Handle, relative to the pose",
                )

    def _add(self, poses: PoseTrack) -> None:
        self.session.edit("Key pose", lambda p: add_pose(p, poses.rider, self.session.time))

    def _drop(self, poses: PoseTrack) -> None:
        if len(poses.keys) > 1:
            self._set(poses.id, "Delete pose", keys=poses.keys[:-1])

    def _to_run(self, poses: PoseTrack) -> None:
        if self.session.edit("Convert to path and run", lambda p: poses_to_run(p, poses.id)):
            self.session.select(self.session.project.runs[-1].id)


class AttachmentRows(Rows):
    """An attachment."""

    def build(self, attachment: Attachment) -> None:
        project, form = self.session.shown, self.form
        segment = segment_of(project, attachment)
        self.form.title = attachment.name
        self._name(attachment)
        riders = [
            (p.id, p.name) for p in project.parts if p.parent is None or p.geometry is None or p.id == attachment.rider
        ]
        riders += [(c.id, f"camera {c.name}") for c in project.cameras]
        riders += [(light.id, f"light {light.name}") for light in project.lights]
        self._fields(attachment, "rider", options=riders)
        carriers = [(p.id, p.name) for p in project.parts if p.id != attachment.rider]
        self._fields(attachment, "carrier", options=carriers)
        if attachment.trigger is None:
            self._fields(attachment, "start")
        self._trigger(attachment)
        form.number(
            "To",
            attachment.end or 0.0,
            "s",
            lambda v: self._set(attachment.id, "End", end=v or None),
            "Time of release; the part stays where it is then",
            3,
            0.1,
            zero="no end",
        )
        self._put(attachment)
        end = f"to {segment.end:.3f}\u2009s" if np.isfinite(segment.end) else "no end"
        form.worked(
            f"{get(project, attachment.rider).name} is attached to {get(project, attachment.carrier).name}",
            f"from {segment.start:.3f}\u2009s {end}" if np.isfinite(segment.start) else "never starts",
        )
        self._delete(attachment)

    def _put(self, attachment: Attachment) -> None:
        """Where it is put down."""
        project, form = self.session.shown, self.form
        form.heading("Set down")
        target = target_placement(project, attachment)
        form.buttons(
            (
                "Set down at playhead",
                lambda: self.card.put_down_asked.emit(attachment.id),
                "Release the part at the playhead and lower it onto the surface below; if that surface moves, the part stays attached to it",
            )
        )
        if target is None:
            form.note(
                "The part stays where it is when the attachment ends."
                if attachment.end
                else "The attachment has no end."
            )
            if attachment.end is not None:
                here = self.session.project
                form.buttons(
                    (
                        "Set down at position",
                        lambda: self.session.edit(
                            "Set down", lambda p: put_at(p, attachment.id, _where(here, attachment))
                        ),
                        "Type the position at which the pivot comes to rest",
                    )
                )
            return

        def change(**fields: object) -> None:
            self.session.edit("Set down", lambda p: put_at(p, attachment.id, msgspec.structs.replace(target, **fields)))

        form.vector(
            "At", target.position, "mm", lambda v: change(position=v), "Final position of the pivot in the room"
        )
        form.vector(
            "Rotation",
            angles_of(target.rotation),
            "°",
            lambda v: change(rotation=rotation_of(v)),
            "Yaw to the left, pitch with the front up, roll to the right, in the room",
            2,
        )
        self._fields(attachment, "lowering")
        if attachment.onto is not None:
            form.note(f"On {get(project, attachment.onto).name}, wherever that part is then.")
        form.buttons(
            (
                "Do not set down",
                lambda: self.session.edit("Set down", lambda p: as_it_is(p, attachment.id)),
                "Leave the part where it is when the attachment ends",
            )
        )


def _where(project: Project, attachment: Attachment) -> Placement:
    """Where a rider's pivot is when its attachment ends."""
    moment = attachment.end if attachment.end is not None else 0.0
    return placement(
        Motion(project).poses(attachment.rider, [moment])[0] @ rest_and_pivot(project, attachment.rider)[1]
    )
