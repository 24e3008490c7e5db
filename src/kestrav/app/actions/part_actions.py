"""Getting a product ready, as the window offers it: views, tools, placing by picks, the menu of a thing."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtGui import QAction, QActionGroup, QGuiApplication
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.cards.card import Card
from kestrav.app.cards.part import (
    PLACEHOLDERS,
    copy_in_a_row,
    group_chosen,
    toggle_see_through,
    toggle_shown,
    ungroup_chosen,
)
from kestrav.app.contents.contents_tree import ContentsTree
from kestrav.app.session import Session
from kestrav.app.stage.overlays import Banner
from kestrav.app.stage.part_tools import (
    Ask,
    HandleSettings,
    MeasureTool,
    MoveTool,
    PickTool,
    TurnTool,
    has_axis,
    has_direction,
    is_plane,
)
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.tool import Tool
from kestrav.app.stage.tool_strip import Strip
from kestrav.app.stage.toolbox import Toolbox
from kestrav.app.widgets import window_colours
from kestrav.core.clearance.drop import drop
from kestrav.core.clearance.measuring import Snap, in_space, keep
from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    Feature,
    Note,
    Part,
    Path,
    PointShape,
    Run,
)
from kestrav.core.editing.mechanism_making import pick_axle
from kestrav.core.errors import BadInput
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.parts import placeholders, placing
from kestrav.core.parts.rest import rest_poses, rows
from kestrav.render.finishes import STYLES
from kestrav.render.viewpoint import STANDS

Array = NDArray[np.float64]


class PartActions(Actions):
    """What the window does about preparing."""

    def __init__(
        self, session: Session, prompts: Prompts, stage: Stage, tools: Toolbox, card: Card, contents: ContentsTree
    ) -> None:
        super().__init__(session, prompts)
        self.stage = stage
        self.tools, self.card, self.contents = tools, card, contents
        self.settings = HandleSettings()
        self.settings.setParent(stage)

        def back() -> None:
            tools.use("select")

        self.move_tool = MoveTool(stage, self.settings, tools.select_tool)
        self.turn_tool = TurnTool(stage, self.settings, tools.select_tool)
        self.pick_tool = PickTool(stage, back)
        self.measure_tool = MeasureTool(stage, back, self._on_measured)
        self.strip = Strip(stage)
        self.strip.refused.connect(prompts.complain)
        self.strip.move(10, 44)
        drawing = tools.draw_tool
        drawing.settings.changed.connect(lambda: self.strip.follow_drawing(drawing))
        self.measure_action = QAction("Measure", prompts.over)  # the window gives its own
        self.banner = Banner(stage)
        self.section: tuple[str, float, bool] | None = None
        card = card
        card.place_asked.connect(self.place_by_picks)
        card.axle_asked.connect(self.pick_axle)
        card.keep_asked.connect(self.keep_measurement)
        card.copy_asked.connect(self.copy_value)
        card.path_marks.changed.connect(lambda: stage.show_path_marks(card.path_marks.shown()))
        stage.show_path_marks(card.path_marks.shown())
        self.session.isolation.connect(self.show_isolation)
        self.session.opened.connect(self._on_opened)

    # tools

    def tool_for(self, key: str) -> Tool | None:
        """The tool of a name, if it is one of these."""
        tools: dict[str, Tool] = {"move": self.move_tool, "turn": self.turn_tool, "measure": self.measure_tool}
        return tools.get(key)

    def on_tool(self) -> None:
        """Another tool is in hand."""
        tool = self.stage.tool
        assert tool is not None
        self.strip.show_for(tool, self.keep_measurement, self.copy_value)
        if not self.strip.isVisible() and self.section is not None:
            self._show_section()
        self.card.show_measuring(self.measure_tool if tool is self.measure_tool else None)
        self.place_banner()

    def _on_opened(self) -> None:
        self.section = None
        self.stage.set_cut(None)
        self.section_action.setChecked(False)
        self.show_isolation()

    # views

    def _colours_menu(self, action: Callable[..., QAction]) -> QMenu:
        """Whether the window is light or dark."""
        menu, group = QMenu("Colours", self.prompts.over), QActionGroup(self.prompts.over)
        for name, text in (("system", "As the system"), ("light", "Light"), ("dark", "Dark")):
            entry = action(text, partial(self._choose_colours, name), tip=f"{text}, from the next start of the program")
            entry.setCheckable(True)
            entry.setChecked(window_colours.choice() == name)
            group.addAction(entry)
            menu.addAction(entry)
        return menu

    def _choose_colours(self, name: str) -> None:
        window_colours.choose(name)
        self.prompts.say("The window takes these colours when it starts the next time.")

    def view_menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of views; ``action`` makes an action with its keys."""
        menu = QMenu(self.prompts.over)
        self.fit_action = action("Everything", self.stage.views.fit_all, "A", tip="Show everything")
        menu.addAction(self.fit_action)
        self.look_action = action("The selection", self.stage.views.look_at_selection, "C", tip="Show the selection")
        menu.addAction(self.look_action)
        menu.addSeparator()
        for number, where in enumerate(STANDS, 1):
            menu.addAction(
                action(
                    where.capitalize(),
                    partial(self.stage.views.stand, where),
                    f"Ctrl+{number}",
                    tip=f"Look from the {where}",
                )
            )
        menu.addSeparator()
        self.parallel_action = action("Parallel", self._toggle_parallel, "O", tip="Parallel or perspective view")
        self.together_action = action(
            "Show plan, front, side and lens", self._toggle_together, "Ctrl+7", tip="Four views"
        )
        self.section_action = action("Section", self._toggle_section, "Ctrl+8", tip="Cut the view open")
        self.edges_action = action("Edges", self._toggle_edges, "Ctrl+9", tip="Show or hide sharp edges")
        for entry, on in (
            (self.parallel_action, False),
            (self.together_action, False),
            (self.section_action, False),
            (self.edges_action, True),
        ):
            entry.setCheckable(True)
            entry.setChecked(on)
            menu.addAction(entry)
        menu.addSeparator()
        styles = QActionGroup(self)
        self.style_actions = {}
        for style in STYLES:
            entry = action(style.capitalize(), partial(self.stage.set_style, style), tip=f"Show the parts {style}")
            entry.setCheckable(True)
            entry.setChecked(style == "solid")
            styles.addAction(entry)
            self.style_actions[style] = entry
            menu.addAction(entry)
        menu.addAction(action("Next style", self._next_style, "Y", tip="Solid, see-through, wire, finished"))
        menu.addMenu(self._colours_menu(action))
        return menu

    def _next_style(self) -> None:
        style = STYLES[(STYLES.index(self.stage.parts_style) + 1) % len(STYLES)]
        self.style_actions[style].setChecked(True)
        self.stage.set_style(style)
        self.prompts.say(f"Style: {style}", 2500)

    def _toggle_parallel(self) -> None:
        parallel = not self.stage.panes["main"].viewpoint.parallel
        self.stage.views.set_parallel(parallel)
        self.parallel_action.setChecked(parallel)

    def _toggle_together(self) -> None:
        self.stage.arrangement.set_together(not self.stage.together)
        self.together_action.setChecked(self.stage.together)

    def _toggle_edges(self) -> None:
        self.stage.set_edges(not self.stage.edges_shown)
        self.edges_action.setChecked(self.stage.edges_shown)

    # the section plane

    def _toggle_section(self) -> None:
        if self.section is not None:
            self.close_section()
            return
        item = self.session.item
        ids = [item.id] if isinstance(item, Part) else [p.id for p in self.session.shown.parts if p.parent is None]
        middle = placing.bounds_of(self.session.shown, ids).mean(axis=0) if ids else np.zeros(3)
        forward = self.stage.viewpoint.forward
        axis = int(np.argmax(np.abs(forward)))
        # the near half is what hides the inside
        self.set_section("xyz"[axis], float(round(middle[axis])), other=bool(forward[axis] > 0))
        self._show_section()

    def set_section(self, axis: str, at: float, *, other: bool) -> None:
        """Cut across an axis at a place in mm, taking the far side of the axis away, or the other."""
        k = "xyz".index(axis)
        point, normal = np.zeros(3), np.zeros(3)
        point[k], normal[k] = at, -1.0 if other else 1.0
        self.section = (axis, at, other)
        self.stage.set_cut((point, normal))
        self.section_action.setChecked(True)

    def _show_section(self) -> None:
        assert self.section is not None
        axis, at, other = self.section
        self.strip.show_cut(
            axis, at, other=other, change=lambda a, b, c: self.set_section(a, b, other=c), close=self.close_section
        )
        self.place_banner()

    def close_section(self) -> None:
        """Show everything again."""
        self.section = None
        self.stage.set_cut(None)
        self.section_action.setChecked(False)
        self.on_tool()

    # showing alone

    def show_isolation(self) -> None:
        """Say when only some parts are shown."""
        only = self.session.isolated
        if only is not None:
            tops = [p for p in self.session.shown.parts if p.id in only and p.parent not in only]
            name = tops[0].name if len(tops) == 1 else f"{len(tops)} parts"
            self.banner.say(f"{name} alone", "Show all")
        self.banner.setVisible(only is not None)
        self.place_banner()

    def place_banner(self) -> None:
        """Put the banner under the tools and their strip."""
        self.banner.adjustSize()
        self.banner.move(10, 44 + (self.strip.height() + 2 if self.strip.isVisible() else 0))
        self.banner.raise_()

    # measuring

    def _on_measured(self) -> None:
        if self.card.measuring is not None:
            self.card.rebuild()

    def keep_measurement(self) -> None:
        """Keep the measurement under way as a note, and select it."""
        tool = self.measure_tool
        if tool.reading is None:
            self.prompts.complain("there is no measurement yet: press E and click what to measure")
            return
        measure, features = tool.used, list(tool.features)
        if self.session.edit("Keep note", lambda project: keep(project, measure, features)):
            tool.clear()
            self.tools.use("select")
            self.session.select(self.session.project.notes[-1].id)

    def copy_value(self) -> None:
        """Put the value of the measurement, or of the selected note, on the clipboard."""
        reading = self.measure_tool.reading
        item = self.session.item
        if isinstance(item, Note) and reading is None:
            reading = self.session.readings(at_rest=True).get(item.id)
        if reading is None:
            self.prompts.complain("there is no measurement to copy")
            return
        text = reading.text.replace("\u2009", " ").replace("−", "-")
        QGuiApplication.clipboard().setText(text)
        self.prompts.say(f"Copied: {text}")

    def note_values(self) -> list[tuple[str, float, str]]:
        """Names, values and units of the kept notes."""
        known = self.session.readings(at_rest=True)
        return [(n.name, r.value, r.unit) for n in self.session.shown.notes if (r := known.get(n.id)) is not None]

    # placing by picks

    def _ask(self, asks: list[Ask], done: Callable[[list[Snap]], object], least: int | None = None) -> None:
        if not self.session.chosen:
            self.prompts.complain("select a part first")
            return
        self.pick_tool.ask(asks, done, least)
        self.tools.take_up(self.pick_tool)

    def place_by_picks(self, what: str) -> None:
        """Pick what an alignment, a pivot or a front goes by, and do it."""
        flat = "that is not a flat face; pick one, or press Tab for what else is under the pointer"
        axis = "that has no axis; pick a round edge, a cylinder or a straight edge"
        if what == "face":
            self._ask(
                [
                    Ask("pick a flat face of the part to place", ("face",), is_plane, flat, True),
                    Ask("pick the flat face to lay it on", ("face",), is_plane, flat, False),
                ],
                self._face_on_face,
            )
        elif what == "axis":
            kinds = ("centre", "edge", "face")
            self._ask(
                [
                    Ask("pick a round edge or cylinder of the part to place", kinds, has_axis, axis, True),
                    Ask("pick the round edge or cylinder to centre it on", kinds, has_axis, axis, False),
                ],
                self._axis_on_axis,
            )
        elif what == "points":
            asks = []
            for number in ("first", "second", "third"):
                asks.append(Ask(f"pick the {number} point of the part to place", of_selection=True))
                asks.append(Ask(f"pick where the {number} point is to lie", of_selection=False))
            self._ask(asks, self._points_on_points, 2)
        elif what == "reference":
            self.pick_tool.ask([Ask("pick the point of the rider to lie on the path")], self._seat_there, None)
            self.tools.take_up(self.pick_tool)
        elif what == "pivot":
            self._ask([Ask("pick the place of the pivot: a corner, edge, round edge or cylinder")], self._pivot_there)
        else:
            name = "front" if what == "front" else "upside"
            text = f"pick a flat face, round edge, cylinder or straight edge that the {name} points along"
            self._ask(
                [Ask(text, ("centre", "edge", "face"), has_direction, "that has no direction; pick a face or an edge")],
                partial(self._direct, what),
            )

    def pick_axle(self, target: str) -> None:
        """Pick what a wheel, rotation, rod or one end of a gear (``id/a``) turns about."""
        axis = "that has no axis; pick a round edge, a cylinder or a straight edge"
        asks = [
            Ask(
                "pick a round edge, cylinder or straight edge to turn about", ("centre", "edge", "face"), has_axis, axis
            )
        ]
        self.pick_tool.ask(asks, partial(self._axle_there, target), None)
        self.tools.take_up(self.pick_tool)

    def _axle_there(self, target: str, snaps: list[Snap]) -> None:
        feature, meshes = snaps[0].feature, self.session.meshes
        self.session.edit("Pick axle", lambda p: pick_axle(p, meshes, target, feature))

    def _at_rest(self, feature: Feature) -> Feature:
        """A picked feature in space with no run under way, where edits of placements act."""
        return in_space(self.session.project, rest_poses(self.session.project), feature)

    def _moved(self, label: str, matrix: Array) -> None:
        ids = list(self.session.chosen)
        self.session.edit(label, lambda project: placing.transform(project, ids, matrix))

    def _face_on_face(self, snaps: list[Snap]) -> None:
        a, b = (self._at_rest(s.feature) for s in snaps)
        assert a.axis is not None and b.axis is not None
        self._moved("Face on face", placing.face_onto(a.origin, a.axis, b.origin, b.axis))

    def _axis_on_axis(self, snaps: list[Snap]) -> None:
        a, b = (self._at_rest(s.feature) for s in snaps)
        assert a.axis is not None and b.axis is not None
        self._moved("Axis on axis", placing.axis_onto(a.origin, a.axis, b.origin, b.axis))

    def _points_on_points(self, snaps: list[Snap]) -> None:
        places = [self._rest_place(s) for s in snaps[: len(snaps) // 2 * 2]]
        try:
            matrix = placing.points_onto(places[0::2], places[1::2])
        except BadInput as fault:
            self.session.refused.emit(str(fault))
            return
        self._moved("Points on points", matrix)

    def _rest_place(self, snap: Snap) -> Array:
        """A caught place as it is with no run under way."""
        project = self.session.project
        if snap.feature.part is None:
            return snap.place
        row = [p.id for p in project.parts].index(snap.feature.part)
        back = rest_poses(project)[row] @ inverse_rigid(self.session.poses()[row])
        rest_place: Array = back[:3, :3] @ snap.place + back[:3, 3]
        return rest_place

    def _pivot_there(self, snaps: list[Snap]) -> None:
        part, place = self.session.chosen[-1], self._rest_place(snaps[0])
        self.session.edit("Move pivot", lambda project: placing.pivot_at(project, part, place))

    def _seat_there(self, snaps: list[Snap]) -> None:
        """The picked point, in the rider's own coordinates, is what sits on the path of the selected run."""
        run = self.session.item
        if not isinstance(run, Run):
            return
        row = rows(self.session.project)[run.rider]
        back = inverse_rigid(self.session.poses()[row])
        place = vector(np.round(back[:3, :3] @ snaps[0].place + back[:3, 3], 6))
        self.session.edit("Point on path", lambda p: edits.update(p, run.id, reference="point", reference_point=place))

    def _direct(self, what: str, snaps: list[Snap]) -> None:
        feature = self._at_rest(snaps[0].feature)
        part, direction = self.session.chosen[-1], np.array(feature.axis)
        # an axis has no sense of its own: the one nearer to where the part points now is meant
        _, front, up = placing.front_of(self.session.project, part)
        if feature.kind != "plane" and float(direction @ (front if what == "front" else up)) < 0:
            direction = -direction
        label = "Set front" if what == "front" else "Set up direction"
        field = "front" if what == "front" else "up"
        self.session.edit(label, lambda project: placing.set_front(project, part, **{field: direction}))

    # one thing's menu

    def actions(self, action: Callable[..., QAction]) -> None:
        """Make the actions on what is chosen, with their keys."""
        tree_keys = (self.contents.tree, self.stage)
        self.rename_action = action("Rename", self.contents.rename, "F2", tip="Rename the selection in the contents")
        self.menu_actions = [
            action("Group", self.group, "Ctrl+G", tip="Group the selection in an assembly"),
            action("Ungroup", self.ungroup, "Ctrl+Shift+G", tip="Dissolve the assembly; the parts stay in place"),
            None,
            action("Hide or show", self.toggle_shown, "H", tip="Hidden parts are neither drawn nor checked"),
            action(
                "Isolate", self.toggle_isolated, "I", tip="Show only the selection in the stage, or everything again"
            ),
            action("Lock or unlock", self.toggle_locked, "J", tip="Locked parts are not selectable in the stage"),
            action("See through or solid", self.toggle_see_through, "G"),
            None,
            self.section_action,
            self.measure_action,
            None,
            action("Drop to surface", self.let_down, "B", tip="Lower the selection onto the surface below"),
            action("Copy", self.copy_once, "Ctrl+D", tip="Copy the selection, one step on"),
        ]
        action("Find", self.contents.take_keys, "Ctrl+F", tip="Find by name in the contents")
        action("Keep note", self.keep_measurement, "Ctrl+K")
        action("Copy value", self.copy_value, "Ctrl+C", where=tree_keys)
        action("Select all", self.choose_all, "Ctrl+A", where=tree_keys)

    def placeholder_menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of simple solids for what is missing."""
        menu = QMenu("Placeholder", self.prompts.over)
        for form, name in PLACEHOLDERS.items():
            menu.addAction(
                action(name, partial(self.add_placeholder, form), tip=f"Add a {name.lower()} for what is missing")
            )
        return menu

    def add_placeholder(self, form: type) -> None:
        """Put a placeholder on the floor where the view looks, and select it."""
        focus = self.stage.viewpoint.focus
        at = (float(round(focus[0] / 10) * 10), float(round(focus[1] / 10) * 10), 0.0)
        solid = form()
        shape = placeholders.form_mesh(solid)
        if self.session.edit(
            "Add placeholder", lambda p: placeholders.add_form(p, solid, at)[0], meshes={shape.hash: shape}
        ):
            if len(self.session.project.parts) == 1:
                self.stage.views.fit_all()
            self.session.select(self.session.project.parts[-1].id)

    def chosen(self) -> list[str]:
        """Ids of what is chosen; when nothing is, that is said."""
        ids = list(self.session.chosen)
        if not ids:
            self.prompts.complain("select a part first")
        return ids

    def group(self) -> None:
        """Gather what is chosen in an assembly."""
        if ids := self.chosen():
            group_chosen(self.session, ids)

    def ungroup(self) -> None:
        """Dissolve the selected assembly."""
        if self.chosen():
            ungroup_chosen(self.session)

    def toggle_shown(self) -> None:
        """Hide what is chosen, or show it."""
        if ids := self.chosen():
            toggle_shown(self.session, ids)

    def toggle_isolated(self) -> None:
        """Show what is chosen alone, or all again."""
        if self.session.isolated is not None:
            self.session.isolate(None)
        elif ids := self.chosen():
            self.session.isolate(ids)

    def toggle_locked(self) -> None:
        """Lock what is chosen against picking, or open it."""
        if ids := self.chosen():
            lock = not all(isinstance(p := get(self.session.project, i), Part) and p.locked for i in ids)
            self.session.edit("Lock", lambda p: edits.update_parts(p, {i: {"locked": lock} for i in ids}))

    def toggle_see_through(self) -> None:
        """Make what is chosen see-through, or solid."""
        if ids := self.chosen():
            toggle_see_through(self.session, ids)

    def let_down(self) -> None:
        """Let what is chosen down onto what lies below."""
        if ids := self.chosen():
            meshes = self.session.meshes
            self.session.edit("Drop to surface", lambda p: drop(p, meshes, ids))

    def copy_once(self) -> None:
        """Copy what is chosen, a step on."""
        if ids := self.chosen():
            copy_in_a_row(self.session, ids, self.card.copying, 2)

    def choose_all(self) -> None:
        """Choose everything at the level of the selection; of a path all its points."""
        item = self.session.item
        if isinstance(item, Path) and isinstance(item.shape, PointShape):
            self.session.select_points(range(len(item.shape.points)))
            return
        parent = item.parent if isinstance(item, Part) else None
        self.session.select_parts(p.id for p in self.session.shown.parts if p.parent == parent)
