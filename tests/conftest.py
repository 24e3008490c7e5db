"""Shared by all tests: a small project made from plain shapes, and the demo."""

from __future__ import annotations

import os
from pathlib import Path

# software rendering of many small windows needs no help from more threads
os.environ.setdefault("LP_NUM_THREADS", "2")

import numpy as np
import pytest
import trimesh

from kestrav.core.document.records import (
    Part,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    Settings,
)
from kestrav.core.document.records import Path as PathRecord
from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
from kestrav.core.files.cad_import import geometry_record
from kestrav.core.geometry.meshes import Mesh, mesh

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


@pytest.fixture
def passing() -> project_file.Opened:
    """A cube that passes a post, 4 mm away at the nearest, under a limit of 5 mm."""
    return make_project(
        {
            "Cube": (box_mesh(20, 20, 20), (-100.0, 0.0, 0.0)),
            "Post": (box_mesh(10, 10, 100), (0.0, 19.0, 0.0)),
            "Floor": (box_mesh(400, 400, 10), (0.0, 0.0, -15.0)),
        },
        straight((-100, 0, 0), (100, 0, 0)),
        duration=2.0,
    )


@pytest.fixture(scope="session")
def demo() -> project_file.Opened:
    """The demo project."""
    return project_file.load(DEMO)


@pytest.fixture
def saved(passing: project_file.Opened, tmp_path: Path) -> Path:
    """The small project in a file."""
    target = tmp_path / "small.kestrav"
    project_file.save(passing.project, passing.meshes, target)
    return target


@pytest.fixture
def random() -> np.random.Generator:
    """Random numbers that are the same every time."""
    return np.random.default_rng(20)
