"""How actions speak with a person and begin long work. A window has one of these; a test may bring its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from PySide6.QtCore import QObject
from PySide6.QtWidgets import QWidget

from kestrav.app.dialogs.questions import tell
from kestrav.app.jobs.job_bar import JobBar
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.model import Finding


class Checked(Protocol):
    """The check of the document, as actions see it: what it found last, and whether that is of the document as it is."""

    result: CheckResult | None
    current: bool

    @property
    def current_result(self) -> CheckResult | None:
        """The result of the document as it is, if there is one."""

    def go_to(self, finding: Finding) -> None:
        """Show a finding where and when it is."""

    def compare_next(self) -> None:
        """Tell how the next check compares with the one there is now."""


class Prompts:
    """Questions stand ``over`` a widget; ``say`` shows a message for some ms, ``hint`` one that stays, ``complain`` what cannot be done. Long
    work is followed in a bar of ``jobs``."""

    def __init__(
        self,
        over: QWidget,
        jobs: JobBar,
        say: Callable[[str, int], object],
        hint: Callable[[str], object],
        complain: Callable[[str], object],
    ) -> None:
        self.over, self.jobs, self._say, self.hint, self.complain = over, jobs, say, hint, complain

    def say(self, text: str, milliseconds: int = 5000) -> None:
        """Show a message for a while."""
        self._say(text, milliseconds)

    def start(self, job: Job, done: Callable[..., object]) -> None:
        """Start long work, unless some is under way."""
        if self.jobs.job is not None:
            job.stop()
            self.complain(f"“{self.jobs.job.label}” is still under way; let it finish or cancel it first")
            return
        self.jobs.follow(self._followed(job, done))

    def start_or_wait(
        self,
        label: str,
        make: Callable[[], Job],
        done: Callable[..., object],
        taken_out: Callable[[], object] = lambda: None,
    ) -> None:
        """Start long work that rests on nothing that changes meanwhile, at once or when what is under way has ended.

        ``taken_out`` is called if it is taken out of those that wait.
        """
        if self.jobs.job is None:
            self.jobs.follow(self._followed(make(), done))
        else:
            self.jobs.wait(label, lambda: self._followed(make(), done), taken_out)
            self.say(f"{label}: it waits for “{self.jobs.job.label}”", 6000)

    def _followed(self, job: Job, done: Callable[..., object]) -> Job:
        job.done.connect(done)
        job.failed.connect(lambda text: tell(self.over, job.label, text))
        job.cancelled.connect(lambda: self.say(f"{job.label}: cancelled"))
        return job


class Actions(QObject):
    """What a menu or card offers about one kind of thing: it works on a session and speaks by prompts."""

    def __init__(self, session: Session, prompts: Prompts) -> None:
        super().__init__(prompts.over)
        self.session, self.prompts = session, prompts
