"""What the interface for scripts gives back: checks with their findings, extraction paths, what files brought, what was rendered."""

from __future__ import annotations

from pathlib import Path as FilePath
from typing import TYPE_CHECKING, Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import find
from kestrav.core.document.records import Project as Document

if TYPE_CHECKING:
    from kestrav.core.findings.check import CheckResult

Array = NDArray[np.float64]
File = str | FilePath


class Finding(msgspec.Struct, frozen=True):
    """A fault: its ``rule`` (see ``kestrav rules``), how grave it is, what it is about, the worst time in s, its number with its limit."""

    rule: str
    severity: Literal["breach", "warning", "note"]
    title: str
    detail: str
    time: float
    value: float
    unit: str
    limit: float
    subject: tuple[str, ...]


class Check:
    """What a check found."""

    def __init__(self, document: Document, meshes: Any, result: CheckResult) -> None:
        self._document, self._meshes, self._result = document, meshes, result

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All findings, the gravest first; ``subject`` are names."""
        return tuple(
            Finding(
                f.rule,
                f.severity,
                f.title,
                f.detail,
                f.time,
                f.value,
                f.unit,
                f.limit,
                tuple(map(self._name, f.subject)),
            )
            for f in self._result.findings
        )

    @property
    def has_breach(self) -> bool:
        """Whether any finding is a breach."""
        return self._result.has_breach

    @property
    def certainty(self) -> str:
        """What the clearance rests on: the frames alone, or a certificate between them."""
        return self._result.status

    @property
    def times(self) -> Array:
        """Times (n,) in s of the frames that were checked."""
        return np.array(self._result.clearance.times)

    @property
    def clearance(self) -> Array:
        """The least clearance (n,) in mm at each of them; below 0 where parts overlap."""
        return np.array(self._result.clearance.distance)

    @property
    def least_clearance(self) -> float:
        """The least of all in mm; infinite where nothing is to be measured."""
        clearance = self.clearance
        return float(clearance.min()) if len(clearance) else float("inf")

    def as_data(self) -> dict[str, Any]:
        """All of it as plain data, as ``kestrav check --json`` prints it."""
        from kestrav.core.findings.report import as_data

        return as_data(self._document, self._result)

    def as_text(self) -> str:
        """All of it as ``kestrav check`` prints it."""
        from kestrav.core.findings.report import as_text

        return as_text(self._document, self._result)

    def report(self, out: File, command: str = "", *, overwrite: bool = False) -> tuple[FilePath, ...]:
        """Write it as a page (.html), or as tables (.csv, with the frames beside it); ``command`` is how it was asked for. Returns the files."""
        from kestrav.render.clearance_report import check_report_target, write_report

        target = FilePath(out)
        check_report_target(target, overwrite=overwrite)
        return tuple(write_report(self._document, self._meshes, self._result, target, command))

    def _name(self, item: str) -> str:
        known = find(self._document, item)
        return item if known is None else known.name


class Extraction(msgspec.Struct, frozen=True):
    """What came of looking for an extraction path: whether there is one, told in words, and as plain data as ``kestrav extract --json`` prints it."""

    found: bool
    text: str
    data: dict[str, Any]


class Contents(msgspec.Struct, frozen=True):
    """What a file or project holds: told in words, and as plain data as ``kestrav info --json`` prints it."""

    text: str
    data: dict[str, Any]


class Delivery(msgspec.Struct, frozen=True):
    """What a CAD or mesh file brought: parts with geometry, different geometries, triangles, what is told of its unit, how far in mm facets
    may be from curved faces (none: they came as facets), and what was left out and why."""

    file: FilePath
    parts: int
    geometries: int
    triangles: int
    unit: str
    tolerance: float | None
    left_out: tuple[str, ...]


class Rendered(msgspec.Struct, frozen=True):
    """A film, folder or still that was made: of which shots, with how many frames at what rate and size, in how many seconds, and a still's
    ``time`` in s."""

    file: FilePath
    shots: tuple[str, ...]
    frames: int
    fps: float
    size: tuple[int, int]
    seconds: float
    time: float | None = None
