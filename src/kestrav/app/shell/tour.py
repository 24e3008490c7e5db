"""The tour: six short chapters on the demo. A step tells what to do and where, and waits until the person has done it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import msgspec
from PySide6.QtCore import QObject, QPoint, QRect, QSettings, QTimer, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QVBoxLayout, QWidget

from kestrav.app.cards.card import Card
from kestrav.app.contents.contents_tree import ContentsTree
from kestrav.app.player import Player
from kestrav.app.session import Session
from kestrav.app.shell.checking import Checking
from kestrav.app.shell.findings_panel import FindingsPanel
from kestrav.app.stage.overlays import make_native
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.toolbox import Toolbox
from kestrav.core.document.records import Camera, Project, Wheel

if TYPE_CHECKING:
    from kestrav.app.timeline.timeline import Timeline

_KEPT = "tour/step"
_LOOKS_MS = 150  # between looks at whether a step is done
_LINE = 3  # pixels of the outline
_WIDTH, _MARGIN = 330, 12


class Places(msgspec.Struct, frozen=True):
    """What the tour points at and looks into."""

    session: Session
    player: Player
    checking: Checking
    tools: Toolbox
    stage: Stage
    card: Card
    contents: ContentsTree
    findings: FindingsPanel
    timeline: Callable[[], Timeline]
    preview_bar: QWidget
    render_button: QWidget
    is_rendering: Callable[[], bool]  # whether the dialog for rendering is open


class Before(msgspec.Struct, frozen=True):
    """How things stood when a step began."""

    project: Project
    frame: int
    edits: int


class Step(msgspec.Struct, frozen=True):
    """What is to be done, the widget that it is done in, and whether it has been done."""

    text: str
    where: Callable[[], QWidget | None]
    done: Callable[[Before], bool]


class Chapter(msgspec.Struct, frozen=True):
    """Some steps under a title."""

    title: str
    steps: tuple[Step, ...]


def chapters_of(at: Places) -> tuple[Chapter, ...]:
    """The chapters."""
    session, checking, tools = at.session, at.checking, at.tools

    def stage() -> QWidget:
        return at.stage

    def field(label: str) -> Callable[[], QWidget | None]:
        return lambda: at.card.form.field(label) or at.card

    def grew(kind: str) -> Callable[[Before], bool]:
        return lambda before: len(getattr(session.project, kind)) > len(getattr(before.project, kind))

    def retimed(before: Before) -> bool:
        old = {run.id: (run.duration, run.speed) for run in before.project.runs}
        return any((run.duration, run.speed) != old.get(run.id) for run in session.project.runs)

    def moved(before: Before) -> bool:
        old = {run.id: run.start for run in before.project.runs}
        return any(run.start != old.get(run.id) for run in session.project.runs)

    def no_breach(_: Before) -> bool:
        return checking.current and not any(f.severity == "breach" for f in at.findings.findings)

    def lens_changed(before: Before) -> bool:
        old = {camera.id: camera.focal_length for camera in before.project.cameras}
        return any(camera.focal_length != old.get(camera.id) for camera in session.project.cameras)

    return (
        Chapter(
            "Play and read a finding",
            (
                Step(
                    "Press <b>Space</b>, or click the play button. The fan cassette leaves its cabinet past the riser, "
                    "and the hoist carries it to the trolley.",
                    lambda: at.timeline().transport.play,
                    lambda _: at.player.playing,
                ),
                Step(
                    "Press <b>Space</b> again to stop at any moment.",
                    lambda: at.timeline().transport.play,
                    lambda _: not at.player.playing,
                ),
                Step(
                    "The findings say what is wrong, with numbers. Click <b>Go there</b> at the breach, or press <b>N</b>.",
                    lambda: at.findings,
                    lambda _: checking.finding is not None,
                ),
                Step(
                    "The playhead is at the worst moment, and the stage draws the gap as a dimension. In the lane "
                    "<b>Clearance</b> the required clearance is dashed and the breach shaded. Step a frame on with "
                    "<b>→</b>.",
                    stage,
                    lambda before: session.frame != before.frame,
                ),
            ),
        ),
        Chapter(
            "Fix it",
            (
                Step(
                    "The finding offers a fix once it is worked out, after some seconds. Click <b>Bend path away</b>.",
                    lambda: at.findings,
                    lambda _: session.fix is not None,
                ),
                Step(
                    "The stage and the chart show the result; the project is still as it was. Click <b>Accept</b>.",
                    lambda: at.preview_bar,
                    lambda before: session.fix is None and session.undo.index() > before.edits,
                ),
                Step(
                    "The check runs again by itself. Wait until it has no breach left. <b>Ctrl+Z</b> would undo the fix.",
                    lambda: at.findings,
                    no_breach,
                ),
            ),
        ),
        Chapter(
            "Draw a path",
            (
                Step(
                    "Press <b>Esc</b> so that nothing is selected, then <b>D</b> or <b>Draw path</b>.",
                    lambda: tools.buttons["draw"],
                    lambda _: at.stage.tool is tools.draw_tool,
                ),
                Step(
                    "Click three or more points on the floor. The strip above takes typed lengths and coordinates too.",
                    stage,
                    lambda _: len(tools.draw_tool.points) >= 3,
                ),
                Step("Press <b>Enter</b> to finish the path.", stage, grew("paths")),
            ),
        ),
        Chapter(
            "Time it",
            (
                Step(
                    "Select the path that you drew, or another, under <b>Paths</b>.",
                    lambda: at.contents,
                    lambda _: session.path is not None,
                ),
                Step(
                    "In the card choose a <b>Rider</b>: any part, camera or light. A run of it along the path is made.",
                    field("Rider"),
                    grew("runs"),
                ),
                Step(
                    "Type another duration into the card, such as <b>2.5 s</b> or <b>1.2*2 s</b>, or drag the field's "
                    "label. The speed follows, in the worked line below.",
                    field("Duration"),
                    retimed,
                ),
                Step(
                    "Drag the run's bar in the timeline to start it at another time, or type its <b>Start</b>.",
                    at.timeline,
                    moved,
                ),
            ),
        ),
        Chapter(
            "Roll a wheel",
            (
                Step(
                    "Wheels are under <b>Runs</b>, below what carries them. Unfold <b>Service trolley</b> and select a wheel.",
                    lambda: at.contents,
                    lambda _: isinstance(session.item, Wheel),
                ),
                Step(
                    "The worked line divides the distance by the circumference: these are its turns. Type another "
                    "<b>Radius</b>, and the turns follow.",
                    field("Radius"),
                    lambda before: session.project.wheels != before.project.wheels,
                ),
                Step(
                    "The findings would tell that the wheel slips now or leaves the floor. Undo with <b>Ctrl+Z</b>.",
                    lambda: at.card,
                    lambda before: session.undo.index() < before.edits,
                ),
            ),
        ),
        Chapter(
            "Frame and render",
            (
                Step(
                    "Select <b>Orbit camera</b> under <b>Cameras</b>. The lens, the small picture in the stage, shows what it sees.",
                    lambda: at.contents,
                    lambda _: isinstance(session.item, Camera),
                ),
                Step(
                    "Type another value into <b>Focal length</b>, such as <b>28 mm</b>. The lens follows at once.",
                    field("Focal length"),
                    lens_changed,
                ),
                Step(
                    "Click <b>Render shots</b>, or press <b>Ctrl+R</b>.",
                    lambda: at.render_button,
                    lambda _: at.is_rendering(),
                ),
                Step(
                    "Choose shot, format and size; how long it will take is tried out on a frame. Render it, or close the dialog.",
                    lambda: at.render_button,
                    lambda _: not at.is_rendering(),
                ),
            ),
        ),
    )


class _Outline:
    """Four bars around a widget, over everything."""

    def __init__(self, window: QWidget) -> None:
        self.window = window
        self.bars = [QWidget(window) for _ in range(4)]
        for bar in self.bars:
            bar.setObjectName("touroutline")
            make_native(bar)
            bar.hide()

    def show_around(self, widget: QWidget | None) -> None:
        """Lie around a widget; around none, hide."""
        if widget is None or not widget.isVisible():
            self.hide()
            return
        corner = widget.mapTo(self.window, QPoint(0, 0)) if self.window.isAncestorOf(widget) else None
        if corner is None:
            self.hide()
            return
        around = QRect(corner, widget.size()).adjusted(-_LINE, -_LINE, _LINE, _LINE).intersected(self.window.rect())
        left, top, wide, high = around.left(), around.top(), around.width(), around.height()
        places = (
            QRect(left, top, wide, _LINE),
            QRect(left, top + high - _LINE, wide, _LINE),
            QRect(left, top, _LINE, high),
            QRect(left + wide - _LINE, top, _LINE, high),
        )
        for bar, place in zip(self.bars, places, strict=True):
            if bar.geometry() != place:
                bar.setGeometry(place)
            if bar.isHidden():
                bar.show()
                bar.raise_()

    def hide(self) -> None:
        """Show nothing."""
        for bar in self.bars:
            bar.hide()


class _Panel(QWidget):
    """The step's text, where one is in the tour, and how to leave it."""

    left = Signal()
    skipped = Signal(int)  # steps

    def __init__(self, window: QWidget) -> None:
        super().__init__(window)
        self.setObjectName("tour")
        make_native(self)
        column = QVBoxLayout(self)
        column.setContentsMargins(14, 10, 14, 10)
        column.setSpacing(6)
        self.chapter, self.title, self.text = QLabel(), QLabel(), QLabel()
        self.chapter.setObjectName("muted")
        self.title.setObjectName("title")
        self.text.setWordWrap(True)
        row = QHBoxLayout()
        leave = self._button("Leave", "Leave the tour; it goes on here the next time (File → Tour)")
        back, skip = self._button("Back", "Go back a step"), self._button("Skip", "Go on without doing this step")
        leave.clicked.connect(lambda _=False: self.left.emit())
        back.clicked.connect(lambda _=False: self.skipped.emit(-1))
        skip.clicked.connect(lambda _=False: self.skipped.emit(1))
        row.addWidget(leave)
        row.addStretch(1)
        row.addWidget(back)
        row.addWidget(skip)
        for widget in (self.chapter, self.title, self.text):
            column.addWidget(widget)
        column.addLayout(row)
        self.setFixedWidth(_WIDTH)
        self.hide()

    def _button(self, text: str, tip: str) -> QPushButton:
        button = QPushButton(text)
        button.setToolTip(tip)
        # the keys stay where the step needs them
        button.setFocusPolicy(self.focusPolicy())
        return button


