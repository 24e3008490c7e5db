"""Marks of measuring and preparing: kept notes, what the pointer catches, a part's front, handles to move by."""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkActor, vtkBillboardTextActor3D

from kestrav.render.marks import flat
from kestrav.render.palette import CARD, INK, MOSS, PETROL, PETROL_DARK, STRAW, rgb
from kestrav.render.shapes import polyline, put_data, segments, tube, vertices

Array = NDArray[np.float64]

_TEXT = 13  # px
_FONT_FILE = 4  # VTK_FONT_FILE: a font from a file


def text_actor(colour: str = INK) -> vtkBillboardTextActor3D:
    """A text that faces the viewer, on a plate of card."""
    actor = vtkBillboardTextActor3D()
    look = actor.GetTextProperty()
    look.SetFontFamily(_FONT_FILE)
    look.SetFontFile(str(resources.files("kestrav") / "assets" / "fonts" / "OpenSans-Regular.ttf"))
    look.SetFontSize(_TEXT)
    look.SetColor(*rgb(colour))
    look.SetBackgroundColor(*rgb(CARD))
    look.SetBackgroundOpacity(0.88)
    look.SetJustificationToCentered()
    look.SetVerticalJustificationToCentered()
    actor.PickableOff()
    return actor


class NoteMarks:
    """Kept measurements: their lines and their values."""

    def __init__(self, renderer: Any) -> None:
        self.renderer = renderer
        self.lines = flat(segments(np.empty((0, 2, 3))), PETROL_DARK, 2.0)
        self.ends = flat(vertices(np.empty((0, 3))), PETROL_DARK)
        self.ends.GetProperty().SetPointSize(6)
        self.texts: list[vtkBillboardTextActor3D] = []
        renderer.AddActor(self.lines)
        renderer.AddActor(self.ends)

    def show(self, notes: Sequence[tuple[str, str, Array, Array]], pixel: float) -> None:
        """Show notes as name, value, lines (n, 2, 3) and place (3,)."""
        drawn = [note[2] for note in notes if len(note[2])]
        lines = np.concatenate(drawn) if drawn else np.empty((0, 2, 3))
        put_data(self.lines, segments(lines))
        put_data(self.ends, vertices(lines.reshape(-1, 3)))
        self.lines.SetVisibility(len(lines) > 0)
        self.ends.SetVisibility(len(lines) > 0)
        while len(self.texts) > len(notes):
            self.renderer.RemoveActor(self.texts.pop())
        while len(self.texts) < len(notes):
            actor = text_actor()
            self.texts.append(actor)
            self.renderer.AddActor(actor)
        for actor, (name, value, _, place) in zip(self.texts, notes, strict=True):
            actor.SetInput(f" {name}  {value} ")
            actor.SetPosition(*np.add(place, [0.0, 0.0, 14 * pixel]))


class FrontArrow:
    """The chosen part's pivot and front: a short bar with a barb along its front, a tick along its upside."""

    def __init__(self, renderer: Any) -> None:
        self.bar = flat(segments(np.empty((0, 2, 3))), MOSS, 3.0)
        self.spot = flat(vertices(np.empty((0, 3))), INK)
        self.spot.GetProperty().SetPointSize(9)
        for actor in (self.bar, self.spot):
            actor.VisibilityOff()
            renderer.AddActor(actor)

    def show(self, pivot: Array | None, pixel: float) -> None:
        """Draw at a pivot's matrix (4, 4) in space, or hide."""
        for actor in (self.bar, self.spot):
            actor.SetVisibility(pivot is not None)
        if pivot is None:
            return
        at, front, up = pivot[:3, 3], pivot[:3, 0], pivot[:3, 2]
        side = np.cross(up, front)
        tip = at + 46 * pixel * front
        back = tip - 13 * pixel * front
        lines = [[at, tip], [tip, back + 6 * pixel * side], [tip, back - 6 * pixel * side], [at, at + 22 * pixel * up]]
        put_data(self.bar, segments(np.array(lines)))
        put_data(self.spot, vertices(at))


