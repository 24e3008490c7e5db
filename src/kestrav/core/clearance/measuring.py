"""Measuring between picked features: exact where the CAD faces are, by fits elsewhere. Lengths in mm."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Literal

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.lookup import get_as, new_id, new_name, subtree
from kestrav.core.document.records import Feature, Note, Part, Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.models import model, nearest, placed
from kestrav.core.geometry.topology import Edge, Topology, ring_of, surface_of, topology
from kestrav.core.geometry.transforms import apply
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.units import show

Array = NDArray[np.float64]
Measure = Literal["distance", "axis distance", "round", "faces", "nearest", "length"]

PARALLEL = np.radians(0.01)  # planes and axes that differ by less count as parallel


class Reading(msgspec.Struct, frozen=True):
    """A measured value with its unit, how sure it is, worked lines, and points (n, 2, 3) of lines to draw."""

    value: float
    unit: str
    exact: bool
    lines: tuple[str, ...]
    drawn: Array = msgspec.field(default_factory=lambda: np.empty((0, 2, 3)))
    place: Array = msgspec.field(default_factory=lambda: np.zeros(3))

    @property
    def text(self) -> str:
        """The value as it is shown."""
        return show(self.value, self.unit, 3 if self.unit == "mm" else 2)


# features


def face_feature(faces: Topology, number: int, part: str | None, place: ArrayLike) -> Feature:
    """The feature of a picked face, in the part's own coordinates; a free face gives the picked point."""
    surface = surface_of(faces, number)
    face = surface.face
    if face.kind == "free":
        return Feature("point", part, vector(place), exact=False)
    if face.kind == "plane":
        # the point that was picked, on the plane
        normal = np.array(face.axis)
        step = float((np.array(face.origin) - np.asarray(place, float)) @ normal)
        middle = vector(np.asarray(place, float) + step * normal)
        return Feature(
            "plane", part, middle, _outward(faces, number, face), exact=surface.exact, residual=surface.residual
        )
    if face.kind == "cylinder":
        middle = vector(np.array(face.origin) + 0.5 * sum(face.along) * np.array(face.axis))
        length = abs(face.along[1] - face.along[0])
        return Feature("cylinder", part, middle, face.axis, face.radius, length, surface.exact, surface.residual)
    axis = None if face.kind == "sphere" else face.axis
    return Feature(face.kind, part, face.origin, axis, face.radius, 0.0, surface.exact, surface.residual)


def _outward(faces: Topology, number: int, face: Face) -> tuple[float, float, float]:
    """A plane's normal on the side where the solid is not, whichever way the file says."""
    a, b, c = (faces.mesh.vertices[faces.mesh.triangles[faces.triangles_of(number)[0], k]] for k in range(3))
    normal = np.array(face.axis)
    return vector(normal if float(np.cross(b - a, c - a) @ normal) >= 0 else -normal)


