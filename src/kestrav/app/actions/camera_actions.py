"""What the window does about cameras: making them, fitting them, guides over the lens, film strips."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Literal

import msgspec
import numpy as np
from PySide6.QtCore import QPoint
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.part_actions import PartActions
from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.cards.card import Card
from kestrav.app.dialogs.asking import PreviewedDialog, ask_request
from kestrav.app.dialogs.camera_dialogs import FollowDialog, OrbitDialog
from kestrav.app.dialogs.questions import answered, ask_choice
from kestrav.app.film.film_strip import FilmStrip
from kestrav.app.session import Session
from kestrav.app.stage.part_tools import Ask
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.toolbox import Toolbox
from kestrav.app.stage.walk_tool import WalkTool
from kestrav.core.camera import adjusting, making, orbits, walking
from kestrav.core.camera.views import views
from kestrav.core.clearance.measuring import Snap
from kestrav.core.document.edits import update
from kestrav.core.document.lookup import get, get_as, subtree
from kestrav.core.document.records import (
    AlongAim,
    Camera,
    OrbitShape,
    Part,
    PartAim,
    Path,
    PointAim,
    Project,
    Run,
    Shot,
)
from kestrav.core.document.requests import (
    AlongPathRequest,
    ArcRequest,
    FollowRequest,
    GridRequest,
    LookAroundRequest,
    TurntableRequest,
)
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Fix
from kestrav.core.geometry.faces import vector
from kestrav.core.kinematics.motion_segments import courses_of, movers
from kestrav.core.kinematics.runs import course_of
from kestrav.core.units import show


class CameraActions(Actions):
    """What the window does about cameras."""

    def __init__(
        self,
        session: Session,
        prompts: Prompts,
        stage: Stage,
        tools: Toolbox,
        card: Card,
        preparing: PartActions,
        show_film: Callable[[], object],
    ) -> None:
        super().__init__(session, prompts)
        self.stage, self.tools = stage, tools
        self.card, self.preparing, self._show_film = card, preparing, show_film
        self.walk_tool = WalkTool(stage, lambda: tools.use("select"))
        self.strip: FilmStrip | None = None

    def listen(self) -> None:
        """Listen to the card and the lens."""
        card = self.card
        card.film_strip_asked.connect(self.show_strip)
        card.orbit_view_asked.connect(self.begin_at_view)
        card.orbit_asked.connect(self.orbit)
        self.stage.arrangement.lens_head.guides_asked.connect(self.ask_guides)

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of cameras."""
        menu = QMenu("Camera", self.prompts.over)
        for text, slot, keys, tip in (
            ("From here", self.from_here, "Shift+C", "Add a camera with the present view of the stage"),
            (
                "At a point …",
                self.at_a_point,
                "",
                "Pick the camera's place, at eye height, and its aim",
            ),
            ("Orbit …", self.orbit, "Shift+O", "Add a camera that orbits the selection"),
            ("Turntable …", self.turntable, "", "Rotate the selection in front of a camera at the present viewpoint"),
            (
                "Arc …",
                self.arc,
                "",
                "Add a camera that moves on an arc about the selection, from the present viewpoint",
            ),
            (
                "Follow …",
                self.follow,
                "Shift+U",
                "Add a camera behind, ahead of, beside or above a moving part, or beside its path",
            ),
            ("Attach to selection", self.attach, "", "Attach a camera to the selection, from the present viewpoint"),
            ("Along the path …", self.along, "", "Add a camera that moves along the selected path"),
            ("Walkthrough", self.walk, "Shift+G", "Add a walkthrough over waypoints clicked on the floor"),
            ("Look around …", self.look_around, "", "Add a camera that pans all around from the present viewpoint"),
        ):
            menu.addAction(action(text, slot, *([keys] if keys else []), tip=tip))
        menu.addSeparator()
        for text, slot, keys, tip in (
            (
                "Fit subject by distance",
                partial(self.fit, "distance"),
                "F",
                "Fit the whole subject into the frame by moving the camera",
            ),
            (
                "Fit subject by lens",
                partial(self.fit, "lens"),
                "",
                "Fit the whole subject into the frame by focal length",
            ),
            ("Match the stage's view", self.take_view, "", "Give the lens's camera the present view of the stage"),
            (
                "Stop and look …",
                self.stop_and_look,
                "",
                "Stop the walkthrough at the playhead and look at the selection",
            ),
            ("Open a door", self.open_door, "", "Open the selected door as the walkthrough nears it"),
            ("Replan the walkthrough", self.replan, "", "Route the walkthrough around the parts as they stand now"),
        ):
            menu.addAction(action(text, slot, *([keys] if keys else []), tip=tip))
        menu.addSeparator()
        menu.addAction(
            action(
                "Cameras side by side", self.toggle_tiles, "Shift+L", tip="Show all cameras side by side, or the stage"
            )
        )
        menu.addAction(
            action("Film strip", self.show_strip, "Shift+V", tip="Show small pictures of the shot at a frame interval")
        )
        menu.addAction(
            action(
                "Whole film",
                self._show_film,
                "Shift+I",
                tip="Play and render all shots in order",
            )
        )
        self.guides_menu = self._guides_menu(action)
        menu.addMenu(self.guides_menu)
        return menu

    # making

    def _viewpoint(self) -> tuple[np.ndarray, np.ndarray]:
        view = self.stage.panes["main"].viewpoint
        return np.array(view.position, float), np.array(view.focus, float)

    def _chosen(self, what: str) -> list[str]:
        """The selected parts; tells what to select when there are none."""
        item = self.session.item
        chosen = [i for i in self.session.chosen if isinstance(get(self.session.project, i), Part)]
        if not chosen and isinstance(item, Run) and any(p.id == item.rider for p in self.session.project.parts):
            chosen = [item.rider]
        if not chosen:
            self.prompts.complain(f"select {what} first")
        return chosen

    def _make(self, label: str, change: Callable[[Project], Project]) -> None:
        """Make a camera, and look through it."""
        before = {c.id for c in self.session.project.cameras}
        if self.session.edit(label, change):
            fresh = [c.id for c in self.session.project.cameras if c.id not in before]
            if fresh:
                self.session.select(fresh[-1])

    def preview(self, fix: Fix | None) -> None:
        """Show what would be made, through the new camera."""
        session = self.session
        known = {c.id for c in session.project.cameras}
        session.preview(fix)
        fresh = [c.id for c in session.shown.cameras if c.id not in known]
        if fresh:
            session.camera_id = fresh[-1]
            self.stage.schedule()

    def from_here(self) -> None:
        """A camera that sees what the stage shows."""
        place, focus = self._viewpoint()
        view = self.stage.panes["main"].viewpoint
        chosen = [i for i in self.session.chosen if isinstance(get(self.session.project, i), Part)]
        shot = self.session.shot
        aspect = shot.width / shot.height if shot else 16 / 9
        high = min(24.0, 36.0 / aspect)
        focal = round(0.5 * high / float(np.tan(view.angle / 2.0)), 1)
        fields: dict[str, object] = {"focal_length": focal}
        if view.parallel:
            fields |= {"parallel": True, "view_height": round(2.0 * view.distance * float(np.tan(view.angle / 2.0)), 1)}

        def make(project: Project) -> Project:
            target: np.ndarray | str = focus
            edited = making.add_standing(project, place, target, **fields)
            camera = edited.cameras[-1]
            # what is selected is what its picture is of
            return update(edited, camera.id, subject=chosen[0]) if chosen else edited

        self._make("Camera from here", make)

    def ask(self, dialog: PreviewedDialog, label: str) -> bool:
        """Ask, and make what was told; whether it was accepted."""
        looked = self.session.camera_id
        accepted = answered(dialog)
        self.session.camera_id = looked
        self.session.preview(None)
        if accepted:
            self._make(label, dialog.make)
        return accepted

    def at_a_point(self) -> None:
        """Pick where a camera stands, and what it looks at."""
        pick = self.preparing.pick_tool
        pick.ask(
            [Ask("pick the camera's place: its eyes are 1.6 m above that point"), Ask("pick the camera's aim")],
            self._stand_there,
            None,
        )
        self.tools.take_up(pick)

    def _stand_there(self, snaps: list[Snap]) -> None:
        place = snaps[0].place + np.array([0.0, 0.0, walking.EYE_HEIGHT])
        self._make("Camera at a point", lambda p: making.add_standing(p, place, snaps[1].place))

    def orbit(self) -> None:
        """Ask how, and orbit what is selected."""
        things = self._chosen("the subject of the orbit")
        if not things:
            return
        session = self.session
        try:
            dialog = OrbitDialog(
                self.prompts.over, session.project, session.meshes, things, self._viewpoint()[0], 0.0, self.preview
            )
        except BadInput as fault:
            self.prompts.complain(str(fault))
            return
        self.ask(dialog, "Orbit")

    def turntable(self) -> None:
        """Ask how long, and turn what is selected."""
        things = self._chosen("the part to rotate")
        if not things:
            return
        request = ask_request(
            self.prompts.over,
            "Turntable",
            TurntableRequest(),
            text=f"{get(self.session.project, things[-1]).name} rotates in front of a camera at the present viewpoint",
            remember="turns duration",
        )
        if request is not None:
            place, turns, seconds = np.round(self._viewpoint()[0]), request.turns, request.duration
            self._make(
                "Turntable",
                lambda p: orbits.add_turntable(p, things[-1], place, seconds, 0.0, abs(turns), clockwise=turns < 0),
            )

    def arc(self) -> None:
        """Ask how far, and go on an arc about what is selected."""
        things = self._chosen("the subject of the arc")
        if not things:
            return
        request = ask_request(
            self.prompts.over,
            "Arc",
            ArcRequest(begin=self.session.time),
            text=f"From the present viewpoint about {get(self.session.project, things[-1]).name}; the distance stays",
            remember="sweep duration",
        )
        if request is not None:
            place = self._viewpoint()[0]
            self._make(
                "Arc",
                lambda p: making.add_arc(p, things[-1], place, request.sweep, request.duration, request.begin),
            )

    def follow(self) -> None:
        """Ask how, and follow what is selected."""
        things = self._chosen("the moving part to follow")
        if not things:
            return
        project, thing = self.session.project, things[-1]
        if thing not in movers(project):
            self.prompts.complain(
                f"“{get(project, thing).name}” does not move by itself; choose a moving part to follow"
            )
            return
        runs = [(course.run.id, course.run.name) for course in courses_of(project, thing)]
        item = self.session.item
        dialog = FollowDialog(
            self.prompts.over,
            project,
            thing,
            runs,
            partial(_follow, thing=thing),
            lambda request: _summary_of_following(project, request),
            self.preview,
            item.id if isinstance(item, Run) else "",
        )
        self.ask(dialog, "Follow")

    def attach(self) -> None:
        """A camera that is attached to what is selected."""
        things = self._chosen("the part to attach the camera to")
        if things:
            place, focus = self._viewpoint()
            time = self.session.time
            aim = PointAim(tuple(float(v) for v in np.round(focus, 1)))  # type: ignore[arg-type]
            inside = subtree(self.session.project, things[-1])
            hit = self.stage.pick(self.stage.rect().center())
            looks = PartAim(things[-1]) if hit is not None and hit.part in inside else aim
            self._make("Attach to selection", lambda p: making.add_riding(p, things[-1], place, looks, time))

    def along(self) -> None:
        """Ask how long, and go along the selected path."""
        path = self.session.path
        if path is None:
            self.prompts.complain("select the camera's path first")
            return
        request = ask_request(
            self.prompts.over,
            "Along the path",
            AlongPathRequest(),
            text=f"A camera moves along “{path.name}”, looking ahead",
            remember="duration ahead",
        )
        if request is not None:
            aim = AlongAim(request.ahead)
            self._make(
                "Camera along path",
                lambda p: making.add_on_path(p, path.id, aim, request.duration, request.begin),
            )

    def walk(self) -> None:
        """Take up the walk tool."""
        self.tools.take_up(self.walk_tool)

    def look_around(self) -> None:
        """Ask how, and look around from where the view stands."""
        place = np.round(self._viewpoint()[1])
        place[2] = max(place[2], walking.EYE_HEIGHT)
        request = ask_request(
            self.prompts.over,
            "Look around",
            LookAroundRequest(vector(place)),
            text="Pan all around from a place, or outwards from a circle about it",
        )
        if request is not None:
            self._make(
                "Look around", lambda p: making.add_look_around(p, request.place, request.radius, request.duration)
            )

    # changing

    def _camera(self) -> Camera | None:
        camera = self.session.camera
        if camera is None:
            self.prompts.complain("there is no camera yet; add one from the Camera menu")
        return camera

    def fit(self, by: Literal["distance", "lens"]) -> None:
        """Fit the lens's subject."""
        camera, shot = self._camera(), self.session.shot
        if camera is not None:
            aspect = shot.width / shot.height if shot else 16 / 9
            time, meshes, margin = self.session.time, self.session.meshes, self.card.fit_margin
            self.session.edit("Fit subject", lambda p: adjusting.fitted(p, meshes, camera.id, time, aspect, by, margin))

    def take_view(self) -> None:
        """Let the lens's camera stand and look as the stage does."""
        camera = self._camera()
        if camera is None:
            return
        place, focus = self._viewpoint()
        meshes, time = self.session.meshes, self.session.time

        def change(project: Project) -> Project:
            seen = views(project, meshes, camera, [time])
            project = adjusting.moved(project, camera.id, time, place - seen.position[0])
            if isinstance(camera.aim, PartAim):
                return project
            return update(project, camera.id, aim=PointAim(vector(np.round(focus, 1))))

        self.session.edit("Match the stage's view", change)

    def begin_at_view(self, path_id: str) -> None:
        """Let an orbit begin where the view stands."""
        place = self._viewpoint()[0]

        def change(project: Project) -> Project:
            path = get(project, path_id)
            assert isinstance(path, Path) and isinstance(path.shape, OrbitShape)
            return update(project, path_id, shape=orbits.beginning_at(path.shape, place))

        self.session.edit("Start at the view", change)

    def _walk_run(self) -> Run | None:
        """The run of the selected walk, or of the lens's camera."""
        project, item = self.session.project, self.session.item
        walkers = {c.id for c in project.cameras if c.walk is not None}
        if isinstance(item, Run) and item.rider in walkers:
            return item
        camera = self.session.camera
        for wanted in ([camera.id] if camera is not None else [], walkers):
            for run in project.runs:
                if run.rider in wanted and run.rider in walkers:
                    return run
        self.prompts.complain("there is no walkthrough yet; add one with Camera > Walkthrough")
        return None

    def stop_and_look(self) -> None:
        """Let the walk stop at the playhead and look at the selection."""
        run = self._walk_run()
        if run is None:
            return
        project = self.session.project
        things = [
            (p.id, p.name)
            for p in project.parts
            if p.geometry is None or p.parent is None or p.id in self.session.chosen
        ]
        things.sort(key=lambda pair: pair[0] not in self.session.chosen)
        thing = ask_choice(
            self.prompts.over, "Stop and look", f"“{run.name}” stops here for three seconds and looks at", things
        )
        if thing is not None:
            course = course_of(project, run)
            share = float(course.stations([self.session.time])[0]) / course.path.length
            self.session.edit("Stop and look", lambda p: walking.with_stop(p, run.id, share, 3.0, PartAim(thing)))

    def open_door(self) -> None:
        """Let the selected door open as the walk nears it."""
        doors = self._chosen("the door to open")
        run = self._walk_run() if doors else None
        if run is not None:
            meshes = self.session.meshes
            if self.session.edit("Open door", lambda p: walking.open_door(p, meshes, run.id, doors[-1])):
                self.session.select(self.session.project.rotations[-1].id)

    def replan(self) -> None:
        """Plan the walk anew around what stands there."""
        run = self._walk_run()
        if run is not None:
            meshes = self.session.meshes
            self.session.edit("Replan walkthrough", lambda p: walking.replanned(p, meshes, run.id))

    # showing

    def toggle_tiles(self) -> None:
        """Show all cameras side by side, or the stage."""
        if not self.session.shown.cameras:
            self.prompts.complain("there is no camera yet; add one from the Camera menu")
            return
        self.stage.arrangement.set_tiles(self.stage.tiles is None)

    def show_strip(self, shot: Shot | None = None) -> None:
        """Show a shot's film strip."""
        shot = shot or self.session.shot
        if shot is None:
            self.prompts.complain("there is no shot yet; add one to a camera")
            return
        if self.strip is None:
            self.strip = FilmStrip(self.prompts.over)
            self.strip.went.connect(self.session.set_time)
        self.strip.show()
        self.strip.raise_()
        self.strip.show_shot(self.session.shown, self.session.used_meshes(), shot)

    # guides

    def _guides_menu(self, action: Callable[..., QAction]) -> QMenu:
        menu = QMenu("Frame guides", self.prompts.over)
        self._guide_actions: dict[str, QAction] = {}
        for name, text in (
            ("thirds", "Thirds"),
            ("cross", "Cross"),
            ("centre", "Centre"),
            ("action", "Action safe, 93 %"),
            ("title", "Title safe, 90 %"),
            ("horizon", "Horizon"),
        ):
            entry = action(text, partial(self._toggle_guide, name), tip=f"Show or hide over the lens: {text.lower()}")
            entry.setCheckable(True)
            entry.setChecked(bool(getattr(self.stage.guides, name)))
            self._guide_actions[name] = entry
            menu.addAction(entry)
        menu.addSeparator()
        menu.addAction(
            action("Grid and mask …", self.ask_grid, tip="Set the grid's columns and rows and the strength of the mask")
        )
        opener = action("Guides", self.ask_guides, "Shift+F", tip="Guides over the lens")
        self.prompts.over.addAction(opener)
        return menu

    def _toggle_guide(self, name: str) -> None:
        shown = not getattr(self.stage.guides, name)
        self.stage.arrangement.set_guides(msgspec.structs.replace(self.stage.guides, **{name: shown}))  # type: ignore[arg-type]
        self._guide_actions[name].setChecked(shown)

    def ask_guides(self) -> None:
        """Open the menu of guides at the lens."""
        head = self.stage.arrangement.lens_head
        at = head.mapToGlobal(QPoint(0, head.height())) if head.isVisible() else self.stage.mapToGlobal(QPoint(20, 60))
        self.guides_menu.popup(at)

    def ask_grid(self) -> None:
        """Ask for the grid and the mask."""
        guides = self.stage.guides
        request = ask_request(
            self.prompts.over,
            "Grid and mask",
            GridRequest(*guides.grid, guides.mask),
            text="Lines and mask over the lens",
        )
        if request is not None:
            self.stage.arrangement.set_guides(
                msgspec.structs.replace(guides, grid=(request.columns, request.rows), mask=request.mask)
            )

    def stop(self) -> None:
        """End what goes on beside the window."""
        if self.strip is not None:
            self.strip.stop()


