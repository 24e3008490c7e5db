"""A light."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from kestrav.app.cards.rows import Rows, replacing
from kestrav.core.document.records import Light, LightKey, PartAim, PointAim
from kestrav.core.findings.model import name_of
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.motion_segments import segments_of
from kestrav.core.units import show


class LightRows(Rows):
    """Kind, place, strength and its keys."""

    def build(self, light: Light) -> None:
        project, form = self.session.shown, self.form
        self.form.title = light.name
        self._name(light)
        self._fields(light, "kind", "on", "position")
        if light.kind != "point":
            self._aim(light)
        if light.kind == "spot":
            self._fields(light, "cone")
        if light.kind == "area":
            for i, label in enumerate(("Width", "Height")):
                form.number(
                    label,
                    light.size[i],
                    "mm",
                    partial(
                        lambda k, v: self._set(
                            light.id, "Size", size=(v, light.size[1]) if k == 0 else (light.size[0], v)
                        ),
                        i,
                    ),
                    f"{label} of the field that shines",
                    0,
                    50,
                )
        unit = "lx" if light.kind == "sun" else "cd"
        if not light.keys:
            self._fields(light, "strength", unit=unit)
            self._fields(light, "colour")
        self._keys(light, unit)
        strength, colour = state(light, self.session.time)
        lines = [f"now {show(strength, unit, 0)}, {colour}"]
        if light.kind != "sun":
            lines.append(f"{show(strength)} cd ÷ (2\u2009m)² = <b>{show(strength / 4, 'lx', 0)}</b> at 2\u2009m")
        lines += [f"moves by “{segment.item.name}”" for segment in segments_of(project, light.id)]
        form.worked(*lines)
        if project.paths:
            options = [("", "choose …"), *((p.id, p.name) for p in project.paths)]
            form.choice(
                "Move along", options, "", lambda path: self._add_run(light.id, path), "Move this light along a path"
            )
        self._delete(light)

    def _aim(self, light: Light) -> None:
        project, form = self.session.shown, self.form
        aims = [("", "a point"), *((p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None)]
        aimed = light.aim.part if isinstance(light.aim, PartAim) else ""
        if aimed and aimed not in [a[0] for a in aims]:
            aims.append((aimed, name_of(project, aimed)))
        form.choice(
            "Aim",
            aims,
            aimed,
            lambda v: self._set(light.id, "Aim", aim=PartAim(v) if v else PointAim((0.0, 0.0, 0.0))),
            "Target of the light: a part is followed, a point moves with the light",
        )
        if isinstance(light.aim, PointAim):
            form.vector(
                "Aim at",
                light.aim.point,
                "mm",
                lambda v: self._set(light.id, "Aim", aim=PointAim(v)),
                "Point the light is aimed at",
            )

    def _keys(self, light: Light, unit: str) -> None:
        form = self.form

        def change(keys: Iterable[LightKey]) -> None:
            self._set(light.id, "Light key", keys=tuple(sorted(keys, key=lambda k: k.time)))

        for i, key in enumerate(light.keys):
            put, which = replacing(light.keys, i, change), f"Key {i + 1}"
            self._fields(key, "time", change=put, prefix=which)
            self._fields(key, "strength", change=put, prefix=which, unit=unit)
            self._fields(key, "colour", change=put, prefix=which)
        form.buttons(
            ("Add key here", lambda: self._add_key(light), "Add a key of intensity and colour at the playhead"),
            (
                "Delete last key",
                lambda: light.keys and change(light.keys[:-1]),
                "Delete the last key",
            ),
        )

    def _add_key(self, light: Light) -> None:
        time = self.session.time
        strength, colour = state(light, time)
        kept = [k for k in light.keys if abs(k.time - time) > 1e-6]
        keys = sorted([*kept, LightKey(time, strength, colour)], key=lambda k: k.time)
        self._set(light.id, "Light key", keys=tuple(keys))
