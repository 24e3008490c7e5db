"""What an empty project shows in the stage: how one can begin."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from importlib import resources
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QSize, QStandardPaths, Qt, Signal
from PySide6.QtGui import QColor, QIcon, QImage, QPixmap
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from kestrav.app.actions.plan_actions import Plan
from kestrav.app.stage.overlays import make_native
from kestrav.app.widgets.window_colours import SKY
from kestrav.core.files.project_file import SUFFIX

DEMO_NAME = "Fan cassette exchange"
DEMO = Path(str(resources.files("kestrav") / "assets" / f"fan-cassette{SUFFIX}"))
_PICTURE = QSize(132, 82)
_RECENT = 4
_KEPT = QSize(264, 164)  # of a small picture on disk
_WIDTH, _HEIGHT, _TOP, _MARGIN = 700, 452, 48, 8


class Welcome(QWidget):
    """Lies over the stage as long as there is nothing in the project."""

    add_asked = Signal()
    open_asked = Signal()
    demo_asked = Signal()
    tour_asked = Signal()
    recent_asked = Signal(Path)
    plan_asked = Signal(object)

    def __init__(self, stage: QWidget, plans: Sequence[Plan]) -> None:
        super().__init__(stage)
        self.setObjectName("welcome")
        self.setAccessibleName("Begin")
        make_native(self)
        column = QVBoxLayout(self)
        column.setContentsMargins(22, 16, 22, 16)
        column.setSpacing(10)
        both = QHBoxLayout()
        both.setSpacing(26)
        both.addLayout(self._own())
        both.addLayout(self._plans(plans), 1)
        column.addLayout(both)
        self.recent_title = _title("Recent projects")
        column.addWidget(self.recent_title)
        self._recent = QHBoxLayout()
        self._recent.setSpacing(10)
        column.addLayout(self._recent)
        column.addStretch(1)
        self.hide()

    def _own(self) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(7)
        column.addWidget(_title("Your product"))
        add, open_, demo = QPushButton("Add products …"), QPushButton("Open a project …"), QPushButton("Open the demo")
        add.setObjectName("main")
        add.setToolTip("Add STEP, IGES, glTF, STL, OBJ, PLY, OFF, 3MF or COLLADA files (Ctrl+I)")
        open_.setToolTip("Open a project that was saved before (Ctrl+O)")
        demo.setToolTip("Open a copy of the demo: a cabinet, a hoist and a trolley in a plant room")
        add.clicked.connect(lambda: self.add_asked.emit())
        open_.clicked.connect(lambda: self.open_asked.emit())
        demo.clicked.connect(lambda: self.demo_asked.emit())
        tour = QPushButton("Take the tour")
        tour.setToolTip("Six short chapters on a copy of the demo; leave at any time and go on later")
        tour.clicked.connect(lambda: self.tour_asked.emit())
        drop = QLabel("or drop CAD and mesh files, or a folder of them, anywhere in this window")
        drop.setObjectName("muted")
        drop.setWordWrap(True)
        for widget in (add, drop, open_, demo, tour):
            column.addWidget(widget)
        column.addStretch(1)
        for widget in (add, open_, demo, tour, drop):
            widget.setFixedWidth(196)
        return column

    def _plans(self, plans: Sequence[Plan]) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(7)
        column.addWidget(_title("Begin from a plan"))
        grid = QGridLayout()
        grid.setSpacing(7)
        for number, plan in enumerate(plans):
            button = QPushButton()
            button.setObjectName("plan")
            button.setAccessibleName(plan.name)
            button.setToolTip(plan.sentence)
            button.setMinimumHeight(66)
            inside = QVBoxLayout(button)
            inside.setContentsMargins(10, 6, 10, 6)
            inside.setSpacing(1)
            name, sentence = QLabel(plan.name), QLabel(plan.sentence)
            name.setObjectName("planname")
            sentence.setObjectName("muted")
            sentence.setWordWrap(True)
            for label in (name, sentence):
                label.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
                inside.addWidget(label)
            inside.addStretch(1)
            button.clicked.connect(lambda _=False, chosen=plan: self.plan_asked.emit(chosen))
            grid.addWidget(button, number // 2, number % 2)
        column.addLayout(grid)
        return column

    def show_for(self, *, empty: bool, recent: Sequence[Path]) -> None:
        """Show it for an empty project, with projects opened lately; hide it for others."""
        if not empty:
            self.hide()
            return
        while (item := self._recent.takeAt(0)) is not None:
            if (old := item.widget()) is not None:
                old.deleteLater()
        for file in recent[:_RECENT]:
            button = QToolButton()
            button.setObjectName("recent")
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextUnderIcon)
            button.setIconSize(_PICTURE)
            button.setIcon(QIcon(small_picture(file) or _blank()))
            button.setText(button.fontMetrics().elidedText(file.stem, Qt.TextElideMode.ElideMiddle, _PICTURE.width()))
            button.setToolTip(str(file))
            button.setAccessibleName(f"Open {file.stem}")
            button.clicked.connect(lambda _=False, chosen=file: self.recent_asked.emit(chosen))
            self._recent.addWidget(button)
        self._recent.addStretch(1)
        self.recent_title.setVisible(bool(recent))
        self.place()
        self.show()
        self.raise_()

    def place(self) -> None:
        """Lie in the middle of the stage, below its tools."""
        stage = self.parentWidget()
        assert stage is not None
        wide = min(_WIDTH, stage.width() - 2 * _MARGIN)
        high = min(max(self.sizeHint().height(), 200), _HEIGHT, stage.height() - _TOP - _MARGIN)
        self.setGeometry(
            (stage.width() - wide) // 2, _TOP + max((stage.height() - _TOP - high) // 2 - 8, 0), wide, high
        )


def _title(text: str) -> QLabel:
    label = QLabel(text)
    label.setObjectName("title")
    return label


def _blank() -> QPixmap:
    picture = QPixmap(_PICTURE)
    picture.fill(QColor(SKY))
    return picture


# small pictures of projects


def _picture_file(file: Path) -> Path:
    folder = Path(QStandardPaths.writableLocation(QStandardPaths.StandardLocation.CacheLocation)) / "small-pictures"
    return folder / f"{hashlib.sha256(str(file.resolve()).encode('utf-8', 'surrogateescape')).hexdigest()[:24]}.png"


def small_picture(file: Path) -> QPixmap | None:
    """The picture that is kept of a project, or none."""
    picture = QPixmap(str(_picture_file(file)))
    return None if picture.isNull() else picture


def keep_small_picture(file: Path, picture: NDArray[np.uint8]) -> None:
    """Keep what the stage shows (height, width, 3) of a project, to tell it from others by; where there is no room for it, there is none."""
    height, width, _ = picture.shape
    image = QImage(np.ascontiguousarray(picture).data, width, height, 3 * width, QImage.Format.Format_RGB888)
    filling = image.scaled(
        _KEPT, Qt.AspectRatioMode.KeepAspectRatioByExpanding, Qt.TransformationMode.SmoothTransformation
    )
    left, top = (filling.width() - _KEPT.width()) // 2, (filling.height() - _KEPT.height()) // 2
    target = _picture_file(file)
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
    except OSError:
        return
    filling.copy(left, top, _KEPT.width(), _KEPT.height()).save(str(target))