def _follow(project: Project, request: FollowRequest, thing: str) -> Project:
    """The project with a camera that follows a thing as asked for."""
    distance, height = request.distance, request.height
    if request.mode == "ride":
        return making.add_follower(project, thing, request.side, distance, height, request.lag)
    if request.mode == "path":
        return making.add_follower_on_path(project, request.run, distance, height, request.left)
    return making.add_passing(project, request.run, request.place, abs(distance), height, left=distance >= 0)


def _summary_of_following(project: Project, request: FollowRequest) -> list[str]:
    """Worked lines of how a camera follows."""
    if request.mode == "ride":
        return [f"{show(request.distance, 'mm', 0)} from its middle, looking at it"]
    run = get_as(project, request.run, Run)
    course = course_of(project, run)
    if request.mode == "path":
        before = course.first if not run.backwards else course.path.length - course.last
        side = "behind" if request.distance >= 0 else "ahead"
        lines = [f"{show(abs(request.distance), 'mm', 0)} {side} along the path"]
        if request.distance > before + 1:
            lines.append(
                f"the path has {show(before, 'mm', 0)} before its beginning: there the camera waits until it is so far behind"
            )
        return lines
    place = course.first + request.place * course.length
    return [f"beside the path at {show(place, 'mm', 0)} of {show(course.path.length, 'mm', 0)}"]
