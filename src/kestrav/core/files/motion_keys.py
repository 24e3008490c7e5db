"""Which keys tell the motion of a node of a scene that is handed on: few, exact where it counts, and never ambiguous.

Times of glTF are single precision, so motion is worked out at such times alone, whatever it is written to. Frames, the instants at which laws change, and 120 instants a
second are samples always, and more where what goes evenly between two of them is off. Of the samples those are keys that are needed for the rest
to be within the tolerance, on frames within a hundredth of it. Two keys are never more than 120° apart, as then the shorter way
is the way that it turns (specification of glTF 2.0, appendix C.4). A jump is two keys with no time between them, or a step where
nothing else moves. Lengths in mm, times in s, angles in rad.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.document.records import FreeAim, Project
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.editing.timing import key_times
from kestrav.core.files.key_reduction import places_off, told_by, turns_off
from kestrav.core.kinematics.law_changes import changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import frame_times, span

Array = NDArray[np.float64]
Where = Callable[[Array], Array]
"""Matrices (n, 4, 4) of a node at times (n,), against the node above it."""

RATE = 120.0  # samples a second at least
FRAMES = 0.01  # share of the tolerance that holds on frames
MOST_TURN = np.radians(115.0)  # between two keys
TURN_OFF = np.radians(0.04)  # that a node may be turned off between keys, however small it is
_FRAME_SHARE = 0.0125  # of that, on frames
_FINEST_TURN = 3e-7  # rad, of a quaternion in single precision
_SHARES = (0.31, 0.5, 0.77)  # where it is looked how far an even way is off
_ENOUGH = 0.25  # of the tolerance, that what is between the samples may be off
_ROUNDS, _MOST_SAMPLES = 12, 100_000
_MOST_PARTS = 24  # of a step, for turns of up to 23,000 a minute
_INSTANT = 1e-9  # s


class Samples(msgspec.Struct, frozen=True, eq=False):
    """Times (n,) that single precision can tell, and those at which motion is worked out for them, which is the very instant of a jump;
    which are frames, and after which of them something may jump: no time lies between that one and the next."""

    times: Array
    moments: Array
    frames: NDArray[np.bool_]
    jumps: NDArray[np.bool_]


class Keys(msgspec.Struct, frozen=True, eq=False):
    """Numbers of the samples that are keys of a place or a turn, at times (k,) with values (k, 3 or 4), and how to go between them."""

    times: Array
    values: Array
    step: bool


def samples(project: Project, frames: Array | None = None) -> Samples:
    """The samples of a project's motion, at frames (n,) or at those of the project and its shots."""
    end = span(project)
    if frames is None:
        every = [frame_times(project)]
        every += [np.array([frame_time(s, k) for k in range(frame_count(s))]) for s in project.shots]
        frames = np.concatenate(every)
    law, sudden = changes(Motion(project), end)
    keys = [np.array(key_times(camera)) for camera in project.cameras if key_times(camera)]
    keys += [np.array([k.time for k in c.aim.keys]) for c in project.cameras if isinstance(c.aim, FreeAim)]
    last = float(frames.max(initial=0.0))
    even = np.arange(int(np.ceil(last * RATE)) + 1) / RATE if len(frames) > 1 or last > 0 else np.zeros(1)
    law = np.concatenate([law, *keys]) if len(frames) > 1 else np.empty(0)
    shown = single(frames)
    times = np.concatenate([shown, single(even[even <= last]), single(law[law <= last])])
    sudden = sudden[(sudden > 0) & (sudden <= last)] if len(frames) > 1 else np.empty(0)
    after = floor_single(sudden)
    before = np.nextafter(after.astype(np.float32), np.float32(-np.inf)).astype(float)
    beyond = np.nextafter(after.astype(np.float32), np.float32(np.inf)).astype(float)
    times = np.unique(np.concatenate([times, after, before, beyond[beyond <= last]]))
    jumps = np.isin(times, before) | np.isin(times, after)
    jumps[-1] = False
    moments = times.copy()
    moments[np.searchsorted(times, after)] = sudden
    return Samples(times, moments, np.isin(times, shown), jumps)


def single(times: Array) -> Array:
    """Times (n,) rounded to single precision."""
    return times.astype(np.float32).astype(float)


def floor_single(times: Array) -> Array:
    """The last times (n,) of single precision that are not after times (n,)."""
    near = times.astype(np.float32)
    return np.where(near.astype(float) > times, np.nextafter(near, np.float32(-np.inf)), near).astype(float)


