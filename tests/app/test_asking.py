"""Dialogs that ask for a request: bounds, typing, what is remembered."""

from typing import Annotated, Literal

import msgspec
import pytest
from PySide6.QtCore import QPoint, QRect, QTimer
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QLabel

from kestrav.app.dialogs.asking import PlanDialog, RequestDialog, ask_request
from kestrav.core.document.fields import option, quantity, switch
from kestrav.core.errors import BadInput


class Trip(msgspec.Struct, frozen=True):
    """Something to ask for."""

    length: Annotated[float, quantity("Length", "mm", "Length of the trip", 1, above=0, high=5000)] = 1000.0
    share: Annotated[float, quantity("Share", "%", "Share of it", 0, factor=100, low=0, high=1)] = 0.5
    stops: Annotated[int, quantity("Stops", "", "Stops on the way", 0, zero="none", low=0)] = 0
    margin: Annotated[float | None, quantity("Margin", "mm", "Margin around", 1, zero="by its size", low=0)] = None
    mode: Annotated[Literal["there", "back"], option("Mode", "Which way", back="and back")] = "there"
    loud: Annotated[bool, switch("Sound", "on", "Whether it is heard")] = False


class Asking(RequestDialog):
    """Says how long it takes, and refuses more than three stops."""

    def summary(self):
        if self.request.stops > 3:
            raise BadInput("more than three stops are not possible")
        return [f"takes {self.request.length / 100:g} s"]


@pytest.fixture
def dialog(dressed, qtbot):
    made = Asking(None, "Trip", Trip(), text="How far?")
    qtbot.addWidget(made)
    made.show()
    return made


def typed(dialog, label, text):
    field = dialog.form.field(label)
    field.setFocus()
    field.selectAll()
    QTest.keyClicks(field, text)


def ok(dialog):
    return dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.StandardButton.Ok)


def test_a_request_is_typed_with_units_and_what_follows_is_told(dialog, qtbot):
    assert dialog.form.labels() == ["Length", "Share", "Stops", "Margin", "Mode", "Sound"]
    typed(dialog, "Length", "2 m")
    typed(dialog, "Share", "25")
    dialog.form.commit_all()
    qtbot.waitUntil(lambda: dialog.request.length == 2000.0)
    assert dialog.request.share == 0.25
    qtbot.waitUntil(lambda: any("20 s" in row.text for row in _worked(dialog)))
    # 0 is none where a field says what none means
    typed(dialog, "Margin", "30")
    dialog.form.commit_all()
    assert dialog.request.margin == 30.0
    typed(dialog, "Margin", "0")
    dialog.form.commit_all()
    assert dialog.request.margin is None


def _worked(dialog):
    from PySide6.QtWidgets import QLabel

    return [type("Shown", (), {"text": label.text()}) for label in dialog.findChildren(QLabel)]


def test_what_is_out_of_bounds_or_cannot_be_is_refused_with_a_reason(dialog, qtbot):
    dialog.set(length=0.0)
    qtbot.waitUntil(lambda: "must be above 0 mm" in dialog.fault.text())
    assert not ok(dialog).isEnabled()
    dialog.set(length=10.0, stops=4)
    qtbot.waitUntil(lambda: "three stops" in dialog.fault.text())
    dialog.set(stops=3)
    qtbot.waitUntil(lambda: ok(dialog).isEnabled())
    assert not dialog.fault.text()


def test_enter_takes_what_is_still_being_typed_and_nothing_that_cannot_be_read(dialog):
    typed(dialog, "Stops", "lots")
    ok(dialog).click()
    assert dialog.isVisible() and dialog.fault.text()
    typed(dialog, "Stops", "2")
    ok(dialog).click()
    assert not dialog.isVisible() and dialog.request.stops == 2


def test_named_fields_begin_as_they_were_accepted_the_last_time(dressed):
    seen = []

    def answer(length, accept):
        def act():
            dialog = QApplication.activeModalWidget()
            seen.append((dialog.request.length, dialog.request.mode, dialog.request.loud, dialog.request.stops))
            dialog.set(length=length, mode="back", loud=True, stops=1)
            dialog.accept() if accept else dialog.reject()

        QTimer.singleShot(100, act)
        return ask_request(None, "Remembered trip", Trip(), remember="length mode loud")

    assert answer(200.0, accept=True) == Trip(200.0, stops=1, mode="back", loud=True)
    assert answer(300.0, accept=False) is None
    answer(400.0, accept=True)
    assert seen == [(1000.0, "there", False, 0), (200.0, "back", True, 0), (200.0, "back", True, 0)]


def test_what_is_typed_last_leaves_no_preview_behind(dressed, qtbot):
    shown = []
    dialog = PlanDialog(None, "Trip", Trip(), shown.append, lambda p, _: p, lambda request: [f"{request.length:g}"])
    qtbot.addWidget(dialog)
    dialog.show()
    typed(dialog, "Length", "700")
    ok(dialog).click()
    assert dialog.request.length == 700.0 and shown[-1] is not None
    # as whoever asked does, who makes it then
    shown.append(None)
    qtbot.wait(50)
    assert shown[-1] is None


class Growing(Asking):
    """Asks for more once it is loud."""

    def rows(self, form):
        form.fields(self.request, "length", change=self.set)
        if self.request.loud:
            form.fields(self.request, "share", "stops", change=self.set)
        form.fields(self.request, "margin", "mode", "loud", change=self.set)


def test_it_grows_with_what_it_asks_for(dressed, qtbot):
    made = Growing(None, "Trip", Trip())
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    qtbot.wait(20)
    low = made.height()
    made.request = Trip(loud=True)
    made._fill()
    # how high it has to be is known at once, before Qt comes round to laying it out
    needed = made.column.totalHeightForWidth(made.width())
    qtbot.wait(50)
    assert made.height() >= needed == made.column.totalHeightForWidth(made.width()) > low
    labels = [w for w in made.form.findChildren(QLabel) if w.isVisible() and w.text()]
    rects = [QRect(w.mapTo(made, QPoint(0, 0)), w.size()) for w in labels]
    assert len(rects) >= 6 and not any(a.intersects(b) for i, a in enumerate(rects) for b in rects[:i])


class Telling(RequestDialog):
    def summary(self):
        return [f"line {k}" for k in range(round(self.request.margin))]


def fits(dialog):
    labels = [w for w in dialog.form.findChildren(QLabel) if w.isVisible()]
    whole = all(label.height() >= label.heightForWidth(label.width()) for label in labels)
    return whole and dialog.height() >= dialog.column.totalHeightForWidth(dialog.width())


@pytest.mark.parametrize("lines", [3, 9])
def test_it_is_as_high_as_what_it_tells(dressed, qtbot, lines):
    made = Telling(None, "Trip", Trip(margin=1.0))
    qtbot.addWidget(made)
    # changed before it is shown, and fits as it is
    made.set(margin=float(lines - 1))
    made._fill()
    made.show()
    assert fits(made)
    qtbot.waitExposed(made)
    made.set(margin=float(lines))
    qtbot.waitUntil(lambda: any(f"line {lines - 1}" in w.text() for w in made.form.findChildren(QLabel)))
    qtbot.waitUntil(lambda: fits(made), timeout=5_000)
