"""What is moved and what is in its way, and whether they are free of each other at a pose. Lengths in mm."""

from __future__ import annotations

from functools import cached_property
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.depth_limit import DepthLimit
from kestrav.core.clearance.interference import deeper_than
from kestrav.core.geometry.meshes import Mesh, box_distances
from kestrav.core.geometry.models import at_rest, built, meets, nearest, placed

Array = NDArray[np.float64]

FINEST = 0.01  # mm of way below which a motion is not halved any more


class Body(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A solid as it stands: its part's id, and its mesh and box (2, 3) in space."""

    id: str
    shape: Mesh
    box: Array

    @cached_property
    def model(self) -> Any:
        """Its collision model."""
        return built(self.shape)

    @cached_property
    def solid(self) -> Solid:
        """It, as depths are measured of."""
        return Solid(self.shape, self.model, self.shape.watertight)


class Layer(msgspec.Struct, frozen=True, eq=False):
    """Bodies to move, as one, against bodies in the way, as one, that may come as near as ``need`` mm; ``owner`` tells for each triangle
    of the latter which obstacle it is of."""

    mover: Any
    corners: Array
    other: Any
    box: Array
    owner: NDArray[np.intp]
    need: float

    def gap(self, matrix: Array) -> float:
        """How far the boxes are apart in mm beyond what is needed, under a motion (4, 4)."""
        return float(self.gaps(matrix[None])[0])

    def gaps(self, matrices: Array) -> Array:
        """The same (n,) under each of motions (n, 4, 4)."""
        return _box_distances(self.corners, matrices, self.box) - self.need

    def doubtful(self, matrices: Array, spare: float = 0.0) -> NDArray[np.bool_]:
        """Under which of motions (n, 4, 4) boxes do not tell that they are as far apart as needed and by a spare in mm more."""
        return np.asarray(self.gaps(matrices) < spare)

    def slack(self, matrix: Array, below: float) -> tuple[float, int]:
        """By how much in mm they are farther apart than needed, or ``below`` if that is less, and the obstacle that is nearest."""
        distance = nearest(self.mover, placed(matrix), self.other, at_rest(), below + self.need)
        if distance is None or distance.distance - self.need >= below:
            return below, -1
        which = int(self.owner[distance.triangle]) if 0 <= distance.triangle < len(self.owner) else -1
        # surfaces that cross tell no depth
        return (distance.distance - self.need if distance.distance > 0 else -max(self.need, FINEST)), which

    def spare(self, matrix: Array, below: float, likely: float, least: float) -> float:
        """A length in mm by which they are farther apart than needed, no more than ``below``: twice what is ``likely`` if that is so, or
        halved until it is; 0 where that comes under the ``least``. Many times quicker than to tell how far they are."""
        some = min(2.0 * likely, below)
        while some > least:
            if self.free(matrix, some):
                return some
            some *= 0.5
        return 0.0

    def quickly_free(self, matrix: Array, spare: float = 0.0) -> bool:
        """Whether they are as far apart as needed and by a spare in mm more."""
        return self.free(matrix, spare)

    def free(self, matrix: Array, spare: float = 0.0) -> bool:
        """Whether they are as far apart as needed and by a spare in mm more: several times quicker than to tell how far they are."""
        return not meets(self.mover, matrix, self.other, self.need + spare)


class Held(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A body to move that is in contact with one in the way as they stand (``other``, its number): they may slide on each other and part,
    and never get deeper into each other than the limit."""

    limit: DepthLimit
    corners: Array
    box: Array
    other: int
    leeway: float
    deeper: float = 0.0  # mm of a snap fit's that are allowed

    def gap(self, matrix: Array) -> float:
        """How far the boxes are apart in mm, under a motion (4, 4)."""
        return float(_box_distances(self.corners, matrix[None], self.box)[0])

    def doubtful(self, matrices: Array, spare: float = 0.0) -> NDArray[np.bool_]:
        """Under which of motions (n, 4, 4) boxes do not tell that they are apart; no spare is asked of what is in contact."""
        return np.asarray(_box_distances(self.corners, matrices, self.box) <= 0)

    def slack(self, matrix: Array, below: float) -> tuple[float, int]:
        """By how much in mm they are less deep than they may be, at least, or ``below`` if that is less; and the obstacle."""
        spare = min(self.gap(matrix), below)
        if spare <= 0:
            spare = self._spare(matrix, below)
        return spare, self.other if spare < below else -1

    def _spare(self, matrix: Array, below: float) -> float:
        if not self.free(matrix):
            return -FINEST
        if self.clear(matrix, min(4.0 * self.leeway, below)):
            return self.limit.room(matrix, below)
        # how much it is takes long to tell where they slide on each other
        return 0.0

    def separation(self, matrices: Array) -> Array:
        """By how much in mm (n,) boxes and planes tell that they are less deep than they may be under motions (n, 4, 4); 0 where they do
        not."""
        return self.limit.separation(matrices)

    def skins_clear(self, matrix: Array) -> bool:
        """Whether the surface of neither solid drawn in crosses that of the other: enough where they came there little by little."""
        return self.limit.skins_clear(matrix)

    def quickly_free(self, matrix: Array, spare: float = 0.0) -> bool:
        """Whether the solids drawn in tell that they are no deeper than they may be; where they do not even as these stand, it is worked
        out."""
        if not self.told_at_rest:
            return self.free(matrix)
        return self.skins_clear(matrix) or bool(self.separation(matrix[None])[0] > 0)

    def clear(self, matrix: Array, spare: float = 0.0) -> bool:
        """Whether boxes, planes and the solids drawn in tell that they are no deeper than they may be, by a spare in mm at least."""
        return bool(self.limit.separation(matrix[None])[0] > spare or self.limit.clear(matrix[None], spare)[0])

    def free(self, matrix: Array) -> bool:
        """Whether they are no deeper than they may be, surely."""
        return self.clear(matrix) or not deeper_than(self.limit.one, matrix, self.limit.two, self.limit.allowed)

    @cached_property
    def told_at_rest(self) -> bool:
        """Whether it can be told quickly, as they stand, that they are no deeper than they may be."""
        return self.clear(np.eye(4))


def _box_distances(corners: Array, matrices: Array, box: Array) -> Array:
    """How far (n,) the boxes of corners (8, 3) under motions (n, 4, 4) are from a box (2, 3) in mm."""
    here = corners @ matrices[:, :3, :3].swapaxes(1, 2)
    low, high = here.min(axis=1) + matrices[:, :3, 3], here.max(axis=1) + matrices[:, :3, 3]
    return box_distances(np.stack([low, high], axis=1), box)
