"""The document as the rows of the contents: what stands where, its most useful number, and how rows are dragged.

Rows are made for what is in the document, and the view asks only for those in sight, so that thousands of parts scroll
as well as ten.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
from PySide6.QtCore import (
    QAbstractItemModel,
    QMimeData,
    QModelIndex,
    QPersistentModelIndex,
    Qt,
)

from kestrav.app.session import Session
from kestrav.app.widgets.window_colours import MUTED, PETROL
from kestrav.core.clearance.asked import required_by
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, children, find, named_parts
from kestrav.core.document.records import (
    COLLECTIONS,
    Attachment,
    Ball,
    Camera,
    Castor,
    Colourway,
    Comment,
    Finish,
    FinishRule,
    Gear,
    Item,
    Light,
    Note,
    Part,
    Path,
    PoseTrack,
    Project,
    Requirement,
    Rod,
    Run,
    Shot,
    StepSheet,
    TimedRotation,
    Wheel,
)
from kestrav.core.editing.finishing import users_of
from kestrav.core.editing.wheel_making import turns_of
from kestrav.core.findings.check import CheckResult
from kestrav.core.kinematics.lane_values import rolled_distances
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.kinematics.runs import span
from kestrav.core.mechanisms.gears import given_ratio
from kestrav.core.parts.arranging import reparent
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.sheets.steps import is_stale
from kestrav.core.units import show

NUMBER, HEALTH, ID = (Qt.ItemDataRole.UserRole + i for i in (1, 2, 0))
HEADINGS = ("Product", "Paths", "Runs", "Checks", "Cameras", "Shots", "Lights", "Finishes", "Sheets & comments")
CHECKS_AT = HEADINGS.index("Checks")
# what an empty heading says and offers: the step, and its words
HINTS = {
    "Product": ("add", "Add a product …"),
    "Paths": ("draw", "Draw a path …"),
    "Runs": ("draw", "Draw a path for a part …"),
    "Checks": ("require", "Require a clearance …"),
    "Cameras": ("orbit", "Let a camera orbit a part …"),
    "Shots": ("camera", "Film from this viewpoint …"),
    "Lights": ("light", "Add a light …"),
    "Finishes": ("finish", "Give a finish …"),
    "Sheets & comments": ("sheet", "Make a step sheet"),
}
HINT = "hint:"  # begins the id of a row that offers a first step
GROUP = "moved:"  # begins the id of a row that holds all motions of one thing
MIME = "application/x-kestrav-parts"

Index = QModelIndex | QPersistentModelIndex


class _Row:
    """A row: what it stands for, where it hangs."""

    __slots__ = ("below", "id", "number", "parent")

    def __init__(self, item_id: str, parent: _Row | None, number: int) -> None:
        self.id, self.parent, self.number = item_id, parent, number
        self.below: list[_Row] = []


class ContentsModel(QAbstractItemModel):
    """The document as rows under the headings."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.words = ""
        self.kinds: frozenset[str] = frozenset()  # the headings to show; none for all
        self.only_found = False  # only what findings are about
        self.about: frozenset[str] = frozenset()  # what they were about the last time they were known
        self.result: CheckResult | None = None
        self.tops: list[_Row] = []
        self.rows: dict[str, _Row] = {}
        self._of: tuple[object, ...] = ()
        self._structure: list[object] = []
        self._moving: dict[str, int] = {}
        self._holders: set[str] = set()

    # making rows

    def fill(self) -> bool:
        """Follow the document; tells whether the rows were made anew."""
        project = self.session.shown
        about = self._about()
        filtered = (self.words, self.kinds, about)
        state = (*(getattr(project, name) for name in COLLECTIONS.values()), *filtered)
        if len(self._of) == len(state) and all(
            a is b or (i >= len(COLLECTIONS) and a == b) for i, (a, b) in enumerate(zip(self._of, state, strict=True))
        ):
            return False
        self._of = state
        self._find_movers(project)
        structure: list[object] = [filtered, [(p.id, p.parent) for p in project.parts]]
        structure += [[item.id for item in getattr(project, COLLECTIONS[kind])] for kind in _LISTED]
        moved = {item.id: self._mover_of(project, item) for item in _motions(project)}
        structure.append(moved)
        if self.words or about is not None:
            structure.append([item.name for item in _named(project)])
        if structure == self._structure:
            return False
        self.beginResetModel()
        self._structure = structure
        self._make_rows(project, moved)
        self.endResetModel()
        return True

    def _find_movers(self, project: Project) -> None:
        self._moving = moving_groups(project)
        self._holders = set()
        for part in reversed(project.parts):
            if part.parent and (part.id in self._moving or part.id in self._holders):
                self._holders.add(part.parent)

    def _mover_of(self, project: Project, item: Item) -> str:
        """The outermost thing that a motion belongs to: a wheel to the trolley that it carries."""
        thing = item.rider if isinstance(item, (Run, PoseTrack, Attachment)) else named_parts(item)[0]  # type: ignore[arg-type]
        return next((above for above in ancestors(project, thing) if above in self._moving), thing)

    def _make_rows(self, project: Project, moved: Mapping[str, str]) -> None:
        self.rows = {}
        self.tops = [_Row(name, None, i) for i, name in enumerate(HEADINGS)]
        wanted = self._found(project)

        def add(item_id: str, parent: _Row) -> None:
            if wanted is None or item_id in wanted:
                row = _Row(item_id, parent, len(parent.below))
                parent.below.append(row)
                self.rows[item_id] = row

        for part in project.parts:
            above = self.tops[0] if part.parent is None else self.rows.get(part.parent)
            if above is not None:
                add(part.id, above)
        # parts put under an earlier parent come late in the document; their rows follow the tree
        for note in project.notes:
            add(note.id, self.tops[0])
        for path in project.paths:
            add(path.id, self.tops[1])
        several = Counter(moved.values())
        for item in _motions(project):
            thing = moved[item.id]
            above = self.tops[2]
            if several[thing] > 1 and (wanted is None or item.id in wanted):
                above = self.rows.get(f"{GROUP}{thing}") or self._grouped(thing)
            add(item.id, above)
        for asked in project.requirements:
            add(asked.id, self.tops[CHECKS_AT])
        seen: tuple[tuple[Camera | Shot | Light, ...], ...] = (project.cameras, project.shots, project.lights)
        for top, some in enumerate(seen, CHECKS_AT + 1):
            for item in some:
                add(item.id, self.tops[top])
        surfaces: tuple[Finish | FinishRule | Colourway, ...] = (
            *project.finishes,
            *project.finish_rules,
            *project.colourways,
        )
        for surface in surfaces:
            add(surface.id, self.tops[-2])
        for sheet in project.sheets:
            add(sheet.id, self.tops[-1])
        for comment in sorted(project.comments, key=lambda c: c.time):
            add(comment.id, self.tops[-1])
        if wanted is None:
            for heading in self.tops:
                if not heading.below and (project.parts or heading.id == "Product"):
                    hint = _Row(f"{HINT}{heading.id}", heading, 0)
                    heading.below.append(hint)
                    self.rows[hint.id] = hint

    def _grouped(self, thing: str) -> _Row:
        """The row under which all motions of a thing hang."""
        above = self.tops[2]
        row = _Row(f"{GROUP}{thing}", above, len(above.below))
        above.below.append(row)
        self.rows[row.id] = row
        return row

    def _about(self) -> frozenset[str] | None:
        """Ids of what findings are about, where only that is to be shown."""
        return self.about if self.only_found else None

    def _found(self, project: Project) -> set[str] | None:
        """Ids of what the words are found in and of all above it; None when there are no words."""
        words, about = self.words.casefold().split(), self._about()
        if not words and about is None:
            return None
        ids: set[str] = {
            item.id
            for item in _named(project)
            if all(w in item.name.casefold() for w in words) and (about is None or item.id in about)
        }
        for part in reversed(project.parts):
            if part.id in ids and part.parent is not None:
                ids.add(part.parent)
        return ids

    # what Qt asks

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        above = self.tops if not parent.isValid() else self._row(parent).below
        return self.createIndex(row, column, above[row]) if 0 <= row < len(above) else QModelIndex()

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        above = self._row(index).parent if index.isValid() else None
        return QModelIndex() if above is None else self.createIndex(above.number, 0, above)

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(self._row(parent).below) if parent.isValid() else len(self.tops)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 1

    def _row(self, index: Index) -> _Row:
        row = index.internalPointer()
        assert isinstance(row, _Row)
        return row

    def at(self, item_id: str) -> QModelIndex:
        """The index of an item, or an invalid one."""
        row = self.rows.get(item_id)
        return QModelIndex() if row is None else self.createIndex(row.number, 0, row)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if not index.isValid():
            return None
        row = self._row(index)
        if role == ID:
            return row.id
        if row.parent is None:
            return self._heading(row.number, role)
        if row.id.startswith(GROUP):
            return self._group_data(row, role)
        if row.id.startswith(HINT):
            words = HINTS[row.id.removeprefix(HINT)][1]
            values = {Qt.ItemDataRole.DisplayRole: words, Qt.ItemDataRole.ForegroundRole: PETROL}
            values[Qt.ItemDataRole.ToolTipRole] = words
            return values.get(Qt.ItemDataRole(role))
        item = find(self.session.shown, row.id)
        if item is None:
            return None
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            return item.name
        if role == NUMBER:
            return self._number(item)
        if role == Qt.ItemDataRole.ForegroundRole and isinstance(item, Part):
            isolated = self.session.isolated
            return MUTED if not item.shown or (isolated is not None and item.id not in isolated) else None
        if role == Qt.ItemDataRole.ToolTipRole and isinstance(item, Part) and item.geometry is None:
            return f"{item.name}: {len(children(self.session.shown, item.id))} entries"
        return None

    def _group_data(self, row: _Row, role: int) -> object:
        thing = find(self.session.shown, thing_of(row.id))
        if role == Qt.ItemDataRole.DisplayRole:
            return thing.name if thing is not None else ""
        if role == NUMBER:
            return str(len(row.below))
        if role == Qt.ItemDataRole.ToolTipRole and thing is not None:
            return f"All motions of {thing.name}"
        return None

    def _heading(self, number: int, role: int) -> object:
        project, result = self.session.shown, self.result
        if role == Qt.ItemDataRole.DisplayRole:
            return HEADINGS[number]
        if role == HEALTH:
            return _health(number, project, result)
        if role == NUMBER:
            return (
                _counted(sum(p.geometry is not None for p in project.parts), "part"),
                str(len(project.paths)),
                str(len(_motions(project))),
                "checking …" if result is None else str(len(result.findings)),
                str(len(project.cameras)),
                str(len(project.shots)),
                str(len(project.lights)),
                str(len(project.finishes) + len(project.finish_rules) + len(project.colourways)),
                str(len(project.sheets) + len(project.comments)),
            )[number]
        return None

    def _number(self, item: object) -> str:
        project = self.session.shown
        if isinstance(item, Part):
            if not item.shown:
                return "hidden"
            marks = [
                "locked" if item.locked else "",
                "moves"
                if item.id in self._moving
                else "parts move"
                if item.id in self._holders
                else "to move"
                if item.role == "moving"
                else "fixed",
            ]
            return " · ".join(m for m in marks if m)
        if isinstance(item, Path):
            return show(path_curve(item).length, "mm", 0)
        if isinstance(item, (Run, PoseTrack, Attachment)):
            segment = segment_of(project, item)
            end = f"{segment.end:.1f}" if np.isfinite(segment.end) else "…"
            return f"{segment.start:.1f}–{end}\u2009s" if np.isfinite(segment.start) else "never"
        if isinstance(item, Wheel):
            return f"{abs(turns_of(project, item)):.2f} turns"
        if isinstance(item, Castor):
            return "castor"
        if isinstance(item, TimedRotation):
            amount = item.turns if item.turns is not None else item.rpm or 0.0
            text = f"{-amount if item.mirrored else amount:.3g}".replace("-", "−")
            return f"{text} turns" if item.turns is not None else f"{text}\u2009rpm"
        if isinstance(item, Gear):
            return given_ratio(item)
        if isinstance(item, Rod):
            return {"points": "points", "slider": "slider", "rocker": "rocker"}.get(item.keeps, "parallel")
        if isinstance(item, Ball):
            around = 2 * np.pi * item.radius
            return f"{float(rolled_distances(project, item, [span(project)])[0]) / around:.2f} turns"
        if isinstance(item, Light):
            return f"{item.kind} light" if item.on else "off"
        if isinstance(item, Finish):
            return _counted(len(users_of(project, item.id)), "part")
        if isinstance(item, FinishRule):
            return f"“{item.words}”"
        if isinstance(item, Colourway):
            return "shown" if project.colourway == item.id else _counted(len(item.finishes), "part")
        if isinstance(item, Camera):
            return show(item.focal_length, "mm lens", 0)
        if isinstance(item, Requirement):
            return show(required_by(project, item), "mm", 1) if item.checked else "not checked"
        if isinstance(item, Comment):
            return "done" if item.done else show(item.time, "s", 1)
        if isinstance(item, StepSheet):
            return "out of date" if is_stale(project, item) else _counted(len(item.steps), "step")
        if isinstance(item, Note):
            known = self.session.readings(at_rest=True).get(item.id)
            return known.text if known is not None else "—"
        return f"{item.start:.1f}–{item.end:.1f}\u2009s"  # type: ignore[attr-defined]

    def flags(self, index: Index) -> Qt.ItemFlag:
        plain = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        row = self._row(index)
        if row.parent is None:
            return plain | (Qt.ItemFlag.ItemIsDropEnabled if row.number == 0 else Qt.ItemFlag.NoItemFlags)
        if row.id.startswith((GROUP, HINT)):
            return plain
        flags = plain | Qt.ItemFlag.ItemIsEditable
        item = find(self.session.shown, row.id)
        if isinstance(item, Part):
            flags |= Qt.ItemFlag.ItemIsDragEnabled
            if item.geometry is None:
                flags |= Qt.ItemFlag.ItemIsDropEnabled
        return flags

    def setData(self, index: Index, value: object, role: int = Qt.ItemDataRole.EditRole) -> bool:
        name = " ".join(str(value).split())
        if role != Qt.ItemDataRole.EditRole or not name:
            return False
        item_id = self._row(index).id
        return self.session.edit("Rename", lambda project: edits.update(project, item_id, name=name))

    # dragging

    def supportedDropActions(self) -> Qt.DropAction:
        return Qt.DropAction.MoveAction

    def mimeTypes(self) -> list[str]:
        return [MIME]

    def mimeData(self, indexes: Sequence[QModelIndex]) -> QMimeData:
        data = QMimeData()
        data.setData(MIME, "\n".join(self._row(i).id for i in indexes).encode())
        return data

    def canDropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        return data.hasFormat(MIME) and parent.isValid() and self._target(parent) is not False

    def dropMimeData(self, data: QMimeData, action: Qt.DropAction, row: int, column: int, parent: Index) -> bool:
        """Put parts under another parent, before a row of it; they stay where they are in space."""
        target = self._target(parent)
        if not data.hasFormat(MIME) or isinstance(target, bool):
            return False
        ids = bytes(data.data(MIME).data()).decode().split("\n")
        below = self._row(parent).below
        before = (
            below[row].id
            if 0 <= row < len(below) and isinstance(find(self.session.shown, below[row].id), Part)
            else None
        )
        self.session.edit("Change parent", lambda project: reparent(project, ids, target, before))
        # the view must not remove the rows itself: the document has already been read anew
        return False

    def _target(self, parent: Index) -> str | bool | None:
        row = self._row(parent)
        if row.parent is None:
            return None if row.number == 0 else False
        item = find(self.session.shown, row.id)
        return item.id if isinstance(item, Part) and item.geometry is None else False


