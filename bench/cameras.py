"""Looking after a camera's subject against naive rays and distances, and scrubbing with stage and lens shown."""

import time

import coal
import numpy as np
import trimesh
from trimesh.ray.ray_pyembree import RayMeshIntersector
from vtkmodules.vtkRenderingCore import vtkRenderWindow

from bench.bare import bare_renderer
from bench.demo import PROJECT
from bench.scale import hall
from kestrav.core.camera.judged import Judged
from kestrav.core.camera.lens import in_camera, on_frame
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document.lookup import get
from kestrav.core.files import project_file
from kestrav.core.geometry.models import model, placed
from kestrav.core.kinematics.poses import moving_groups, world_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.render.palette import rgb
from kestrav.render.shapes import vtk_matrix

_FRAMES, _EVERY, _RAYS = 600, 40, 256  # the naive loop is timed on one frame in forty


def _naive(judged, frames):
    """Share visible, size and nearest distance at some frames, each by itself with the whole scene put together anew."""
    project, meshes, camera, seen = judged.project, judged.meshes, judged.camera, judged.seen
    own, rng = set(judged.subject.rows), np.random.default_rng(3)
    shares, sizes, nearest = [], [], []
    rows = [i for i, p in enumerate(project.parts) if p.geometry is not None]
    models = {i: model(solid_mesh(meshes, project.parts[i])) for i in rows}
    ball, request = coal.Sphere(1e-6), coal.DistanceRequest()
    for k in frames:
        poses = world_poses(project, [judged.times[k]])[0]
        scene, alone, owner, points = [], [], [], []
        for i in rows:
            body = solid_mesh(meshes, project.parts[i]).body.copy()
            body.apply_transform(poses[i])
            if i in own:
                alone.append(body)
                points.append(body.vertices)
            if i in own or project.parts[i].opacity >= 1:
                scene.append(body)
                owner.append(np.full(len(body.faces), i in own))
        half = seen.half_height(camera, judged.aspect, 1.0)[k : k + 1]
        local = in_camera(
            seen.position[k : k + 1], seen.forward[k : k + 1], seen.up[k : k + 1], np.concatenate(points)[None]
        )
        places = on_frame(local, half, judged.aspect, parallel=False)[0]
        sizes.append(0.5 * np.ptp(places[:, 1]))
        at = rng.uniform(places.min(axis=0), places.max(axis=0), (_RAYS, 2))
        right = np.cross(seen.forward[k], seen.up[k])
        directions = seen.forward[k] + at[:, :1] * half * judged.aspect * right + at[:, 1:] * half * seen.up[k]
        directions /= np.linalg.norm(directions, axis=1)[:, None]
        origins = np.broadcast_to(seen.position[k], directions.shape)
        owned = np.concatenate(owner)
        struck = RayMeshIntersector(trimesh.util.concatenate(alone)).intersects_first(origins, directions) >= 0
        first = RayMeshIntersector(trimesh.util.concatenate(scene)).intersects_first(origins, directions)
        inside = struck & (np.abs(at) <= 1).all(axis=1)
        shares.append((inside & owned[first]).sum() / max(struck.sum(), 1))
        eye = np.eye(4)
        eye[:3, 3] = seen.position[k]
        nearest.append(
            min(
                coal.distance(models[i], placed(poses[i]), ball, placed(eye), request, coal.DistanceResult())
                for i in rows
            )
        )
    return np.array(shares), np.array(sizes), np.array(nearest)


