"""Where what stands on the pages of a step sheet: an overview with callouts and the parts list, then the steps, and a title block on each page.

Places and sizes in mm from a page's upper left corner.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kestrav import __version__
from kestrav.core.document.comments import Viewpoint
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project, Step, StepSheet
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.rest import rows
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.progress import Progress
from kestrav.core.sheets.drawing import Placed, Sight, line_drawing, sight_of
from kestrav.core.sheets.paper import SIZES, Box, Clip, Disc, Lines, Mark, Page, Picture, Shape, Text, fitting, wrapped
from kestrav.core.sheets.steps import Shown, framing, shown_in, view_of

Array = NDArray[np.float64]
Pictured = Callable[[float, Viewpoint, float], bytes]
"""Makes a picture (PNG) at a time in s, from a viewpoint, of an aspect (width by height)."""

_INK, _SOFT, _RULE, _PETROL, _STRAW = "#1d2a33", "#51606a", "#b9b09c", "#0d6b74", "#e9c46a"
_EDGE = 12.0  # margin
_BLOCK = 16.0  # height of the title block
_GAP = 5.0
_THIN, _HEAVY, _WAY = 0.13, 0.3, 0.35  # weights of context, of what moves, of trails
_FAINT = "#7d868c"
_CALL = 3.4  # radius of a callout
_SEE_THROUGH = 0.3  # opacity from which on something hides what is behind it


@dataclass(frozen=True)
class Listed:
    """A line of the parts list: a number, a name, how many."""

    number: int
    name: str
    count: int


@dataclass(frozen=True, eq=False)
class _Frame:
    """A rectangle on a page that shows a view."""

    x: float
    y: float
    width: float
    height: float

    @property
    def aspect(self) -> float:
        return self.width / self.height

    def on_page(self, seen: Array) -> Array:
        """Places (..., 2) as :meth:`Sight.seen` has them, on the page."""
        half = 0.5 * self.height
        return np.stack([self.x + 0.5 * self.width + half * seen[..., 0], self.y + half - half * seen[..., 1]], axis=-1)


def parts_list(shown: Sequence[Shown]) -> list[Listed]:
    """What moves in the steps, numbered in their order, equal names once; what moves in several steps counts once."""
    names: Counter[str] = Counter()
    known: set[tuple[str, tuple[str, ...]]] = set()
    for one in shown:
        for thing in zip(one.names, one.moved, strict=True):
            if thing not in known:
                known.add(thing)
                names[thing[0]] += 1
    return [Listed(k, name, count) for k, (name, count) in enumerate(names.items(), 1)]


def pages_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    sheet: StepSheet,
    date: str,
    pictured: Pictured | None = None,
    progress: Progress | None = None,
) -> list[Page]:
    """The pages of a sheet of a ``date``; shaded pictures are made by ``pictured``, and drawn in lines where there is none."""
    wide, high = SIZES[sheet.paper]
    if sheet.landscape:
        wide, high = high, wide
    tell = progress or (lambda share: None)
    shown = [shown_in(project, meshes, step) for step in sheet.steps]
    listed = parts_list(shown)
    numbers = {one.name: one.number for one in listed}
    pages: list[Page] = []
    work = len(sheet.steps) + 1
    tell(0.02)
    pages += _overview(project, meshes, sheet, shown, listed, wide, high, pictured)
    tell(1 / work)
    columns, lines = (2, 1) if sheet.landscape else (1, 2)
    cell_w = (wide - 2 * _EDGE - (columns - 1) * _GAP) / columns
    cell_h = (high - 2 * _EDGE - _BLOCK - _GAP - (lines - 1) * _GAP) / lines
    for first in range(0, len(sheet.steps), columns * lines):
        page = Page(wide, high)
        for k, number in enumerate(range(first, min(first + columns * lines, len(sheet.steps)))):
            x = _EDGE + (k % columns) * (cell_w + _GAP)
            y = _EDGE + (k // columns) * (cell_h + _GAP)
            page.marks += _step(
                project, meshes, sheet, number, shown[number], numbers, _Frame(x, y, cell_w, cell_h), pictured
            )
            tell((number + 2) / work)
        pages.append(page)
    for number, page in enumerate(pages, 1):
        page.marks += _title_block(project, sheet, date, number, len(pages), wide, high)
    return pages


def _title_block(
    project: Project, sheet: StepSheet, date: str, number: int, count: int, wide: float, high: float
) -> list[Mark]:
    x, y, w = _EDGE, high - _EDGE - _BLOCK, wide - 2 * _EDGE
    marks: list[Mark] = [Box(x, y, w, _BLOCK, colour=_INK, weight=0.25), Box(x, y, 1.6, _BLOCK, fill=_PETROL)]
    cells = [("Document", sheet.name, 0.40), ("Number", sheet.number or "–", 0.16), ("Rev.", sheet.revision or "–", 0.08), ("Author", sheet.author or "–", 0.15), ("Date", date, 0.12), ("Page", f"{number} of {count}", 0.09)]  # fmt: skip
    at = x + 1.6
    for k, (label, value, share) in enumerate(cells):
        width = (w - 1.6) * share
        if k:
            marks.append(Lines(np.array([[at, y], [at, y + _BLOCK]]), 0.13, _RULE))
        marks.append(Text(at + 1.6, y + 4.0, label, 2.2, colour=_SOFT))
        marks.append(Text(at + 1.6, y + 9.0, fitting(value, 3.4, width - 2.4, True), 3.4, True))
        if k == 0:
            told = fitting(f"{project.name} · Kestrav {__version__}", 2.3, width - 2.4)
            marks.append(Text(at + 1.6, y + 13.4, told, 2.3, colour=_SOFT))
        at += width
    return marks


# views


def _solids(project: Project, meshes: Mapping[str, Mesh], time: float, heavy: frozenset[str]) -> list[Placed]:
    poses, visible = world_poses(project, [time])[0], shown_parts(project)
    return [
        Placed(solid_mesh(meshes, part), poses[k], part.id in heavy)
        for k, part in enumerate(project.parts)
        if part.geometry is not None and part.id in visible and part.opacity >= _SEE_THROUGH
    ]


def _drawn(
    project: Project,
    meshes: Mapping[str, Mesh],
    sheet: StepSheet,
    frame: _Frame,
    view: Viewpoint,
    time: float,
    heavy: frozenset[str],
    pictured: Pictured | None,
) -> list[Mark]:
    """What a view shows in a frame: lines, or a shaded picture."""
    if sheet.look == "shaded" and pictured is not None:
        return [Picture(frame.x, frame.y, frame.width, frame.height, pictured(time, view, frame.aspect))]
    lines, marks = line_drawing(_solids(project, meshes, time, heavy), view, frame.aspect)
    places = frame.on_page(lines)
    colour = _FAINT if heavy else _INK
    inner: list[Mark] = []
    if (~marks).any():
        inner.append(Lines(places[~marks], _THIN, colour))
    if marks.any():
        inner.append(Lines(places[marks], _HEAVY, _INK))
    return [Clip(frame.x, frame.y, frame.width, frame.height, inner)]


def _trail(sight: Sight, frame: _Frame, trail: Array) -> list[Mark]:
    """A dashed line along the way that something has gone, with an arrow at its end."""
    seen = sight.seen(trail)
    seen = seen[np.isfinite(seen).all(axis=1)]
    if len(seen) < 2:
        return []
    places = frame.on_page(seen)
    long = float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())
    if long < 2.0:
        return []
    # light under it, so that it shows on what is dark
    marks: list[Mark] = [Lines(places, 3 * _WAY, "#ffffff"), Lines(places, _WAY, _PETROL, (1.6, 1.1))]
    way = places[-1] - places[max(len(places) - 4, 0)]
    if np.linalg.norm(way) > 1e-6:
        marks.append(_arrow(places[-1], way))
    return marks


def _arrow(tip: Array, way: Array, size: float = 3.2) -> Shape:
    way = way / np.linalg.norm(way)
    side = np.array([-way[1], way[0]])
    tip = tip + 0.5 * size * way
    return Shape(np.stack([tip, tip - size * way + 0.36 * size * side, tip - size * way - 0.36 * size * side]), _PETROL)


def _middle(project: Project, meshes: Mapping[str, Mesh], solids: tuple[str, ...], time: float) -> Array:
    """Where solids (n) are in space, as places (k, 3) of their surfaces."""
    poses, row = world_poses(project, [time])[0], rows(project)
    found = []
    for part in solids[:40]:
        shape = solid_mesh(meshes, project.parts[row[part]])
        picked = np.unique(np.linspace(0, len(shape.vertices) - 1, 24).astype(int))
        found.append(apply(poses[row[part]], shape.vertices[picked]))
    return np.concatenate(found)


def _callouts(frame: _Frame, wanted: Sequence[tuple[int, Array]]) -> list[Mark]:
    """Numbers in circles around a drawing, each with a line to what it is about; ``wanted`` are numbers and the places (2,) meant."""
    left, right = frame.x + _CALL + 1.0, frame.x + frame.width - _CALL - 1.0
    sides: dict[bool, list[tuple[int, Array]]] = {False: [], True: []}
    for number, place in wanted:
        inside = np.clip(place, [frame.x + 2, frame.y + 2], [frame.x + frame.width - 2, frame.y + frame.height - 2])
        sides[bool(inside[0] > frame.x + 0.5 * frame.width)].append((number, inside))
    marks: list[Mark] = []
    for at_right, some in sides.items():
        some.sort(key=lambda one: float(one[1][1]))
        step = 2 * _CALL + 1.2
        ys: list[float] = []
        for _, place in some:
            ys.append(max(float(place[1]), ys[-1] + step if ys else frame.y + _CALL + 1))
        # what went beyond the lower edge moves up again, and pushes those before it
        limit = frame.y + frame.height - _CALL - 1
        for k in range(len(ys) - 1, -1, -1):
            ys[k] = min(ys[k], limit)
            limit = ys[k] - step
        x = right if at_right else left
        for (number, place), y in zip(some, ys, strict=True):
            line = np.array([[x, y], place])
            marks += [Lines(line, 0.6, "#ffffff"), Lines(line, 0.18, _INK)]
            marks.append(Disc(float(place[0]), float(place[1]), 0.5, _INK))
            marks.append(Disc(x, y, _CALL, "#ffffff"))
            marks.append(Text(x, y + 1.15, str(number), 3.2, True, at="middle"))
    return marks


# pages


def _overview(
    project: Project,
    meshes: Mapping[str, Mesh],
    sheet: StepSheet,
    shown: Sequence[Shown],
    listed: Sequence[Listed],
    wide: float,
    high: float,
    pictured: Pictured | None,
) -> list[Page]:
    """The first page: all of it as it stands, callouts, the parts list; further pages where that is long."""
    page = Page(wide, high)
    inner_w, bottom = wide - 2 * _EDGE, high - _EDGE - _BLOCK - _GAP
    page.marks.append(Text(_EDGE, _EDGE + 6.0, fitting(sheet.name, 7.0, inner_w, True), 7.0, True))
    told = f"{len(sheet.steps)} step{'' if len(sheet.steps) == 1 else 's'} · {sum(one.count for one in listed)} parts"
    page.marks.append(Text(_EDGE, _EDGE + 11.5, told, 3.2, colour=_SOFT))
    top = _EDGE + 15.0
    if sheet.landscape:
        frame = _Frame(_EDGE, top, 0.62 * inner_w, bottom - top)
        table = (_EDGE + 0.62 * inner_w + _GAP, top, 0.38 * inner_w - _GAP, bottom)
    else:
        rows_high = min(7.0 + 5.6 * len(listed), 0.42 * (bottom - top))
        frame = _Frame(_EDGE, top, inner_w, bottom - top - rows_high - _GAP)
        table = (_EDGE, bottom - rows_high, inner_w, bottom)
    about = frozenset(part for one in shown for part in one.parts)
    points = np.concatenate([_middle(project, meshes, some, 0.0) for one in shown for some in one.moved if some])
    toward = np.array(
        [
            np.cos(np.radians(28)) * np.cos(np.radians(-45)),
            np.cos(np.radians(28)) * np.sin(np.radians(-45)),
            np.sin(np.radians(28)),
        ]
    )
    view = framing(points, toward, frame.aspect, 0.16)
    sight = sight_of(view)
    page.marks += _drawn(project, meshes, sheet, frame, view, 0.0, about, pictured)
    page.marks.append(Box(frame.x, frame.y, frame.width, frame.height, colour=_RULE, weight=0.13))
    numbers = {one.name: one.number for one in listed}
    calls: dict[int, Array] = {}
    for one in shown:
        for name, some in zip(one.names, one.moved, strict=True):
            if some and numbers[name] not in calls:
                calls[numbers[name]] = _called_at(sight, frame, _middle(project, meshes, some, 0.0))
    page.marks += _callouts(frame, sorted(calls.items()))
    pages = [page]
    rest = list(listed)
    x, y, w, last = table
    while True:
        count = max(int((last - y - 6.9) / 5.6), 1)
        pages[-1].marks += _table(x, y, w, rest[:count])
        rest = rest[count:]
        if not rest:
            return pages
        pages.append(Page(wide, high))
        x, y, w, last = _EDGE, _EDGE, inner_w, bottom


def _called_at(sight: Sight, frame: _Frame, places: Array) -> Array:
    """Where on the page a callout points to: the place of some (k, 3) that is nearest to their middle as seen."""
    seen = frame.on_page(sight.seen(places))
    seen = seen[np.isfinite(seen).all(axis=1)]
    if not len(seen):
        return np.array([frame.x + 0.5 * frame.width, frame.y + 0.5 * frame.height])
    return np.asarray(seen[int(np.argmin(np.linalg.norm(seen - seen.mean(axis=0), axis=1)))])


def _table(x: float, y: float, width: float, listed: Sequence[Listed]) -> list[Mark]:
    marks: list[Mark] = [Box(x, y, width, 6.0, fill="#ece6d8")]
    for label, at, how in (("No.", x + 2, "start"), ("Part", x + 14, "start"), ("Count", x + width - 2, "end")):
        marks.append(Text(at, y + 4.2, label, 2.8, True, at=how))  # type: ignore[arg-type]
    at = y + 6.0
    for one in listed:
        marks.append(Text(x + 2, at + 4.2, str(one.number), 3.0))
        marks.append(Text(x + 14, at + 4.2, fitting(one.name, 3.0, width - 34), 3.0))
        marks.append(Text(x + width - 2, at + 4.2, str(one.count), 3.0, at="end"))
        at += 5.6
        marks.append(Lines(np.array([[x, at], [x + width, at]]), 0.1, _RULE))
    return marks


def _step(
    project: Project,
    meshes: Mapping[str, Mesh],
    sheet: StepSheet,
    number: int,
    shown: Shown,
    numbers: Mapping[str, int],
    cell: _Frame,
    pictured: Pictured | None,
) -> list[Mark]:
    """A step in its rectangle: number and title, the drawing, what the fitter is told."""
    step: Step = sheet.steps[number]
    marks: list[Mark] = [
        Box(cell.x, cell.y, 10.0, 9.0, fill=_PETROL),
        Text(cell.x + 5.0, cell.y + 6.6, str(number + 1), 5.4, True, "#ffffff", "middle"),
        Text(cell.x + 13.0, cell.y + 6.4, fitting(step.title, 4.6, cell.width - 14.0, True), 4.6, True),
    ]
    notes: list[tuple[str, bool]] = []
    if step.tools:
        notes += [(line, False) for line in wrapped(f"Tools: {step.tools}", 3.0, cell.width - 4, most=2)]
    notes += [(line, True) for line in wrapped(step.text, 3.3, cell.width - 4, most=7)] if step.text.strip() else []
    below = 4.6 * len(notes) + (2.0 if notes else 0.0)
    frame = _Frame(cell.x, cell.y + 11.0, cell.width, cell.height - 11.0 - below)
    view = view_of(project, meshes, step, shown, frame.aspect)
    sight = sight_of(view)
    marks += _drawn(project, meshes, sheet, frame, view, shown.time, shown.parts, pictured)
    over: list[Mark] = []
    calls: dict[int, Array] = {}
    for name, some, trail in zip(shown.names, shown.moved, shown.trails, strict=True):
        over += _trail(sight, frame, trail)
        if some:
            place = _called_at(sight, frame, _middle(project, meshes, some, shown.time))
            calls.setdefault(numbers[name], place)
    marks.append(Clip(frame.x, frame.y, frame.width, frame.height, over))
    marks.append(Box(frame.x, frame.y, frame.width, frame.height, colour=_RULE, weight=0.13))
    marks += _callouts(frame, sorted(calls.items()))
    at = frame.y + frame.height + 5.0
    for line, plain in notes:
        marks.append(Text(cell.x + 2, at, line, 3.3 if plain else 3.0, colour=_INK if plain else _SOFT))
        at += 4.6
    return marks
