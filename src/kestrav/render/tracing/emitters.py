"""How often the path tracer looks at each thing that gives light: as often as it lights what is there."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import trimesh
from numpy.typing import NDArray

from kestrav.core.light.environments import solid_angles
from kestrav.render.tracing.description import Body, Moment, Single
from kestrav.render.tracing.render_passes import lit_by

Array = NDArray[np.float64]
_PLACES = 1500  # on surfaces, by which it is told how much light arrives
_LEAST = 0.1  # of all looks, that are shared evenly: what lights only a little of a scene is looked at there as well


class SurfaceSample:
    """Places spread evenly over the surfaces of bodies, in metres, which move with their groups."""

    def __init__(self, bodies: Sequence[Body]) -> None:
        counts = [len(body.triangles) for body in bodies]
        starts = np.cumsum([0, *(len(body.points) for body in bodies)])
        faces = [body.triangles + start for body, start in zip(bodies, starts, strict=False)]
        self.places, self.normals, self.groups = np.empty((0, 3)), np.empty((0, 3)), np.empty(0, int)
        if not sum(counts):
            return
        whole = trimesh.Trimesh(np.concatenate([body.points for body in bodies]), np.concatenate(faces), process=False)
        self.places, chosen = trimesh.sample.sample_surface(whole, _PLACES, seed=0)[:2]
        self.normals = whole.face_normals[chosen]
        self.groups = np.repeat([body.group for body in bodies], counts)[chosen]

    def at(self, moment: Moment) -> tuple[Array, Array]:
        """Places (n, 3) and normals (n, 3) at a moment."""
        places, normals = self.places.copy(), self.normals.copy()
        for group, matrix in moment.groups.items():
            mine = self.groups == group
            places[mine] = places[mine] @ matrix[:3, :3].T + 1e-3 * matrix[:3, 3]
            normals[mine] = normals[mine] @ matrix[:3, :3].T
        return places, normals


def sampling_weights(sample: SurfaceSample, environment: Single, moment: Moment) -> list[float]:
    """How often the environment and each lamp are looked at, by the mean of all of them: in proportion to their mean irradiance on the
    surfaces, whichever of their sides is lit, where nothing stands between."""
    places, normals = sample.at(moment)
    # what comes evenly from all sides is pi times its mean luminance, on any surface
    given = [float((environment.mean(axis=2) * solid_angles(len(environment))).sum() / 4.0)]
    for lamp in moment.lamps:
        sides = [lit_by([lamp], places, side * normals).mean(axis=1) for side in (1.0, -1.0)]
        given.append(float(np.maximum(*sides).mean()) if len(places) else 0.0)
    total, count = sum(given), len(given)
    if total <= 0:
        return [1.0] * count
    return [_LEAST + (1.0 - _LEAST) * count * one / total for one in given]
