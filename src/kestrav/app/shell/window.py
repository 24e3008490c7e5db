"""The main window: its regions, actions and how they hang together."""

from __future__ import annotations

import math
import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMenu,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.actions.camera_actions import CameraActions
from kestrav.app.actions.clearance_actions import ClearanceActions
from kestrav.app.actions.contact_actions import ContactActions
from kestrav.app.actions.export_actions import ExportActions
from kestrav.app.actions.extraction_actions import ExtractionActions
from kestrav.app.actions.film_actions import FilmActions
from kestrav.app.actions.import_actions import ImportActions, files_in
from kestrav.app.actions.motion_actions import MotionActions
from kestrav.app.actions.part_actions import PartActions
from kestrav.app.actions.path_actions import PathActions
from kestrav.app.actions.plan_actions import PlanActions
from kestrav.app.cards.card import Card
from kestrav.app.contents.tree import ContentsTree
from kestrav.app.dialogs.questions import ask_changed, ask_unsaved, ask_yes, recent_files, remember_file, tell
from kestrav.app.jobs.camera_check import CameraCheck
from kestrav.app.jobs.job_bar import JobBar
from kestrav.app.jobs.jobs import Checker, Job
from kestrav.app.session import Session
from kestrav.app.shell.autosave import Autosave, RecoveryDialog
from kestrav.app.shell.file_watch import FileWatch
from kestrav.app.shell.finder import Finder
from kestrav.app.shell.findings_panel import FOLDED, WIDTH, FindingsPanel
from kestrav.app.shell.guide import SHORTCUTS
from kestrav.app.shell.header import Header, PreviewBar
from kestrav.app.shell.look_up import LookUp
from kestrav.app.shell.messages import Messages, MessagesDialog
from kestrav.app.shell.player import Player
from kestrav.app.shell.versions import VersionsDialog
from kestrav.app.shell.welcome import DEMO, Welcome, keep_small_picture
from kestrav.app.stage.drawing_tool import DrawTool, EdgeTool
from kestrav.app.stage.overlays import make_native
from kestrav.app.stage.point_edits import delete_point, insert_after, next_kind
from kestrav.app.stage.select_tool import SelectTool
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.tool import Tool
from kestrav.app.timeline.timeline import Timeline
from kestrav.app.widgets.fields import QuantityEdit
from kestrav.core.camera.sight import best_sight
from kestrav.core.clearance.live import LiveClearance
from kestrav.core.clearance.sweep import Clearance
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, find, get
from kestrav.core.document.records import Part, Project
from kestrav.core.editing.joining import End
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.path_files import SUFFIXES as PATH_SUFFIXES
from kestrav.core.files.recovery import Leftover, leftovers, recovered
from kestrav.core.files.versions import versions_of
from kestrav.core.files.writing import clear_parts, owner_lost
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import Finding, Mend
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.legs import movers
from kestrav.core.kinematics.runs import span
from kestrav.core.units import show
from kestrav.render.picture import grab

NEAR = 3.0  # a gap is shown in the stage when below this many times the required clearance
LAYOUT = 1  # of the splitters; raise it when their order changes


