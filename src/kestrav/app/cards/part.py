"""A part or assembly."""

from __future__ import annotations

import numpy as np
from scipy.spatial.transform import Rotation

from kestrav.app.cards.rows import Rows, Vector
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.document.lookup import ancestors, get, subtree
from kestrav.core.document.records import (
    Part,
    Placement,
)
from kestrav.core.motion.making import centre_pivot
from kestrav.core.motion.poses import world_bounds
from kestrav.core.units import show


class PartRows(Rows):
    """Placing, pivot, and what can be done with it."""

    def build(self, part: Part) -> None:
        project, form = self.session.shown, self.form
        chain = [get(project, i) for i in ancestors(project, part.id)]
        crumbs = [f'<a style="color:#0d6b74; text-decoration:none" href="{p.id}">{p.name}</a> ›' for p in chain]
        self.card.title.setText(" ".join([*crumbs, part.name]))
        self._name(part)
        placement, pivot = part.placement, part.pivot

        def place(position: Vector) -> None:
            self._set(part.id, "Move part", placement=Placement(position, placement.rotation))

        form.vector("Position", placement.position, "mm", place, "Where it stands in its assembly")
        angles = Rotation.from_quat(placement.rotation, scalar_first=True).as_euler("xyz", degrees=True)

        def turn(values: Vector) -> None:
            w, x, y, z = Rotation.from_euler("xyz", values, degrees=True).as_quat(scalar_first=True)
            rotation = (float(w), float(x), float(y), float(z))
            self._set(part.id, "Turn part", placement=Placement(placement.position, rotation))

        form.vector("Turned", [float(a) for a in angles], "°", turn, "Turned about its assembly's axes, x first")

        def set_pivot(position: Vector) -> None:
            self._set(part.id, "Move pivot", pivot=Placement(position, pivot.rotation))

        form.vector("Pivot", pivot.position, "mm", set_pivot, "The point carried along a path, in its own coordinates")
        form.check(
            "Shown",
            "visible and checked",
            part.shown,
            lambda v: self._set(part.id, "Show or hide", shown=v),
            "Hidden things are neither drawn nor checked",
        )
        bounds = world_bounds(project, part.id, self.session.poses()[None])[0]
        size = bounds[1] - bounds[0]
        solids = sum(
            isinstance(p := get(project, i), Part) and p.geometry is not None for i in subtree(project, part.id)
        )
        lines = [" × ".join(show(float(v)) for v in size) + "\u2009mm over all"]
        if part.geometry is None:
            lines.append(f"{solids} parts in the assembly")
        form.worked(*lines)
        form.buttons(
            ("Draw its path", self.card.draw_asked.emit, "Draw a path that it will run along (D)"),
            (
                "Centre pivot",
                lambda: self.session.edit("Centre pivot", lambda p: centre_pivot(p, part.id)),
                "Put the pivot in the middle of its bounds",
            ),
            ("Orbit it", lambda: self._orbit(part), "Add a camera that orbits it on an ellipse, with a shot"),
        )
        if project.paths:
            options = [("", "choose …"), *((p.id, p.name) for p in project.paths)]
            form.choice("Run along", options, "", lambda path: self._add_run(part.id, path), "Let it run along a path")

    def _orbit(self, part: Part) -> None:
        before = {c.id for c in self.session.project.cameras}
        size = world_bounds(self.session.project, part.id, self.session.poses()[None])[0]
        offset = float(round(1.4 * np.linalg.norm(size[1] - size[0]) / 10) * 10)
        if self.session.edit("Orbit", lambda p: add_orbit(p, part.id, offset=max(offset, 100.0))):
            camera = next(c.id for c in self.session.project.cameras if c.id not in before)
            self.session.select(camera)
