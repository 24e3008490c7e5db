"""A shot's card: its span and place in the film, its picture, and what is written on that."""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.app.render_dialog import LOOKS, QUALITIES
from kestrav.core.camera.filmed import trimmed
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, find, get
from kestrav.core.document.records import OnPicture, Part, Section, Shot
from kestrav.core.document.shots import SIZES, background_text, frame_count, read_background
from kestrav.core.motion.legs import movers

TABS = ("Film", "Picture", "On it")
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
        self.card.title.setText(shot.name)
        tab = self.card.shot_tab if self.card.shot_tab in TABS else TABS[0]
        self.form.tabs(TABS, tab, self.card.show_shot_tab, "Show")
        {"Film": self._film, "Picture": self._picture, "On it": self._on_it}[tab](shot)
        self.form.buttons(
            ("Render …", lambda: self.card.render_asked.emit(shot), "Render this shot to a film or pictures (Ctrl+R)"),
            ("Still …", lambda: self.card.still_asked.emit(shot), "One picture at the playhead (Ctrl+T)"),
            (
                "Film strip",
                lambda: self.card.film_strip_asked.emit(shot),
                "Small pictures of the shot, every so many frames (Shift+V)",
            ),
            ("Whole film", self.card.film_asked.emit, "All shots in their order, played and rendered (Shift+I)"),
        )
        self._delete(shot.id, "shot")

    def _film(self, shot: Shot) -> None:
        form = self.form
        self._name(shot)
        cameras = [(c.id, c.name) for c in self.session.shown.cameras]
        form.choice(
            "Camera", cameras, shot.camera, lambda v: self._set(shot.id, "Camera", camera=v), "Which camera films"
        )
        self._number(shot, "From", "start", "s", "First moment", 3, 0.1)
        self._number(shot, "To", "end", "s", "End; its frame is not filmed", 3, 0.1)
        self._number(shot, "Frame rate", "fps", "fps", "Frames a second", 0)
        form.check(
            "Film",
            "it is in the film",
            shot.in_film,
            lambda v: self._set(shot.id, "Film", in_film=v),
            "The whole film is all such shots in their order",
        )
        form.number(
            "Cross-fade",
            shot.fade,
            "s",
            lambda v: self._set(shot.id, "Cross-fade", fade=v),
            "Over how long it comes over the end of the shot before it in the film",
            2,
            0.1,
            zero="cut",
        )
        form.check(
            "Loops",
            "its end joins its beginning",
            shot.loops,
            lambda v: self._set(shot.id, "Loops", loops=v),
            "It is checked that the loop closes, with no frame shown twice",
        )
        form.worked(
            f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frame_count(shot)} frames</b>",
        )
        form.buttons(
            ("Earlier", lambda: self._move(shot, -1), "Before the shot that it follows in the film"),
            ("Later", lambda: self._move(shot, 1), "After the shot that follows it in the film"),
            ("Trim dead ends", lambda: self._trim(shot), "Take off what at its ends shows no change"),
        )

    def _picture(self, shot: Shot) -> None:
        form = self.form
        form.choice(
            "Look",
            LOOKS,
            shot.look,
            lambda v: self._set(shot.id, "Look", look=v),
            "How the parts are shown in the lens and the film",
        )
        form.choice(
            "Quality",
            QUALITIES,
            shot.quality,
            lambda v: self._set(shot.id, "Quality", quality=v),
            "Samples of a pixel, and shade",
        )
        size = f"{shot.width}x{shot.height}"
        sizes = [(f"{w}x{h}", f"{name}: {w} × {h}") for name, (w, h) in SIZES.items()]
        if size not in dict(sizes):
            sizes.insert(0, (size, f"{shot.width} × {shot.height}"))

        def resize(text: str) -> None:
            wide, high = (int(v) for v in text.split("x"))
            self._set(shot.id, "Size", width=wide, height=high)

        form.choice("Size", sizes, size, resize, "Picture size in pixels")
        self._number(shot, "Width", "width", "px", "Any other width", 0, 2)
        self._number(shot, "Height", "height", "px", "Any other height", 0, 2)
        form.text(
            "Background",
            background_text(shot),
            lambda v: self._set(shot.id, "Background", **read_background(v)),
            "#rrggbb, #rrggbb:#rrggbb from below to above, or clear to let through",
        )
        form.check(
            "Paths",
            "show them in the pictures",
            shot.paths,
            lambda v: self._set(shot.id, "Paths", paths=v),
            "Paths are drawn in this shot's pictures and film; otherwise they never are",
        )
        self._section(shot)
        form.worked(f"{shot.width} × {shot.height} pixels, {shot.width / shot.height:.3f} : 1")

    def _section(self, shot: Shot) -> None:
        form, section = self.form, shot.section
        known = next((k for k, v in _CUTS.items() if section is not None and v == section.normal), "other")
        options = [("", "whole"), *((k, f"cut open towards {k}") for k in _CUTS)]
        if section is not None and known == "other":
            options.append(("other", "cut open aslant"))

        def cut(way: str) -> None:
            if way == "other":
                return
            point = section.point if section is not None else self._middle(shot)
            self._set(shot.id, "Section", section=Section(point, _CUTS[way]) if way else None)

        form.choice(
            "Section",
            options,
            known if section else "",
            cut,
            "A plane cuts the picture open; best in the technical look",
        )
        if section is None:
            return
        axis = int(np.argmax(np.abs(section.normal)))

        def put(value: float) -> None:
            place = list(section.point)
            place[axis] = value
            self._set(shot.id, "Section", section=Section((place[0], place[1], place[2]), section.normal))

        form.number(f"Plane at {'xyz'[axis]}", section.point[axis], "mm", put, "Where the plane cuts", 1, 10)

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
            self._set(shot.id, "On the picture", shows=msgspec.structs.replace(shows, **fields))

        form.text("Title", shows.title, lambda v: write(title=v.strip()), "Stands at the beginning of the shot")
        form.text("Below it", shows.subtitle, lambda v: write(subtitle=v.strip()), "A smaller line below the title")
        form.text(
            "End card",
            shows.end.replace("\n", " / "),
            lambda v: write(end=_lines(v)),
            "Covers the end of the shot; / begins a line",
        )
        for label, text, name, tip in (
            ("Time", "and frame", "clock", "Time of the project and frame of the shot"),
            ("Speed", "of the rider", "speed", "How fast the thing goes that the shot is of"),
            ("Wheels", "turns and degrees", "turns", "How far its wheels have turned"),
            ("Clearance", "as a dimension", "clearance", "The least distance of what moves, where it is"),
            ("Trace", "of the rider", "trace", "The way that it has gone, growing"),
        ):
            form.check(label, text, getattr(shows, name), lambda v, n=name: write(**{n: v}), tip)
        form.number(
            "Images every", shows.images, "s", lambda v: write(images=v), "See-through images of the rider where it has been", 2, 0.1,
            zero="none",
        )  # fmt: skip
        for thing in shows.labels:
            form.buttons(
                (
                    f"Unlabel {get(project, thing).name}",
                    lambda t=thing: write(labels=tuple(i for i in shows.labels if i != t)),
                    "Take this label off the picture",
                )
            )
        options = [(p.id, p.name) for p in project.parts if self._can_be_named(p) and p.id not in shows.labels]
        if options:
            form.choice(
                "Label",
                [("", "choose …"), *options],
                "",
                lambda v: v and write(labels=(*shows.labels, v)),
                "Name a thing, with a leader that follows it",
            )
        if shows != OnPicture():
            form.buttons(
                ("Nothing on it", lambda: self._set(shot.id, "On the picture", shows=OnPicture()), "Take all of it off")
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
