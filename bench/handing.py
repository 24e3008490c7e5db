"""Animated glTF against writing every sample, and what it costs to go on with a film that is nearly done."""

import contextlib
import json
import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np
from scipy.spatial.transform import Rotation

from bench.demo import PROJECT
from kestrav.core.camera.views import views
from kestrav.core.errors import Cancelled
from kestrav.core.files import project_file
from kestrav.core.files.gltf_export import animated, write_animated
from kestrav.core.kinematics.poses import riders, world_poses
from kestrav.core.kinematics.runs import span
from kestrav.render.film import render_shot


def _every_sample(project, meshes, times, still, target):
    """The same file with a key of place and rotation for each sample of each moving part and camera."""
    poses = world_poses(project, times)
    stamp = times.astype(np.float32).tobytes()
    pieces, told = [still, stamp], []
    rows = {p.id: i for i, p in enumerate(project.parts)}
    moving = [rows[r] for r in riders(project) if r in rows]
    tracks = [(i, poses[:, i]) for i in moving]
    for camera in project.cameras:
        seen = views(project, meshes, camera, times, poses)
        ahead = seen.target - seen.position
        side = np.cross(ahead, seen.up)
        axes = np.stack([side, np.cross(side, ahead), -ahead], axis=2)
        world = np.zeros((len(times), 4, 4))
        world[:, :3, :3] = axes / np.linalg.norm(axes, axis=1)[:, None]
        world[:, :3, 3] = seen.position
        tracks.append((None, world))
    for row, track in tracks:
        parent = project.parts[row].parent if row is not None else None
        local = track if parent is None else np.linalg.inv(poses[:, rows[parent]]) @ track
        for kind, values in (
            ("translation", 0.001 * local[:, :3, 3]),
            ("rotation", Rotation.from_matrix(local[:, :3, :3]).as_quat()),
        ):
            pieces.append(values.astype(np.float32).tobytes())
            told.append({"path": kind, "count": len(values), "byteLength": len(pieces[-1])})
    target.write_bytes(b"".join([*pieces, json.dumps(told).encode()]))
    return len(told) * len(times)


def gltf_against_every_sample(in_turns):
    """Keys, bytes and seconds against a key of place and rotation for each sample of each moving part and camera."""
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    times = np.arange(round(120 * span(project)) + 1) / 120
    still = animated(project, meshes, frames=np.zeros(1))[0]
    found = {}
    with tempfile.TemporaryDirectory() as folder:
        ours, plain = Path(folder) / "ours.glb", Path(folder) / "plain.glb"

        def reduced():
            found["keys"] = write_animated(project, meshes, ours, overwrite=True).keys

        def every():
            # what does not move is written by both
            whole = animated(project, meshes, frames=np.zeros(1))[0]
            found["every"] = _every_sample(project, meshes, times, whole, plain)

        took, plainly = in_turns(reduced, every, 3)
        small, large = ours.stat().st_size - len(still), plain.stat().st_size - len(still)
    return (
        f"animated glTF of the demo ({span(project):g} s at 120 a second, within 0.05 mm): {found['keys']} keys of {found['every']}, "
        f"{small / 1e6:.2f} MB of motion against {large / 1e6:.2f} MB: {small / large:.2f} (at most 0.5), in {took:.1f} s against "
        f"{plainly:.1f} s: {took / plainly:.2f} (no limit set)",
        small / large <= 0.5,
    )


def going_on_with_a_film(_in_turns):
    """A film whose frames are all there but one, against making all of them."""
    opened = project_file.load(PROJECT)
    shot = msgspec.structs.replace(opened.project.shots[0], width=320, height=180, end=2.5)
    with tempfile.TemporaryDirectory() as folder:
        target = Path(folder) / "film.mp4"
        began = time.perf_counter()
        render_shot(opened.project, opened.meshes, shot, target, processes=1)
        whole = time.perf_counter() - began

        def stop(done, total):
            if done == total - 1:
                raise Cancelled

        with contextlib.suppress(Cancelled):
            render_shot(opened.project, opened.meshes, shot, target, stop, overwrite=True, processes=1)
        began = time.perf_counter()
        render_shot(opened.project, opened.meshes, shot, target, overwrite=True, resume=True, processes=1)
        rest = time.perf_counter() - began
    return (
        f"going on with a film of 60 frames that has all but one: {rest:.1f} s against {whole:.1f} s for all: "
        f"{rest / whole:.2f} (at most 0.4)",
        rest / whole <= 0.4,
    )
