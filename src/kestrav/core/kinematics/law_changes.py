"""When the laws of a motion change, and when something jumps. Times in s."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.rolling import ramps
from kestrav.core.kinematics.runs import begins, course_of

Array = NDArray[np.float64]

INSTANT = 1e-10  # s; what jumps does so within this of when it is told to


def changes(motion: Motion, end: float) -> tuple[Array, Array]:
    """Times (n,) up to an end at which anything changes its law, and those (k,) at which something may jump.

    Ends of passes, holds, kinks, borders of zones, keys, starts and ends of runs, key poses, attachments and what is put down, and of rotations
    with their ramps; not those of the grid of wheels and rods, which is ``motion.grid``.
    """
    project = motion.project
    times, jumps = [0.0, end], list[float]()
    for run in project.runs:
        course = course_of(project, run)
        if not np.isfinite(course.start):
            continue
        times += list(course.changes(end))
        jumps += list(course.jumps(end))
        segments = [course.start, course.end]
        times += [*segments, course.start + run.blend]
        jumps += segments
    for poses in project.pose_tracks:
        start = begins(project, poses)
        times += [start + key.time for key in poses.keys] + [start + poses.blend]
        jumps += [start]
    for attachment in project.attachments:
        start = begins(project, attachment)
        jumps += [start]
        if attachment.end is not None:
            lowered = max(attachment.end - attachment.lowering, start)
            times += [attachment.end, lowered]
            jumps += [attachment.end, lowered]
    for rotation in project.rotations:
        times += list(ramps(project, rotation))
    every = np.array(times + jumps)
    sudden = np.unique([t for t in jumps if 0 <= t <= end])
    return np.unique(every[np.isfinite(every) & (every >= 0) & (every <= end)]), sudden


def with_changes(motion: Motion, times: Array) -> Array:
    """Times (n,), and between the first and the last of them all at which laws change, jumps in short steps of their own."""
    if times[-1] <= times[0]:
        return times[:1]
    law, sudden = changes(motion, float(times[-1]))
    balls = [motion.ball_rotation(ball).times for ball in motion.project.balls]
    every = np.unique(np.concatenate([times, motion.grid, law, *balls]))
    if len(sudden):
        # nothing else within a jump's own step
        k = np.clip(np.searchsorted(sudden, every), 0, len(sudden) - 1)
        away = np.minimum(np.abs(every - sudden[k]), np.abs(every - sudden[np.maximum(k - 1, 0)]))
        every = np.concatenate([every[away > 2 * INSTANT], sudden - INSTANT, sudden + INSTANT])
    inside = (every > times[0]) & (every < times[-1])
    return np.unique(np.concatenate([times[:1], every[inside], times[-1:]]))
