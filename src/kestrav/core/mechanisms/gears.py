"""Gears, racks, sprockets and pulleys: how one end turns by the other, and how their teeth stand. Lengths in mm, angles in rad.

Gears have the module m = d / z (ISO 54), so the pitch radius m · z / 2; sprockets the pitch radius p / (2 · sin(π / z))
(ISO 606); toothed pulleys p · z / 2π.
"""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.records import Axle, End, Gear
from kestrav.core.mechanisms.linkage import unit

Array = NDArray[np.float64]

# mm; the first and second choice of ISO 54 between 0.5 and 50, from memory
MODULES = (
    0.5, 0.6, 0.8, 1.0, 1.25, 1.5, 2.0, 2.5, 3.0, 4.0, 5.0, 6.0, 8.0, 10.0, 12.0, 16.0, 20.0, 25.0, 32.0, 40.0, 50.0,
    0.55, 0.7, 0.9, 1.125, 1.375, 1.75, 2.25, 2.75, 3.5, 4.5, 5.5, 7.0, 9.0, 11.0, 14.0, 18.0, 22.0, 28.0, 36.0, 45.0,
)  # fmt: skip
# mm; the simplex chains 04B to 32B of ISO 606, from memory
CHAIN_PITCHES = (6.0, 8.0, 9.525, 12.7, 15.875, 19.05, 25.4, 31.75, 38.1, 44.45, 50.8)


def pitch_radius(gear: Gear, end: End) -> float:
    """The radius in mm at which an end's teeth, chain or belt go; 0 of a rack."""
    if gear.kind == "rack" and end is gear.b:
        return 0.0
    if gear.kind == "chain":
        return float(gear.pitch / (2 * np.sin(np.pi / end.teeth)))
    if gear.kind == "belt":
        return gear.pitch * end.teeth / (2 * np.pi) if toothed(gear) else end.radius
    return 0.5 * gear.pitch * end.teeth


def toothed(gear: Gear) -> bool:
    """Whether the ends of a drive have teeth; smooth pulleys have none."""
    return gear.kind != "belt" or (gear.a.teeth > 0 and gear.b.teeth > 0)


def ratio(gear: Gear) -> float:
    """By how much more the second end turns than the first, without sense; of a rack mm for each rad."""
    if gear.kind == "rack":
        return pitch_radius(gear, gear.a)
    if toothed(gear):
        return gear.a.teeth / gear.b.teeth
    return gear.a.radius / gear.b.radius


def given_ratio(gear: Gear) -> str:
    """The ratio in words: turns of the first end for one of the second, or the way of a rack for each turn."""
    share = ratio(gear)
    if gear.kind == "rack":
        return f"{2 * np.pi * share:,.2f}\u2009mm a turn"
    return f"{1 / share:.4g} to 1"


def right_distance(gear: Gear) -> float | None:
    """How far apart in mm axles must be: that of gears without clearance or correction; of a rack that of its pitch line. None
    for chains and belts, which reach as far as they are long."""
    one, two = pitch_radius(gear, gear.a), pitch_radius(gear, gear.b)
    return {"external": one + two, "internal": abs(one - two), "rack": one}.get(gear.kind)


def across(direction: ArrayLike) -> Array:
    """The first direction (3,) across an axle's, from which angles about it are told: the axis least along it, made square."""
    axis = unit(direction)
    reference = np.eye(3)[int(np.argmin(np.abs(axis)))]
    return unit(reference - (reference @ axis) * axis)


def angles_about(axle: Axle, vectors: ArrayLike) -> Array:
    """Angles (...,) about an axle of vectors (..., 3), both in a part's own coordinates."""
    axis, x = unit(axle.direction), across(axle.direction)
    vectors = np.asarray(vectors, float)
    return np.asarray(np.arctan2(vectors @ np.cross(axis, x), vectors @ x))


class Stand(msgspec.Struct, frozen=True, eq=False):
    """How both ends of a drive stand to each other, at poses (n,): ``a`` the direction in rad in which the first end meets the
    second, in its own axes; ``b`` likewise, of a rack the mm along its line at which it meets the gear; ``sense`` (+1 or -1)
    that of the second end's turning to a turning of the first; ``apart`` the mm between axles, and ``strand`` the free length of
    chain."""

    a: Array
    b: Array
    sense: float
    apart: Array
    strand: Array


