"""Handing on from the window: the dialog of exports, step sheets, comments that come back, CAD files that change."""

import json

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtWidgets import QFileDialog, QLabel

from kestrav.app.dialogs.export_dialog import ExportDialog
from kestrav.core.document import edits
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.tables import pose_table
from kestrav.render.exports import BY_TITLE, EXPORTS


def finished(hand, seconds=180):
    hand.qtbot.waitUntil(lambda: hand.window.job is None, timeout=1000 * seconds)


def drop(hand, *files):
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(f)) for f in files])
    none = Qt.MouseButton.NoButton
    hand.window.dropEvent(
        QDropEvent(QPointF(500, 300), Qt.DropAction.CopyAction, data, none, Qt.KeyboardModifier.NoModifier)
    )
    finished(hand)


def test_every_export_is_in_one_dialog_with_what_it_contains_and_leaves_out(hand):
    dialog = ExportDialog(hand.window, hand.session.shown, hand.session.meshes)
    assert dialog.kinds.count() == len(EXPORTS)
    for row, one in enumerate(EXPORTS):
        dialog.kinds.setCurrentRow(row)
        assert dialog.chosen is one
        told = " ".join(label.text() for label in dialog.findChildren(QLabel))
        assert one.holds in told and one.loses in told
        assert dialog.rows.isRowVisible(dialog.tolerance) == ("tolerance" in one.options)
    dialog.kinds.setCurrentRow(0)
    hand.qtbot.waitUntil(lambda: dialog.note.text().startswith("About 0."), timeout=60_000)
    # the kind is there again the next time
    dialog.kinds.setCurrentRow(3)
    dialog.accept()
    assert ExportDialog(hand.window, hand.session.shown, hand.session.meshes).chosen.title == EXPORTS[3].title


@pytest.mark.parametrize("title", [one.title for one in EXPORTS])
def test_each_export_is_written(hand, tmp_path, monkeypatch, title):
    hand.checked()
    one = BY_TITLE[title]
    target = tmp_path / "handed"  # without an ending it gets that of the kind
    monkeypatch.setattr(ExportDialog, "exec", lambda self: 1)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(target), f"x (*{one.endings[0]})"))
    hand.window.handing_on.ask(title)
    finished(hand)
    made = target.with_suffix(one.endings[0])
    assert made.exists() and made.stat().st_size > 20
    assert "handed" in hand.window.tools.hint.text()


def test_a_step_sheet_is_made_edited_and_goes_out_of_date(hand):
    hand.session.select(None)
    hand.window.handing_on.make_sheet()
    (sheet,) = hand.session.project.sheets
    assert hand.session.item == sheet and hand.window.contents.model.at(sheet.id).isValid()
    hand.type_in("Step 1 title", "Draw the cube along")
    hand.type_in("Step 1 text", "Mind the post.")
    hand.type_in("Step 1 distance apart", "50 %")
    hand.choose("Paper", "Letter")
    (sheet,) = hand.session.project.sheets
    assert (sheet.steps[0].title, sheet.steps[0].text, sheet.paper) == (
        "Draw the cube along",
        "Mind the post.",
        "Letter",
    )
    assert sheet.steps[0].apart == pytest.approx(0.5)
    hand.press("Use stage view")
    view = hand.session.project.sheets[0].steps[0].view
    assert view is not None and view.position == pytest.approx(tuple(hand.stage.viewpoint.position))
    hand.press("Automatic view")
    assert hand.session.project.sheets[0].steps[0].view is None
    hand.press("Show")
    finished(hand)
    assert 0 < hand.session.time < 2
    assert "Out of date" not in hand.said()
    hand.session.edit("Longer", lambda p: edits.update(p, "run-1", duration=3.0))
    hand.window.card.rebuild()
    assert "Out of date" in hand.said()
    hand.press("Mark as up to date")
    hand.window.card.rebuild()
    assert "Out of date" not in hand.said()
    hand.session.undo.undo()
    hand.press("Delete step sheet")
    assert not hand.session.project.sheets


def comments(tmp_path):
    file = tmp_path / "said.json"
    view = {"position": [300.0, -400.0, 200.0], "target": [0.0, 0.0, 0.0], "up": [0.0, 0.0, 1.0], "angle": 32.0}
    said = [
        {
            "name": "R. Viewer",
            "text": "Too near the post",
            "time": 1.0,
            "view": view,
            "parts": ["part-1", "gone"],
            "made": "2026-11-30T10:00:00Z",
        },
        {"name": "R. Viewer", "text": "Fine here", "time": 0.2},
    ]
    file.write_text(json.dumps({"kind": "kestrav comments", "version": 1, "comments": said}))
    return file


