"""Long work in processes of its own, with progress, an estimate and cancel.

A process, not a thread: geometry work holds Python's lock, and a damaged file that brings a reader down
must not take the window with it.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import threading
import time
from collections.abc import Callable, Mapping
from functools import partial
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any, Protocol

import msgspec
from PySide6.QtCore import QObject, QSocketNotifier, Signal

from kestrav.core.clearance.live import Live
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.findings.check import certified, check, with_fixes
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.progress import Pace

# children are forked from a process that has imported what they need, and so begin at once
_context = multiprocessing.get_context("forkserver")
_context.set_forkserver_preload(
    [
        "kestrav.app.jobs.jobs",
        "kestrav.app.jobs.work",
        "kestrav.render.film",
        # what the window itself does not load
        "coal",
        "embreex.mesh_construction",
        "kestrav.core.files.gltf",
        "kestrav.core.files.mesh_formats",
        "manifold3d",
        "ompl.geometric",
        "scipy.ndimage",
        "scipy.stats",
        "skimage.measure",
        "trimesh",
    ]
)
_may_begin = threading.Event()
_may_begin.set()
_LONGEST_HOLD = 20.0  # s


def hold_back() -> None:
    """Let no child begin yet: what it imports would take the time of the window's start."""
    _may_begin.clear()


def let_begin() -> None:
    """Let the children begin that were held back, and those to come."""
    _may_begin.set()


class Report(Protocol):
    """Told how far work is, from 0 to 1, what is being done if there is more to say, and a picture (h, w, 3) if there is one to see; raises
    to stop the work."""

    def __call__(self, share: float, text: str = "", picture: object = None) -> None: ...


_STOP = object()
_LIVE = 0.058  # s that the answer to an edit may take, with what the motion itself takes
_LIVE_FRAMES = 16  # of what changed, that are looked at for each edit
_SETTLES = 0.12  # s without an edit after which all is checked
_PAUSE = 1.5  # s without an edit after which what happens between the frames is looked at


class Process(QObject):
    """A child process whose messages arrive as signals."""

    message = Signal(object)
    died = Signal()
    _lost = Signal()

    def __init__(self, target: Callable[..., None], *arguments: Any) -> None:
        super().__init__()
        self.connection, child = _context.Pipe()
        self.process = _context.Process(target=target, args=(child, *arguments), daemon=True)
        self._begun = False
        self._signal: signal.Signals | None = None  # what was sent last
        self._notifier = QSocketNotifier(self.connection.fileno(), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)
        self._waiting: list[tuple[str, object]] = []
        self._there = threading.Condition()
        self._sending = threading.Lock()  # held while the connection is written to, or closed
        self._lost.connect(self._end)
        # a child at work does not read, and a pipe holds little: the window must not wait for it,
        # nor for the first child, which begins when all is imported
        threading.Thread(target=self._begin, args=(child,), daemon=True).start()

    def send(self, message: object, instead_of: str = "") -> None:
        """Send a message soon; lost when the child is gone, which :attr:`died` tells.

        One that is still waiting with the same ``instead_of`` is out of date and is not sent.
        """
        with self._there:
            if instead_of:
                self._waiting = [pair for pair in self._waiting if pair[0] != instead_of]
            self._waiting.append((instead_of, message))
            self._there.notify()

    def _begin(self, child: Connection) -> None:
        _may_begin.wait(_LONGEST_HOLD)
        with self._there:
            wanted = not any(message is _STOP for _, message in self._waiting)
        try:
            if not wanted:
                return
            self.process.start()
        except (OSError, EOFError):
            self._tell_lost()
            return
        finally:
            child.close()
        with self._there:
            self._begun = True
            asked = self._signal
        if asked is not None:
            self.signal(asked)
        self._write()

    def _tell_lost(self) -> None:
        # nobody is told any more when the window has gone meanwhile
        with contextlib.suppress(RuntimeError):
            self._lost.emit()

    def _write(self) -> None:
        while True:
            with self._there:
                while not self._waiting:
                    self._there.wait()
                _, message = self._waiting.pop(0)
            if message is _STOP:
                return
            with self._sending:
                try:
                    self.connection.send(message)
                except (OSError, ValueError):
                    self._tell_lost()
                    return

    def _read(self) -> None:
        try:
            while self.connection.poll():
                self.message.emit(self.connection.recv())
        except (EOFError, OSError):
            self._end()

    def _end(self) -> None:
        if self._notifier.isEnabled():
            self._notifier.setEnabled(False)
            self._stop_writing()
            self.died.emit()

    def _stop_writing(self) -> None:
        """End the thread that writes: as long as it waited, all that the child's outcome is told to would be held."""
        with self._there:
            self._waiting = [("", _STOP)]
            self._there.notify()

    def signal(self, number: signal.Signals) -> None:
        """Send a signal to the child and all that it has started, as soon as there is a child."""
        with self._there:
            self._signal = number
            if not self._begun:
                return
        pid = self.process.pid
        with contextlib.suppress(OSError):
            if pid and os.getpgid(pid) == pid:
                os.killpg(pid, number)
            elif pid:
                os.kill(pid, number)

    def stop(self) -> None:
        """End the child now."""
        self._notifier.setEnabled(False)
        self._stop_writing()
        self.signal(signal.SIGCONT)
        self.signal(signal.SIGTERM)
        if self._begun:
            self.process.join(2)
        # what was being sent to a child that is gone ends at once; a connection must not go away under it
        if self._sending.acquire(timeout=2):
            self.connection.close()
            self._sending.release()


