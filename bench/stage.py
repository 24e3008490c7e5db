"""Redraw of the stage against a bare VTK window that shows the same scene."""

import numpy as np
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

from bench.bare import bare_renderer
from bench.demo import PROJECT
from kestrav.core.files import project_file
from kestrav.render.palette import rgb


def redraw_against_bare_window(in_turns):
    from PySide6.QtWidgets import QApplication

    from kestrav.app.shell.start import make_application
    from kestrav.app.shell.window import Window

    application = make_application()
    assert isinstance(application, QApplication)
    opened = project_file.load(PROJECT)
    window = Window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.session.open(opened.project, opened.meshes, PROJECT)
    stage = window.stage
    for _ in range(20):
        application.processEvents()
    stage.draw()

    # the same two pictures, the lens in its corner, in a window of VTK's own
    plain = vtkRenderWindow()
    plain.SetMultiSamples(0)
    plain.SetSize(stage.width(), stage.height())
    for source in (stage.main, stage.lens):
        renderer, _ = bare_renderer(opened.project, opened.meshes, edges=source is stage.main)
        renderer.SetViewport(source.GetViewport())
        renderer.SetBackground(*rgb("#f1eee6"))
        renderer.GetActiveCamera().DeepCopy(source.GetActiveCamera())
        plain.AddRenderer(renderer)
    plain.Render()

    turn = [0.0]

    def ours():
        for _ in range(5):
            turn[0] += 0.01
            stage.viewpoint.turn(0.01, 0.0)
            stage.draw()

    def bare():
        renderers = plain.GetRenderers()
        first: vtkRenderer = renderers.GetFirstRenderer()
        for _ in range(5):
            first.GetActiveCamera().Azimuth(np.degrees(0.01))
            plain.Render()

    mine, theirs = in_turns(ours, bare, 7)
    window.session.undo.setClean()
    window.close()
    return (
        f"redraw of the stage at {stage.width()} x {stage.height()} with its lens: {5 / mine:.1f} a second against "
        f"{5 / theirs:.1f} of a bare VTK window: {theirs / mine:.2f} of its rate (at least 0.8)",
        theirs / mine >= 0.8,
    )
