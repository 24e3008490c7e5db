"""Finished pictures of a shot: the same document as every picture, through the path tracer's process."""

from __future__ import annotations

import atexit
import os
import subprocess
import sys
import time
from collections.abc import Callable, Mapping, Sequence
from multiprocessing import Pipe
from multiprocessing.connection import Connection
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.camera.filmed import faint_things
from kestrav.core.camera.focusing import aperture_diameter, focus_distances, open_times
from kestrav.core.camera.views import Views, views
from kestrav.core.colours import LUMA, linear
from kestrav.core.document.records import Camera, FloorName, Light, Project, Shot
from kestrav.core.errors import BadInput
from kestrav.core.finishes.applied import in_colourway
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.poses import light_places, moving_groups, world_poses
from kestrav.core.light.environments import UP, irradiance
from kestrav.core.light.exposure import WHITE
from kestrav.core.light.response import light_shown_as, shown_light
from kestrav.core.light.setups import environment, gains, lamps_dimmed, picture_height
from kestrav.core.parts.rest import rest_poses
from kestrav.render.formats import Bits
from kestrav.render.inscriptions import Inscriber
from kestrav.render.palette import INK, rgb
from kestrav.render.picture import Picture, in_numbers, top_of
from kestrav.render.soft_light import Ground, ground_of
from kestrav.render.sweeps import sweep_of
from kestrav.render.tracing.description import Body, Lamp, Moment, Region, Surface, Traced, TracedScene, Wanted
from kestrav.render.tracing.render_passes import edges, lit_by, on_level, passes
from kestrav.render.tracing.traced_bodies import bodies_of

Array = NDArray[np.float64]
Single = NDArray[np.float32]

_UNSEEN = 0.02  # of the light, that a shadow that is caught must take at least
_INK_SHARE = 0.85  # how dark lines along edges are
_FLOOR_GREY = 0.5  # albedo of the floor that catches shadows where the picture lets through
_FLOOR = 60.0  # of the size of all, that the floor below it is wide
_MOMENTS = 16  # instants within a frame that moving things are seen at
_BEHIND = 100.0  # m
_RESTED = 100.0  # s, less than after which a process that rests ends


Progress = Callable[[float, float, tuple[Single, Single] | None], bool]
"""Told the share done, the noise that is left, and now and then the light and cover so far; says whether to go on, or raises."""


class TracingProcess:
    """The path tracer in a process of its own: what brings it down takes nothing with it, and its threads are its own."""

    def __init__(self, *, slow: bool = False) -> None:
        mine, theirs = Pipe()
        self.connection: Connection = mine
        command = [
            sys.executable,
            "-m",
            "kestrav.render.tracing.server",
            str(theirs.fileno()),
            *(["slow"] if slow else []),
        ]
        self.process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
        theirs.close()
        self.variant = ""
        self.rested = 0.0  # since when, by the monotonic clock
        self._owner, self._asked = os.getpid(), False

    @property
    def is_free(self) -> bool:
        """Whether it waits for what this process asks of it: one that was copied by a fork is another's."""
        return not self._asked and self._owner == os.getpid() and self.process.poll() is None

    def ask(self, kind: str, value: object, progress: Progress | None = None) -> Any:
        """Ask for something and wait for the answer. Raises BadInput where it cannot be done."""
        self._asked = True
        answer = self._answered(kind, value, progress)
        # what has stopped waiting for an answer may still get one
        self._asked = False
        return answer

    def _answered(self, kind: str, value: object, progress: Progress | None) -> Any:
        try:
            self.connection.send((kind, value))
            while True:
                answer, content = self.connection.recv()
                if answer == "progress":
                    if progress is not None and not progress(*content):
                        self.connection.send(("stop", None))
                elif answer == "failed":
                    raise BadInput(f"the finished picture could not be made: {content}")
                else:
                    return content
        except (EOFError, OSError) as fault:
            raise BadInput(
                "the path tracer ended unexpectedly; memory may have run out: try fewer parts or a smaller size"
            ) from fault

    def rest(self) -> bool:
        """Let it put its scene away, which is not waited for; tells whether it is there to do so."""
        self.rested = time.monotonic()
        try:
            self.connection.send(("rest", None))
        except OSError:
            return False
        return True

    def close(self) -> None:
        """End it; one that was copied by a fork is only let go."""
        self.connection.close()
        if self._owner == os.getpid():
            self.process.terminate()
            self.process.wait()


_resting: list[TracingProcess] = []  # one at the most


