"""The mouse and keys in the lens: they move the camera itself."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtCore import QPoint, QRect, Qt
from PySide6.QtGui import QKeyEvent

from kestrav.app.session import Session
from kestrav.core.camera import adjusting
from kestrav.core.camera.views import views
from kestrav.core.document.records import AlongAim, Camera, FreeAim, Project

DEGREES = 0.25  # a pixel turns
NEARER = 0.93  # a notch of the wheel
KEY_STEP = 3.0  # degrees that a key turns


class LensController:
    """Dragging in the lens edits its camera: left orbits or looks, the other buttons shift, the wheel dollies."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.holding = False
        self._drags = 0

    def press(self) -> None:
        """The button went down in the lens."""
        self.holding = True
        self._drags += 1

    def release(self) -> None:
        """The button is up."""
        self.holding = False

    def _edit(self, label: str, change: Callable[[Project], Project], merge: str) -> None:
        self.session.edit(label, change, merge=merge)

    def drag(self, step: QPoint, button: Qt.MouseButton, keys: Qt.KeyboardModifier, rect: QRect) -> None:
        """Dragged by a step in pixels, the frame being as large as a rectangle."""
        camera = self.session.camera
        if camera is None:
            return
        merge = f"lens-{self._drags}"
        if button == Qt.MouseButton.LeftButton:
            looks = bool(keys & Qt.KeyboardModifier.AltModifier) or isinstance(camera.aim, FreeAim | AlongAim)
            self._turn(camera, step.x() * DEGREES, step.y() * DEGREES, looks=looks, merge=merge)
            return
        pixel = self._pixel(camera, rect)
        time, meshes = self.session.time, self.session.meshes
        change = partial(
            adjusting.shifted,
            meshes=meshes,
            camera_id=camera.id,
            time=time,
            right=-step.x() * pixel,
            up=step.y() * pixel,
        )
        self._edit("Move camera", change, merge)

    def _turn(self, camera: Camera, left: float, up: float, *, looks: bool, merge: str) -> None:
        make = adjusting.looked if looks else adjusting.orbited
        change = partial(
            make, meshes=self.session.meshes, camera_id=camera.id, time=self.session.time, left=left, up=up
        )
        self._edit("Turn camera" if looks else "Orbit camera", change, merge)

    def _pixel(self, camera: Camera, rect: QRect) -> float:
        """The size in mm of a pixel of the frame at what the camera looks at."""
        project = self.session.shown
        shot = self.session.shot
        width, height = (shot.width, shot.height) if shot else (16, 9)
        seen = views(project, self.session.meshes, camera, [self.session.time], aspect=width / height)
        half = float(seen.half_height(camera, width, height)[0])
        away = 1.0 if camera.parallel else float(np.linalg.norm(seen.target[0] - seen.position[0]))
        return 2.0 * half * away / max(rect.height(), 1)

    def wheel(self, notches: float) -> None:
        """The wheel was turned over the lens."""
        camera = self.session.camera
        if camera is None:
            return
        change = partial(
            adjusting.dollied,
            meshes=self.session.meshes,
            camera_id=camera.id,
            time=self.session.time,
            factor=NEARER**notches,
        )
        # turns of the wheel in a row are one edit
        self._edit("Dolly camera", change, f"lens-wheel-{camera.id}")

    def key(self, event: QKeyEvent) -> bool:
        """A key while the lens is large; False when it is not for the lens."""
        camera = self.session.camera
        turns = {
            Qt.Key.Key_Left: (-KEY_STEP, 0.0),
            Qt.Key.Key_Right: (KEY_STEP, 0.0),
            Qt.Key.Key_Up: (0.0, KEY_STEP),
            Qt.Key.Key_Down: (0.0, -KEY_STEP),
        }
        if camera is None:
            return False
        if event.key() in turns and event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            looks = bool(event.modifiers() & Qt.KeyboardModifier.AltModifier)
            looks |= isinstance(camera.aim, FreeAim | AlongAim)
            left, up = turns[Qt.Key(event.key())]
            self._turn(camera, left, up, looks=looks, merge=f"lens-key-{camera.id}")
        elif event.key() in (Qt.Key.Key_Plus, Qt.Key.Key_Equal):
            self.wheel(1.0)
        elif event.key() == Qt.Key.Key_Minus:
            self.wheel(-1.0)
        else:
            return False
        return True
