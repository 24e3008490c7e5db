"""How long pairs are in contact, and how deep they may be meanwhile.

What touches or overlaps as it stands, or as it is taken up or put down, may slide, but never get deeper than it was by more than a
tolerance: by default what the facets of both may be off, as those of equal cylinders cut into each other. It is in contact until it
has parted by more than its required clearance; from then on that holds. Where it stands again as at rest it is in contact again.
Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.asked import GENERAL, NEARER, Asked
from kestrav.core.clearance.between import Between, Pairing, Stage, between, distance_of, pairing
from kestrav.core.clearance.bodies import Bodies, Pair
from kestrav.core.clearance.contact_pairs import Reason, meant_pairs, standing_at
from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.depth_limit import DepthLimit, nested
from kestrav.core.clearance.interference import interference_of
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.skin import facet_error
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.law_changes import changes
from kestrav.core.kinematics.runs import span
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import rest_poses, rows

Array = NDArray[np.float64]
Span = tuple[float, float]

PARTED = 0.05  # mm, and a hundredth of it, by which a pair must part by more than its required clearance
_MOST_AT_ONCE = 20_000  # steps whose poses are held together
_MOST_CHANGES = 2000  # changes of a law at which it is looked whether a pair stands as at rest
_ZOOM, _ROUNDS = 9, 3  # looks at a step in which a pair parts, and how often
_STAGES_KEPT = 4


class Contact(msgspec.Struct, frozen=True):
    """A pair in contact: why, how ``deep`` in mm it is as it stands or is met, how deep it may be (``allowed``), and when it is in contact
    (spans in s); the ``required`` clearance in mm holds at all other times. ``least`` in mm is how far it is apart then at least, and
    ``shown`` how deep it is at most in the whole motion but for what is told as a breach, where these are known."""

    pair: Pair
    reason: Reason
    deep: float
    allowed: float
    required: float
    spans: tuple[Span, ...]
    least: float | None = None
    shown: float | None = None

    def at(self, times: Array) -> NDArray[np.bool_]:
        """Whether it is in contact at times (n,)."""
        return within(self.spans, times)

    @property
    def text(self) -> str:
        """When it is in contact, in words: “in contact until 0.42 s, then at least 5.30 mm”."""
        least = "" if self.least is None else f"at least {self.least:.2f}\u2009mm"
        if self.spans == ((-np.inf, np.inf),):
            return (
                "in contact all along"
                if self.reason in ("at rest", "taken up or set down")
                else "may touch at any time"
            )
        if not self.spans:
            return ", ".join(filter(None, ("not in contact in this motion", least)))
        parts = []
        for start, end in self.spans:
            since = "" if start == -np.inf else f"from {start:.2f}\u2009s"
            until = "" if end == np.inf else f"until {end:.2f}\u2009s"
            parts.append(" ".join(filter(None, (since, until))))
        spoken = f"in contact {' and '.join(parts)}"
        if not least:
            return spoken
        return f"{spoken}, {'then' if self.spans[-1][1] < np.inf and len(parts) == 1 else 'otherwise'} {least}"

    @property
    def borders(self) -> list[float]:
        """The times at which it parts or comes into contact."""
        return [float(t) for one in self.spans for t in one if np.isfinite(t)]


Held = tuple[Contact, DepthLimit]
"""A contact with what measures how deep it is."""


class Nearness(msgspec.Struct, frozen=True):
    """A pair that stands nearer than is required of all, without touching: how far apart in mm it ``keeps``, hardly less than it stands, and
    when (spans in s): until it has parted by more than is required, and when it stands as at rest again."""

    pair: Pair
    keeps: float
    spans: tuple[Span, ...]


def within(spans: Iterable[Span], times: Array) -> NDArray[np.bool_]:
    """Whether times (n,) are in spans."""
    inside = np.zeros(np.shape(times), bool)
    for start, end in spans:
        inside |= (times >= start) & (times <= end)
    return inside


def rest_of(spans: Sequence[Span]) -> tuple[Span, ...]:
    """What is not in spans of time, given in their order."""
    starts = [-np.inf, *(end for _, end in spans)]
    ends = [*(start for start, _ in spans), np.inf]
    return tuple((a, b) for a, b in zip(starts, ends, strict=True) if b > a)


def tolerance_of(project: Project, one: Mesh, two: Mesh) -> float:
    """By how much in mm two parts in contact may get deeper: the project's, or what the facets of both may be off."""
    own = project.settings.interference_tolerance
    if own > 0:
        return own
    return project.settings.contact_distance + facet_error(one) + facet_error(two)


