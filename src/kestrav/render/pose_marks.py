"""Key poses in the stage: the way of the pivot, its keys with their times, and the handles of those shaped by hand."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.core.document.records import PoseTrack, Project
from kestrav.core.kinematics.key_poses import places
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.units import show
from kestrav.render.judging_marks import Texts
from kestrav.render.marks import Diamonds, flat
from kestrav.render.palette import CARD, INK, PETROL, PETROL_DARK, STRAW
from kestrav.render.shapes import put_data, segments

Array = NDArray[np.float64]

_SAMPLES = 120
_KEY_PIXELS, _HANDLE_PIXELS = 8.5, 5.5


def key_places(poses: PoseTrack) -> Array:
    """Where the keys are (k, 3)."""
    return np.array([key.placement.position for key in poses.keys]).reshape(-1, 3)


def key_handles(poses: PoseTrack) -> tuple[list[tuple[int, str]], Array]:
    """The key and field of every handle, and where its end is (h, 3); only what is shaped by hand has some."""
    if poses.between != "by hand":
        return [], np.empty((0, 3))
    handles = [
        (i, field, np.add(key.placement.position, getattr(key, field)))
        for i, key in enumerate(poses.keys)
        for field in ("handle_in", "handle_out")
        if getattr(key, field) is not None
    ]
    return [(i, field) for i, field, _ in handles], np.array([place for *_, place in handles]).reshape(-1, 3)


class PoseMarks:
    """The ways of all key poses, those of the chosen ones with keys, times and handles."""

    def __init__(self, renderer: Any, over: Any) -> None:
        self.paths = flat(segments(np.empty((0, 2, 3))), PETROL, 2.0, 0.8)
        self.arms = flat(segments(np.empty((0, 2, 3))), PETROL_DARK, 1.0)
        renderer.AddActor(self.paths)
        over.AddActor(self.arms)
        self.keys, self.now = Diamonds(over, PETROL, CARD), Diamonds(over, STRAW, INK)
        self.handles = Diamonds(over, CARD, PETROL_DARK)
        self.texts = Texts(over)
        self._of: object = None

    def show(
        self, project: Project, chosen: PoseTrack | None, key: int | None, pixel: float, seen: vtkRenderer
    ) -> None:
        """Draw those of a project."""
        if self._of is not project.pose_tracks:
            self._of = project.pose_tracks
            self._show_paths(project)
        spots = key_places(chosen) if chosen is not None else np.empty((0, 3))
        fields, ends = key_handles(chosen) if chosen is not None else ([], np.empty((0, 3)))
        taken = [key] if key is not None and key < len(spots) else []
        self.keys.place(np.delete(spots, taken, axis=0))
        self.now.place(spots[taken])
        self.handles.place(ends)
        for marks, size in ((self.keys, _KEY_PIXELS), (self.now, _KEY_PIXELS), (self.handles, _HANDLE_PIXELS)):
            marks.scale(size * pixel)
        self.arms.SetVisibility(len(ends) > 0)
        if len(ends):
            put_data(self.arms, segments(np.array([[spots[i], e] for (i, _), e in zip(fields, ends, strict=True)])))
        key_marks = []
        if chosen is not None:
            start = segment_of(project, chosen).start
            if np.isfinite(start):
                lift = np.array([0.0, 0.0, 16 * pixel])
                key_marks = [
                    (show(start + k.time, "s", 2), np.add(k.placement.position, lift), PETROL_DARK) for k in chosen.keys
                ]
        self.texts.hold(key_marks)
        self.texts.part(seen)

    def _show_paths(self, project: Project) -> None:
        lines = []
        for poses in project.pose_tracks:
            line = places(poses, np.linspace(0.0, poses.keys[-1].time, _SAMPLES))
            if np.ptp(line, axis=0).max() > 1e-3:
                lines.append(np.stack([line[:-1], line[1:]], axis=1))
        self.paths.SetVisibility(bool(lines))
        if lines:
            put_data(self.paths, segments(np.concatenate(lines)))
