"""What the stage shows through cameras: the lens with its guides, and several cameras as tiles."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, QRect, QSettings
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.app.stage.overlays import PaneName
from kestrav.app.stage.stage_base import StageBase
from kestrav.core.camera.filmed import faint_things
from kestrav.core.camera.views import Views, views
from kestrav.core.document.lookup import get, get_as
from kestrav.core.document.records import Camera, Project, Shot
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.aiming import aim_camera, aim_lens
from kestrav.render.batches import DisplayMode
from kestrav.render.frame_marks import OUTSIDE, FrameGuides, FrameMarks, horizon_line
from kestrav.render.inscriptions import LEGIBLE, Inscriber
from kestrav.render.marks import PathLines
from kestrav.render.over_picture import OverPicture
from kestrav.render.palette import SKY, rgb
from kestrav.render.passing import Passing
from kestrav.render.picture import REACH, backdrop, display_mode_of, path_width
from kestrav.render.scene import Scene
from kestrav.render.scene_lights import ProjectLights
from kestrav.render.steady_light import light

Array = NDArray[np.float64]
Frame = tuple[float, float, float, float]

WHOLE: Frame = (0.0, 0.0, 1.0, 1.0)
MOST_TILES = 9
_KEPT = 4  # shots whose display mode and writings are kept ready
_TOOLS = 50  # pixels at the top that the tools' buttons take


def kept_guides() -> FrameGuides:
    """The guides that the person chose last."""
    settings, plain = QSettings(), msgspec.structs.asdict(FrameGuides())
    guides: dict[str, object] = {}
    for name, default in plain.items():
        value = settings.value(f"frame/{name}")
        if value is None:
            continue
        if isinstance(default, bool):
            guides[name] = str(value) == "true"
        elif isinstance(default, float):
            guides[name] = float(str(value))
        else:
            columns, _, rows = str(value).partition("x")
            guides[name] = (int(columns or 0), int(rows or 0))
    return FrameGuides(**guides)  # type: ignore[arg-type]


def keep_guides(guides: FrameGuides) -> None:
    """Remember the guides for the next time."""
    for name, value in msgspec.structs.asdict(guides).items():
        text = f"{value[0]}x{value[1]}" if isinstance(value, tuple) else str(value).lower()
        QSettings().setValue(f"frame/{name}", text)


def frame_within(room: QRect, aspect: float, *, outside: bool) -> tuple[QRect, Frame]:
    """The largest frame of an aspect within a room: the rectangle of what is drawn, and the frame within it as shares.

    With what is ``outside`` it the rest of the room is drawn as well.
    """
    share = 1.0 - 2 * OUTSIDE if outside else 1.0
    width = min(room.width() * share, room.height() * share * aspect)
    height = width / aspect
    if not outside:
        size = round(width), round(height)
        left, top = room.x() + (room.width() - size[0]) // 2, room.y() + (room.height() - size[1]) // 2
        return QRect(left, top, *size), WHOLE
    x, y = 0.5 * width / max(room.width(), 1), 0.5 * height / max(room.height(), 1)
    return room, (0.5 - x, 0.5 - y, 0.5 + x, 0.5 + y)


class LensView:
    """One camera's picture in a renderer of its own."""

    def __init__(self) -> None:
        self.renderer = vtkRenderer()
        light(self.renderer)
        self.paths = PathLines(self.renderer)
        self.marks = FrameMarks(self.renderer)
        self.written, self.fading = OverPicture(self.renderer), OverPicture(self.renderer)
        self.frame: Frame = WHOLE
        self.seen: Views | None = None
        self._display_modes: dict[Shot, tuple[Project, DisplayMode]] = {}
        self._writes: dict[Shot, tuple[Project, Inscriber, Passing]] = {}

    def show(
        self,
        scene: Scene,
        project: Project,
        meshes: dict[str, Mesh],
        camera: Camera,
        shot: Shot | None,
        time: float,
        poses: Array,
        guides: FrameGuides,
    ) -> float:
        """Aim at what a camera sees at a time in s; returns its vertical angle in rad."""
        width, height = (shot.width, shot.height) if shot else (16, 9)
        seen = self.seen = views(project, meshes, camera, [time], poses[None], width / height)
        angle = float(seen.vertical_angle(camera, width, height)[0])
        aim_lens(self.renderer, camera, seen, width, height, REACH)
        tall = self.frame[3] - self.frame[1]
        if tall < 1.0:
            # the frame is a part of what is drawn, which reaches so much farther
            wider = 2.0 * float(np.arctan(np.tan(angle / 2.0) / tall))
            aim_camera(
                self.renderer, seen.position[0], seen.target[0], seen.up[0], wider, REACH, parallel=camera.parallel
            )
        scene.fade(self.renderer, faint_things(camera, time))
        self.paths.show(
            project.paths if shot is not None and shot.paths else (), path_width(self.renderer.GetSize()[1])
        )
        if shot is None:
            self.renderer.SetBackground(*rgb(SKY))
            self.renderer.SetGradientBackground(False)
            self.written.show(None)
        else:
            backdrop(self.renderer, shot)
            self._write(scene, project, meshes, shot, time, seen, poses)
        horizon = None
        if guides.horizon and not camera.parallel:
            half = float(seen.half_height(camera, width, height)[0])
            horizon = horizon_line(seen.forward[0], seen.up[0], half, width / height)
        self.marks.show(guides, self.frame, horizon)
        return angle

    def display_mode(self, project: Project, shot: Shot | None) -> DisplayMode:
        """How a shot shows the parts; of no shot, as in a studio."""
        if shot is None:
            return DisplayMode()
        known = self._display_modes.get(shot)
        if known is None or (shot.look == "ghost" and known[0] is not project):
            if len(self._display_modes) >= _KEPT:
                self._display_modes.clear()
            known = self._display_modes[shot] = project, display_mode_of(project, shot)
        return known[1]

    def _write(
        self,
        scene: Scene,
        project: Project,
        meshes: dict[str, Mesh],
        shot: Shot,
        time: float,
        seen: Views,
        poses: Array,
    ) -> None:
        """Show what the shot writes and draws on its pictures."""
        known = self._writes.get(shot)
        if known is None or known[0] is not project:
            # others of a document that is not shown any more, or of too many shots
            for other, (of, _, drawn) in list(self._writes.items()):
                if of is not project or len(self._writes) >= _KEPT:
                    drawn.remove()
                    del self._writes[other]
            known = project, Inscriber(project, meshes, shot), Passing(self.renderer, scene, project, shot, 1.0)
            self._writes[shot] = known
        _, inscriber, passing = known
        for other, (_, _, drawn) in self._writes.items():
            if other != shot:
                drawn.hide()
        passing.show(time)
        width, height = self.renderer.GetSize()
        left, bottom, right, top = self.frame
        size = max(round((right - left) * width), 8), max(round((top - bottom) * height), 8)
        # at its least size text would hide most of a small inset
        legible = size[0] >= LEGIBLE
        self.written.show(inscriber.layer(*size, time, seen, poses) if legible else None, self.frame)


