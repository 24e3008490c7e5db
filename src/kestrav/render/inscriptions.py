"""What a shot writes on its pictures: names with leaders, the clearance's dimension, readings, time and frame, title and end card."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cache
from importlib import resources
from itertools import product
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.filmed import rider_of
from kestrav.core.camera.lens import extent, in_camera, on_frame, to_pixels
from kestrav.core.camera.subject import Subject, thing_as_subject
from kestrav.core.camera.views import Views, views
from kestrav.core.clearance.live import Live
from kestrav.core.document.lookup import get, qualified_name, subtree
from kestrav.core.document.records import Project, Shot, Wheel
from kestrav.core.document.shots import frame_count
from kestrav.core.files.product_tree import clean_name
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion, thing_speeds
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.later import later
from kestrav.core.units import show
from kestrav.render.palette import CARD, INK, PETROL, RULE, VERMILION

if TYPE_CHECKING:
    from PIL import Image, ImageDraw, ImageFont
else:
    Image = later("PIL.Image")
    ImageDraw = later("PIL.ImageDraw")
    ImageFont = later("PIL.ImageFont")

Array = NDArray[np.float64]
Picture = NDArray[np.uint8]
Box = tuple[float, float, float, float]

_FINE = 2  # what is drawn, is drawn so many times as large and then made small, which makes lines smooth
_TALL = 720.0  # pixels of a picture's height for which the sizes below are meant
_TEXT, _SMALL, _TITLE, _CARD = 15.0, 13.0, 34.0, 44.0
LEGIBLE = 480  # pixels of width of a picture in passing below which nothing is written, as it would hide the rest
_LEAST = 11.0  # pixels of the smallest text in a picture of any size
_TITLE_STAYS, _END_STAYS, _SOFT = 3.2, 2.4, 0.5  # s
_MOST_WHEELS = 4
_LONGEST = 60  # characters of a name that is drawn
_LOOKS = 25  # moments of a shot by which the place of a label is chosen
_MARGIN = 0.035  # of the frame's height, that labels keep from its edges
_WAYS = tuple((np.cos(a), np.sin(a)) for a in np.radians([-40, -140, 40, 140, -90, 0, 180, 90]))
_AWAY = (0.11, 0.19)  # of the frame's height: how far a label may stand from what it names
_VEIL = 0.86  # how opaque cards are


class Inscriber:
    """Writes on a shot's pictures."""

    def __init__(self, project: Project, meshes: Mapping[str, Mesh], shot: Shot) -> None:
        self.project, self.meshes, self.shot = project, meshes, shot
        shows = shot.shows
        self.writes = bool(
            shows.labels or shows.clearance or shows.turns or shows.speed or shows.clock or shows.title or shows.end
        )
        if not self.writes:
            return
        self.camera = camera_of(project, shot.camera)
        self.rider = rider_of(project, shot)
        own = set(subtree(project, self.rider)) if self.rider else set()
        wheels = [r for r in project.wheels if r.part in own] or list(project.wheels)
        self.wheels: list[Wheel] = wheels[:_MOST_WHEELS] if shows.turns else []
        # of a rider with nothing to be near to, the clearance of all that moves
        self.live = Live(own or None) if shows.clearance else None
        # what has no solids has no place in a picture
        labelled = ((get(project, thing).name, thing_as_subject(project, meshes, thing)) for thing in shows.labels)
        self._named = [(one_line(name), subject) for name, subject in labelled if subject is not None]
        self._ways: list[tuple[float, float]] | None = None

    def inscribed(self, picture: NDArray[Any], time: float, seen: Views, poses: Array) -> NDArray[Any]:
        """A picture (h, w, 3 or 4) at a time in s, seen by the first of some views, with what is written on it."""
        layer = self.layer(picture.shape[1], picture.shape[0], time, seen, poses)
        if layer is None:
            return picture
        rows, columns = (np.flatnonzero(layer[..., 3].any(axis=axis)) for axis in (1, 0))
        if not len(rows):
            return picture
        # most of a picture has nothing on it
        there = np.s_[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]
        marked = picture.copy()
        marked[there] = self._laid_over(picture[there], layer[there])
        return marked

    @staticmethod
    def _laid_over(picture: NDArray[Any], layer: Picture) -> NDArray[Any]:
        top = np.float32(np.iinfo(picture.dtype).max)
        over, ink = layer[..., 3:].astype(np.float32) / 255.0, top / 255.0 * layer[..., :3].astype(np.float32)
        under = picture[..., :3].astype(np.float32)
        if picture.shape[2] == 3:
            return np.rint(under + over * (ink - under)).astype(picture.dtype)
        below = picture[..., 3:].astype(np.float32) / top
        opacity = over + below * (1.0 - over)
        mixed = over * ink + (1.0 - over) * below * under
        whole = np.concatenate([mixed / np.maximum(opacity, 1e-6), top * opacity], axis=2)
        return np.rint(whole).astype(picture.dtype)

    def layer(self, width: int, height: int, time: float, seen: Views, poses: Array) -> Picture | None:
        """What is written, as a picture (height, width, 4) that lets through; none where nothing is."""
        if not self.writes:
            return None
        sheet = Sheet(width, height)
        half = seen.half_height(self.camera, self.shot.width, self.shot.height)[:1]

        def place(points: Array) -> Array:
            local = in_camera(seen.position[:1], seen.forward[:1], seen.up[:1], points[None])
            return to_pixels(on_frame(local, half, width / height, parallel=self.camera.parallel)[0], width, height)

        for name, box, direction in self._labels(width, height, place, poses):
            sheet.label(name, box, direction)
        if self.live is not None:
            self._dimension(sheet, place, time, width, height)
        sheet.readings(self._readings(time))
        shows, since = self.shot.shows, time - self.shot.start
        if shows.title:
            sheet.title(
                shows.title, shows.subtitle, _through(since, min(_TITLE_STAYS, self.shot.end - self.shot.start))
            )
        if shows.end:
            begins = max(self.shot.end - _END_STAYS, self.shot.start)
            sheet.end_card(shows.end, float(np.clip((time - begins) / _SOFT, 0.0, 1.0)))
        return sheet.done()

    def _readings(self, time: float) -> list[tuple[str, str]]:
        shows, readings = self.shot.shows, []
        if shows.clock:
            frame = min(round((time - self.shot.start) * self.shot.fps), frame_count(self.shot) - 1)
            readings.append(("time", f"{time:.2f} s · frame {frame}"))
        if shows.speed and self.rider:
            speed = float(thing_speeds(self.project, self.rider, np.array([time]))[0])
            readings.append((one_line(get(self.project, self.rider).name), f"{speed / 1000.0:.2f} m/s"))
        motion = Motion(self.project)
        for roll in self.wheels:
            angle = float(motion.angles(roll, np.array([time]))[0])
            turns, degrees = angle / (2 * np.pi) + 0.0, np.degrees(angle) + 0.0
            readings.append(
                (
                    one_line(qualified_name(self.project, roll.part)),
                    f"{turns:.2f} turns · {degrees:,.0f}°".replace(",", "\u2009"),
                )
            )
        return readings

    def _dimension(self, sheet: Sheet, place, time: float, width: int, height: int) -> None:  # type: ignore[no-untyped-def]
        assert self.live is not None
        now = self.live.follow(self.project, self.meshes, time, 1)
        pair = now.pairs[0]
        if pair is None or not np.isfinite(now.distance[0]):
            return
        ends = place(now.points[0])
        if np.any(ends < 0) or np.any(ends > (width, height)):
            return
        distance, need = float(now.distance[0]), float(now.needs[0])
        breach = distance < need
        text = show(distance, "mm", 1)
        sheet.dimension(ends, f"{text} — {show(need, 'mm', 1)} required" if breach else text, breach=breach)

    # labels

    def _labels(self, width: int, height: int, place, poses: Array):  # type: ignore[no-untyped-def]
        """Name, the box of what it names, and the way to its label, of each label that is in the picture."""
        if not self._named:
            return []
        if self._ways is None:
            self._ways = self._chosen_directions(width, height)
        labels = []
        for (name, subject), direction in zip(self._named, self._ways, strict=True):
            box = _box(subject, place, poses)
            if -0.5 * width < box[0] and box[2] < 1.5 * width:
                middle = 0.5 * (box[0] + box[2]), 0.5 * (box[1] + box[3])
                if 0 <= middle[0] <= width and 0 <= middle[1] <= height:
                    labels.append((name, box, direction))
        return labels

    def _chosen_directions(self, width: int, height: int) -> list[tuple[float, float]]:
        """For each label the way (x, y) in pixels from what it names, that is the best over the whole shot: so it never jumps."""
        times = np.linspace(self.shot.start, self.shot.end, _LOOKS)
        poses = world_poses(self.project, times)
        seen = views(self.project, self.meshes, self.camera, times, poses, self.shot.width / self.shot.height)
        half = seen.half_height(self.camera, self.shot.width, self.shot.height)
        sheet = Sheet(width, height, drawn=False)
        anchors = []
        for _, subject in self._named:
            local = in_camera(seen.position, seen.forward, seen.up, subject.places(poses))
            low, high = extent(
                to_pixels(on_frame(local, half, width / height, parallel=self.camera.parallel), width, height)
            )
            anchors.append(0.5 * (low + high))
        taken: list[Array] = []
        chosen_ways = []
        reserved = sheet.reserved(title=bool(self.shot.shows.title), readings=len(self._readings(self.shot.start)))
        for k, (name, _) in enumerate(self._named):
            wide, tall = sheet.label_size(name)
            best, chosen, boxes = np.inf, _WAYS[0], np.empty((0, 4))
            for away, direction in product(_AWAY, _WAYS):
                step = np.array(direction) * away * height
                middle = anchors[k] + step
                half_size = np.array([wide, tall]) / 2
                middle = np.clip(middle, half_size, np.array([width, height]) - half_size)
                tried = np.concatenate([middle - half_size, middle + half_size], axis=1)
                cost = 0.15 * away / _AWAY[0] + float(np.abs(middle - anchors[k] - step).sum(axis=1).mean()) / height
                cost += sum(_overlap(tried, other) for other in taken) + sum(
                    _overlap(tried, np.array([box])) for box in reserved
                )
                for other in anchors:
                    inside = np.all((other >= tried[:, :2]) & (other <= tried[:, 2:]), axis=1)
                    cost += float(inside.mean())
                if cost < best:
                    best, chosen, boxes = cost, (float(step[0]), float(step[1])), tried
            taken.append(boxes)
            chosen_ways.append(chosen)
        return chosen_ways