def deeper_by(project: Project, a: str, b: str) -> float:
    """By how much in mm more a contact of two parts may get deeper, as a snap fit does."""
    return next((c.deeper for c in project.contacts if {c.a, c.b} == {a, b}), 0.0)


def contacts_of(
    project: Project, meshes: Mapping[str, Mesh], bodies: Bodies, need: Mapping[frozenset[str], float]
) -> tuple[Held, ...]:
    """The contacts among pairs of bodies of which a clearance in mm is required (``need``), with how deep and how long they are."""
    wanted = tuple(sorted((*sorted(pair), value) for pair, value in need.items()))
    return _held.get((project,), lambda: _contacts(project, meshes, bodies, need), tuple(bodies.ids), wanted)


_held: Memo[tuple[Held, ...]] = Memo(6)


def _contacts(
    project: Project, meshes: Mapping[str, Mesh], bodies: Bodies, need: Mapping[frozenset[str], float]
) -> tuple[Held, ...]:
    # the moving one first, as the bodies' pairs are
    ordered = {frozenset(pair): Pair(*pair) for pair in bodies.pairs()}
    meant = [
        msgspec.structs.replace(m, pair=ordered[key])
        for m in meant_pairs(project, bodies)
        if (key := frozenset((m.pair.moving, m.pair.other))) in need
    ]
    if not meant:
        return ()
    pairs = [pairing(project, meshes, m.pair.moving, m.pair.other) for m in meant]
    number = {body: k for k, body in enumerate(bodies.ids)}
    solids = [(bodies.solid(number[pair.a]), bodies.solid(number[pair.b])) for pair in pairs]
    history = _History(project, meshes, pairs, solids)
    rest, row = rest_poses(project), rows(project)
    contacts = []
    for k, (one, pair) in enumerate(zip(meant, pairs, strict=True)):
        first, second = solids[k]
        at_rest = inverse_rigid(rest[row[pair.b]]) @ rest[row[pair.a]]
        met = history.seen(k, np.array(one.times)) if one.times else np.empty((0, 4, 4))
        poses = [*([at_rest] if one.at_rest else []), *met]
        deep = max([0.0, *(interference_of(first, at, second, np.eye(4)).depth for at in poses)])
        tolerance = rounded_up(tolerance_of(project, *pair.shapes))
        limit = DepthLimit(first, second, rounded_up(deep + tolerance + deeper_by(project, pair.a, pair.b)))
        required = need[frozenset((pair.a, pair.b))]
        if one.always:
            spans: tuple[Span, ...] = ((-np.inf, np.inf),)
        else:
            parted = _parted(required)
            instants = [*one.times, *(history.from_rest(k, at_rest, tolerance, parted) if one.at_rest else ())]
            spans = history.spans(k, instants, parted)
        contacts.append((Contact(one.pair, one.reason, deep, limit.allowed, required, spans), limit))
    return tuple(contacts)


def nearness_of(
    project: Project, meshes: Mapping[str, Mesh], bodies: Bodies, asked: Asked, held: Collection[int]
) -> dict[int, Nearness]:
    """The bodies' pairs, by number, that stand nearer than required of all, but for those ``held`` as contacts. What a requirement of its own
    asks for is asked for in full, and of what is said not to be meant to be near."""
    wanted = (asked.need.tobytes(), asked.whose.tobytes(), tuple(sorted(held)))
    return _near.get((project,), lambda: _nearness(project, meshes, bodies, asked, held), tuple(bodies.ids), *wanted)


_near: Memo[dict[int, Nearness]] = Memo(6)


