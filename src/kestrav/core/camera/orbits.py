"""Orbits around things."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from kestrav.core.document.edits import add
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import Camera, EllipseShape, PartAim, Path, Project, Run, Shot
from kestrav.core.motion.poses import world_poses
from kestrav.core.motion.resting import world_bounds


def ellipse_around(bounds: ArrayLike, offset: float, height: float, start: float = -120.0) -> EllipseShape:
    """A level ellipse around bounds (2, 3): through the plan corners, grown by an offset, at a height (mm).

    An ellipse through the corners of a rectangle, of the rectangle's proportions, has half axes of
    sqrt(2) times the half sides. ``start`` in degrees from +X; it is travelled counter-clockwise.
    """
    bounds = np.asarray(bounds, float)
    middle, half = bounds.mean(axis=0), 0.5 * (bounds[1] - bounds[0])
    return EllipseShape(
        (float(middle[0]), float(middle[1]), float(height)),
        float(np.sqrt(2.0) * half[0] + offset),
        float(np.sqrt(2.0) * half[1] + offset),
        start=start,
    )


def add_orbit(
    project: Project,
    part_id: str,
    offset: float = 2000.0,
    height: float | None = None,
    duration: float = 12.0,
    begin: float = 0.0,
    start: float = -120.0,
) -> Project:
    """The project with a path around a part, a camera that rides on it aiming at the part, and a shot.

    Lengths in mm, times in s; without a height the camera goes at three quarters of the part's own.
    """
    part = get(project, part_id)
    bounds = world_bounds(project, part_id, world_poses(project, [begin]))[0]
    if height is None:
        height = float(bounds[0, 2] + 0.75 * (bounds[1, 2] - bounds[0, 2]))
    shape = ellipse_around(bounds, offset, height, start)
    path = Path(new_id(project, Path), new_name(project, Path, f"{part.name} orbit"), shape)
    camera = Camera(
        new_id(project, Camera),
        new_name(project, Camera, f"{part.name} orbit"),
        PartAim(part_id),
        position=(float(bounds[0, 0] - offset), float(bounds[0, 1] - offset), height),
    )
    run = Run(
        new_id(project, Run),
        new_name(project, Run, f"Orbit of {part.name}"),
        camera.id,
        path.id,
        start=begin,
        duration=duration,
    )
    shot = Shot(
        new_id(project, Shot),
        new_name(project, Shot, f"{part.name} orbit"),
        camera.id,
        begin,
        begin + duration,
        fps=project.settings.fps,
    )
    return add(project, path, camera, run, shot)
