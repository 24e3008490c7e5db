"""The whole check of a project: frames, clearance, every rule."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.breaches import Row, rows_of
from kestrav.core.clearance.certificate import Certificate, certify
from kestrav.core.clearance.contact_history import Contact
from kestrav.core.clearance.sweep import Clearance, sweep
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.findings.model import Evidence, Finding
from kestrav.core.findings.rule_table import by_frames
from kestrav.core.findings.rules import between_frames, clearance as clearance_rule
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.runs import frame_times, span
from kestrav.core.progress import Progress, one_by_one, portion

_ORDER = {"breach": 0, "warning": 1, "note": 2}


class CheckResult(msgspec.Struct, frozen=True):
    """Frames' times (n,) in s, the clearance at them, and the findings, worst kind first; ``over`` is the part of time in s that was
    checked (none: all), ``table`` its breaches; ``fixes`` what would fix each run that leads into one, none where that was not worked out."""

    times: NDArray[np.float64]
    clearance: Clearance
    findings: tuple[Finding, ...]
    certificate: Certificate | None = None
    over: tuple[float, float] | None = None
    table: tuple[Row, ...] = ()
    fixes: clearance_rule.Worked | None = None

    @property
    def status(self) -> str:
        """What the clearance rests on: the frames alone, or the certificate."""
        return "sampled at the frames" if self.certificate is None else self.certificate.status

    @property
    def contacts(self) -> tuple[Contact, ...]:
        """The pairs in contact, with what the certificate knows of them where there is one."""
        certificate = self.certificate
        return certificate.contacts if certificate is not None and certificate.contacts else self.clearance.contacts

    @property
    def has_breach(self) -> bool:
        """Whether any finding is a breach."""
        return any(f.severity == "breach" for f in self.findings)


# shares of the whole work that its parts usually take
_SWEEP, _FIXES, _PROOF = 0.8, 0.1, 0.95


def find_all(evidence: Evidence, progress: Progress | None = None) -> tuple[Finding, ...]:
    """What every rule finds, sorted by severity and then time."""
    findings: list[Finding] = []
    for rule in one_by_one(by_frames(), portion(progress, 0.0, 1.0)):
        findings += rule(evidence)
    return _sorted(findings)


def _sorted(findings: list[Finding]) -> tuple[Finding, ...]:
    return tuple(sorted(findings, key=lambda f: (_ORDER[f.severity], f.time)))


def with_fixes(
    project: Project, meshes: Mapping[str, Mesh], result: CheckResult, progress: Progress | None = None
) -> CheckResult:
    """A check's result with those fixes of its breaches that take long to work out."""
    if result.fixes is not None:
        return result
    known: clearance_rule.Worked = {}
    evidence = Evidence(project, meshes, result.times, result.clearance)
    findings = _fixed(evidence, result.findings, known, portion(progress, 0.0, 1.0))
    return msgspec.structs.replace(result, findings=findings, fixes=known)


def certified(
    project: Project, meshes: Mapping[str, Mesh], result: CheckResult, progress: Progress | None = None
) -> CheckResult:
    """A check's result with its fixes, the certificate of its clearance, and what that finds between the frames."""
    fixed = with_fixes(project, meshes, result, portion(progress, 0.0, _FIXES))
    known = dict(fixed.fixes or {})
    certificate = certify(project, meshes, portion(progress, _FIXES, _PROOF), result.over)
    evidence = Evidence(project, meshes, result.times, result.clearance, certificate)
    table = tuple(rows_of(project, meshes, result.clearance, certificate))
    between = _fixed(evidence, between_frames.find(evidence), known, portion(progress, _PROOF, 1.0))
    findings = _sorted([*fixed.findings, *between])
    return msgspec.structs.replace(fixed, findings=findings, certificate=certificate, table=table, fixes=known)


def _fixed(
    evidence: Evidence, findings: Iterable[Finding], known: clearance_rule.Worked, progress: Progress
) -> tuple[Finding, ...]:
    return tuple(clearance_rule.with_fixes(evidence, f, known) for f in one_by_one(list(findings), progress))


def check(
    project: Project,
    meshes: Mapping[str, Mesh],
    progress: Progress | None = None,
    over: tuple[float, float] | None = None,
) -> CheckResult:
    """Check a project at its own frame rate from 0 to its end, or over a part of its time in s.

    Raises BadInput for a span in which there is no frame.
    """
    times = frame_times(project, over)
    if over is not None and not len(times):
        raise BadInput(
            f"from {over[0]:g} to {over[1]:g} s there is no frame; the project lasts from 0 to {span(project):g} s"
        )
    measured = sweep(project, meshes, times, portion(progress, 0.0, _SWEEP))
    findings = find_all(Evidence(project, meshes, times, measured), portion(progress, _SWEEP, 1.0))
    return CheckResult(times, measured, findings, over=over, table=tuple(rows_of(project, meshes, measured)))
