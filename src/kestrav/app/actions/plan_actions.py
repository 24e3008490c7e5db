"""Starting points made of the person's own product: which there are, and how each begins."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtCore import QSettings
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.camera_actions import CameraActions
from kestrav.app.actions.extraction_actions import ExtractionActions
from kestrav.app.actions.import_actions import ImportActions
from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.camera_dialogs import Values
from kestrav.app.dialogs.plan_dialog import Choice, PlanDialog
from kestrav.app.dialogs.questions import tell
from kestrav.app.session import Session
from kestrav.app.stage.stage import Stage
from kestrav.core.camera import plans
from kestrav.core.document.lookup import get, topmost
from kestrav.core.document.records import Part, Project
from kestrav.core.editing.wheel_making import axle_of
from kestrav.core.errors import BadInput
from kestrav.core.units import show


@dataclass(frozen=True)
class Plan:
    """A starting point: its name, one sentence, and what begins it."""

    name: str
    sentence: str
    begin: Callable[[], object]


class PlanActions(Actions):
    """What the window does about starting points."""

    def __init__(
        self,
        session: Session,
        prompts: Prompts,
        stage: Stage,
        bringing: ImportActions,
        cameras: CameraActions,
        extracting: ExtractionActions,
    ) -> None:
        super().__init__(session, prompts)
        self.stage = stage
        self.bringing, self.cameras, self.extracting = bringing, cameras, extracting
        self.plans = (
            Plan("Turntable", "The product rotates before a camera, as a film that loops.", self.turntable),
            Plan("Look around a product", "A camera orbits the product at a steady distance.", self.orbit),
            Plan("Walk through a room", "A camera walks over waypoints you click on the floor.", self.walk),
            Plan("Take apart", "The order in which all parts come out, and their runs.", self.take_apart),
            Plan("Drive past", "The product passes a standing camera.", self.drive_past),
            Plan("Wheel demonstrator", "A wheel rolls whole turns; the path follows from them.", self.wheel),
        )

    def menu(self, action: Callable[..., QAction]) -> QMenu:
        """The menu of starting points."""
        menu = QMenu("Begin from a plan", self.prompts.over)
        for plan in self.plans:
            menu.addAction(action(f"{plan.name} …", lambda chosen=plan: self.begin(chosen), tip=plan.sentence))
        return menu

    def begin(self, plan: Plan) -> None:
        """Begin a starting point; without a product one is asked for first."""
        if self.session.project.parts:
            plan.begin()
        else:
            self.bringing.ask(then=plan.begin)

    def _things(self) -> list[str]:
        """What is selected, or the whole product."""
        project = self.session.project
        chosen = [i for i in self.session.chosen if isinstance(get(project, i), Part)]
        return topmost(project, chosen or [p.id for p in project.parts if p.parent is None])

    def turntable(self) -> None:
        """Ask how, and make a turntable."""
        things, meshes = self._things(), self.session.meshes

        def make(project: Project, values: Values) -> Project:
            return plans.turntable(project, meshes, things, values["seconds"], values["turns"])

        def told(values: Values) -> list[str]:
            rate = values["turns"] / max(values["seconds"], 1e-9)
            return [
                f"{values['turns']:g} turns ÷ {show(values['seconds'], 's')} = <b>{show(60 * rate, 'rpm')}</b>",
                "the shot loops" if abs(values["turns"] - round(values["turns"])) < 1e-9 else "the shot does not loop",
            ]

        self._ask(
            "Turntable",
            {"turns": 1.0, "seconds": 12.0},
            [
                Choice("Turns", "turns", "", "Number of turns; negative turns clockwise", 2),
                Choice("Duration", "seconds", "s", "Duration of the shot", 2),
            ],
            make,
            told,
        )

    def orbit(self) -> None:
        """Orbit the product."""
        self.session.select_parts(self._things())
        self.cameras.orbit()

    def walk(self) -> None:
        """Take up the walk tool."""
        self.stage.show_all()
        self.cameras.walk()

    def take_apart(self) -> None:
        """Find the order of taking the product apart."""
        self.session.select_parts(self._things())
        self.extracting.take_apart()

    def drive_past(self) -> None:
        """Ask how, and let the product drive past a camera."""
        things, meshes = self._things(), self.session.meshes

        def make(project: Project, values: Values) -> Project:
            return plans.drive_past(project, meshes, things, values["seconds"], values["distance"])

        def told(values: Values) -> list[str]:
            made = make(self.session.project, values)
            length = 2.0 * plans.reach_of(made, things, values["distance"])
            speed = length / max(values["seconds"], 1e-9) / 1000.0
            return [
                f"{show(length, 'mm', 0)} ÷ {show(values['seconds'], 's')} = <b>{show(speed, 'm/s', 2)}</b> on average"
            ]

        self._ask(
            "Drive past",
            {"distance": 0.0, "seconds": 6.0},
            [
                Choice("Distance", "distance", "mm", "Length of the path", 0, 500.0, "five times its length"),
                Choice("Duration", "seconds", "s", "Duration of the run", 2),
            ],
            make,
            told,
        )

    def wheel(self) -> None:
        """Ask which wheel and how many turns, and let it roll."""
        meshes, project = self.session.meshes, self.session.project
        chosen = [i for i in self.session.chosen if isinstance(get(project, i), Part)]
        wheels = plans.wheels_of(project, meshes, chosen) or plans.wheels_of(project, meshes, [])
        if not wheels:
            tell(
                self.prompts.over,
                "No wheel found",
                "no part has a cylinder that is as wide as the part, as a wheel's tread is; only CAD files (STEP, IGES) tell "
                "cylinders. Select the part and use Motion → Wheel to type its axle and circumference",
            )
            return

        def make(project: Project, values: Values) -> Project:
            return plans.wheel_demonstrator(project, meshes, values["thing"], values["turns"], values["seconds"])

        def told(values: Values) -> list[str]:
            radius = axle_of(project, meshes, values["thing"])[1]
            around = 2.0 * math.pi * radius
            return [
                f"π × {show(2 * radius, 'mm')} = <b>{show(around, 'mm')}</b> circumference",
                f"{values['turns']:g} × {show(around, 'mm')} = <b>{show(values['turns'] * around, 'mm', 0)}</b> of path",
            ]

        self._ask(
            "Wheel demonstrator",
            {"thing": wheels[0], "turns": 3.0, "seconds": 6.0},
            [
                Choice("Turns", "turns", "", "Number of turns of the wheel over its path", 2),
                Choice("Duration", "seconds", "s", "Duration of the run", 2),
            ],
            make,
            told,
            [(part, get(project, part).name) for part in wheels],
        )

    def _ask(
        self,
        title: str,
        values: Values,
        choices: list[Choice],
        make: Callable[[Project, Values], Project],
        told: Callable[[Values], list[str]],
        things: list[tuple[str, str]] | None = None,
    ) -> None:
        # what does not hang on the product begins where it was the last time
        for choice in choices:
            if choice.unit != "mm":
                kept: Any = QSettings().value(f"plans/{title}/{choice.name}", values[choice.name])
                values[choice.name] = float(kept)
        try:
            dialog = PlanDialog(
                self.prompts.over, title, values, choices, make, told, self.cameras.preview, things or []
            )
        except BadInput as fault:
            self.prompts.complain(str(fault))
            return
        if self.cameras.ask(dialog, title):
            for choice in choices:
                QSettings().setValue(f"plans/{title}/{choice.name}", dialog.values[choice.name])
        self.stage.show_all()
