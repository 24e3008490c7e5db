"""Poses of many moving parts, the timeline's redraw, and one drag of a key to updated charts."""

import itertools
import time

import numpy as np
import pyqtgraph as pg

from kestrav.core.document import edits
from kestrav.core.document.records import (
    AlongOrientation,
    CarriedOrientation,
    Eased,
    Keyed,
    Limited,
    Part,
    Path,
    PathPoint,
    Placement,
    PointShape,
    Project,
    Run,
    SpeedKey,
    Wheel,
)
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.poses import world_poses

TIMES = np.linspace(0.0, 20.0, 600)
VEHICLES, PARTS = 25, 40


def fleet():
    """A thousand moving parts: vehicles of many parts, each on a bent path with a run of its own, one in three on two
    points, one in three with limits of bends."""
    rng = np.random.default_rng(1)
    parts, paths, runs = [], [], []
    for v in range(VEHICLES):
        parts.append(Part(f"v{v}", f"Vehicle {v}"))
        for k in range(1, PARTS):
            place = tuple(float(x) for x in rng.uniform(-500, 500, 3))
            parts.append(Part(f"v{v}-{k}", f"Part {k}", f"v{v}", Placement(place)))
        line = np.cumsum(rng.uniform([600, -400, 0], [1200, 400, 0], (8, 3)), axis=0)
        points = tuple(PathPoint(tuple(map(float, p))) for p in line)
        paths.append(Path(f"path-{v}", f"Aisle {v}", PointShape(points)))
        orientation = CarriedOrientation(wheelbase=800.0) if v % 3 == 0 else AlongOrientation()
        speed_profile = Limited(top=900.0, sideways=400.0) if v % 3 == 1 else Eased(300, 300)
        runs.append(
            Run(
                f"run-{v}",
                f"Run {v}",
                f"v{v}",
                f"path-{v}",
                duration=19.0,
                speed_profile=speed_profile,
                orientation=orientation,
            )
        )
    return Project(parts=tuple(parts), paths=tuple(paths), runs=tuple(runs))


def thousand_parts(in_turns):
    project = fleet()
    rng = np.random.default_rng(2)
    a, b = rng.random((len(TIMES), len(project.parts), 4, 4)), rng.random((len(project.parts), 4, 4))
    ours, bare = in_turns(lambda: world_poses(project, TIMES), lambda: a @ b, 5)
    return (
        f"poses of {len(project.parts)} moving parts at {len(TIMES)} times: {1000 * ours:.0f} ms against {1000 * bare:.0f} of "
        f"NumPy's products of as many matrices: {ours / bare:.2f} times (at most 2)",
        ours / bare <= 2,
    )


def _window(project, lanes):
    """The real window with a project, and everything drawn once."""
    from PySide6.QtWidgets import QApplication

    from kestrav.app.shell.start import make_application
    from kestrav.app.shell.window import Window

    application = make_application()
    assert isinstance(application, QApplication)
    window = Window()
    window.resize(1280, 800)
    window.show()
    window.session.open(project, {}, None)
    window.timeline.show_lanes(lanes)
    window.panels.right.setSizes([60, 700])
    for _ in range(5):
        application.processEvents()
    return application, window


def _close(application, window):
    window.session.undo.setClean()
    window.close()
    window.deleteLater()
    application.processEvents()


def timeline_redraw(in_turns):
    """Twelve lanes of 20 000 samples: new data in all of them, and the playhead moved on, a picture each."""
    from kestrav.app.timeline.lanes import Lane

    application, window = _window(fleet(), ["clearance"])
    timeline = window.timeline
    x = np.linspace(0.0, 19.0, 20_000)
    waves = [np.sin(x * (k + 1)) + 0.05 * np.random.default_rng(k).normal(size=len(x)) for k in range(12)]
    extra = {f"extra-{k}": Lane(timeline._plot, timeline._label(), f"Lane {k}", "mm", "#0d6b74") for k in range(12)}
    timeline.every.update(extra)
    timeline.keys_drawn = {}
    timeline.show_lanes(list(extra))
    plain = pg.GraphicsLayoutWidget()
    plain.resize(timeline.chart.size())
    curves = []
    for k in range(12):
        plot = plain.addPlot(row=k, col=0)
        plot.setYRange(-1.3, 1.3)
        curves.append(plot.plot(x, waves[k], pen=pg.mkPen("#0d6b74", width=1.8), antialias=True))
    plain.show()
    for _ in range(5):
        application.processEvents()
    turn = [0]

    def ours():
        for _ in range(5):
            turn[0] += 1
            for k, lane in enumerate(extra.values()):
                lane.show(x, waves[(k + turn[0]) % 12], 1.3, -1.3)
            timeline.chart.viewport().repaint()

    def bare():
        for _ in range(2):
            turn[0] += 1
            for k, curve in enumerate(curves):
                curve.setData(x, waves[(k + turn[0]) % 12])
            plain.viewport().repaint()

    took, base = in_turns(ours, bare, 5)
    moved = _timed(lambda: _move_playhead(timeline), 20)
    plain.close()
    _close(application, window)
    rate, bare_rate, follows = 5 / took, 2 / base, 1 / moved
    return (
        f"the timeline with 12 lanes of 20 000 samples: {rate:.0f} redraws a second with new data, {follows:.0f} as the playhead "
        f"moves (at least 60 each); pyqtgraph alone {bare_rate:.1f}",
        rate >= 60 and follows >= 60,
    )