def finer(
    samples: Samples, where: Where, reach: float, tolerance: float, turned: Array, turn_off: float = TURN_OFF
) -> tuple[Samples, Array]:
    """The samples that a node needs, and its matrices there (n, 4, 4).

    ``reach`` in mm is how far anything of it is from its origin, ``turned`` (n - 1,) by how much it turns at most between samples.
    ``tolerance`` in mm and ``turn_off`` in rad is what it may be off.
    """
    parts = np.clip(np.ceil(turned / (0.5 * MOST_TURN)), 1, _MOST_PARTS).astype(int)
    parts[samples.jumps[:-1]] = 1
    times, moments = samples.times, samples.moments
    if (parts > 1).any():
        inner = [np.linspace(a, b, n + 1)[1:-1] for a, b, n in zip(times[:-1], times[1:], parts, strict=True) if n > 1]
        fresh = np.setdiff1d(single(np.concatenate(inner)), times)
        order = np.argsort(np.concatenate([times, fresh]), kind="stable")
        times, moments = np.concatenate([times, fresh])[order], np.concatenate([moments, fresh])[order]
    poses = where(moments)
    open_ = np.ones(max(len(times) - 1, 0), bool)
    for _ in range(_ROUNDS):
        gaps = np.diff(times)
        still = open_ & (gaps > 64 * np.spacing(times[1:].astype(np.float32)).astype(float))
        if not still.any() or len(times) > _MOST_SAMPLES:
            break
        k = np.flatnonzero(still)
        off = np.zeros(len(k))
        looked = []
        for share in _SHARES:
            at = single(times[k] + share * gaps[k])
            looked.append((at, where(at)))
            share_of_it = (at - times[k]) / gaps[k]
            off = np.maximum(off, _off(poses[k], poses[k + 1], looked[-1][1], share_of_it, reach, tolerance, turn_off))
        bad = off > _ENOUGH
        if not bad.any():
            break
        middle, there = looked[1]
        order = np.argsort(np.concatenate([times, middle[bad]]), kind="stable")
        fresh = np.concatenate([np.zeros(len(times), bool), np.ones(int(bad.sum()), bool)])[order]
        times, moments = np.concatenate([times, middle[bad]])[order], np.concatenate([moments, middle[bad]])[order]
        poses = np.concatenate([poses, there[bad]])[order]
        # both halves of what was parted are looked at again
        open_ = np.logical_or(fresh[1:], fresh[:-1])
    known = np.isin(times, samples.times[samples.frames])
    jumps = np.isin(times, samples.times[samples.jumps])
    return Samples(times, moments, known, jumps), poses


def _off(
    first: Array, last: Array, there: Array, share: Array, reach: float, tolerance: float, turn_off: float
) -> Array:
    """How far (m,) anything of a node is from where it would be going evenly from one pose (m, 4, 4) to another, as shares of what it may be
    off."""
    place = first[:, :3, 3] + share[:, None] * (last[:, :3, 3] - first[:, :3, 3])
    start = scipy.spatial.transform.Rotation.from_matrix(first[:, :3, :3])
    step = (start.inv() * scipy.spatial.transform.Rotation.from_matrix(last[:, :3, :3])).as_rotvec()
    turn = start * scipy.spatial.transform.Rotation.from_rotvec(share[:, None] * step)
    angle = (turn.inv() * scipy.spatial.transform.Rotation.from_matrix(there[:, :3, :3])).magnitude()
    far = np.linalg.norm(place - there[:, :3, 3], axis=1) + angle * reach
    return np.asarray(np.maximum(far / tolerance, angle / turn_off))


def place_keys(samples: Samples, places: Array, tolerance: float) -> Keys:
    """The keys of places (n, 3) in mm."""
    if _steps(samples, places):
        return _stepping(samples, places)
    share = np.where(samples.frames, FRAMES, 1.0) * tolerance
    kept = told_by(len(places), places_off(samples.times, places, share), 1.0)
    return Keys(samples.times[kept], places[kept], False)


def turn_keys(samples: Samples, quaternions: Array, tolerance: float, reach: float, turn_off: float = TURN_OFF) -> Keys:
    """The keys of turns (n, 4), by which nothing within a reach in mm is off by more than a tolerance in mm, nor it all by more than
    ``turn_off`` in rad."""
    if _steps(samples, quaternions):
        return _stepping(samples, quaternions)
    most = min(tolerance / max(reach, 1.0), turn_off)
    least = max(min(FRAMES * tolerance / max(reach, 1.0), _FRAME_SHARE * turn_off), _FINEST_TURN)
    share = np.where(samples.frames, least, max(most, least))
    kept = told_by(len(quaternions), turns_off(samples.times, quaternions, share, MOST_TURN), 1.0)
    return Keys(samples.times[kept], quaternions[kept], False)


def _steps(samples: Samples, values: Array) -> bool:
    """Whether values (n, d) change by jumps alone."""
    same = np.abs(np.diff(values, axis=0)).max(axis=1, initial=0.0) < 1e-12
    return bool((same | samples.jumps[:-1]).all() and not same.all())


def _stepping(samples: Samples, values: Array) -> Keys:
    changed = np.flatnonzero(np.abs(np.diff(values, axis=0)).max(axis=1) >= 1e-12) + 1
    kept = np.concatenate([[0], changed])
    return Keys(samples.times[kept], values[kept], True)


def depths(parents: Sequence[int | None], moving: Sequence[bool]) -> list[int]:
    """Of each node how many nodes that move lie on the longest way through it from the top to the bottom: its tolerance is shared so."""
    above = [0] * len(parents)
    below = [int(m) for m in moving]
    for k, parent in enumerate(parents):
        here: int | None = parent
        while here is not None:
            above[k] += int(moving[here])
            here = parents[here]
    for k in range(len(parents)):
        here, count = parents[k], below[k]
        while here is not None:
            count += int(moving[here])
            below[here] = max(below[here], count)
            here = parents[here]
    return [max(a + b, 1) for a, b in zip(above, below, strict=True)]
