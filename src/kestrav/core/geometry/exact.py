"""Exact parametric curves: lines, arcs, helices, superelliptic corners, and chains of them. Lengths in mm."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.errors import Damaged
from kestrav.core.geometry.curves import Kind, Parametric, Spline, spline_through

Array = NDArray[np.float64]

STRAIGHT = 1e-9  # share of a piece's chord that it may bend and still be straight
_TURN = 1e-9  # rad below which a corner does not turn


class Line(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A straight piece from one point (3,) to another, by length."""

    first: Array
    last: Array

    @cached_property
    def length(self) -> float:
        """In mm."""
        return float(np.linalg.norm(self.last - self.first))

    @cached_property
    def breaks(self) -> Array:
        """Its ends."""
        return np.array([0.0, self.length])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        t = np.asarray(parameter, float)[..., None]
        direction = (self.last - self.first) / self.length
        if order == 0:
            return self.first + t * direction
        return np.broadcast_to(direction if order == 1 else np.zeros(3), (*t.shape[:-1], 3)).copy()


class Arc(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A circular arc by angle in rad: ``centre + radius (cos t u + sin t v)`` for t from 0 to ``sweep`` > 0."""

    centre: Array
    u: Array
    v: Array
    radius: float
    sweep: float

    @cached_property
    def breaks(self) -> Array:
        """Its ends and places between, a quarter turn apart at most; their number is even between the ends' halves."""
        count = 2 * max(int(np.ceil(self.sweep / np.pi - 1e-9)), 1)
        return np.linspace(0.0, self.sweep, count + 1)

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        # each derivative of cos and sin is a quarter turn ahead
        t = (np.asarray(parameter, float) + order * np.pi / 2)[..., None]
        around = self.radius * (np.cos(t) * self.u + np.sin(t) * self.v)
        return self.centre + around if order == 0 else around


class Helix(msgspec.Struct, frozen=True, dict=True):
    """An upright helix by angle in rad from 0 to ``2 pi turns``: radius, rise per turn, first angle, sense (±1)."""

    centre: tuple[float, float, float]
    radius: float
    pitch: float
    turns: float
    start: float = 0.0
    sense: int = 1

    @cached_property
    def breaks(self) -> Array:
        """Quarter turns."""
        count = max(int(np.ceil(4 * self.turns - 1e-9)), 1)
        return np.linspace(0.0, 2 * np.pi * self.turns, count + 1)

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        t = np.asarray(parameter, float)
        angle = self.start + self.sense * t + self.sense * order * np.pi / 2
        rise = {0: self.pitch * t / (2 * np.pi), 1: np.full_like(t, self.pitch / (2 * np.pi))}.get(
            order, np.zeros_like(t)
        )
        values = np.stack([self.radius * np.cos(angle), self.radius * np.sin(angle), rise], axis=-1)
        return values + np.asarray(self.centre) if order == 0 else values


class SuperCorner(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A quarter of the superellipse |x|^n + |y|^n = r^n by polar angle, from the direction u to v (n >= 2).

    Reference: G. Lamé, "Examen des différentes méthodes employées pour résoudre les problèmes de géométrie",
    1818. The polar angle keeps the speed finite at both ends, where the usual parameter does not.
    """

    centre: Array
    u: Array
    v: Array
    radius: float
    exponent: float

    @cached_property
    def breaks(self) -> Array:
        """Its ends and middle."""
        return np.array([0.0, np.pi / 4, np.pi / 2])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative up to the second, (n, 3)."""
        t = np.clip(np.asarray(parameter, float), 0.0, np.pi / 2)
        n, c, s = self.exponent, np.cos(t), np.abs(np.sin(t))
        c = np.abs(c)
        f = c**n + s**n
        rho = self.radius * f ** (-1 / n)
        f1 = n * (s ** (n - 1) * c - c ** (n - 1) * s)
        f2 = n * ((n - 1) * (c ** (n - 2) * s**2 + s ** (n - 2) * c**2) - c**n - s**n)
        rho1 = -self.radius / n * f ** (-1 / n - 1) * f1
        rho2 = self.radius / n * ((1 / n + 1) * f ** (-1 / n - 2) * f1**2 - f ** (-1 / n - 1) * f2)
        along, across = (
            (rho * c, rho * s),
            (rho1 * c - rho * s, rho1 * s + rho * c),
            (rho2 * c - 2 * rho1 * s - rho * c, rho2 * s + 2 * rho1 * c - rho * s),
        )[order]
        values: Array = along[..., None] * self.u + across[..., None] * self.v
        return self.centre + values if order == 0 else values


class Chain(msgspec.Struct, frozen=True, eq=False, dict=True):
    """Pieces one after another, over one parameter; ``marks`` are numbers of the breaks that stand for points."""

    pieces: tuple[Parametric, ...]
    marks: tuple[int, ...] = ()

    @cached_property
    def starts(self) -> Array:
        """Parameter (m + 1,) at which each piece starts, and the last ends."""
        return np.concatenate([[0.0], np.cumsum([p.breaks[-1] - p.breaks[0] for p in self.pieces])])

    @cached_property
    def breaks(self) -> Array:
        """The pieces' breaks in the chain's own parameter."""
        breaks = [start + p.breaks[:-1] - p.breaks[0] for start, p in zip(self.starts, self.pieces, strict=False)]
        return np.concatenate([*breaks, self.starts[-1:]])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3); at a joint, of what follows."""
        t = np.atleast_1d(np.asarray(parameter, float))
        which = np.clip(np.searchsorted(self.starts, t, side="right") - 1, 0, len(self.pieces) - 1)
        values = np.empty((len(t), 3))
        for k in np.unique(which):
            mine = which == k
            piece = self.pieces[k]
            local = np.clip(t[mine] - self.starts[k] + piece.breaks[0], piece.breaks[0], piece.breaks[-1])
            values[mine] = piece.evaluate(local, order)
        return values


class Portion(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A curve between two of its parameters."""

    whole: Parametric
    first: float
    last: float

    @cached_property
    def breaks(self) -> Array:
        """The whole's breaks that lie inside, and the ends."""
        inner = self.whole.breaks[(self.whole.breaks > self.first) & (self.whole.breaks < self.last)]
        return np.concatenate([[self.first], inner, [self.last]])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        """Position or derivative, (n, 3)."""
        return self.whole.evaluate(np.clip(parameter, self.first, self.last), order)


class _Piece(msgspec.Struct, frozen=True, eq=False, dict=True):
    """One piece of a spline."""

    spline: Spline
    first: float
    last: float

    @cached_property
    def breaks(self) -> Array:
        return np.array([self.first, self.last])

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        # a joint belongs to the piece that follows, and the end of this one is just before it
        return self.spline.evaluate(np.minimum(parameter, np.nextafter(self.last, -np.inf)), order)


# circles


def arc_about(centre: ArrayLike, axis: ArrayLike, start: ArrayLike, sweep: float) -> Arc:
    """The arc about an axis (3,) through a centre, from a start (3,), by a sweep in rad of either sign.

    The start is brought into the plane across the axis through the centre. Raises ValueError for a radius of 0,
    no axis or no sweep.
    """
    centre, axis = np.asarray(centre, float), np.asarray(axis, float)
    length = float(np.linalg.norm(axis))
    if length < 1e-12:
        raise Damaged("the arc's axis has no direction")
    axis = axis / length * (1.0 if sweep >= 0 else -1.0)
    out = np.asarray(start, float) - centre
    out = out - (out @ axis) * axis
    radius = float(np.linalg.norm(out))
    if radius < 1e-9:
        raise Damaged("the arc's radius is 0")
    if abs(sweep) < 1e-12:
        raise Damaged("the arc's sweep is 0")
    u = out / radius
    return Arc(centre, u, np.cross(axis, u), radius, abs(sweep))


def circle_through(first: ArrayLike, second: ArrayLike, third: ArrayLike) -> tuple[Array, Array, float]:
    """Centre (3,), axis (3,) and sweep in rad of the arc from the first point over the second to the third.

    The circumcentre in barycentric form. Raises ValueError for points on a line.
    """
    a, b, c = (np.asarray(p, float) for p in (first, second, third))
    ab, ac = b - a, c - a
    normal = np.cross(ab, ac)
    square = float(normal @ normal)
    if square < 1e-18 * max(float(ab @ ab) * float(ac @ ac), 1e-300):
        raise Damaged("the three points lie on a line")
    centre = a + (np.cross(normal, ab) * float(ac @ ac) + np.cross(ac, normal) * float(ab @ ab)) / (2 * square)
    axis = normal / np.sqrt(square)
    u = (a - centre) / np.linalg.norm(a - centre)
    v = np.cross(axis, u)
    sweep = float(np.arctan2((c - centre) @ v, (c - centre) @ u) % (2 * np.pi))
    return centre, axis, sweep


# rounded corners


def rounded_through(
    points: ArrayLike,
    kinds: Sequence[Kind],
    handles_in: Sequence[ArrayLike | None],
    handles_out: Sequence[ArrayLike | None],
    radii: Sequence[float],
    *,
    closed: bool = False,
) -> Chain:
    """The curve of :func:`spline_through` with corners (n,) rounded by arcs of the radii, where they are above 0.

    A corner can be rounded where the pieces on both its sides are straight. Raises ValueError, naming the point,
    when they are not or the arc would be longer than they have room for.
    """
    base = spline_through(points, kinds, handles_in, handles_out, closed=closed)
    points = np.asarray(points, float)
    count = len(points)
    polynomial = base.polynomial
    chords = [(i, (i + 1) % count) for i in range(count if closed else count - 1)]
    straight = [_is_straight(polynomial.c[:, k], polynomial.x[k + 1] - polynomial.x[k]) for k in range(len(chords))]
    lengths = [float(np.linalg.norm(points[b] - points[a])) for a, b in chords]
    cuts = np.zeros(count)
    arcs: dict[int, tuple[Arc, Arc]] = {}
    for i, radius in enumerate(radii):
        if radius <= 0 or kinds[i] != "corner" or (not closed and i in (0, count - 1)):
            continue
        before, after = (i - 1) % len(chords), i
        if not (straight[before] and straight[after]):
            raise Damaged(f"point {i + 1} cannot be rounded: both its sides must be straight")
        corner = _corner(points[(i - 1) % count], points[i], points[(i + 1) % count], radius)
        if corner is not None:
            cuts[i], arcs[i] = corner[0], (corner[1], corner[2])
    for (a, b), length in zip(chords, lengths, strict=True):
        if cuts[a] + cuts[b] > length * (1 + 1e-12):
            worst = a if cuts[a] >= cuts[b] else b
            most = radii[worst] * length / (cuts[a] + cuts[b])
            raise Damaged(f"the radius of point {worst + 1} has no room on its sides; at most about {most:.1f} mm fit")
    pieces: list[Parametric] = []
    marks: list[int] = []
    breaks = 0
    for k, (a, b) in enumerate(chords):
        marks.append(breaks)
        mine: list[Parametric] = [arcs[a][1]] if a in arcs else []
        if straight[k] and (a in arcs or b in arcs):
            direction = (points[b] - points[a]) / lengths[k]
            first, last = points[a] + cuts[a] * direction, points[b] - cuts[b] * direction
            if np.linalg.norm(last - first) > 1e-9 * lengths[k]:
                mine.append(Line(first, last))
        else:
            mine.append(_Piece(base, float(polynomial.x[k]), float(polynomial.x[k + 1])))
        mine += [arcs[b][0]] if b in arcs else []
        pieces += mine
        breaks += sum(len(p.breaks) - 1 for p in mine)
    if not closed:
        marks.append(breaks)
    return Chain(tuple(pieces), tuple(marks))


def _is_straight(coefficients: Array, width: float) -> bool:
    """Whether a cubic piece (4, 3) over a width runs straight and evenly."""
    bend = np.linalg.norm(coefficients[0]) * width**3 + np.linalg.norm(coefficients[1]) * width**2
    return bool(bend <= STRAIGHT * max(float(np.linalg.norm(coefficients[2])) * width, 1e-12))


def _corner(before: Array, at: Array, after: Array, radius: float) -> tuple[float, Arc, Arc] | None:
    """How far an arc reaches along both sides, and its halves; None where the corner does not turn."""
    arriving = (at - before) / np.linalg.norm(at - before)
    leaving = (after - at) / np.linalg.norm(after - at)
    turn = float(np.arctan2(np.linalg.norm(np.cross(arriving, leaving)), arriving @ leaving))
    if turn < _TURN:
        return None
    if np.pi - turn < 1e-6:
        raise Damaged("a corner that turns right back cannot be rounded")
    inward = leaving - (leaving @ arriving) * arriving
    inward = inward / np.linalg.norm(inward)
    reach = radius * np.tan(turn / 2)
    centre = at - reach * arriving + radius * inward
    # from its start the arc goes along the arriving side
    whole = Arc(centre, -inward, arriving, radius, turn)
    half = turn / 2
    c, s = np.cos(half), np.sin(half)
    first = Arc(centre, whole.u, whole.v, radius, half)
    second = Arc(centre, c * whole.u + s * whole.v, c * whole.v - s * whole.u, radius, half)
    return float(reach), first, second


def rectangle(
    centre: ArrayLike, width: float, depth: float, radius: float, exponent: float, turn: float, *, clockwise: bool
) -> Chain:
    """A level rectangle about a centre, its corners round (exponent 2), superelliptic (above) or sharp (radius 0).

    It starts in the middle of its front side (-y before it is turned, in rad). Raises ValueError when the corners
    are larger than the sides have room for.
    """
    if width <= 0 or depth <= 0:
        raise Damaged("both sides must be above 0")
    if radius < 0 or 2 * radius > min(width, depth) * (1 + 1e-12):
        raise Damaged(f"corners of {radius:g} mm are rounder than the sides; at most {min(width, depth) / 2:g} mm fit")
    middle = np.asarray(centre, float)
    x, y = np.array([np.cos(turn), np.sin(turn), 0.0]), np.array([-np.sin(turn), np.cos(turn), 0.0])
    a, b = width / 2 - radius, depth / 2 - radius
    corners = [(a, -b), (a, b), (-a, b), (-a, -b)]
    outward = [(-y, x), (x, y), (y, -x), (-x, -y)]
    pieces: list[Parametric] = []
    here = middle - (depth / 2) * y
    start = here
    for (cx, cy), (u, v) in zip(corners, outward, strict=True):
        at = middle + cx * x + cy * y
        if np.linalg.norm(at + radius * u - here) > 1e-9:
            pieces.append(Line(here, at + radius * u))
        if radius > 0:
            if exponent == 2:
                pieces.append(Arc(at, u, v, radius, np.pi / 2))
            else:
                pieces.append(SuperCorner(at, u, v, radius, exponent))
        here = at + radius * v
    if np.linalg.norm(start - here) > 1e-9:
        pieces.append(Line(here, start))
    chain = Chain(tuple(pieces))
    return chain if not clockwise else _mirrored(chain, middle, x)


def _mirrored(chain: Chain, middle: Array, axis: Array) -> Chain:
    """A level chain mirrored about the upright plane across an axis through a point: it runs the other way round."""
    matrix = np.eye(3) - 2.0 * np.outer(axis, axis)
    return Chain(tuple(_Mirror(piece, matrix, middle) for piece in chain.pieces), chain.marks)


class _Mirror(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A piece seen in a mirror through a point."""

    piece: Parametric
    matrix: Array
    through: Array

    @cached_property
    def breaks(self) -> Array:
        return self.piece.breaks

    def evaluate(self, parameter: ArrayLike, order: int = 0) -> Array:
        values = self.piece.evaluate(parameter, order)
        if order == 0:
            return (values - self.through) @ self.matrix.T + self.through
        mirrored: Array = values @ self.matrix.T
        return mirrored