def test_comments_are_dropped_shown_gone_to_and_dealt_with(hand, tmp_path):
    drop(hand, comments(tmp_path))
    first, second = hand.session.project.comments
    assert first.parts == ("part-1",) and second.text == "Fine here"
    hand.session.select(first.id)
    hand.qtbot.waitUntil(lambda: "Too near the post" in hand.said(), timeout=5000)
    hand.press("Go there")
    assert hand.session.time == pytest.approx(1.0)
    way = hand.stage.viewpoint.position - hand.stage.viewpoint.focus
    assert way / np.linalg.norm(way) == pytest.approx(np.array([300, -400, 200]) / np.linalg.norm([300, -400, 200]))
    # a flag in the timeline, which selects it
    times, _ = hand.window.timeline.flags.getData()
    assert sorted(times) == pytest.approx([0.2, 1.0])
    hand.window.timeline.flags.sigClicked.emit(
        None, [p for p in hand.window.timeline.flags.points() if p.data() == second.id], None
    )
    assert hand.session.item.text == "Fine here"
    hand.session.edit("Done", lambda p: edits.update(p, first.id, done=True))
    assert hand.window.contents.model._number(hand.session.project.comments[0]) == "done"
    # the same file again brings nothing
    drop(hand, comments(tmp_path))
    assert len(hand.session.project.comments) == 2
    hand.session.undo.undo()
    hand.session.undo.undo()
    assert not hand.session.project.comments


def test_files_that_hold_neither_comments_nor_poses_are_told(hand, tmp_path, monkeypatch):
    told = []
    monkeypatch.setattr("kestrav.app.actions.prompts.tell", lambda _, title, text: told.append(text))
    (tmp_path / "other.json").write_text("{}")
    (tmp_path / "poses.csv").write_text("time_s,part,x_mm,y_mm,z_mm\n0,Nobody,1,2,3\n")
    # of two that are dropped together one waits for the other
    drop(hand, tmp_path / "other.json", tmp_path / "poses.csv")
    hand.qtbot.waitUntil(lambda: len(told) == 2, timeout=60_000)
    assert any("holds no comments" in text for text in told) and any("Nobody" in text for text in told)
    assert not hand.session.project.comments and not hand.session.project.pose_tracks


def test_a_table_of_poses_is_dropped(hand, tmp_path):
    file = tmp_path / "poses.csv"
    file.write_text(pose_table(hand.session.project, np.linspace(0, 2, 21)), encoding="utf-8")
    drop(hand, file)
    (track,) = hand.session.project.pose_tracks
    # it goes straight, and so two keys tell all of it
    assert track.rider == "part-1" and len(track.keys) == 2


def test_a_cad_file_that_changes_is_offered_brought_in_and_compared(make_hand, passing, tmp_path, monkeypatch):
    post = tmp_path / "post.stl"
    trimesh.creation.box((10, 10, 100)).apply_translation((0, 19, 0)).export(post)
    imported = read_product(post, unit=1.0)
    project = into_project(edits.remove(passing.project, "part-2"), imported)
    hand = make_hand(type(passing)(project, {**passing.meshes, **imported.meshes}), tmp_path / "a.kestrav")
    hand.window.documents.keep_unsaved(tmp_path / "unsaved")
    watch = hand.window.documents.watch
    watch.timer.setInterval(50)
    watch._begin()
    hand.qtbot.waitUntil(lambda: not watch._is_new, timeout=20_000)
    hand.checked()
    assert not hand.window.source_bar.isVisible()
    trimesh.creation.box((10, 22, 100)).apply_translation((0, 19, 0)).export(post)
    hand.qtbot.waitUntil(lambda: hand.window.source_bar.isVisible(), timeout=20_000)
    assert "post.stl" in hand.window.source_bar.text.text()
    monkeypatch.setattr("kestrav.app.actions.import_actions.ChangesDialog.exec", lambda self: 1)
    told = []
    hand.window.checking.compared.connect(told.append)
    hand.window.source_bar.accepted.emit()
    finished(hand)
    hand.qtbot.waitUntil(lambda: bool(told), timeout=120_000)
    assert not hand.window.source_bar.isVisible()
    assert ("against the check before" in told[0] and "worse" in told[0]) or "new" in told[0]
    assert hand.session.project.runs == project.runs
