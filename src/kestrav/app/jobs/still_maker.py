"""One picture of a shot, made in a process of its own that is kept: it is seen as it grows, stopped, gone on with, and saved."""

from __future__ import annotations

import contextlib
import signal
from collections.abc import Mapping
from multiprocessing.connection import Connection
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import QObject, Signal

from kestrav.app.jobs.jobs import Process
from kestrav.core.document.records import Project, Shot
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.progress import Pace
from kestrav.render.formats import Bits

if TYPE_CHECKING:
    from kestrav.render.picture import Picture
    from kestrav.render.tracing.description import Region, Traced


class StillMaker(QObject):
    """The window's side of it."""

    shown = Signal(object, object)  # a picture (h, w, 3), and its region or none
    progress = Signal(
        float, float, float
    )  # the share done, the noise in % of white, the seconds left; not finite where not known
    done = Signal(int, float, float)  # the samples taken in all, the noise in % of white, the seconds that it took
    saved = Signal(object)
    failed = Signal(str)

    def __init__(self, project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float) -> None:
        super().__init__()
        self._process = Process(_serve, project, dict(meshes), shot, time)
        self._process.message.connect(self._on_message)
        self._process.died.connect(lambda: self.failed.emit("the picture's process ended; memory may have run out"))

    def make(self, samples: int, region: Region | None = None, *, onward: bool = False) -> None:
        """Make the picture, or a region of it, or go on with it up to so many samples."""
        self._process.send(("make", samples, region, onward))

    def stop_here(self) -> None:
        """Take the picture as far as it is."""
        self._process.send(("stop",))

    def pause(self, paused: bool) -> None:
        """Let the work rest, or go on."""
        self._process.signal(signal.SIGSTOP if paused else signal.SIGCONT)

    def save(self, target: Path, bits: Bits) -> None:
        """Write the picture as it is; it is replaced where it is there."""
        self._process.send(("save", target, bits))

    def close(self) -> None:
        """End the process."""
        self._process.stop()

    def _on_message(self, message: tuple[str, Any]) -> None:
        kind, value = message
        if kind in ("saved", "failed"):
            getattr(self, kind).emit(value)
        else:
            getattr(self, kind).emit(*value)


def _serve(connection: Connection, project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float) -> None:
    import os

    # a group of its own, with the path tracer: they are ended together
    os.setpgid(0, 0)
    server = _Server(connection, project, meshes, shot, time)
    with contextlib.suppress(EOFError, OSError):
        server.run()


class _Server:
    """Child: the studio is kept, and with it what has been taken."""

    def __init__(
        self, connection: Connection, project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float
    ) -> None:
        from kestrav.core.camera.adjusting import camera_of
        from kestrav.render.studios import studio_of

        self.connection, self.project, self.shot, self.time = connection, project, shot, time
        self.camera = camera_of(project, shot.camera)
        self.studio = studio_of(project, meshes, shot, shot.width, shot.height, bits=8)
        self.traced: Traced | None = None  # all of the picture, as far as it has been made
        self.quick: Picture | None = None
        self.waiting: list[tuple[Any, ...]] = []

    def run(self) -> None:
        """Do what is asked until the other side goes."""
        while True:
            kind, *about = self.waiting.pop(0) if self.waiting else self.connection.recv()
            try:
                if kind == "make":
                    samples, region, onward = about
                    self.make(samples, region, onward=onward)
                elif kind == "save":
                    self.save(*about)
            except BadInput as fault:
                self.connection.send(("failed", str(fault)))

    def make(self, samples: int, region: Region | None, *, onward: bool) -> None:
        """Take the picture."""
        import time as clock

        from kestrav.render.tracing.studio import FinishedStudio

        began = clock.monotonic()
        if not isinstance(self.studio, FinishedStudio):
            self.quick = self.studio.picture(self.camera, self.time)
            self.connection.send(("shown", (self.quick, None)))
            self.connection.send(("done", (0, float("nan"), clock.monotonic() - began)))
            return
        studio = self.studio
        studio.region = region
        pace = Pace()

        def tell(share: float, noise: float, so_far: Any) -> bool:
            left = pace.left(share, clock.monotonic())
            self.connection.send(("progress", (share, 100.0 * noise, left)))
            if so_far is not None:
                self.connection.send(("shown", (studio.so_far(*so_far), region)))
            goes_on = True
            while self.connection.poll():
                message = self.connection.recv()
                if message[0] == "save":
                    self.waiting.append(message)
                else:
                    goes_on = False
                    if message[0] != "stop":
                        self.waiting.append(message)
            return goes_on

        studio.progress = tell
        wanted = msgspec.structs.replace(studio.wanted(self.camera, self.time), samples=samples, onward=onward)
        traced = studio.ask(wanted, self.camera, self.time)
        self.traced = _pasted(self.traced, traced, region)
        picture = self.picture(8)
        if region is not None and picture.shape[:2] == (self.shot.height, self.shot.width):
            region = None
        self.connection.send(("shown", (picture[..., :3], region)))
        self.connection.send(("done", (traced.samples, 100.0 * traced.noise, traced.seconds)))

    def picture(self, bits: Bits) -> Picture:
        """The picture as it is shown, or as linear light with its layers."""
        from kestrav.render.tracing.studio import FinishedStudio

        assert isinstance(self.studio, FinishedStudio) and self.traced is not None
        studio, region = self.studio, self.studio.region
        if self.traced.cover.shape == (self.shot.height, self.shot.width):
            studio.region = None
        studio.bits = bits
        try:
            if bits == 32:
                return studio.layers(self.camera, self.time, self.traced)
            lined = studio.lined(studio.shown(self.traced), self.camera, self.time)
            return studio.inscribed(lined, self.camera, self.time)
        finally:
            studio.region, studio.bits = region, 8

    def save(self, target: Path, bits: Bits) -> None:
        """Write the picture as it is."""
        from kestrav.render.deep_images import layers_told, save_layers
        from kestrav.render.film import check_target, told_of
        from kestrav.render.sinks import save_png

        check_target(target, overwrite=True)
        about = told_of(self.project, self.shot, self.time)
        if self.traced is None and self.quick is None:
            raise BadInput("there is no picture yet; let it be made first")
        if self.traced is None:
            if bits != 8:
                raise BadInput("this picture is a quick one of 8 bits; save it as PNG, or make it finished")
            assert self.quick is not None
            save_png(self.quick, target, about)
        elif bits == 32:
            save_layers(self.picture(32), target, about | layers_told(self.project))
        else:
            save_png(self.picture(bits), target, about)
        self.connection.send(("saved", target))


def _pasted(whole: Traced | None, traced: Traced, region: Region | None) -> Traced:
    """A region in its place in the whole picture, where there is such."""
    if region is None or whole is None or whole.cover.shape == traced.cover.shape:
        return traced
    left, top, right, bottom = region
    if whole.cover.shape[0] < bottom or whole.cover.shape[1] < right:
        return traced
    light, cover = whole.light.copy(), whole.cover.copy()
    light[top:bottom, left:right], cover[top:bottom, left:right] = traced.light, traced.cover
    bare = whole.bare
    if bare is not None and traced.bare is not None:
        bare = bare.copy()
        bare[top:bottom, left:right] = traced.bare
    return msgspec.structs.replace(whole, light=light, cover=cover, bare=bare)
