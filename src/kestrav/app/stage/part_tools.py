"""Tools of preparing: moving and turning by handles, picking features, measuring."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, QPoint, Qt, Signal
from PySide6.QtGui import QKeyEvent

from kestrav.app.stage.stage import Stage
from kestrav.app.stage.stage_base import GRAB_PIXELS, SNAPS
from kestrav.app.stage.stage_tool import StageTool
from kestrav.app.stage.tool import Tool
from kestrav.core.clearance.measuring import Measure, Reading, Snap, measure_for, read
from kestrav.core.document.lookup import ancestors, topmost
from kestrav.core.document.records import Feature, Note, Part, Project
from kestrav.core.editing.run_making import adjusted
from kestrav.core.errors import BadInput
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.parts.placing import shift, transform, turn_about
from kestrav.core.parts.rest import placement_matrix, rest_poses
from kestrav.core.units import show
from kestrav.render.measure_marks import Grip, Handles
from kestrav.render.viewpoint import facing, on_plane, to_display

Array = NDArray[np.float64]

_UP = np.array([0.0, 0.0, 1.0])
_FLAT_VIEW = 0.26  # sine of the elevation below which a level plane is too slanted to drag in
_EDGE_ON = 0.15  # cosine between sight and a ring's axis below which the ring is turned by the pointer's way across


class HandleSettings(QObject):
    """What moving and turning go by; the strip shows and sets it."""

    changed = Signal()

    def __init__(self) -> None:
        super().__init__()
        self.own_axes = False
        self.step = 1.0  # mm
        self.angle_step = 5.0  # degrees


class HandleTool(StageTool):
    """Shows handles at the pivot of the selection; a click elsewhere selects."""

    kind: str = "arm"
    quiet = True

    def __init__(self, stage: Stage, settings: HandleSettings, select: Tool) -> None:
        super().__init__(stage)
        self.settings, self.select_tool = settings, select
        self.handles: Handles | None = None
        self.held: Grip | None = None
        self.under: Grip | None = None
        self._base: Project | None = None
        self._poses: Array = np.empty((0, 4, 4))
        self._frame: Array = np.eye(4)
        self._drags = 0
        settings.changed.connect(stage.schedule)

    # where the handles are

    def begin(self) -> None:
        """Show the handles."""
        self.handles = Handles(self.stage.marks.over, "arm" if self.kind == "arm" else "ring")
        self.stage.schedule()

    def end(self) -> None:
        """Take them away."""
        if self.handles is not None:
            self.handles.remove()
        self.handles, self.held, self.under = None, None, None
        self.stage.schedule()

    def frame(self) -> Array | None:
        """The pivot of the selection with the axes to move by (4, 4), in space at the playhead."""
        item = self.session.item
        if not isinstance(item, Part):
            return None
        frame = self.session.part_now(item.id) @ placement_matrix(item.pivot)
        if not self.settings.own_axes:
            frame = frame.copy()
            frame[:3, :3] = np.eye(3)
        return frame

    def drawn(self, pixel: float) -> None:
        """Keep the handles' size on the screen."""
        if self.handles is not None:
            self.handles.place(self.frame(), pixel, self.held or self.under)

    def grip_at(self, position: QPoint) -> Grip | None:
        """The handle near a widget position."""
        if self.handles is None or self.handles.frame is None:
            return None
        x, y = self.stage.display(position)
        reach = GRAB_PIXELS * self.stage.devicePixelRatioF()
        if self.kind == "arm":
            knob = to_display(self.stage.main, self.handles.frame[:3, 3])[0]
            if np.hypot(knob[0] - x, knob[1] - y) <= reach:
                return ("knob", 0)
        best: tuple[float, Grip] | None = None
        for axis in range(3):
            shown = to_display(self.stage.main, self.handles.line(axis))[:, :2]
            a, along = shown[:-1], np.diff(shown, axis=0)
            share = np.clip(
                ((np.array([x, y]) - a) * along).sum(axis=1) / np.maximum((along**2).sum(axis=1), 1e-9), 0, 1
            )
            away = float(np.hypot(*(a + share[:, None] * along - [x, y]).T).min())
            if away <= reach and (best is None or away < best[0]):
                best = (away, ("arm" if self.kind == "arm" else "ring", axis))
        return best[1] if best else None

    # the mouse

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Show what would be taken hold of."""
        under = self.grip_at(position)
        if under != self.under:
            self.under = under
            self.stage.schedule()

    def press(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take hold of a handle."""
        self.held = self.grip_at(position)
        if self.held is None:
            return
        fault = self._not_movable()
        if fault:
            self.held = None
            self.session.refused.emit(fault)
            return
        frame = self.frame()
        assert frame is not None
        self._frame, self._base = frame.copy(), self.session.project
        self._drags += 1
        self._take(position)

    def _not_movable(self) -> str:
        """Why what is chosen cannot be moved; empty when it can. What something moves is adjusted at the playhead."""
        project = self.session.project
        moved = [part_id for part_id in self.session.chosen if part_id in movers(project)]
        try:
            for part_id in moved:
                adjusted(project, part_id, self.session.time, np.eye(4))
        except BadInput as fault:
            return str(fault)
        return ""

    def _take(self, position: QPoint) -> None:
        """Remember where the drag starts."""

    def drop(self) -> None:
        """Let go."""
        self.held, self._base = None, None
        self.stage.said.emit(self.hint)
        self.stage.schedule()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Select."""
        if self.held is None:
            self.select_tool.click(position, keys)
        self.held = None

    def key(self, event: QKeyEvent) -> bool:
        """Esc lets the selection go."""
        return self.select_tool.key(event)

    def apply(self, label: str, matrix: Array, base: Project | None = None, merge: str = "") -> bool:
        """Move the chosen parts by a matrix in space as it is at the playhead."""
        ids = list(self.session.chosen)
        start = base or self.session.project
        # what is carried by a run stands elsewhere than at rest; the edit is one of the rest
        rows = {p.id: i for i, p in enumerate(start.parts)}
        moved = self.session.poses() if base is None else self._poses
        rest, led, time = rest_poses(start), movers(start), self.session.time

        def edit(_: Project) -> Project:
            project = start
            for part_id in topmost(start, ids):
                if part_id in led:
                    project = adjusted(project, part_id, time, matrix)
                    continue
                away = moved[rows[part_id]] @ inverse_rigid(rest[rows[part_id]])
                project = transform(project, [part_id], inverse_rigid(away) @ matrix @ away)
            return project

        return self.session.edit(label, edit, merge=merge)

    def _remember_poses(self) -> None:
        """Poses at the start of a drag: what is moved does not change how far its carrier has moved."""
        self._poses = self.session.poses()


class MoveTool(HandleTool):
    """Move along the axes by arms, or in the level plane by the knob."""

    kind = "arm"
    hint = (
        "Drag an arrow to move along it, the knob to move level · Shift lifts · Ctrl: ten steps · or type in the strip"
    )

    def _take(self, position: QPoint) -> None:
        self._remember_poses()
        self._start = self._along(position) if self.held and self.held[0] == "arm" else 0.0

    def _along(self, position: QPoint) -> float:
        """Where along the held arm the sight ray comes nearest to it, in mm."""
        assert self.held is not None
        origin, direction = self.stage.ray_at(position)
        axis, at = self._frame[:3, self.held[1]], self._frame[:3, 3]
        across = np.cross(axis, direction)
        scale = float(across @ across)
        if scale < 1e-9:
            return 0.0
        return float(np.cross(origin - at, direction) @ across / scale)

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Move by whole steps."""
        if self.held is None:
            return False
        size = self.settings.step * (10.0 if keys & Qt.KeyboardModifier.ControlModifier else 1.0)
        if self.held[0] == "arm":
            axis = self._frame[:3, self.held[1]]
            along = (
                round((self._along(position) - self._start) / size) * size
                if size > 0
                else self._along(position) - self._start
            )
            step = along * axis
        else:
            target = self._level(position, lift=bool(keys & Qt.KeyboardModifier.ShiftModifier))
            if target is None:
                return True
            step = np.round(target / size) * size if size > 0 else target
        self.apply("Move", shift(step), self._base, f"{self.kind}-{self._drags}")
        self.stage.said.emit("  ".join(f"{a} {show(float(v), 'mm')}" for a, v in zip("xyz", step, strict=True)))
        return True

    def _level(self, position: QPoint, *, lift: bool) -> Array | None:
        view = self.stage.viewpoint
        level = not lift and abs(view.forward[2]) > _FLAT_VIEW
        at = self._frame[:3, 3]
        normal = _UP if level else facing(view.forward)
        if not self.stage.pane.turnable:
            normal = view.forward
        place = on_plane(*self.stage.ray_at(position), at, normal)
        if place is None:
            return None
        step: Array = place - at
        if lift:
            step = np.array([0.0, 0.0, step[2]])
        return step

    def move_by(self, x: float, y: float, z: float) -> bool:
        """Move by typed lengths in mm along the axes in use."""
        frame, fault = self.frame(), self._not_movable()
        if frame is None or fault:
            self.session.refused.emit(fault or "select a part first")
            return False
        self._remember_poses()
        return self.apply("Move", shift(frame[:3, :3] @ np.array([x, y, z])))