def _move_playhead(timeline):
    """The timeline alone: the stage draws at its own pace."""
    timeline.session.time = (timeline.session.time + 0.05) % 19.0
    timeline.follow()
    timeline.chart.viewport().repaint()


def _timed(work, rounds):
    work()
    took = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        took.append(time.perf_counter() - began)
    return float(np.median(took))


def key_drag(in_turns):
    """A key of distance moved by one step: the edit, the run, the charts, drawn."""
    project = edits.update(
        fleet(), "run-2", speed_profile=Keyed((SpeedKey(0, 0), SpeedKey(0.3, 0.2), SpeedKey(0.6, 0.7), SpeedKey(1, 1)))
    )
    application, window = _window(project, ["distance", "speed", "acceleration", "sideways"])
    timeline, session = window.timeline, window.session
    session.select("run-2")
    application.processEvents()
    step = [0]

    def drag():
        step[0] += 1
        way = 0.7 + 0.001 * (step[0] % 50)

        def edit(p):
            run = next(r for r in p.runs if r.id == "run-2")
            keys = list(run.speed_profile.keys)
            keys[2] = SpeedKey(0.6, way)
            return edits.update(p, "run-2", speed_profile=Keyed(tuple(keys)))

        session.edit("Key", edit, merge="drag")
        timeline.chart.viewport().repaint()

    took = _timed(drag, 30)
    _close(application, window)
    return (
        f"one step of a drag of a key to updated charts (4 lanes, 25 runs): {1000 * took:.1f} ms (at most 50)",
        took <= 0.05,
    )


def many_wheels(in_turns):
    """200 wheels on 20 vehicles: their angles at 600 times, against plain NumPy of the same sums."""
    parts, paths, runs, wheels = [], [], [], []
    rng = np.random.default_rng(3)
    for v in range(20):
        parts.append(Part(f"v{v}", f"Vehicle {v}"))
        for w in range(10):
            place = (400.0 * (w // 2), 300.0 if w % 2 else -300.0, 50.0)
            parts.append(Part(f"v{v}-{w}", f"Wheel {w}", f"v{v}", Placement(place)))
            wheels.append(Wheel(f"wheel-{v}-{w}", f"Wheel {w}", f"v{v}-{w}", radius=50.0))
        line = np.cumsum(rng.uniform([600, -400, 0], [1200, 400, 0], (8, 3)), axis=0)
        paths.append(Path(f"path-{v}", f"Aisle {v}", PointShape(tuple(PathPoint(tuple(map(float, p))) for p in line))))
        runs.append(
            Run(
                f"run-{v}",
                f"Run {v}",
                f"v{v}",
                f"path-{v}",
                duration=19.0,
                speed_profile=Eased(300, 300),
                orientation=AlongOrientation(),
            )
        )
    project = Project(parts=tuple(parts), paths=tuple(paths), runs=tuple(runs), wheels=tuple(wheels))
    motion = Motion(project)
    grid = motion.rolling(project.wheels[0]).path.times
    bases = {roll.part: motion.poses(project.parts[11 * (k // 10)].id, grid) for k, roll in enumerate(project.wheels)}
    places = {p.id: np.array(p.placement.position) for p in project.parts}

    def plain():
        """The centre's steps along the way ahead, added up, from poses that are given."""
        for roll in project.wheels:
            base = bases[roll.part]
            centre = base[:, :3, :3] @ places[roll.part] + base[:, :3, 3]
            axis = base[:, :3, 1]
            ahead = np.cross(axis, [0.0, 0.0, 1.0])
            ahead /= np.linalg.norm(ahead, axis=1)[:, None]
            steps = np.einsum("ij,ij->i", np.diff(centre, axis=0), 0.5 * (ahead[:-1] + ahead[1:]))
            np.interp(TIMES, grid, np.concatenate([[0.0], np.cumsum(steps)]) / roll.radius)

    starts = itertools.count()

    def ours():
        moved = edits.update(project, "run-0", start=float(next(starts) % 7) * 1e-3)
        world_poses(moved, TIMES)

    took, bare = in_turns(ours, plain, 5)
    return (
        f"200 wheels on 20 vehicles at {len(TIMES)} times after an edit, all poses: {1000 * took / 200:.2f} ms a wheel against "
        f"{1000 * bare / 200:.2f} of NumPy's sums alone: {took / bare:.2f} times (at most 6)",
        took / bare <= 6,
    )
