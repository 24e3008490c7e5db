"""The curves by which a project's motion is judged: clearance, speeds, wheels, and what its cameras see."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from kestrav.core.camera.measured_curves import CURVES, camera_curves
from kestrav.core.clearance.sweep import Clearance, intervals_of
from kestrav.core.document.lookup import get, qualified_name
from kestrav.core.document.records import Project
from kestrav.core.files.charts import Charted
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion, thing_speeds
from kestrav.core.kinematics.runs import frame_times

_MOST_SPEEDS, _MOST_WHEELS = 6, 4
_MOST_TIMES = 240  # at which cameras are looked at


def charted(
    project: Project,
    meshes: Mapping[str, Mesh],
    clearance: Clearance | None,
    of_cameras: Sequence[str] = ("subject size",),
) -> list[Charted]:
    """The curves over time, at the project's frames; the clearance is that of a check, if one is given, and ``of_cameras`` are names of
    :data:`kestrav.core.camera.measured_curves.CURVES`."""
    charts = []
    if clearance is not None and len(clearance.times):
        half = 0.5 / project.settings.fps
        spans = [
            (float(clearance.times[a]) - half, float(clearance.times[b]) + half)
            for a, b in intervals_of(np.flatnonzero(clearance.short))
        ]
        values = np.where(np.isfinite(clearance.distance), clearance.distance, np.nan)
        required = project.settings.required_clearance
        finite = values[np.isfinite(values)]
        top = float(np.clip(finite.max(), 2 * required, max(5 * required, 10.0))) if len(finite) else None
        charts.append(Charted("Clearance", "mm", clearance.times, values, required, spans, top))
    times = frame_times(project)
    limit = project.settings.speed_limit / 1000.0 or None
    for thing in list(dict.fromkeys(run.rider for run in project.runs))[:_MOST_SPEEDS]:
        speeds = thing_speeds(project, thing, times) / 1000.0
        charts.append(Charted(f"{get(project, thing).name}", "m/s", times, speeds, limit))
    motion = Motion(project)
    for roll in project.wheels[:_MOST_WHEELS]:
        charts.append(
            Charted(qualified_name(project, roll.part), "turns", times, motion.angles(roll, times) / (2 * np.pi))
        )
    for camera in project.cameras:
        curves = camera_curves(project, meshes, camera.id, _MOST_TIMES)
        for name in of_cameras:
            curve = curves.curves.get(name)
            if curve is not None:
                title, unit = CURVES[name]
                step = 0.5 * float(np.median(np.diff(curves.times))) if len(curves.times) > 1 else 0.0
                spans = [
                    (float(curves.times[a]) - step, float(curves.times[b]) + step)
                    for a, b in intervals_of(np.flatnonzero(curve.breached))
                ]
                charts.append(Charted(f"{camera.name}\n{title}", unit, curves.times, curve.values, curve.limit, spans))
    return charts
