"""A shot's card: its span and place in the film, its picture, and what is written on that."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.app.film.shot_rows import add_background, add_size
from kestrav.core.camera.filmed import trimmed
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, find, get
from kestrav.core.document.records import OnPicture, Part, Section, Shot
from kestrav.core.document.shots import frame_count
from kestrav.core.kinematics.motion_segments import movers

_CUTS = {
    "x": (1.0, 0.0, 0.0),
    "−x": (-1.0, 0.0, 0.0),
    "y": (0.0, 1.0, 0.0),
    "−y": (0.0, -1.0, 0.0),
    "z": (0.0, 0.0, 1.0),
}


class ShotRows(Rows):
    """Camera, span, picture."""

    def build(self, shot: Shot) -> None:
        self.form.title = shot.name
        if self.form.section("Film"):
            self._film(shot)
        if self.form.section("Picture", f"{shot.width} × {shot.height}"):
            self._picture(shot)
        if self.form.section("Overlays"):
            self._on_it(shot)
        self.form.foot()
        self.form.buttons(
            ("Render …", lambda: self.card.render_asked.emit(shot), "Render this shot to a film or pictures (Ctrl+R)"),
            ("Still …", lambda: self.card.still_asked.emit(shot), "One picture at the playhead (Ctrl+T)"),
            (
                "Film strip",
                lambda: self.card.film_strip_asked.emit(shot),
                "Show small pictures of the shot at a frame interval (Shift+V)",
            ),
            ("Whole film", self.card.film_asked.emit, "Play and render all shots in order (Shift+I)"),
        )
        self._delete(shot)

    def _film(self, shot: Shot) -> None:
        form = self.form
        self._name(shot)
        cameras = [(c.id, c.name) for c in self.session.shown.cameras]
        self._fields(shot, "camera", options=cameras, own=True)
        self._fields(shot, "start", own=True)
        self._fields(shot, "end", own=True)
        self._fields(shot, "fps", "in_film", "fade", "loops")
        form.worked(
            f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frame_count(shot)} frames</b>",
        )
        form.buttons(
            ("Earlier", lambda: self._move(shot, -1), "Move the shot earlier in the film"),
            ("Later", lambda: self._move(shot, 1), "Move the shot later in the film"),
            ("Trim dead ends", lambda: self._trim(shot), "Trim the ends of the shot that show no change"),
        )

    def _picture(self, shot: Shot) -> None:
        form = self.form
        self._fields(shot, "look", "quality")
        if shot.quality == "finished":
            self._fields(shot, "samples", "seconds", "noise", "edges")
        self._fields(shot, "floor", "shutter")
        change = partial(self._set_fields, shot)
        add_size(form, shot, change)
        self._fields(shot, "width", "height")
        add_background(form, shot, change)
        if self.session.shown.colourways:
            self._fields(
                shot,
                "colourway",
                options=[
                    ("", "as the project is shown"),
                    *((colourway.id, colourway.name) for colourway in self.session.shown.colourways),
                ],
            )
        self._fields(shot, "paths")
        self._section(shot)
        form.worked(f"{shot.width} × {shot.height} pixels, {shot.width / shot.height:.3f} : 1")

    def _section(self, shot: Shot) -> None:
        form, section = self.form, shot.section
        known = next((k for k, v in _CUTS.items() if section is not None and v == section.normal), "other")
        options = [("", "whole"), *((k, f"cut open towards {k}") for k in _CUTS)]
        if section is not None and known == "other":
            options.append(("other", "cut open aslant"))

        def cut(direction: str) -> None:
            if direction == "other":
                return
            point = section.point if section is not None else self._middle(shot)
            self._set(shot.id, "Section", section=Section(point, _CUTS[direction]) if direction else None)

        form.choice(
            "Section",
            options,
            known if section else "",
            cut,
            "Cut the picture open with a plane; best in the technical style",
        )
        if section is None:
            return
        axis = int(np.argmax(np.abs(section.normal)))

        def put(value: float) -> None:
            place = list(section.point)
            place[axis] = value
            self._set(shot.id, "Section", section=Section((place[0], place[1], place[2]), section.normal))

        form.number(f"Plane at {'xyz'[axis]}", section.point[axis], "mm", put, "Position of the section plane", 1, 10)

    def _middle(self, shot: Shot) -> tuple[float, float, float]:
        from kestrav.core.camera.adjusting import camera_of
        from kestrav.core.camera.views import views

        seen = views(
            self.session.shown, self.session.meshes, camera_of(self.session.shown, shot.camera), [self.session.time]
        )
        x, y, z = (round(float(v), 1) for v in seen.target[0])
        return x, y, z

    def _on_it(self, shot: Shot) -> None:
        form, shows, project = self.form, shot.shows, self.session.shown

        def write(**fields: Any) -> None:
            self._set(shot.id, "Overlays", shows=msgspec.structs.replace(shows, **fields))

        self._fields(shows, "title", "subtitle", change=write)
        form.text(
            "End card",
            shows.end.replace("\n", " / "),
            lambda v: write(end=_lines(v)),
            "Text over the end of the shot; / starts a new line",
        )
        self._fields(shows, "clock", "speed", "turns", "clearance", "trace", "images", change=write)
        for thing in shows.labels:
            form.buttons(
                (
                    f"Unlabel {get(project, thing).name}",
                    partial(lambda t: write(labels=tuple(i for i in shows.labels if i != t)), thing),
                    "Remove this label",
                )
            )
        options = [(p.id, p.name) for p in project.parts if self._can_be_named(p) and p.id not in shows.labels]
        if options:
            form.choice(
                "Label",
                [("", "choose …"), *options],
                "",
                lambda v: v and write(labels=(*shows.labels, v)),
                "Label a part, with a leader line that follows",
            )
        if shows != OnPicture():
            form.buttons(
                ("Clear overlays", lambda: self._set(shot.id, "Overlays", shows=OnPicture()), "Remove all overlays")
            )

    def _can_be_named(self, part: Part) -> bool:
        """Of hundreds of parts: what stands on top, what moves, assemblies in them, and what is selected."""
        project = self.session.shown
        near = part.parent is None or len(ancestors(project, part.id)) == 1
        return (
            near
            or part.id in movers(project)
            or part.id in self.session.chosen
            or find(project, part.id) is self.session.item
        )

    def _move(self, shot: Shot, by: int) -> None:
        self.session.edit("Order of shots", lambda project: edits.reordered(project, shot.id, by))

    def _trim(self, shot: Shot) -> None:
        self.session.edit("Trim dead ends", lambda project: trimmed(project, self.session.meshes, shot.id))


def _lines(text: str) -> str:
    return "\n".join(line.strip() for line in text.split("/")).strip()
