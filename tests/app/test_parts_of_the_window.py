"""Single pieces of the window: fields, session, bars, jobs."""

import gc
import os
import subprocess
import sys
import threading
import time
import weakref

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrav.app.dialogs.questions import recent_files, remember_file
from kestrav.app.film.render_dialog import RenderDialog
from kestrav.app.jobs import jobs, work
from kestrav.app.jobs.jobs import Job, Process
from kestrav.app.session import Session
from kestrav.app.timeline.bars import stacked
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document import edits
from kestrav.core.errors import BadInput


def test_a_quantity_is_stepped_typed_and_refused(dressed, qtbot):
    field = QuantityEdit(12.5, "mm", 1, step=0.5)
    qtbot.addWidget(field)
    given, refused = [], []
    field.given.connect(given.append)
    field.refused.connect(refused.append)
    QTest.keyClick(field, Qt.Key.Key_Up)
    QTest.keyClick(field, Qt.Key.Key_PageDown)
    assert given == [13.0, 8.0]
    field.setText("2 cm")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert given[-1] == 20.0
    field.setText("lots")
    QTest.keyClick(field, Qt.Key.Key_Return)
    assert field.value == 20.0
    assert len(refused) == 1
    field.setText("99")
    QTest.keyClick(field, Qt.Key.Key_Escape)
    assert field.text() == "20.0\u2009mm"


def test_bars_in_a_row_do_not_overlap():
    assert stacked([(0, 5), (5, 9), (1, 2), (8, 9), (2, 3)]) == [0, 0, 1, 1, 1]
    assert stacked([]) == []


def test_the_session_merges_the_edits_of_a_drag_only(dressed, passing):
    session = Session()
    session.open(passing.project, passing.meshes, None)

    def move(y, merge):
        session.edit("Move", lambda p: edits.set_point(p, "path-1", 1, position=(100.0, y, 0.0)), merge=merge)

    for y in (1.0, 2.0, 3.0):
        move(y, "drag-1")
    move(9.0, "drag-2")
    assert session.undo.count() == 2
    session.undo.undo()
    assert session.project.paths[0].shape.points[1].position[1] == 3.0
    session.undo.undo()
    assert session.project is passing.project
    refused = []
    session.refused.connect(refused.append)
    assert not session.edit("x", lambda p: edits.delete_point(p, "path-1", 0))
    assert "1 point" in refused[0]
    assert session.project is passing.project


def test_what_is_selected_goes_with_what_is_undone(dressed, passing):
    session = Session()
    session.open(passing.project, passing.meshes, None)
    session.edit("x", lambda p: edits.add(p, type(p.paths[0])("path-9", "New", p.paths[0].shape)))
    session.select("path-9", 0)
    session.undo.undo()
    assert session.selection is None
    assert session.point is None


def slow(report, steps):
    for i in range(steps):
        report(i / steps)
        time.sleep(0.02)
    return os.getpid()


def wrong(report):
    raise BadInput("“x.step” is empty")


def test_a_job_runs_in_a_process_of_its_own_with_an_estimate(dressed, qtbot):
    job = Job("Slow", slow, 30)
    told, done = [], []
    job.progress.connect(lambda share, left: told.append((share, left)))
    job.done.connect(done.append)
    qtbot.waitUntil(lambda: bool(done), timeout=60_000)
    assert done[0] != os.getpid()
    shares = [t[0] for t in told]
    assert shares == sorted(shares)
    late = next(left for share, left in told if share > 0.5)
    assert 0.05 < late < 60


def test_what_is_held_back_begins_when_it_may_and_never_when_it_was_stopped(dressed, qtbot):
    jobs.hold_back()
    try:
        kept, stopped = (Job("Working", work.import_paths, []) for _ in range(2))
        ended = []
        kept.ended.connect(lambda: ended.append("kept"))
        stopped.ended.connect(lambda: ended.append("stopped"))
        stopped.stop()
        qtbot.wait(300)
        assert ended == [] and kept._process.process.pid is None
    finally:
        jobs.let_begin()
    qtbot.waitUntil(lambda: ended == ["kept"], timeout=60_000)
    assert stopped._process.process.pid is None


def test_a_job_that_is_done_leaves_no_thread_and_holds_nothing(dressed, qtbot):
    class Held:
        pass

    held = Held()
    watched = weakref.ref(held)
    before = threading.active_count()
    job = Job("Slow", slow, 2)
    job.done.connect(lambda _, held=held: None)
    del held
    with qtbot.waitSignal(job.done, timeout=60_000):
        pass
    qtbot.waitUntil(lambda: threading.active_count() <= before, timeout=60_000)
    del job
    gc.collect()
    assert watched() is None


