"""What is measured of a camera as curves over time, each with its limit: for charts and tables."""

from __future__ import annotations

from collections.abc import Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.judged import Judged, of_camera
from kestrav.core.camera.lens import angles
from kestrav.core.camera.subject import keeps_in_view
from kestrav.core.document.lookup import get_as
from kestrav.core.document.records import Camera, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.runs import frame_times, shown_times

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]

# name, title and unit of each curve, in the order in which they are shown
CURVES: dict[str, tuple[str, str]] = {
    "subject size": ("Subject size", "%"),
    "visible": ("Visible", "%"),
    "margin": ("Margin", "%"),
    "subject distance": ("To subject", "mm"),
    "nearest": ("Nearest", "mm"),
    "camera speed": ("Camera speed", "m/s"),
    "pan": ("Pan rate", "°/s"),
    "horizon": ("Horizon roll", "°"),
}


class CameraCurve(msgspec.Struct, frozen=True):
    """Values (n,) by time, the limit that is asked of them where there is one, and where (n,) it is not kept."""

    values: Array
    limit: float | None
    breached: Flags


class CameraCurves(msgspec.Struct, frozen=True):
    """The curves of a camera at times (n,) in s, by name; those of a subject are not there where it has none."""

    camera: str
    times: Array
    curves: Mapping[str, CameraCurve]


def camera_curves(
    project: Project, meshes: Mapping[str, Mesh], camera_id: str, most: int | None = None, rays: int | None = None
) -> CameraCurves:
    """The curves of a camera at the project's frames, or at ``most`` times over it, with fewer rays if told."""
    camera = get_as(project, camera_id, Camera)
    times = frame_times(project) if most is None else shown_times(project, most)
    judged = of_camera(project, meshes, camera, times)
    return CameraCurves(camera_id, times, curves_of(msgspec.structs.replace(judged, rays=rays) if rays else judged))


def curves_of(judged: Judged) -> dict[str, CameraCurve]:
    """All curves of a camera that has been looked at."""
    camera, settings, limits = judged.camera, judged.project.settings, judged.camera.framing
    curves: dict[str, CameraCurve] = {}
    if judged.framed is not None and judged.sight is not None:
        size, margin, sight = 100 * judged.framed.size, 100 * judged.framed.margin, judged.sight
        inside = sight.visible + sight.hidden
        visible = np.where(inside > 0.02, sight.visible / np.maximum(inside, 1e-9), 1.0)
        curves["subject size"] = CameraCurve(
            np.clip(size, 0.0, 1000.0),
            100 * limits.least,
            (100 * judged.framed.filling < 100 * limits.least) | (size > 100 * limits.most),
        )
        curves["visible"] = CameraCurve(
            100 * sight.visible, 100 * limits.visible, (visible < limits.visible) | judged.framed.outside
        )
        curves["margin"] = CameraCurve(
            np.clip(margin, -200.0, 50.0), 100 * limits.margin, margin < 100 * limits.margin - 0.1
        )
        curves["subject distance"] = CameraCurve(judged.framed.distance, None, np.zeros(len(size), bool))
    near = judged.near.distance
    least = limits.near if camera.walk is None else camera.walk.distance
    curves["nearest"] = CameraCurve(np.where(np.isfinite(near), near, np.nan), least, near < least - 0.5)
    speed = judged.speed / 1000.0
    fastest = settings.walking_speed / 1000.0 if camera.walk is not None and settings.walking_speed > 0 else None
    curves["camera speed"] = CameraCurve(
        speed, fastest, speed > fastest + 1e-3 if fastest is not None else np.zeros(len(speed), bool)
    )
    crossing = settings.crossing_time
    wide = float(np.degrees(angles(camera, judged.aspect, 1.0)[0]))
    curves["pan"] = CameraCurve(
        judged.pan_rate,
        # one that follows its subject may turn as fast as that goes
        wide / crossing if crossing > 0 and not keeps_in_view(camera) else None,
        judged.crossing < crossing * (1 - 1e-6),
    )
    curves["horizon"] = CameraCurve(judged.roll, limits.roll, np.abs(judged.roll) > limits.roll + 1e-6)
    return curves