def _overlap(one: Array, two: Array) -> float:
    """The mean share by which boxes (n, 4) overlap others (n or 1, 4)."""
    sides = np.minimum(one[:, 2:], two[:, 2:]) - np.maximum(one[:, :2], two[:, :2])
    area = np.prod(np.maximum(sides, 0.0), axis=1) / np.prod(one[:, 2:] - one[:, :2], axis=1)
    return 2.0 * float(area.mean())


def _box(subject: Subject, place, poses: Array) -> Box:  # type: ignore[no-untyped-def]
    places = place(subject.places(poses[None])[0])
    (left, top), (right, bottom) = places.min(axis=0), places.max(axis=0)
    return float(left), float(top), float(right), float(bottom)


def _through(since: float, stays: float) -> float:
    """How much is shown of what goes softly after a while."""
    return float(np.clip((stays - since) / _SOFT, 0.0, 1.0))


def one_line(text: str) -> str:
    """A name as it is drawn: on one line, and of a length that fits beside others."""
    text = clean_name(text)
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


@cache
def font(size: int, *, strong: bool) -> ImageFont.FreeTypeFont:
    """The font that ships with Kestrav, of a size in pixels."""
    name = "OpenSans-Semibold.ttf" if strong else "OpenSans-Regular.ttf"
    return ImageFont.truetype(str(resources.files("kestrav") / "assets" / "fonts" / name), size)


