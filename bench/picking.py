"""Picking under the pointer in a million triangles, against VTK's own cell picker."""

import numpy as np
import trimesh
from vtkmodules.vtkRenderingCore import vtkCellPicker, vtkRenderer, vtkRenderWindow

from bench.bare import bare_renderer
from kestrav.core.document.records import Part, Project
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.picking import Pickable
from kestrav.core.parts.solids import geometry_record
from kestrav.render.viewpoint import ray


def million_triangles(in_turns):
    body = trimesh.creation.icosphere(subdivisions=8, radius=500)
    shape = mesh(body.vertices, body.faces)
    document = Project(parts=(Part("part-1", "Ball", geometry=shape.hash),), geometry=(geometry_record(shape),))
    meshes = {shape.hash: shape}
    poses = world_poses(document, [0.0])[0]
    renderer: vtkRenderer = bare_renderer(document, meshes, edges=False)[0]
    window = vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetSize(960, 540)
    window.AddRenderer(renderer)
    renderer.ResetCamera()
    window.Render()
    pickable, picker = Pickable(document, meshes), vtkCellPicker()
    spots = np.random.default_rng(4).uniform([300, 150], [660, 390], (20, 2))

    def ours():
        for x, y in spots:
            pickable.pick(poses, *ray(renderer, x, y))

    def bare():
        for x, y in spots[:2]:
            picker.Pick(x, y, 0, renderer)

    mine, theirs = in_turns(ours, bare, 3)
    mine, theirs = mine / len(spots), theirs / 2
    return (
        f"pick in {len(shape.triangles)} triangles: {1000 * mine:.1f} ms against {1000 * theirs:.0f} ms of VTK's cell "
        f"picker: {theirs / mine:.0f} times faster (at least 5, and at most 20 ms)",
        theirs / mine >= 5 and mine < 0.02,
    )