def edge_feature(faces: Topology, edge: Edge, part: str | None) -> Feature:
    """The feature of a picked edge: a circle, a straight line, or an edge with its length."""
    ring = ring_of(faces, edge)
    if ring is not None:
        closed = edge.closed
        length = 2 * np.pi * ring.radius if closed else edge.length
        return Feature(
            "circle", part, vector(ring.centre), vector(ring.axis), ring.radius, length, ring.exact, ring.residual
        )
    chord = edge.points[-1] - edge.points[0]
    span = float(np.linalg.norm(chord))
    middle = vector(0.5 * (edge.points[0] + edge.points[-1]))
    if not edge.closed and span > 0 and edge.length - span < 1e-6 * max(span, 1.0):
        return Feature("line", part, middle, vector(chord / span), 0.0, span)
    # a curved edge is measured along its facets, a little inside the curve
    return Feature("edge", part, vector(edge.points[len(edge.points) // 2]), None, 0.0, edge.length, False)


class Snap(msgspec.Struct, frozen=True):
    """What a pointer catches: its kind, its place (3,), the feature, and for drawing its points (n, 3)."""

    kind: str
    place: Array
    feature: Feature
    outline: Array


def snaps_near(
    mesh: Mesh,
    part: str,
    triangle: int,
    place: ArrayLike,
    reach: float,
    kinds: Sequence[str] = ("vertex", "edge", "centre", "face"),
) -> list[Snap]:
    """What can be caught near a picked place, best first, in the part's own coordinates.

    Vertices within ``reach`` mm win over middles of round edges picked on their rim, those over edges, those over
    the face. Centres of round faces count when the face itself is picked.
    """
    faces = topology(mesh)
    place = np.asarray(place, float)
    number = int(faces.face_of[triangle])
    snaps: list[Snap] = []
    if "vertex" in kinds and len(faces.corners):
        away = np.linalg.norm(faces.corners - place, axis=1)
        nearest_corner = int(np.argmin(away))
        if away[nearest_corner] <= reach:
            corner = faces.corners[nearest_corner]
            snaps.append(Snap("vertex", corner, Feature("point", part, vector(corner)), corner[None]))
    if "edge" in kinds or "centre" in kinds:
        edge, distance, on_edge = _nearest_edge(faces, number, place)
        if edge is not None and distance <= reach:
            feature = edge_feature(faces, edge, part)
            if feature.kind == "circle" and "centre" in kinds:
                snaps.append(Snap("circle", np.array(feature.origin), feature, edge.points))
            elif "edge" in kinds:
                snaps.append(Snap("edge", on_edge, feature, edge.points))
    if "face" in kinds:
        feature = face_feature(faces, number, part, place)
        outline = [e.points for e in faces.edges if number in e.faces]
        kind = "face" if feature.kind in ("plane", "point") else feature.kind
        spot = place if feature.kind in ("plane", "point") else np.array(feature.origin)
        snaps.append(Snap(kind, spot, feature, np.concatenate(outline) if outline else place[None]))
    return snaps


def nearest_edge(mesh: Mesh, triangle: int, place: ArrayLike, reach: float) -> int | None:
    """The number of the edge nearest to a picked place, of those around its face, within a reach in mm."""
    faces = topology(mesh)
    edge, distance, _ = _nearest_edge(faces, int(faces.face_of[triangle]), np.asarray(place, float))
    if edge is None or distance > reach:
        return None
    return next(k for k, e in enumerate(faces.edges) if e is edge)


def _nearest_edge(faces: Topology, face: int, place: Array) -> tuple[Edge | None, float, Array]:
    best: tuple[Edge | None, float, Array] = (None, np.inf, place)
    for edge in faces.edges:
        if face not in edge.faces:
            continue
        a, b = edge.points[:-1], edge.points[1:]
        along = b - a
        share = np.clip(np.einsum("ij,ij->i", place - a, along) / np.maximum((along**2).sum(axis=1), 1e-18), 0.0, 1.0)
        on = a + share[:, None] * along
        away = np.linalg.norm(on - place, axis=1)
        k = int(np.argmin(away))
        if away[k] < best[1]:
            best = (edge, float(away[k]), on[k])
    return best


# measures


def in_space(project: Project, poses: Array, feature: Feature) -> Feature:
    """A feature in space, under world poses (parts, 4, 4)."""
    if feature.part is None:
        return feature
    part = get_as(project, feature.part, Part)
    pose = poses[project.parts.index(part)]
    origin = vector(apply(pose, np.array([feature.origin]))[0])
    axis = None if feature.axis is None else vector(pose[:3, :3] @ np.array(feature.axis))
    return msgspec.structs.replace(feature, origin=origin, axis=axis)


def read(note: Note, project: Project, meshes: Mapping[str, Mesh], poses: Array) -> Reading:
    """What a note measures, under world poses. Raises BadInput when its features do not fit its measure."""
    spots = [in_space(project, poses, feature) for feature in note.features]
    if note.measure == "length":
        return _length(spots)
    if note.measure == "round":
        return _round(spots[0])
    if len(spots) != 2:
        raise BadInput(f"“{note.name}” needs two features, not {len(spots)}")
    if note.measure == "nearest":
        return _nearest(project, meshes, poses, note.features)
    if note.measure == "faces":
        return _faces(spots[0], spots[1])
    if note.measure == "axis distance":
        return _axis_distance(spots[0], spots[1])
    return _distance(spots[0], spots[1])


def _sure(*features: Feature) -> tuple[bool, list[str]]:
    lines = [
        f"fit to the facets, residual {f.residual:.4f}\u2009mm" for f in features if not f.exact and f.residual > 0
    ]
    return all(f.exact for f in features), lines


def _line(a: ArrayLike, b: ArrayLike) -> Array:
    return np.array([[a, b]], float)


def _distance(a: Feature, b: Feature) -> Reading:
    step = np.array(b.origin) - np.array(a.origin)
    value = float(np.linalg.norm(step))
    exact, fitted = _sure(a, b)
    parts = ", ".join(f"{axis} {show(float(v), '', 3)}" for axis, v in zip("xyz", step, strict=True))
    lines = (f"point to point <b>{show(value, 'mm', 3)}</b>", f"{parts}\u2009mm", *fitted)
    middle = 0.5 * (np.array(a.origin) + np.array(b.origin))
    return Reading(value, "mm", exact, lines, _line(a.origin, b.origin), middle)


def _axis_distance(a: Feature, b: Feature) -> Reading:
    """From a point to an axis, or between two axes."""
    if a.axis is not None and a.kind != "plane" and (b.axis is None or b.kind == "plane"):
        a, b = b, a
    if b.axis is None or b.kind == "plane":
        raise BadInput("neither of the two has an axis; pick a round edge, a cylinder or a straight edge")
    line, origin = np.array(b.axis), np.array(b.origin)
    exact, fitted = _sure(a, b)
    if a.axis is None or a.kind == "plane":
        point = np.array(a.origin)
        foot = origin + float((point - origin) @ line) * line
        value = float(np.linalg.norm(point - foot))
        lines = (
            f"point to axis, a radius of <b>{show(value, 'mm', 3)}</b>",
            f"2 × {show(value, '', 3)} = diameter {show(2 * value, 'mm', 3)}",
            *fitted,
        )
        return Reading(value, "mm", exact, lines, _line(point, foot), 0.5 * (point + foot))
    other = np.array(a.axis)
    start = np.array(a.origin)
    across = np.cross(other, line)
    sine = float(np.linalg.norm(across))
    step = origin - start
    if sine < PARALLEL:
        foot = origin + float((start - origin) @ line) * line
        value = float(np.linalg.norm(start - foot))
        return Reading(
            value,
            "mm",
            exact,
            (f"axis to parallel axis <b>{show(value, 'mm', 3)}</b>", *fitted),
            _line(start, foot),
            0.5 * (start + foot),
        )
    value = abs(float(step @ across)) / sine
    s = float(np.cross(step, line) @ across) / sine**2
    t = float(np.cross(step, other) @ across) / sine**2
    p, q = start + s * other, origin + t * line
    angle = float(np.degrees(np.arcsin(min(sine, 1.0))))
    lines = (f"axis to axis at their nearest <b>{show(value, 'mm', 3)}</b>", f"they cross at {angle:.3f}°", *fitted)
    return Reading(value, "mm", exact, lines, _line(p, q), 0.5 * (p + q))


def _round(a: Feature) -> Reading:
    if a.radius <= 0:
        raise BadInput("what was picked is not round; pick a round edge, a cylinder or a ball")
    exact, fitted = _sure(a)
    radius = a.radius
    lines = [
        f"radius <b>{show(radius, 'mm', 3)}</b>",
        f"2 × {show(radius, '', 3)} = diameter {show(2 * radius, 'mm', 3)}",
    ]
    if a.kind in ("circle", "cylinder", "torus"):
        lines.append(f"2π × {show(radius, '', 3)} = circumference {show(2 * np.pi * radius, 'mm', 3)}")
    if a.axis is not None:
        lines.append("axis " + ", ".join(show(v, "", 4) for v in a.axis))
    if a.kind == "cylinder":
        lines.append(f"{show(a.length, 'mm', 3)} long")
    lines.append("middle " + ", ".join(show(v, "", 3) for v in a.origin) + "\u2009mm")
    origin = np.array(a.origin)
    helper = np.array(a.axis) if a.axis is not None else np.array([0.0, 0.0, 1.0])
    side = np.cross(helper, np.eye(3)[int(np.argmin(np.abs(helper)))])
    rim = origin + radius * side / np.linalg.norm(side)
    drawn = [[origin, rim]]
    if a.kind == "cylinder":
        half = 0.5 * a.length * helper
        drawn.append([origin - half, origin + half])
    return Reading(radius, "mm", exact, (*lines, *fitted), np.array(drawn), rim)


def _faces(a: Feature, b: Feature) -> Reading:
    """Distance of parallel planes, else the angle between them; a plane and a point give their distance."""
    if a.kind != "plane":
        a, b = b, a
    if a.kind != "plane" or a.axis is None:
        raise BadInput("neither of the two is flat; pick a flat face")
    normal, origin = np.array(a.axis), np.array(a.origin)
    exact, fitted = _sure(a, b)
    point = np.array(b.origin)
    height = float((point - origin) @ normal)
    foot = point - height * normal
    if b.kind == "plane" and b.axis is not None:
        cosine = float(np.clip(normal @ np.array(b.axis), -1.0, 1.0))
        turned = float(np.arccos(min(abs(cosine), 1.0)))
        if turned > PARALLEL:
            outward = float(np.degrees(np.arccos(cosine)))
            lines = (
                f"between the outward sides <b>{outward:.3f}°</b>",
                f"180° − {outward:.3f}° = {180 - outward:.3f}° inside the corner",
                *fitted,
            )
            return Reading(outward, "°", exact, lines, _line(origin, point), 0.5 * (origin + point))
        lines = (f"face to parallel face <b>{show(abs(height), 'mm', 3)}</b>", *fitted)
    else:
        lines = (f"face to point <b>{show(abs(height), 'mm', 3)}</b>", *fitted)
    return Reading(abs(height), "mm", exact, lines, _line(foot, point), 0.5 * (foot + point))


def _length(spots: Sequence[Feature]) -> Reading:
    """The sum of the lengths of picked edges."""
    if any(f.length <= 0 for f in spots):
        raise BadInput("what was picked has no length; pick edges")
    total = sum(f.length for f in spots)
    lines = [f"along {len(spots)} edge{'s' if len(spots) > 1 else ''} <b>{show(total, 'mm', 3)}</b>"]
    if len(spots) > 1:
        lines.append(" + ".join(show(f.length, "", 3) for f in spots))
    exact, fitted = _sure(*spots)
    if not exact:
        lines.append("curved edges are measured along their facets")
    drawn = [
        [np.array(f.origin) - 0.5 * f.length * np.array(f.axis), np.array(f.origin) + 0.5 * f.length * np.array(f.axis)]
        for f in spots
        if f.kind == "line" and f.axis is not None
    ]
    return Reading(total, "mm", exact, (*lines, *fitted), np.array(drawn).reshape(-1, 2, 3), np.array(spots[0].origin))


def _nearest(project: Project, meshes: Mapping[str, Mesh], poses: Array, features: Sequence[Feature]) -> Reading:
    """Nearest points of two parts or assemblies, on their meshes."""
    sides = []
    for feature in features:
        if feature.part is None:
            raise BadInput("nearest points are measured between two parts")
        inside = subtree(project, feature.part)
        rows = [i for i, p in enumerate(project.parts) if p.id in set(inside) and p.geometry is not None]
        sides.append([(poses[i], solid_mesh(meshes, project.parts[i])) for i in rows])
    best = None
    for pose_a, a in sides[0]:
        for pose_b, b in sides[1]:
            bound = np.inf if best is None else best.distance
            distance = nearest(model(a), placed(pose_a), model(b), placed(pose_b), bound)
            best = distance or best
    if best is None:
        raise BadInput("one of the two has no geometry")
    exact = best.distance <= 0
    lines = [f"nearest points <b>{show(best.distance, 'mm', 3)}</b> apart"]
    lines.append(
        "they touch or overlap" if best.distance <= 0 else "between the meshes, within their tessellation tolerance"
    )
    return Reading(
        best.distance, "mm", exact, tuple(lines), _line(best.first, best.second), 0.5 * (best.first + best.second)
    )


def measure_for(features: Sequence[Feature]) -> Measure:
    """The measure that two or more picked features most likely mean; one alone gives its roundness or length."""
    kinds = [f.kind for f in features]
    if all(k == "thing" for k in kinds):
        return "nearest"
    if len(features) == 1:
        return "round" if features[0].radius > 0 else "length"
    if len(features) > 2:
        return "length"
    if "plane" in kinds:
        return "faces"
    if any(k in ("cylinder", "cone", "torus", "line") for k in kinds):
        return "axis distance"
    return "distance"


def keep(project: Project, measure: Measure, features: Sequence[Feature], name: str = "") -> Project:
    """The project with a measurement kept as a note; it is the last one."""
    from kestrav.core.document.edits import add

    called = name or {"round": "Radius", "length": "Length", "faces": "Face distance"}.get(measure, "Distance")
    return add(project, Note(new_id(project, Note), new_name(project, Note, called), measure, tuple(features)))
