"""Things that are knocked: they slide along and tip over when something reaches them. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.contacts import first_touch
from kestrav.core.document.edits import add
from kestrav.core.document.lookup import get, new_id, new_name
from kestrav.core.document.records import ContactTrigger, KeyPose, Part, PoseTrack, Project
from kestrav.core.editing.floor import hull_points, kept_on_surface
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, rigid
from kestrav.core.kinematics.motion import Motion
from kestrav.core.mechanisms.linkage import about
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import rest_and_pivot

Array = NDArray[np.float64]

_KEYS = 5  # of a fall, evenly in time
_ALLOWED = 0.1  # mm that it may dig in between them
_MOST_FRAMES = 100_000


def add_knock(
    project: Project, meshes: Mapping[str, Mesh], striker: str, thing: str, frames: int, slide: float, tip: float = 90.0
) -> Project:
    """The project with a thing that, when another first touches it, slides ``slide`` mm the way it is pushed and tips over by ``tip``
    degrees, in so many frames; it stays on the surface that it stands on. The new key poses are the last ones.

    It tips about its lower edge ahead, ever faster as it falls, and slides ever slower. Raises BadInput when they never touch,
    or the push is straight down.
    """
    part = get(project, thing)
    if not isinstance(part, Part):
        raise BadInput(f"“{part.name}” is no part, so it cannot be knocked over")
    if not 1 <= frames <= _MOST_FRAMES:
        raise BadInput(f"{frames} frames are not possible; give 1 to {_MOST_FRAMES}")
    if not -180 <= tip <= 180:
        raise BadInput(f"it cannot tip over by {tip:g}°; give up to 180")
    touch = first_touch(project, meshes, striker, thing)
    if touch is None:
        raise BadInput(f"“{get(project, striker).name}” never comes to touch “{part.name}”; let it reach it first")
    pushed = np.array([touch.direction[0], touch.direction[1], 0.0])
    size = float(np.linalg.norm(pushed))
    if size < 1e-3:
        raise BadInput(f"“{part.name}” is not pushed sideways where it is touched, so it cannot slide or tip over")
    pushed /= size
    start_pose = Motion(project).poses(thing, [touch.time])[0]
    pivot = rest_and_pivot(project, thing)[1]
    own = hull_points(project, meshes, thing)
    points = apply(start_pose, own)
    floor = float(points[:, 2].min())
    # the edge about which it tips: the farthest ahead of what stands on the floor
    low = points[points[:, 2] <= floor + 0.05 * max(float(np.ptp(points[:, 2])), 1e-6)]
    edge = low[int(np.argmax(low @ pushed))]
    axis = np.cross([0.0, 0.0, 1.0], pushed)
    seconds = frames / project.settings.fps
    keys = []
    for share in np.linspace(0.0, 1.0, _KEYS):
        turn = about(axis[None], np.array([np.radians(tip) * share**2]))[0]
        tipped = rigid(turn, edge - turn @ edge) @ start_pose
        moved = shift(slide * (1 - (1 - share) ** 2) * pushed) @ tipped
        # what is not as square as a box is let down, or lifted, onto the floor
        lowest = float(apply(moved, own)[:, 2].min())
        moved = shift(np.array([0.0, 0.0, floor - lowest])) @ moved
        keys.append(KeyPose(float(share * seconds), placement(moved @ pivot)))
    name = new_name(project, PoseTrack, f"{part.name} is knocked over")
    trigger = ContactTrigger(striker, thing, time=touch.time)
    edited = PoseTrack(new_id(project, PoseTrack), name, thing, tuple(keys), trigger=trigger)
    return kept_on_surface(add(project, edited), meshes, edited.id, _ALLOWED)
