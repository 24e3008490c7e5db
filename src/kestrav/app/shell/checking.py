"""The check that runs while one works: what it found, the gap at the playhead, and going to a finding."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QWidget

from kestrav.app.cards.card import Card
from kestrav.app.contents.contents_tree import ContentsTree
from kestrav.app.jobs.camera_check import CameraCheck
from kestrav.app.jobs.jobs import Checker
from kestrav.app.player import Player
from kestrav.app.session import Session
from kestrav.app.shell.findings_panel import FindingsPanel
from kestrav.app.stage.stage import Stage
from kestrav.core.camera.sight import best_sight
from kestrav.core.clearance.live import LiveClearance
from kestrav.core.clearance.sweep import Clearance
from kestrav.core.document.lookup import ancestors, get
from kestrav.core.document.records import Part, Project
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.comparing import compare, in_words
from kestrav.core.findings.model import Finding
from kestrav.core.findings.report import as_data
from kestrav.core.kinematics.motion_segments import movers
from kestrav.core.units import show

_KEPT = 6  # results of documents that one may come back to
NEAR = 3.0  # a gap is shown in the stage when below this many times the required clearance


class Checking(QObject):
    """Has the document checked after each edit and hands what was found to those who show it."""

    came = Signal(object)  # the result of the document as it is
    compared = Signal(str)  # how it compares with the one before
    charted = Signal(object, bool)  # a result to chart, and whether it is that of the document as it is
    live_charted = Signal(object)  # the clearance at the playhead, until all is checked
    camera_charted = Signal(object)  # what was measured of the lens's camera; none where it is measured anew

    def __init__(
        self,
        parent: QWidget,
        session: Session,
        player: Player,
        stage: Stage,
        contents: ContentsTree,
        card: Card,
        findings: FindingsPanel,
    ) -> None:
        super().__init__(parent)
        self.session, self.player, self.stage = session, player, stage
        self.contents, self.card, self.findings = contents, card, findings
        self.checker = Checker()
        self.camera_judge = CameraCheck()
        for owned in (self.checker, self.camera_judge):
            owned.setParent(self)
        self.result: CheckResult | None = None
        self.current = False  # the result is that of the document as it is
        self._before: dict[str, Any] | None = None  # a check to compare the next one with
        self.finding: Finding | None = None
        self._checked: Project | None = None
        self._kept: deque[tuple[Project, CheckResult]] = deque(maxlen=_KEPT)  # what one may undo to
        self._judged: tuple[Project, str] | None = None  # the project and camera last measured
        self.charts_camera: Callable[[], bool] = lambda: False  # whether a lane of the lens's camera is shown
        stage.gap_at = self.gap_at
        self.checker.result.connect(self._on_result)
        self.checker.now.connect(self._on_now)
        self.checker.progress.connect(self._on_progress)
        self.checker.failed.connect(card.complain)
        self.camera_judge.curves.connect(lambda curves, _: self.camera_charted.emit(curves))
        session.moved.connect(self._show_gap)
        for changed in (session.edited, session.selected):
            changed.connect(self.judge_camera)
        findings.stopped.connect(self.stop)
        findings.went.connect(self.go_to)

    def forget(self) -> None:
        """Begin anew with another project."""
        if self._checked is not None and self._checked.geometry:
            # the processes hold what the one before is made of, and may still tell of it
            self.finish()
        self._checked = None
        self._kept.clear()
        self.result = None
        self.finding = None

    def finish(self) -> None:
        """End the work under way."""
        self.camera_judge.stop()
        self.checker.stop()

    def follow(self) -> None:
        shown = self.session.shown
        if shown is self._checked:
            return
        before, self._checked = self._checked, shown
        if before is not None and self.current and _alike(before, shown):
            return  # nothing that a check looks at has changed
        self.current = False
        self.stage.gap = self.stage.gap_of = None
        self.charted.emit(None, False)
        self.contents.show_result(None)
        self.findings.say_current(False)
        known = next((result for project, result in self._kept if _alike(project, shown)), None)
        if known is not None:
            self.checker.enough()
            self._on_result(known, True)
            return
        self.checker.check(shown, self.session.meshes, self.session.time)

    @property
    def current_result(self) -> CheckResult | None:
        """The result of the document as it is, if there is one."""
        return self.result if self.current else None

    def compare_next(self) -> None:
        """Tell how the next check of the document compares with the one there is now."""
        result = self.current_result
        self._before = None if result is None else as_data(self.session.project, result)

    def _tell_difference(self, result: CheckResult) -> None:
        if self._before is None:
            return
        text = in_words(compare(self._before, as_data(self.session.project, result)))
        self._before = None
        self.compared.emit(f"Checked {text}")

    def _on_result(self, result: CheckResult, newest: bool) -> None:
        self.result = result
        self.charted.emit(result, newest)
        if not newest:
            return
        self.current = True
        if self._checked is not None and result.certificate is not None:
            self._kept.append((self._checked, result))
        self.stage.gap_of = result
        self.contents.show_result(result)
        self.card.show_result(result)
        self.came.emit(result)
        self.findings.show_findings(result.findings, self._nothing())
        self._keep_finding(result)
        self._show_gap()
        self._tell_difference(result)

    def _nothing(self) -> str:
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

    def stop(self) -> None:
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
            self.live_charted.emit(live)

    def _show_gap(self) -> None:
        """Show the gap at the playhead, when the check knows it."""
        if self.current and self.result is not None:
            frame = min(self.session.frame, len(self.result.times) - 1)
            self._set_gap(self.result.clearance, frame)
        elif not self.player.playing:
            self.stage.gap = None

    def _set_gap(self, clearance: Clearance | LiveClearance, sample: int) -> None:
        self.stage.gap = gap_of(clearance, sample)
        self.stage.schedule()

    def gap_at(self, frame: int) -> tuple[NDArray[np.float64], str, bool] | None:
        """The gap to show at a frame, when the check knows it."""
        if not self.current or self.result is None:
            return None
        return gap_of(self.result.clearance, min(frame, len(self.result.times) - 1))

    def judge_camera(self) -> None:
        """Measure the lens's camera anew where its lanes are shown and it is not the one measured."""
        camera, shown = self.session.camera, self.session.shown
        if camera is None or not self.charts_camera():
            return
        if self._judged is not None and self._judged[0] is shown and self._judged[1] == camera.id:
            return
        self._judged = (shown, camera.id)
        self.camera_charted.emit(None)
        self.camera_judge.judge(shown, self.session.meshes, camera.id)

    def next_finding(self, step: int) -> None:
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
            self.stage.views.look_at(np.array([place - reach, place + reach]))
        self._show_gap()

    def _select_subject(self, finding: Finding) -> None:
        project = self.session.shown
        subject = finding.subject[0]
        ridden = movers(project)
        if isinstance(get(project, subject), Part):
            chain = [*ancestors(project, subject), subject]
            subject = next((i for i in reversed(chain) if i in ridden), subject)
        self.session.select(subject)


def gap_of(clearance: Clearance | LiveClearance, sample: int) -> tuple[NDArray[np.float64], str, bool] | None:
    """A gap to show: its two points (2, 3), what is said of it, whether it is a breach; None where it is wide."""
    distance, required = float(clearance.distance[sample]), float(clearance.needs[sample])
    if not math.isfinite(distance) or distance >= NEAR * required:
        return None
    breach = distance < required
    sign = "<" if breach else "≥"
    text = f"{show(distance, 'mm')} {sign} {show(required, 'mm', 1 if required % 1 else 0)} required"
    if distance < 0:
        need = show(abs(required), "mm", 1 if required % 1 else 0)
        text = f"{show(-distance, 'mm')} deep · {need} {'required' if required >= 0 else 'deep allowed'}"
    return clearance.points[sample], text, breach


def _alike(one: Project, two: Project) -> bool:
    """Whether two documents differ in nothing but what was said of them, and the sheets made of them."""
    return all(
        getattr(one, name) is getattr(two, name) for name in one.__struct_fields__ if name not in ("comments", "sheets")
    )
