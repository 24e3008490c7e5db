"""The row above the chart: playing and stepping, the readout, the chosen key, and what the chart shows."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QRect, QSize, Qt, Signal
from PySide6.QtGui import QAction, QColor, QPainter, QPaintEvent
from PySide6.QtWidgets import QHBoxLayout, QLabel, QMenu, QPushButton, QSizePolicy, QToolButton, QWidget

from kestrav.app.session import Session
from kestrav.app.widgets.icons import icon_of
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.app.widgets.window_colours import CARD
from kestrav.core.camera.measured_curves import CURVES
from kestrav.core.kinematics.runs import span

_CAMERA_LANES = {
    "subject size": "Height of the subject in the frame",
    "visible": "Visible share of the subject",
    "margin": "Margin to the frame’s edge",
    "subject distance": "Camera’s distance to the subject",
    "nearest": "Camera’s distance to anything",
    "camera speed": "Speed of the camera",
    "pan": "Pan rate of the camera",
    "horizon": "Roll of the horizon",
}


class _Readout(QLabel):
    """Where the playhead is. Where there is little room the text is cut, with dots, and does not push the window apart."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("readout")
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self.sizeHint().width() > self.width():
            painter, dots = QPainter(self), " …"
            width = painter.fontMetrics().horizontalAdvance(dots) + 2
            inside = self.contentsRect()
            room = QRect(inside.right() + 1 - width, inside.top(), width, inside.height())
            painter.fillRect(room, QColor(CARD))
            painter.drawText(room, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft, dots)


