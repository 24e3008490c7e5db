"""Small projects made from plain shapes, and where the demo is."""

from __future__ import annotations

from pathlib import Path

import trimesh

from kestrav.core.document.records import Part, PathPoint, Placement, PointShape, Project, Run, Settings
from kestrav.core.document.records import Path as PathRecord
from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
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
