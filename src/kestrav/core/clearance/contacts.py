"""When things in motion touch: the instants, the places and the speeds, between frames too.

A pair is looked at only where the boxes that it sweeps meet. From a known distance it is free for as long as nothing of the one can
have gone that far to the other (conservative advancement; B. Mirtich and J. Canny, "Impulse-based Simulation of
Rigid Bodies", Symposium on Interactive 3D Graphics, 1995); where that is less than a step the step is looked through in
ten-thousandths of a second, and so is every step in which what touches moves to each other, for it may part and touch again.
Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.between import (
    Between,
    Pairing,
    Window,
    between,
    distance_of,
    pairing,
    speed_past,
)
from kestrav.core.clearance.bodies import moving_pairs
from kestrav.core.clearance.contact_pairs import touching_at_rest
from kestrav.core.document.lookup import get, solids
from kestrav.core.document.records import Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector as point
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.models import nearest, placed
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.runs import span
from kestrav.core.progress import Progress

Array = NDArray[np.float64]

FINE = 1e-4  # s, to which an instant is found at least
_PARTING = 1e-3  # s, between two looks at whether what touches has parted
_EXACT = 1e-7  # s, to which it is narrowed down then
_NARROW = 40  # parts into which an interval is divided for that
TOUCH = 1e-4  # mm; nearer than this is touching
PARTED = 0.01  # mm; what touched is apart again from here on, as facets that slide on each other come off by less
_JUMP = 1e12  # mm; over a jump nothing is free for having been far


class Touch(msgspec.Struct, frozen=True):
    """Two parts that come to touch: when, where (3,), how fast they go past or into each other there, and how fast they close.

    ``direction`` (3,) is the direction in which the first one goes there as seen by the second.
    """

    a: str
    b: str
    time: float
    place: tuple[float, float, float]
    speed: float
    closing: float
    direction: tuple[float, float, float] = (0.0, 0.0, 0.0)


def first_touch(project: Project, meshes: Mapping[str, Mesh], a: str, b: str, end: float | None = None) -> Touch | None:
    """The first instant at which parts or assemblies touch after having been apart, until an end in s; None if they never do.

    Raises BadInput when one holds the other or one has no geometry.
    """
    pairs = _between(project, meshes, a, b)
    touches = _search(project, meshes, pairs, span(project) if end is None else end, first=True)
    return touches[0] if touches else None


def touches(
    project: Project, meshes: Mapping[str, Mesh], progress: Progress | None = None, *, meant: bool = False
) -> tuple[Touch, ...]:
    """Every coming together of what moves with the rest, in the order of time; or only of what is meant to touch.

    Of pairs that touch at rest there are none, nor of those meant to touch that are as near at rest as they are built.
    """
    if meant and not project.contacts:
        return ()
    near = touching_at_rest(project, meshes, project.settings.required_clearance)
    intended = {frozenset((c.a, c.b)) for c in project.contacts if c.intended}
    left_out = {frozenset((p.moving, p.other)) for p in touching_at_rest(project, meshes)}
    left_out |= {key for p in near if (key := frozenset((p.moving, p.other))) in intended}
    wanted = [pair for pair in moving_pairs(project, meshes) if frozenset(pair) not in left_out]
    pairs = [pairing(project, meshes, a, b) for a, b in wanted if not meant or frozenset((a, b)) in intended]
    return tuple(_search(project, meshes, pairs, span(project), progress=progress))


def _between(project: Project, meshes: Mapping[str, Mesh], a: str, b: str) -> list[Pairing]:
    sides = []
    for thing in (a, b):
        if not isinstance(get(project, thing), Part):
            raise BadInput(f"“{get(project, thing).name}” is no part, so it touches nothing")
        sides.append([part.id for part in solids(project, thing)])
        if not sides[-1]:
            raise BadInput(f"“{get(project, thing).name}” has no geometry that could touch something")
    if set(sides[0]) & set(sides[1]):
        raise BadInput(f"“{get(project, a).name}” and “{get(project, b).name}” are parts of each other")
    return [pairing(project, meshes, i, j) for i in sides[0] for j in sides[1]]


def _search(
    project: Project,
    meshes: Mapping[str, Mesh],
    pairs: Sequence[Pairing],
    end: float,
    *,
    first: bool = False,
    progress: Progress | None = None,
) -> list[Touch]:
    """The touches of pairs from 0 to an end, in the order of time; only up to the first one if that is all that is asked for."""
    if not pairs or end <= 0:
        return []
    moving = between(project, meshes, pairs)
    groups, look = moving.groups, _Look(moving, first)
    for window in moving.windows(end):
        if progress is not None:
            progress(window.share)
        far = moving.gaps(window) > 0
        for g in np.flatnonzero(far[-1]):
            for k in groups.pairs[g]:
                pairs[k].touching = False
        for g in np.flatnonzero(~far.all(axis=0)):
            _window(look, int(g), window)
        if first and look.touches:
            break
    # the last step may go beyond the end
    touches = sorted((touch for touch in look.touches if touch.time <= end + FINE), key=lambda touch: touch.time)
    return touches[:1] if first else touches


class _Look(msgspec.Struct, eq=False):
    """A search under way: what was found, and from when on nothing more is asked for."""

    moving: Between
    first: bool
    until: float = np.inf
    touches: list[Touch] = msgspec.field(default_factory=list)

    def keep(self, touch: Touch) -> None:
        """Keep a touch; where the first is asked for, nothing after it is."""
        self.touches.append(touch)
        if self.first:
            self.until = min(self.until, touch.time)


def _window(look: _Look, g: int, window: Window) -> None:
    """Look through a window for pairs between two groups."""
    moving = look.moving
    apart = moving.body_clearances(g, window) > 0
    one, two = moving.led(g, window)
    seen = inverse_rigid(two) @ one
    # the earliest to come near first, as nothing is asked for after the first touch
    for k in np.argsort(np.argmin(apart, axis=0), kind="stable"):
        pair = moving.pairs[moving.groups.pairs[g][k]]
        if apart[:, k].all():
            pair.touching = False
            continue
        distances = np.where(window.stage.sudden[window.steps], _JUMP, window.distances(pair))
        far = np.concatenate([[0.0], np.cumsum(distances)])
        _follow(look, g, pair, window.times, moving.within(pair, seen), far, ~apart[:, k])
        if apart[-1, k]:
            pair.touching = False


def _follow(look: _Look, g: int, pair: Pairing, times: Array, seen: Array, far: Array, near: NDArray[np.bool_]) -> None:
    """Look through the steps of a window in which a pair's swept boxes meet; ``far`` (n,) is how far they can have gone."""
    k = 0
    while k < len(near) and times[k] <= look.until:
        if not near[k]:
            pair.touching = False
            k += 1
            continue
        last = k + int(np.argmin(np.append(near[k:], False)))  # the step after the last near one
        k = _through(look, g, pair, times, seen, far, k, last)


