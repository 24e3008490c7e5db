"""Marks by which a path is judged: numbers at its ticks, its riders' times, its curvature and kinks, traces."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkBillboardTextActor3D

from kestrav.core.document.records import Path, Project
from kestrav.core.motion.judging import comb, rider_marks
from kestrav.core.motion.path_curves import path_curve
from kestrav.core.units import show
from kestrav.render.marks import TICK_PIXELS, flat, tick_spacing
from kestrav.render.measure_marks import text_actor, vertices
from kestrav.render.palette import INK, OCHRE, PETROL, PETROL_DARK
from kestrav.render.shapes import polyline, segments

Array = NDArray[np.float64]

COMB_PIXELS, KINK_PIXELS = 46.0, 9.0
NUMBER_EVERY = 5  # ticks
MOST_MARKS = 24


class _Texts:
    """As many texts as are wanted, made once."""

    def __init__(self, renderer: Any, colour: str) -> None:
        self.renderer, self.colour = renderer, colour
        self.actors: list[vtkBillboardTextActor3D] = []

    def show(self, texts: Sequence[tuple[str, Array]]) -> None:
        while len(self.actors) < len(texts):
            actor = text_actor(self.colour)
            actor.GetTextProperty().SetFontSize(11)
            self.actors.append(actor)
            self.renderer.AddActor(actor)
        for k, actor in enumerate(self.actors):
            actor.SetVisibility(k < len(texts))
            if k < len(texts):
                text, place = texts[k]
                if actor.GetInput() != text:
                    actor.SetInput(text)
                actor.SetPosition(*place)


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
        self.trace = flat(empty, "#7a6a9b", 2.0)
        for actor in (self.teeth, self.tips, self.kinks, self.dots, self.trace):
            actor.VisibilityOff()
            renderer.AddActor(actor)
        self.numbers, self.times = _Texts(renderer, PETROL_DARK), _Texts(renderer, INK)
        self._of: tuple[object, ...] = ()

    def show(self, project: Project, path: Path | None, wanted: frozenset[str], pixel: float) -> None:
        """Show the wanted marks (numbers, seconds, comb) and the kinks of a path, or nothing."""
        # marks keep their size on the screen; they are made anew when that has changed enough to see
        step = round(np.log(pixel) / np.log(1.2))
        state = (id(path), id(project.runs), wanted, step) if path is not None else ()
        if state == self._of and path is not None:
            return
        self._of = state
        self._kept = (path, project.runs)  # so that what the state names lives on
        self._numbers(path if "numbers" in wanted else None, pixel)
        self._seconds(project, path if "seconds" in wanted else None, pixel)
        self._comb(path if "comb" in wanted else None, pixel)
        self._kinks(path, pixel)

    def show_trace(self, places: Array | None) -> None:
        """Show where a point goes (n, 3), or not."""
        self.trace.SetVisibility(places is not None and len(places) > 1)
        if places is not None and len(places) > 1:
            self.trace.GetMapper().SetInputData(polyline(places))

    def _numbers(self, path: Path | None, pixel: float) -> None:
        texts = []
        if path is not None:
            made = path_curve(path)
            spacing = NUMBER_EVERY * tick_spacing(made.length)
            stations = np.arange(0.0, made.length + 1e-9, spacing)[:MOST_MARKS]
            beside = made.curve.position(stations) + 3.4 * TICK_PIXELS * pixel * made.frames(stations)[:, :, 1]
            texts = [(f" {show(float(s), 'mm', 0)} ", p) for s, p in zip(stations, beside, strict=True)]
        self.numbers.show(texts)

    def _seconds(self, project: Project, path: Path | None, pixel: float) -> None:
        marks = rider_marks(project, path.id, MOST_MARKS) if path is not None else []
        self.dots.SetVisibility(bool(marks))
        self.dots.GetMapper().SetInputData(vertices(np.array([m.place for m in marks]).reshape(-1, 3)))
        texts: list[tuple[str, Array]] = []
        last = -np.inf
        for mark in marks:
            # names that would lie over each other help nobody
            if abs(mark.station - last) > 55 * pixel or not texts:
                assert path is not None
                # on the other side of the path than the numbers
                beside = 2.8 * TICK_PIXELS * pixel * path_curve(path).frames([mark.station])[0, :, 1]
                texts.append((f" {mark.time:g}\u2009s ", mark.place - beside))
                last = mark.station
        self.times.show(texts)

    def _comb(self, path: Path | None, pixel: float) -> None:
        teeth, tips = (
            comb(path_curve(path), COMB_PIXELS * pixel) if path is not None else (np.empty((0, 2, 3)), np.empty((0, 3)))
        )
        for actor in (self.teeth, self.tips):
            actor.SetVisibility(len(teeth) > 0)
        if len(teeth):
            self.teeth.GetMapper().SetInputData(segments(teeth))
            self.tips.GetMapper().SetInputData(polyline(tips))

    def _kinks(self, path: Path | None, pixel: float) -> None:
        """A cross over every kink: no other mark has its shape."""
        lines = np.empty((0, 2, 3))
        if path is not None:
            made = path_curve(path)
            stations = made.curve.kink_stations[:500]
            if len(stations):
                at, frames = made.curve.position(stations), made.frames(stations)
                size = KINK_PIXELS * pixel
                one = size * (frames[:, :, 0] + frames[:, :, 1]) / np.sqrt(2)
                two = size * (frames[:, :, 0] - frames[:, :, 1]) / np.sqrt(2)
                lines = np.concatenate([np.stack([at - one, at + one], axis=1), np.stack([at - two, at + two], axis=1)])
        self.kinks.SetVisibility(len(lines) > 0)
        self.kinks.GetMapper().SetInputData(segments(lines))
