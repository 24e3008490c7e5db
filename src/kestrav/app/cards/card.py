"""The card itself: a title, a form of sections, and why something was refused."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QMenu, QScrollArea, QToolButton, QVBoxLayout

from kestrav.app.cards.camera import CameraRows
from kestrav.app.cards.card_base import CardBase
from kestrav.app.cards.checks import ChecksRows, RequirementRows
from kestrav.app.cards.finish import ColourwayRows, FinishRows, FinishRuleRows
from kestrav.app.cards.gears import BallRows, GearRows, RodRows
from kestrav.app.cards.handing import CommentRows, StepSheetRows
from kestrav.app.cards.lights import LightRows
from kestrav.app.cards.measuring import MeasureRows, NoteRows
from kestrav.app.cards.moving import AttachmentRows, PoseTrackRows
from kestrav.app.cards.part import PartRows
from kestrav.app.cards.path import PathRows
from kestrav.app.cards.project import ProjectRows
from kestrav.app.cards.run import RunRows
from kestrav.app.cards.shooting import ShotRows
from kestrav.app.cards.wheels import CastorRows, RotationRows, WheelRows
from kestrav.app.session import Session
from kestrav.app.stage.part_tools import MeasureTool
from kestrav.app.widgets.form import Form
from kestrav.app.widgets.sheet import Section, Sheet, merged, shared_settings, value_of
from kestrav.core.document import edits
from kestrav.core.document.lookup import find
from kestrav.core.document.records import (
    KIND_WORDS,
    Attachment,
    Ball,
    Camera,
    Castor,
    Colourway,
    Comment,
    Finish,
    FinishRule,
    Gear,
    Item,
    Light,
    Note,
    Part,
    Path,
    PoseTrack,
    Requirement,
    Rod,
    Run,
    Shot,
    StepSheet,
    TimedRotation,
    Wheel,
)
from kestrav.core.findings.check import CheckResult

_ROWS: dict[type, Any] = {
    Part: PartRows,
    Path: PathRows,
    Run: RunRows,
    Camera: CameraRows,
    Shot: ShotRows,
    Note: NoteRows,
    PoseTrack: PoseTrackRows,
    Attachment: AttachmentRows,
    Light: LightRows,
    Wheel: WheelRows,
    Castor: CastorRows,
    TimedRotation: RotationRows,
    Gear: GearRows,
    Rod: RodRows,
    Ball: BallRows,
    Requirement: RequirementRows,
    Finish: FinishRows,
    FinishRule: FinishRuleRows,
    Colourway: ColourwayRows,
    Comment: CommentRows,
    StepSheet: StepSheetRows,
}


class Card(CardBase):
    """Shows and edits the session's selection."""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.setObjectName("card")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 2, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setContentsMargins(0, 0, 6, 0)
        self.title = QLabel()
        self.title.setObjectName("title")
        self.title.setWordWrap(True)
        self.title.setContentsMargins(12, 8, 12, 0)
        self.title.linkActivated.connect(session.select)
        self.more = QToolButton()
        self.more.setObjectName("more")
        self.more.setText("⋯")
        self.more.setAccessibleName("More about the selection")
        self.more.setToolTip("Copy or paste all settings, fold or unfold all sections")
        self.more.clicked.connect(lambda _=False: self._show_more())
        head.addWidget(self.title, 1)
        head.addWidget(self.more, 0, Qt.AlignmentFlag.AlignTop)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        column.addLayout(head)
        column.addWidget(self.area, 1)
        column.addWidget(self.fault)
        self.form = Form()
        self.form.refused.connect(self.complain)
        self.form.stepping.connect(session.step_edits)
        self.form.folded.connect(self._on_folded)
        self.area.setWidget(self.form)
        self.shows_checks = False
        self._subject: object = None  # what the form shows
        self._copied: tuple[type, Sheet] | None = None  # settings to paste: of what kind, and they
        self.measuring: MeasureTool | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self.rebuild)
        self._fault_timer = QTimer(self)
        self._fault_timer.setSingleShot(True)
        self._fault_timer.timeout.connect(self.fault.hide)
        session.edited.connect(self._on_edited)
        session.selected.connect(self._on_selected)
        session.refused.connect(self.complain)

    # sections

    @property
    def kind(self) -> str:
        """What the card is of; each kind keeps which of its sections are folded."""
        item = self.session.item
        if self.measuring is not None or self.shows_checks or item is None:
            return "Measure" if self.measuring is not None else "Checks" if self.shows_checks else "Project"
        return f"{type(item).__name__}s" if len(self.session.selected_ids) > 1 else type(item).__name__

    def _is_folded(self, title: str, first: bool) -> bool:
        kept = QSettings().value(f"card/{self.kind}/{title}")
        return not first if kept is None else kept == "folded"

    def _on_folded(self, title: str, folded: bool) -> None:
        QSettings().setValue(f"card/{self.kind}/{title}", "folded" if folded else "open")
        self.rebuild()

    def open_section(self, title: str) -> None:
        """Unfold a section of the card and show it."""
        self._on_folded(title, False)
        # once it is laid out
        QTimer.singleShot(0, self, lambda: self._scroll_to(title))

    def _scroll_to(self, title: str) -> None:
        head = self.form.section(title)
        if head is not None and head.y() + head.height() > self.area.viewport().height() - 40:
            self.area.verticalScrollBar().setValue(head.y())

    def fold_all(self, folded: bool) -> None:
        """Fold or unfold all sections."""
        for row in self.whole_sheet().rows:
            if isinstance(row, Section) and row.label:
                QSettings().setValue(f"card/{self.kind}/{row.label}", "folded" if folded else "open")
        self.rebuild()

    def _show_more(self) -> None:
        menu = QMenu(self)
        menu.addAction("Unfold all sections").triggered.connect(lambda: self.fold_all(False))
        menu.addAction("Fold all sections").triggered.connect(lambda: self.fold_all(True))
        menu.addSeparator()
        copied = menu.addAction("Copy settings")
        copied.setEnabled(self.session.item is not None and len(self.session.selected_ids) == 1)
        copied.triggered.connect(lambda: self.copy_settings())
        pasted = menu.addAction("Paste settings")
        pasted.setEnabled(self._copied is not None and self._kinds() == {self._copied[0]})
        pasted.triggered.connect(lambda: self.paste_settings())
        menu.exec(self.more.mapToGlobal(self.more.rect().bottomLeft()))

    def copy_settings(self) -> None:
        """Keep the settings of what is selected, to be pasted to others of its kind."""
        item = self.session.item
        if item is not None:
            self._copied = (type(item), self._sheet_of(item.id))

    def _kinds(self) -> set[type]:
        """The kinds of what is selected."""
        items = (find(self.session.shown, i) for i in self.session.selected_ids)
        return {type(item) for item in items if item is not None}

    def paste_settings(self) -> None:
        """Give what is selected the settings that were copied, as one edit."""
        if self._copied is None or self._kinds() != {self._copied[0]}:
            self.complain("copy the settings of a thing of the same kind first")
            return
        source = self._copied[1]
        ids = self.session.selected_ids

        def paste() -> None:
            for item_id in ids:
                # one may bring up another, as a kind of aim has fields of its own
                for _ in range(3):
                    pairs = shared_settings(source, self._sheet_of(item_id))
                    for mine, theirs in pairs:
                        now = self._sheet_of(item_id).field(mine.label)
                        if now is not None and value_of(now) != value_of(theirs):
                            now.change(value_of(theirs))
                    if not pairs:
                        break

        self.session.together("Paste settings", paste)

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

    def _on_edited(self) -> None:
        if self.session.stepping:
            # the next step is to count from what this one has made
            self.rebuild()
        else:
            self._timer.start(25)

    def _on_selected(self) -> None:
        self.shows_checks = False
        self.fault.hide()
        self.rebuild()

    def show_checks(self) -> None:
        """Show the settings of the checks."""
        self.shows_checks = True
        self.rebuild()

    def fields(self) -> list[str]:
        """The labels of the fields of the card, those in folded sections too."""
        return self.whole_sheet().labels()

    def take_keys(self, label: str) -> None:
        """Put the keys into a field by its label, and show it."""
        self.reveal(label)
        field = self.form.field(label)
        if field is not None:
            self.area.ensureWidgetVisible(field)
            field.setFocus(Qt.FocusReason.ShortcutFocusReason)
            if isinstance(field, QLineEdit):
                field.selectAll()

    def reveal(self, label: str) -> None:
        """Unfold the section that holds a field, or a button by its text."""
        section = self.whole_sheet().section_of(label)
        if section:
            self.open_section(section)
        else:
            self.rebuild()

    def show_result(self, result: CheckResult | None) -> None:
        """Take a check's result."""
        self.result = result
        item = self.session.item
        if self.shows_checks or isinstance(item, Requirement) or (isinstance(item, Part) and item.swept is not None):
            self.rebuild()

    # filling

    def rebuild(self) -> None:
        """Show what is selected as it is now; fields stay where they are, with the keys in them."""
        subject = (self.kind, self.session.selected_ids)
        if subject != self._subject:
            # what is typed still belongs to what was selected
            self.form.commit()
        sheet = self._sheet(self._is_folded)
        self.title.setText(sheet.title)
        self.form.show_sheet(sheet)
        if subject != self._subject:
            self.area.verticalScrollBar().setValue(0)
        self._subject = subject

    def whole_sheet(self) -> Sheet:
        """The card's rows with all sections open."""
        return self._sheet(lambda _title, _first: False)

    def _sheet(self, folded: Any) -> Sheet:
        """The card's rows for what is selected, with their title."""
        self.sheet = sheet = Sheet(folded)
        item, ids = self.session.item, self.session.selected_ids
        if self.measuring is not None:
            MeasureRows(self).build(self.measuring)
        elif self.shows_checks:
            ChecksRows(self).build()
        elif item is None:
            ProjectRows(self).build()
        elif len(ids) > 1:
            self._several(ids, folded)
            return self.sheet
        else:
            _ROWS[type(item)](self).build(item)
        return sheet

    def _sheet_of(self, item_id: str) -> Sheet:
        """The rows of one thing, all sections open."""
        self.sheet = sheet = Sheet(lambda _title, _first: False)
        item = find(self.session.shown, item_id)
        if item is not None:
            _ROWS[type(item)](self).build(item)
        return sheet

    def _several(self, ids: Sequence[str], folded: Any) -> None:
        """What several things have in common, to be changed for all at once."""
        items = [item for i in ids if (item := find(self.session.shown, i)) is not None]
        common = merged([self._sheet_of(item.id) for item in items], self.session.together)
        self.sheet = sheet = Sheet(folded)
        kinds = {type(item) for item in items}
        if kinds == {Part}:
            PartRows(self).build_several(list(ids))
        else:
            noun = f"{KIND_WORDS[kinds.pop()]}s" if len(kinds) == 1 else "things"
            sheet.title = f"{len(items)} {noun}"
            names = [item.name for item in items]
            sheet.note(", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else ""))
        sheet.append_sections(common)
        sheet.foot()
        sheet.buttons(("Delete all", lambda: self._delete(items), "Delete everything that is selected"))

    def _delete(self, items: Sequence[Item]) -> None:
        if self.session.edit("Delete", lambda p: edits.remove_all(p, [item.id for item in items])):
            self.session.select(None)
