"""The demo shown without anybody at the mouse: the real window plays it and leaves pictures, report and film.

``python demo/tour.py PROJECT FOLDER [--pictures-only]``
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import numpy as np
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import QApplication, QDialog, QMessageBox

from kestrav.app.dialogs.camera_dialogs import OrbitDialog
from kestrav.app.dialogs.export_dialog import ExportDialog
from kestrav.app.dialogs.questions import remember_file
from kestrav.app.film.render_dialog import RenderDialog
from kestrav.app.shell.start import make_application
from kestrav.app.shell.welcome import keep_small_picture
from kestrav.app.shell.window import Window
from kestrav.core.document import edits
from kestrav.core.document.records import Comment, Focus, OnPicture, Project, SavedView
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.findings.report import as_data, as_text
from kestrav.core.kinematics.runs import span
from kestrav.core.parts.rest import world_bounds
from kestrav.render.frame_marks import FrameGuides
from kestrav.render.picture import grab

_PATIENCE = 3600.0  # s for any one step; a busy machine without a graphics processor may need some
_LONGEST_SMOOTHING = 15.0  # s
_FROM_THE_RIGHT = (0.62, -0.68, 0.39)


class Tour:
    """Drives a window and takes its picture."""

    def __init__(self, application: QApplication, file: Path, folder: Path) -> None:
        self.application, self.folder = application, folder
        opened = project_file.load(file)
        self.window = Window()
        self.window.setGeometry(0, 0, 1280, 800)
        self.window.show()
        self.window.session.open(opened.project, opened.meshes, file)
        self.wait(lambda: self.window.checking.current, "the check")
        self.settle()

    def wait(self, ready: Callable[[], bool], what: str) -> None:
        """Let the application work until something is so."""
        began = time.monotonic()
        while not ready():
            self.application.processEvents()
            time.sleep(0.005)
            if time.monotonic() - began > _PATIENCE:
                raise BadInput(f"{what} did not end within {_PATIENCE:g} s")

    def settle(self, seconds: float = 0.6) -> None:
        """Let everything be drawn, and smooth as far as that does not take too long."""
        stage, began = self.window.stage, time.monotonic()

        def rests() -> bool:
            gone = time.monotonic() - began
            drawing = stage.waiting or stage.gradual.pending or stage.smooth.busy
            return gone > seconds and (not drawing or gone > _LONGEST_SMOOTHING)

        self.wait(rests, "drawing")

    def picture(self, name: str) -> Path:
        """Save what the screen shows."""
        self.settle()
        target = self.folder / f"{name}.png"
        shot = QGuiApplication.primaryScreen().grabWindow(0, 0, 0, 1280, 800)
        if not shot.save(str(target)):
            raise BadInput(f"“{target}” cannot be written")
        return target

    def pictures(self, stills: int = 2) -> list[Path]:
        """A picture of each main view, and one or two finished ones."""
        window, session = self.window, self.window.session
        made = []
        session.set_time(2.3)
        session.select("run-1")
        made.append(self.picture("main-window"))
        if window.findings.findings:
            self.wait(
                lambda: window.checking.result is not None and window.checking.result.certificate is not None,
                "the certificate",
            )
            window.checking.go_to(window.findings.findings[0])
            made.append(self.picture("finding"))
        window.stage.viewpoint.look_from(_FROM_THE_RIGHT)
        window.stage.views.show_all()
        made += self.cameras()
        window.contents.choose("Checks")
        made.append(self.breaches())
        window.contents.choose("Checks")
        session.select(session.project.shots[0].id)
        dialog = RenderDialog(window, session.project, session.used_meshes(), session.project.shots[0], Path("films"))
        dialog.move(430, 170)
        dialog.open()
        self.wait(lambda: window.checking.current and dialog.tried, "trying a frame")
        made.append(self.picture("render"))
        dialog.done(QDialog.DialogCode.Rejected)
        made += self.filmed(stills)
        session.select(None)
        return [*made, *self.preparing(), *self.paths(), self.sheet(), self.beginning()]

    def cameras(self) -> list[Path]:
        """Pictures of the lens with its guides, cameras side by side, an orbit asked for, and a walk over the floor."""
        window, stage, session = self.window, self.window.stage, self.window.session
        lanes, sizes, made = window.timeline.shown_lanes(), window.panels.right.sizes(), []
        window.timeline.show_lanes(["subject size", "visible", "margin", "nearest"])
        window.panels.right.setSizes([430, 370])
        session.select(session.project.cameras[0].id)
        window.card.fold_all(True)
        window.card.open_section("Frame")
        self.wait(lambda: window.timeline.camera_current, "the camera's curves")
        self.settle(3.0)
        session.set_time(2.4)
        stage.arrangement.swap()
        stage.arrangement.set_guides(FrameGuides(mask=0.6, thirds=True, title=True, centre=True, horizon=True))
        made.append(self.picture("lens"))
        stage.arrangement.set_guides(FrameGuides())
        stage.arrangement.swap()
        window.card.fold_all(True)
        window.card.open_section("Lens")
        session.set_time(3.0)
        stage.arrangement.set_tiles(True)
        made.append(self.picture("cameras"))
        stage.arrangement.set_tiles(False)
        window.timeline.show_lanes(lanes)
        window.panels.right.setSizes(sizes)
        session.set_time(0.0)
        things = [p.id for p in session.project.parts if p.name == "Heat-pump cabinet"]
        if not things:
            return made
        session.select(None)
        window.cameras.walk()
        stage.viewpoint.look_from((0.05, -0.62, 0.78))
        stage.views.look_at(np.array([[-5600.0, -3400.0, 0.0], [3800.0, 2600.0, 500.0]]))
        for place in ((-5200.0, -2100.0, 0.0), (-1300.0, -2450.0, 0.0), (2300.0, -2450.0, 0.0), (2500.0, 1500.0, 0.0)):
            window.cameras.walk_tool.add(np.array(place))
        made.append(self.picture("walk"))
        window.tools.use("select")
        session.select(things[0])
        stage.viewpoint.look_from(_FROM_THE_RIGHT)
        stage.views.show_all()
        dialog = OrbitDialog(
            window,
            session.project,
            session.meshes,
            things,
            np.array(stage.viewpoint.position),
            0.0,
            window.cameras.preview,
        )
        dialog.set_shape(kind="hull", offset=1600.0, rise=600.0, laps=1.5)
        dialog.open()
        made.append(self.picture("orbit"))
        dialog.done(QDialog.DialogCode.Rejected)
        session.preview(None)
        session.select(session.project.cameras[0].id)
        session.select(None)
        return made

    def preparing(self) -> list[Path]:
        """Pictures of getting a product ready."""
        window, stage, session = self.window, self.window.stage, self.window.session
        names = {part.name: part.id for part in reversed(session.project.parts)}
        made = []
        session.set_time(0.0)
        if {"Service trolley", "Wheel", "Fan cassette"} <= names.keys():
            session.select(names["Service trolley"])
            stage.viewpoint.look_from((0.42, -0.72, 0.55))
            stage.views.look_at_selection()
            window.card.fold_all(True)
            window.card.open_section("Place")
            window.tools.use("move")
            made.append(self.picture("preparing"))
            session.select(names["Wheel"])
            stage.viewpoint.look_from((0.9, -0.35, 0.26))
            stage.views.look_at_selection()
            window.tools.use("measure")
            stage.draw()
            self._measure_wheel(names["Wheel"])
            made.append(self.picture("measuring"))
            window.tools.use("select")
        session.select(None)
        stage.viewpoint.look_from(_FROM_THE_RIGHT)
        stage.views.show_all()
        return made

    def paths(self) -> list[Path]:
        """Pictures of drawing an aisle path and judging it, of a run, key poses and a wheel."""
        window, stage, session = self.window, self.window.stage, self.window.session
        names = {part.name: part.id for part in reversed(session.project.parts)}
        named = {path.name: path.id for path in session.project.paths}
        if "Service trolley" not in names or "Aisle" not in named:
            return []
        made, edits_before = [], session.undo.index()
        trolley = names["Service trolley"]
        stage.views.stand("top")
        stage.views.look_at(np.array([[-3400.0, -3600.0, 0.0], [3600.0, 900.0, 0.0]]))
        session.select(None)
        window.tools.use("draw")
        drawing = window.tools.draw_tool
        drawing.set(draws="corners")
        for place in ((-2900.0, -3000.0, 0.0), (-2900.0, -1200.0, 0.0)):
            drawing.add_point(np.array(place))
        stage.draw()
        drawing.hover(stage.position_of(np.array([-900.0, -1200.0, 0.0])), Qt.KeyboardModifier.NoModifier)
        made.append(self.picture("drawing"))
        window.tools.use("select")
        session.undo.setIndex(edits_before)
        lanes = window.timeline.shown_lanes()
        session.edit("Minimum bend radius", lambda p: edits.update(p, trolley, least_radius=600.0))
        window.timeline.show_lanes(["clearance", "bend"])
        window.timeline.set_axis(True)
        session.select(named["Aisle"], None)
        window.card.fold_all(True)
        window.card.open_section("Analysis")
        stage.viewpoint.look_from((-0.42, -0.68, 0.6))
        stage.views.look_at_selection()
        self.wait(lambda: window.checking.current, "the check")
        made.append(self.picture("aisle"))
        session.undo.setIndex(edits_before)
        runs = {run.name: run.id for run in session.project.runs}
        window.timeline.show_lanes(["speed", "sideways"])
        window.timeline.set_axis(False)
        session.select(runs["Trolley comes in"])
        window.card.fold_all(True)
        window.card.open_section("Speed")
        session.set_time(1.7)
        self.wait(lambda: window.checking.current, "the check")
        made.append(self.picture("run"))
        session.select(next(p.id for p in session.project.pose_tracks if p.name == "Hook goes down and up"))
        window.timeline.show_lanes(["orientation", "strength"])
        session.set_time(5.3)
        stage.viewpoint.look_from((-0.45, -0.8, 0.3))
        stage.views.look_at(np.array([[-500.0, -1900.0, 0.0], [1300.0, -700.0, 1900.0]]))
        made.append(self.picture("key-poses"))
        wheel = session.project.wheels[0]
        session.select(wheel.id)
        window.timeline.show_lanes(["wheel", "speed"])
        session.set_time(3.2)
        stage.viewpoint.look_from((0.55, -0.72, 0.4))
        at = session.part_now(wheel.part)[:3, 3]
        session.select(wheel.id)
        stage.views.look_at(np.array([at - np.array([350.0, 350.0, 60.0]), at + np.array([350.0, 350.0, 400.0])]))
        made.append(self.picture("wheel"))
        session.set_time(0.0)
        window.timeline.show_lanes(lanes)
        session.undo.setIndex(edits_before)
        session.undo.setIndex(edits_before)
        session.undo.setClean()
        session.select(None)
        self.wait(lambda: window.checking.current, "the check")
        stage.viewpoint.look_from(_FROM_THE_RIGHT)
        stage.views.show_all()
        return made

    def breaches(self) -> Path:
        """The table of breaches over the stage, the pair as it is and the rest faded, beside the card of the checks."""
        window = self.window
        window.clearing.show_table()
        table = window.clearing.table
        assert table is not None
        table.move(430, 352)
        table.table.setCurrentCell(0, 0)
        window.card.show_checks()
        made = self.picture("checks")
        table.close()
        return made

    def sheet(self) -> Path:
        """A step sheet in its card, a reviewer's comment in the timeline, and what else the project can be handed on as."""
        window, session = self.window, self.window.session
        view = SavedView((2600.0, -3400.0, 2300.0), (0.0, -300.0, 1200.0))
        said = Comment(
            "comment-1", "Very near the riser", "R. Viewer", "Very near the riser: is that enough?", 1.63, view
        )
        session.edit("Comment", lambda p: edits.add(p, said))
        window.handing_on.make_sheet()
        dialog = ExportDialog(window, session.shown, session.used_meshes(), "Review page")
        dialog.move(545, 150)
        dialog.open()
        self.wait(lambda: window.checking.current and dialog.note.text().startswith("About"), "the size of the page")
        made = self.picture("handing-on")
        dialog.done(QDialog.DialogCode.Rejected)
        session.undo.undo()
        session.undo.undo()
        return made

    def beginning(self) -> Path:
        """What an empty project shows."""
        window, session = self.window, self.window.session
        file = session.file
        assert file is not None
        remember_file(file)
        keep_small_picture(file, grab(window.stage.view.GetRenderWindow()))
        session.open(Project(), {}, None)
        self.wait(lambda: window.checking.current, "the check")
        made = self.picture("beginning")
        window.documents.open(file)
        self.wait(lambda: window.checking.current, "the check")
        return made

    def _measure_wheel(self, wheel: str) -> None:
        """Pick a wheel's tread, as a click on it does."""
        stage, project = self.window.stage, self.window.session.project
        low, high = world_bounds(project, wheel, self.window.session.poses()[None])[0]
        middle, radius = 0.5 * (low + high), 0.5 * float(high[2] - low[2])
        view = stage.viewpoint
        # from its rim inwards, wherever the tread or its edge is seen
        for share in (0.99, 0.97, 0.95, 0.92, 0.88):
            for turn in np.radians(range(0, 360, 10)):
                place = middle + share * radius * (np.cos(turn) * view.right + np.sin(turn) * view.up)
                at = stage.position_of(place)
                snap = stage.catch(at)
                if snap is None or snap.feature.kind not in ("cylinder", "circle") or snap.feature.part != wheel:
                    continue
                if snap.feature.radius > 0.98 * radius:
                    self.window.preparing.measure_tool.click(at, Qt.KeyboardModifier.NoModifier)
                    return

    def play(self) -> int:
        """Play the project once, in real time; returns how many pictures the stage drew."""
        window = self.window
        drawn = 0

        def count() -> None:
            nonlocal drawn
            drawn += 1

        window.stage.views.show_all()
        window.session.set_time(0.0)
        window.stage.drawn.connect(count)
        window.player.toggle()
        until = time.monotonic() + span(window.session.project)
        self.wait(lambda: time.monotonic() >= until, "playing")
        window.player.stop()
        window.stage.drawn.disconnect(count)
        return drawn

    def report(self) -> list[Path]:
        """The check report as a page with pictures, as tables, as text and as JSON."""
        window, made = self.window, []
        assert window.checking.result is not None
        for suffix, text in (
            (".txt", as_text(window.session.project, window.checking.result)),
            (
                ".json",
                json.dumps(as_data(window.session.project, window.checking.result), ensure_ascii=False, indent=1),
            ),
        ):
            target = self.folder / f"check{suffix}"
            target.write_text(text, encoding="utf-8")
            made.append(target)
        for suffix in (".html", ".csv"):
            target = self.folder / f"check{suffix}"
            window.clearing.write_report(target)
            self.wait(lambda: window.job is None, "the report")
            made.append(target)
        return made

    def handed_on(self) -> list[Path]:
        """Every kind of export, each as one file."""
        window, made = self.window, []
        window.handing_on.make_sheet()
        for title, name in (
            ("Review page", "review.html"),
            ("Animated glTF", "motion.glb"),
            ("OpenUSD", "scene.usdz"),
            ("Step sheet", "steps.pdf"),
            ("Motion tables", "motion.csv"),
            ("Table of the lanes", "lanes.csv"),
            ("Chart of the lanes", "lanes.svg"),
            ("Project report", "project.html"),
        ):
            target = self.folder / name
            window.handing_on.write(title, target)
            self.wait(lambda: window.job is None, name)
            if not target.exists():
                raise BadInput(f"“{target}” was not made")
            made.append(target)
        window.session.undo.undo()
        return made

    def filmed(self, stills: int) -> list[Path]:
        """The film with its shots, in a cross-fade, large in the lens; and finished pictures of it."""
        window = self.window
        window.filming.show_film()
        view = window.filming.view
        assert view is not None
        self.wait(lambda: view.job is None and bool(view.rows), "the pictures of the film")
        fading = next((k for k, f in enumerate(view.frames) if f.over is not None and f.share > 0.5), 0)
        view.slider.setValue(fading)
        made = self.picture("film")
        view.close()
        orbit = [self.still("still", 0, 4.9)] if stills > 1 else []
        # the tight moment, sharp where it is tight
        leaves, riser = (
            window.session.project.shots[2],
            next(part.id for part in window.session.project.parts if part.name == "Riser pipe"),
        )
        lens = {"f_number": 2.8, "focus": Focus(part=riser)}
        window.session.edit("Depth of field", lambda p: edits.update(p, leaves.camera, **lens))
        shows = OnPicture(clearance=True, labels=(riser,))
        look = {"look": "studio", "background": "#e9ecea", "background_top": "#c9d6d8", "shows": shows}
        tight = self.still("close-up", 2, 1.63, **look)
        window.session.undo.undo()
        return [made, *orbit, tight]

    def still(self, name: str, place: int, time: float, **fields: object) -> Path:
        """A finished picture of a shot at a time in s."""
        window, target = self.window, self.folder / f"{name}.png"
        window.session.set_time(time)
        shot = msgspec.structs.replace(window.session.project.shots[place], quality="finished", samples=16, **fields)
        window.filming.start_still(shot, target)
        self.wait(lambda: window.job is None, name)
        return target

    def film(self) -> list[Path]:
        """Render the film and its contact sheet with the window's own jobs, in the looks of its shots, and a size and rate that two cores
        without a graphics processor manage in minutes."""
        window = self.window
        small = {"width": 640, "height": 360, "fps": 24.0}
        shots = [msgspec.structs.replace(s, **small) for s in window.session.project.shots if s.in_film]
        sheet, film = self.folder / "contact-sheet.png", self.folder / "film.mp4"
        window.filming.start_sheet(shots, sheet)
        self.wait(lambda: window.job is None, "the contact sheet")
        window.filming.start(shots, film)
        told = 0

        def rendered() -> bool:
            nonlocal told
            percent = window.job_bar.progress.value() // 10
            if percent >= told + 10 and window.job is not None:
                told = 10 * (percent // 10)
                print(f"film: {told} %", flush=True)
            return window.job is None

        self.wait(rendered, "rendering")
        for target in (sheet, film):
            if not target.exists():
                box = QApplication.activeModalWidget()
                text = box.text() if isinstance(box, QMessageBox) else ""
                raise BadInput(f"“{target}” was not made. {text}")
        return [sheet, film]


def main(arguments: list[str]) -> int:
    """Run the tour; returns the exit code."""
    file, folder = Path(arguments[0]), Path(arguments[1])
    try:
        folder.mkdir(parents=True, exist_ok=True)
        application = make_application()
        assert isinstance(application, QApplication)
        # the tour must look the same everywhere, and leave nobody's settings changed
        settings = tempfile.TemporaryDirectory()
        QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings.name)
        # a fault in a slot is printed by Qt and forgotten; here it must not pass unseen
        faults: list[BaseException] = []
        shown = sys.excepthook
        sys.excepthook = lambda kind, fault, trace: (faults.append(fault), shown(kind, fault, trace))
        tour = Tour(application, file, folder)
        alone = "--pictures-only" in arguments
        made = tour.pictures(1 if alone else 2)
        if not alone:
            drawn = tour.play()
            made += tour.report()
            made += tour.handed_on()
            made += tour.film()
            seconds = span(tour.window.session.project)
            print(f"played {seconds:g} s of the demo, {drawn / seconds:.0f} pictures a second")
        tour.window.session.undo.setClean()
        tour.window.close()
        if faults:
            raise BadInput(f"the tour met {len(faults)} faults, first: {faults[0]}")
    except (BadInput, OSError) as fault:
        print(f"kestrav: {fault}", file=sys.stderr)
        return 2
    print("written:")
    for target in made:
        print(f"  {target}")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
