"""Make the demo project from the STEP assemblies beside this script: ``make demo-project``."""

from __future__ import annotations

from pathlib import Path

import msgspec

from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document import edits
from kestrav.core.document.records import (
    Eased,
    FixedHeading,
    PathPoint,
    PointShape,
    Project,
    Run,
    Settings,
)
from kestrav.core.document.records import Path as PathRecord
from kestrav.core.files import project_file
from kestrav.core.files.product_import import into_project, read_product

HERE = Path(__file__).parent
PRODUCTS = ("cabinet", "trolley", "jib-hoist", "swing-gate", "plant-room")
TARGET = HERE / "fan-cassette.kestrav"

# the cassette's middle: out along its runners, aside of the riser pipe, down over the trolley
WAY_OUT = (
    PathPoint((0.0, -90.0, 1278.0), "corner"),
    PathPoint((9.0, -140.0, 1278.5)),
    PathPoint((20.0, -200.0, 1280.0)),
    PathPoint((21.0, -420.0, 1290.0)),
    PathPoint((60.0, -720.0, 1290.0)),
    PathPoint((230.0, -1050.0, 1120.0)),
    PathPoint((380.0, -1290.0, 760.0)),
    PathPoint((400.0, -1330.0, 478.0), "corner"),
)


def build() -> project_file.Opened:
    """The demo project with its meshes."""
    project = Project(name="Fan cassette exchange", settings=Settings(fps=30.0, required_clearance=6.0))
    meshes = {}
    for name in PRODUCTS:
        imported = read_product(HERE / f"{name}.step")
        project = into_project(project, imported)
        meshes.update(imported.meshes)
    ids = {part.name: part.id for part in project.parts}
    cassette, cabinet = ids["Fan cassette"], ids["Heat-pump cabinet"]
    project = edits.add(
        project,
        PathRecord("path-1", "Way out", PointShape(WAY_OUT)),
        Run(
            "run-1",
            "Cassette leaves",
            cassette,
            "path-1",
            start=0.5,
            duration=4.5,
            pacing=Eased(250.0, 300.0),
            heading=FixedHeading(),
        ),
    )
    project = add_orbit(project, cabinet, offset=2450.0, height=1900.0, duration=12.0, start=-40.0)
    shot = msgspec.structs.replace(project.shots[0], name="Cabinet orbit")
    camera = msgspec.structs.replace(project.cameras[0], name="Orbit camera", focal_length=38.0)
    # clockwise, so that the cassette is seen leaving from the front and never from behind the hoist's column
    shape = msgspec.structs.replace(project.paths[1].shape, clockwise=True)
    path = msgspec.structs.replace(project.paths[1], name="Cabinet orbit", shape=shape)
    run = msgspec.structs.replace(project.runs[1], name="Orbit of the cabinet")
    for record in (shot, camera, path, run):
        project = edits.replace(project, record)
    return project_file.Opened(project, meshes)


def main() -> None:
    """Write the project."""
    opened = build()
    project_file.save(opened.project, opened.meshes, TARGET)
    print(f"{TARGET.name}: {sum(p.geometry is not None for p in opened.project.parts)} parts")


if __name__ == "__main__":
    main()