# one job, one process


def _run_job(connection: Connection, work: Callable[..., object], arguments: tuple[Any, ...]) -> None:
    """Child: do the work, telling progress and stopping when anything is received."""

    def report(share: float, text: str = "", picture: object = None) -> None:
        if connection.poll():
            raise Cancelled
        if picture is not None:
            connection.send(("picture", picture))
        connection.send(("progress", (share, text)))

    # a group of its own, with the processes that it starts itself: they are paused and ended together
    os.setpgid(0, 0)
    # it may share its work out to processes of its own, which a daemon must not
    multiprocessing.current_process().daemon = False
    try:
        outcome: tuple[str, object] = ("done", work(report, *arguments))
    except Cancelled:
        outcome = ("cancelled", None)
    except BadInput as fault:
        outcome = ("failed", str(fault))
    except Exception as fault:
        outcome = ("failed", f"the work stopped unexpectedly: {fault}")
    # the window may have gone, or want it no more
    with contextlib.suppress(ConnectionError):
        connection.send(outcome)


class Job(QObject):
    """``work(report, *arguments)`` in a process; picklable, as is what it returns."""

    progress = Signal(float, float)  # share done, seconds left
    said = Signal(str)  # what is being done
    shown = Signal(object)  # a picture (h, w, 3) as far as it is
    done = Signal(object)
    failed = Signal(str)
    cancelled = Signal()
    ended = Signal()

    def __init__(self, label: str, work: Callable[..., object], *arguments: Any, tidies: bool = True) -> None:
        super().__init__()
        self.label = label
        self.paused = False
        self.pictures: Path | None = None  # the folder to which it writes pictures as they are ready
        self._tidies = tidies  # whether the work leaves things that it must take away when it is cancelled
        self._pace = Pace()
        self._over = False
        self._process = Process(_run_job, work, arguments)
        self._process.message.connect(self._on_message)
        self._process.died.connect(self._on_death)

    def cancel(self) -> None:
        """Ask the work to stop and tidy up first; what has nothing to tidy is ended at once."""
        if self._tidies:
            self._process.send("cancel")
            self.pause(False)
        elif not self._over:
            self.stop()
            self.ended.emit()
            self.cancelled.emit()

    def pause(self, paused: bool) -> None:
        """Let the work rest, or go on."""
        if self._over or paused == self.paused:
            return
        self.paused = paused
        self._process.signal(signal.SIGSTOP if paused else signal.SIGCONT)
        # the time that it rests says nothing of its rate
        self._pace.forget()

    def _on_message(self, message: tuple[str, Any]) -> None:
        kind, value = message
        if kind == "progress":
            share, text = value
            if text:
                self.said.emit(text)
            self.progress.emit(share, self._pace.left(share, time.monotonic()))
            return
        if kind == "picture":
            self.shown.emit(value)
            return
        self._over = True
        # ended first: what is done with the outcome may ask, and even start other work
        self.ended.emit()
        {"done": self.done.emit, "failed": self.failed.emit}.get(kind, lambda _: self.cancelled.emit())(value)

    def _on_death(self) -> None:
        if not self._over:
            self._over = True
            self.failed.emit("the work ended before it was finished; the file may be damaged, or memory ran out")
            self.ended.emit()

    def stop(self) -> None:
        """End the process at once."""
        self._over = True
        self._process.stop()


# the check, kept ready


class _Outdated(Exception):
    """What was worked on is not the newest any more."""