class Tile(msgspec.Struct):
    """One of several cameras shown side by side: which, where, and its picture."""

    camera: str
    rect: QRect
    view: LensView


class Tiles:
    """All cameras side by side in a stage."""

    def __init__(self, stage: StageBase) -> None:
        self.stage = stage
        self.tiles: list[Tile] | None = None
        self._views: list[tuple[LensView, ProjectLights, PaneName]] = []

    def show(self, shown: bool) -> None:
        """Show them, or the stage."""
        self.tiles = [] if shown and self.stage.session.shown.cameras else None

    def at(self, position: QPoint) -> Tile | None:
        """The tile at a place of the stage."""
        return next((tile for tile in self.tiles or () if tile.rect.contains(position)), None)

    def lay(self) -> None:
        """Give each camera a tile, as far as they are shown."""
        stage, project = self.stage, self.stage.session.shown
        if not project.cameras:
            self.tiles = None
        wanted: list[tuple[str, QRect]] = []
        if self.tiles is not None:
            # below the tools' buttons
            wanted = tiled(
                project.cameras, stage.rect().adjusted(0, _TOOLS, 0, 0), lambda c: _aspect(_shot(project, c))
            )
            self.tiles = []
        while len(self._views) < len(wanted):
            tile = LensView()
            tile.renderer.SetLayer(0)
            stage.view.GetRenderWindow().AddRenderer(tile.renderer)
            self._views.append((tile, ProjectLights([tile.renderer]), PaneName(stage)))
        for k, (view, _, label) in enumerate(self._views):
            on = k < len(wanted)
            view.renderer.SetDraw(on)
            label.setVisible(on)
            if not on:
                stage.scene.hide_in(view.renderer)
                continue
            camera, rect = wanted[k]
            stage.scene.show_in(view.renderer)
            stage.place(view.renderer, rect)
            assert self.tiles is not None
            self.tiles.append(Tile(camera, rect, view))
            label.setText(get(project, camera).name)
            label.adjustSize()
            label.move(rect.left() + 8, rect.bottom() - label.height() - 8)
            label.raise_()

    def aim(self, project: Project, poses: Array) -> None:
        """Let each show what its camera sees now."""
        if self.tiles is None:
            return
        if [t.camera for t in self.tiles] != [c.id for c in project.cameras[:MOST_TILES]]:
            self.lay()
        session = self.stage.session
        for tile, (_, lights, _) in zip(self.tiles or (), self._views, strict=False):
            camera = get_as(project, tile.camera, Camera)
            shot = _shot(project, camera)
            tile.view.show(
                self.stage.scene, project, session.meshes, camera, shot, session.time, poses, FrameGuides(mask=0.0)
            )
            lights.show(project, session.time)


def _shot(project: Project, camera: Camera) -> Shot | None:
    return next((s for s in project.shots if s.camera == camera.id), None)


def _aspect(shot: Shot | None) -> float:
    return shot.width / shot.height if shot else 16 / 9


def tiled(cameras: tuple[Camera, ...], room: QRect, aspect_of: Callable[[Camera], float]) -> list[tuple[str, QRect]]:
    """Cameras in a grid within a room: the id and the frame of each."""
    shown = cameras[:MOST_TILES]
    columns = max(int(np.ceil(np.sqrt(len(shown)))), 1)
    rows = max(int(np.ceil(len(shown) / columns)), 1)
    tiles = []
    for k, camera in enumerate(shown):
        row, column = divmod(k, columns)
        left, right = room.width() * column // columns, room.width() * (column + 1) // columns
        top, bottom = room.height() * row // rows, room.height() * (row + 1) // rows
        cell = QRect(room.x() + left, room.y() + top, right - left - 2, bottom - top - 2)
        tiles.append((camera.id, frame_within(cell, aspect_of(camera), outside=False)[0]))
    return tiles