def _through(look: _Look, g: int, pair: Pairing, times: Array, seen: Array, far: Array, k: int, last: int) -> int:
    """Look through the steps from one to another; the step after."""
    while k < last and times[k] <= look.until:
        if far[k + 1] - far[k] <= TOUCH and pair.touching:
            k += 1
            continue
        left = min(float(far[last] - far[k]), _JUMP)
        away = distance_of(pair, seen[k], left + 2 * PARTED)
        if away is None:
            pair.touching = False
            return last
        if away.distance > (PARTED if pair.touching else TOUCH):
            pair.touching = False
            free = min(int(np.searchsorted(far, far[k] + away.distance - TOUCH, side="left")) - 1, last)
            if free > k:
                k = free
                continue
        else:
            pair.touching = True
        _closely(look, g, pair, float(times[k]), float(times[k + 1]))
        k += 1
    return last


def _closely(look: _Look, g: int, pair: Pairing, start: float, end: float) -> None:
    """Look through one step in fine ones, from apart to touching and from touching to apart, as often as it does."""
    if pair.touching and _stays(look, g, pair, start, end):
        return
    times, led, moves = look.moving.fine(g, start, end, FINE)
    seen = look.moving.within(pair, led)
    distances = moves.between(pair.a, pair.corners[0], pair.b, pair.corners[1])
    far = np.concatenate([[0.0], np.cumsum(np.where(moves.sudden, _JUMP, distances))])
    k = 1 if pair.touching else 0
    while k < len(times) and times[k] <= look.until:
        away = distance_of(pair, seen[k])
        assert away is not None
        if pair.touching:
            pair.touching = away.distance <= PARTED
            k += 1
            continue
        if away.distance <= TOUCH:
            if k > 0:
                _record(look, g, pair, float(times[k - 1]), float(times[k]))
            pair.touching = True
            k += 1
            continue
        free = int(np.searchsorted(far, far[k] + away.distance - TOUCH, side="left")) - 1
        k = max(k + 1, free)


def _stays(look: _Look, g: int, pair: Pairing, start: float, end: float) -> bool:
    """Whether what touches is not seen to part within a step, looked at every thousandth of a second."""
    _, led, moves = look.moving.fine(g, start, end, _PARTING)
    distances = moves.between(pair.a, pair.corners[0], pair.b, pair.corners[1])
    if float(distances.sum()) <= TOUCH:
        return True
    for at in look.moving.within(pair, led)[1:]:
        away = distance_of(pair, at, 2 * PARTED)
        if away is None or away.distance > PARTED:
            return False
    return True


def _record(look: _Look, g: int, pair: Pairing, free: float, touching: float) -> None:
    """Narrow down between a free and a touching instant, and keep the touch."""
    while touching - free > _EXACT:
        times = np.linspace(free, touching, _NARROW + 1)
        seen = look.moving.within(pair, look.moving.seen(g, times))
        low, high = 0, _NARROW
        while high - low > 1:
            middle = (low + high) // 2
            away = distance_of(pair, seen[middle])
            assert away is not None
            low, high = (low, middle) if away.distance <= TOUCH else (middle, high)
        free, touching = float(times[low]), float(times[high])
    around = np.array([touching - FINE, touching])
    led = look.moving.leaders(g, around)
    one, two = (led[k] @ look.moving.groups.within[body] for k, body in enumerate((pair.a, pair.b)))
    here = nearest(pair.models[0], placed(one[1]), pair.models[1], placed(two[1]))
    earlier = nearest(pair.models[0], placed(one[0]), pair.models[1], placed(two[0]))
    assert here is not None and earlier is not None
    place = 0.5 * (here.first + here.second)
    past = speed_past(one, two, place, FINE)
    size = float(np.linalg.norm(past))
    direction = point(past / size) if size > 0 else (0.0, 0.0, 0.0)
    closing = (earlier.distance - here.distance) / FINE
    look.keep(Touch(pair.a, pair.b, touching, point(place), size, closing, direction))
