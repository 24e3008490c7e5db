"""A certificate that a clearance holds for the whole continuous motion, or where that could not be shown.

Between two instants at which a pair is d0 and d1 apart, and within which nothing of the one goes farther than w to the other,
it is (d0 + d1 - w) / 2 apart at least: it comes nearer by no more than it goes, from whichever end. Where that is not enough the time
is halved. How far anything goes at most is told by :mod:`kestrav.core.kinematics.displacement`, by construction and not by chords; where
something jumps, all is as before or as after it. Lengths in mm, times in s.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from typing import Literal

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
)
from kestrav.core.clearance.bodies import Pair
from kestrav.core.clearance.contact_course import contact_course
from kestrav.core.clearance.contact_history import Contact, rest_of
from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.interference import interference_of
from kestrav.core.clearance.sweep import prepared, sweep
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.law_changes import changes
from kestrav.core.kinematics.runs import span
from kestrav.core.progress import Progress

Array = NDArray[np.float64]

STEPS = (
    1e-4,
    2e-6,
)  # s into which a step is divided where it must be, one after the other; below, time is not halved any more
_HOPE = 0.01  # of the way in a fine step by which both ends must be farther apart than required for a finer one to tell
_OFTEN = 64  # distances measured between two tellings of progress
_LOOKS = 64  # at the least distance of a breach, in each round
_ROUNDS, _MOST_LOOKS = 24, 1000
_NEARLY = 1e-3  # mm to which it is told
_UNCLEAR = 0.05  # mm by which the bounds may leave it open
_EVEN_LOOKS, _VALLEYS, _ZOOMS = (
    2000,
    4,
    6,
)  # where the bounds tell too little: all along a breach, and then about the nearest
_FARTHEST = 1e6  # mm
_MOST_OF_A_PAIR = 30_000  # distances of one pair, after which what is left of it is looked at coarsely, and told where that does not show it
_VAGUE = 4.0  # times as much as of the whole step that its parts may come to
_DEPTHS = 17  # along a stretch in which a pair overlaps
_CLOSE = 1e-6  # mm by which a distance may fall short of what is required, as measured

Status = Literal["certified", "breached", "not shown"]


class Stretch(msgspec.Struct, frozen=True):
    """A pair over a span of time: nearer than required (``breached``), or not shown to be far enough; the least distance met in it in
    mm and when, and what is required of the pair."""

    pair: Pair
    start: float
    end: float
    status: Status
    least: float
    time: float
    required: float


class Certificate(msgspec.Struct, frozen=True):
    """What holds from ``since`` to ``until`` s: everything is at least ``at_least`` mm apart, but for the stretches told; ``pairs`` were
    looked at, ``measured`` times. ``required`` in mm is the project's; some pairs stand ``nearer`` than that, and are held to how they
    stand. ``contacts`` are the pairs in contact, with how far they are apart at least when they have parted."""

    required: float
    since: float
    until: float
    at_least: float
    stretches: tuple[Stretch, ...]
    pairs: int
    measured: int
    contacts: tuple[Contact, ...] = ()
    nearer: int = 0

    @property
    def contacts_within(self) -> float:
        """By how much in mm contacts are shown to be deeper than they may be at most, but for those told as breaches; 0 for none."""
        return max((np.inf if c.shown is None else c.shown - c.allowed for c in self.contacts), default=0.0)

    @property
    def status(self) -> Status:
        """What the whole of it comes to."""
        kinds = {stretch.status for stretch in self.stretches}
        return "breached" if "breached" in kinds else "not shown" if kinds else "certified"


class _Proof(msgspec.Struct, eq=False):
    """Bookkeeping of one proof."""

    going: Between | None
    at_least: float
    progress: Progress | None = None
    share: float = 0.0
    measured: int = 0
    stretches: list[Stretch] = msgspec.field(default_factory=list)
    of_pairs: dict[tuple[str, str], int] = msgspec.field(default_factory=dict)

    @property
    def moving(self) -> Between:
        """The pairs in motion; only to be asked for where there are some."""
        assert self.going is not None
        return self.going

    def tell(self) -> None:
        """Tell how far it is; whoever is told may stop the work."""
        if self.progress is not None:
            self.progress(self.share)


def certify(
    project: Project,
    meshes: Mapping[str, Mesh],
    progress: Progress | None = None,
    over: tuple[float, float] | None = None,
    only: Collection[str] | None = None,
    allowed: Mapping[frozenset[str], float] | None = None,
) -> Certificate:
    """The certificate of the clearance that is required of a project, over a span of its time (all of it).

    Of all that moves, or ``only`` of some parts, against all it does not move with, but for what is not asked for. Pairs in contact are not to get deeper
    than they may, and to keep their clearance when they have parted.
    ``allowed`` tells for pairs by how much in mm they need be apart at least instead. ``progress`` is told shares and may raise to stop
    the work.
    """
    begin, end = over if over is not None else (0.0, span(project))
    ready, allowed = prepared(project, meshes, only), allowed or {}
    pairs, names = list[Pairing](), ready.bodies.pairs()
    for k, ((a, b), need) in enumerate(zip(names, ready.asked.need, strict=True)):
        pair = pairing(project, meshes, a, b, allowed.get(frozenset((a, b)), float(need)))
        if k in ready.held and frozenset((a, b)) not in allowed:
            pair.spans = rest_of(ready.held[k][0].spans)
        near = ready.near.get(k) if frozenset((a, b)) not in allowed else None
        if near is not None:
            pair.spans = rest_of(near.spans)
            close = pairing(project, meshes, a, b, near.keeps)
            close.spans = near.spans
            pairs.append(close)
        if pair.spans is None or pair.spans:
            pairs.append(pair)
    general = project.settings.required_clearance
    if not names:
        return Certificate(general, begin, end, np.inf, (), 0, 0)
    borders = [t for contact in ready.contacts for t in contact.borders]
    borders += [t for near in ready.near.values() for ends in near.spans for t in ends if np.isfinite(t)]
    proof = _Proof(between(project, meshes, pairs, borders) if pairs else None, np.inf, progress)
    if pairs:
        _prove_all(proof, (begin, end), cut=over is not None)
    if progress is not None:
        progress(1.0)
    proof.stretches += [
        stretch
        for stretch in _inside(project, meshes, begin, end, only)
        if stretch.least < allowed.get(frozenset((stretch.pair.moving, stretch.pair.other)), stretch.required)
    ]
    proof.share = 1.0
    stretches = [_sharpened(proof, stretch) for stretch in _joined(proof.stretches)]
    held = [one for k, one in ready.held.items() if frozenset(names[k]) not in allowed]
    course = contact_course(project, meshes, held, (begin, end), proof.tell)
    stretches += [Stretch(d.pair, d.start, d.end, "breached", -d.depth, d.time, -d.allowed) for d in course.deeper]
    stretches.sort(key=lambda s: (s.status != "breached", s.least - s.required, s.start))
    touching = {frozenset(names[k]) for k in ready.held}
    numbers = {(pair.a, pair.b): k for k, pair in enumerate(pairs) if frozenset((pair.a, pair.b)) in touching}
    contacts = tuple(_with_least(proof, numbers, contact, begin, end) for contact in course.contacts)
    measured = proof.measured + course.measured
    nearer = sum(frozenset((n.pair.moving, n.pair.other)) not in allowed for n in ready.near.values())
    return Certificate(general, begin, end, proof.at_least, tuple(stretches), len(names), measured, contacts, nearer)


def _prove_all(proof: _Proof, over: tuple[float, float], *, cut: bool) -> None:
    """Show for all pairs that they are far enough apart, or keep where that cannot be shown; ``cut`` tells whether a part of the time is
    asked for."""
    moving = proof.moving
    most = np.array([max(moving.pairs[k].need for k in mine) for mine in moving.groups.pairs])
    for window in moving.windows(over[1], over[0] if cut else None):
        proof.share = window.share
        proof.tell()
        apart = moving.gaps(window)
        far = apart > most
        proof.at_least = min(proof.at_least, float(apart[far].min(initial=np.inf)))
        for g in np.flatnonzero(~far.all(axis=0)):
            _window(proof, int(g), window)


def _with_least(
    proof: _Proof, numbers: Mapping[tuple[str, str], int], contact: Contact, begin: float, end: float
) -> Contact:
    """A contact with how far its pair is apart at least, to a hundredth of a mm, when it has parted; ``numbers`` are those of the pairs."""
    k = numbers.get((contact.pair.moving, contact.pair.other))
    if proof.going is None or k is None:
        return contact
    moving, least = proof.going, np.inf
    pair, g = moving.pairs[k], next(g for g, of in enumerate(moving.groups.pairs) if k in of)
    for window in moving.windows(end, begin):
        steps = np.flatnonzero(pair.looked_at(window.times))
        if not len(steps):
            continue
        one, two = moving.led(g, window)
        seen = moving.within(pair, inverse_rigid(two) @ one)
        distances = window.distances(pair)
        # a row of steps each by itself, as of what lies between them, or of a jump, no way is told
        cuts = (
            (np.diff(steps) > 1)
            | window.stage.sudden[window.steps][steps[1:]]
            | window.stage.sudden[window.steps][steps[:-1]]
        )
        for row in np.split(steps, np.flatnonzero(cuts) + 1):
            far = np.concatenate([[0.0], np.cumsum(distances[row])])
            least = min(least, _least_along(proof, pair, seen[row[0] : row[-1] + 2], far, least))
    return msgspec.structs.replace(contact, least=least if np.isfinite(least) else None)


def _least_along(proof: _Proof, pair: Pairing, seen: Array, far: Array, least: float) -> float:
    """How far a pair is apart at least at poses (n, 4, 4), between which it goes on by no more than ``far`` (n,) tells, or the least of
    before if that is less."""
    n = 0
    while n < len(seen):
        proof.measured += 1
        # nothing nearer than the least so far before it has gone as far as it is farther away
        away = distance_of(pair, seen[n], least + float(far[-1] - far[n]) + 1.0)
        if away is None:
            break
        n = n + 1 if away.distance < least else max(int(np.searchsorted(far, far[n] + away.distance - least)), n + 1)
        least = min(least, away.distance)
    return least


def _inside(
    project: Project, meshes: Mapping[str, Mesh], begin: float, end: float, only: Collection[str] | None
) -> list[Stretch]:
    """Pairs of which one lies wholly inside the other from the start: their surfaces may be far apart, and they are not free for that.

    What gets in later crosses the surface, and so is found by that.
    """
    start = sweep(project, meshes, np.array([begin]), only=only)
    return [
        Stretch(breach.pair, begin, end, "breached", breach.distance, begin, breach.required)
        for breach in start.breaches
        if breach.distance < 0 <= breach.required and np.linalg.norm(breach.points[0] - breach.points[1]) > _CLOSE
    ]


def _window(proof: _Proof, g: int, window: Window) -> None:
    """Look through a window for the pairs between two groups."""
    moving = proof.moving
    apart = moving.body_clearances(g, window)
    pairs = [moving.pairs[k] for k in moving.groups.pairs[g]]
    far = apart > np.array([pair.need for pair in pairs])
    proof.at_least = min(proof.at_least, float(apart[far].min(initial=np.inf)))
    far |= ~np.stack([pair.looked_at(window.times) for pair in pairs], axis=1)
    one, two = moving.led(g, window)
    seen = inverse_rigid(two) @ one
    for k in np.flatnonzero(~far.all(axis=0)):
        pair = pairs[k]
        own = moving.within(pair, seen)
        turning = moving.rounded(pair, own)
        steps = _Steps(window.times, own, window.distances(pair), window.stage.sudden[window.steps])
        if turning is not None:
            steps.turning(window.distances(pair, turning), turning.error)
        near = np.flatnonzero(~far[:, k])
        # steps in a row are looked at together
        for mine in np.split(near, np.flatnonzero(np.diff(near) > 1) + 1):
            _prove(proof, g, pair, steps, int(mine[0]), int(mine[-1]) + 1, {})


class _Steps:
    """A pair in time: times (n,), the first body's poses there (n, 4, 4) as the second sees them, how far they go to each other at most
    between them (n - 1,), and in which steps something may jump."""

    def __init__(self, times: Array, seen: Array, distances: Array, sudden: NDArray[np.bool_]) -> None:
        self.times, self.seen, self.distances, self.sudden = times, seen, distances, sudden
        self.travelled = np.concatenate([[0.0], np.cumsum(distances)])
        self.jumps = np.concatenate([[0], np.cumsum(sudden)])
        self.unturned, self.error = self.travelled, np.inf

    def turning(self, distances: Array, error: float) -> None:
        """They turn about what is round: how far (n - 1,) they go at most but for that, which changes their distance by no more than an
        error in mm in all."""
        self.unturned, self.error = np.concatenate([[0.0], np.cumsum(distances)]), error

    def least(self, a: int, b: int, ends: list[float]) -> float:
        """How far apart they are at least from one time to another, at which they are as told; over a jump only in a step of its own."""
        if self.jumps[b] > self.jumps[a]:
            return min(ends) if b - a == 1 else -np.inf
        plain = 0.5 * (sum(ends) - float(self.travelled[b] - self.travelled[a]))
        return max(plain, 0.5 * (sum(ends) - float(self.unturned[b] - self.unturned[a])) - self.error)

    def parted(self, a: int, b: int) -> int:
        """The time between two at which to look next: the middle, or beside a jump."""
        sudden = np.flatnonzero(self.sudden[a:b])
        if not len(sudden):
            return (a + b) // 2
        jump = a + int(sudden[len(sudden) // 2])
        return jump if jump > a else jump + 1


def _away(proof: _Proof, pair: Pairing, seen: Array, k: int, known: dict[int, float], enough: float) -> float:
    """How far a pair is apart at one of its poses, or ``enough`` if it is farther: no more is needed for the whole stretch."""
    if k not in known:
        proof.measured += 1
        proof.of_pairs[pair.a, pair.b] = proof.of_pairs.get((pair.a, pair.b), 0) + 1
        if proof.measured % _OFTEN == 0:
            proof.tell()
        distance = distance_of(pair, seen[k], enough)
        known[k] = enough if distance is None else distance.distance
    return known[k]


def _prove(
    proof: _Proof,
    g: int,
    pair: Pairing,
    steps: _Steps,
    first: int,
    last: int,
    known: dict[int, float],
    depth: int = 0,
) -> None:
    """Show that a pair is far enough apart from one of the times to another, or keep where that cannot be shown."""
    waiting = [(first, last)]
    enough = pair.need + min(float(steps.travelled[last] - steps.travelled[first]), _FARTHEST) + 1.0
    while waiting:
        a, b = waiting.pop()
        ends = [_away(proof, pair, steps.seen, k, known, enough) for k in (a, b)]
        least = steps.least(a, b, ends)
        if least >= pair.need - _CLOSE:
            proof.at_least = min(proof.at_least, least)
            continue
        if proof.of_pairs[pair.a, pair.b] > _MOST_OF_A_PAIR:
            _keep(proof, pair, steps.times, known, a, b)
        elif b - a > 1:
            middle = steps.parted(a, b)
            waiting += [(middle, b), (a, middle)]
        elif max(ends) < pair.need - _CLOSE or steps.sudden[a]:
            # too near at both ends of a step: nothing finer need be known
            _keep(proof, pair, steps.times, known, a, b)
        elif depth < len(STEPS) and (depth == 0 or min(ends) - pair.need > _HOPE * float(steps.distances[a])):
            fine, led, moves = proof.moving.fine(g, float(steps.times[a]), float(steps.times[b]), STEPS[depth])
            own = proof.moving.within(pair, led)
            distances = moves.between(pair.a, pair.corners[0], pair.b, pair.corners[1])
            if float(distances.sum()) > _VAGUE * float(steps.distances[a]) + 1.0:
                # where a bound does not shrink with the step no finer one tells more
                _keep(proof, pair, steps.times, known, a, b)
                continue
            proven = {0: known[a], len(fine) - 1: known[b]}
            finer = _Steps(fine, own, distances, moves.sudden)
            turning = proof.moving.rounded(pair, own)
            if turning is not None:
                finer.turning(moves.between(pair.a, turning.corners[0], pair.b, turning.corners[1]), turning.error)
            _prove(proof, g, pair, finer, 0, len(fine) - 1, proven, depth + 1)
        else:
            _keep(proof, pair, steps.times, known, a, b)


def _keep(proof: _Proof, pair: Pairing, times: Array, known: dict[int, float], a: int, b: int) -> None:
    k = a if known[a] <= known[b] else b
    breached = known[k] < pair.need - _CLOSE
    status: Status = "breached" if breached else "not shown"
    proof.stretches.append(
        Stretch(Pair(pair.a, pair.b), float(times[a]), float(times[b]), status, known[k], float(times[k]), pair.need)
    )


def _sharpened(proof: _Proof, stretch: Stretch) -> Stretch:
    """A stretch with its least distance to a thousandth of a mm, or as near as even looks tell; where they overlap, it is how deep
    they do at the most. What could not be shown is a breach where one is seen so.

    It is looked for where the bounds let it be, as within a step that is too near at both ends nothing was looked at; where they
    never tell enough, as where a heading swings round at once, it is looked for all along.
    """
    moving = proof.moving
    if stretch.least < 0:
        return stretch
    k = next(
        k
        for k, p in enumerate(moving.pairs)
        if (p.a, p.b, p.need) == (stretch.pair.moving, stretch.pair.other, stretch.required)
    )
    g = next(g for g, mine in enumerate(moving.groups.pairs) if k in mine)
    pair = moving.pairs[k]
    inner = moving.times[(moving.times > stretch.start) & (moving.times < stretch.end)]
    times = np.unique([stretch.start, *inner[:: max(len(inner) // _LOOKS, 1)], stretch.time, stretch.end])
    if len(inner):
        # every jump and reversal is among the times that are left
        law = changes(moving.motion, float(moving.times[-1]))[0]
        times = np.unique([*times, *law[(law > stretch.start) & (law < stretch.end)][:_LOOKS]])
    known: dict[float, float] = {}

    def look(times: Array) -> float:
        """Measure them at times, and tell the least so far."""
        fresh = np.array([t for t in times if t not in known])
        for time, at in zip(fresh, moving.within(pair, moving.seen(g, fresh)), strict=True):
            near = distance_of(pair, at)
            known[float(time)] = np.inf if near is None else near.distance
        proof.measured += len(fresh)
        proof.tell()
        return min(known.values())

    for _ in range(_ROUNDS):
        best = look(times)
        if best <= 0:
            return _deepest(proof, msgspec.structs.replace(stretch, status="breached"), pair, g)
        least = np.array([known[t] for t in times])
        moves = Displacement(moving.motion, times)
        distances = moves.between(pair.a, pair.corners[0], pair.b, pair.corners[1])
        below = np.where(moves.sudden, np.minimum(least[:-1], least[1:]), 0.5 * (least[:-1] + least[1:] - distances))
        open_ = np.flatnonzero((below < best - _NEARLY) & (np.diff(times) > 1e-9))
        if not len(open_) or len(known) > _MOST_LOOKS:
            break
        open_ = open_[np.argsort(below[open_])][:_LOOKS]
        times = np.unique(np.concatenate([times, 0.5 * (times[open_] + times[open_ + 1])]))
    if float(below.min()) < best - _UNCLEAR and _looked_all_along(look, known, stretch) <= 0:
        return _deepest(proof, msgspec.structs.replace(stretch, status="breached"), pair, g)
    time = min(known, key=lambda t: known[t])
    if known[time] >= stretch.least:
        return stretch
    status: Status = "breached" if known[time] < pair.need - _CLOSE else stretch.status
    return msgspec.structs.replace(stretch, least=known[time], time=time, status=status)


def _looked_all_along(look: Callable[[Array], float], known: dict[float, float], stretch: Stretch) -> float:
    """The least distance seen at even looks all along a stretch, and then ever closer about where they are nearest."""
    even = np.linspace(stretch.start, stretch.end, _EVEN_LOOKS)
    look(even)
    times = np.array(sorted(known))
    distances = np.array([known[t] for t in times])
    padded = np.concatenate([[np.inf], distances, [np.inf]])
    valleys = np.flatnonzero((distances <= padded[:-2]) & (distances <= padded[2:]))
    for k in valleys[np.argsort(distances[valleys])][:_VALLEYS]:
        low, high = times[max(k - 1, 0)], times[min(k + 1, len(times) - 1)]
        for _ in range(_ZOOMS):
            closer = np.linspace(low, high, _DEPTHS)
            look(closer)
            nearest = int(np.argmin([known[t] for t in closer]))
            low, high = closer[max(nearest - 1, 0)], closer[min(nearest + 1, _DEPTHS - 1)]
    return min(known.values())


def _deepest(proof: _Proof, stretch: Stretch, pair: Pairing, g: int) -> Stretch:
    """A stretch in which a pair overlaps, with how deep and when it is deepest."""
    moving = proof.moving
    one, two = (Solid(shape, model, shape.watertight) for shape, model in zip(pair.shapes, pair.models, strict=True))
    low, high, deepest = stretch.start, stretch.end, (0.0, stretch.time)
    law = changes(moving.motion, float(moving.times[-1]))[0]
    for _ in range(_ZOOMS):  # all along, and then about the deepest
        turns = law[(law > low) & (law < high)][:_DEPTHS]
        times = np.unique([*np.linspace(low, high, _DEPTHS), *turns])
        for time, at in zip(times, moving.within(pair, moving.seen(g, times)), strict=True):
            proof.tell()
            deepest = max(deepest, (interference_of(one, at, two, np.eye(4)).depth, float(time)))
        step = (high - low) / (_DEPTHS - 1)
        low, high = max(deepest[1] - step, stretch.start), min(deepest[1] + step, stretch.end)
    return msgspec.structs.replace(stretch, least=-deepest[0], time=deepest[1])


def _joined(stretches: list[Stretch]) -> list[Stretch]:
    """Stretches of one pair that follow each other as one; what is not shown beside a breach is part of it."""
    by_pair: dict[tuple[Pair, float], list[Stretch]] = {}
    for stretch in stretches:
        by_pair.setdefault((stretch.pair, stretch.required), []).append(stretch)
    joined = []
    for (pair, _), mine in by_pair.items():
        mine.sort(key=lambda s: s.start)
        run = [mine[0]]
        for stretch in mine[1:]:
            if stretch.start - max(s.end for s in run) <= 2 * STEPS[0]:
                run.append(stretch)
            else:
                joined.append(_one(pair, run))
                run = [stretch]
        joined.append(_one(pair, run))
    return joined


def _one(pair: Pair, run: list[Stretch]) -> Stretch:
    worst = min(run, key=lambda s: s.least)
    status: Status = "breached" if any(s.status == "breached" for s in run) else "not shown"
    return Stretch(pair, run[0].start, max(s.end for s in run), status, worst.least, worst.time, worst.required)