class Window(QMainWindow):
    """Everything a person sees."""

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.checker = Checker()
        self.camera_judge = CameraCheck()
        self.result: CheckResult | None = None
        self.current = False
        self.finding: Finding | None = None
        self._checked: Project | None = None
        self._judged: tuple[Project, str] | None = None  # the project and camera last measured
        self._findings_width = WIDTH
        self.player = Player(self.session)
        self.stage = Stage(self.session)
        self.timeline = Timeline(self.session)
        self.contents = ContentsTree(self.session)
        self.card = Card(self.session)
        self.findings = FindingsPanel()
        self.select_tool = SelectTool(self.stage)
        self.draw_tool = DrawTool(self.stage, lambda: self.use_tool("select"))
        self.edge_tool = EdgeTool(self.stage, lambda: self.use_tool("select"))
        self.bringing = ImportActions(self)
        self.preparing = PartActions(self)
        self.paths = PathActions(self)
        self.motion = MotionActions(self)
        self.contacts = ContactActions(self)
        self.extracting = ExtractionActions(self)
        self.clearing = ClearanceActions(self)
        self.autosave: Autosave | None = None
        self.watch: FileWatch | None = None
        self.messages = Messages()
        searched = (self, self.stage, self.timeline.chart, self.contents)
        self.look_up = LookUp(self.session, self.stage, self.card, self._menus, searched)
        self.cameras = CameraActions(self)
        self.handing_on = ExportActions(self)
        self.planning = PlanActions(self)
        self.welcome = Welcome(self.stage, self.planning.plans)
        QuantityEdit.notes = self.preparing.note_values
        self._make_actions()
        self._lay_out()
        self._connect()
        self.use_tool("select")
        self.setWindowTitle("Kestrav")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self._restore()

    # making

    def _make_actions(self) -> None:
        # these keys mean something of their own to buttons, fields and lists, and are left to them there
        showing = (self.stage, self.timeline.chart)

        def action(
            text: str, slot: Callable[..., object], *keys: str, tip: str = "", where: tuple[QWidget, ...] = ()
        ) -> QAction:
            made = QAction(text, self)
            made.setShortcuts([QKeySequence(k) for k in keys])
            made.setToolTip(f"{tip or text}{f' ({keys[0]})' if keys else ''}")
            made.triggered.connect(lambda _=False: slot())
            if where:
                made.setShortcutContext(Qt.ShortcutContext.WidgetWithChildrenShortcut)
            for widget in where or (self,):
                widget.addAction(made)
            return made

        undo = self.session.undo
        self.undo_action = action("Undo", undo.undo, "Ctrl+Z", tip="Undo the last edit")
        self.redo_action = action("Redo", undo.redo, "Ctrl+Shift+Z", "Ctrl+Y", tip="Redo the last undone edit")
        undo.canUndoChanged.connect(self.undo_action.setEnabled)
        undo.canRedoChanged.connect(self.redo_action.setEnabled)
        self.undo_action.setEnabled(False)
        self.redo_action.setEnabled(False)
        self.new_action = action("New project", self.new, "Ctrl+N")
        self.open_action = action("Open …", self.ask_open, "Ctrl+O")
        self.add_action = action("Add products …", self.bringing.ask, "Ctrl+I")
        self.save_action = action("Save", self.save, "Ctrl+S")
        self.save_as_action = action("Save as …", self.save_as, "Ctrl+Shift+S")
        self.messages_action = action(
            "Messages …", lambda: MessagesDialog(self, self.messages).exec(), tip="Show what the window said lately"
        )
        self.versions_action = action("Earlier versions …", self.earlier_versions)
        self.quit_action = action("Quit", self.close, "Ctrl+Q")
        self.filming = FilmActions(self)
        self.render_action = action("Render shots", self.filming.ask, "Ctrl+R", tip="Render a shot to film or pictures")
        self.still_action = action("Still at the playhead …", self.filming.ask_still, "Ctrl+T")
        self.sheet_action = action(
            "Contact sheet …", self.filming.ask_sheet, tip="Make a page with small pictures of all shots"
        )
        self.report_action = action("Check report …", lambda: self.clearing.ask_report())
        self.part_action = action(
            "Selected part …", lambda: self.clearing.ask_write_part(), tip="Write the part, as it stands, as STL or GLB"
        )
        self.handing_actions = self.handing_on.actions(action)
        self.path_action = action("Selected path …", self.bringing.ask_write_path, tip="Write the path as DXF or CSV")
        self.guide_action = action(
            "Guide", lambda: self.look_up.show_guide(), "F1", tip="Open the guide at the page of what is selected"
        )
        self.keys_action = action(
            "Shortcuts", lambda: self.look_up.show_guide(SHORTCUTS), "Shift+F1", tip="Show all shortcuts"
        )
        action("Find an action, thing or setting", lambda: self.finder.begin(), "Ctrl+Shift+F")
        action("Play", self.player.toggle, "Space", where=(*showing, self.contents))
        action("Frame back", lambda: self.session.step(-1), "Left", where=showing)
        action("Frame forward", lambda: self.session.step(1), "Right", where=showing)
        action("Ten frames back", lambda: self.session.step(-10), "Ctrl+Left")
        action("Ten frames on", lambda: self.session.step(10), "Ctrl+Right")
        action("Start", lambda: self.session.set_time(0.0), "Home", where=showing)
        action("End", lambda: self.session.set_time(span(self.session.shown)), "End", where=showing)
        action("Next finding", lambda: self._next_finding(1), "N")
        action("Previous finding", lambda: self._next_finding(-1), "Shift+N")
        action("Collapse findings", lambda: self.findings.toggle(), "F8")
        for text, tool, key in (
            ("Select", "select", "S"),
            ("Move", "move", "M"),
            ("Turn", "turn", "T"),
            ("Measure", "measure", "E"),
        ):
            action(text, partial(self.use_tool, tool), key)
        action("Draw path", lambda: self.use_tool("draw"), "D")
        self.view_menu = self.preparing.view_menu(action)
        self.plan_menu = self.planning.menu(action)
        self.placeholder_menu = self.preparing.placeholder_menu(action)
        self.path_menu = self.paths.menu(action)
        self.motion_menu = self.motion.menu(action)
        self.motion_menu.addSeparator()
        self.motion_menu.addActions(self.extracting.actions(action))
        self.motion_menu.addSeparator()
        self.motion_menu.addActions(self.clearing.actions(action))
        self.camera_menu = self.cameras.menu(action)
        self.preparing.actions(action)
        action("Swap lens and stage", lambda: self.stage.swap(), "W")
        action("Show or hide the lens", lambda: self.stage.set_lens_shown(not self.stage.lens_shown), "L")
        action("More time", lambda: self.timeline.zoom(1.5), "Ctrl+-")
        action("Less time", lambda: self.timeline.zoom(1 / 1.5), "Ctrl++", "Ctrl+=")
        action("All time", self.timeline.show_all, "Ctrl+0")
        action("Axis", lambda: self.timeline.set_axis(not self.timeline.by_distance), "X")
        action("Next kind of point", lambda: next_kind(self.session), "K")
        action("Delete", self.delete, "Delete")
        action("Insert point", lambda: insert_after(self.session), "Insert")

    def _fill_file_menu(self) -> None:
        menu = self.file_menu
        menu.clear()
        menu.addActions([self.new_action, self.open_action])
        recent = menu.addMenu("Recent")
        for file in recent_files():
            recent.addAction(file.stem).triggered.connect(partial(self._open_recent, file))
        recent.setEnabled(bool(recent.actions()))
        menu.addAction(self.add_action)
        menu.addMenu(self.placeholder_menu)
        menu.addMenu(self.path_menu)
        menu.addMenu(self.plan_menu)
        menu.addSeparator()
        menu.addActions([self.save_action, self.save_as_action, self.versions_action])
        menu.addSeparator()
        menu.addActions([self.guide_action, self.keys_action, self.messages_action])
        menu.addSeparator()
        menu.addAction(self.quit_action)

    def _menus(self) -> list[tuple[str, QMenu]]:
        """The header's menus by their names."""
        return [
            ("File", self.file_menu),
            ("View", self.view_menu),
            ("Motion", self.motion_menu),
            ("Camera", self.camera_menu),
            ("Export", self.export_menu),
        ]

    def _open_recent(self, file: Path, _checked: bool = False) -> None:
        if self.may_leave():
            self.open(file)

    def _lay_out(self) -> None:
        body = QWidget()
        body.setObjectName("body")
        column = QVBoxLayout(body)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        self.file_menu = QMenu(self)
        self.file_menu.aboutToShow.connect(self._fill_file_menu)
        self.finder = Finder(self.look_up.entries)
        self.export_menu = export = QMenu(self)
        export.addActions(
            [
                self.still_action,
                self.sheet_action,
                *self.handing_actions,
                self.report_action,
                self.path_action,
                self.part_action,
            ]
        )
        self.header = Header(
            [
                ("File", self.file_menu, "Open, save, add products and placeholders"),
                ("View", self.view_menu, "Viewpoints, styles, section"),
                (
                    "Motion",
                    self.motion_menu,
                    "Key poses, attachments, wheels, lights; stretch, split and reverse in time",
                ),
                ("Camera", self.camera_menu, "Orbits, follow shots, walkthroughs; guides over the lens, film strips"),
            ],
            [self.undo_action, self.redo_action],
            [("Export", export, "A still, animated glTF, tables, the reports, a path or a part")],
            self.render_action,
            self.finder,
        )
        column.addWidget(self.header)
        self.left = QSplitter(Qt.Orientation.Vertical)
        self.left.addWidget(self.contents)
        self.left.addWidget(self.card)
        self.top = QSplitter(Qt.Orientation.Horizontal)
        middle = QWidget()
        inner = QVBoxLayout(middle)
        inner.setContentsMargins(0, 0, 0, 0)
        inner.setSpacing(0)
        self.preview_bar = PreviewBar()
        inner.addWidget(self.preview_bar)
        inner.addWidget(self.stage, 1)
        self.top.addWidget(middle)
        self.top.addWidget(self.findings)
        self.right = QSplitter(Qt.Orientation.Vertical)
        self.right.addWidget(self.top)
        self.right.addWidget(self.timeline)
        self.across = QSplitter(Qt.Orientation.Horizontal)
        self.across.addWidget(self.left)
        self.across.addWidget(self.right)
        for splitter, stretch in ((self.left, 0), (self.top, 0), (self.right, 0), (self.across, 1)):
            splitter.setHandleWidth(1)
            splitter.setChildrenCollapsible(False)
            splitter.setStretchFactor(stretch, 1)
        self.contents.setMinimumSize(200, 120)
        self.card.setMinimumHeight(140)
        self.stage.setMinimumSize(300, 200)
        self.timeline.setMinimumHeight(150)
        column.addWidget(self.across, 1)
        self.job_bar = JobBar()
        self.job_bar.began.connect(self.job_bar.follow)
        column.addWidget(self.job_bar)
        self.setCentralWidget(body)
        self._default_sizes()
        self._stage_overlays()

    def _default_sizes(self) -> None:
        self.across.setSizes([308, 972])
        self.left.setSizes([440, 320])
        self.top.setSizes([744, 236])
        self.right.setSizes([508, 252])

    def _stage_overlays(self) -> None:
        self.tool_buttons: dict[str, QToolButton] = {}
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
            button.clicked.connect(lambda _=False, k=key: self.use_tool(k))
            self.tool_buttons[key] = button
        self.hint = QLabel(self.stage)
        self.hint.setObjectName("hint")
        make_native(self.hint)
        self.hint.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.hint.hide()

    def show_tools(self, shown: bool) -> None:
        """Show or hide the tools over the stage."""
        for button in self.tool_buttons.values():
            button.setVisible(shown)

    def _connect(self) -> None:
        session = self.session
        session.edited.connect(self._on_edited)
        session.moved.connect(self._show_gap)
        session.pairing.connect(self.stage.schedule)
        session.previewing.connect(self._on_previewing)
        self.preview_bar.accepted.connect(session.accept)
        self.preview_bar.dropped.connect(lambda: session.preview(None))
        session.opened.connect(self._on_opened)
        session.undo.cleanChanged.connect(lambda _: self._show_name())
        self.checker.result.connect(self._on_result)
        self.camera_judge.curves.connect(lambda curves, _: self.timeline.show_camera(curves))
        session.edited.connect(self.judge_camera)
        session.selected.connect(self.judge_camera)
        self.timeline.lanes_changed.connect(self.judge_camera)
        self.checker.now.connect(self._on_now)
        self.checker.progress.connect(self._on_progress)
        self.findings.stopped.connect(self._stop_check)
        self.checker.failed.connect(self.card.complain)
        self.timeline.play_toggled.connect(self.player.toggle)
        self.player.changed.connect(self.timeline.set_playing)
        self.findings.went.connect(self.go_to)
        self.findings.mended.connect(self.preview)
        self.findings.folded.connect(self._on_folded)
        self.card.render_asked.connect(self.filming.ask)
        self.card.still_asked.connect(lambda shot: self.filming.ask_still(shot))
        self.card.film_asked.connect(self.filming.show_film)
        self.card.contacts_asked.connect(self.contacts.ask)
        self.card.complained.connect(self.messages.keep)
        self.clearing.listen()
        self.cameras.listen()
        self.card.put_down_asked.connect(self.motion.put_down)
        self.card.draw_asked.connect(lambda: self.use_tool("draw"))
        self.card.draw_on_asked.connect(self.draw_on)
        self.card.replace_asked.connect(self.bringing.ask_replace)
        self.card.reload_asked.connect(self.bringing.reload)
        self.contents.checks_chosen.connect(self.card.show_checks)
        self.stage.said.connect(self.say)
        self.stage.drawn.connect(self._place_hint)
        self.welcome.add_asked.connect(self.bringing.ask)
        self.welcome.open_asked.connect(self.ask_open)
        self.welcome.demo_asked.connect(self.open_demo)
        self.welcome.recent_asked.connect(self._open_recent)
        self.welcome.plan_asked.connect(self.planning.begin)
        for changed in (session.edited, session.opened):
            changed.connect(self._show_welcome)

    # documents

    def may_leave(self) -> bool:
        """Ask about unsaved changes; True when the project may be left."""
        if self.session.undo.isClean():
            return True
        answer = ask_unsaved(self, self.session.project.name)
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
            self, "Open a project", folder, f"Kestrav project (*{project_file.SUFFIX})"
        )
        if name:
            self.open(Path(name))

    def open(self, file: Path) -> bool:
        """Open a project; a file that cannot be read is told, and what is open stays."""
        try:
            opened = project_file.load(file)
        except BadInput as fault:
            tell(self, "Not opened", str(fault))
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
            tell(self, "Not opened", str(fault))
            return
        self.session.open(opened.project, opened.meshes, None)

    def _show_welcome(self) -> None:
        project = self.session.shown
        empty = not (project.parts or project.paths or project.cameras or project.lights)
        if empty == self.welcome.isHidden():
            self.welcome.show_for(empty, recent_files())

    def save(self) -> bool:
        """Save; asks for a name when there is none yet."""
        if self.session.file is None:
            return self.save_as()
        return self._save_over(self.session.file)

    def save_as(self) -> bool:
        """Save under another name."""
        start = self.session.file or Path.cwd() / f"{self.session.project.name}{project_file.SUFFIX}"
        name, _ = QFileDialog.getSaveFileName(self, "Save as", str(start), f"Kestrav project (*{project_file.SUFFIX})")
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
        answer = ask_changed(self, file, theirs)
        if answer == "load":
            return self.open(file)
        return self.save_as() if answer == "as" else answer == "replace" and self._save_to(file)

    def _save_to(self, file: Path) -> bool:
        lost = owner_lost(file)
        if lost and not ask_yes(self, "Change the owner?", f"{lost}: the system allows nothing else.", "Save"):
            return False
        try:
            self.session.save(file, self.timeline.shown_lanes())
        except BadInput as fault:
            tell(self, "Not saved", str(fault))
            return False
        remember_file(file)
        self._keep_picture()
        self._show_name()
        return True

    def _keep_picture(self) -> None:
        """Keep a small picture of a project that has a file, as the stage shows it."""
        if self.session.file is not None and self.session.project.parts and self.stage.drawings:
            keep_small_picture(self.session.file, grab(self.stage.view.GetRenderWindow()))

    def add_products(self, files: list[Path]) -> None:
        """Read product files in a job and add them to the project."""
        self.bringing.add(files)

    # unsaved work

    def keep_unsaved(self, home: Path) -> None:
        """Keep what is not saved in a folder, a few seconds behind, so that it outlives a crash."""
        self.autosave = Autosave(self.session, home, self)
        self.autosave.failed.connect(self.say_for)
        self.session.versions = home.parent / "versions"
        self.watch = FileWatch(self.session, home.parent / "open", self)
        self.watch.told.connect(self.header.set_notice)
        # what writings that were killed left goes, without the window waiting for it
        folders = {home, *(file.parent for file in recent_files())}
        threading.Thread(target=lambda: [clear_parts(folder) for folder in folders], daemon=True).start()

    def earlier_versions(self) -> None:
        """Show what savings have replaced, to open as a copy or to restore."""
        session = self.session
        file, home = session.file, session.versions
        found = [] if file is None or home is None else versions_of(home, file)
        if not found:
            tell(
                self,
                "Earlier versions",
                "There is none yet: each saving keeps what it replaces, the last ten of a project.",
            )
            return
        dialog = VersionsDialog(self, found, session.project)
        if not dialog.exec() or dialog.version is None or not self.may_leave():
            return
        try:
            opened = project_file.load(dialog.version.file)
        except BadInput as fault:
            tell(self, "Not opened", str(fault))
            return
        session.open(opened.project, opened.meshes, file if dialog.answer == "back" else None)
        session.undo.resetClean()
        self._show_name()

    def offer_unsaved(self, home: Path) -> bool:
        """Offer what was not saved when the program ended the last time; whether some of it was opened."""
        left = leftovers(home)
        if not left:
            return False
        dialog = RecoveryDialog(self, left)
        if not dialog.exec() or dialog.opened is None:
            return False
        return self.open_unsaved(dialog.opened)

    def open_unsaved(self, left: Leftover) -> bool:
        """Open work that was not saved; it counts as not saved still."""
        try:
            project, meshes = recovered(left)
        except BadInput as fault:
            tell(self, "Not opened", str(fault))
            return False
        file = None if left.about.file is None else Path(left.about.file)
        self.session.open(project, meshes, file)
        if self.autosave is not None and not self.autosave.take_over(left):
            tell(self, "Not opened", f"“{left.about.name}” is open in another window already")
            self.session.open(Project(), {}, None)
            return False
        self.session.undo.resetClean()
        self._show_name()
        return True

    def _on_opened(self) -> None:
        self._checked = None
        self.result = None
        self.timeline.result = None
        self.finding = None
        self.player.stop()
        self.use_tool("select")
        self._show_name()

    def _show_name(self) -> None:
        name, clean = self.session.project.name, self.session.undo.isClean()
        self.header.name.setText(name if clean else f"{name} · not saved")
        self.setWindowTitle(f"{name}{'' if clean else ' *'} – Kestrav")

    # checking

    def _on_edited(self) -> None:
        self._show_name()
        self.stage.arrange()
        shown = self.session.shown
        if shown is self._checked:
            return
        self._checked = shown
        self.current = False
        self.stage.gap = None
        self.timeline.show_result(None, False)
        self.contents.show_result(None)
        self.findings.say_current(False)
        self.checker.check(shown, self.session.meshes, self.session.time)

    def _on_result(self, result: CheckResult, newest: bool) -> None:
        self.result = result
        self.timeline.show_result(result, newest)
        if not newest:
            return
        self.current = True
        self.contents.show_result(result)
        self.card.show_result(result)
        self.clearing.show_result(result)
        self.findings.show_findings(result.findings, self._nothing_found())
        self._keep_finding(result)
        self._show_gap()

    def _nothing_found(self) -> str:
        """What is said where no rule found anything: of an empty project what to do next."""
        project = self.session.shown
        if not project.parts:
            return "Nothing to check yet. Add a product first: File → Add products, or drop a file here."
        if not movers(project) and not project.shots:
            return "Nothing moves yet. Select a part and draw a path for it, or make an orbit (Camera) of the product."
        return "Nothing found. Everything checked is within its limits."

    def _on_progress(self, share: float) -> None:
        if not self.current:
            self.findings.say_progress(share)

    def _stop_check(self) -> None:
        """Stop the check under way."""
        self.checker.stop()
        self.findings.say_stopped()

    def _keep_finding(self, result: CheckResult) -> None:
        """Keep pointing at the same fault after a new check."""
        if self.finding is not None:
            key = (self.finding.rule, self.finding.subject)
            self.finding = next((f for f in result.findings if (f.rule, f.subject) == key), None)
            self.findings.choose(self.finding)

    def _on_now(self, live: LiveClearance) -> None:
        if not self.current:
            self._set_gap(live, 0)
            self.timeline.show_live(live)

    def _show_gap(self) -> None:
        """Show the gap at the playhead, when the check knows it."""
        if self.current and self.result is not None:
            frame = min(self.session.frame, len(self.result.times) - 1)
            self._set_gap(self.result.clearance, frame)
        elif not self.player.playing:
            self.stage.gap = None

    def _set_gap(self, told: Clearance | LiveClearance, sample: int) -> None:
        distance, required = float(told.distance[sample]), float(told.needs[sample])
        gap = None
        if math.isfinite(distance) and distance < NEAR * required:
            breach = distance < required
            sign = "<" if breach else "≥"
            text = f"{show(distance, 'mm')} {sign} {show(required, 'mm', 1 if required % 1 else 0)} required"
            if distance < 0:
                need = show(abs(required), "mm", 1 if required % 1 else 0)
                text = f"{show(-distance, 'mm')} deep · {need} {'required' if required >= 0 else 'deep allowed'}"
            gap = (told.points[sample], text, breach)
        self.stage.gap = gap
        self.stage.schedule()

    def judge_camera(self) -> None:
        """Measure the lens's camera anew where its lanes are shown and it is not the one measured."""
        camera, shown = self.session.camera, self.session.shown
        if camera is None or not self.timeline.shows_camera():
            return
        if self._judged is not None and self._judged[0] is shown and self._judged[1] == camera.id:
            return
        self._judged = (shown, camera.id)
        self.timeline.show_camera(None)
        self.camera_judge.judge(shown, self.session.meshes, camera.id)

    def _on_folded(self, folded: bool) -> None:
        """Give the stage the room of folded findings, and back."""
        total = sum(self.top.sizes())
        if folded:
            self._findings_width = self.top.sizes()[1]
        width = FOLDED if folded else self._findings_width
        self.top.setSizes([total - width, width])

    def _next_finding(self, step: int) -> None:
        finding = self.findings.neighbour(self.finding, step)
        if finding is not None:
            self.go_to(finding)

    def go_to(self, finding: Finding) -> None:
        """Move the playhead to a finding and look at its place."""
        self.player.stop()
        self.finding = finding
        self.findings.choose(finding)
        self.session.set_time(finding.time)
        self._select_subject(finding)
        self.session.look_at_pair(finding.subject[:2] if finding.gap is not None else None)
        if finding.place is not None:
            place = np.array(finding.place)
            reach = 260.0
            if finding.gap is not None:
                reach = max(reach, 3 * float(np.linalg.norm(np.subtract(*finding.gap))))
            view, project = self.stage.viewpoint, self.session.shown
            side = best_sight(
                project, self.session.meshes, self.session.poses(), place, finding.gap, -view.forward, 6 * reach
            )
            view.look_from(side)
            self.stage.look_at(np.array([place - reach, place + reach]))
        self._show_gap()

    def _select_subject(self, finding: Finding) -> None:
        project = self.session.shown
        subject = finding.subject[0]
        ridden = movers(project)
        if isinstance(get(project, subject), Part):
            chain = [*ancestors(project, subject), subject]
            subject = next((i for i in reversed(chain) if i in ridden), subject)
        self.session.select(subject)

    def preview(self, mend: Mend) -> None:
        """Show what a mend would do."""
        self.session.preview(mend)

    def _on_previewing(self) -> None:
        self.preview_bar.show_mend(self.session.mend)

    # tools

    def use_tool(self, key: str) -> None:
        """Take up a tool."""
        tool = self.preparing.tool_for(key) or {"draw": self.draw_tool, "edges": self.edge_tool}.get(
            key, self.select_tool
        )
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
        chosen = {k for k in ("move", "turn", "measure") if self.preparing.tool_for(k) is tool}
        if tool in (self.select_tool, self.draw_tool):
            chosen = {"select" if tool is self.select_tool else "draw"}
        for name, button in self.tool_buttons.items():
            button.setChecked(name in chosen)
        self.preparing.on_tool()
        assert tool is not None
        self.say(tool.hint)
        self.stage.view.setFocus()

    def say(self, text: str) -> None:
        """Show a hint at the foot of the stage."""
        # the select tool's hint is in its tooltip; over a calm stage only drawing and dragging speak
        visible = bool(text) and text != SelectTool.hint
        self.hint.setText(text)
        # beside the lens, not under it
        room = self.stage.inset().left() - 24 if self.stage.lens_head.isVisible() else self.stage.width() - 20
        self.hint.setWordWrap(False)
        if self.hint.sizeHint().width() > room:
            self.hint.setWordWrap(True)
            self.hint.setFixedWidth(max(room, 200))
        else:
            self.hint.setMinimumWidth(0)
            self.hint.setMaximumWidth(16_777_215)
        self.hint.adjustSize()
        self._place_hint()
        self.hint.setVisible(visible)
        self.hint.raise_()

    def _place_hint(self) -> None:
        if self.welcome.isVisible():
            self.welcome.place()
        self.hint.move(10, self.stage.height() - self.hint.height() - 10)

    def say_for(self, text: str, milliseconds: int = 5000) -> None:
        """Show a hint for a while; it stays among the messages."""
        self.messages.keep(text)
        self.say(text)
        # with a receiver, so that a window closed meanwhile is not called
        QTimer.singleShot(milliseconds, self, lambda: self.say("") if self.hint.text() == text else None)

    def delete(self) -> None:
        """Delete the chosen point, or the selected path, run, camera, shot or part."""
        if self.timeline.delete_key() or delete_point(self.session) or self.session.selection is None:
            return
        items, kind = self.session.chosen or (self.session.selection,), type(self.session.item).__name__.lower()

        def remove(project: Project) -> Project:
            for item in items:
                # one may have gone with another that held it
                if find(project, item) is not None:
                    project = edits.remove(project, item)
            return project

        if self.session.edit(f"Delete {kind}", remove):
            self.session.select(None)

    # jobs

    def used_meshes(self) -> dict[str, Mesh]:
        """The meshes that the project uses, by content hash."""
        return {g.hash: self.session.meshes[g.hash] for g in self.session.project.geometry}

    def start_job(self, job: Job, done: Callable[..., object]) -> None:
        """Start long work, unless some is under way."""
        if self.job is not None:
            job.stop()
            self.card.complain(f"“{self.job.label}” is still under way; let it finish or cancel it first")
            return
        job.done.connect(done)
        job.failed.connect(lambda text: tell(self, job.label, text))
        job.cancelled.connect(lambda: self.say_for(f"{job.label}: cancelled"))
        self.job_bar.follow(job)

    def start_or_wait(self, label: str, make: Callable[[], Job], done: Callable[..., object]) -> None:
        """Start long work that rests on nothing that changes meanwhile, at once or when what is under way has ended."""

        def made() -> Job:
            job = make()
            job.done.connect(done)
            job.failed.connect(lambda text: tell(self, job.label, text))
            job.cancelled.connect(lambda: self.say_for(f"{job.label}: cancelled"))
            return job

        if self.job is None:
            self.job_bar.follow(made())
        else:
            self.job_bar.wait(label, made)
            self.say_for(f"{label}: it waits for “{self.job.label}”", 6000)

    @property
    def job(self) -> Job | None:
        """The work under way."""
        return self.job_bar.job

    # files dropped on the window

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open a project, or add products, that are dropped on the window."""
        dropped = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        files = files_in(dropped)
        if dropped and not files:
            tell(self, "Nothing to add", f"“{dropped[0]}” holds no product, path or project that Kestrav reads")
        projects = [f for f in files if f.suffix.lower() == project_file.SUFFIX]
        if projects and self.may_leave():
            self.open(projects[0])
        elif files and not projects:
            curves = [f for f in files if f.suffix.lower() in PATH_SUFFIXES]
            if curves:
                self.bringing.add_paths(curves)
            else:
                self.add_products(files)

    # the window itself

    def _restore(self) -> None:
        settings = QSettings()
        kept: Any = settings.value("layout/version", 0)
        if int(kept) != LAYOUT:
            return
        geometry = settings.value("layout/window")
        if geometry is not None:
            self.restoreGeometry(geometry)
        for name in ("across", "left", "top", "right"):
            state = settings.value(f"layout/{name}")
            if state is not None:
                getattr(self, name).restoreState(state)

    def _remember(self) -> None:
        settings = QSettings()
        settings.setValue("layout/version", LAYOUT)
        settings.setValue("layout/window", self.saveGeometry())
        for name in ("across", "left", "top", "right"):
            settings.setValue(f"layout/{name}", getattr(self, name).saveState())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter finishes a tool and Esc leaves it, wherever the keys go: a click beside the stage takes them from it."""
        # in a field Enter takes what was typed
        typing = isinstance(self.focusWidget(), (QLineEdit, QComboBox))
        of_tools = {Qt.Key.Key_Escape, *(() if typing else (Qt.Key.Key_Return, Qt.Key.Key_Enter))}
        if event.key() in of_tools and self.stage.tool is not None and self.stage.tool.key(event):
            return
        super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.may_leave():
            event.ignore()
            return
        if self.filming.view is not None:
            self.filming.view.close()
        self._keep_picture()
        self._remember()
        self.player.stop()
        self.job_bar.waiting.clear()
        if self.job is not None:
            self.job.stop()
        self.camera_judge.stop()
        self.cameras.stop()
        self.checker.stop()
        self.stage.close_down()
        if self.autosave is not None:
            self.autosave.finish()
        if self.watch is not None:
            self.watch.finish()
        event.accept()
