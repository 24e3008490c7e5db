"""Rendered frames a second against a bare VTK and PyAV loop that makes the same film."""

import tempfile
from fractions import Fraction
from pathlib import Path

import av
import msgspec
import numpy as np
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray
from vtkmodules.vtkRenderingCore import vtkRenderWindow

from bench.bare import bare_renderer
from bench.demo import PROJECT
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.lens import vertical_angle
from kestrav.core.camera.views import views
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.files import project_file
from kestrav.core.motion.poses import moving_groups, world_poses
from kestrav.render.film import render_shot
from kestrav.render.picture import REACH
from kestrav.render.scene import aim_camera, is_software
from kestrav.render.shapes import vtk_matrix


def frames_against_bare_loop(in_turns):
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    shot = msgspec.structs.replace(project.shots[0], width=640, height=360, fps=24.0, start=1.0, end=2.5)
    count = frame_count(shot)
    camera = camera_of(project, shot.camera)
    times = [frame_time(shot, i) for i in range(count)]
    poses = world_poses(project, times)
    seen = views(project, meshes, camera, times, poses)
    angle = vertical_angle(camera, shot.width, shot.height)
    movers = [i for i, p in enumerate(project.parts) if p.id in moving_groups(project)]

    def bare(target):
        renderer, actors = bare_renderer(project, meshes)
        window = vtkRenderWindow()
        window.SetOffScreenRendering(True)
        window.SetMultiSamples(0)
        window.SetSize(shot.width, shot.height)
        window.AddRenderer(renderer)
        window.Render()
        if is_software(window):
            renderer.UseFXAAOn()
        pixels = vtkUnsignedCharArray()
        with av.open(str(target), "w") as container:
            stream = container.add_stream("libx264", rate=Fraction(24), options={"crf": "17", "preset": "fast"})
            stream.width, stream.height, stream.pix_fmt = shot.width, shot.height, "yuv420p"
            for i in range(count):
                for row in movers:
                    for actor in actors.get(row, ()):
                        vtk_matrix(poses[i, row], actor.GetUserMatrix())
                aim_camera(renderer, seen.position[i], seen.target[i], seen.up[i], angle, REACH)
                window.Render()
                window.GetPixelData(0, 0, shot.width - 1, shot.height - 1, 0, pixels, 0)
                picture = np.ascontiguousarray(vtk_to_numpy(pixels).reshape(shot.height, shot.width, 3)[::-1])
                for packet in stream.encode(av.VideoFrame.from_ndarray(picture, format="rgb24")):
                    container.mux(packet)
            for packet in stream.encode():
                container.mux(packet)
        window.Finalize()

    with tempfile.TemporaryDirectory() as folder:
        ours_target, bare_target = Path(folder) / "ours.mp4", Path(folder) / "bare.mp4"
        ours, loop = in_turns(
            lambda: render_shot(project, meshes, shot, ours_target, overwrite=True), lambda: bare(bare_target), 5
        )
    return (
        f"film of {count} frames at {shot.width} x {shot.height}: {count / ours:.1f} frames a second against "
        f"{count / loop:.1f} of a bare VTK and PyAV loop: {loop / ours:.2f} of its rate (at least 0.9)",
        loop / ours >= 0.9,
    )
