"""A thousand placements of fifty geometries: what they hold, and their redraw against a bare VTK window."""

import numpy as np
import trimesh
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

from bench.bare import bare_renderer
from kestrav.core.document.records import Part, Placement, Project
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.solids import geometry_record
from kestrav.render.scene import Scene
from kestrav.render.steady_light import light


def project(copies):
    """Fifty rings of their own kinds, each placed ``copies`` times."""
    shapes = []
    for k in range(50):
        body = trimesh.creation.torus(20 + 0.2 * k, 6, major_sections=40, minor_sections=24)
        shapes.append(mesh(body.vertices, body.faces))
    parts = [
        Part(f"part-{50 * c + k}", f"Ring {k}.{c}", None, Placement((60.0 * k, 60.0 * c, 0.0)), geometry=s.hash)
        for c in range(copies)
        for k, s in enumerate(shapes)
    ]
    records = tuple(geometry_record(s) for s in shapes)
    return Project(parts=tuple(parts), geometry=records), {s.hash: s for s in shapes}


def held(scene):
    """MiB of the drawings that a scene's actors show, each counted once."""
    drawings = {}
    for batch in scene.batches:
        for actor in (batch.stage, batch.final, batch.edges):
            data = actor.GetMapper().GetInput()
            drawings[id(data)] = data.GetActualMemorySize() / 1024
    return sum(drawings.values())


def _window(renderer):
    window = vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetMultiSamples(0)
    window.SetSize(960, 540)
    window.AddRenderer(renderer)
    renderer.ResetCamera()
    window.Render()
    return window


def thousand_of_fifty(in_turns):
    few, many = Scene(), Scene()
    few.update(*project(1))
    document, meshes = project(20)
    many.update(document, meshes)
    renderer = vtkRenderer()
    light(renderer)
    many.show_in(renderer, stage=True)
    many.pose(world_poses(document, [0.0])[0])
    mine, theirs = _window(renderer), _window(bare_renderer(document, meshes)[0])

    def draw(window):
        camera = window.GetRenderers().GetFirstRenderer().GetActiveCamera()
        for _ in range(3):
            camera.Azimuth(np.degrees(0.01))
            window.Render()

    ours, bare = in_turns(lambda: draw(mine), lambda: draw(theirs), 5)
    memory, base = held(many), held(few)
    return (
        f"1000 placements of 50 geometries ({sum(g.triangles for g in document.geometry) * 20} triangles): drawings of "
        f"{memory:.1f} MiB against {base:.1f} for one of each: {memory / base:.2f} times (at most 1.3); redraw "
        f"{3 / ours:.1f} a second against {3 / bare:.1f} of bare VTK: {bare / ours:.2f} of its rate (at least 0.8)",
        memory / base <= 1.3 and bare / ours >= 0.8,
    )