def stand(gear: Gear, first: Array, second: Array) -> Stand:
    """How both ends stand to each other, from the poses (n, 4, 4) of each not turned about its axle."""
    centre_a = first[:, :3, :3] @ np.array(gear.a.axle.origin) + first[:, :3, 3]
    centre_b = second[:, :3, :3] @ np.array(gear.b.axle.origin) + second[:, :3, 3]
    axis_a = first[:, :3, :3] @ unit(gear.a.axle.direction)
    axis_b = second[:, :3, :3] @ unit(gear.b.axle.direction)
    offset = centre_b - centre_a
    if gear.kind == "rack":
        offset = offset - np.einsum("ni,ni->n", offset, axis_b)[:, None] * axis_b
        offset = offset - np.einsum("ni,ni->n", offset, axis_a)[:, None] * axis_a
        apart = np.linalg.norm(offset, axis=1)
        along = np.einsum("ni,ni->n", centre_a - centre_b, axis_b)
        pushed = float(np.einsum("ni,ni->n", np.cross(axis_a, offset), axis_b)[0])
        own = np.einsum("nji,nj->ni", first[:, :3, :3], offset)
        return Stand(angles_about(gear.a.axle, own), along, 1.0 if pushed >= 0 else -1.0, apart, np.zeros(len(along)))
    same = 1.0 if float(axis_a[0] @ axis_b[0]) >= 0 else -1.0
    offset = offset - np.einsum("ni,ni->n", offset, axis_a)[:, None] * axis_a
    apart = np.linalg.norm(offset, axis=1)
    toward = offset / np.maximum(apart, 1e-12)[:, None]
    strand = np.zeros(len(apart))
    if gear.kind == "internal":
        # both are met on the side where the smaller one lies in the ring
        toward = toward if gear.a.teeth > gear.b.teeth else -toward
        one = two = toward
    elif gear.kind in ("chain", "belt") and not gear.crossed:
        # the strand that goes from the first end to the second as the first one turns forward leaves and meets them alike
        radii = pitch_radius(gear, gear.a) - pitch_radius(gear, gear.b)
        lift = np.clip(radii / np.maximum(apart, 1e-12), -1.0, 1.0)
        one = two = lift[:, None] * toward - np.sqrt(1 - lift**2)[:, None] * np.cross(axis_a, toward)
        strand = np.sqrt(np.maximum(apart**2 - radii**2, 0.0))
    else:
        one, two = toward, -toward
    own_a = np.einsum("nji,nj->ni", first[:, :3, :3], one)
    own_b = np.einsum("nji,nj->ni", second[:, :3, :3], two)
    sense = same * (-1.0 if gear.kind == "external" or gear.crossed else 1.0)
    return Stand(angles_about(gear.a.axle, own_a), angles_about(gear.b.axle, own_b), sense, apart, strand)


def follow(gear: Gear, side: str, sense: float, turned: Array, shift_a: Array, shift_b: Array) -> Array:
    """How far one end turns (rad; a rack: mm) by how far the other has (n,), with what both stand otherwise to each other than at
    rest (n,): the second end of the first (``side`` "b"), or the first of the second.

    The pitch circles roll on each other: what passes the line of contact on one side does so on the other.
    """
    phase = gear.phase if gear.kind == "rack" else np.radians(gear.phase)
    share = sense * ratio(gear)
    if side == "b":
        return np.asarray(phase + shift_b + share * (turned - shift_a))
    return np.asarray(shift_a + (turned - shift_b - phase) / share)


def mesh_error(gear: Gear, stands: Stand, turned_a: Array, turned_b: Array) -> Array:
    """How far the teeth are from meshing (n,), in shares of a tooth from -0.5 to 0.5, with both ends turned so far (n,)."""
    half = 0.5
    tooth_a = np.radians(gear.a.tooth)
    places_a = gear.a.teeth * (turned_a + tooth_a - stands.a) / (2 * np.pi)
    if gear.kind == "rack":
        pitch = np.pi * gear.pitch
        radius = pitch_radius(gear, gear.a)
        places = stands.sense * radius * (turned_a + tooth_a - stands.a) + stands.b - gear.b.tooth - turned_b
        off = places / pitch - half
    else:
        tooth_b = np.radians(gear.b.tooth)
        places_b = gear.b.teeth * (turned_b + tooth_b - stands.b) / (2 * np.pi)
        if gear.kind in ("chain", "belt"):
            # both ends' gaps lie on the same chain, as far apart as its strand is long
            half = 0.0
            places_a = places_a - stands.strand / gear.pitch
        off = places_a - stands.sense * places_b - half
    return np.asarray(off - np.round(off))


def meshing_phase(gear: Gear, stands: Stand) -> float:
    """The phase in degrees (of a rack in mm) nearest to nothing at which the teeth mesh, both ends as at rest (n = 1)."""
    if not (toothed(gear) and gear.a.toothed and gear.b.toothed):
        return 0.0
    off = float(mesh_error(gear, stands, np.zeros(1), np.zeros(1))[0])
    if gear.kind == "rack":
        return off * float(np.pi) * gear.pitch
    return float(np.degrees(stands.sense * off * 2 * np.pi / gear.b.teeth))
