"""Small projects made from plain shapes, and where the demo is."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import trimesh

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Part,
    Path as PathRecord,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    Settings,
)
from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.parts.solids import geometry_record

DEMO = Path(__file__).parent.parent / "demo" / "fan-cassette.kestrav"


def box_mesh(x: float, y: float, z: float) -> Mesh:
    """A box centred at its origin."""
    box = trimesh.creation.box((x, y, z))
    return mesh(box.vertices, box.faces)


def make_project(
    shapes: dict[str, tuple[Mesh, tuple[float, float, float]]], path: PointShape | None = None, **run: object
) -> project_file.Opened:
    """Parts at places; with a path the first one runs along it."""
    meshes = {m.hash: m for m, _ in shapes.values()}
    parts = tuple(
        Part(f"part-{i + 1}", name, placement=Placement(place), geometry=m.hash)
        for i, (name, (m, place)) in enumerate(shapes.items())
    )
    paths = (PathRecord("path-1", "Path", path),) if path else ()
    runs = (Run("run-1", "Run", "part-1", "path-1", **run),) if path else ()  # type: ignore[arg-type]
    project = Project(
        "Test",
        parts=parts,
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        paths=paths,
        runs=runs,
        settings=Settings(fps=20.0),
    )
    return project_file.Opened(validate(project), meshes)


def straight(*points: tuple[float, float, float], kind: str = "corner") -> PointShape:
    """A path through points of one kind."""
    return PointShape(tuple(PathPoint(p, kind) for p in points))  # type: ignore[arg-type]


def tyre(radius: float = 50.0, width: float = 20.0) -> Mesh:
    """A drum about y whose faces are known, off its own origin."""
    body = trimesh.creation.cylinder(radius, width, sections=64)
    turn = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])
    faces = (Face("cylinder", (5, 0, 0), (0, 1, 0), radius=radius, along=(-width / 2, width / 2)), Face("free"))
    rim = np.abs(body.face_normals[:, 2]) < 0.5
    return mesh(body.vertices @ turn.T + [5, 0, 0], body.faces, faces, np.where(rim, 0, 1))


def wheeled(length: float = 1000.0) -> tuple[Project, dict[str, Mesh]]:
    """A trolley with one castor, whose wheel of 50 mm stands on the floor, on a straight path."""
    shape = tyre()
    made = Project(
        parts=(
            Part("part-1", "Trolley"),
            Part("part-2", "Castor", "part-1", Placement((300, 200, 50))),
            Part("part-3", "Wheel", "part-2", Placement((-5, 0, 0)), geometry=shape.hash),
        ),
        geometry=(geometry_record(shape),),
        paths=(PathRecord("path-1", "Aisle", PointShape((PathPoint((0, 0, 0)), PathPoint((length, 0, 0))))),),
    )
    run = Run("run-1", "Rolls", "part-1", "path-1", orientation=AlongOrientation())
    return edits.add(made, run), {shape.hash: shape}


def gear_mesh(teeth: int, module: float, turned: float = 0.0, ring: bool = False, thin: float = 1.0) -> Mesh:
    """A gear about z with straight flanks, the middle of a tooth ``turned`` rad from x; or a ring with its teeth inside."""
    radius, sense = 0.5 * module * teeth, -1.0 if ring else 1.0
    tip, root = radius + sense * module, radius - sense * 1.25 * module
    places = (
        np.arange(teeth)[:, None] + thin * np.array([-0.36, -0.14, 0.14, 0.36])
    ).ravel() * 2 * np.pi / teeth + turned
    radii = np.tile([root, tip, tip, root], teeth)
    other = radius * (1.5 if ring else 0.3)
    return _between_outlines(places, radii, np.full(len(radii), other), 10.0)


def _between_outlines(places: np.ndarray, one: np.ndarray, two: np.ndarray, width: float) -> Mesh:
    """A solid about z between two outlines given by radii at the same angles."""
    ring = np.column_stack([np.cos(places), np.sin(places)])
    n = len(places)
    layers = [np.column_stack([r[:, None] * ring, np.full(n, h)]) for h in (-width / 2, width / 2) for r in (one, two)]
    triangles = []
    for low, high in ((0, 1), (2, 3), (0, 2), (1, 3)):
        a = np.arange(n)
        b = (a + 1) % n
        triangles += [np.column_stack([low * n + a, low * n + b, high * n + a])]
        triangles += [np.column_stack([low * n + b, high * n + b, high * n + a])]
    body = trimesh.Trimesh(np.vstack(layers), np.vstack(triangles), process=False)
    return mesh(body.vertices, body.faces)


def rack_mesh(teeth: int, module: float, moved: float = 0.0) -> Mesh:
    """A rack along x whose teeth look up, its tips one module above its pitch line at height 0, a tooth's middle at ``moved``."""
    pitch = np.pi * module
    tops = []
    for k in range(teeth):
        tops += [
            (moved + (k + share) * pitch, h * module)
            for share, h in ((-0.4, -1.25), (-0.15, 1), (0.15, 1), (0.4, -1.25))
        ]
    top = np.array(tops)
    n = len(top)
    layers = [
        np.column_stack([top[:, 0], np.full(n, y), z])
        for y in (-5.0, 5.0)
        for z in (top[:, 1], np.full(n, -4 * module))
    ]
    triangles = []
    a = np.arange(n - 1)
    for low, high in ((0, 1), (2, 3), (0, 2), (1, 3)):
        triangles += [np.column_stack([low * n + a, low * n + a + 1, high * n + a])]
        triangles += [np.column_stack([low * n + a + 1, high * n + a + 1, high * n + a])]
    return mesh(np.vstack(layers), np.vstack(triangles))
