"""Dragging a point of a path that much hangs on, drawings of many points, and a large DXF."""

import tempfile
import time
from pathlib import Path

import ezdxf
import ezdxf.path
import numpy as np
from scipy.integrate import cumulative_simpson
from scipy.interpolate import CubicHermiteSpline, CubicSpline

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    Camera,
    Part,
    PartAim,
    Path as PathRecord,
    PathPoint,
    PointShape,
    Project,
    Run,
)
from kestrav.core.files.path_files import read_paths
from kestrav.core.kinematics.poses import camera_positions, world_poses
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.surface_paths import derive_surface_paths

TIMES = np.arange(121) / 30


def _places(count):
    turn = np.linspace(0, 6 if count < 1000 else 60, count)
    rng = np.random.default_rng(0)
    return np.stack([1000 * np.cos(turn), 1000 * np.sin(turn), 20 * turn], axis=1) + rng.normal(0, 0.3, (count, 3))


def _project(places):
    points = tuple(PathPoint(tuple(map(float, p))) for p in places)
    riders = ("a", "b", "c", "camera")
    return Project(
        paths=(PathRecord("path", "Path", PointShape(points)),),
        parts=tuple(Part(name, name) for name in riders[:3]),
        cameras=(Camera("camera", "Camera", PartAim("a")),),
        runs=tuple(Run(f"run-{r}", r, r, "path", duration=4.0, orientation=AlongOrientation()) for r in riders),
    )


class Drag:
    """One step of a drag after another: the edited project, the poses of three riders, a camera's places."""

    def __init__(self, count):
        self.project = _project(_places(count))
        self.index = count // 4

    def step(self):
        x, y, z = self.project.paths[0].shape.points[self.index].position
        changed = edits.set_point(self.project, "path", self.index, position=(x + 0.5, y, z))
        self.project = derive_surface_paths(changed, self.project)
        world_poses(self.project, TIMES)
        camera_positions(self.project, self.project.cameras[0], TIMES)


def bare_step(places):
    """The same with SciPy alone: a spline, its length to 1e-9, places and level frames of four riders by distance."""
    chord = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(places, axis=0), axis=1))])
    spline = CubicSpline(chord, places)
    # Simpson's rule needs some forty places a piece for that
    parameter = np.linspace(chord[0], chord[-1], 40 * (len(places) - 1) + 1)
    speed = np.linalg.norm(spline(parameter, 1), axis=1)
    length = cumulative_simpson(speed, x=parameter, initial=0.0)
    inverse = CubicHermiteSpline(length, parameter, 1 / speed)
    for _ in range(4):
        at = inverse(TIMES / TIMES[-1] * length[-1])
        spline(at)
        forward = spline(at, 1)
        forward /= np.linalg.norm(forward, axis=1)[:, None]
        left = np.cross([0.0, 0.0, 1.0], forward)
        left /= np.linalg.norm(left, axis=1)[:, None]
        np.stack([forward, left, np.cross(forward, left)], axis=-1)


def drag_step(in_turns):
    drag, places = Drag(200), _places(200)
    ours, bare = in_turns(drag.step, lambda: bare_step(places), 15)
    return (
        f"a drag step on a path of 200 points with three runs and a camera: {1000 * ours:.1f} ms (at most 8) against "
        f"{1000 * bare:.1f} ms of SciPy alone: {ours / bare:.2f} times its time (at most 2)",
        ours <= 0.008 and ours / bare <= 2,
    )


def long_drag_step(in_turns):
    drag, places = Drag(10_000), _places(10_000)
    ours, bare = in_turns(drag.step, lambda: bare_step(places), 5)
    return (
        f"the same on 10 000 points: {1000 * ours:.0f} ms (at most 200) against {1000 * bare:.0f} ms: "
        f"{ours / bare:.2f} times its time (at most 2)",
        ours <= 0.2 and ours / bare <= 2,
    )


def large_dxf(in_turns):
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "plan.dxf"
        document = ezdxf.new()
        document.header["$INSUNITS"] = 4
        space = document.modelspace()
        rng = np.random.default_rng(1)
        while True:
            for _ in range(400):
                x, y = rng.uniform(0, 50_000, 2)
                space.add_line((x, y), (x + 300, y + 200))
                space.add_arc((x, y), 150, 10, 200)
                space.add_lwpolyline([(x + 40 * k, y + 30 * (k % 3), 0, 0, 0.3) for k in range(8)])
                space.add_spline([(x, y, 0), (x + 90, y + 50, 0), (x + 200, y, 0), (x + 300, y + 80, 0)])
            document.saveas(file)
            if file.stat().st_size > 5_000_000:
                break

        def ours():
            return read_paths(file)

        def bare():
            found = ezdxf.readfile(file)
            return [list(ezdxf.path.make_path(e).flattening(0.01)) for e in found.modelspace()]

        mine, theirs = in_turns(ours, bare, 2)
        count, size = len(list(space)), file.stat().st_size / 1e6
    return (
        f"a DXF of {size:.1f} MB with {count} curves, of which the longest 300 become paths: {mine:.1f} s against {theirs:.1f} s of ezdxf's own flattening: "
        f"{mine / theirs:.2f} times its time (at most 2.5)",
        mine / theirs <= 2.5,
    )


def redrawing_ten_thousand_points(in_turns):
    """The marks of a path of 10 000 points made anew, as at every step of a drag."""
    from vtkmodules.vtkRenderingCore import vtkRenderer

    from kestrav.render.marks import PathMarks

    drag = Drag(10_000)
    marks = PathMarks(vtkRenderer(), vtkRenderer())
    taken = []
    for _ in range(4):
        drag.step()
        path_curve(drag.project.paths[0])
        started = time.perf_counter()
        marks.update(drag.project, "path", (drag.index,), 3.0)
        taken.append(time.perf_counter() - started)
    return f"its marks made anew: {1000 * min(taken):.0f} ms (at most 100)", min(taken) <= 0.1