def _watch(project, meshes, camera_id, name):
    times = np.linspace(0.0, 12.0, _FRAMES, endpoint=False)
    camera = get(project, camera_id)

    def ours():
        judged = Judged(project, meshes, camera, times, rays=_RAYS)
        return judged, judged.sight.visible, judged.framed.size, judged.near.distance

    ours()  # trees of the parts are built once, as in the window
    began = time.perf_counter()
    judged, shares, sizes, nearest = ours()
    mine = time.perf_counter() - began
    frames = np.arange(0, _FRAMES, _EVERY)
    began = time.perf_counter()
    naive = _naive(judged, frames)
    theirs = (time.perf_counter() - began) * _EVERY
    # three standard deviations of two times so many rays, of which about half strike
    allowed = 3 * np.sqrt(2 * 0.25 / (0.4 * _RAYS))
    off = float(np.abs(shares[frames] - naive[0]).max())
    same = (
        off < allowed
        and np.allclose(sizes[frames], naive[1], rtol=1e-6)
        and np.allclose(nearest[frames], naive[2], atol=1e-3)
    )
    return (
        f"{name}: sight, size and nearest distance of {_FRAMES} frames in {mine:.2f} s, {theirs / mine:.0f} times as fast as "
        f"frame by frame (at least 10); shares differ by {off:.3f} at most ({allowed:.3f} allowed), sizes and distances "
        f"{'are the same' if same else 'DIFFER'}",
        theirs / mine >= 10 and same,
    )


def watching_the_demo(_in_turns):
    """The demo's orbit."""
    opened = project_file.load(PROJECT)
    camera = next(s for s in opened.project.shots if s.name == "Cabinet orbit").camera
    return _watch(opened.project, opened.meshes, camera, "the demo's orbit")


def watching_two_thousand_parts(_in_turns):
    """A cart in a hall of two thousand parts, from an orbit about it."""
    project, meshes = hall(2000)
    project = add_orbit(project, meshes, ["cart"], offset=2500.0, height=1500.0, duration=12.0)
    return _watch(project, meshes, project.cameras[-1].id, "a hall of 2000 parts")


def scrubbing_against_bare_views(in_turns):
    """Going through time with the stage and the lens shown, against VTK alone with the two views."""
    from PySide6.QtWidgets import QApplication

    from kestrav.app.shell.start import make_application
    from kestrav.app.shell.window import Window

    application = make_application()
    assert isinstance(application, QApplication)
    opened = project_file.load(PROJECT)
    project = opened.project
    window = Window()
    window.setGeometry(0, 0, 1280, 800)
    window.show()
    window.session.open(project, opened.meshes, PROJECT)
    stage = window.stage
    for _ in range(20):
        application.processEvents()
    stage.draw()
    camera, times = window.session.camera, np.linspace(0.5, 9.5, 10)
    movers = [i for i, p in enumerate(project.parts) if p.id in moving_groups(project) and p.geometry]
    plain = vtkRenderWindow()
    plain.SetMultiSamples(0)
    plain.SetSize(stage.width(), stage.height())
    kept = []
    for source in (stage.main, stage.lens):
        renderer, actors = bare_renderer(project, opened.meshes, edges=source is stage.main)
        renderer.SetViewport(source.GetViewport())
        renderer.SetBackground(*rgb("#f1eee6"))
        renderer.GetActiveCamera().DeepCopy(source.GetActiveCamera())
        plain.AddRenderer(renderer)
        kept.append((renderer, actors))
    plain.Render()

    def ours():
        for moment in times:
            window.session.set_time(float(moment))
            stage.draw()

    def bare():
        for moment in times:
            poses = world_poses(project, [moment])
            judged = Judged(project, opened.meshes, camera, np.array([moment]))
            for _, actors in kept:
                for i in movers:
                    for actor in actors[i]:
                        actor.SetUserMatrix(vtk_matrix(poses[0, i]))
            eye = kept[1][0].GetActiveCamera()
            eye.SetPosition(*judged.seen.position[0])
            eye.SetFocalPoint(*judged.seen.target[0])
            plain.Render()

    mine, theirs = in_turns(ours, bare, 5)
    window.session.undo.setClean()
    window.close()
    count = len(times)
    return (
        f"scrubbing with stage and lens: {count / mine:.1f} frames a second against {count / theirs:.1f} of bare VTK with the two "
        f"views: {theirs / mine:.2f} of its rate (at least 0.8)",
        theirs / mine >= 0.8,
    )
