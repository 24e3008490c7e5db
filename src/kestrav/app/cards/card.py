"""The card itself: a title, a form, and why something was refused."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, ClassVar, Literal

from PySide6.QtCore import QObject, QSettings, Qt, QTimer, Signal
from PySide6.QtWidgets import QLabel, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from kestrav.app.cards.camera import CameraRows
from kestrav.app.cards.checks import ChecksRows, RequirementRows
from kestrav.app.cards.gears import BallRows, GearRows, RodRows
from kestrav.app.cards.lights import LightRows
from kestrav.app.cards.measuring import MeasureRows, NoteRows
from kestrav.app.cards.moving import CarryRows, PosesRows
from kestrav.app.cards.part import TABS, PartRows
from kestrav.app.cards.path import PathRows
from kestrav.app.cards.project import ProjectRows
from kestrav.app.cards.run import RunRows
from kestrav.app.cards.shooting import ShotRows
from kestrav.app.cards.wheels import RollRows, SpinRows, SwivelRows
from kestrav.app.session import Session
from kestrav.app.stage.part_tools import MeasureTool
from kestrav.app.widgets.fields import Form
from kestrav.core.camera.adjusting import MARGIN
from kestrav.core.document.records import (
    Ball,
    Camera,
    Carry,
    Drive,
    Light,
    Note,
    Part,
    Path,
    Poses,
    Requirement,
    Rod,
    Roll,
    Run,
    Shot,
    Spin,
    Swivel,
)
from kestrav.core.findings.check import CheckResult

if TYPE_CHECKING:
    from kestrav.app.actions.contact_actions import ContactActions

_ROWS: dict[type, Any] = {
    Part: PartRows,
    Path: PathRows,
    Run: RunRows,
    Camera: CameraRows,
    Shot: ShotRows,
    Note: NoteRows,
    Poses: PosesRows,
    Carry: CarryRows,
    Light: LightRows,
    Roll: RollRows,
    Swivel: SwivelRows,
    Spin: SpinRows,
    Drive: GearRows,
    Rod: RodRows,
    Ball: BallRows,
    Requirement: RequirementRows,
}


@dataclass
class Copying:
    """How copies are made; the card remembers it."""

    step: tuple[float, float, float] = (200.0, 0.0, 0.0)
    count: int = 3
    linked: bool = True

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Leading:
    """How convoys and followers are made; the card remembers it."""

    count: int = 3
    spacing: float = 1500.0
    path: str = ""

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Repeating:
    """How copies of a rod are made, and how many marks are around a wheel; the card remembers it."""

    count: int = 2
    offset: tuple[float, float, float] = (0.0, 100.0, 0.0)
    phase: float = 90.0
    marks: int = 1

    def set(self, **fields: Any) -> None:
        """Change some of it."""
        for name, value in fields.items():
            setattr(self, name, value)


@dataclass
class Shaping:
    """How a path's typed length is got, and how far it is lifted off the ground; the card remembers it."""

    anchor: Literal["start", "middle", "end", "last"] = "start"
    lift: float = 0.0

    def set_lift(self, lift: float) -> None:
        """Choose how far above what lies below a path is let down."""
        self.lift = lift

    def set_anchor(self, anchor: str) -> None:
        """Choose what stays where it is."""
        self.anchor = anchor  # type: ignore[assignment]


class PathMarkChoice(QObject):
    """Which marks the stage shows of the selected path; remembered."""

    changed = Signal()
    DEFAULTS: ClassVar[dict[str, bool]] = {"numbers": True, "seconds": True, "comb": False}

    def get(self, name: str) -> bool:
        """Whether a mark is shown."""
        found = QSettings().value(f"marks/{name}")
        return self.DEFAULTS[name] if found is None else str(found) == "true"

    def set(self, name: str, shown: bool) -> None:
        """Show a mark or not."""
        QSettings().setValue(f"marks/{name}", "true" if shown else "false")
        self.changed.emit()

    def shown(self) -> frozenset[str]:
        """The marks that are shown."""
        return frozenset(name for name in self.DEFAULTS if self.get(name))