def _nearness(
    project: Project, meshes: Mapping[str, Mesh], bodies: Bodies, asked: Asked, held: Collection[int]
) -> dict[int, Nearness]:
    strict = {frozenset((c.a, c.b)) for c in project.contacts if not c.intended}
    names = bodies.pairs()
    free = (asked.whose == GENERAL) & np.array([frozenset(pair) not in strict for pair in names], bool)
    free[list(held)] = False
    distances = standing_at(project, bodies, np.where(free, asked.need, -np.inf))
    numbers = [int(k) for k in np.flatnonzero(np.isfinite(distances))]
    if not numbers:
        return {}
    pairs = [pairing(project, meshes, *names[k]) for k in numbers]
    solids = [(bodies.solid(int(bodies.first[k])), bodies.solid(int(bodies.second[k]))) for k in numbers]
    history = _History(project, meshes, pairs, solids)
    rest, row = rest_poses(project), rows(project)
    nearness = {}
    for n, k in enumerate(numbers):
        closer = min(NEARER, 0.5 * float(distances[k]))
        at_rest = inverse_rigid(rest[row[pairs[n].b]]) @ rest[row[pairs[n].a]]
        parted = _parted(float(asked.need[k]))
        spans = history.spans(n, history.from_rest(n, at_rest, closer, parted), parted)
        nearness[k] = Nearness(Pair(*names[k]), float(distances[k]) - closer, spans)
    return nearness


def _parted(required: float) -> float:
    """How far apart in mm a pair must be to have parted."""
    return max(required, 0.0) * 1.01 + PARTED


def rounded_up(value: float) -> float:
    """A length in mm up to two digits, so that the same meshes serve many pairs."""
    if value <= 0:
        return 0.0
    step = 10.0 ** (np.floor(np.log10(value)) - 1)
    return float(np.round(np.ceil(value / step - 1e-9) * step, 9))


