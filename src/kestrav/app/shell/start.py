"""Starting the window."""

from __future__ import annotations

import builtins
import gc
import importlib
import os
import signal
import sys
import threading
import traceback
from functools import partial
from importlib import resources
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

from PySide6.QtCore import QCoreApplication, QStandardPaths, Qt, QTimer

from kestrav.core.errors import BadInput
from kestrav.core.processes import give_memory_back

if TYPE_CHECKING:
    from kestrav.app.shell.window import Window


def has_portal() -> bool:
    """Whether the desktop offers its dialogs and settings to programs: it has a session bus, and a portal that the bus can start."""
    folders = os.environ.get("XDG_DATA_DIRS") or "/usr/local/share:/usr/share"
    service = Path("dbus-1") / "services" / "org.freedesktop.portal.Desktop.service"
    installed = any((Path(folder) / service).is_file() for folder in folders.split(":") if folder)
    return bool(os.environ.get("DBUS_SESSION_BUS_ADDRESS")) and installed


def make_application() -> object:
    """The Qt application, dressed. Raises BadInput when there is no display."""
    # the stage draws through X11, which Wayland desktops offer too (Xwayland)
    if not os.environ.get("DISPLAY"):
        raise BadInput(
            "there is no X display for the window; the commands new, info, check and render work without one"
        )
    os.environ.setdefault("QT_QPA_PLATFORM", "xcb")
    if has_portal():
        # file dialogs, and whether colours are light or dark, as the desktop has them
        os.environ.setdefault("QT_QPA_PLATFORMTHEME", "xdgdesktopportal")
    from PySide6.QtGui import QIcon
    from PySide6.QtWidgets import QApplication

    QCoreApplication.setOrganizationName("Kestrav")
    QCoreApplication.setApplicationName("Kestrav")
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    # once it is known whether the system is set to light or dark
    from kestrav.app.widgets.style import apply_style

    apply_style(application)
    application.setDesktopFileName("kestrav")
    icon = resources.files("kestrav") / "assets" / "desktop" / "kestrav.svg"
    application.setWindowIcon(QIcon(str(icon)))
    return application


def _tell_mishap(window: Window, kind: type[BaseException], fault: BaseException, trace: TracebackType | None) -> None:
    """Keep the window open over a fault of the program's own, and say where its details are."""
    from kestrav.app.dialogs.questions import tell

    folder = Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.CacheLocation))
    log = folder / "mishaps.log"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        with log.open("a", encoding="utf-8") as stream:
            traceback.print_exception(kind, fault, trace, file=stream)
        where = f" The details are in “{log}”."
    except OSError:
        where = ""
    tell(
        window,
        "A fault in Kestrav",
        f"that did not work ({fault}). The project is as it was; save it under a new name.{where}",
    )


_LATER = 2000  # ms after the start
_GIVES_BACK = 60_000  # ms between two times that free memory is given back
_COLLECTS = 250  # ms between two looks at how much could be thrown away


def _load_the_rest() -> None:
    """Load what the window's start did without, so that the first click or drag that needs it does not wait a second for it."""
    for name in (
        "embreex.mesh_construction",
        "scipy.spatial",
        "scipy.interpolate",
        "trimesh",
        "manifold3d",
        "scipy.ndimage",
    ):
        importlib.import_module(name)


def collect_garbage() -> None:
    """Throw away what has become unreachable in cycles, as far as there is much of it.

    Python does so by itself in whichever thread makes the next object. What it then takes apart are windows and pictures too, and these
    must not be touched by another thread than the window's: so it is done here alone.
    """
    counts, limits = gc.get_count(), gc.get_threshold()
    if counts[0] > limits[0]:
        gc.collect(2 if counts[2] > limits[2] else 1 if counts[1] > limits[1] else 0)


def _give_back_at_rest(window: Window) -> None:
    """Give free memory back, which takes some hundredths of a second: a drag or what is played would show that."""
    from PySide6.QtWidgets import QApplication

    if not window.player.playing and QApplication.mouseButtons() == Qt.MouseButton.NoButton:
        give_memory_back()


def _collect_from_now_on(application: QCoreApplication, window: Window) -> None:
    # what the start has made stays, and need not be looked through
    gc.freeze()
    timer = QTimer(application, interval=_COLLECTS)
    timer.timeout.connect(collect_garbage)
    timer.start()
    seldom = QTimer(application, interval=_GIVES_BACK)
    seldom.timeout.connect(partial(_give_back_at_rest, window))
    seldom.start()


def _import_plainly() -> None:
    """Let modules be imported as Python does by itself.

    PySide6 has a look at the source of everything that is imported, for switches of its own that nothing here sets: a tenth of the start.
    """
    builtins.__import__ = getattr(builtins, "__orig_import__", builtins.__import__)


def run_window(file: Path | None) -> int:
    """Open the window on a project (or empty) and stay until it is closed.

    Raises BadInput when the project cannot be read, before the window shows.
    """
    # what is loaded stays; to look through it again and again for what could be thrown away takes a tenth of the start
    gc.disable()
    _import_plainly()
    application = make_application()
    from PySide6.QtWidgets import QApplication

    from kestrav.app.shell.start_picture import start_picture

    # what follows is loading for the most part; somebody who waits for it is to see that something comes
    picture = start_picture("" if file is None else file.name)
    from kestrav.core.files import project_file

    try:
        opened = project_file.load(file) if file is not None else None
    except BadInput:
        picture.close()
        raise
    from kestrav.app.dialogs.questions import remember_file
    from kestrav.app.jobs.jobs import hold_back, let_begin
    from kestrav.app.shell.autosave import recovery_home
    from kestrav.app.shell.window import Window

    assert isinstance(application, QApplication)
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    hold_back()
    window = Window()
    window.completed.connect(let_begin)
    sys.excepthook = partial(_tell_mishap, window)
    window.show_at_start()
    picture.close()
    home = recovery_home()
    window.documents.keep_unsaved(home)
    if opened is not None and file is not None:
        remember_file(file)
        window.session.open(opened.project, opened.meshes, file)
    else:
        window.session.opened.emit()
        window.session.edited.emit()
    # after the window is there
    QTimer.singleShot(_LATER, lambda: _collect_from_now_on(application, window))
    QTimer.singleShot(0, lambda: window.documents.offer_unsaved(home))
    QTimer.singleShot(_LATER, lambda: window.filming.keep_queue(home.with_name("to-render")))
    QTimer.singleShot(_LATER, lambda: threading.Thread(target=_load_the_rest).start())
    return application.exec()