class Card(QWidget):
    """Shows and edits the session's selection."""

    render_asked = Signal(object)
    still_asked = Signal(object)
    film_strip_asked = Signal(object)
    complained = Signal(str)  # why something was not done
    film_asked = Signal()
    orbit_view_asked = Signal(str)
    orbit_asked = Signal()
    draw_asked = Signal()
    draw_on_asked = Signal(str, str)  # a path and which of its ends
    replace_asked = Signal(str)  # a part, by a file
    reload_asked = Signal(str)  # a source
    place_asked = Signal(str)  # what to pick: face, axis, points, pivot, front, up
    keep_asked = Signal()
    copy_asked = Signal()
    trace_asked = Signal()
    axle_asked = Signal(str)  # what is to turn about what is picked
    put_down_asked = Signal(str)  # a ride
    contacts_asked = Signal()
    breaches_asked = Signal()
    fits_asked = Signal()
    requirement_asked = Signal()
    swept_asked = Signal(str)  # a swept space, to be worked out again

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 0)
        column.setSpacing(0)
        self.title = QLabel()
        self.title.setObjectName("title")
        self.title.setWordWrap(True)
        self.title.setContentsMargins(12, 8, 12, 0)
        self.title.linkActivated.connect(session.select)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addWidget(self.title)
        column.addWidget(self.area, 1)
        column.addWidget(self.fault)
        self.form = Form()
        self.result: CheckResult | None = None
        self.shows_checks = False
        self.part_tab = str(QSettings().value("card/part", "Motion"))
        if self.part_tab not in TABS:
            self.part_tab = "Motion"
        self.path_tab = "Shape"
        self.run_tab = "Run"
        self.camera_tab = "Lens"
        self.shot_tab = "Film"
        self.fit_margin = MARGIN
        self.ramps: dict[str, str] = {}  # what soft starts and stops are measured by, where it is a time
        self.copying = Copying()
        self.shaping = Shaping()
        self.leading = Leading()
        self.repeating = Repeating()
        self.contacts: ContactActions | None = None
        self.path_marks = PathMarkChoice(self)
        self.measuring: MeasureTool | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.rebuild)
        self._fault_timer = QTimer(self)
        self._fault_timer.setSingleShot(True)
        self._fault_timer.timeout.connect(self.fault.hide)
        session.edited.connect(lambda: self._timer.start(25))
        session.selected.connect(self._on_selected)
        session.refused.connect(self.complain)

    def show_part_tab(self, name: str) -> None:
        """Show one part of a part's card."""
        self.part_tab = name
        QSettings().setValue("card/part", name)
        self.rebuild()

    def show_path_tab(self, name: str) -> None:
        """Show one part of a path's card."""
        self.path_tab = name
        self.rebuild()

    def show_camera_tab(self, name: str) -> None:
        """Show a side of the camera's card."""
        self.camera_tab = name
        self.rebuild()

    def show_shot_tab(self, name: str) -> None:
        """Show a side of the shot's card."""
        self.shot_tab = name
        self.rebuild()

    def show_run_tab(self, name: str) -> None:
        """Show one part of a run's card."""
        self.run_tab = name
        self.rebuild()

    def show_measuring(self, tool: MeasureTool | None) -> None:
        """Show a measurement under way, or what is selected."""
        if tool is not None or self.measuring is not None:
            self.measuring = tool
            self.rebuild()

    def complain(self, text: str) -> None:
        """Say why something was not done."""
        self.fault.setText(text[:1].upper() + text[1:])
        self.complained.emit(self.fault.text())
        self.fault.show()
        self._fault_timer.start(9000)
        self._timer.start(0)

    def _on_selected(self) -> None:
        self.shows_checks = False
        self.fault.hide()
        self.rebuild()

    def show_checks(self) -> None:
        """Show the settings of the checks."""
        self.shows_checks = True
        self.rebuild()

    def fields(self) -> list[str]:
        """The labels of the fields that the card shows now."""
        named = [field.objectName() for field in self.form.findChildren(QWidget)]
        return list(dict.fromkeys(name.removeprefix("field-") for name in named if name.startswith("field-")))

    def take_keys(self, label: str) -> None:
        """Put the keys into a field by its label, and show it."""
        self.rebuild()
        field = self.form.findChild(QWidget, f"field-{label}")
        if isinstance(field, QWidget):
            self.area.ensureWidgetVisible(field)
            field.setFocus(Qt.FocusReason.ShortcutFocusReason)
            if isinstance(field, QLineEdit):
                field.selectAll()

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result."""
        self.result = result
        item = self.session.item
        if self.shows_checks or isinstance(item, Requirement) or (isinstance(item, Part) and item.swept is not None):
            self.rebuild()

    def rebuild(self) -> None:
        """Make the card anew, keeping the keyboard where it was."""
        focus = self.focusWidget()
        focused = focus.objectName() if focus is not None and focus.hasFocus() else ""
        scrolled = self.area.verticalScrollBar().value()
        old_title = self.title.text()
        self.form = Form()
        self.form.refused.connect(self.complain)
        item = self.session.item
        if self.measuring is not None:
            MeasureRows(self).build(self.measuring)
        elif self.shows_checks:
            ChecksRows(self).build()
        elif item is None:
            ProjectRows(self).build()
        else:
            _ROWS[type(item)](self).build(item)
        self.form.finish()
        self.area.setWidget(self.form)
        if self.title.text() == old_title:
            self.area.verticalScrollBar().setValue(scrolled)
            again = self.form.findChild(QLineEdit, focused) if focused else None
            if again is not None:
                again.setFocus()