class TurnTool(HandleTool):
    """Turn about the axes by rings."""

    kind = "ring"
    hint = "Drag a ring to turn about its axis · Ctrl: whole quarters of a right angle · or type in the strip"

    def _take(self, position: QPoint) -> None:
        self._remember_poses()
        self._last, self._total, self._pressed = self._angle(position), 0.0, position

    def _angle(self, position: QPoint) -> float | None:
        """Angle of the sight ray's meeting with the held ring's plane, in rad; None when it is seen edge on."""
        assert self.held is not None
        k, at = self.held[1], self._frame[:3, 3]
        axis = self._frame[:3, k]
        if abs(float(self.stage.viewpoint.forward @ axis)) < _EDGE_ON:
            return None
        place = on_plane(*self.stage.ray_at(position), at, axis)
        if place is None:
            return None
        u, v = self._frame[:3, (k + 1) % 3], self._frame[:3, (k + 2) % 3]
        return float(np.arctan2((place - at) @ v, (place - at) @ u))

    def drag(self, position: QPoint, keys: Qt.KeyboardModifier) -> bool:
        """Turn by whole steps."""
        if self.held is None:
            return False
        angle = self._angle(position)
        if angle is None or self._last is None:
            self._total = np.radians(0.5) * (position.x() - self._pressed.x())
        else:
            self._total += (angle - self._last + np.pi) % (2 * np.pi) - np.pi
            self._last = angle
        size = np.radians(22.5 if keys & Qt.KeyboardModifier.ControlModifier else self.settings.angle_step)
        total = round(self._total / size) * size if size > 0 else self._total
        matrix = turn_about(self._frame[:3, 3], self._frame[:3, self.held[1]], total)
        self.apply("Turn", matrix, self._base, f"{self.kind}-{self._drags}")
        self.stage.said.emit(f"about {'xyz'[self.held[1]]} {show(float(np.degrees(total)), '°')}")
        return True

    def turn_by(self, axis: int, degrees: float) -> bool:
        """Turn by a typed angle about one of the axes in use."""
        frame, fault = self.frame(), self._not_movable()
        if frame is None or fault:
            self.session.refused.emit(fault or "select a part first")
            return False
        self._remember_poses()
        return self.apply("Turn", turn_about(frame[:3, 3], frame[:3, axis], np.radians(degrees)))


