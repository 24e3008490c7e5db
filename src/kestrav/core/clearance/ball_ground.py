"""What balls roll on: the normals of the surface nearest to them, kept with the ball. Lengths in mm, times in s."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.edits import update
from kestrav.core.document.lookup import solids, subtree
from kestrav.core.document.records import Ball, Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.models import model, placed
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.dependencies import dependencies
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import span
from kestrav.core.later import later
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import rest_poses, rows
from kestrav.core.parts.solids import solid_mesh

if TYPE_CHECKING:
    import coal
else:
    coal = later("coal")

Array = NDArray[np.float64]

_RATE, _MOST = 60.0, 2400  # normals a second, and how many of them in all
_POINT = 1e-6  # mm; the radius of what is measured from
_DIGITS = 9

_kept: Memo[Array] = Memo(128)


def derive_ball_ground(project: Project, meshes: Mapping[str, Mesh]) -> Project:
    """The project with the normals of what its balls roll on worked out anew."""
    for ball in project.balls:
        if ball.on is None:
            if ball.normals:
                project = update(project, ball.id, normals=(), until=0.0)
            continue
        until = float(np.ceil(span(project)))
        normals = tuple(tuple(float(x) + 0.0 for x in n) for n in _normals(project, meshes, ball, until))
        if normals != ball.normals or until != ball.until:
            project = update(project, ball.id, normals=normals, until=until)
    return project


def _normals(project: Project, meshes: Mapping[str, Mesh], ball: Ball, until: float) -> Array:
    assert ball.on is not None
    # the ball's own normals change with it, and are not what they are worked out of
    bare = msgspec.structs.replace(ball, normals=(), until=0.0)
    of = tuple(
        record for record in dependencies(project, ball.part, ball.on, *subtree(project, ball.on)) if record is not ball
    )
    return _kept.get(of, lambda: _measured(project, meshes, ball, until), bare, until)


def _measured(project: Project, meshes: Mapping[str, Mesh], ball: Ball, until: float) -> Array:
    assert ball.on is not None
    count = int(np.clip(np.ceil(until * _RATE), 2, _MOST))
    centres = Motion(project).ball_centres(ball, np.linspace(0.0, until, count + 1))
    return np.round(_away(project, meshes, ball.on, centres), _DIGITS)


def _away(project: Project, meshes: Mapping[str, Mesh], on: str, places: Array) -> Array:
    """Directions (n, 3) from the nearest place of a part's surface to places (n, 3), in the part's own coordinates; those before
    where a place lies on the surface itself."""
    rest, row = rest_poses(project), rows(project)
    back = inverse_rigid(rest[row[on]])
    bodies = [(model(solid_mesh(meshes, p)), placed(back @ rest[row[p.id]])) for p in solids(project, on)]
    ball, request = coal.Sphere(_POINT), coal.DistanceRequest()
    away, last = np.empty((len(places), 3)), np.array([0.0, 0.0, 1.0])
    for k, place in enumerate(places):
        best = np.inf
        for body, at in bodies:
            result = coal.DistanceResult()
            here = coal.Transform3s(np.eye(3), place)
            distance = coal.distance(ball, here, body, at, request, result)
            if distance < best:
                best = distance
                direction = place - np.array(result.getNearestPoint2())
                size = float(np.linalg.norm(direction))
                if size > 10 * _POINT:
                    last = direction / size
        away[k] = last
    return away
