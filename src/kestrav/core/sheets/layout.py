"""Where what stands on the pages of a step sheet: an overview with callouts and the parts list, then the steps, and a title block on each page.

Places and sizes in mm from a page's upper left corner.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav import __version__
from kestrav.core.document.comments import SavedView
from kestrav.core.document.lookup import shown_parts
from kestrav.core.document.records import Project, StepSheet
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.progress import Progress
from kestrav.core.sheets.drawing import Placed, Sight, line_drawing, sight_of
from kestrav.core.sheets.paper import SIZES, Box, Clip, Disc, Lines, Mark, Page, Picture, Shape, Text, fitting, wrapped
from kestrav.core.sheets.steps import Shown, framing, places_on, shown_in, toward, view_of

Array = NDArray[np.float64]
Pictured = Callable[[float, SavedView, float], bytes]
"""Makes a picture (PNG) at a time in s, from a viewpoint, of an aspect (width by height)."""

_INK, _SOFT, _RULE, _PETROL, _STRAW = "#1d2a33", "#51606a", "#b9b09c", "#0d6b74", "#e9c46a"
_EDGE = 12.0  # margin
_BLOCK = 16.0  # height of the title block
_GAP = 5.0
_THIN, _HEAVY, _WAY = 0.13, 0.3, 0.35  # weights of context, of what moves, of trails
_FAINT = "#7d868c"
_CALL = 3.4  # radius of a callout
_HEAD, _ROW, _NOTE = 7.0, 5.6, 4.6  # heights of the parts list's head and rows, and of a line of a step's text
_USUAL = toward(-45.0, 28.0)  # from where a product is usually drawn: the front and right, a little from above
_SEE_THROUGH = 0.3  # opacity from which on something hides what is behind it


class Listed(msgspec.Struct, frozen=True):
    """A line of the parts list: a number, a name, how many."""

    number: int
    name: str
    count: int


class _Frame(msgspec.Struct, frozen=True, eq=False):
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
    return _Layout(project, meshes, sheet, pictured).pages(date, progress or (lambda share: None))


class _Layout:
    """A sheet being laid out."""

    def __init__(
        self, project: Project, meshes: Mapping[str, Mesh], sheet: StepSheet, pictured: Pictured | None
    ) -> None:
        self.project, self.meshes, self.sheet, self.pictured = project, meshes, sheet, pictured
        self.wide, self.high = SIZES[sheet.paper][::-1] if sheet.landscape else SIZES[sheet.paper]
        # what is left between the margins, above the title block
        self.inner, self.bottom = self.wide - 2 * _EDGE, self.high - _EDGE - _BLOCK - _GAP
        self.shown = [shown_in(project, meshes, step) for step in sheet.steps]
        self.listed = parts_list(self.shown)
        self.numbers = {one.name: one.number for one in self.listed}

    def pages(self, date: str, tell: Progress) -> list[Page]:
        """All pages, told as they are made."""
        work = len(self.sheet.steps) + 1
        tell(0.02)
        pages = self._overview()
        columns, lines = (2, 1) if self.sheet.landscape else (1, 2)
        width = (self.inner - (columns - 1) * _GAP) / columns
        height = (self.bottom - _EDGE - (lines - 1) * _GAP) / lines
        for number in range(len(self.sheet.steps)):
            tell((number + 1) / work)
            place = number % (columns * lines)
            if place == 0:
                pages.append(Page(self.wide, self.high))
            x, y = _EDGE + (place % columns) * (width + _GAP), _EDGE + (place // columns) * (height + _GAP)
            pages[-1].marks += self._step(number, _Frame(x, y, width, height))
        for number, page in enumerate(pages, 1):
            page.marks += self._title_block(date, f"{number} of {len(pages)}")
        return pages

    def _title_block(self, date: str, page: str) -> list[Mark]:
        sheet, x, y = self.sheet, _EDGE, self.high - _EDGE - _BLOCK
        marks: list[Mark] = [
            Box(x, y, self.inner, _BLOCK, colour=_INK, weight=0.25),
            Box(x, y, 1.6, _BLOCK, fill=_PETROL),
        ]
        cells = (
            ("Document", sheet.name, 0.40), ("Number", sheet.number, 0.16), ("Rev.", sheet.revision, 0.08), ("Author", sheet.author, 0.15),
            ("Date", date, 0.12), ("Page", page, 0.09),
        )  # fmt: skip
        at = x + 1.6
        for k, (label, value, share) in enumerate(cells):
            width = (self.inner - 1.6) * share
            if k:
                marks.append(Lines(np.array([[at, y], [at, y + _BLOCK]]), 0.13, _RULE))
            marks.append(Text(at + 1.6, y + 4.0, label, 2.2, colour=_SOFT))
            marks.append(Text(at + 1.6, y + 9.0, fitting(value or "–", 3.4, width - 2.4, bold=True), 3.4, True))
            if k == 0:
                text = fitting(f"{self.project.name} · Kestrav {__version__}", 2.3, width - 2.4)
                marks.append(Text(at + 1.6, y + 13.4, text, 2.3, colour=_SOFT))
            at += width
        return marks

    # views

    def _view(self, frame: _Frame, view: SavedView, time: float, shown: Sequence[Shown], *, trails: bool) -> list[Mark]:
        """A view in a frame at a time: lines or a shaded picture, callouts of what moves, and its trails where they are wanted."""
        sight = sight_of(view)
        poses = world_poses(self.project, [time])[0]
        heavy = frozenset(part for one in shown for part in one.parts)
        marks = self._drawn(frame, view, time, poses, heavy)
        over: list[Mark] = []
        calls: dict[int, Array] = {}
        for one in shown:
            for name, parts, trail in zip(one.names, one.moved, one.trails, strict=True):
                if trails:
                    over += _trail(sight, frame, trail)
                if parts and self.numbers[name] not in calls:
                    places = places_on(self.project, self.meshes, parts, poses)
                    calls[self.numbers[name]] = _called_at(sight, frame, places)
        marks.append(Clip(frame.x, frame.y, frame.width, frame.height, over))
        marks.append(Box(frame.x, frame.y, frame.width, frame.height, colour=_RULE, weight=0.13))
        return marks + _callouts(frame, sorted(calls.items()))

    def _drawn(self, frame: _Frame, view: SavedView, time: float, poses: Array, heavy: frozenset[str]) -> list[Mark]:
        """What a view shows in a frame: lines, or a shaded picture."""
        if self.sheet.look == "shaded" and self.pictured is not None:
            png = self.pictured(time, view, frame.aspect)
            return [Picture(frame.x, frame.y, frame.width, frame.height, png)]
        visible = shown_parts(self.project)
        solids = [
            Placed(solid_mesh(self.meshes, part), poses[k], part.id in heavy)
            for k, part in enumerate(self.project.parts)
            if part.geometry is not None and part.id in visible and part.opacity >= _SEE_THROUGH
        ]
        lines, marks = line_drawing(solids, view, frame.aspect)
        places = frame.on_page(lines)
        inner: list[Mark] = []
        if (~marks).any():
            inner.append(Lines(places[~marks], _THIN, _FAINT))
        if marks.any():
            inner.append(Lines(places[marks], _HEAVY, _INK))
        return [Clip(frame.x, frame.y, frame.width, frame.height, inner)]

    # pages

    def _overview(self) -> list[Page]:
        """The first page: all of it as it stands, callouts, the parts list; further pages where that is long."""
        sheet, inner, bottom = self.sheet, self.inner, self.bottom
        page = Page(self.wide, self.high)
        page.marks.append(Text(_EDGE, _EDGE + 6.0, fitting(sheet.name, 7.0, inner, bold=True), 7.0, True))
        steps = f"{len(sheet.steps)} step{'' if len(sheet.steps) == 1 else 's'}"
        text = f"{steps} · {sum(one.count for one in self.listed)} parts"
        page.marks.append(Text(_EDGE, _EDGE + 11.5, text, 3.2, colour=_SOFT))
        top = _EDGE + 15.0
        if sheet.landscape:
            frame = _Frame(_EDGE, top, 0.62 * inner, bottom - top)
            x, y, width = _EDGE + 0.62 * inner + _GAP, top, 0.38 * inner - _GAP
        else:
            rows_high = min(_HEAD + _ROW * len(self.listed), 0.42 * (bottom - top))
            frame = _Frame(_EDGE, top, inner, bottom - top - rows_high - _GAP)
            x, y, width = _EDGE, bottom - rows_high, inner
        rest = world_poses(self.project, [0.0])[0]
        moved = sorted({part for one in self.shown for part in one.parts})
        view = framing(places_on(self.project, self.meshes, moved, rest), _USUAL, frame.aspect, 0.16)
        page.marks += self._view(frame, view, 0.0, self.shown, trails=False)
        pages, left = [page], list(self.listed)
        while True:
            count = max(int((bottom - y - _HEAD) / _ROW + 1e-6), 1)
            pages[-1].marks += _table(x, y, width, left[:count])
            left = left[count:]
            if not left:
                return pages
            pages.append(Page(self.wide, self.high))
            x, y, width = _EDGE, _EDGE, inner

    def _step(self, number: int, cell: _Frame) -> list[Mark]:
        """A step in its rectangle: number and title, the drawing, what the fitter is told."""
        step, shown = self.sheet.steps[number], self.shown[number]
        marks: list[Mark] = [
            Box(cell.x, cell.y, 10.0, 9.0, fill=_PETROL),
            Text(cell.x + 5.0, cell.y + 6.6, str(number + 1), 5.4, True, "#ffffff", "middle"),
            Text(cell.x + 13.0, cell.y + 6.4, fitting(step.title, 4.6, cell.width - 14.0, bold=True), 4.6, True),
        ]
        notes: list[tuple[str, float, str]] = []
        if step.tools.strip():
            notes += [(one, 3.0, _SOFT) for one in wrapped(f"Tools: {step.tools}", 3.0, cell.width - 4, most=2)]
        if step.text.strip():
            notes += [(one, 3.3, _INK) for one in wrapped(step.text, 3.3, cell.width - 4, most=7)]
        below = _NOTE * len(notes) + (2.0 if notes else 0.0)
        frame = _Frame(cell.x, cell.y + 11.0, cell.width, cell.height - 11.0 - below)
        view = view_of(self.project, self.meshes, step, shown, frame.aspect)
        marks += self._view(frame, view, shown.time, [shown], trails=True)
        at = frame.y + frame.height + 5.0
        for line, size, colour in notes:
            marks.append(Text(cell.x + 2, at, line, size, colour=colour))
            at += _NOTE
        return marks


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
    direction = places[-1] - places[max(len(places) - 4, 0)]
    if np.linalg.norm(direction) > 1e-6:
        marks.append(_arrow(places[-1], direction))
    return marks


def _arrow(tip: Array, direction: Array, size: float = 3.2) -> Shape:
    direction = direction / np.linalg.norm(direction)
    side = np.array([-direction[1], direction[0]])
    tip = tip + 0.5 * size * direction
    return Shape(
        np.stack([tip, tip - size * direction + 0.36 * size * side, tip - size * direction - 0.36 * size * side]),
        _PETROL,
    )


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
        at += _ROW
        marks.append(Lines(np.array([[x, at], [x + width, at]]), 0.1, _RULE))
    return marks