class Tour(QObject):
    """Leads through the chapters; where one left it is where it goes on."""

    finished = Signal()

    def __init__(
        self, window: QWidget, places: Places, open_demo: Callable[[], object], is_demo: Callable[[], bool]
    ) -> None:
        super().__init__(window)
        self.window_, self.places = window, places
        self._open_demo, self._is_demo = open_demo, is_demo
        self.chapters = chapters_of(places)
        self.steps = [(chapter, number) for chapter in self.chapters for number in range(len(chapter.steps))]
        self.number = 0
        self.running = False
        self._before: Before | None = None
        self.panel, self.outline = _Panel(window), _Outline(window)
        self.panel.left.connect(self.leave)
        self.panel.skipped.connect(lambda by: self._go_to(self.number + by))
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOKS_MS)
        self._timer.timeout.connect(self.look)

    def begin(self) -> None:
        """Begin, or go on where it was left: in a project opened anew at the beginning of that chapter."""
        kept: Any = QSettings().value(_KEPT, 0)
        number = int(kept) if 0 <= int(kept) < len(self.steps) else 0
        if not self._is_demo():
            self._open_demo()
            if not self._is_demo():
                return  # the person stays with what is open
            number -= self.steps[number][1]
        self.running = True
        self._go_to(number)
        self._timer.start()

    @property
    def step(self) -> Step:
        """The step one is at."""
        chapter, number = self.steps[self.number]
        return chapter.steps[number]

    def _go_to(self, number: int) -> None:
        if number >= len(self.steps):
            self._finish()
            return
        self.number = max(number, 0)
        QSettings().setValue(_KEPT, self.number)
        session = self.places.session
        self._before = Before(session.project, session.frame, session.undo.index())
        chapter, within = self.steps[self.number]
        panel = self.panel
        panel.chapter.setText(f"Tour · chapter {self.chapters.index(chapter) + 1} of {len(self.chapters)}")
        panel.title.setText(f"{chapter.title} ({within + 1}/{len(chapter.steps)})")
        panel.text.setText(self.step.text)
        panel.show()
        self._place()

    def look(self) -> None:
        """Go on when the step has been done, and keep the outline where the widget is."""
        if not self.running or self._before is None:
            return
        if self.step.done(self._before):
            self._go_to(self.number + 1)
        self._place()

    def _place(self) -> None:
        if not self.running:
            return
        panel, stage = self.panel, self.places.stage
        panel.setFixedHeight(max(panel.heightForWidth(_WIDTH), panel.sizeHint().height()))
        corner = stage.mapTo(self.window_, QPoint(_MARGIN, stage.height() - panel.height() - _MARGIN))
        if panel.pos() != corner:
            panel.move(corner)
        self.outline.show_around(self.step.where())
        panel.raise_()

    def leave(self) -> None:
        """Leave the tour; the step is kept."""
        self.running = False
        self._timer.stop()
        self.outline.hide()
        self.panel.hide()

    def _finish(self) -> None:
        self.leave()
        QSettings().remove(_KEPT)
        self.finished.emit()
