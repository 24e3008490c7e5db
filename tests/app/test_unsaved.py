"""Nothing unsaved is lost to a crash, and nothing saved by somebody else is overwritten unasked."""

import os

import msgspec
import pytest
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton

from kestrav.app.shell.autosave import RecoveryDialog
from kestrav.app.shell.versions_dialog import VersionsDialog
from kestrav.core.document import edits
from kestrav.core.files import project_file
from kestrav.core.files.recovery import Keeper, leftovers


def rename(hand, name):
    assert hand.session.edit("Rename", lambda p: msgspec.structs.replace(p, name=name))


def kept(home):
    return [folder for folder in home.iterdir() if (folder / "about.json").exists()] if home.exists() else []


def press(text):
    """Press a button of the question that is about to be asked."""

    def now():
        box = QApplication.activeModalWidget()
        assert isinstance(box, QMessageBox)
        next(b for b in box.findChildren(QPushButton) if b.text() == text).click()

    QTimer.singleShot(200, now)


def test_edits_are_kept_within_seconds_and_forgotten_when_they_are_saved(hand, tmp_path, qtbot):
    home = tmp_path / "unsaved"
    hand.window.documents.keep_unsaved(home)
    rename(hand, "Kept")
    qtbot.waitUntil(lambda: len(kept(home)) == 1, timeout=5000)
    assert not leftovers(home)  # this window is there still
    assert hand.window.documents.save()
    qtbot.waitUntil(lambda: not kept(home), timeout=5000)


def test_after_a_crash_the_work_is_offered_opened_and_kept_until_it_is_saved(hand, make_hand, passing, tmp_path, qtbot):
    home = tmp_path / "unsaved"
    lost = Keeper(home)
    lost.keep(msgspec.structs.replace(passing.project, name="Lost"), passing.meshes, hand.session.file)
    os.close(lost._lock)  # its process ended
    hand.window.documents.keep_unsaved(home)
    offered = []

    def answer():
        dialog = QApplication.activeModalWidget()
        assert isinstance(dialog, RecoveryDialog)
        offered.append(dialog.list.item(0).text())
        dialog.open_button.click()

    QTimer.singleShot(200, answer)
    assert hand.window.documents.offer_unsaved(home)
    assert offered[0].startswith("Lost (") and "3 parts, 1 path, 1 run, 0 shots" in offered[0]
    assert hand.session.project.name == "Lost" and not hand.session.undo.isClean()
    assert kept(home) and not leftovers(home)
    assert hand.window.documents.save()
    qtbot.waitUntil(lambda: not kept(home), timeout=5000)
    assert project_file.load(hand.session.file).project.name == "Lost"


def test_left_work_can_be_discarded_or_kept_for_later(hand, passing, tmp_path):
    home = tmp_path / "unsaved"
    lost = Keeper(home)
    lost.keep(passing.project, passing.meshes, None)
    os.close(lost._lock)
    QTimer.singleShot(200, lambda: QApplication.activeModalWidget().reject())
    assert not hand.window.documents.offer_unsaved(home) and leftovers(home)
    QTimer.singleShot(200, lambda: QApplication.activeModalWidget().discard_button.click())
    assert not hand.window.documents.offer_unsaved(home) and not leftovers(home)


@pytest.fixture
def theirs(hand):
    """The window has edits, and another program has saved other ones to its file."""
    assert hand.window.documents.save()
    other = edits.settings(hand.session.project, fps=50.0)
    project_file.save(msgspec.structs.replace(other, name="Theirs"), hand.session.meshes, hand.session.file)
    rename(hand, "Ours")
    return hand


def test_what_somebody_else_saved_is_not_overwritten_unasked(theirs):
    press("Cancel")
    assert not theirs.window.documents.save()
    assert project_file.load(theirs.session.file).project.name == "Theirs"
    press("Replace")
    assert theirs.window.documents.save()
    assert project_file.load(theirs.session.file).project.name == "Ours"
    rename(theirs, "Again")
    assert theirs.window.documents.save()  # and is not asked about any more


def test_what_somebody_else_saved_can_be_loaded(theirs):
    press("Load theirs")
    assert theirs.window.documents.save()
    assert theirs.session.project.name == "Theirs" and theirs.session.undo.isClean()


def test_saving_a_file_whose_owner_cannot_be_kept_is_asked_first(hand, monkeypatch):
    monkeypatch.setattr(
        "kestrav.app.shell.documents.owner_lost", lambda file: f"“{file.name}” belongs to ada and would belong to eve"
    )
    before = hand.session.file.read_bytes()
    rename(hand, "Another")
    press("Cancel")
    assert not hand.window.documents.save() and hand.session.file.read_bytes() == before
    press("Save")
    assert hand.window.documents.save() and project_file.load(hand.session.file).project.name == "Another"


def test_closing_without_saving_discards_what_was_kept(make_hand, passing, tmp_path, qtbot):
    hand, home = make_hand(passing), tmp_path / "unsaved"
    hand.window.documents.keep_unsaved(home)
    rename(hand, "Not wanted")
    qtbot.waitUntil(lambda: len(kept(home)) == 1, timeout=5000)
    hand.session.undo.setClean()
    hand.window.close()
    assert not kept(home)


def test_a_project_open_in_two_windows_is_told_in_both_and_so_is_what_the_other_saved(
    hand, make_hand, passing, tmp_path, qtbot
):
    hand.window.documents.keep_unsaved(tmp_path / "unsaved")
    other = make_hand(passing)
    other.window.documents.keep_unsaved(tmp_path / "unsaved")
    assert other.window.documents.open(hand.session.file)
    for each in (hand, other):
        each.window.documents.watch.look()
        assert (
            each.window.header.notice.isVisible() and "open in another window too" in each.window.header.notice.text()
        )
    rename(other, "Theirs")
    assert other.window.documents.save()
    hand.window.documents.watch.look()
    other.window.documents.watch.look()
    assert "saved by another program" in hand.window.header.notice.text()
    assert "saved" not in other.window.header.notice.text()
    other.window.close()
    qtbot.waitUntil(lambda: "another window" not in hand.window.header.notice.text(), timeout=5000)


def test_an_earlier_version_is_looked_at_and_taken_back(hand, tmp_path):
    hand.window.documents.keep_unsaved(tmp_path / "unsaved")
    file, first = hand.session.file, hand.session.project.runs[0].duration
    assert hand.session.edit("Slower", lambda p: edits.update(p, p.runs[0].id, duration=first + 3.0))
    assert hand.window.documents.save()

    def answer(button):
        def now():
            dialog = QApplication.activeModalWidget()
            assert isinstance(dialog, VersionsDialog) and dialog.list.count() == 1
            assert "run" in dialog.note.text()
            getattr(dialog, button).click()

        QTimer.singleShot(200, now)
        hand.window.documents.earlier_versions()

    answer("copy_button")
    assert hand.session.file is None and hand.session.project.runs[0].duration == first
    hand.session.undo.setClean()
    assert hand.window.documents.open(file) and hand.session.project.runs[0].duration == first + 3.0
    answer("back_button")
    assert hand.session.file == file and not hand.session.undo.isClean()
    assert project_file.load(file).project.runs[0].duration == first + 3.0
    assert hand.window.documents.save() and project_file.load(file).project.runs[0].duration == first