def take_process() -> TracingProcess:
    """The path tracer's process that was given back, as to start one takes seconds, or a new one."""
    while _resting:
        process = _resting.pop()
        # one that has rested for long may be about to end by itself
        if process.is_free and time.monotonic() - process.rested < _RESTED:
            return process
        process.close()
    return TracingProcess()


def give_back(process: TracingProcess) -> None:
    """Let a process rest without its scene until it is wanted again; what is still at work is ended."""
    if _resting or not process.is_free or not process.rest():
        process.close()
        return
    _resting.append(process)


@atexit.register
def _end_resting() -> None:
    for process in _resting:
        process.close()


class FinishedStudio:
    """Takes a shot's finished pictures, in a size of its own; used as :class:`kestrav.render.picture.Studio` is."""

    def __init__(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        shot: Shot,
        width: int,
        height: int,
        *,
        alpha: bool = False,
        bits: Bits = 8,
        region: Region | None = None,
    ) -> None:
        project = in_colourway(project, shot.colourway)
        self.project, self.meshes, self.shot, self.width, self.height = project, meshes, shot, width, height
        self.alpha, self.bits, self.region = alpha or shot.clear, bits, region
        self.inscriber = Inscriber(project, meshes, shot)
        self.progress: Progress | None = None
        self._ground: Ground | None = None
        self._groups, self._rest = moving_groups(project), rest_poses(project)
        self._process: TracingProcess | None = None
        self._camera: Camera | None = None
        self._seen: Moment | None = None
        self._cut_at = np.nan
        self._scene: TracedScene | None = None

    def prefetch(self, times: Sequence[float]) -> None:
        """Nothing is gained by knowing what comes."""

    def picture(self, camera: Camera, time: float) -> Picture:
        """The picture (height, width, 3 or 4) that a camera sees at a time in s, with what the shot writes on it.

        With 32 bits it is linear light and its layers (height, width, 10) as :data:`kestrav.render.tracing.render_passes.LAYERS` names them,
        in mm, with nothing written on it.
        """
        traced = self.traced(camera, time)
        if self.bits == 32:
            return self.layers(camera, time, traced)
        return self.inscribed(self.lined(self.shown(traced), camera, time), camera, time)

    def lined(self, picture: Picture, camera: Camera, time: float) -> Picture:
        """A picture with lines along the edges, where the shot asks for them."""
        if not self.shot.edges:
            return picture
        assert self._scene is not None
        share = self._of_region(edges(self._scene.bodies, self._at(camera, time), self.width, self.height))
        top, over = np.iinfo(picture.dtype).max, (_INK_SHARE * share)[..., None]
        ink = np.array([*rgb(INK), 1.0])[: picture.shape[2]]
        return in_numbers((1.0 - over) * picture / top + over * ink, top)

    def inscribed(self, picture: Picture, camera: Camera, time: float) -> Picture:
        """A picture of all of the frame, with what the shot writes on it; one of a region has nothing written on it."""
        if self.region is not None:
            return picture
        poses = world_poses(self.project, [time])
        seen = views(self.project, self.meshes, camera, [time], poses, self.width / self.height)
        return self.inscriber.inscribed(picture, time, seen, poses[0])

    def shown(self, traced: Traced) -> Picture:
        """A traced frame as it is shown, over the shot's background or with its opacity."""
        return self._developed(*self._caught(traced), alpha=self.alpha, top=top_of(self.bits))

    def so_far(self, light: Single, cover: Single) -> Picture:
        """A frame that is not done yet as it is shown (h, w, 3), with nothing written on it."""
        return self._developed(light, cover, alpha=False)

    def _developed(self, light: Single, cover: Single, *, alpha: bool, top: int = 255) -> Picture:
        exposed = (light * gains(self.project.light_setup)).astype(np.float32)
        behind = self._of_region(background_of(self.shot, self.height)[:, None])
        return developed(exposed, cover, behind, alpha=alpha, top=top)

    def _of_region(self, whole: NDArray[Any]) -> NDArray[Any]:
        """What of a picture's values (h, w or 1, …) is in the region, or all of it."""
        if self.region is None:
            return whole
        left, top, right, bottom = self.region
        return whole[top:bottom] if whole.shape[1] == 1 else whole[top:bottom, left:right]

    def _caught(self, traced: Traced) -> tuple[Single, Single]:
        """Light by its cover and cover; in a picture that lets through the floor's shadow is black that covers as much as it takes of the light.

        Each pixel's light is bare · of things + (1 − bare) · kept · of the floor in full light. How much the floor keeps is known where
        nothing else is, and spread from there to the rims of things.
        """
        if traced.bare is None:
            return traced.light, traced.cover
        bare = traced.bare
        full = _FLOOR_GREY * irradiance(self._around(), UP) + self._lamps_on_floor(traced)
        kept = np.clip(traced.light @ LUMA / np.maximum(full @ LUMA, 1e-9), 0.0, 1.0)
        floor = (bare < 0.02) & (traced.cover > 0.98)
        if floor.any() and not floor.all():
            near = scipy.ndimage.distance_transform_edt(~floor, return_distances=False, return_indices=True)
            kept = kept[tuple(near)]
        there = (1.0 - bare) * traced.cover
        light = np.clip(traced.light - (there * kept)[..., None] * full, 0.0, None) * (bare > 1e-3)[..., None]
        # what is left of the noise is no shadow
        shade = np.clip((1.0 - kept - _UNSEEN) / (1.0 - _UNSEEN), 0.0, 1.0)
        cover = bare + there * shade
        return light.astype(np.float32), cover.astype(np.float32)

    def _around(self) -> Array:
        """The light from all around."""
        return environment(self.project.light_setup, picture_height(self.project.light_setup))

    def _lamps_on_floor(self, traced: Traced) -> Array:
        """What the project's lamps would show of the floor (h, w, 3) if nothing stood on it."""
        assert self._seen is not None and self._ground is not None
        moment, (height, width) = self._seen, traced.cover.shape
        if not moment.lamps:
            return np.zeros((height, width, 3))
        places = on_level(moment, self.width, self.height, 1e-3 * self._ground.level)
        flat = self._of_region(places).reshape(-1, 3)
        return _FLOOR_GREY / np.pi * lit_by(moment.lamps, flat, np.tile(UP, (len(flat), 1))).reshape(height, width, 3)

    def layers(self, camera: Camera, time: float, traced: Traced) -> Single:
        """Linear light by its cover, the cover, and the passes, of a traced frame."""
        assert self._scene is not None
        beside = passes(self._scene.bodies, self._scene.environment, self._at(camera, time), self.width, self.height)
        beside[..., 0] *= 1e3
        beside = self._of_region(beside)
        light, cover = self._caught(traced)
        exposed = light * gains(self.project.light_setup)
        return np.concatenate([exposed, cover[..., None], beside], axis=2).astype(np.float32)

    def traced(self, camera: Camera, time: float) -> Traced:
        """The frame of a camera at a time in linear light. Raises BadInput, and whatever the progress raises to stop."""
        return self.ask(self.wanted(camera, time), camera, time)

    def wanted(self, camera: Camera, time: float) -> Wanted:
        """What is asked of the path tracer for a frame."""
        shot, moments = self.shot, self.moments(camera, time)
        self._seen = moments[len(moments) // 2]
        bare = self.alpha and self._floor_kind() == "shadow"
        return Wanted(moments, shot.samples, shot.seconds, 1e-2 * shot.noise, bare=bare, region=self.region)

    def ask(self, wanted: Wanted, camera: Camera, time: float) -> Traced:
        """What the path tracer makes of it. Raises as :meth:`traced`."""
        traced = self._ready(camera, time).ask("frame", wanted, self.progress)
        assert isinstance(traced, Traced)
        return traced

    def _floor_kind(self) -> FloorName:
        """What everything stands on; nothing is put below a product that has a floor itself."""
        if self._ground is None:
            self._ground = ground_of(self.project, self.meshes)
        return "none" if self._ground.own else self.shot.floor

    def _ready(self, camera: Camera, time: float) -> TracingProcess:
        if self._process is None:
            self._process = take_process()
        cut = self.shot.section is not None
        if self._camera is not camera or (cut and self._cut_at != time):
            around = self._around()
            section = None
            if self.shot.section is not None:
                # where the plane cuts what moves is another place in every frame
                section = (self.shot.section, world_poses(self.project, [time])[0])
            bodies = bodies_of(self.project, self.meshes, camera, section) + self._floor(around)
            scene = TracedScene(bodies, around.astype(np.float32), self.width, self.height)
            self._process.variant = self._process.ask("scene", scene)
            self._camera, self._scene, self._cut_at = camera, scene, time
        return self._process

    def _floor(self, around: Array) -> tuple[Body, ...]:
        """What everything stands on where the product has no floor itself: it shows as the background where no shadow falls on it."""
        kind, ground = self._floor_kind(), self._ground
        assert ground is not None
        if kind == "none":
            return ()
        shown = rgb(self.shot.background)
        light = irradiance(around * gains(self.project.light_setup), UP)
        base = np.clip(light_shown_as(shown) / np.maximum(light, 1e-6), 0.02, 0.98)
        if kind == "sweep":
            sweep = sweep_of(self.project, self.meshes, self.shot, ground)
            surface = Surface(base.astype(np.float32), index=1.0)
            places, facing = (1e-3 * sweep.points).astype(np.float32), sweep.normals.astype(np.float32)
            return (Body(-1, places, facing, None, sweep.triangles.astype(np.uint32), surface),)
        if self.alpha:
            base = np.full(3, _FLOOR_GREY)
        middle, half = 1e-3 * ground.middle, 1e-3 * _FLOOR * ground.size
        corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]], float) * half + middle[:2]
        points = np.column_stack([corners, np.full(4, 1e-3 * ground.level)]).astype(np.float32)
        triangles = np.array([[0, 1, 2], [0, 2, 3]], np.uint32)
        return (Body(-1, points, None, None, triangles, Surface(base.astype(np.float32), index=1.0), catches=True),)

    def moments(self, camera: Camera, time: float) -> tuple[Moment, ...]:
        """What is seen within the frame at a time, at one instant or as long as the shutter is open."""
        if self.shot.section is not None:
            return (self._at(camera, time),)
        return self._moments(
            camera, open_times(time, self.shot.fps, self.shot.shutter, min(_MOMENTS, self.shot.samples))
        )

    def _at(self, camera: Camera, time: float) -> Moment:
        return self._moments(camera, np.array([time]))[0]

    def _moments(self, camera: Camera, times: Array) -> tuple[Moment, ...]:
        poses = world_poses(self.project, times)
        seen = views(self.project, self.meshes, camera, times, poses, self.width / self.height)
        sharp = focus_distances(self.project, camera, times, poses, seen)
        return tuple(
            self._moment(camera, t, poses[k], seen.at(k), float(sharp[k])) for k, t in enumerate(times.tolist())
        )

    def _moment(self, camera: Camera, time: float, poses: Array, seen: Views, sharp: float) -> Moment:
        groups = {g: poses[g] @ inverse_rigid(self._rest[g]) for g in sorted(set(self._groups.values())) if g >= 0}
        angle = float(np.degrees(seen.vertical_angle(camera, self.width, self.height)[0]))
        place, target = 1e-3 * seen.position[0], 1e-3 * seen.target[0]
        parallel = 0.0
        if camera.parallel:
            parallel = 2e-3 * float(seen.half_height(camera, self.width, self.height)[0])
            # it shows what lies behind it as well
            place = place - _BEHIND * (target - place) / max(float(np.linalg.norm(target - place)), 1e-12)
        radius = 0.0 if camera.parallel else 0.5e-3 * float(aperture_diameter(camera, seen.focal_length)[0])
        lamps = lamps_of(self.project, time)
        return Moment(
            groups, faint_things(camera, time), lamps, place, target, seen.up[0], angle, parallel, radius, 1e-3 * sharp
        )

    def close(self) -> None:
        """Give the process back."""
        if self._process is not None:
            give_back(self._process)
            self._process = None


