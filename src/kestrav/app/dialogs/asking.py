"""Dialogs that ask for the fields of a request, as they are described beside them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import msgspec
from PySide6.QtCore import QEvent, QPoint, QSettings, QTimer
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QVBoxLayout, QWidget

from kestrav.app.dialogs.questions import answered
from kestrav.app.widgets.form import Form
from kestrav.app.widgets.sheet import Sheet
from kestrav.core.document.fields import check_fields, infos
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Fix

Request = TypeVar("Request", bound=msgspec.Struct)
_WIDTH = 380  # px, so that no option of the longer ones is cut
Preview = Callable[[Fix | None], None]


class RequestDialog(QDialog):
    """A form of a request's fields, with worked lines of what follows from them; ``button`` is what accepting it does."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        request: Any,
        *,
        text: str = "",
        button: str = "OK",
        remember: str = "",
    ) -> None:
        """Fields that are named in ``remember``, with spaces between, begin as they were accepted the last time."""
        super().__init__(parent)
        self.setWindowTitle(title)
        self._remembered = tuple(remember.split())
        self.request = _as_before(title, request, self._remembered)
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self._fill)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(16, 14, 16, 14)
        self.column.setSpacing(8)
        heading = QLabel(title)
        heading.setObjectName("title")
        self.column.addWidget(heading)
        self.text = QLabel(text)
        self.text.setWordWrap(True)
        self.text.setVisible(bool(text))
        self.column.addWidget(self.text)
        self.form = Form()
        self.form.refused.connect(self.refuse)
        self.form.column.setContentsMargins(0, 2, 0, 2)
        self.column.addWidget(self.form)
        self.fault = QLabel()
        self.fault.setObjectName("fault")
        self.fault.setWordWrap(True)
        self.fault.hide()
        self.buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.button = self.buttons.button(QDialogButtonBox.StandardButton.Ok)
        self.button.setText(button)
        self.button.setObjectName("main")
        self.buttons.accepted.connect(self.accept)
        self.buttons.rejected.connect(self.reject)
        self.column.addWidget(self.fault)
        self.column.addWidget(self.buttons)
        self.setMinimumWidth(_WIDTH)
        self._fill()

    def rows(self, form: Sheet) -> None:
        """Fill the form: with all fields, if nothing else is said."""
        request: msgspec.Struct = self.request
        form.fields(request, *infos(type(request)), change=self.set)

    def summary(self) -> list[str]:
        """Worked lines of what follows. Raises BadInput where the request cannot be met."""
        return []

    def set(self, **fields: Any) -> None:
        """Change some fields of the request."""
        self.request = msgspec.structs.replace(self.request, **fields)
        self._soon.start()

    def done(self, result: int) -> None:
        """Closed: nothing is shown of it any more."""
        self._soon.stop()
        super().done(result)

    def accept(self) -> None:
        """Take what is still being typed along; a request that cannot be met is not accepted."""
        self.refuse("")
        self.form.commit_all()
        if self.fault.text():
            return
        self._fill()
        if not self.button.isEnabled():
            return
        for name in self._remembered:
            QSettings().setValue(_key(self.windowTitle(), name), getattr(self.request, name))
        super().accept()

    def refuse(self, why: str) -> None:
        """Say why what was typed is not taken."""
        self.fault.setText(why[:1].upper() + why[1:])
        self.fault.setVisible(bool(why))

    def _fill(self) -> None:
        form = Sheet()
        self.rows(form)
        why = ""
        try:
            check_fields(self.request, f"the {self.windowTitle().lower()}")
            lines = self.summary()
        except BadInput as fault:
            lines, why = [], str(fault)
        if lines:
            form.worked(*lines)
        self.form.show_sheet(form)
        self.button.setEnabled(not why)
        self.refuse(why)
        self.look(is_possible=not why)

    def look(self, *, is_possible: bool) -> None:
        """Show what would be made, where something shows it."""

    def event(self, event: QEvent) -> bool:
        """As it is shown, and whenever something within is laid out anew, be as high as all of it needs."""
        taken = super().event(event)
        if event.type() in (QEvent.Type.LayoutRequest, QEvent.Type.Show):
            self._fit()
        return taken

    def _fit(self) -> None:
        """Be as high as all of it needs: lines that wrap need more than a layout takes for granted."""
        needed = self.column.totalHeightForWidth(self.width())
        if needed > self.height():
            self.resize(self.width(), needed)


class PreviewedDialog(RequestDialog):
    """Asks for a request of which the stage shows what would be made."""

    def __init__(
        self, parent: QWidget | None, title: str, request: Any, preview: Preview, *, text: str = "", remember: str = ""
    ) -> None:
        self._preview = preview
        super().__init__(parent, title, request, text=text, remember=remember)

    def make(self, project: Project) -> Project:
        """Make it. Raises BadInput."""
        raise NotImplementedError

    def look(self, *, is_possible: bool) -> None:
        """Show it in the stage."""
        self._preview(Fix(self.windowTitle(), self.make) if is_possible else None)

    def showEvent(self, event: QShowEvent) -> None:
        """Beside the stage, in which is shown what would be made."""
        super().showEvent(event)
        parent = self.parentWidget()
        if parent is not None:
            self.move(parent.mapToGlobal(parent.rect().topLeft()) + QPoint(6, 76))


class PlanDialog(PreviewedDialog):
    """Asks for a request that functions make and summarize, and for one of several ``parts`` where there is a choice."""

    def __init__(
        self,
        parent: QWidget | None,
        title: str,
        request: Any,
        preview: Preview,
        make: Callable[[Project, Any], Project],
        summarize: Callable[[Any], list[str]],
        *,
        parts: Sequence[tuple[str, str]] = (),
        remember: str = "",
    ) -> None:
        self._make, self._summarize, self._parts = make, summarize, tuple(parts)
        super().__init__(parent, title, request, preview, remember=remember)

    def rows(self, form: Sheet) -> None:
        """The numbers, and the part."""
        request: msgspec.Struct = self.request
        for name in infos(type(request)):
            if name != "part":
                form.fields(request, name, change=self.set)
            elif len(self._parts) > 1:
                form.fields(request, name, change=self.set, options=self._parts)

    def summary(self) -> list[str]:
        """What follows from them."""
        return self._summarize(self.request)

    def make(self, project: Project) -> Project:
        """Make it."""
        return self._make(project, self.request)


def ask_request(
    parent: QWidget | None, title: str, request: Request, *, text: str = "", remember: str = ""
) -> Request | None:
    """The request as it was accepted, or none when it is given up; ``text`` is a sentence on it."""
    dialog = RequestDialog(parent, title, request, text=text, remember=remember)
    return dialog.request if answered(dialog) else None


def _key(title: str, name: str) -> str:
    return f"asked/{title}/{name}"


def _as_before(title: str, request: Request, names: Sequence[str]) -> Request:
    """The request with fields as they were accepted the last time."""
    kept = {name: QSettings().value(_key(title, name)) for name in names}
    fields = msgspec.structs.asdict(request) | {name: value for name, value in kept.items() if value is not None}
    try:
        return msgspec.convert(fields, type(request), strict=False)
    except msgspec.ValidationError:
        return request  # of a version that kept something else
