"""What a shot shows of the motion itself: the trace of its rider, growing as it goes, and images of it where it has been."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor

from kestrav.core.camera.filmed import rider_of
from kestrav.core.document.lookup import subtree
from kestrav.core.document.records import Project, Shot
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import rest_and_pivot, row_of
from kestrav.render.batches import Batch
from kestrav.render.marks import flat
from kestrav.render.palette import OCHRE, PETROL
from kestrav.render.scene import Scene
from kestrav.render.shapes import polyline, put_data, vtk_matrix

Array = NDArray[np.float64]

_MOST_IMAGES = 40
_IMAGE = 0.16  # how opaque an image of the rider is
_SAMPLES = 240  # of the trace


class Passing:
    """The trace and the images in one renderer."""

    def __init__(self, renderer: Any, scene: Scene, project: Project, shot: Shot, width: float) -> None:
        self.renderer, self.project, self.shot = renderer, project, shot
        self.rider = rider_of(project, shot) if shot.shows.trace or shot.shows.images else ""
        self.trace: vtkActor | None = None
        self.images: list[tuple[float, list[vtkActor]]] = []
        if not self.rider:
            return
        self._pivot = rest_and_pivot(project, self.rider)[1][:3, 3]
        if shot.shows.trace:
            self._times = np.linspace(shot.start, shot.end, _SAMPLES)
            self._places = self._at(self._times)
            self.trace = flat(polyline(self._places[:2]), OCHRE, 1.6 * width)
            renderer.AddActor(self.trace)
        if shot.shows.images:
            every = max(shot.shows.images, (shot.end - shot.start) / _MOST_IMAGES)
            times = np.arange(shot.start, shot.end - 1e-9, every)
            poses = world_poses(project, times)
            moved = np.linalg.norm(np.diff(self._at(times), axis=0), axis=1) if len(times) > 1 else np.zeros(0)
            own = set(subtree(project, self.rider))
            batches = [b for b in scene.batches if any(m.part in own for m in b.members)]
            for k, time in enumerate(times):
                # while it stands, images would lie on each other and on itself
                if k and moved[k - 1] < 1.0:
                    continue
                actors = [self._image(scene, batch, poses[k]) for batch in batches]
                for actor in actors:
                    renderer.AddActor(actor)
                self.images.append((float(time), actors))

    def remove(self) -> None:
        """Take all of it out of the renderer."""
        for actor in [*filter(None, [self.trace]), *(a for _, actors in self.images for a in actors)]:
            self.renderer.RemoveActor(actor)

    def _at(self, times: Array) -> Array:
        row = row_of(self.project, self.rider)
        poses = world_poses(self.project, times)[:, row]
        places: Array = poses[:, :3, :3] @ self._pivot + poses[:, :3, 3]
        return places

    @staticmethod
    def _image(scene: Scene, batch: Batch, poses: Array) -> vtkActor:
        actor = flat(batch.whole().face, PETROL, opacity=_IMAGE)
        # behind the rider itself where their faces lie in one plane
        mapper = actor.GetMapper()
        mapper.SetResolveCoincidentTopologyToPolygonOffset()
        mapper.SetRelativeCoincidentTopologyPolygonOffsetParameters(4.0, 8.0)
        moved = scene.displacement(batch.kind.group, poses)
        actor.SetUserMatrix(vtk_matrix(moved @ batch.offset @ batch.own))
        actor.GetProperty().SetBackfaceCulling(batch.kind.closed)
        return actor

    def hide(self) -> None:
        """Show nothing of it."""
        for actor in [*filter(None, [self.trace]), *(a for _, actors in self.images for a in actors)]:
            actor.SetVisibility(False)

    def show(self, time: float) -> None:
        """Show what has been until a time in s."""
        if self.trace is not None:
            past = self._times < time
            places = np.vstack([self._places[past], self._at(np.array([time]))])
            put_data(self.trace, polyline(np.vstack([places[:1], places])))
            self.trace.SetVisibility(True)
        for when, actors in self.images:
            for actor in actors:
                # an image that the rider has only just left would flicker within it
                actor.SetVisibility(when < time - 0.25 * self.shot.shows.images)
