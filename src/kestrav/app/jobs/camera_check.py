"""Looks at the lens's camera in a process of its own, as the document changes: first at a few times, then at every frame."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from multiprocessing.connection import Connection
from typing import Any

import msgspec
from PySide6.QtCore import Signal

from kestrav.app.jobs.jobs import Newest
from kestrav.core.camera.measured_curves import camera_curves
from kestrav.core.document.records import Project
from kestrav.core.geometry.meshes import Mesh

_FEW, _FEW_RAYS = 61, 64
_SETTLES = 0.25  # s without an edit after which every frame is looked at


def _serve(connection: Connection) -> None:
    with contextlib.suppress(EOFError, OSError):
        _Server(connection).run()


class _Server:
    """Child: looks at cameras as they come, the newest only."""

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.meshes: dict[str, Mesh] = {}
        self.waiting: tuple[int, Project, str] | None = None

    def take(self) -> None:
        while self.connection.poll():
            kind, *value = self.connection.recv()
            if kind == "meshes":
                # a new mapping, as what is known of one is kept by it
                self.meshes = self.meshes | value[0]
            else:
                self.waiting = (value[0], msgspec.msgpack.decode(value[1], type=Project), value[2])

    def run(self) -> None:
        while True:
            if self.waiting is None:
                self.connection.poll(None)
                self.take()
                continue
            key, project, camera = self.waiting
            self.waiting = None
            try:
                few = camera_curves(project, self.meshes, camera, _FEW, _FEW_RAYS)
                self.connection.send(("curves", key, few, False))
                if self.connection.poll(_SETTLES):
                    self.take()
                    continue
                self.connection.send(("curves", key, camera_curves(project, self.meshes, camera), True))
            except (EOFError, OSError):
                raise
            except Exception as fault:
                self.connection.send(("failed", key, str(fault), True))


class CameraCheck(Newest):
    """Keeps the curves of a camera coming."""

    curves = Signal(object, bool)  # CameraCurves of the newest project, and whether at every frame
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__(_serve)

    def judge(self, project: Project, meshes: Mapping[str, Mesh], camera_id: str) -> None:
        """Look at a camera soon."""
        self.hand_over(project, meshes, camera_id)

    def _on_message(self, message: tuple[str, int, Any, bool]) -> None:
        kind, key, value, whole = message
        if key != self._key:
            return
        if kind == "curves":
            self.curves.emit(value, whole)
        else:
            self.failed.emit(value)
