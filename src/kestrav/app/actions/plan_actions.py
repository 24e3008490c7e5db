"""Starting points made of the person's own product: which there are, and how each begins."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence

import msgspec
from PySide6.QtGui import QAction
from PySide6.QtWidgets import QMenu

from kestrav.app.actions.camera_actions import CameraActions
from kestrav.app.actions.extraction_actions import ExtractionActions
from kestrav.app.actions.import_actions import ImportActions
from kestrav.app.actions.prompts import Actions, Prompts
from kestrav.app.dialogs.asking import PlanDialog, Request
from kestrav.app.dialogs.questions import tell
from kestrav.app.session import Session
from kestrav.app.stage.stage import Stage
from kestrav.core.camera import plans
from kestrav.core.document.lookup import get, topmost
from kestrav.core.document.records import Part, Project
from kestrav.core.document.requests import DrivePastRequest, TurntableRequest, WheelRequest
from kestrav.core.editing.wheel_making import axle_of
from kestrav.core.errors import BadInput
from kestrav.core.units import show


class Plan(msgspec.Struct, frozen=True):
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
            Plan("Take apart", "The order in which all parts come out, and their runs.", self.disassemble),
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

        def make(project: Project, request: TurntableRequest) -> Project:
            return plans.turntable(project, meshes, things, request.duration, request.turns)

        def summary(request: TurntableRequest) -> list[str]:
            rate = 60.0 * request.turns / request.duration
            return [
                f"{request.turns:g} turns ÷ {show(request.duration, 's')} = <b>{show(rate, 'rpm')}</b>",
                "the shot loops" if abs(request.turns - round(request.turns)) < 1e-9 else "the shot does not loop",
            ]

        self._ask("Turntable", TurntableRequest(), make, summary, remember="turns duration")

    def orbit(self) -> None:
        """Orbit the product."""
        self.session.select_parts(self._things())
        self.cameras.orbit()

    def walk(self) -> None:
        """Take up the walk tool."""
        self.stage.views.show_all()
        self.cameras.walk()

    def disassemble(self) -> None:
        """Find the order of taking the product apart."""
        self.session.select_parts(self._things())
        self.extracting.disassemble()

    def drive_past(self) -> None:
        """Ask how, and let the product drive past a camera."""
        things, meshes = self._things(), self.session.meshes

        def make(project: Project, request: DrivePastRequest) -> Project:
            return plans.drive_past(project, meshes, things, request.duration, request.distance)

        def summary(request: DrivePastRequest) -> list[str]:
            project = make(self.session.project, request)
            length = 2.0 * plans.reach_of(project, things, request.distance)
            speed = show(length / request.duration / 1000.0, "m/s", 2)
            return [f"{show(length, 'mm', 0)} ÷ {show(request.duration, 's')} = <b>{speed}</b> on average"]

        self._ask("Drive past", DrivePastRequest(), make, summary, remember="duration")

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

        def make(project: Project, request: WheelRequest) -> Project:
            return plans.wheel_demonstrator(project, meshes, request.part, request.turns, request.duration)

        def summary(request: WheelRequest) -> list[str]:
            radius = axle_of(project, meshes, request.part)[1]
            around = 2.0 * math.pi * radius
            return [
                f"π × {show(2 * radius, 'mm')} = <b>{show(around, 'mm')}</b> circumference",
                f"{request.turns:g} × {show(around, 'mm')} = <b>{show(request.turns * around, 'mm', 0)}</b> of path",
            ]

        names = [(part, get(project, part).name) for part in wheels]
        self._ask("Wheel demonstrator", WheelRequest(wheels[0]), make, summary, parts=names, remember="turns duration")

    def _ask(
        self,
        title: str,
        request: Request,
        make: Callable[[Project, Request], Project],
        summarize: Callable[[Request], list[str]],
        *,
        parts: Sequence[tuple[str, str]] = (),
        remember: str = "",
    ) -> None:
        try:
            dialog = PlanDialog(
                self.prompts.over, title, request, self.cameras.preview, make, summarize, parts=parts, remember=remember
            )
        except BadInput as fault:
            self.prompts.complain(str(fault))
            return
        self.cameras.ask(dialog, title)
        self.stage.views.show_all()
