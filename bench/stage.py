"""Redraw of the stage against a bare VTK window that shows the same scene: of the demo, and of a large assembly."""

import time

import numpy as np
from vtkmodules.vtkRenderingCore import vtkRenderWindow

from bench.bare import bare_renderer
from bench.demo import PROJECT
from bench.large import assembly
from kestrav.core.files import project_file
from kestrav.render.palette import rgb

_PARTS, _TRIANGLES = 800, 2_000_000
_PLAYED, _RATE = 2.0, 15.0  # s that it plays at a time, and pictures a second


def _opened(project, meshes, file=None):
    """A window of Kestrav that shows a project, and the application."""
    from PySide6.QtWidgets import QApplication

    from kestrav.app.shell.start import make_application
    from kestrav.app.shell.window import Window

    application = make_application()
    assert isinstance(application, QApplication)
    window = Window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.session.open(project, meshes, file)
    for _ in range(20):
        application.processEvents()
    window.stage.draw()
    return application, window


def _plain(window, project, meshes, sources):
    """A window of VTK's own with the same pictures as some renderers of a stage have."""
    plain = vtkRenderWindow()
    plain.SetMultiSamples(0)
    plain.SetSize(window.stage.width(), window.stage.height())
    for source in sources:
        renderer, _ = bare_renderer(project, meshes, edges=source is window.stage.main)
        renderer.SetViewport(source.GetViewport())
        renderer.SetBackground(*rgb("#f1eee6"))
        renderer.GetActiveCamera().DeepCopy(source.GetActiveCamera())
        plain.AddRenderer(renderer)
    plain.Render()
    return plain


def _turning(window, plain, times):
    """What turns the view in either window so many times."""
    stage, first = window.stage, plain.GetRenderers().GetFirstRenderer()

    def ours():
        for _ in range(times):
            stage.viewpoint.turn(0.01, 0.0)
            stage.draw()

    def bare():
        for _ in range(times):
            first.GetActiveCamera().Azimuth(np.degrees(0.01))
            plain.Render()

    return ours, bare


def redraw_against_bare_window(in_turns):
    opened = project_file.load(PROJECT)
    _, window = _opened(opened.project, opened.meshes, PROJECT)
    stage = window.stage
    plain = _plain(window, opened.project, opened.meshes, (stage.main, stage.lens))
    mine, theirs = in_turns(*_turning(window, plain, 5), 7)
    window.session.undo.setClean()
    window.close()
    return (
        f"redraw of the stage at {stage.width()} x {stage.height()} with its lens: {5 / mine:.1f} a second against "
        f"{5 / theirs:.1f} of a bare VTK window: {theirs / mine:.2f} of its rate (at least 0.8)",
        theirs / mine >= 0.8,
    )


def playing(in_turns):
    """The demo as it plays with stage and lens, without pictures that were kept before; the bare window shows the same from one side."""
    opened = project_file.load(PROJECT)
    application, window = _opened(opened.project, opened.meshes, PROJECT)
    stage = window.stage
    window.checking.finish()  # it would have a core of its own
    stage.play.preview.show = lambda frame: False
    stage.play.preview.rest = lambda frame: None
    plain = _plain(window, opened.project, opened.meshes, (stage.main, stage.lens))
    drawn = []

    def ours():
        window.session.set_time(2.0)
        before, end = stage.drawings, time.perf_counter() + _PLAYED
        window.player.toggle()
        while time.perf_counter() < end:
            application.processEvents()
        window.player.stop()
        drawn.append(stage.drawings - before)

    def bare():
        for _ in range(5):
            plain.Render()

    _, theirs = in_turns(ours, bare, 5)
    rate = float(np.median(drawn[1:])) / _PLAYED
    window.session.undo.setClean()
    window.close()
    return (
        f"playing the demo at {stage.width()} x {stage.height()} with its lens: {rate:.1f} pictures a second (at least {_RATE:g}), "
        f"{rate * theirs / 5:.2f} times as many as a bare VTK window draws",
        rate >= _RATE,
    )


def redraw_of_a_large_assembly(in_turns):
    """The stage alone, which is drawn coarse while the view turns, and then whole in steps."""
    project, meshes = assembly(_PARTS, _TRIANGLES)
    application, window = _opened(project, meshes)
    stage = window.stage
    stage.arrangement.set_lens_shown(False)
    window.findings.stop.click()
    while stage.scene.refining or stage.gradual.pending:
        application.processEvents()
    plain = _plain(window, project, meshes, (stage.main,))
    mine, theirs = in_turns(*_turning(window, plain, 3), 5)
    steps = []

    def whole():
        stage.draw()
        stage.gradual.fill()
        while stage.gradual.pending:
            began = time.perf_counter()
            application.processEvents()
            steps.append(time.perf_counter() - began)

    all_of_it, once = in_turns(whole, plain.Render, 3)
    window.session.undo.setClean()
    window.close()
    return (
        f"a view of {_PARTS:,} parts of {_TRIANGLES / 1e6:g} million triangles turned: {3 / mine:.1f} pictures a second against "
        f"{3 / theirs:.1f} of a bare VTK window: {theirs / mine:.2f} of its rate (at least 0.8); the whole picture as it rests takes "
        f"{all_of_it / once:.1f} times as long as a bare one, in steps of at most {1000 * max(steps):.0f} ms",
        theirs / mine >= 0.8,
    )
