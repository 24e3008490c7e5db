"""The main window: its regions, actions and how they hang together."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property, partial
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QCloseEvent, QCursor, QDragEnterEvent, QDropEvent, QKeyEvent
from PySide6.QtWidgets import (
    QApplication,
    QComboBox,
    QLineEdit,
    QMainWindow,
    QMenu,
    QVBoxLayout,
    QWidget,
)

from kestrav.app.actions.camera_actions import CameraActions
from kestrav.app.actions.clearance_actions import ClearanceActions
from kestrav.app.actions.contact_actions import ContactActions
from kestrav.app.actions.export_actions import ExportActions
from kestrav.app.actions.extraction_actions import ExtractionActions
from kestrav.app.actions.film_actions import FilmActions
from kestrav.app.actions.finish_actions import FinishActions
from kestrav.app.actions.import_actions import ImportActions, files_in
from kestrav.app.actions.light_actions import LightActions
from kestrav.app.actions.motion_actions import MotionActions
from kestrav.app.actions.part_actions import PartActions
from kestrav.app.actions.path_actions import PathActions
from kestrav.app.actions.plan_actions import PlanActions
from kestrav.app.actions.prompts import Prompts
from kestrav.app.cards.card import Card
from kestrav.app.contents.contents_tree import ContentsTree
from kestrav.app.dialogs.finish_shelf import finish_dragged
from kestrav.app.dialogs.questions import answered, recent_files, tell
from kestrav.app.film.film_view import HEIGHT as FILM_HEIGHT, FilmView
from kestrav.app.film.render_dialog import RenderDialog
from kestrav.app.jobs.job_bar import JobBar
from kestrav.app.jobs.jobs import Job
from kestrav.app.player import Player
from kestrav.app.session import Session
from kestrav.app.shell.checking import Checking
from kestrav.app.shell.commands import Commands, ShortcutsDialog
from kestrav.app.shell.documents import Documents
from kestrav.app.shell.edit_list import EditListDialog
from kestrav.app.shell.finder import Finder
from kestrav.app.shell.findings_panel import FindingsPanel
from kestrav.app.shell.guide import SHORTCUTS
from kestrav.app.shell.header import Header, PreviewBar, SourceBar
from kestrav.app.shell.look_up import LookUp
from kestrav.app.shell.messages import Messages, MessagesDialog
from kestrav.app.shell.panels import Panels
from kestrav.app.shell.selection_menu import SelectionMenu
from kestrav.app.shell.tour import Places, Tour
from kestrav.app.shell.welcome import Welcome
from kestrav.app.stage.point_edits import delete_point, insert_after, next_kind
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.toolbox import Toolbox
from kestrav.app.widgets.quantity_edit import QuantityEdit
from kestrav.core.document import edits
from kestrav.core.document.lookup import find
from kestrav.core.document.records import KIND_WORDS
from kestrav.core.files import project_file
from kestrav.core.files.path_files import SUFFIXES as PATH_SUFFIXES
from kestrav.core.files.pose_tables import is_pose_table
from kestrav.core.kinematics.runs import span
from kestrav.core.review.comment_files import SUFFIX as COMMENTS_SUFFIX
from kestrav.render.picture import grab

if TYPE_CHECKING:
    from kestrav.app.timeline.timeline import Timeline


class Window(QMainWindow):
    """Everything a person sees."""

    completed = Signal(QWidget)  # soon after the first picture, by the timeline, which is made last

    def __init__(self) -> None:
        super().__init__()
        self.session = Session()
        self.player = Player(self.session)
        for owned in (self.session, self.player):
            owned.setParent(self)  # they go with it, and what their signals hold
        self.stage = Stage(self.session)
        self.contents = ContentsTree(self.session)
        self.card = Card(self.session)
        self.findings = FindingsPanel()
        self.tools = Toolbox(self.session, self.stage, lambda key: self.preparing.tool_for(key))
        self.checking = Checking(self, self.session, self.player, self.stage, self.contents, self.card, self.findings)
        self.documents = Documents(self, self.session, lambda: self.timeline.shown_lanes(), self._picture)
        self.job_bar = JobBar()
        session, stage, tools, card = self.session, self.stage, self.tools, self.card
        self.prompts = prompts = Prompts(self, self.job_bar, tools.say_for, tools.say, card.complain)
        self.bringing = ImportActions(session, prompts, stage, self.checking)
        self.preparing = PartActions(session, prompts, stage, tools, card, self.contents)
        self.paths = PathActions(session, prompts, stage, tools, card, self.preparing, self.bringing.ask_paths)
        self.motion = MotionActions(session, prompts, stage, lambda: self.timeline.marked)
        self.finishing = FinishActions(session, prompts)
        self.lighting = LightActions(session, prompts, stage, tools)
        self.contacts = ContactActions(session, prompts, card, self.checking)
        self.extracting = ExtractionActions(session, prompts)
        self.clearing = ClearanceActions(session, prompts, card, self.checking)
        self.filming = FilmActions(session, prompts, self.player)
        self.messages = Messages()
        self.look_up = LookUp(session, stage, card, self._menus, (self, stage, self.contents))
        self.cameras = CameraActions(session, prompts, stage, tools, card, self.preparing, self.filming.show_film)
        self.handing_on = ExportActions(session, prompts, stage, lambda: self.timeline, self.checking)
        self.planning = PlanActions(session, prompts, stage, self.bringing, self.cameras, self.extracting)
        self.selection_menu = SelectionMenu(
            self, self.session, self.card, lambda: self.preparing.menu_actions, self.motion.time_menu
        )
        self.welcome = Welcome(self.stage, self.planning.plans)
        QuantityEdit.notes = self.preparing.note_values
        self._make_actions()
        self._lay_out()
        self._connect()
        self._make_tour()
        self.commands.retell()
        self.tools.use("select")
        self.setWindowTitle("Kestrav")
        self.resize(1280, 800)
        self.setAcceptDrops(True)
        self.is_first = not self.panels.restore(self)  # nothing is remembered of an earlier window

    # making

    def _make_actions(self) -> None:
        # these keys mean something of their own to buttons, fields and lists, and are left to them there
        showing = (self.stage,)
        action = self.commands = Commands(self)
        undo = self.session.undo
        self.undo_action = action("Undo", undo.undo, "Ctrl+Z", tip="Undo the last edit; Ctrl+Alt+Z lists all edits")
        self.redo_action = action("Redo", undo.redo, "Ctrl+Shift+Z", "Ctrl+Y", tip="Redo the last undone edit")
        undo.canUndoChanged.connect(self.undo_action.setEnabled)
        undo.canRedoChanged.connect(self.redo_action.setEnabled)
        self.undo_action.setEnabled(False)
        self.redo_action.setEnabled(False)
        self.new_action = action("New project", self.documents.new, "Ctrl+N")
        self.open_action = action("Open …", self.documents.ask_open, "Ctrl+O")
        self.add_action = action("Add products …", self.bringing.ask, "Ctrl+I")
        self.save_action = action("Save", self.documents.save, "Ctrl+S")
        self.save_as_action = action("Save as …", self.documents.save_as, "Ctrl+Shift+S")
        self.edits_action = action(
            "Edits …",
            lambda: answered(EditListDialog(self, self.session)),
            "Ctrl+Alt+Z",
            tip="List all edits, to undo to one",
        )
        self.tour_action = action(
            "Tour",
            lambda: self.tour.begin(),
            tip="Six short chapters on a copy of the demo; it goes on where it was left",
        )
        self.change_keys_action = action(
            "Change shortcuts …",
            lambda: answered(ShortcutsDialog(self, self.commands)),
            tip="Change the keys of any command",
        )
        self.project_action = action(
            "Project settings",
            lambda: self.session.select(None),
            "Ctrl+Alt+P",
            tip="Show the project's settings in the card",
        )
        self.messages_action = action(
            "Messages …", lambda: answered(MessagesDialog(self, self.messages)), tip="Show what the window said lately"
        )
        self.versions_action = action("Earlier versions …", self.documents.earlier_versions)
        self.quit_action = action("Quit", self.close, "Ctrl+Q")
        self.render_action = action("Render shots", self.filming.ask, "Ctrl+R", tip="Render a shot to film or pictures")
        self.still_action = action("Still at the playhead …", self.filming.ask_still, "Ctrl+T")
        self.look_action = action("Picture of the lens", self.filming.look, "F6")
        self.sheet_action = action(
            "Contact sheet …", self.filming.ask_sheet, tip="Make a page with small pictures of all shots"
        )
        self.report_action = action("Check report …", lambda: self.clearing.ask_report())
        self.part_action = action(
            "Selected part …", lambda: self.clearing.ask_write_part(), tip="Write the part, as it stands, as STL or GLB"
        )
        self.handing_actions = self.handing_on.actions(action)
        self.handing_making = self.handing_on.making_actions(action)
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
        action("Next finding", lambda: self.checking.next_finding(1), "N")
        action("Previous finding", lambda: self.checking.next_finding(-1), "Shift+N")
        action("Collapse findings", lambda: self.findings.toggle(), "F8")
        action("Show or hide the contents", lambda: self.panels.toggle("contents"), "F7")
        action("Show or hide the card", lambda: self.panels.toggle("card"), "F9")
        action("Show or hide the timeline", lambda: self.panels.toggle("timeline"), "F10")
        for text, tool, key in (
            ("Select", "select", "S"),
            ("Move", "move", "M"),
            ("Turn", "turn", "T"),
            ("Measure", "measure", "E"),
        ):
            tool_action = action(text, partial(self.tools.use, tool), key)
            if tool == "measure":
                self.preparing.measure_action = tool_action
        action("Draw path", lambda: self.tools.use("draw"), "D")
        self.view_menu = self.preparing.view_menu(action)
        self.view_menu.addMenu(self.finishing.menu(action))
        self.view_menu.addAction(self.lighting.action(action))
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
        action("Swap lens and stage", lambda: self.stage.arrangement.swap(), "W")
        action("Show or hide the lens", lambda: self.stage.arrangement.set_lens_shown(not self.stage.lens_shown), "L")
        action("More time", lambda: self.timeline.zoom(1.5), "Ctrl+-")
        action("Less time", lambda: self.timeline.zoom(1 / 1.5), "Ctrl++", "Ctrl+=")
        action("All time", lambda: self.timeline.show_all(), "Ctrl+0")
        action("Axis", lambda: self.timeline.set_axis(not self.timeline.by_distance), "X")
        action("Next kind of point", lambda: next_kind(self.session), "K")
        delete = action("Delete", self.delete, "Delete", tip="Delete what is selected")
        action(
            "What can I do with this?",
            self.selection_menu.pop_up,
            "Ctrl+Space",
            tip="Show everything that can be done with the selection",
        )
        copy = action(
            "Copy settings", self.card.copy_settings, "Ctrl+Shift+C", tip="Copy all settings of the selection"
        )
        paste = action(
            "Paste settings", self.card.paste_settings, "Ctrl+Shift+V", tip="Give the selection the copied settings"
        )
        rename, look = self.preparing.rename_action, self.preparing.look_action
        self.selection_menu.common = [rename, look, copy, paste, delete, self.guide_action]
        self.selection_menu.free = [self.preparing.fit_action, self.project_action, self.add_action, self.guide_action]
        action("Insert point", lambda: insert_after(self.session), "Insert")

    def _fill_file_menu(self) -> None:
        menu = self.file_menu
        menu.clear()
        menu.addActions([self.new_action, self.open_action])
        recent = menu.addMenu("Recent")
        for file in recent_files():
            recent.addAction(file.stem).triggered.connect(lambda _=False, f=file: self.documents.open_recent(f))
        recent.setEnabled(bool(recent.actions()))
        menu.addAction(self.add_action)
        menu.addMenu(self.placeholder_menu)
        menu.addMenu(self.path_menu)
        menu.addMenu(self.plan_menu)
        menu.addSeparator()
        menu.addActions([self.save_action, self.save_as_action, self.versions_action])
        menu.addSeparator()
        menu.addActions([self.project_action, self.edits_action, self.messages_action])
        menu.addSeparator()
        menu.addActions([self.guide_action, self.tour_action, self.keys_action, self.change_keys_action])
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
                self.look_action,
                self.still_action,
                self.sheet_action,
                self.report_action,
                self.path_action,
                self.part_action,
            ]
        )
        export.insertActions(self.look_action, self.handing_actions)
        export.insertSeparator(self.look_action)
        export.addSeparator()
        export.addActions(self.handing_making)
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
            [("Export", export, "A review page, scenes, step sheets, tables, reports, stills, a path or a part")],
            self.render_action,
            self.finder,
        )
        column.addWidget(self.header)
        self.preview_bar = PreviewBar(self.stage)
        self.source_bar = SourceBar(self.stage)
        self.stage.setMinimumSize(300, 200)
        self.panels = Panels(self.contents, self.findings, self.card, self.stage)
        column.addWidget(self.panels, 1)
        self.stage.play.busy = lambda: self.job_bar.job is not None or self.filming.busy
        self.job_bar.began.connect(self.job_bar.follow)
        column.addWidget(self.job_bar)
        self.setCentralWidget(body)

    def _connect(self) -> None:
        session = self.session
        session.edited.connect(self._show_name)
        session.edited.connect(self.stage.arrange)
        session.edited.connect(self.checking.follow)
        session.pairing.connect(self.stage.schedule)
        session.previewing.connect(lambda: self.preview_bar.show_fix(session.fix))
        self.preview_bar.accepted.connect(session.accept)
        self.preview_bar.dropped.connect(lambda: session.preview(None))
        session.opened.connect(self._on_opened)
        session.undo.cleanChanged.connect(lambda _: self._show_name())
        self.documents.renamed.connect(self._show_name)
        self.documents.failed.connect(self.tools.say_for)
        self.documents.noticed.connect(self.header.set_notice)
        self.documents.source_changed.connect(self._offer_source)
        self.checking.compared.connect(lambda text: self.tools.say_for(text, 15_000))
        self.source_bar.accepted.connect(self._read_source)
        self.source_bar.dropped.connect(lambda: self.source_bar.ask(""))
        self.checking.came.connect(self.clearing.show_result)
        self.tools.announced.connect(self.messages.keep)
        self.tools.taken.connect(self.preparing.on_tool)
        self.player.changed.connect(self.stage.play.set_playing)
        self.findings.fix_asked.connect(session.preview)
        self.filming.view_made.connect(self._place_film)
        self.card.render_asked.connect(self.filming.ask)
        self.card.still_asked.connect(lambda shot: self.filming.ask_still(shot))
        self.card.surroundings_asked.connect(self.lighting.choose_surroundings)
        self.card.film_asked.connect(self.filming.show_film)
        self.card.contacts_asked.connect(self.contacts.ask)
        self.card.moment_asked.connect(self.handing_on.go_to)
        self.card.step_asked.connect(self.handing_on.show_step)
        self.card.view_asked.connect(self.handing_on.take_view)
        self.card.export_asked.connect(self.handing_on.ask)
        self.card.complained.connect(self.messages.keep)
        self.clearing.listen()
        self.cameras.listen()
        self.card.put_down_asked.connect(self.motion.put_down)
        self.card.draw_asked.connect(lambda: self.tools.use("draw"))
        self.card.draw_on_asked.connect(self.tools.draw_on)
        self.card.replace_asked.connect(self.bringing.ask_replace)
        self.card.reload_asked.connect(self.bringing.reload)
        self.contents.step_asked.connect(self._first_step)
        self.contents.menu_asked.connect(self.selection_menu.pop_up)
        self.stage.menu_asked.connect(self._on_stage_menu)
        self.contents.checks_chosen.connect(self.card.show_checks)
        self.stage.said.connect(self.tools.say)
        self.stage.drawn.connect(self._place_overlays)
        self.welcome.add_asked.connect(self.bringing.ask)
        self.welcome.open_asked.connect(self.documents.ask_open)
        self.welcome.demo_asked.connect(self.documents.open_demo)
        self.welcome.recent_asked.connect(self.documents.open_recent)
        self.welcome.plan_asked.connect(self.planning.begin)
        for changed in (session.edited, session.opened):
            changed.connect(self._show_welcome)
        self.stage.drawn.connect(self._complete, Qt.ConnectionType.SingleShotConnection)

    def _complete(self) -> None:
        """Make, after the first picture, what that does without."""
        QTimer.singleShot(0, self, lambda: self.completed.emit(self.timeline))

    @cached_property
    def timeline(self) -> Timeline:
        """The timeline. It is made when it is first asked for, at the latest after the first picture, which does not wait for its charts."""
        from kestrav.app.timeline.timeline import Timeline

        timeline, checking = Timeline(self.session, self.motion.time_menu), self.checking
        transport = timeline.transport
        timeline.play_toggled.connect(self.player.toggle)
        timeline.menu_asked.connect(self.selection_menu.pop_up)
        timeline.step_asked.connect(self._first_step)
        timeline.lanes_changed.connect(checking.judge_camera)
        transport.set_playing(self.player.playing)
        self.player.changed.connect(transport.set_playing)
        self.stage.play.preview.changed.connect(transport.show_preview)
        checking.charts_camera = timeline.shows_camera
        checking.charted.connect(timeline.show_result)
        checking.live_charted.connect(timeline.show_live)
        checking.camera_charted.connect(timeline.show_camera)
        if checking.result is not None:
            timeline.show_result(checking.result, checking.current)
        checking.judge_camera()
        self.commands.also_in(timeline.chart, self.stage)
        self.panels.take_timeline(timeline)
        self.commands.retell()
        return timeline

    def _place_film(self, view: FilmView) -> None:
        """Give the film's view the timeline's place while it is open, where all of the lens stays in sight."""

        def open_view() -> None:
            self.panels.put_in_place_of_timeline(view, FILM_HEIGHT)
            self.tools.show_buttons(False)

        def leave() -> None:
            self.panels.show_timeline_again(view, self)
            self.tools.show_buttons(True)

        view.opened.connect(open_view)
        view.left.connect(leave)
        view.lens_alone.connect(self.stage.arrangement.show_lens_alone)

    def _make_tour(self) -> None:
        places = Places(
            self.session,
            self.player,
            self.checking,
            self.tools,
            self.stage,
            self.card,
            self.contents,
            self.findings,
            lambda: self.timeline,
            self.preview_bar,
            self.header.main,
            lambda: isinstance(QApplication.activeModalWidget(), RenderDialog),
        )
        self.tour = Tour(self, places, self.documents.open_demo, self.documents.shows_demo)
        self.tour.finished.connect(
            lambda: self.tools.say_for("That was the tour. F1 opens the guide; Ctrl+Shift+F finds every action.", 9000)
        )
        self.welcome.tour_asked.connect(self.tour.begin)

    def _first_step(self, step: str) -> None:
        """Do what an empty list or chart offers."""
        steps: dict[str, Callable[[], object]] = {
            "add": self.bringing.ask,
            "plan": lambda: self.plan_menu.exec(QCursor.pos()),
            "draw": lambda: self.tools.use("draw"),
            "pose": self.motion.pose,
            "orbit": self.cameras.orbit,
            "require": self.clearing.ask_requirement,
            "sheet": self.handing_on.make_sheet,
            "camera": self.cameras.from_here,
            "light": lambda: self.motion.light("point"),
            "finish": self.finishing.open_shelf,
        }
        steps[step]()

    def _offer_source(self, source_id: str) -> None:
        """A CAD file was written anew: offer to bring it in."""
        source = next((s for s in self.session.project.sources if s.id == source_id), None)
        if source is not None:
            self.source_bar.source = source_id
            self.source_bar.ask(f"<b>{escape(Path(source.file).name)}</b> has changed since it was read.")

    def _read_source(self) -> None:
        self.source_bar.ask("")
        if any(s.id == self.source_bar.source for s in self.session.project.sources):
            self.bringing.reload(self.source_bar.source)

    def _on_stage_menu(self, at: QPoint) -> None:
        """The menu of what is under the pointer in the stage."""
        self.tools.select_tool.select_at(at)
        self.selection_menu.pop_up(self.stage.mapToGlobal(at))

    def _place_overlays(self) -> None:
        self.tools.place_hint()
        self.preview_bar.place()
        self.source_bar.place()
        if self.welcome.isVisible():
            self.welcome.place()

    # documents

    def _show_welcome(self) -> None:
        project = self.session.shown
        empty = not (project.parts or project.paths or project.cameras or project.lights)
        if empty == self.welcome.isHidden():
            self.welcome.show_for(empty=empty, recent=recent_files())

    def _picture(self) -> NDArray[np.uint8] | None:
        """What the stage shows; None while it shows nothing."""
        if not self.session.project.parts or not self.stage.drawings:
            return None
        return grab(self.stage.view.GetRenderWindow())

    def _on_opened(self) -> None:
        self.checking.forget()
        self.player.stop()
        self.tools.use("select")
        self._show_name()

    def _show_name(self) -> None:
        name, clean = self.session.project.name, self.session.undo.isClean()
        self.header.name.setText(name if clean else f"{name} · not saved")
        self.setWindowTitle(f"{name}{'' if clean else ' *'} – Kestrav")

    def delete(self) -> None:
        """Delete the chosen point, or the selected path, run, camera, shot or part."""
        if self.timeline.delete_key() or delete_point(self.session) or self.session.selection is None:
            return
        ids = self.session.selected_ids
        kinds = {KIND_WORDS[type(item)] for i in ids if (item := find(self.session.project, i)) is not None}
        kind = kinds.pop() if len(kinds) == 1 else "selection"
        if self.session.edit(f"Delete {kind}", lambda p: edits.remove_all(p, ids)):
            self.session.select(None)

    # jobs

    @property
    def job(self) -> Job | None:
        """The work under way."""
        return self.job_bar.job

    # files dropped on the window

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls() or finish_dragged(event.mimeData(), self.session) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        """Open a project, or add products, that are dropped on the window; give a finish to the part that it is dropped on."""
        finish = finish_dragged(event.mimeData(), self.session)
        if finish is not None:
            picked = self.stage.pick(self.stage.mapFrom(self, event.position().toPoint()))
            if picked is not None:
                chosen = self.session.selected_ids
                self.finishing.give_to(list(chosen) if picked.part in chosen else [picked.part], finish)
            return
        dropped = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        files = files_in(dropped)
        if dropped and not files:
            tell(self, "Nothing to add", f"“{dropped[0]}” holds no product, path or project that Kestrav reads")
        projects = [f for f in files if f.suffix.lower() == project_file.SUFFIX]
        if projects and self.documents.may_leave():
            self.documents.open(projects[0])
        elif files and not projects:
            for table in [f for f in files if f.suffix.lower() == ".csv" and is_pose_table(f)]:
                self.handing_on.bring_poses(table)
                files.remove(table)
            curves = [f for f in files if f.suffix.lower() in PATH_SUFFIXES]
            for said in (f for f in files if f.suffix.lower() == COMMENTS_SUFFIX):
                self.handing_on.bring_comments(said)
            files = [f for f in files if f.suffix.lower() != COMMENTS_SUFFIX]
            if curves:
                self.bringing.add_paths(curves)
            elif files:
                self.bringing.add(files)

    # the window itself

    def show_at_start(self) -> None:
        """Show the window where it was the last time; the first time it takes the whole screen."""
        if not self.is_first:
            self.show()
            return
        room = self.screen().availableGeometry()
        # where no window manager would make it large
        self.setGeometry(room)
        self.showMaximized()
        self.panels.lay_out(room.width(), room.height() - self.header.sizeHint().height())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        """Enter finishes a tool and Esc leaves it, wherever the keys go: a click beside the stage takes them from it."""
        # in a field Enter takes what was typed
        typing = isinstance(self.focusWidget(), (QLineEdit, QComboBox))
        of_tools = {Qt.Key.Key_Escape, *(() if typing else (Qt.Key.Key_Return, Qt.Key.Key_Enter))}
        if event.key() in of_tools and self.stage.tool is not None and self.stage.tool.key(event):
            return
        super().keyPressEvent(event)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.documents.may_leave():
            event.ignore()
            return
        if self.filming.view is not None:
            self.filming.view.close()
        self.panels.remember(self)
        self.player.stop()
        self.job_bar.waiting.clear()
        if self.job is not None:
            self.job.stop()
        self.filming.close_queue()
        self.cameras.stop()
        self.checking.finish()
        self.documents.finish()
        self.stage.close_down()
        event.accept()
