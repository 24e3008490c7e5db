"""What is near a camera, what it is inside of, and what it goes through. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.camera.obstacles import STILL, Body, bodies
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, encloses
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.transforms import apply, inverse_rigid, rigid
from kestrav.core.later import later

if TYPE_CHECKING:
    import coal
else:
    coal = later("coal")

Array = NDArray[np.float64]

_POINT = 1e-6  # mm; the radius of the ball that stands for a camera
_BEYOND = 1e-3  # mm that the way from frame to frame is looked at further, so that nothing is missed between


class Near(msgspec.Struct, frozen=True):
    """For each of n places the least ``distance`` in mm to anything shown (0 inside a closed part), the ``row`` of that part, the
    ``point`` (3,) of it that is nearest, and whether the place is ``inside`` it."""

    distance: Array
    row: NDArray[np.intp]
    point: Array
    inside: NDArray[np.bool_]


def surroundings(
    project: Project,
    meshes: Mapping[str, Mesh],
    places: ArrayLike,
    poses: Array,
    exclude: frozenset[int] = frozenset(),
    below: float = 0.0,
) -> Near:
    """What is nearest to places (n, 3) under world poses (n, parts, 4, 4); infinite and row −1 where nothing is.

    ``exclude`` are rows of parts that do not count. With a length ``below`` in mm it is what is nearest to upright lines that reach
    so far down from the places.
    """
    places = np.asarray(places, float)
    count = len(places)
    surroundings = Near(
        np.full(count, np.inf), np.full(count, -1, np.intp), np.full((count, 3), np.nan), np.zeros(count, bool)
    )
    every = bodies(project, meshes)
    if not every or not count:
        return surroundings
    bounds, local = _bounds(every, places, poses, below)
    owner = [(body, k) for body in every for k in range(len(body.rows))]
    allowed = np.array([body.rows[k] not in exclude for body, k in owner])
    bounds[:, ~allowed] = np.inf
    order = np.argsort(bounds, axis=1, kind="stable")
    probe = coal.Sphere(_POINT) if below <= 0 else coal.Capsule(_POINT, below)
    last = -1
    for i in range(count):
        best, which, point = np.inf, -1, np.full(3, np.nan)
        # what was nearest a moment ago is likely to be so again
        turn = [last, *order[i].tolist()] if last >= 0 else order[i].tolist()
        for k in turn:
            if bounds[i, k] >= best:
                if k == last:
                    continue
                break
            body, own = owner[k]
            shape = body.shapes[own]
            at = local[body][i]
            met = nearest(model(shape), placed(body.places[own]), probe, placed(at), best)
            if met is not None:
                best, which, point = met.distance + _POINT, k, met.first
            # only within its box can a place be inside a part
            if bounds[i, k] == 0 and shape.watertight and encloses(shape, _into(body.places[own], at[:3, 3])):
                best, which, point = 0.0, k, at[:3, 3]
                surroundings.inside[i] = True
                break
        if which >= 0:
            body, own = owner[which]
            surroundings.distance[i], surroundings.row[i] = best, body.rows[own]
            surroundings.point[i] = apply(body.poses(poses[i : i + 1])[0], point[None])[0]
        last = which
    return surroundings


def _shift(place: Array) -> Array:
    matrix = np.eye(4)
    matrix[:3, 3] = place
    return matrix


def _into(matrix: Array, place: Array) -> Array:
    return np.asarray(apply(inverse_rigid(matrix), place[None])[0])


def _bounds(every: tuple[Body, ...], places: Array, poses: Array, below: float) -> tuple[Array, dict[Body, Array]]:
    """Least distances (n, parts) from upright lines to the boxes of all bodies' parts, and the lines' poses (n, 4, 4), about their
    middles, in each body's coordinates."""
    lows, local = [], {}
    middle = rigid(np.eye(3), places - [0.0, 0.0, 0.5 * below])
    for body in every:
        at = middle if body.row == STILL else inverse_rigid(body.poses(poses)) @ middle
        local[body] = at
        half = 0.5 * below * np.abs(at[:, :3, 2])
        low, high = body.boxes[:, 0], body.boxes[:, 1]
        gap = np.maximum(low - (at[:, :3, 3] + half)[:, None], (at[:, :3, 3] - half)[:, None] - high)
        lows.append(np.linalg.norm(np.maximum(gap, 0.0), axis=2))
    return np.concatenate(lows, axis=1), local


def passed_through(project: Project, meshes: Mapping[str, Mesh], places: ArrayLike, poses: Array) -> NDArray[np.intp]:
    """For each step (n − 1,) between places (n, 3) the row of a part whose surface lies across it, or −1.

    Each is looked at as what moves saw it: from where it was to where it is.
    """
    places = np.asarray(places, float)
    row_met = np.full(max(len(places) - 1, 0), -1, np.intp)
    if not len(row_met):
        return row_met
    nearest_yet = np.full(len(row_met), np.inf)
    for body in bodies(project, meshes):
        back = inverse_rigid(body.poses(poses))
        at = np.einsum("nij,nj->ni", back[:, :3, :3], places) + back[:, :3, 3]
        step = at[1:] - at[:-1]
        length = np.linalg.norm(step, axis=1)
        moves = length > 1e-6
        low = np.minimum(at[:-1], at[1:])[:, None] <= body.boxes[None, :, 1]
        high = np.maximum(at[:-1], at[1:])[:, None] >= body.boxes[None, :, 0]
        near = moves & (low & high).all(axis=2).any(axis=1)
        if not near.any() or body.whole is None:
            continue
        directions = step[near] / length[near, None]
        reach = body.whole.reach(at[:-1][near], directions)
        rows = np.flatnonzero(near)
        met = (reach <= length[near] + _BEYOND) & (reach < nearest_yet[rows])
        for i, distance in zip(rows[met], reach[met], strict=True):
            nearest_yet[i] = distance
            row_met[i] = _struck(body, at[i] + (distance / length[i]) * step[i])
    return row_met


def _struck(body: Body, place: Array) -> int:
    """The row of the part of a body whose surface is at a place."""
    gap = np.maximum(np.maximum(body.boxes[:, 0] - place, place - body.boxes[:, 1]), 0.0)
    order = np.argsort(np.linalg.norm(gap, axis=1))
    ball, best, row = coal.Sphere(_POINT), np.inf, body.rows[int(order[0])]
    for k in order[:8]:
        met = nearest(model(body.shapes[k]), placed(body.places[k]), ball, placed(_shift(place)), best)
        if met is not None:
            best, row = met.distance, body.rows[k]
    return row
