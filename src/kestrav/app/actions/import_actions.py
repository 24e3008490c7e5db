"""Bringing products in: files, the question of their unit, replacing and reading again, and the report."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from functools import partial
from itertools import islice
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSettings, Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QGridLayout,
    QLabel,
    QPlainTextEdit,
    QVBoxLayout,
    QWidget,
)

from kestrav.app import settings
from kestrav.app.actions.prompts import Actions, Checked, Prompts
from kestrav.app.dialogs.questions import answered, tell
from kestrav.app.jobs import work
from kestrav.app.jobs.jobs import Job
from kestrav.app.session import Session
from kestrav.app.stage.stage import Stage
from kestrav.core.document.lookup import get
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.path_files import SUFFIXES as PATH_SUFFIXES, PathsFile, add_paths, write_path
from kestrav.core.files.product_import import (
    SUFFIXES,
    UNITLESS,
    UNITS,
    Imported,
    into_project,
    proposed_unit,
    size_of,
    with_unit,
)
from kestrav.core.files.project_file import SUFFIX, source_path
from kestrav.core.files.refresh import Changes, reload, replace
from kestrav.core.review.comment_files import SUFFIX as COMMENTS_SUFFIX
from kestrav.core.units import show

Array = NDArray[np.float64]

MOST_LOOKED_AT, MOST_DROPPED = 5000, 200  # files of one folder and those below it
KINDS = " ".join(f"*{s} *{s.upper()}" for s in SUFFIXES)


class UnitDialog(QDialog):
    """Asks for the unit of files that do not say, proposing one from the size."""

    def __init__(self, parent: QWidget, files: Sequence[tuple[str, Array, str]]) -> None:
        """``files`` are names, sizes (3,) in their own unit, and the units that are proposed."""
        super().__init__(parent)
        self.setObjectName("unit")
        self.setWindowTitle("In which unit?")
        self.fields: list[QComboBox] = []
        self.sizes: list[QLabel] = []
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        column.setSpacing(10)
        title = QLabel("In which unit are the lengths?")
        title.setObjectName("title")
        column.addWidget(title)
        note = QLabel("These files name no unit. The unit that gives a plausible size is proposed.")
        note.setWordWrap(True)
        note.setObjectName("muted")
        column.addWidget(note)
        grid = QGridLayout()
        grid.setHorizontalSpacing(14)
        column.addLayout(grid)
        for row, (source, _, proposed) in enumerate(files):
            field = QComboBox()
            for name in UNITS:
                field.addItem(name, name)
            field.setCurrentIndex(field.findData(proposed))
            field.setAccessibleName(f"Unit of {source}")
            field.setToolTip("Unit of the lengths in the file")
            size = QLabel()
            self.fields.append(field)
            self.sizes.append(size)
            grid.addWidget(QLabel(source), row, 0)
            grid.addWidget(field, row, 1)
            grid.addWidget(size, row, 2)
            field.currentIndexChanged.connect(self._tell)
        self._sizes = [size for _, size, _ in files]
        self._tell()
        buttons = QDialogButtonBox()
        take = buttons.addButton("Import", QDialogButtonBox.ButtonRole.AcceptRole)
        take.setObjectName("main")
        take.setToolTip("Import with these units")
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole).setToolTip("Import nothing")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)

    def _tell(self) -> None:
        for label, field, size in zip(self.sizes, self.fields, self._sizes, strict=True):
            grown = size * UNITS[field.currentData()]
            unit, factor = ("m", 1000.0) if grown.max() >= 10_000 else ("mm", 1.0)
            places = 1 if grown.max() / factor >= 10 else 3
            label.setText(" × ".join(show(float(v) / factor, "", places) for v in grown) + f"\u2009{unit} overall")

    def units(self) -> list[float]:
        """The chosen units in mm."""
        return [UNITS[field.currentData()] for field in self.fields]


class ReportDialog(QDialog):
    """What came of bringing products in; it may be left open."""

    def __init__(self, parent: QWidget, title: str, text: str) -> None:
        super().__init__(parent)
        self.setObjectName("report")
        self.setWindowTitle(title)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self.resize(560, 300)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        head = QLabel(title)
        head.setObjectName("title")
        column.addWidget(head)
        self.text = QPlainTextEdit(text)
        self.text.setReadOnly(True)
        self.text.setAccessibleName(title)
        column.addWidget(self.text, 1)
        buttons = QDialogButtonBox()
        buttons.addButton("Close", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)


class ChangesDialog(QDialog):
    """Shows what a changed file brings, to be taken or left."""

    def __init__(self, parent: QWidget, name: str, changes: Changes) -> None:
        super().__init__(parent)
        self.setObjectName("changes")
        self.setWindowTitle("Changes in the file")
        self.resize(560, 320)
        column = QVBoxLayout(self)
        column.setContentsMargins(16, 14, 16, 12)
        head = QLabel(f"What has changed in {name}")
        head.setObjectName("title")
        column.addWidget(head)
        text = QPlainTextEdit(changes.text())
        text.setReadOnly(True)
        text.setAccessibleName("Changes")
        column.addWidget(text, 1)
        note = QLabel("Runs, cameras and notes stay with the parts that are found again; your own changes stay.")
        note.setWordWrap(True)
        note.setObjectName("muted")
        column.addWidget(note)
        buttons = QDialogButtonBox()
        take = buttons.addButton("Update", QDialogButtonBox.ButtonRole.AcceptRole)
        take.setObjectName("main")
        buttons.addButton("Cancel", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)


def files_in(dropped: Sequence[Path]) -> list[Path]:
    """Files as they were dropped, and of folders what is in them that can be read, by name: of the first that are there, as a whole disk may be
    dropped as well."""
    known = {*SUFFIXES, *PATH_SUFFIXES, SUFFIX, COMMENTS_SUFFIX}
    files: list[Path] = []
    for each in dropped:
        if not each.is_dir():
            files.append(each)
            continue
        inside = (Path(folder, name) for folder, _, names in os.walk(each) for name in names)
        files += sorted(f for f in islice(inside, MOST_LOOKED_AT) if f.suffix.lower() in known)[:MOST_DROPPED]
    return files


class ImportActions(Actions):
    """Reads products in jobs and edits the project with them."""

    def __init__(self, session: Session, prompts: Prompts, stage: Stage, checking: Checked) -> None:
        super().__init__(session, prompts)
        self.stage, self.checking = stage, checking

    # adding

    def ask(self, then: Callable[[], object] | None = None) -> None:
        """Ask for product files and add them, then go on with something."""
        names, _ = QFileDialog.getOpenFileNames(
            self.prompts.over, "Add products", self._folder(), f"Products ({KINDS})"
        )
        if names:
            self.add([Path(n) for n in names], then)

    def _folder(self) -> str:
        return str(QSettings().value("import/folder", str(Path.cwd())))

    def _read(self, label: str, files: list[Path], done: Callable[[list[Imported]], object]) -> None:
        QSettings().setValue("import/folder", str(files[0].parent))
        job = Job(label, work.import_products, files, settings.chord(), settings.upward() or None, tidies=False)
        self.prompts.start(job, partial(self._on_read, done))

    def add(self, files: list[Path], then: Callable[[], object] | None = None) -> None:
        """Read product files in a job and add them to the project, then go on with something."""
        self._read(f"Reading {', '.join(f.name for f in files)}", files, partial(self._add, then))

    def _on_read(self, done: Callable[[list[Imported]], object], products: list[Imported]) -> None:
        """Ask for units where they are not known, then go on."""
        unknown = [p for p in products if p.unit is None]
        if unknown:
            units = self._ask_units([(p.source, size_of(p), proposed_unit(p)) for p in unknown])
            if units is None:
                return
            known = dict(zip((id(p) for p in unknown), units, strict=True))
            products = [with_unit(p, known[id(p)]) if p.unit is None else p for p in products]
        done(products)

    def _ask_units(self, files: Sequence[tuple[str, Array, str]]) -> list[float] | None:
        """Units in mm of files that do not say theirs, or None when the person leaves it."""
        dialog = UnitDialog(self.prompts.over, files)
        if answered(dialog):
            return dialog.units()
        self.prompts.say("Nothing was imported")
        return None

    # paths

    def ask_paths(self) -> None:
        """Ask for path files and add their curves."""
        kinds = " ".join(f"*{s} *{s.upper()}" for s in PATH_SUFFIXES)
        names, _ = QFileDialog.getOpenFileNames(
            self.prompts.over, "Paths from files", self._folder(), f"Paths ({kinds})"
        )
        if names:
            self.add_paths([Path(n) for n in names])

    def add_paths(self, files: list[Path]) -> None:
        """Read path files in a job and add their curves to the project."""
        label = f"Reading {', '.join(f.name for f in files)}"
        self.prompts.start(Job(label, work.import_paths, files, tidies=False), self._on_paths)

    def _on_paths(self, files: list[PathsFile]) -> None:
        unknown = [f for f in files if f.unit is None]
        units = self._ask_units([(f.source, f.size, "mm") for f in unknown]) if unknown else []
        if units is None:
            return
        given = dict(zip((id(f) for f in unknown), units, strict=True))
        count = sum(len(f.shapes) for f in files)

        def add(project: Project) -> Project:
            for file in files:
                project = add_paths(project, file, file.unit if file.unit is not None else given[id(file)])
            return project

        if self.session.edit("Paths from a file", add):
            self.session.select(self.session.project.paths[-1].id)
            self.prompts.say(f"Brought in: {count} path{'s' if count != 1 else ''}", 8000)
            left_out = [f"{file.source}: {note}" for file in files for note in file.left_out]
            if left_out:
                self.report = ReportDialog(self.prompts.over, "Not imported", "\n".join(left_out))
                self.report.show()

    def ask_write_path(self) -> None:
        """Ask where, and write the selected path as DXF or CSV."""
        path = self.session.path
        if path is None:
            self.prompts.complain("select the path to write first")
            return
        start = str(Path(self._folder()) / f"{path.name}.dxf")
        name, _ = QFileDialog.getSaveFileName(self.prompts.over, "Write path", start, "Drawing (*.dxf);;Table (*.csv)")
        if name:
            self.write_path(Path(name))

    def write_path(self, target: Path) -> None:
        """Write the selected path."""
        path = self.session.path
        assert path is not None
        try:
            write_path(path, target)
        except BadInput as fault:
            tell(self.prompts.over, "Not written", str(fault))
        else:
            self.prompts.say(f"Written: {target}", 8000)

    def _add(self, then: Callable[[], object] | None, products: list[Imported]) -> None:
        empty = not self.session.project.parts

        def add(project: Project) -> Project:
            for product in products:
                project = into_project(project, product)
            return project

        meshes = {key: shape for product in products for key, shape in product.meshes.items()}
        if self.session.edit("Add product", add, meshes=meshes):
            if empty:
                self.stage.views.show_all()
            self._report("Imported", products)
            if then is not None:
                then()

    def _report(self, title: str, products: list[Imported]) -> None:
        """Say what came in; a window of its own when something was left out."""
        solids, triangles = sum(p.solids for p in products), sum(p.triangles for p in products)
        units = " · ".join(dict.fromkeys(unit_text(p) for p in products))
        text = f"{title}: {solids} parts, {show(triangles, '', 0)} triangles · {units}"
        self.prompts.say(text, 10_000)
        if any(p.left_out for p in products):
            self.report = ReportDialog(self.prompts.over, title, report_text(products))
            self.report.show()

    # changing the source

    def ask_replace(self, part_id: str) -> None:
        """Ask for a file and put it in a part's place."""
        name, _ = QFileDialog.getOpenFileName(self.prompts.over, "Replace with", self._folder(), f"Products ({KINDS})")
        if name:
            self.replace(part_id, Path(name))

    def replace(self, part_id: str, file: Path) -> None:
        """Read a file in a job and put it in a part's place."""
        self._read(f"Reading {file.name}", [file], partial(self._replace, part_id))

    def _replace(self, part_id: str, products: list[Imported]) -> None:
        (product,) = products
        name = get(self.session.project, part_id).name
        if self.session.edit(f"Replace {name}", lambda p: replace(p, part_id, product), meshes=product.meshes):
            self.session.select(part_id)
            self._report(f"{name} replaced", products)

    def reload(self, source_id: str, file: Path | None = None) -> None:
        """Read a source's file again and show what has changed."""
        source = next(s for s in self.session.project.sources if s.id == source_id)
        path = file or source_path(source.file, self.session.file)
        if not path.exists():
            name, _ = QFileDialog.getOpenFileName(
                self.prompts.over,
                f"{path.name} is not where it was; where is it now?",
                self._folder(),
                f"Products ({KINDS})",
            )
            if not name:
                return
            path = Path(name)
        unitless = source.unit if path.suffix.lower() in UNITLESS else None
        settings = (source.chord or None, source.up, unitless)
        job = Job(f"Reading {path.name} again", work.import_products, [path], *settings, tidies=False)
        self.prompts.start(job, partial(self._reload, source_id))

    def _reload(self, source_id: str, products: list[Imported]) -> None:
        (product,) = products
        try:
            _, changes = reload(self.session.project, source_id, product)
        except BadInput as fault:
            tell(self.prompts.over, "Not reloaded", str(fault))
            return
        if not changes.any:
            self.prompts.say(f"{product.source}: nothing has changed", 8000)
            return
        self.dialog = ChangesDialog(self.prompts.over, product.source, changes)
        if answered(self.dialog):
            self.checking.compare_next()
            self.session.edit("Reload file", lambda p: reload(p, source_id, product)[0], meshes=product.meshes)


def unit_text(product: Imported) -> str:
    """What a product's lengths are in."""
    return product.declared if product.declared != "not in the file" else f"unit {product.unit:g} mm, as chosen"


def report_text(products: list[Imported]) -> str:
    """What came in, file by file, and what was left out and why."""
    lines = []
    for product in products:
        size = size_of(product)
        lines.append(product.source)
        lines.append(
            f"    {product.solids} parts of {len(product.meshes)} geometries, {show(product.triangles, '', 0)} triangles, "
            + " × ".join(show(float(v)) for v in np.asarray(size))
            + "\u2009mm"
        )
        lines.append(f"    {unit_text(product)}")
        if product.chord:
            lines.append(f"    facets within {product.chord:g} mm of the CAD faces")
        if product.motions:
            lines.append(f"    {len(product.motions)} parts move: their motion comes in as key poses")
        lines += [f"    left out: {note}" for note in product.left_out]
    return "\n".join(lines)
