"""The product at rest: which parts touch, fit into each other line to line, or interfere, and by how much. Lengths in mm.

A shaft in a bore is told by the nominal radii and axes of the file's own faces where it has them, as the facets of equal cylinders
cross; all else is measured on the facets, and is an interference only where it is deeper than the facets may be off.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.bodies import Pair, bodies_of
from kestrav.core.clearance.depth import Solid
from kestrav.core.clearance.depth_limit import nested
from kestrav.core.clearance.interference import interference_of
from kestrav.core.document.records import Project
from kestrav.core.geometry.faces import Face, moved_faces, vector
from kestrav.core.geometry.meshes import Mesh, box_distances, turned_bounds
from kestrav.core.geometry.models import Nearest, nearest, placed
from kestrav.core.geometry.skin import facet_error
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.parts.rest import rest_poses
from kestrav.core.progress import Progress

Array = NDArray[np.float64]
Kind = Literal["interferes", "interference fit", "line to line", "touches", "clearance fit"]

_LINE = 1e-3  # mm of radius by which a shaft and its bore may differ and be line to line; a file keeps no more
_COAXIAL = np.radians(0.1)  # between axes that are one
_OFF_AXIS = 0.02  # mm, and half of what the radii differ, that axes may be apart
_LOOSE, _LOOSE_SHARE = 0.6, 0.06  # mm, and of the radius, by which a bore may be wider and still be a fit
_LEAST_LENGTH = 0.1  # of the shaft's radius, that both must share along the axis
_OFTEN = 16


class Fit(msgspec.Struct, frozen=True):
    """How two parts meet as all stands at rest: how deep they interfere, or how far apart they are (of a fit the difference of the radii),
    in mm; the volume in mm³ that they share (none where it is not known); whether that is from the file's own faces; where (3,);
    the nominal ``radii`` of shaft and bore, if it is a fit; and whether it has been accepted as intended."""

    pair: Pair
    kind: Kind
    depth: float
    gap: float
    shared: float | None
    exact: bool
    place: tuple[float, float, float]
    radii: tuple[float, float] | None = None
    accepted: bool = False
    alike: tuple[str, str] = ("", "")  # the shapes' hashes, sorted

    @property
    def text(self) -> str:
        """It in words: “interference fit, 0.020 mm deep (Ø20.04 in Ø20)”."""
        sizes = f" ({self.sizes})" if self.radii is not None else ""
        if self.kind in ("interferes", "interference fit"):
            return f"{self.kind}, {self.depth:.3f}\u2009mm deep{sizes}"
        if self.kind == "clearance fit":
            return f"{self.kind}, {self.gap:.3f}\u2009mm all around{sizes}"
        return f"{self.kind}{sizes}"

    @property
    def sizes(self) -> str:
        """The nominal diameters of shaft and bore: “Ø20.04 in Ø20”; nothing where it is no fit."""
        return "" if self.radii is None else f"Ø{2 * self.radii[0]:.6g} in Ø{2 * self.radii[1]:.6g}"


def fits_at_rest(project: Project, meshes: Mapping[str, Mesh], progress: Progress | None = None) -> tuple[Fit, ...]:
    """Every pair of shown parts that touch, fit or interfere as all stands at rest, the deepest first.

    ``progress`` is told shares from 0 to 1 and may raise to stop the work.
    """
    bodies = bodies_of(project, meshes)
    poses = rest_poses(project)[bodies.rows]
    bounds = turned_bounds(bodies.boxes, poses)
    limit = project.settings.contact_distance
    said = {frozenset((c.a, c.b)) for c in project.contacts if c.intended}
    close = list(_close(bounds, limit))
    fits = []
    for number, (a, b) in enumerate(close):
        if progress is not None and number % _OFTEN == 0:
            progress(number / len(close))
        one = _Side(bodies.solid(a), poses[a]), _Side(bodies.solid(b), poses[b])
        near = nearest(bodies.models[a], placed(poses[a]), bodies.models[b], placed(poses[b]), _LOOSE)
        if near is None and not nested(one[0].solid, inverse_rigid(poses[b]) @ poses[a], one[1].solid):
            continue
        pair = Pair(bodies.ids[a], bodies.ids[b])
        measured = _of_pair(pair, *one, near, limit, accepted=frozenset((pair.moving, pair.other)) in said)
        if measured is not None:
            fits.append(measured)
    return tuple(sorted(fits, key=lambda fit: (-fit.depth, fit.gap)))


def alike(fits: Iterable[Fit], fit: Fit) -> tuple[Fit, ...]:
    """Those of some fits that are between the same two shapes and of the same kind: what is true of one is true of all."""
    return tuple(other for other in fits if other.alike == fit.alike and other.kind == fit.kind)


def _close(bounds: Array, within: float) -> Iterator[tuple[int, int]]:
    """Pairs of boxes (n, 2, 3) that are within a distance of each other, gone through in the order in which they begin along x."""
    order = np.argsort(bounds[:, 0, 0], kind="stable")
    starts = bounds[order, 0, 0]
    for k, a in enumerate(order):
        last = int(np.searchsorted(starts, bounds[a, 1, 0] + within, side="right"))
        others = order[k + 1 : last]
        for b in others[box_distances(bounds[a], bounds[others]) <= within]:
            yield (int(a), int(b)) if a < b else (int(b), int(a))


class _Side(msgspec.Struct, frozen=True, eq=False, dict=True):
    """A body as it stands."""

    solid: Solid
    at: Array

    @cached_property
    def cylinders(self) -> list[tuple[Face, bool]]:
        """Its cylindrical faces in space, and whether each is a bore: its material lies outside of it."""
        return _placed_cylinders(self.solid.shape, self.at)


def _placed_cylinders(shape: Mesh, at: Array) -> list[tuple[Face, bool]]:
    chosen = [k for k, face in enumerate(shape.faces) if face.kind == "cylinder"]
    if not chosen or shape.face_of is None:
        return []
    a, b, c = (shape.vertices[shape.triangles[:, k]] for k in range(3))
    normals, middles = np.cross(b - a, c - a), (a + b + c) / 3.0
    turned = moved_faces([shape.faces[k] for k in chosen], at)
    placed_cylinders = []
    for k, face in zip(chosen, turned, strict=True):
        own, mine = shape.faces[k], np.flatnonzero(shape.face_of == k)
        if not len(mine) or face.kind != "cylinder":
            continue
        axis = np.array(own.axis)
        step = middles[mine] - np.array(own.origin)
        outward = step - (step @ axis)[:, None] * axis
        placed_cylinders.append((face, float(np.einsum("ij,ij->", outward, normals[mine])) < 0))
    return placed_cylinders


def _of_pair(pair: Pair, one: _Side, two: _Side, near: Nearest | None, limit: float, *, accepted: bool) -> Fit | None:
    """How two bodies meet that are near or of which one holds the other; none where they are apart and no fit."""
    shaft = _shaft_in_bore(one, two)
    off = facet_error(one.solid.shape) + facet_error(two.solid.shape)
    apart = 0.0 if near is None else near.distance
    place = one.at[:3, 3] if near is None else 0.5 * (near.first + near.second)
    hashes = sorted((one.solid.shape.hash, two.solid.shape.hash))
    alike_as = (hashes[0], hashes[1])
    deep = None
    if apart <= 0 or near is None:
        deep = interference_of(one.solid, one.at, two.solid, two.at)
        place = deep.place if deep.depth > 0 else place
    depth = 0.0 if deep is None else deep.depth
    shared = None if deep is None else deep.volume
    spot = vector(place)
    if shaft is not None:
        radii, share = shaft
        looser = radii[1] - radii[0]
        # deeper than the fit and the facets account for: something else of them is in the way
        if depth <= max(-looser, 0.0) + off + _LINE:
            if looser < -_LINE:
                return Fit(pair, "interference fit", -looser, 0.0, share, True, spot, radii, accepted, alike_as)
            kind: Kind = "line to line" if looser <= _LINE else "clearance fit"
            return Fit(pair, kind, 0.0, max(looser, 0.0), 0.0, True, spot, radii, accepted, alike_as)
    if depth > off + _LINE:
        return Fit(pair, "interferes", depth, 0.0, shared, False, spot, None, accepted, alike_as)
    if apart > limit:
        return None
    return Fit(pair, "touches", 0.0, apart, 0.0, False, spot, None, accepted, alike_as)


def _shaft_in_bore(one: _Side, two: _Side) -> tuple[tuple[float, float], float] | None:
    """The nominal radii of the tightest fit of a shaft of one body in a bore of the other, and the volume in mm³ that they share."""
    best: tuple[tuple[float, float], float] | None = None
    for first, second in ((one, two), (two, one)):
        for shaft, bore in itertools.product(first.cylinders, second.cylinders):
            if shaft[1] or not bore[1]:
                continue
            fitted = _fitted(shaft[0], bore[0])
            if fitted is not None and (best is None or fitted[0][1] - fitted[0][0] < best[0][1] - best[0][0]):
                best = fitted
    return best


def _fitted(shaft: Face, bore: Face) -> tuple[tuple[float, float], float] | None:
    """The radii of a shaft and a bore about one axis that share some of their length, and the volume that they share."""
    looser = bore.radius - shaft.radius
    if not -_LOOSE_SHARE * bore.radius - _LOOSE < looser <= min(_LOOSE, _LOOSE_SHARE * bore.radius):
        return None
    one, two = np.array(shaft.axis), np.array(bore.axis)
    if np.linalg.norm(np.cross(one, two)) > np.sin(_COAXIAL):
        return None
    step = np.array(bore.origin) - np.array(shaft.origin)
    if np.linalg.norm(step - (step @ one) * one) > _OFF_AXIS + 0.5 * abs(looser):
        return None
    sense = 1.0 if float(one @ two) > 0 else -1.0
    ends = sorted(step @ one + sense * end for end in bore.along)
    length = min(ends[1], max(shaft.along)) - max(ends[0], min(shaft.along))
    if length < _LEAST_LENGTH * shaft.radius:
        return None
    around = min(abs(f.across[1] - f.across[0]) for f in (shaft, bore)) / 2.0
    return (shaft.radius, bore.radius), max(shaft.radius**2 - bore.radius**2, 0.0) * around * length
