"""Starting the window."""

from __future__ import annotations

import os
import signal
import sys
from pathlib import Path

from kestrav.core.errors import BadInput


def make_application() -> object:
    """The Qt application, dressed. Raises BadInput when there is no display."""
    if sys.platform == "linux" and not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")):
        raise BadInput("there is no display for the window; the commands new, info, check and render work without one")
    # the stage draws through X11, which every Wayland desktop offers too
    if os.environ.get("DISPLAY"):
        os.environ.setdefault("QT_QPA_PLATFORM", "xcb")
    from PySide6.QtCore import QCoreApplication
    from PySide6.QtWidgets import QApplication

    from kestrav.app.style import dress

    QCoreApplication.setOrganizationName("Kestrav")
    QCoreApplication.setApplicationName("Kestrav")
    application = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(application, QApplication)
    dress(application)
    return application


def run_window(file: Path | None) -> int:
    """Open the window on a project (or empty) and stay until it is closed.

    Raises BadInput when the project cannot be read, before any window shows.
    """
    from kestrav.core.files import project_file

    opened = project_file.load(file) if file is not None else None
    application = make_application()
    from PySide6.QtWidgets import QApplication

    from kestrav.app.dialogs import remember_file
    from kestrav.app.window import Window

    assert isinstance(application, QApplication)
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    window = Window()
    window.show()
    if opened is not None and file is not None:
        remember_file(file)
        window.session.open(opened.project, opened.meshes, file)
    else:
        window.session.opened.emit()
        window.session.edited.emit()
    return application.exec()
