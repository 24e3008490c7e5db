"""Films against a bare VTK and PyAV loop that makes the same one, and how soon a preview begins after a click.

``python -m bench.films bare|PROCESSES TARGET`` makes one film and prints the seconds that it took.
"""

import os
import statistics
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

from bench.demo import PROJECT

_FRAMES, _SIZE = 96, (1280, 720)
_ROUNDS = 3
_ONE_CORE = {"LP_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}


def _bare(project, meshes, shot, target):
    """The film as a script makes it: an actor for each part, placed, drawn and encoded frame by frame."""
    import av
    import numpy as np
    from vtkmodules.util.numpy_support import vtk_to_numpy
    from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
    from vtkmodules.vtkRenderingCore import vtkRenderWindow

    from bench.bare import bare_renderer
    from kestrav.core.camera.adjusting import camera_of
    from kestrav.core.camera.lens import vertical_angle
    from kestrav.core.camera.views import views
    from kestrav.core.document.shots import frame_count, frame_time
    from kestrav.core.finishes.applied import finishes_of
    from kestrav.core.kinematics.poses import moving_groups, world_poses
    from kestrav.render.aiming import aim_camera
    from kestrav.render.finishes import opacity_of
    from kestrav.render.picture import REACH
    from kestrav.render.scene_lights import ProjectLights
    from kestrav.render.shapes import vtk_matrix

    camera, count = camera_of(project, shot.camera), frame_count(shot)
    times = [frame_time(shot, i) for i in range(count)]
    poses = world_poses(project, times)
    seen = views(project, meshes, camera, times, poses)
    angle = vertical_angle(camera, shot.width, shot.height)
    movers = [i for i, p in enumerate(project.parts) if p.id in moving_groups(project)]
    renderer, actors = bare_renderer(project, meshes)
    finishes = finishes_of(project)
    for row, (face, *_) in actors.items():
        # glass lets through, as it does in the film
        look, part = face.GetProperty(), project.parts[row]
        look.SetOpacity(opacity_of(finishes.get(part.id), part.opacity, "finished"))
        look.SetBackfaceCulling(look.GetBackfaceCulling() and look.GetOpacity() >= 1)
    lights = ProjectLights([renderer])
    window = vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetMultiSamples(0)
    window.SetSize(shot.width, shot.height)
    window.AddRenderer(renderer)
    pixels = vtkUnsignedCharArray()
    with av.open(str(target), "w") as container:
        stream = container.add_stream("libx264", rate=Fraction(24), options={"crf": "17", "preset": "fast"})
        stream.width, stream.height, stream.pix_fmt = shot.width, shot.height, "yuv420p"
        for i in range(count):
            for row in movers:
                for actor in actors.get(row, ()):
                    vtk_matrix(poses[i, row], actor.GetUserMatrix())
            lights.show(project, times[i])
            aim_camera(renderer, seen.position[i], seen.target[i], seen.up[i], angle, REACH)
            window.Render()
            window.GetPixelData(0, 0, shot.width - 1, shot.height - 1, 0, pixels, 0)
            picture = np.ascontiguousarray(vtk_to_numpy(pixels).reshape(shot.height, shot.width, 3)[::-1])
            for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)
    window.Finalize()


def make_film(way, target):
    """Make the film one way, and tell the seconds from the loaded project to the whole file."""
    import msgspec

    from kestrav.core.document.records import OnPicture
    from kestrav.core.files import project_file
    from kestrav.render.film import render_shot

    opened = project_file.load(PROJECT)
    shot = msgspec.structs.replace(
        opened.project.shots[0], width=_SIZE[0], height=_SIZE[1], fps=24.0, start=1.0, end=1.0 + _FRAMES / 24.0,
        look="technical", quality="preview", shows=OnPicture(), background_top="",
    )  # fmt: skip
    began = time.perf_counter()
    if way == "bare":
        _bare(opened.project, opened.meshes, shot, Path(target))
    else:
        render_shot(opened.project, opened.meshes, shot, Path(target), processes=int(way))
    print(time.perf_counter() - began)


def _took(way):
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-m", "bench.films", way, str(Path(folder) / "film.mp4")]
        # one core for each process; two processes have two, and the bare loop has no use for the second
        told = subprocess.run(command, env=os.environ | _ONE_CORE, stdout=subprocess.PIPE, text=True, check=True)
    return float(told.stdout.split()[-1])


def frames_against_bare_loop(_in_turns):
    took = {way: [] for way in ("bare", "1", "2")}
    for _ in range(_ROUNDS):
        for way, kept in took.items():
            kept.append(_took(way))
    bare, one, two = (statistics.median(kept) for kept in took.values())
    return (
        f"film of {_FRAMES} frames at {_SIZE[0]} x {_SIZE[1]}: {_FRAMES / one:.1f} frames a second by one process and "
        f"{_FRAMES / two:.1f} by two, against {_FRAMES / bare:.1f} of a bare VTK and PyAV loop: "
        f"{bare / one:.2f} (at least 0.9) and {bare / two:.2f} (at least 1.7) of its rate",
        bare / one >= 0.9 and bare / two >= 1.7,
    )


_CLICKS = """
import sys, time
from pathlib import Path
import msgspec
from kestrav.core.document.records import OnPicture

def main():
    from kestrav.app.shell.start import make_application
    from kestrav.core.files import project_file
    application = make_application()
    from kestrav.app.shell.window import Window
    opened = project_file.load(Path(sys.argv[1]))
    window = Window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.session.open(opened.project, opened.meshes, None)

    def until(ready):
        while not ready():
            application.processEvents()
            time.sleep(0.001)

    until(lambda: window.checking.current)
    window.filming.show_film()
    view = window.filming.view
    until(lambda: view.job is None and view.rows)
    drawn, told = [], []
    window.stage.drawn.connect(lambda: drawn.append(1))
    for _ in range(5):
        view.slider.setValue(0)
        until(lambda: not window.stage._timer.isActive())
        window.stage.draw()
        drawn.clear()
        began = time.perf_counter()
        view.play.click()
        until(lambda: drawn)
        told.append(time.perf_counter() - began)
        view.play.click()
    print(sorted(told)[2])
    shot = msgspec.structs.replace(opened.project.shots[0], quality="preview", end=2.0, width=640, height=360)
    began = time.perf_counter()
    window.filming.start([shot], Path(sys.argv[2]))
    kept = window.job.pictures
    until(lambda: kept.exists() and any(kept.glob("*.frame")))
    print(time.perf_counter() - began)
    until(lambda: window.job is None)
    window.session.undo.setClean()
    window.close()

main()
"""


def preview_after_a_click(_in_turns):
    with tempfile.TemporaryDirectory() as folder:
        command = [sys.executable, "-c", _CLICKS, str(PROJECT), str(Path(folder) / "film.mp4")]
        told = subprocess.run(command, stdout=subprocess.PIPE, text=True, check=True).stdout.split()
    played, rendered = (1000 * float(v) for v in told[-2:])
    return (
        f"from a click on Play to the first picture of the film in the lens: {played:.0f} ms; from a click on Render to the first "
        f"finished frame at 640 x 360 in preview quality: {rendered:.0f} ms (no limits set)",
        True,
    )


if __name__ == "__main__":
    make_film(*sys.argv[1:])
