"""A project's lights in the renderers, and as marks in the stage."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkRenderingCore import vtkLight, vtkRenderer

from kestrav.core.document.records import Light, Project
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.poses import light_places
from kestrav.core.light.exposure import FULL
from kestrav.core.light.setups import gains, lamps_dimmed
from kestrav.render.marks import flat
from kestrav.render.palette import SHOT, rgb
from kestrav.render.shapes import put_data, segments, vertices

Array = NDArray[np.float64]

_NEAR = 0.05  # m² by which the light close to a lamp is kept finite
_AREA_HALF = 84.0  # degrees; VTK takes 90 for a lamp that shines all around
_FIELDS = ((-0.25, -0.25), (0.25, -0.25), (0.25, 0.25), (-0.25, 0.25))  # where in an area its four lamps are


class ProjectLights:
    """The lights of a project in some renderers, beside those that these have themselves."""

    def __init__(self, renderers: Sequence[vtkRenderer]) -> None:
        self.renderers = tuple(renderers)
        self.lamps: list[vtkLight] = []
        self.changed = False  # the last time they were shown they were not as the time before
        self._before: list[tuple[object, ...]] = []

    def show(self, project: Project, time: float) -> None:
        """Put every light that shines where it is at a time."""
        wanted = [lamp for light in project.lights for lamp in _lamps(project, light, time)]
        while len(self.lamps) > len(wanted):
            lamp = self.lamps.pop()
            for renderer in self.renderers:
                renderer.RemoveLight(lamp)
        while len(self.lamps) < len(wanted):
            lamp = vtkLight()
            lamp.SetLightTypeToSceneLight()
            self.lamps.append(lamp)
            for renderer in self.renderers:
                renderer.AddLight(lamp)
        # they are exposed as the set-up's light is
        gain = gains(project.light_setup)
        most = float(gain.max())
        now: list[tuple[object, ...]] = [(*lamp[0], *lamp[1], *lamp[2:], *gain) for lamp in wanted]
        self.changed, self._before = now != self._before, now
        for lamp, (place, target, power, colour, half, exponent, near) in zip(self.lamps, wanted, strict=True):
            lamp.SetPositional(near)
            lamp.SetPosition(*place)
            lamp.SetFocalPoint(*target)
            lamp.SetColor(*(np.array(rgb(colour)) * gain / most))
            lamp.SetIntensity(power * most)
            lamp.SetConeAngle(half)
            lamp.SetExponent(exponent)
            # candela by the square of metres are lux; the renderer counts in mm
            lamp.SetAttenuationValues(*((_NEAR, 0.0, 1e-6) if near else (1.0, 0.0, 0.0)))


_Lamp = tuple[Array, Array, float, str, float, float, bool]


def _lamps(project: Project, light: Light, time: float) -> list[_Lamp]:
    """Place, target, power, colour, half cone in degrees, exponent and whether it is near, of what stands for a light."""
    strength, colour = state(light, time)
    if strength <= 0:
        return []
    (place,), (target,) = light_places(project, light, [time])
    power = strength / FULL * lamps_dimmed(project.light_setup)
    if light.kind == "sun":
        return [(place, target, power, colour, 90.0, 1.0, False)]
    if light.kind == "point":
        return [(place, target, power, colour, 90.0, 1.0, True)]
    if light.kind == "spot":
        # down to a tenth at the rim of its cone
        soft = float(np.log(0.1) / np.log(np.cos(np.radians(0.5 * light.cone))))
        return [(place, target, power, colour, 0.5 * light.cone, soft, True)]
    across, up = _field(target - place)
    return [
        (
            place + u * light.size[0] * across + v * light.size[1] * up,
            target + u * light.size[0] * across + v * light.size[1] * up,
            power / len(_FIELDS),
            colour,
            _AREA_HALF,
            1.0,
            True,
        )
        for u, v in _FIELDS
    ]


def _field(direction: Array) -> tuple[Array, Array]:
    """Unit vectors across and up a field that faces a way."""
    ahead = direction / max(float(np.linalg.norm(direction)), 1e-9)
    across = np.cross(ahead, [0.0, 0.0, 1.0])
    if np.linalg.norm(across) < 1e-6:
        across = np.array([1.0, 0.0, 0.0])
    across /= np.linalg.norm(across)
    return across, np.cross(across, ahead)


class LightMarks:
    """Where the lights are: a star each, a line to what they shine at, and the outline of a cone or field."""

    def __init__(self, renderer: Any) -> None:
        self.lines = flat(segments(np.empty((0, 2, 3))), SHOT, 1.5)
        self.spots = flat(vertices(np.empty((0, 3))), SHOT)
        self.spots.GetProperty().SetPointSize(7)
        for actor in (self.lines, self.spots):
            renderer.AddActor(actor)

    def show(self, project: Project, time: float, pixel: float, chosen: str | None) -> None:
        """Draw all of them, the chosen one with all of its reach."""
        for actor in (self.lines, self.spots):
            actor.SetVisibility(bool(project.lights))
        if not project.lights:
            return
        lines, spots = [], []
        for light in project.lights:
            (place,), (target,) = light_places(project, light, [time])
            spots.append(place)
            for axis in np.vstack([np.eye(3), [[0.6, 0.6, 0.5], [-0.6, 0.6, 0.5]]]):
                lines.append([place - 9 * pixel * axis, place + 9 * pixel * axis])
            if light.kind != "point":
                whole = light.id == chosen
                direction = target - place
                far = 1.0 if whole else min(60 * pixel / max(float(np.linalg.norm(direction)), 1e-9), 1.0)
                lines.append([place, place + far * direction])
                if whole:
                    lines += _reach(light, place, direction)
        put_data(self.lines, segments(np.array(lines)))
        put_data(self.spots, vertices(np.array(spots)))


def _reach(light: Light, place: Array, direction: Array) -> list[list[Array]]:
    """The outline of a spot's cone or of an area's field."""
    across, up = _field(direction)
    if light.kind == "area":
        corners = [
            place + u * light.size[0] * across + v * light.size[1] * up
            for u, v in ((-0.5, -0.5), (0.5, -0.5), (0.5, 0.5), (-0.5, 0.5))
        ]
        return [[a, b] for a, b in zip(corners, [*corners[1:], corners[0]], strict=True)]
    if light.kind != "spot":
        return []
    radius = float(np.linalg.norm(direction)) * np.tan(np.radians(0.5 * light.cone))
    turns = np.linspace(0, 2 * np.pi, 33)
    rim = [place + direction + radius * (np.cos(t) * across + np.sin(t) * up) for t in turns]
    return [*([a, b] for a, b in pairwise(rim)), *([place, rim[k]] for k in (0, 8, 16, 24))]
