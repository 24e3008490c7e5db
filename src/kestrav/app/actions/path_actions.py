"""Paths made of exact shapes and of the model, as the window offers them: contours, sections, pipes, traces."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QComboBox, QMenu

from kestrav.app.actions.part_actions import PartActions
from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.cards.card import Card
from kestrav.app.session import Session
from kestrav.app.stage.part_tools import Ask
from kestrav.app.stage.stage import Stage
from kestrav.app.stage.toolbox import Toolbox
from kestrav.core.clearance.measuring import Snap
from kestrav.core.document.lookup import get
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    Feature,
    HelixShape,
    PathPoint,
    PointShape,
    RectangleShape,
    Shape,
)
from kestrav.core.editing import path_making
from kestrav.core.findings.model import Fix
from kestrav.core.geometry.faces import vector
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts import placing
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show


class PathActions(Actions):
    """What the window does about making paths other than by drawing."""

    def __init__(
        self,
        session: Session,
        prompts: Prompts,
        stage: Stage,
        tools: Toolbox,
        card: Card,
        preparing: PartActions,
        ask_files: Callable[[], object],
    ) -> None:
        super().__init__(session, prompts)
        self.stage, self.tools = stage, tools
        self.card, self.preparing, self._ask_files = card, preparing, ask_files
        self.preparing = preparing
        self._contour: tuple[str, float, float] = ("hull", 300.0, 0.0)
        self._contour_of: list[str] = []
        self.session.previewing.connect(self._on_previewing)
        self.preparing.banner.closed.connect(self._on_banner)
        card.trace_asked.connect(self.ask_trace)

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of paths of an exact shape."""
        menu = QMenu("Path", self.prompts.over)
        for name in ("Line", "Arc", "Circle", "Rectangle", "Helix"):
            menu.addAction(
                action(name, partial(self.add_path, name), tip=f"Add a {name.lower()} whose numbers stay editable")
            )
        menu.addSeparator()
        for text, slot, tip in (
            (
                "Around the selection …",
                self.contour,
                "Make an ellipse, circle, rectangle or outline around parts, in plan",
            ),
            ("Along edges …", lambda: self.tools.use("edges"), "Make a path along picked edges"),
            (
                "Outline of the section",
                self.section_paths,
                "Make a path from the section outline of the selection, or of everything",
            ),
            ("Centre line of a pipe", self.pipe_path, "Make a path along the centre line of the selected pipes"),
            ("Trace of a point …", self.ask_trace, "Make a path from the trace of a point of a moving part"),
        ):
            menu.addAction(action(text, slot, tip=tip))
        menu.addSeparator()
        menu.addAction(action("From files …", self._ask_files, tip="Import curves from DXF, SVG and CSV files"))
        return menu

    def add_path(self, name: str) -> None:
        """Add a path of an exact shape where the view looks, in a size that it shows well, and select it."""
        view = self.stage.viewpoint
        size = float(f"{0.15 * view.distance:.1g}")
        x, y = (float(round(v / 10) * 10) for v in view.focus[:2])
        shapes: dict[str, Shape] = {
            "Line": PointShape((PathPoint((x - size, y, 0.0), "corner"), PathPoint((x + size, y, 0.0), "corner"))),
            "Arc": ArcShape((x, y, 0.0), (x + size, y, 0.0), 90.0),
            "Circle": EllipseShape((x, y, 0.0), size, size),
            "Rectangle": RectangleShape((x, y, 0.0), 2 * size, 1.4 * size, 0.2 * size),
            "Helix": HelixShape((x, y, 0.0), 0.5 * size, 0.4 * size),
        }
        if self.session.edit(f"Add {name.lower()}", lambda p: path_making.add_shape(p, name, shapes[name])):
            self.session.select(self.session.project.paths[-1].id)

    def contour(self) -> None:
        """Go around what is selected: shown while it is chosen how."""
        ids = list(self.session.chosen)
        if not ids:
            self.prompts.complain("select the parts to go around first")
            return
        if self._contour_of != ids:
            low = float(placing.bounds_of(self.session.project, ids)[0, 2])
            self._contour, self._contour_of = ("hull", 300.0, float(round(low))), ids
        self._show_contour(*self._contour)
        self.preparing.strip.show_contour(*self._contour, self._show_contour, self._close_contour)
        self.preparing.place_banner()

    def _show_contour(self, kind: str, offset: float, height: float) -> None:
        self._contour = (kind, offset, height)
        ids, meshes = self._contour_of, self.session.meshes
        self.session.preview(
            Fix(
                "Around the selection",
                lambda p: path_making.add_contour(p, meshes, ids, kind, offset, height),  # type: ignore[arg-type]
            )
        )
        path = self.session.shown.paths[-1] if self.session.fix is not None else None
        if path is not None:
            self.session.describe(
                f"A path of {show(path_curve(path).length, 'mm')}, at least {show(offset, 'mm')} away."
            )

    def _close_contour(self) -> None:
        self.session.preview(None)
        self.preparing.on_tool()

    def _on_previewing(self) -> None:
        """Leave the contour's strip when it was accepted or dropped, and select what came of it."""
        if self.preparing.strip.findChild(QComboBox, "strip-contour") is not None and self.session.fix is None:
            project = self.session.project
            self.preparing.on_tool()
            if project.paths and project.paths[-1].name.startswith("Around"):
                self.session.select(project.paths[-1].id)

    def section_paths(self) -> None:
        """Make paths of where the section plane cuts what is selected, or everything."""
        if self.stage.cut is None:
            self.prompts.complain("cut the view open first (Ctrl+8): the outline is that of the section plane")
            return
        point, normal = self.stage.cut
        project, meshes, poses = self.session.project, self.session.meshes, self.session.poses()
        ids = list(self.session.chosen) or [p.id for p in project.parts if p.parent is None]
        if self.session.edit(
            "Section outline", lambda p: path_making.add_section_paths(p, meshes, ids, point, normal, poses)
        ):
            self.session.select(self.session.project.paths[len(project.paths)].id)

    def pipe_path(self) -> None:
        """Make a path of the centre line of the selected pipe."""
        if ids := self.preparing.chosen():
            meshes = self.session.meshes
            if self.session.edit("Pipe's centre line", lambda p: path_making.add_pipe_path(p, meshes, ids)):
                self.session.select(self.session.project.paths[-1].id)

    # traces

    def ask_trace(self) -> None:
        """Pick a point of a moving part, and show where it goes."""
        if not self.session.project.runs:
            self.prompts.complain("nothing moves yet: move a part along a path first")
            return
        self.preparing.pick_tool.ask([Ask("pick a point of a moving part: a corner, an edge or a centre")], self._trace)
        self.tools.take_up(self.preparing.pick_tool)

    def _trace(self, snaps: list[Snap]) -> None:
        part = snaps[0].feature.part
        assert part is not None
        local = apply(inverse_rigid(self.session.part_now(part)), snaps[0].place[None])[0]
        self.session.trace(Feature("point", part, vector(local)))
        places = self.session.trace_places()
        if places is None or float(np.ptp(places, axis=0).max()) < 1e-3:
            self.session.trace(None)
            self.prompts.complain("that point does not move; pick one on a part that follows a path")
            return
        self.preparing.banner.say(f"Trace of {get(self.session.project, part).name}", "Make path")
        self.preparing.banner.show()
        self.preparing.place_banner()

    def keep_trace(self) -> None:
        """Make a path of the trace that is shown."""
        point = self.session.traced
        if point is None or point.part is None:
            return
        part, origin, times = point.part, point.origin, frame_times(self.session.project)
        if self.session.edit("Trace path", lambda p: path_making.add_trace_path(p, part, origin, times)):
            self.session.trace(None)
            self.session.select(self.session.project.paths[-1].id)

    def _on_banner(self) -> None:
        if self.session.traced is not None:
            self.keep_trace()
            self.preparing.show_isolation()
        else:
            self.session.isolate(None)