class _History:
    """Pairs in motion, of which is asked how long they are in contact."""

    def __init__(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        pairs: Sequence[Pairing],
        solids: Sequence[tuple[Solid, Solid]],
    ) -> None:
        self.end = span(project)
        self.moving: Between = between(project, meshes, pairs)
        self.pairs, self._solids = pairs, solids
        self._group = {k: g for g, mine in enumerate(self.moving.groups.pairs) for k in mine}
        law = changes(self.moving.motion, self.end)[0]
        self.looks = np.unique([0.0, *law[:: max(len(law) // _MOST_CHANGES, 1)], self.end])
        self._looked: dict[int, Array] = {}
        self._stages: dict[tuple[int, float, float], tuple[Stage, dict[int, Array]]] = {}

    def seen(self, k: int, times: Array) -> Array:
        """The first body's poses (n, 4, 4) as the second sees them."""
        return self.moving.within(self.pairs[k], self.moving.seen(self._group[k], times))

    def from_rest(self, k: int, at_rest: Array, tolerance: float, limit: float) -> list[float]:
        """The times, of those at which a law changes, at which a pair stands to each other as at rest; and the start if it has not parted by
        a limit in mm by then, as of a mechanism that does not begin as it was drawn."""
        start = [0.0] if self._apart(k, self.seen(k, np.zeros(1))[0], limit) is not None else []
        return [*start, *self._as_at_rest(k, at_rest, tolerance)]

    def _as_at_rest(self, k: int, at_rest: Array, tolerance: float) -> list[float]:
        g = self._group[k]
        if g not in self._looked:
            self._looked[g] = self.moving.seen(g, self.looks)
        poses = self.moving.within(self.pairs[k], self._looked[g])
        corners = box_corners(self.pairs[k].shapes[0].bounds)
        off = np.linalg.norm(
            np.einsum("nij,cj->nci", (poses - at_rest)[:, :3, :3], corners) + (poses - at_rest)[:, None, :3, 3], axis=2
        )
        return [float(t) for t in self.looks[off.max(axis=1) <= tolerance]]

    def spans(self, k: int, instants: Iterable[float], limit: float) -> tuple[Span, ...]:
        """When a pair is in contact: about instants (s), until it has parted by more than a limit in mm."""
        spans: list[Span] = []
        for instant in sorted(instants):
            if not 0 <= instant <= self.end or (spans and instant <= spans[-1][1]):
                continue
            before = self._parts_from(k, instant, limit, -1) if instant > 0 else None
            after = self._parts_from(k, instant, limit, 1) if instant < self.end else None
            one = (-np.inf if before is None else before, np.inf if after is None else after)
            if spans and one[0] <= spans[-1][1]:
                one = (spans.pop()[0], one[1])
            spans.append(one)
        return tuple(spans)

    def _parts_from(self, k: int, instant: float, limit: float, sense: int) -> float | None:
        """When, going forwards or backwards in time from an instant, a pair has parted by a limit; None if it never does."""
        times = self.moving.times
        times = (
            times[(times > instant) & (times <= self.end)]
            if sense > 0
            else times[(times < instant) & (times >= 0)][::-1]
        )
        here = instant
        for first in range(0, len(times), _MOST_AT_ONCE):
            mine = np.concatenate([[here], times[first : first + _MOST_AT_ONCE]])
            parts = self._within_stage(k, mine, limit)
            if parts is not None:
                return parts
            here = float(mine[-1])
        return None

    def _within_stage(self, k: int, times: Array, limit: float) -> float | None:
        """The first of times (n,), in their order, at which a pair has parted by a limit, to a small part of a step."""
        pair, g = self.pairs[k], self._group[k]
        stage, poses = self._stage(g, np.sort(times))
        distances, sudden = stage.distances(pair), stage.sudden
        led = self.moving.within(pair, poses)
        if times[0] > times[-1]:
            distances, sudden, led = distances[::-1], sudden[::-1], led[::-1]
        far = np.concatenate([[0.0], np.cumsum(distances)])
        turning = self.moving.rounded(pair, led)
        unturned, error = far, np.inf
        if turning is not None:
            own = stage.distances(pair, turning)
            unturned = np.concatenate([[0.0], np.cumsum(own if times[0] <= times[-1] else own[::-1])])
            error = turning.error
        jumps = np.append(np.flatnonzero(sudden), len(times))
        n = 0
        while True:
            near = self._apart(k, led[n], limit)
            if near is None:
                low, high = (times[max(n - 1, 0)], times[n])
                return self._parting(k, float(low), float(high), limit)
            # nothing can have parted before it has gone so far, or jumps
            n_next = int(np.searchsorted(far, far[n] + limit - near, side="left"))
            if limit - near > error:
                n_next = max(n_next, int(np.searchsorted(unturned, unturned[n] + limit - near - error, side="left")))
            jump = int(jumps[np.searchsorted(jumps, n)]) + 1
            n_next = max(min(n_next, jump), n + 1)
            if n_next >= len(times):
                return None
            n = n_next

    def _apart(self, k: int, seen: Array, limit: float) -> float | None:
        """How far a pair is apart in mm at a pose (4, 4), 0 where one lies inside the other; none if it has parted by a limit."""
        near = distance_of(self.pairs[k], seen, limit)
        if near is not None:
            return near.distance
        first, second = self._solids[k]
        return 0.0 if nested(first, seen, second) else None

    def _stage(self, g: int, times: Array) -> tuple[Stage, Array]:
        """A stretch of time with the first leader's poses as the second sees them; the last ones are kept."""
        key = (len(times), float(times[0]), float(times[-1]))
        if key not in self._stages:
            while len(self._stages) >= _STAGES_KEPT:
                self._stages.pop(next(iter(self._stages)))
            self._stages[key] = (self.moving.stage(times), {})
        stage, known = self._stages[key]
        if g not in known:
            one, two = (stage.led[:, side[g]] for side in (self.moving.groups.one, self.moving.groups.two))
            known[g] = inverse_rigid(two) @ one
        return stage, known[g]

    def _parting(self, k: int, low: float, high: float, limit: float) -> float:
        """The first instant between two (in either order) at which a pair has parted by a limit, which it has at the second one."""
        for _ in range(_ROUNDS):
            times = np.linspace(low, high, _ZOOM + 1)
            poses = self.seen(k, times)
            apart = next(n for n in range(1, _ZOOM + 1) if n == _ZOOM or self._apart(k, poses[n], limit) is None)
            low, high = float(times[apart - 1]), float(times[apart])
        return high
