"""A large assembly: 2,000 parts, a quarter of them instances, of 5 million triangles, with 100 runs and 50 cameras."""

import io
import resource
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

import coal
import msgspec
import numpy as np
import trimesh

from kestrav.core.clearance.sweep import prepared, sweep
from kestrav.core.document.records import (
    Camera,
    Part,
    Path as PathRecord,
    PathPoint,
    Placement,
    PointAim,
    PointShape,
    Project,
    Run,
)
from kestrav.core.document.validation import validate
from kestrav.core.files import project_file
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.meshes import mesh
from kestrav.core.geometry.models import placed
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.solids import with_meshes

PARTS, TRIANGLES, RUNS, CAMERAS = 2000, 5_000_000, 100, 50
_APART = 170.0  # mm
_SECONDS = 10.0  # within which it is to be open
_GIGABYTES = 4.0
_SAMPLED = 20_000  # distances by which coal's time on all is told
_FASTER = 50


def assembly(parts=PARTS, triangles=TRIANGLES):
    """The project and its meshes."""
    rng = np.random.default_rng(1)
    shapes = []
    for _ in range(parts * 3 // 4):
        sections = int(max(4, np.sqrt(triangles / parts * rng.uniform(0.4, 1.6) / 2)))
        body = trimesh.creation.torus(1.0, 0.35, major_sections=sections, minor_sections=sections)
        shapes.append(mesh(body.vertices * rng.uniform(20, 120, 3) / 2, body.faces))
    side = int(np.ceil(parts ** (1 / 3)))
    made = []
    for k in range(parts):
        at = _APART * np.array([k % side, (k // side) % side, k // side // side])
        made.append(
            Part(f"part-{k}", f"Part {k}", placement=Placement(vector(at)), geometry=shapes[k % len(shapes)].hash)
        )
    paths, runs = [], []
    for k in range(RUNS):
        rider = made[k * parts // RUNS]
        start = np.array(rider.placement.position)
        line = PointShape((PathPoint(vector(start)), PathPoint(vector(start - [0.0, 3000.0 + 20 * k, 0.0]))))
        paths.append(PathRecord(f"path-{k}", f"Path {k}", line))
        runs.append(Run(f"run-{k}", f"Run {k}", rider.id, f"path-{k}", start=0.2 * k, duration=4.0))
    eyes = [
        Camera(
            f"camera-{k}",
            f"Camera {k}",
            PointAim((1000.0, 1000.0, 1000.0)),
            position=(3000.0 + 10 * k, -3000.0, 2000.0),
        )
        for k in range(CAMERAS)
    ]
    project = with_meshes(Project(name="Large"), shapes)
    project = msgspec.structs.replace(
        project, parts=tuple(made), paths=tuple(paths), runs=tuple(runs), cameras=tuple(eyes)
    )
    return validate(project), {shape.hash: shape for shape in shapes}


def _bare(file):
    """The same geometry by trimesh alone, as the archive holds it."""
    with zipfile.ZipFile(file) as archive:
        for name in archive.namelist():
            if name.endswith(".glb"):
                trimesh.load_scene(io.BytesIO(archive.read(name)), file_type="glb", process=False)


def opening(in_turns):
    """Opening its project file against trimesh reading the same meshes, and the memory that takes."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "large.kestrav")
        project, meshes = assembly()
        project_file.save(project, meshes, file)
        took, bare = in_turns(lambda: project_file.load(file), lambda: _bare(file), 3)
        code = "import sys\nfrom pathlib import Path\nfrom kestrav.core.files import project_file\nproject_file.load(Path(sys.argv[1]))"
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", code, str(file)], check=True)
        whole = time.perf_counter() - began
    memory = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e6
    return (
        f"opening {PARTS:,} parts of {TRIANGLES / 1e6:g} million triangles: {took:.1f} s ({whole:.1f} s with the program's start; at most "
        f"{_SECONDS:g}), {took / bare:.2f} of trimesh reading the meshes alone, {memory:.2f} GB (at most {_GIGABYTES:g})",
        whole < _SECONDS and memory < _GIGABYTES,
    )


def clearing(in_turns):
    """Clearance of the large assembly, whose riders go through it and so into much else, against coal's distance of every pair at every
    frame, which is measured at some and taken so many times."""
    project, meshes = assembly(PARTS, TRIANGLES // 25)
    times = frame_times(project)
    began = time.perf_counter()
    found = sweep(project, meshes, times)
    ours = time.perf_counter() - began
    ready = prepared(project, meshes)
    rng = np.random.default_rng(2)
    pairs, request = len(ready.bodies.first), coal.DistanceRequest()
    taken = [(int(rng.integers(pairs)), int(rng.integers(len(times)))) for _ in range(_SAMPLED)]
    poses = {f: world_poses(project, times[f : f + 1])[0, ready.bodies.rows] for f in {frame for _, frame in taken}}
    began = time.perf_counter()
    for k, frame in taken:
        a, b = ready.bodies.first[k], ready.bodies.second[k]
        one, two = placed(poses[frame][a]), placed(poses[frame][b])
        coal.distance(ready.bodies.models[a], one, ready.bodies.models[b], two, request, coal.DistanceResult())
    bare = (time.perf_counter() - began) / _SAMPLED * pairs * len(times)
    return (
        f"clearance of {PARTS:,} parts of which {RUNS} move, {len(times)} frames: {ours:.1f} s with {len(found.breaches)} pairs that breach; "
        f"coal on every one of {pairs:,} pairs would take {bare:,.0f} s, {bare / ours:.0f} times as long (at least {_FASTER})",
        bare / ours >= _FASTER,
    )