# picking


class Ask(msgspec.Struct, frozen=True):
    """One thing to be picked: what to say, what can be caught, what it must be, and whether on the selection."""

    text: str
    kinds: Sequence[str] = SNAPS
    needs: Callable[[Feature], bool] = lambda feature: True
    otherwise: str = "that does not fit here"
    of_selection: bool | None = None


class PickTool(StageTool):
    """Picks features one after another and hands them on, in space at the playhead.

    Tab offers the next thing under the pointer, Backspace takes one back, Esc gives up.
    """

    takes_tab = True
    quiet = True

    def __init__(self, stage: Stage, leave: Callable[[], None]) -> None:
        super().__init__(stage)
        self._leave = leave
        self.asks: Sequence[Ask] = ()
        self.snaps: list[Snap] = []
        self._done: Callable[[list[Snap]], object] = lambda snaps: None
        self._least = 1
        self._rank = 0
        self._at = QPoint()

    def ask(self, asks: Sequence[Ask], done: Callable[[list[Snap]], object], least: int | None = None) -> None:
        """Ask for features; Enter ends early when ``least`` have been given."""
        self.asks, self._done, self.snaps = asks, done, []
        self._least = len(asks) if least is None else least

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to pick next."""
        if not self.asks:
            return ""
        number = f"{len(self.snaps) + 1} of {len(self.asks)} · " if len(self.asks) > 1 else ""
        more = " · Enter: enough" if self._least <= len(self.snaps) < len(self.asks) else ""
        text = self.asks[min(len(self.snaps), len(self.asks) - 1)].text
        return f"{number}{text} · Tab: next under the pointer{more} · Esc discards"

    def end(self) -> None:
        """Forget all."""
        self.asks, self.snaps = (), []
        self.stage.marks.caught.clear()
        self.stage.schedule()

    def _catch(self, position: QPoint) -> Snap | None:
        if len(self.snaps) >= len(self.asks):
            return None
        ask = self.asks[len(self.snaps)]
        snap = self.stage.catch(position, ask.kinds, self._rank)
        if snap is not None and not ask.needs(snap.feature):
            # something else under the pointer may fit
            for rank in range(1, 4):
                other = self.stage.catch(position, ask.kinds, self._rank + rank)
                if other is not None and ask.needs(other.feature):
                    return other
        return snap

    def hover(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Show what would be picked."""
        if (position - self._at).manhattanLength() > 3:
            self._rank = 0
        self._at = position
        self._show(self._catch(position))

    def _show(self, snap: Snap | None) -> None:
        self.stage.marks.caught.catch(None if snap is None else snap.place, None if snap is None else snap.outline)
        self.stage.marks.caught.pick([s.place for s in self.snaps])
        text = f"{describe(snap)} · " if snap is not None else ""
        self.stage.said.emit(text + self.hint)
        self.stage.schedule()

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Pick."""
        snap = self._catch(position)
        if snap is None:
            self.session.refused.emit("there is nothing under the pointer that could be picked")
            return
        ask = self.asks[len(self.snaps)]
        if not ask.needs(snap.feature):
            self.session.refused.emit(ask.otherwise)
            return
        if ask.of_selection is not None and self._is_chosen(snap.feature.part) != ask.of_selection:
            self.session.refused.emit(
                "pick a place on the selected part"
                if ask.of_selection
                else "pick a place on another part than the selected one"
            )
            return
        self.snaps.append(snap)
        self._rank = 0
        if len(self.snaps) == len(self.asks):
            self.finish()
        else:
            self._show(None)

    def _is_chosen(self, part_id: str | None) -> bool:
        if part_id is None:
            return False
        return bool({*ancestors(self.session.shown, part_id), part_id} & set(self.session.chosen))

    def finish(self) -> None:
        """Hand on what was picked."""
        done, snaps = self._done, list(self.snaps)
        self._leave()
        done(snaps)

    def key(self, event: QKeyEvent) -> bool:
        """Tab, Enter, Backspace and Esc."""
        if event.key() == Qt.Key.Key_Tab:
            self._rank += 1
            self._show(self._catch(self._at))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._least <= len(self.snaps):
            self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            self.snaps = self.snaps[:-1]
            self._show(None)
        elif event.key() == Qt.Key.Key_Escape:
            self._leave()
        else:
            return False
        return True


def describe(snap: Snap) -> str:
    """What is under the pointer, in a few words with its number."""
    feature = snap.feature
    names = {"vertex": "corner", "edge": "edge", "circle": "round edge", "face": "flat face", "place": "place"}
    name = names.get(snap.kind, snap.kind)
    if feature.kind == "point" and snap.kind == "face":
        name = "curved face"
    if feature.radius > 0:
        about = "" if feature.exact else f", fit ± {feature.residual:.3f}\u2009mm"
        return f"{name} of radius {show(feature.radius, 'mm', 3)}{about}"
    if feature.length > 0:
        return f"{name} of {show(feature.length, 'mm', 3)}"
    return f"{name} at " + ", ".join(show(float(v), "", 2) for v in snap.place)


class MeasureTool(PickTool):
    """Picks one thing after another and measures; the card shows the sums."""

    CHOICES: Sequence[tuple[str, str]] = (
        ("", "as picked"),
        ("distance", "point to point"),
        ("axis distance", "to an axis"),
        ("round", "radius, diameter"),
        ("faces", "face to face"),
        ("nearest", "nearest points"),
        ("length", "along edges"),
    )

    def __init__(self, stage: Stage, leave: Callable[[], None], changed: Callable[[], None]) -> None:
        super().__init__(stage, leave)
        self.measure: str = ""
        self._changed = changed
        self.features: list[Feature] = []
        self.reading: Reading | None = None
        self.used: Measure = "distance"

    @property
    def hint(self) -> str:  # type: ignore[override]
        """What to do next."""
        return "Click a corner, edge, round edge or face; a second one measures between them · Tab: next under the pointer · Esc clears"

    def begin(self) -> None:
        """Start afresh."""
        self.clear()

    def end(self) -> None:
        """Take the marks away."""
        self.clear()
        self.stage.marks.caught.clear()

    def clear(self) -> None:
        """Forget what was picked."""
        self.features, self.snaps, self.reading = [], [], None
        self.stage.marks.caught.pick([])
        self._changed()
        self.stage.schedule()

    def set_measure(self, measure: str) -> None:
        """Measure something else of what is picked from now on."""
        self.measure = measure
        self.clear()

    def _catch(self, position: QPoint) -> Snap | None:
        return self.stage.catch(position, SNAPS, self._rank)

    def click(self, position: QPoint, keys: Qt.KeyboardModifier) -> None:
        """Take one more thing into the measurement, or begin another."""
        snap = self._catch(position)
        if snap is None:
            return
        many = self.measure == "length"
        full = 1 if self.measure == "round" else 2
        if not many and len(self.snaps) >= full:
            self.snaps = []
        feature = snap.feature
        if self.measure == "nearest":
            thing = self.stage.click_part(feature.part or "", deepest=False) if feature.part else None
            snap = Snap("thing", snap.place, Feature("thing", thing), snap.outline)
        self.snaps.append(snap)
        self._rank = 0
        self._measure()
        self._show(None)

    def _measure(self) -> None:
        self.features = [s.feature for s in self.snaps]
        self.reading = None
        self.used = measure_for(self.features) if not self.measure else self.measure  # type: ignore[assignment]
        needed = 1 if self.used in ("round", "length") else 2
        alone = len(self.features) == 1 and not self.measure
        # a corner or face alone waits for its partner
        waits = alone and self.features[0].radius <= 0 and self.features[0].length <= 0
        if len(self.features) >= needed and not waits:
            try:
                self.reading = self.read_now()
            except BadInput as fault:
                self.session.refused.emit(str(fault))
                self.snaps = self.snaps[-1:]
                self.features = [s.feature for s in self.snaps]
        self._changed()

    def read_now(self) -> Reading:
        """What the picked things measure at the playhead. Raises BadInput when they do not fit."""
        note = Note("note", "Measurement", self.used, tuple(self.features))
        return read(note, self.session.shown, self.session.meshes, self.session.poses())

    def _show(self, snap: Snap | None) -> None:
        super()._show(snap)
        self.stage.marks.caught.pick(
            [s.place for s in self.snaps], None if self.reading is None else self.reading.drawn
        )

    def key(self, event: QKeyEvent) -> bool:
        """Esc clears, then leaves."""
        if event.key() == Qt.Key.Key_Escape and self.snaps:
            self.clear()
            return True
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Backspace):
            return False
        return super().key(event)


# what placing needs of picks


def is_plane(feature: Feature) -> bool:
    """A flat face."""
    return feature.kind == "plane"


def has_axis(feature: Feature) -> bool:
    """Something with an axis or direction of its own."""
    return feature.axis is not None and feature.kind != "plane"


def has_direction(feature: Feature) -> bool:
    """Something that points somewhere."""
    return feature.axis is not None
