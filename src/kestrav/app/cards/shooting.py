"""Cameras and shots."""

from __future__ import annotations

import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.core.camera.views import vertical_angle, views
from kestrav.core.document import edits
from kestrav.core.document.lookup import new_id, new_name
from kestrav.core.document.records import (
    Camera,
    PartAim,
    PointAim,
    Project,
    Shot,
)
from kestrav.core.document.shots import frame_count
from kestrav.core.findings.model import name_of
from kestrav.core.motion.runs import span
from kestrav.core.units import show


class CameraRows(Rows):
    """Lens, aim, place."""

    def build(self, camera: Camera) -> None:
        project, form = self.session.shown, self.form
        self.card.title.setText(camera.name)
        self._name(camera)
        self._number(camera, "Lens", "focal_length", "mm", "Focal length")
        self._number(camera, "Sensor width", "sensor_width", "mm", "Width of what is exposed")
        self._number(camera, "Sensor height", "sensor_height", "mm", "Height of what is exposed")
        self.form.number(
            "Least bend",
            camera.least_radius,
            "mm",
            lambda v: self._set(camera.id, "Least bend", least_radius=v),
            "The tightest bend that its path may have; it is checked",
            1,
            50,
            zero="any",
        )
        aims = [("", "a point"), *((p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None)]
        aimed = camera.aim.part if isinstance(camera.aim, PartAim) else ""
        if aimed and aimed not in [a[0] for a in aims]:
            aims.append((aimed, name_of(project, aimed)))
        seen = views(project, camera, [self.session.time])

        def aim(part: str) -> None:
            x, y, z = (float(round(v, 1)) for v in seen.target[0])
            self._set(camera.id, "Aim", aim=PartAim(part) if part else PointAim((x, y, z)))

        form.choice("Aim", aims, aimed, aim, "What it looks at")
        if isinstance(camera.aim, PointAim):
            form.vector(
                "Aim at",
                camera.aim.point,
                "mm",
                lambda v: self._set(camera.id, "Aim", aim=PointAim(v)),
                "The point looked at",
            )
        runs = [r for r in project.runs if r.rider == camera.id]
        if not runs:
            form.vector(
                "Stands",
                camera.position,
                "mm",
                lambda v: self._set(camera.id, "Move camera", position=v),
                "Where it stands",
            )
        shot = self.session.shot
        width, height = (shot.width, shot.height) if shot else (16, 9)
        angle = vertical_angle(camera, width, height)
        used = 2 * camera.focal_length * np.tan(angle / 2)
        across = 2 * np.degrees(np.arctan(np.tan(angle / 2) * width / height))
        distance = float(np.linalg.norm(seen.target[0] - seen.position[0]))
        form.worked(
            f"2 · atan({used:.2f} ÷ (2 · {camera.focal_length:g})) = <b>{np.degrees(angle):.1f}°</b> high",
            f"{across:.1f}° wide",
            f"now {show(distance, 'mm', 0)} from its aim",
            *(f"rides on “{r.name}”" for r in runs),
        )
        if not any(s.camera == camera.id for s in project.shots):
            form.buttons(("Add a shot", lambda: self._add_shot(camera), "Film with this camera over the whole project"))
        self._delete(camera.id, "camera")

    def _add_shot(self, camera: Camera) -> None:
        made: list[str] = []

        def add(project: Project) -> Project:
            name = new_name(project, Shot, camera.name)
            shot = Shot(new_id(project, Shot), name, camera.id, 0.0, span(project), fps=project.settings.fps)
            made[:] = [shot.id]
            return edits.add(project, shot)

        if self.session.edit("Add shot", add):
            self.session.select(made[0])


class ShotRows(Rows):
    """Camera, span, picture."""

    def build(self, shot: Shot) -> None:
        project, form = self.session.shown, self.form
        self.card.title.setText(shot.name)
        self._name(shot)
        cameras = [(c.id, c.name) for c in project.cameras]
        form.choice(
            "Camera", cameras, shot.camera, lambda v: self._set(shot.id, "Camera", camera=v), "Which camera films"
        )
        self._number(shot, "From", "start", "s", "First moment", 3, 0.1)
        self._number(shot, "To", "end", "s", "End; its frame is not filmed", 3, 0.1)
        self._number(shot, "Width", "width", "px", "Picture width", 0, 2)
        self._number(shot, "Height", "height", "px", "Picture height", 0, 2)
        self._number(shot, "Frame rate", "fps", "fps", "Frames a second", 0)
        form.check(
            "Paths",
            "show them in the pictures",
            shot.paths,
            lambda v: self._set(shot.id, "Paths", paths=v),
            "Paths are drawn in this shot's pictures and film; otherwise they never are",
        )
        form.text(
            "Background",
            shot.background,
            lambda v: self._set(shot.id, "Background", background=v.strip()),
            "Colour behind everything, as #rrggbb",
        )
        form.worked(
            f"({shot.end:.2f} − {shot.start:.2f})\u2009s × {shot.fps:g} fps = <b>{frame_count(shot)} frames</b>",
            f"{shot.width} × {shot.height} pixels, {shot.width / shot.height:.3f} : 1",
        )
        form.buttons(
            ("Render", lambda: self.card.render_asked.emit(shot), "Render this shot to a film or pictures (Ctrl+R)"),
            ("Still", lambda: self.card.still_asked.emit(shot), "One picture at the playhead (Ctrl+T)"),
        )
        self._delete(shot.id, "shot")