def test_a_job_that_cannot_be_done_says_why(dressed, qtbot):
    job = Job("Wrong", wrong)
    told = []
    job.failed.connect(told.append)
    qtbot.waitUntil(lambda: bool(told), timeout=60_000)
    assert told == ["“x.step” is empty"]


def test_recent_files_are_those_still_there(dressed, tmp_path):
    names = [tmp_path / f"{n}.kestrav" for n in "abc"]
    for name in names:
        name.write_bytes(b"x")
        remember_file(name)
    remember_file(names[0])
    names[1].unlink()
    assert recent_files()[:2] == [names[0], names[2]]


@pytest.fixture
def dialog(dressed, qtbot, demo, tmp_path):
    made = RenderDialog(None, demo.project, demo.meshes, demo.project.shots[0], tmp_path)
    qtbot.addWidget(made)
    return made


def test_the_render_dialog_keeps_its_settings_sensible(dialog, tmp_path):
    assert dialog.target.text() == str(tmp_path / "cabinet-orbit.mp4")
    size = dialog.form.field("Size")
    size.setCurrentIndex(size.findData("640x360"))
    size.activated.emit(size.currentIndex())
    assert (dialog.shot.width, dialog.shot.height) == (640, 360)
    dialog._change(fps=-1.0)
    assert "frame rate" in dialog.fault.text()
    assert dialog.shot.fps == 24.0
    dialog._pick("")
    assert dialog.target.text() == str(tmp_path / "fan-cassette-exchange.mp4")
    assert [s.name for s in dialog.shots()] == [s.name for s in dialog.project.shots]
    assert {(s.width, s.fps) for s in dialog.shots()} == {(640, 24.0)}
    dialog._pick(dialog.project.shots[0].id)
    dialog._change(width=640, height=360)
    dialog._set_kind("av1")
    assert dialog.codec == "av1" and dialog.target.text().endswith("cabinet-orbit.mp4")
    dialog._set_kind("png")
    assert dialog.target.text() == str(tmp_path / "cabinet-orbit")
    dialog.target.setText(str(tmp_path / "nowhere" / "x"))
    dialog._start()
    assert "does not exist" in dialog.fault.text()
    dialog.target.setText(str(tmp_path / "x"))
    dialog._start()
    assert dialog.chosen == tmp_path / "x"


def _deaf(connection):
    """A child that is at work and reads nothing until it is told to."""
    connection.send("ready")
    time.sleep(1.0)
    received = []
    while connection.poll(2.0):
        received.append(connection.recv()[0])
        if received[-1] == "last":
            break
    connection.send(received)


def test_the_window_does_not_wait_for_a_child_that_does_not_read(qtbot):
    process = Process(_deaf)
    heard = []
    process.message.connect(heard.append)
    qtbot.waitUntil(lambda: heard == ["ready"], timeout=60_000)
    for number in range(40):
        # more than a pipe holds; of what is out of date only the newest is sent
        process.send((number, bytes(1_000_000)), instead_of="check")
    process.send(("last", b""))
    qtbot.waitUntil(lambda: len(heard) == 2, timeout=60_000)
    assert heard[1][-2:] == [39, "last"]
    assert len(heard[1]) < 10
    process.stop()


def test_a_connection_is_not_closed_under_what_is_being_sent(qtbot, monkeypatch):
    process = Process(_deaf)
    heard, began, closed = [], threading.Event(), []
    process.message.connect(heard.append)
    qtbot.waitUntil(lambda: heard == ["ready"], timeout=60_000)

    def slow(message):
        began.set()
        time.sleep(0.5)
        closed.append(process.connection.closed)

    monkeypatch.setattr(process.connection, "send", slow)
    process.send((0, b""))
    assert began.wait(10)
    process.stop()
    assert closed == [False] and process.connection.closed


@pytest.mark.parametrize("module", ["kestrav.app.shell.window", "kestrav.core.files.info"])
def test_what_only_some_work_needs_is_loaded_when_it_is_needed(module):
    heavy = ("trimesh", "ompl", "skimage", "matplotlib", "ezdxf", "distributed", "scipy.ndimage", "av")
    code = f"import sys, {module}; print(*(m for m in {heavy!r} if m in sys.modules))"
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert told.stdout.split() == []


def test_something_is_on_the_screen_while_the_program_loads(dressed):
    from kestrav.app.shell.start_picture import start_picture

    shown = start_picture("a-" * 60 + "cabinet.kestrav")
    picture = shown.pixmap().toImage()
    assert shown.isVisible() and shown.rect().width() == 420
    colours = {picture.pixelColor(x, y).name() for x in range(0, 420, 2) for y in range(0, 148, 2)}
    assert {"#1d3a40", "#fffdf8"} <= colours and len(colours) > 10  # the head, the card, and letters
    shown.close()
