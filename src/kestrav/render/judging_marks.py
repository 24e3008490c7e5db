"""Marks by which a path is judged: numbers at its ticks, its riders' times, its curvature and kinks, traces."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkBillboardTextActor3D, vtkRenderer

from kestrav.core.document.records import Path, Project
from kestrav.core.kinematics.traces import rider_marks
from kestrav.core.paths.analysis import comb
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show
from kestrav.render.marks import LEAST_SPACING, TICK_PIXELS, flat, tick_spacing
from kestrav.render.measure_marks import text_actor
from kestrav.render.palette import INK, OCHRE, PETROL, PETROL_DARK, SHOT, rgb
from kestrav.render.shapes import polyline, put_data, segments, vertices
from kestrav.render.viewpoint import to_display

Array = NDArray[np.float64]

COMB_PIXELS, KINK_PIXELS = 46.0, 9.0
NUMBER_EVERY = 5  # ticks
MOST_MARKS = 24
CHARACTER, LINE = 6.2, 17.0  # px: how wide a character of a mark is at most, and how high its plate


class Texts:
    """As many texts as are wanted, made once; of those that would lie over each other the first is shown."""

    def __init__(self, renderer: Any) -> None:
        self.renderer = renderer
        self.actors: list[vtkBillboardTextActor3D] = []
        self.texts: list[tuple[str, Array, str]] = []

    def hold(self, texts: Sequence[tuple[str, Array, str]]) -> None:
        """Take texts with their places (3,) and colours."""
        self.texts = list(texts)
        while len(self.actors) < len(texts):
            actor = text_actor()
            actor.GetTextProperty().SetFontSize(11)
            self.actors.append(actor)
            self.renderer.AddActor(actor)
        for actor, (text, place, colour) in zip(self.actors, texts, strict=False):
            if actor.GetInput() != text:
                actor.SetInput(text)
            actor.GetTextProperty().SetColor(*rgb(colour))
            actor.SetPosition(*place)

    def part(self, seen: vtkRenderer) -> None:
        """Show those that have room, as a renderer sees them."""
        shown = to_display(seen, np.array([t[1] for t in self.texts]).reshape(-1, 3))
        taken: list[tuple[float, float, float]] = []
        for k, actor in enumerate(self.actors):
            free = k < len(self.texts)
            if free:
                x, y, half = float(shown[k, 0]), float(shown[k, 1]), 0.5 * (CHARACTER * len(self.texts[k][0]) + 4)
                free = all(abs(x - u) > half + w or abs(y - v) > LINE for u, v, w in taken)
                if free:
                    taken.append((x, y, half))
            actor.SetVisibility(free)


class JudgingMarks:
    """What is shown of the selected path beside itself, and the trace of a point."""

    def __init__(self, renderer: Any) -> None:
        empty = segments(np.empty((0, 2, 3)))
        self.teeth = flat(empty, PETROL, 1.0, 0.55)
        self.tips = flat(empty, PETROL, 1.6)
        self.kinks = flat(empty, OCHRE, 3.0)
        self.dots = flat(vertices(np.empty((0, 3))), INK)
        self.dots.GetProperty().SetPointSize(8)
        self.dots.GetProperty().RenderPointsAsSpheresOn()
        self.trace = flat(empty, SHOT, 2.0)
        for actor in (self.teeth, self.tips, self.kinks, self.dots, self.trace):
            actor.VisibilityOff()
            renderer.AddActor(actor)
        self.texts = Texts(renderer)
        self._of: tuple[object, ...] = ()

    def show(
        self, project: Project, path: Path | None, wanted: frozenset[str], pixel: float, seen: vtkRenderer
    ) -> None:
        """Show the wanted marks (numbers, seconds, comb) and the kinks of a path as a renderer sees them, or nothing."""
        self._make(project, path, wanted, pixel)
        self.texts.part(seen)

    def _make(self, project: Project, path: Path | None, wanted: frozenset[str], pixel: float) -> None:
        # marks keep their size on the screen; they are made anew when that has changed enough to see
        step = round(np.log(pixel) / np.log(1.2))
        state = (id(path), id(project.runs), wanted, step) if path is not None else ()
        if state == self._of:
            return
        self._of = state
        self._kept = (path, project.runs)  # so that what the state names lives on
        times = self._seconds(project, path if "seconds" in wanted else None, pixel)
        self.texts.hold([*self._numbers(path if "numbers" in wanted else None, pixel), *times])
        self._comb(path if "comb" in wanted else None, pixel)
        self._kinks(path, pixel)

    def show_trace(self, places: Array | None) -> None:
        """Show where a point goes (n, 3), or not."""
        self.trace.SetVisibility(places is not None and len(places) > 1)
        if places is not None and len(places) > 1:
            put_data(self.trace, polyline(places))

    def _numbers(self, path: Path | None, pixel: float) -> list[tuple[str, Array, str]]:
        texts = []
        if path is not None:
            curve = path_curve(path)
            spacing = NUMBER_EVERY * tick_spacing(curve.length, LEAST_SPACING * pixel)
            stations = np.arange(0.0, curve.length + 1e-9, spacing)[:MOST_MARKS]
            beside = curve.curve.position(stations) + 3.4 * TICK_PIXELS * pixel * curve.frames(stations)[:, :, 1]
            texts = [(f" {show(float(s), 'mm', 0)} ", p, PETROL_DARK) for s, p in zip(stations, beside, strict=True)]
        return texts

    def _seconds(self, project: Project, path: Path | None, pixel: float) -> list[tuple[str, Array, str]]:
        marks = rider_marks(project, path.id, MOST_MARKS) if path is not None else []
        self.dots.SetVisibility(bool(marks))
        put_data(self.dots, vertices(np.array([m.place for m in marks]).reshape(-1, 3)))
        texts = []
        for mark in marks:
            assert path is not None
            # on the other side of the path than the numbers
            beside = 2.8 * TICK_PIXELS * pixel * path_curve(path).frames([mark.station])[0, :, 1]
            texts.append((f" {mark.time:g}\u2009s ", mark.place - beside, INK))
        return texts

    def _comb(self, path: Path | None, pixel: float) -> None:
        teeth, tips = (
            comb(path_curve(path), COMB_PIXELS * pixel) if path is not None else (np.empty((0, 2, 3)), np.empty((0, 3)))
        )
        for actor in (self.teeth, self.tips):
            actor.SetVisibility(len(teeth) > 0)
        if len(teeth):
            put_data(self.teeth, segments(teeth))
            put_data(self.tips, polyline(tips))

    def _kinks(self, path: Path | None, pixel: float) -> None:
        """A cross over every kink: no other mark has its shape."""
        lines = np.empty((0, 2, 3))
        if path is not None:
            curve = path_curve(path)
            stations = curve.curve.kink_stations[:500]
            if len(stations):
                at, frames = curve.curve.position(stations), curve.frames(stations)
                size = KINK_PIXELS * pixel
                one = size * (frames[:, :, 0] + frames[:, :, 1]) / np.sqrt(2)
                two = size * (frames[:, :, 0] - frames[:, :, 1]) / np.sqrt(2)
                lines = np.concatenate([np.stack([at - one, at + one], axis=1), np.stack([at - two, at + two], axis=1)])
        self.kinks.SetVisibility(len(lines) > 0)
        put_data(self.kinks, segments(lines))