class Sheet:
    """A see-through sheet of the size of a picture, that is written on. Places and sizes are the picture's pixels."""

    def __init__(self, width: int, height: int, *, drawn: bool = True) -> None:
        self.width, self.height = width, height
        self.unit = height / _TALL
        self.image = Image.new("RGBA", (_FINE * width, _FINE * height) if drawn else (1, 1), (0, 0, 0, 0))
        self.pen = ImageDraw.Draw(self.image)
        self.marked = False

    def done(self) -> Picture | None:
        """The sheet (height, width, 4); none where nothing is on it."""
        if not self.marked:
            return None
        box = self.image.getbbox()
        done = np.zeros((self.height, self.width, 4), np.uint8)
        if box is None:
            return done
        left, top, right, bottom = (*(v // _FINE * _FINE for v in box[:2]), *(-(-v // _FINE) * _FINE for v in box[2:]))
        # colours by their opacity, or the sheet's own black would darken every edge
        small = np.asarray(self.image.crop((left, top, right, bottom)).convert("RGBa").reduce(_FINE).convert("RGBA"))
        done[top // _FINE : bottom // _FINE, left // _FINE : right // _FINE] = small
        return done

    def _font(self, size: float, *, strong: bool = False) -> ImageFont.FreeTypeFont:
        return font(round(_FINE * max(size * self.unit, _LEAST)), strong=strong)

    def _text_size(self, text: str, font: ImageFont.FreeTypeFont) -> tuple[float, float]:
        ascent, descent = font.getmetrics()
        return font.getlength(clean_name(text)) / _FINE, (ascent + descent) / _FINE

    def _card(self, box: Box, share: float = 1.0, edge: str = RULE) -> None:
        corner = _FINE * 4 * self.unit
        fine = [_FINE * v for v in box]
        self.pen.rounded_rectangle(
            fine, corner, _with(CARD, _VEIL * share), _with(edge, share), max(round(_FINE * self.unit), 1)
        )
        self.marked = True

    def _write(
        self, at: tuple[float, float], text: str, font: ImageFont.FreeTypeFont, colour: str, share: float = 1.0
    ) -> None:
        self.pen.text((_FINE * at[0], _FINE * at[1]), clean_name(text), _with(colour, share), font, anchor="la")
        self.marked = True

    def _line(self, points: list[tuple[float, float]], colour: str, width: float) -> None:
        wide = max(round(_FINE * width * self.unit), 1)
        self.pen.line([(_FINE * x, _FINE * y) for x, y in points], _with(colour, 1.0), wide)
        self.marked = True

    # labels

    def label_size(self, text: str) -> tuple[float, float]:
        """Width and height of a label's card."""
        wide, high = self._text_size(text, self._font(_TEXT, strong=True))
        return wide + 18 * self.unit, high + 8 * self.unit

    def label(self, text: str, box: Box, direction: tuple[float, float]) -> None:
        """A name on a card, with a leader to the middle of the box of what it names."""
        wide, high = self.label_size(text)
        anchor = 0.5 * (box[0] + box[2]), 0.5 * (box[1] + box[3])
        margin = _MARGIN * self.height
        x = float(np.clip(anchor[0] + direction[0], margin + wide / 2, self.width - margin - wide / 2))
        y = float(np.clip(anchor[1] + direction[1], margin + high / 2, self.height - margin - high / 2))
        card = x - wide / 2, y - high / 2, x + wide / 2, y + high / 2
        # the leader leaves the card where it is nearest to what is named
        start = float(np.clip(anchor[0], card[0], card[2])), float(np.clip(anchor[1], card[1], card[3]))
        self._line([start, anchor], CARD, 3.4)
        self._line([start, anchor], INK, 1.3)
        dot = 3.6 * self.unit
        self.pen.ellipse(
            [
                _FINE * (anchor[0] - dot),
                _FINE * (anchor[1] - dot),
                _FINE * (anchor[0] + dot),
                _FINE * (anchor[1] + dot),
            ],
            _with(INK, 1.0),
            _with(CARD, 1.0),
            max(round(_FINE * 1.2 * self.unit), 1),
        )
        self._card(card)
        self._write((card[0] + 9 * self.unit, card[1] + 4 * self.unit), text, self._font(_TEXT, strong=True), INK)

    def dimension(self, ends: Array, text: str, *, breach: bool) -> None:
        """A dimension line between two places (2, 2), with its text on a card beside it; a breach in vermilion."""
        colour = VERMILION if breach else PETROL
        (x0, y0), (x1, y1) = ends
        length = float(np.hypot(x1 - x0, y1 - y0))
        along = np.array([x1 - x0, y1 - y0]) / length if length > 1e-6 else np.array([1.0, 0.0])
        across = np.array([-along[1], along[0]])
        tick = 7 * self.unit * across
        for points in ([ends[0], ends[1]], [ends[0] - tick, ends[0] + tick], [ends[1] - tick, ends[1] + tick]):
            line = [(float(p[0]), float(p[1])) for p in points]
            self._line(line, CARD, 4.6)
            self._line(line, colour, 2.2)
        wide, high = self.label_size(text)
        middle = ends.mean(axis=0)
        # above the line's middle, where there is room
        x = float(np.clip(middle[0], wide / 2, self.width - wide / 2))
        y = float(middle[1] - 14 * self.unit - high / 2 - 0.5 * abs(y1 - y0))
        y = y if y > high else float(middle[1] + 14 * self.unit + high / 2 + 0.5 * abs(y1 - y0))
        box = x - wide / 2, y - high / 2, x + wide / 2, y + high / 2
        self._card(box, edge=colour)
        self._write((box[0] + 9 * self.unit, box[1] + 4 * self.unit), text, self._font(_TEXT, strong=True), colour)

    # readings, title, end

    def reserved(self, *, title: bool, readings: int) -> list[Box]:
        """Boxes that labels had better leave free."""
        unit, boxes = self.unit, []
        if title:
            boxes.append((0.0, 0.0, 0.5 * self.width, 130 * unit))
        if readings:
            boxes.append((0.0, self.height - (46 + 24 * readings) * unit, 330 * unit, float(self.height)))
        return boxes

    def readings(self, lines: list[tuple[str, str]]) -> None:
        """A card of named values in the lower left corner; values to the right, so that their digits do not wander."""
        if not lines:
            return
        plain, strong, unit = self._font(_SMALL), self._font(_SMALL, strong=True), self.unit
        names = max(self._text_size(name, plain)[0] for name, _ in lines)
        values = max(max(self._text_size(value, strong)[0] for _, value in lines), 132 * unit)
        row = self._text_size("0", strong)[1] + 3 * unit
        left, bottom = 28 * unit, self.height - 26 * unit
        top = bottom - row * len(lines) - 14 * unit
        self._card((left, top, left + names + values + 44 * unit, bottom))
        for k, (name, value) in enumerate(lines):
            y = top + 7 * unit + k * row
            self._write((left + 14 * unit, y), name, plain, INK)
            wide = self._text_size(value, strong)[0]
            self._write((left + names + values + 30 * unit - wide, y), value, strong, INK)

    def title(self, text: str, below: str, share: float) -> None:
        """A title in the upper left corner."""
        if share <= 0:
            return
        unit = self.unit
        size = _TITLE * min(1.0, 0.8 * self.width / max(self._text_size(text, self._font(_TITLE, strong=True))[0], 1.0))
        strong, plain = self._font(size, strong=True), self._font(_TEXT + 2)
        wide, high = self._text_size(text, strong)
        small = self._text_size(below, plain) if below else (0.0, 0.0)
        left, top = 28 * unit, 26 * unit
        box = left, top, left + max(wide, small[0]) + 44 * unit, top + high + small[1] + 22 * unit
        self._card(box, share)
        self.pen.rectangle(
            [_FINE * v for v in (left, top + 4 * unit, left + 5 * unit, box[3] - 4 * unit)], _with(PETROL, share)
        )
        self._write((left + 24 * unit, top + 9 * unit), text, strong, INK, share)
        if below:
            self._write((left + 24 * unit, top + 11 * unit + high), below, plain, INK, share)

    def end_card(self, text: str, share: float) -> None:
        """Paper over all of the picture, with a text in its middle, a line for each of its lines."""
        if share <= 0:
            return
        self.pen.rectangle([0, 0, *self.image.size], _with(CARD, 0.94 * share))
        self.marked = True
        lines = text.split("\n")
        sizes = [_CARD, *[_TEXT + 5] * (len(lines) - 1)]
        fonts = [
            self._font(
                size
                * min(1.0, 0.86 * self.width / max(self._text_size(line, self._font(size, strong=k == 0))[0], 1.0)),
                strong=k == 0,
            )
            for k, (line, size) in enumerate(zip(lines, sizes, strict=True))
        ]
        boxes = [self._text_size(line, font) for line, font in zip(lines, fonts, strict=True)]
        y = 0.5 * (self.height - sum(high for _, high in boxes))
        for line, font, (wide, high) in zip(lines, fonts, boxes, strict=True):
            self._write((0.5 * (self.width - wide), y), line, font, INK, share)
            y += high


def _with(colour: str, share: float) -> tuple[int, int, int, int]:
    red, green, blue = (int(colour[i : i + 2], 16) for i in (1, 3, 5))
    return red, green, blue, round(255 * share)
