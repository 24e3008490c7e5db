"""The project's file: new, open, save, earlier versions, and work that was not saved."""

from __future__ import annotations

import threading
from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from kestrav.app.dialogs.questions import answered, ask_changed, ask_unsaved, ask_yes, recent_files, remember_file, tell
from kestrav.app.session import Session
from kestrav.app.shell.autosave import Autosave, RecoveryDialog
from kestrav.app.shell.file_watch import FileWatch
from kestrav.app.shell.versions_dialog import VersionsDialog
from kestrav.app.shell.welcome import DEMO, DEMO_NAME, keep_small_picture
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.recovery import Leftover, leftovers, recovered
from kestrav.core.files.versions import versions_of
from kestrav.core.files.writing import clear_parts, owner_lost


class Documents(QObject):
    """Opens and saves the session's project, and asks the person where that is needed."""

    renamed = Signal()  # the project's name, or whether it is saved, is to be shown anew
    failed = Signal(str)  # unsaved work cannot be kept, and why
    noticed = Signal(str)  # the file is open or has changed elsewhere
    source_changed = Signal(str)  # a source whose CAD file was written anew

    def __init__(
        self,
        parent: QWidget,
        session: Session,
        lanes: Callable[[], Sequence[str]],
        picture: Callable[[], NDArray[np.uint8] | None],
    ) -> None:
        """``lanes`` are those that the timeline shows, ``picture`` is what the stage shows."""
        super().__init__(parent)
        self.parent_widget, self.session = parent, session
        self._lanes, self._picture = lanes, picture
        self.autosave: Autosave | None = None
        self.watch: FileWatch | None = None

    def may_leave(self) -> bool:
        """Ask about unsaved changes; True when the project may be left."""
        if self.session.undo.isClean():
            return True
        answer = ask_unsaved(self.parent_widget, self.session.project.name)
        return answer == "leave" or (answer == "save" and self.save())

    def new(self) -> None:
        """Start an empty project."""
        if self.may_leave():
            self.session.open(Project(), {}, None)

    def ask_open(self) -> None:
        """Ask for a project and open it."""
        if not self.may_leave():
            return
        folder = str(self.session.file.parent if self.session.file else Path.cwd())
        name, _ = QFileDialog.getOpenFileName(
            self.parent_widget, "Open a project", folder, f"Kestrav project (*{project_file.SUFFIX})"
        )
        if name:
            self.open(Path(name))

    def open(self, file: Path) -> bool:
        """Open a project; a file that cannot be read is told, and what is open stays."""
        try:
            opened = project_file.load(file)
        except BadInput as fault:
            tell(self.parent_widget, "Not opened", str(fault))
            return False
        remember_file(file)
        self.session.open(opened.project, opened.meshes, file)
        return True

    def open_demo(self) -> None:
        """Open a copy of the demo, which has no file of its own."""
        if not self.may_leave():
            return
        try:
            opened = project_file.load(DEMO)
        except BadInput as fault:
            tell(self.parent_widget, "Not opened", str(fault))
            return
        self.session.open(opened.project, opened.meshes, None)

    def shows_demo(self) -> bool:
        """Whether the demo is open, or a copy of it."""
        return self.session.project.name == DEMO_NAME

    def save(self) -> bool:
        """Save; asks for a name when there is none yet."""
        if self.session.file is None:
            return self.save_as()
        return self._save_over(self.session.file)

    def save_as(self) -> bool:
        """Save under another name."""
        start = self.session.file or Path.cwd() / f"{self.session.project.name}{project_file.SUFFIX}"
        name, _ = QFileDialog.getSaveFileName(
            self.parent_widget, "Save as", str(start), f"Kestrav project (*{project_file.SUFFIX})"
        )
        if not name:
            return False
        file = Path(name)
        return self._save_to(
            file if file.suffix == project_file.SUFFIX else file.with_name(file.name + project_file.SUFFIX)
        )

    def _save_over(self, file: Path) -> bool:
        """Save to the project's own file, unless somebody else has saved there meanwhile: then that is told, and asked."""
        if not self.session.changed_elsewhere():
            return self._save_to(file)
        try:
            theirs = project_file.changes_in_words(self.session.saved, project_file.load_document(file))
        except BadInput as fault:
            theirs = f"it cannot be read now ({fault})"
        answer = ask_changed(self.parent_widget, file, theirs)
        if answer == "load":
            return self.open(file)
        return self.save_as() if answer == "as" else answer == "replace" and self._save_to(file)

    def _save_to(self, file: Path) -> bool:
        lost = owner_lost(file)
        if lost and not ask_yes(
            self.parent_widget, "Change the owner?", f"{lost}: the system allows nothing else.", "Save"
        ):
            return False
        try:
            self.session.save(file, self._lanes())
        except BadInput as fault:
            tell(self.parent_widget, "Not saved", str(fault))
            return False
        remember_file(file)
        self.keep_picture()
        self.renamed.emit()
        return True

    def keep_picture(self) -> None:
        """Keep a small picture of a project that has a file, as the stage shows it."""
        picture = self._picture()
        if self.session.file is not None and picture is not None:
            keep_small_picture(self.session.file, picture)

    def keep_unsaved(self, home: Path) -> None:
        """Keep what is not saved in a folder, a few seconds behind, so that it outlives a crash."""
        self.autosave = Autosave(self.session, home, self.parent_widget)
        self.autosave.failed.connect(self.failed)
        self.session.versions = home.parent / "versions"
        self.watch = FileWatch(self.session, home.parent / "open", self.parent_widget)
        self.watch.noticed.connect(self.noticed)
        self.watch.source_changed.connect(self.source_changed)
        # what writings that were killed left goes, without the window waiting for it
        folders = {home, *(file.parent for file in recent_files())}
        threading.Thread(target=lambda: [clear_parts(folder) for folder in folders], daemon=True).start()

    def earlier_versions(self) -> None:
        """Show what savings have replaced, to open as a copy or to restore."""
        session = self.session
        file, home = session.file, session.versions
        versions = [] if file is None or home is None else versions_of(home, file)
        if not versions:
            tell(
                self.parent_widget,
                "Earlier versions",
                "There is none yet: each saving keeps what it replaces, the last ten of a project.",
            )
            return
        dialog = VersionsDialog(self.parent_widget, versions, session.project)
        if not answered(dialog) or dialog.version is None or not self.may_leave():
            return
        try:
            opened = project_file.load(dialog.version.file)
        except BadInput as fault:
            tell(self.parent_widget, "Not opened", str(fault))
            return
        session.open(opened.project, opened.meshes, file if dialog.answer == "back" else None)
        session.undo.resetClean()
        self.renamed.emit()

    def offer_unsaved(self, home: Path) -> bool:
        """Offer what was not saved when the program ended the last time; whether some of it was opened."""
        left = leftovers(home)
        if not left:
            return False
        dialog = RecoveryDialog(self.parent_widget, left)
        if not answered(dialog) or dialog.opened is None:
            return False
        return self.open_unsaved(dialog.opened)

    def open_unsaved(self, left: Leftover) -> bool:
        """Open work that was not saved; it counts as not saved still."""
        try:
            project, meshes = recovered(left)
        except BadInput as fault:
            tell(self.parent_widget, "Not opened", str(fault))
            return False
        file = None if left.about.file is None else Path(left.about.file)
        self.session.open(project, meshes, file)
        if self.autosave is not None and not self.autosave.take_over(left):
            tell(self.parent_widget, "Not opened", f"“{left.about.name}” is open in another window already")
            self.session.open(Project(), {}, None)
            return False
        self.session.undo.resetClean()
        self.renamed.emit()
        return True

    def open_recent(self, file: Path) -> None:
        """Open a recent project, once what is open may be left."""
        if self.may_leave():
            self.open(file)

    def finish(self) -> None:
        """Keep what is to be kept when the window closes."""
        self.keep_picture()
        if self.autosave is not None:
            self.autosave.finish()
        if self.watch is not None:
            self.watch.finish()