_LISTED = (
    Path,
    Run,
    PoseTrack,
    Attachment,
    Wheel,
    Castor,
    TimedRotation,
    Gear,
    Rod,
    Ball,
    Note,
    Requirement,
    Camera,
    Light,
    Shot,
    Finish,
    FinishRule,
    Colourway,
    StepSheet,
    Comment,
)


_MOVING = (Run, PoseTrack, Attachment, Wheel, Castor, TimedRotation, Gear, Rod, Ball)


def _counted(count: int, noun: str) -> str:
    return f"{count} {noun}{'' if count == 1 else 's'}"


def thing_of(row_id: str) -> str:
    """The thing that a row means: of one that holds all motions of a thing, that thing."""
    return row_id.removeprefix(GROUP)


def _motions(project: Project) -> list[Item]:
    return [item for kind in _MOVING for item in getattr(project, COLLECTIONS[kind])]


def _named(project: Project) -> Iterable[Item]:
    for kind in (Part, *_LISTED):
        yield from getattr(project, COLLECTIONS[kind])


def _health(row: int, project: Project, result: CheckResult | None) -> str:
    """Health of a heading: the worst finding about the things under it; checks have them all."""
    if result is None:
        return "unknown"
    # of what is not there nothing is known, neither good nor bad
    groups: list[set[str]] = [
        {p.id for p in project.parts},
        {p.id for p in project.paths},
        {i.id for i in _motions(project)},
        set(),
        {i.id for i in project.cameras},
        {i.id for i in project.shots},
        {i.id for i in project.lights},
        {*(i.id for i in project.finishes), *(i.id for i in project.finish_rules), *(i.id for i in project.colourways)},
        {*(i.id for i in project.sheets), *(i.id for i in project.comments)},
    ]
    severities = set()
    for finding in result.findings:
        about = set(finding.subject)
        # a clearance breach is the run's doing, not the product's
        if finding.rule in ("clearance-breach", "collision", "orientation-flip"):
            moving: tuple[Run | PoseTrack | Attachment, ...] = (
                *project.runs,
                *project.pose_tracks,
                *project.attachments,
            )
            about = {m.id for m in moving if m.rider in _with_parents(project, finding.subject)}
        if row == CHECKS_AT or about & groups[row]:
            severities.add(finding.severity)
    if "breach" in severities:
        return "breach"
    if row != CHECKS_AT and not groups[row]:
        return "unknown"
    return "warning" if "warning" in severities else "good"


def _with_parents(project: Project, ids: tuple[str, ...]) -> set[str]:
    parent = {p.id: p.parent for p in project.parts}
    shown: set[str] = set()
    for one in ids:
        here: str | None = one
        while here is not None and here in parent:
            shown.add(here)
            here = parent[here]
    return shown
