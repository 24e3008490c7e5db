"""The whole check of a project: frames, clearance, every rule."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass

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


@dataclass(frozen=True)
class CheckResult:
    """Frames' times (n,) in s, the clearance at them, and the findings, worst kind first; ``over`` is the part of time in s that was
    checked (none: all), ``table`` its breaches."""

    times: NDArray[np.float64]
    clearance: Clearance
    findings: tuple[Finding, ...]
    certificate: Certificate | None = None
    over: tuple[float, float] | None = None
    table: tuple[Row, ...] = ()

    @property
    def status(self) -> str:
        """What the clearance rests on: the frames alone, or the certificate."""
        return "sampled at the frames" if self.certificate is None else self.certificate.status

    @property
    def contacts(self) -> tuple[Contact, ...]:
        """The pairs in contact, with what the certificate knows of them where there is one."""
        told = self.certificate
        return told.contacts if told is not None and told.contacts else self.clearance.contacts

    @property
    def has_breach(self) -> bool:
        """Whether any finding is a breach."""
        return any(f.severity == "breach" for f in self.findings)


# shares of the whole work that its parts usually take
_SWEEP, _PROOF = 0.8, 0.9


def find_all(evidence: Evidence, progress: Progress | None = None) -> tuple[Finding, ...]:
    """What every rule finds, sorted by severity and then time."""
    findings: list[Finding] = []
    for rule in one_by_one(by_frames(), portion(progress, 0.0, 1.0)):
        findings += rule(evidence)
    return _sorted(findings)


def _sorted(findings: list[Finding]) -> tuple[Finding, ...]:
    return tuple(sorted(findings, key=lambda f: (_ORDER[f.severity], f.time)))


def certified(
    project: Project, meshes: Mapping[str, Mesh], result: CheckResult, progress: Progress | None = None
) -> CheckResult:
    """A check's result with the certificate of its clearance, what that finds between the frames, and fixes that take long to work
    out."""
    certificate = certify(project, meshes, portion(progress, 0.0, _PROOF), result.over)
    evidence = Evidence(project, meshes, result.times, result.clearance, certificate)
    table = tuple(rows_of(project, meshes, result.clearance, certificate))
    findings = [*result.findings, *between_frames.find(evidence)]
    mended, bent = [], clearance_rule.Worked()
    for finding in one_by_one(findings, portion(progress, _PROOF, 1.0)):
        mended.append(clearance_rule.with_fixes(evidence, finding, bent))
    return dataclasses.replace(result, findings=_sorted(mended), certificate=certificate, table=table)


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