class Transport(QWidget):
    """Tells what is pressed and chosen in the row."""

    play_toggled = Signal()
    zoomed = Signal(float)  # by which factor more of the axis is to be shown
    all_asked = Signal()
    snapping_set = Signal(bool)
    grouping_set = Signal(bool)
    even_asked = Signal()  # all lanes of one height
    lane_toggled = Signal(str, bool)
    axis_asked = Signal(bool)  # by distance, or by time
    key_typed = Signal()

    def __init__(self, session: Session, times: QMenu, *, snapping: bool, grouped: bool) -> None:
        super().__init__()
        self.session, self.time_menu = session, times
        self.setObjectName("transport")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(32)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(4)
        self._icons = {name: icon_of(name) for name in ("play", "pause")}
        self.play = QPushButton()
        self.play.setObjectName("play")
        self.play.setIcon(self._icons["play"])
        self.play.setToolTip("Play or pause (Space)")
        self.play.setAccessibleName("Play or pause")
        self.play.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.play.clicked.connect(self.play_toggled)
        row.addWidget(self.play)
        for icon, tip, action in (
            ("start", "To the start (Home)", lambda: self.session.set_time(0.0)),
            ("back", "One frame back (Left)", lambda: self.session.step(-1)),
            ("ahead", "One frame on (Right)", lambda: self.session.step(1)),
            ("end", "To the end (End)", lambda: self.session.set_time(span(self.session.shown))),
        ):
            row.addWidget(self._button(icon, tip, action))
        row.addSpacing(6)
        self.readout = _Readout()
        row.addWidget(self.readout, 1)
        self.preview_told = QLabel()
        self.preview_told.setObjectName("muted")
        self.preview_told.setToolTip(
            "Pictures of the frames are made ahead while nothing else is to be done, and played at the full frame rate"
        )
        self.preview_told.hide()
        row.addWidget(self.preview_told)
        self._add_key_fields(row)
        self.axis_buttons: list[QPushButton] = []
        self.snap = QPushButton("snap")
        self.snap.setObjectName("link")
        self.snap.setCheckable(True)
        self.snap.setChecked(snapping)
        self.snap.setToolTip(
            "Snap bars and keys to frames, other bars' ends and the playhead; hold Alt to suspend snapping"
        )
        self.snap.toggled.connect(self.snapping_set)
        row.addWidget(self.snap)
        row.addSpacing(4)
        for icon, tip, action in (
            ("more", "Show more time (Ctrl+−, or the wheel)", lambda: self.zoomed.emit(1.5)),
            ("less", "Show less time (Ctrl++, or the wheel)", lambda: self.zoomed.emit(1 / 1.5)),
            (
                "all",
                "Show all time (Ctrl+0); drag with the middle button to pan",
                self.all_asked.emit,
            ),
        ):
            row.addWidget(self._button(icon, tip, action))
        row.addSpacing(4)
        row.addWidget(_menu_button("time", times, "Stretch, move, reverse or split the selection, or everything"))
        menu = QMenu(self)
        group = menu.addAction("Group bars by what they move")
        group.setCheckable(True)
        group.setChecked(grouped)
        group.toggled.connect(self.grouping_set)
        self.group_action = group
        even = menu.addAction("Same height for all lanes")
        even.triggered.connect(lambda: self.even_asked.emit())
        menu.addSeparator()
        self.lane_actions: dict[str, QAction] = {}
        for name, text in (
            ("clearance", "Clearance"),
            ("distance", "Distance"),
            ("speed", "Speed"),
            ("acceleration", "Acceleration"),
            ("sideways", "Lateral acceleration"),
            ("orientation", "Orientation"),
            ("bank", "Bank"),
            ("height", "Height"),
            ("bend", "Bend radius"),
            ("strength", "Light intensity"),
            ("wheel", "Turns of a wheel or rotation"),
            ("rolled", "Distance rolled"),
            ("slip", "Slip of a wheel"),
            ("rate", "Revolutions per minute"),
            ("gap", "Gap between wheel and ground"),
            ("mesh", "Mesh error of teeth"),
            ("", ""),
            *((name, _CAMERA_LANES[name]) for name in CURVES),
        ):
            if not name:
                menu.addSeparator()
                continue
            choice = menu.addAction(text)
            choice.setCheckable(True)
            choice.toggled.connect(partial(self.lane_toggled.emit, name))
            self.lane_actions[name] = choice
        row.addWidget(_menu_button("lanes", menu, "Which curves the chart shows"))
        row.addSpacing(10)
        label = QLabel("axis:")
        label.setObjectName("muted")
        row.addWidget(label)
        for text, distance in (("time", False), ("distance", True)):
            button = QPushButton(text)
            button.setObjectName("link")
            button.setCheckable(True)
            button.setToolTip(f"Chart over {text} (X)")
            button.clicked.connect(lambda _=False, d=distance: self.axis_asked.emit(d))
            self.axis_buttons.append(button)
            row.addWidget(button)
        self.axis_buttons[0].setChecked(True)

    def _button(self, icon: str, tip: str, action: Callable[[], object]) -> QPushButton:
        button = QPushButton()
        button.setObjectName("plain")
        button.setIcon(icon_of(icon))
        button.setIconSize(QSize(17, 17))
        button.setToolTip(tip)
        button.setAccessibleName(tip)
        button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        button.clicked.connect(lambda: action())
        return button

    def _add_key_fields(self, row: QHBoxLayout) -> None:
        """Where the chosen key is and what it says, to be typed."""
        self.key_at, self.key_value = QuantityEdit(0.0, "s", 3, 0.1), QuantityEdit(0.0, "mm", 1, 1.0)
        for field, name, tip in (
            (self.key_at, "Key at", "Position of the selected key"),
            (self.key_value, "Key value", "Value of the selected key"),
        ):
            field.setAccessibleName(name)
            field.setObjectName("keyfield")
            field.setToolTip(f"{tip}; Delete removes the key")
            field.setFixedWidth(82)
            field.given.connect(lambda _: self.key_typed.emit())
            field.hide()
            row.addWidget(field)
        row.addSpacing(8)

    def show_preview(self, kept: int, count: int) -> None:
        """Show how much of the preview is there; nothing where none is made."""
        self.preview_told.setVisible(kept > 0)
        self.preview_told.setText("preview ready" if kept >= count else f"preview {100 * kept // max(count, 1)} %")

    def set_playing(self, playing: bool) -> None:
        """Show whether it plays."""
        self.play.setIcon(self._icons["pause" if playing else "play"])


def _menu_button(text: str, menu: QMenu, tip: str) -> QToolButton:
    button = QToolButton()
    button.setObjectName("plainmenu")
    button.setText(text)
    button.setToolTip(tip)
    button.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
    button.setFocusPolicy(Qt.FocusPolicy.TabFocus)
    button.setMenu(menu)
    return button
