"""The tools over the stage: taking them up, their buttons, and the hint at the foot of the stage."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QObject, Qt, QTimer, Signal
from PySide6.QtWidgets import QLabel, QToolButton

from kestrav.app.session import Session
from kestrav.app.stage.drawing_tool import DrawTool, EdgeTool
from kestrav.app.stage.overlays import make_native
from kestrav.app.stage.select_tool import SelectTool
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.tool import Tool
from kestrav.core.document.records import Part
from kestrav.core.editing.joining import End


class Toolbox(QObject):
    """Has one tool of the stage in hand."""

    taken = Signal()  # another tool is in hand
    announced = Signal(str)  # a hint that is shown for a while

    def __init__(self, session: Session, stage: Stage, tool_for: Callable[[str], Tool | None]) -> None:
        """``tool_for`` gives the tools that others make, by their keys."""
        super().__init__(stage)
        self.session, self.stage, self._tool_for = session, stage, tool_for
        self.select_tool = SelectTool(stage)
        self.draw_tool = DrawTool(stage, lambda: self.use("select"))
        self.edge_tool = EdgeTool(stage, lambda: self.use("select"))
        self._make_buttons()

    def _make_buttons(self) -> None:
        self.buttons: dict[str, QToolButton] = {}
        x = 10
        for key, text, tip in (
            ("select", "Select", "Select things, drag points (S)"),
            ("move", "Move", "Move the selection by handles or typed lengths (M)"),
            ("turn", "Turn", "Turn the selection by handles or typed angles (T)"),
            ("draw", "Draw path", "Draw a path; a selected part will move along it (D)"),
            ("measure", "Measure", "Measure between corners, edges, axes and faces (E)"),
        ):
            button = QToolButton(self.stage)
            button.setObjectName("tool")
            button.setText(text)
            button.setCheckable(True)
            button.setToolTip(tip)
            make_native(button)
            button.adjustSize()
            button.move(x, 10)
            x += button.width() + 6
            button.clicked.connect(lambda _=False, k=key: self.use(k))
            self.buttons[key] = button
        self.hint = QLabel(self.stage)
        self.hint.setObjectName("hint")
        make_native(self.hint)
        self.hint.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hint.hide()

    def show_buttons(self, shown: bool) -> None:
        """Show or hide the tools over the stage."""
        for button in self.buttons.values():
            button.setVisible(shown)

    def use(self, key: str) -> None:
        """Take up a tool."""
        tool = self._tool_for(key) or {"draw": self.draw_tool, "edges": self.edge_tool}.get(key, self.select_tool)
        if tool is self.stage.tool and (key != "draw" or self.draw_tool.points):
            # pressed again, it goes on with what is under way
            self._show_tool()
            return
        if key == "draw":
            # with a part in hand the path should leave from where it stands
            settings, part = self.draw_tool.settings, isinstance(self.session.item, Part)
            if part or settings.on == "upright":
                self.draw_tool.set(on="upright" if part else "floor")
        self.take_up(tool)
        self._show_tool()

    def draw_on(self, path_id: str, end: End) -> None:
        """Draw a path on from one of its ends."""
        self.take_up(self.select_tool)
        self.draw_tool.begin_on(path_id, end)
        draws, on = self.draw_tool.settings.draws, self.draw_tool.settings.on
        self.draw_tool.set(draws=draws if draws in ("smooth", "corners", "hand") else "smooth")
        if on in ("upright", "surface"):
            self.draw_tool.set(on="floor")
        self.take_up(self.draw_tool)

    def take_up(self, tool: Tool) -> None:
        """Lay down the tool in hand and take up another."""
        if self.stage.tool is not None:
            self.stage.tool.end()
        self.stage.tool = tool
        tool.begin()
        self._show_tool()

    def _show_tool(self) -> None:
        tool = self.stage.tool
        chosen = {k for k in ("move", "turn", "measure") if self._tool_for(k) is tool}
        if tool in (self.select_tool, self.draw_tool):
            chosen = {"select" if tool is self.select_tool else "draw"}
        for name, button in self.buttons.items():
            button.setChecked(name in chosen)
        self.taken.emit()
        assert tool is not None
        self.say(tool.hint)
        self.stage.view.setFocus()

    def say(self, text: str) -> None:
        """Show a hint at the foot of the stage."""
        # the select tool's hint is in its tooltip; over a calm stage only drawing and dragging speak
        visible = bool(text) and text != SelectTool.hint
        self.hint.setText(text)
        # beside the lens, not under it
        room = (
            self.stage.arrangement.inset().left() - 24
            if self.stage.arrangement.lens_head.isVisible()
            else self.stage.width() - 20
        )
        self.hint.setWordWrap(False)
        if self.hint.sizeHint().width() > room:
            self.hint.setWordWrap(True)
            self.hint.setFixedWidth(max(room, 200))
        else:
            self.hint.setMinimumWidth(0)
            self.hint.setMaximumWidth(16_777_215)
        self.hint.adjustSize()
        self.place_hint()
        self.hint.setVisible(visible)
        self.hint.raise_()

    def place_hint(self) -> None:
        self.hint.move(10, self.stage.height() - self.hint.height() - 10)

    def say_for(self, text: str, milliseconds: int = 5000) -> None:
        """Show a hint for a while; it stays among the messages."""
        self.announced.emit(text)
        self.say(text)
        # with a receiver, so that a window closed meanwhile is not called
        QTimer.singleShot(milliseconds, self, lambda: self.say("") if self.hint.text() == text else None)