class Caught:
    """What the pointer catches, and what has been picked so far."""

    def __init__(self, renderer: Any) -> None:
        self.line = flat(polyline([[0, 0, 0], [0, 0, 1]]), STRAW, 4.0)
        self.spot = flat(vertices(np.empty((0, 3))), STRAW)
        self.spot.GetProperty().SetPointSize(11)
        self.picked = flat(vertices(np.empty((0, 3))), PETROL)
        self.picked.GetProperty().SetPointSize(10)
        self.between = flat(segments(np.empty((0, 2, 3))), PETROL, 2.5)
        for actor in (self.line, self.spot, self.picked, self.between):
            actor.VisibilityOff()
            renderer.AddActor(actor)

    def catch(self, place: Array | None, outline: Array | None) -> None:
        """Show what the pointer would pick: a place (3,) and the outline (n, 3) of its edge, if it has one."""
        self.spot.SetVisibility(place is not None)
        self.line.SetVisibility(outline is not None and len(outline) > 1)
        if place is not None:
            put_data(self.spot, vertices(place))
        if outline is not None and len(outline) > 1:
            put_data(self.line, polyline(outline))

    def pick(self, places: Sequence[Array], lines: Array | None = None) -> None:
        """Show what has been picked: places, and lines (n, 2, 3) of a measurement."""
        self.picked.SetVisibility(len(places) > 0)
        put_data(self.picked, vertices(np.array(places).reshape(-1, 3)))
        self.between.SetVisibility(lines is not None and len(lines) > 0)
        if lines is not None:
            put_data(self.between, segments(lines))

    def clear(self) -> None:
        """Show nothing."""
        self.catch(None, None)
        self.pick([])


ARM, RING, KNOB = 88.0, 76.0, 9.0  # px: the length of an arm, the radius of a ring, half the knob in the middle
Grip = tuple[Literal["arm", "ring", "knob"], int]


class Handles:
    """Things to take hold of at a pivot: three arms to move along, or three rings to turn about, and a knob.

    All are petrol and named by their axis; the one under the pointer is straw.
    """

    def __init__(self, renderer: Any, kind: Literal["arm", "ring"]) -> None:
        self.renderer, self.kind = renderer, kind
        self.actors: list[vtkActor] = []
        self.texts: list[vtkBillboardTextActor3D] = []
        for axis in "xyz":
            self.actors.append(flat(segments(np.empty((0, 2, 3))), PETROL, 2.0))
            label = text_actor(PETROL_DARK)
            label.SetInput(f" {axis} ")
            self.texts.append(label)
        self.knob = flat(vertices(np.empty((0, 3))), PETROL)
        self.knob.GetProperty().SetPointSize(2 * KNOB)
        self.knob.GetProperty().RenderPointsAsSpheresOn()
        for actor in (*self.actors, *self.texts, self.knob):
            renderer.AddActor(actor)
        self.frame: Array | None = None
        self._pixel = 1.0

    def place(self, frame: Array | None, pixel: float, held: Grip | None) -> None:
        """Show at a frame (4, 4), its columns being the axes, or hide; ``held`` is what is under the pointer."""
        self.frame, self._pixel = frame, pixel
        for actor in (*self.actors, *self.texts):
            actor.SetVisibility(frame is not None)
        self.knob.SetVisibility(frame is not None and self.kind == "arm")
        if frame is None:
            return
        for k in range(3):
            line = self.line(k)
            put_data(self.actors[k], tube(line, (1.9 if held == (self.kind, k) else 1.2) * pixel))
            self.actors[k].GetProperty().SetColor(*rgb(STRAW if held == (self.kind, k) else PETROL))
            tip = line[-1] + 12 * pixel * frame[:3, k] if self.kind == "arm" else line[len(line) // 8]
            self.texts[k].SetPosition(*tip)
        put_data(self.knob, vertices(frame[:3, 3]))
        self.knob.GetProperty().SetColor(*rgb(STRAW if held == ("knob", 0) else PETROL))

    def line(self, axis: int) -> Array:
        """Points (n, 3) of an arm or ring."""
        assert self.frame is not None
        at, size = self.frame[:3, 3], self._pixel
        if self.kind == "arm":
            direction = self.frame[:3, axis]
            return at + np.linspace(KNOB, ARM, 12)[:, None] * size * direction
        u, v = self.frame[:3, (axis + 1) % 3], self.frame[:3, (axis + 2) % 3]
        turn = np.linspace(0, 2 * np.pi, 65)
        line: Array = at + RING * size * (np.cos(turn)[:, None] * u + np.sin(turn)[:, None] * v)
        return line

    def remove(self) -> None:
        """Take it out of the picture."""
        for actor in (*self.actors, *self.texts, self.knob):
            self.renderer.RemoveActor(actor)
