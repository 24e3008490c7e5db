"""Small projects made from plain shapes, and where the demo is."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import trimesh

from kestrav.core.document import edits
from kestrav.core.document.records import AlongHeading, Part, PathPoint, Placement, PointShape, Project, Run, Settings
from kestrav.core.document.records import Path as PathRecord
from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
from kestrav.core.geometry.faces import Face
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.motion.solids import geometry_record

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
    run = Run("run-1", "Rolls", "part-1", "path-1", heading=AlongHeading())
    return edits.add(made, run), {shape.hash: shape}
