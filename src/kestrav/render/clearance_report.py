"""The report of a check as files: a page with pictures, or tables."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.writing import write_whole
from kestrav.core.findings.check import CheckResult
from kestrav.core.findings.html_report import as_html
from kestrav.core.findings.report import frames_as_csv, table_as_csv
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.worst_places import pictures_of


def files_of(target: Path) -> list[Path]:
    """The files that a report of a target's name is made of."""
    return [target, target.with_name(f"{target.stem}-frames.csv")] if target.suffix.lower() == ".csv" else [target]


def check_report_target(target: Path, *, overwrite: bool) -> None:
    """Raise BadInput when a report cannot be written there, or would hide something that is there."""
    if target.suffix.lower() not in (".html", ".csv"):
        raise BadInput(f"“{target}” has an ending that is not known: give .html or .csv")
    if not target.parent.is_dir():
        raise BadInput(f"“{target}” cannot be written: the folder “{target.parent}” does not exist")
    for file in files_of(target):
        if file.exists() and not overwrite:
            raise BadInput(f"“{file}” is there already; give another name, or allow it to be overwritten")


def write_report(
    project: Project, meshes: Mapping[str, Mesh], result: CheckResult, target: Path, command: str = ""
) -> list[Path]:
    """Write a check's report, and tell the files that were made. Raises BadInput naming what cannot be written."""
    files = files_of(target)
    if len(files) > 1:
        texts = [table_as_csv(project, result), frames_as_csv(project, result)]
    else:
        texts = [as_html(project, result, pictures_of(project, meshes, result.table), command)]
    for file, text in zip(files, texts, strict=True):
        write_whole(file, text.encode())
    return files