class _CheckServer:
    """Child: checks projects as they come.

    While they come one after another, as in a drag, the clearance at the playhead and along what changed is answered for each;
    the full check follows as soon as nothing newer has come.
    """

    def __init__(self, connection: Connection) -> None:
        self.connection = connection
        self.meshes: dict[str, Mesh] = {}
        self.waiting: tuple[int, Project, float] | None = None
        self.enough = False  # nobody waits for what is under way
        self.live = Live()

    def take(self) -> None:
        """Take in what has been sent, keeping the newest project only."""
        while self.connection.poll():
            kind, *value = self.connection.recv()
            if kind == "meshes":
                self.meshes.update(value[0])
            elif kind == "enough":
                self.waiting, self.enough = None, True
            else:
                self.waiting = (value[0], msgspec.msgpack.decode(value[1], type=Project), value[2])

    def answer_now(self) -> None:
        """Measure the newest project at its playhead and along what changed."""
        if self.waiting is not None:
            key, project, time = self.waiting
            self.connection.send(("now", key, self.live.follow(project, self.meshes, time, _LIVE_FRAMES, _LIVE)))

    def run(self) -> None:
        """Serve until the other side goes."""
        key = 0
        while True:
            if self.waiting is None:
                self.connection.poll(None)
                self.take()
                continue
            try:
                self.answer_now()
                if self.connection.poll(_SETTLES):
                    self.take()
                    continue
                key, project, _ = self.waiting
                self.waiting, self.enough = None, False
                result = check(project, self.meshes, partial(self.between, key))
                self.connection.send(("result", key, result))
                self.live.checked(project, self.meshes)
                # shown only for what stays the newest for a while; an edit meanwhile stops it
                if self.waiting is None and not self.connection.poll(_PAUSE):
                    result = with_fixes(project, self.meshes, result, self.while_newest)
                    if result.fixes:  # not kept back until the proof, which may take minutes
                        self.connection.send(("result", key, result))
                    self.connection.send(("result", key, certified(project, self.meshes, result, self.while_newest)))
            except _Outdated:
                continue
            except (EOFError, OSError):
                raise
            except Exception as fault:
                key = self.waiting[0] if self.waiting is not None else key
                self.waiting = None
                self.connection.send(("failed", key, str(fault)))

    def while_newest(self, share: float) -> None:
        """Called by a proof under way: something newer stops it."""
        self.take()
        if self.waiting is not None or self.enough:
            self.enough = False
            raise _Outdated

    def between(self, key: int, share: float) -> None:
        """Called by a check under way: something newer stops it."""
        self.while_newest(share)
        self.connection.send(("progress", key, share))


def _serve_checks(connection: Connection) -> None:
    with contextlib.suppress(EOFError, OSError):
        _CheckServer(connection).run()


class Newest(QObject):
    """Hands the newest document to a process of its own, with the meshes that it does not have yet."""

    def __init__(self, serve: Callable[[Connection], None]) -> None:
        super().__init__()
        self._serve = serve
        self._process: Process | None = None
        self._sent: set[str] = set()
        self._key = 0

    def hand_over(self, project: Project, meshes: Mapping[str, Mesh], about: object) -> None:
        """Send a project, in place of one that still waits, with what is asked about it."""
        if self._process is None:
            self._process = Process(self._serve)
            self._process.message.connect(self._on_message)
            self._process.died.connect(self._on_death)
            self._sent = set()
        used = {g.hash for g in project.geometry}
        missing = {name: meshes[name] for name in used - self._sent}
        if missing:
            self._process.send(("meshes", missing))
            self._sent |= missing.keys()
        self._key += 1
        self._process.send(("newest", self._key, msgspec.msgpack.encode(project), about), instead_of="newest")

    def _on_message(self, message: tuple[Any, ...]) -> None:
        raise NotImplementedError

    def _on_death(self) -> None:
        self._process = None

    def stop(self) -> None:
        """End the process."""
        if self._process is not None:
            self._process.stop()
            self._process = None


class Checker(Newest):
    """Keeps the check of the newest document coming; each result says which project it belongs to."""

    progress = Signal(float)
    now = Signal(object)  # LiveClearance of the newest project
    result = Signal(object, bool)  # a CheckResult, and whether it is of the newest project
    failed = Signal(str)

    def __init__(self) -> None:
        super().__init__(_serve_checks)

    def check(self, project: Project, meshes: Mapping[str, Mesh], time: float) -> None:
        """Check a project soon, and before that measure it at a time in s."""
        self.hand_over(project, meshes, time)

    def enough(self) -> None:
        """Leave off the check under way, as the document is one whose result is known."""
        self._key += 1
        if self._process is not None:
            self._process.send(("enough",), instead_of="newest")

    def _on_message(self, message: tuple[str, int, Any]) -> None:
        kind, key, value = message
        newest = key == self._key
        if kind == "result":
            self.result.emit(value, newest)
        elif kind == "now" and newest:
            self.now.emit(value)
        elif kind == "progress" and newest:
            self.progress.emit(value)
        elif kind == "failed" and newest:
            self.failed.emit(value)

    def _on_death(self) -> None:
        super()._on_death()
        self.failed.emit("the check ended unexpectedly; it starts again with the next edit")