def lamps_of(project: Project, time: float) -> tuple[Lamp, ...]:
    """The lights of a project that shine at a time, by what shows as white."""
    return tuple(lamp for light in project.lights for lamp in _lamp(project, light, time))


def _lamp(project: Project, light: Light, time: float) -> list[Lamp]:
    strength, colour = state(light, time)
    if strength <= 0:
        return []
    (place,), (target,) = (1e-3 * p for p in light_places(project, light, [time]))
    power = linear(colour) * strength / WHITE * lamps_dimmed(project.light_setup)
    if light.kind != "area":
        return [Lamp(light.kind, place, target, power, 0.5 * light.cone)]
    size = (1e-3 * light.size[0], 1e-3 * light.size[1])
    # its intensity is that straight ahead: luminance times area
    return [Lamp("area", place, target, power / (size[0] * size[1]), size=size)]


def developed(light: Single, cover: Single, behind: Array, *, alpha: bool, top: int = 255) -> Picture:
    """Linear light (h, w, 3) of what covers a share (h, w) of each pixel as a picture, over a background (h, 1, 3) or with its opacity."""
    share = cover[..., None]
    colours = shown_light(np.where(share > 1e-4, light / np.maximum(share, 1e-4), 0.0))
    if alpha:
        return in_numbers(np.concatenate([colours, share], axis=-1), top)
    return in_numbers(share * colours + (1.0 - share) * behind, top)


def background_of(shot: Shot, height: int) -> Array:
    """The background's colours (height, 3) from above to below, as shown."""
    below = np.array(rgb(shot.background))
    if not shot.background_top:
        return np.tile(below, (height, 1))
    above = np.array(rgb(shot.background_top))
    share = ((np.arange(height) + 0.5) / height)[:, None]
    return np.asarray((1.0 - share) * above + share * below)
