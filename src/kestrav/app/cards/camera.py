"""A camera's card: lens, aim, what is asked of its picture, what is faint to it."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.focus import FocusRows
from kestrav.app.cards.rows import Rows
from kestrav.core.camera import adjusting
from kestrav.core.camera.lens import angles, focal_length_for, frame_on_sensor
from kestrav.core.camera.making import with_shot
from kestrav.core.camera.subject import subject_of
from kestrav.core.camera.views import Views, angles_of, heights, keyed, views
from kestrav.core.document.edits import update
from kestrav.core.document.records import (
    AlongAim,
    Attachment,
    Camera,
    CameraAim,
    FreeAim,
    PartAim,
    PathAim,
    PointAim,
    Project,
    Run,
)
from kestrav.core.findings.model import name_of
from kestrav.core.kinematics.motion_segments import by_thing
from kestrav.core.units import show

_AIMS = (
    ("part", "a part"),
    ("point", "a point"),
    ("along", "along its path"),
    ("path", "along a second path"),
    ("free", "by keys"),
)


def _aim_kind(camera: Camera) -> str:
    kinds = {PartAim: "part", PointAim: "point", AlongAim: "along", PathAim: "path", FreeAim: "free"}
    return next(key for kind, key in kinds.items() if isinstance(camera.aim, kind))


def _aim_name(camera: Camera) -> str:
    return dict(_AIMS)[_aim_kind(camera)]


class CameraRows(Rows):
    """Lens, aim, place, demands."""

    def build(self, camera: Camera) -> None:
        project, form = self.session.shown, self.form
        self.form.title = camera.name
        seen = views(
            project, self.session.meshes, camera, [self.session.time], aspect=self._frame()[0] / self._frame()[1]
        )
        if form.section("Lens"):
            self._lens(camera, seen)
        if not camera.parallel and form.section(
            "Depth of field", f"f/{camera.f_number:g}" if camera.f_number else "all sharp"
        ):
            FocusRows(self.card).build(camera, seen)
        if form.section("Aim", _aim_name(camera)):
            self._aim(camera, seen)
        if form.section("Frame"):
            self._demands(camera, seen)
        form.foot()
        if not any(s.camera == camera.id for s in project.shots):
            form.buttons(("Add a shot", lambda: self._add_shot(camera), "Add a shot of this camera while it moves"))
        self._delete(camera)

    def _frame(self) -> tuple[float, float]:
        shot = self.session.shot
        return (shot.width, shot.height) if shot else (16, 9)

    def _change(self, camera: Camera, label: str, **fields: Any) -> None:
        self._set(camera.id, label, **fields)

    # lens

    def _lens(self, camera: Camera, seen: Views) -> None:
        form, (width, height) = self.form, self._frame()
        self._name(camera)
        self._fields(camera, "parallel")
        if camera.parallel:
            self._fields(camera, "view_height")
        else:
            self._fields(camera, "focal_length")
            wide, high, across = (np.degrees(a) for a in angles(camera, width, height))

            def by_angle(typed: float) -> None:
                self.session.edit("Lens", lambda p: _with_angle(p, camera.id, width, height, typed))

            form.number(
                "Angle of view", wide, "°", by_angle, "Horizontal angle of view; the focal length follows", 1, 1
            )
            self._fields(camera, "sensor_width", "sensor_height")
        self._carried(camera, seen)
        lines = []
        if not camera.parallel:
            used = frame_on_sensor(camera, width, height)
            lines = [
                f"2 · atan({used[0]:.2f} ÷ (2 · {camera.focal_length:g})) = <b>{wide:.1f}°</b> wide",
                f"{high:.1f}° high, {across:.1f}° across",
            ]
            if abs(float(seen.focal_length[0]) - camera.focal_length) > 0.05:
                lines.append(f"now {seen.focal_length[0]:.1f}\u2009mm, to keep its subject’s size")
        form.worked(*lines, *self._carried_by(camera, seen))
        form.number(
            "Fit margin",
            100 * self.card.fit_margin,
            "%",
            self._set_margin,
            "Share of the frame left free around the subject when fitting",
            1,
        )
        form.buttons(
            *(
                (
                    f"Fit by {by}",
                    partial(self._fit, camera, by),
                    f"Fit the whole subject into the frame by {by} (F)"
                    if by == "distance"
                    else "Fit the whole subject into the frame by focal length",
                )
                for by in ("distance", "lens")
            )
        )

    def _carried(self, camera: Camera, seen: Views) -> None:
        form = self.form
        riding = [i for i in by_thing(self.session.shown).get(camera.id, ()) if isinstance(i, Attachment)]
        runs = [i for i in by_thing(self.session.shown).get(camera.id, ()) if isinstance(i, Run)]
        if not runs:
            label = "Start" if riding else "Position"
            tip = "Position at the start of the attachment" if riding else "Position of the camera"
            form.vector(
                label, camera.position, "mm", lambda v: self._change(camera, "Move camera", position=v), tip, own=True
            )
        else:
            x, y, z = (float(v) for v in np.round(seen.position[0], 1))
            text = "  ".join(f"{a} {show(v, 'mm', 0)}" for a, v in zip("xyz", (x, y, z), strict=True))
            form.note(f"now at {text}; drag in the lens, or change its path or run")
            self._fields(camera, "least_radius")
        if runs or riding:
            self._fields(camera, "lag")

    def _carried_by(self, camera: Camera, seen: Views) -> list[str]:
        away = float(np.linalg.norm(seen.target[0] - seen.position[0]))
        lines = []
        if isinstance(camera.aim, PartAim | PointAim | PathAim):
            lines.append(f"now {show(away, 'mm', 0)} from its aim")
        lines += [f"by “{item.name}”" for item in by_thing(self.session.shown).get(camera.id, ())]
        return lines

    def _set_margin(self, percent: float) -> None:
        self.card.fit_margin = percent / 100

    def _fit(self, camera: Camera, by: str) -> None:
        width, height = self._frame()
        time, meshes, margin = self.session.time, self.session.meshes, self.card.fit_margin
        self.session.edit(
            "Fit subject",
            lambda p: adjusting.fitted(p, meshes, camera.id, time, width / height, by, margin),  # type: ignore[arg-type]
        )

    # aim

    def _aim(self, camera: Camera, seen: Views) -> None:
        project, form, aim = self.session.shown, self.form, camera.aim
        kind = _aim_kind(camera)
        kinds = [k for k in _AIMS if k[0] != "path" or project.paths]
        kinds = [k for k in kinds if k[0] != "part" or project.parts]
        form.choice("Aim", kinds, kind, lambda v: self._aim_at(camera, v, seen), "What the camera looks at")

        def change(**fields: Any) -> None:
            self._change(camera, "Aim", aim=msgspec.structs.replace(aim, **fields))

        if isinstance(aim, PartAim):
            things = self._things(aim.part)
            self._fields(aim, "part", change=change, options=things)
        elif isinstance(aim, PointAim):
            self._fields(aim, "point", change=change)
        elif isinstance(aim, AlongAim):
            self._fields(aim, "ahead", "yaw", "pitch", change=change)
        elif isinstance(aim, PathAim):
            paths = [(p.id, p.name) for p in project.paths]
            self._fields(aim, "path", change=change, options=paths)
        else:
            self._keys(camera, aim, change)
        self._fields(camera, "aim_lag")
        self._roll(camera)
        yaw, pitch = angles_of(seen.forward[0])
        form.worked(
            f"now looks {show(float(yaw) % 360, '°')} from +x, {show(float(pitch), '°')} up",
            *self._carried_by(camera, seen)[:1],
        )

    def _things(self, chosen: str) -> list[tuple[str, str]]:
        project = self.session.shown
        things = [(p.id, p.name) for p in project.parts if p.geometry is None or p.parent is None]
        if chosen and chosen not in {t[0] for t in things}:
            things.append((chosen, name_of(project, chosen)))
        picked = [i for i in self.session.chosen if i not in {t[0] for t in things}]
        return [*things, *((i, name_of(project, i)) for i in picked)]

    def _aim_at(self, camera: Camera, kind: str, seen: Views) -> None:
        project = self.session.project
        place = tuple(float(v) for v in np.round(seen.target[0], 1))
        aim: CameraAim
        if kind == "part":
            thing = subject_of(project, self.session.meshes, camera)
            aim = PartAim(thing.thing if thing is not None else project.parts[0].id)
        elif kind == "point":
            aim = PointAim(place)  # type: ignore[arg-type]
        elif kind == "along":
            aim = AlongAim()
        elif kind == "path":
            own = {r.path for r in project.runs if r.rider == camera.id}
            aim = PathAim(next((p.id for p in project.paths if p.id not in own), project.paths[0].id))
        else:
            meshes, time = self.session.meshes, self.session.time
            self.session.edit("Aim", lambda p: adjusting.aimed_freely(p, meshes, camera.id, time))
            return
        self._change(camera, "Aim", aim=aim)

    def _keys(self, camera: Camera, aim: FreeAim, change: Any) -> None:
        form, time = self.form, self.session.time
        self._fields(aim, "riding", change=change)
        near = [k for k in aim.keys if abs(k.time - time) < 0.5 / self.session.shown.settings.fps]
        form.note(
            f"{len(aim.keys)} key{'s' if len(aim.keys) != 1 else ''}, at "
            + ", ".join(f"{k.time:.2f}\u2009s" for k in aim.keys[:6])
            + (" …" if len(aim.keys) > 6 else "")
            + ". Drag in the lens to key its look at the playhead"
        )
        for key in near:

            def put(of: Any = key, **fields: float) -> None:
                change(keys=tuple(msgspec.structs.replace(k, **fields) if k is of else k for k in aim.keys))

            self._fields(key, "yaw", "pitch", change=put)

        def key_here() -> None:
            self.session.edit("Aim key", lambda p: adjusting.looked(p, self.session.meshes, camera.id, time, 0.0, 0.0))

        buttons = [("Key here", key_here, "Add an aim key at the playhead")]
        if near and len(aim.keys) > 1:
            buttons.append(
                (
                    "Delete key",
                    lambda: change(keys=tuple(k for k in aim.keys if k not in near)),
                    "Delete the aim key at the playhead",
                )
            )
        form.buttons(*buttons)

    def _roll(self, camera: Camera) -> None:
        form, time = self.form, self.session.time
        now = (
            float(keyed([k.time for k in camera.roll], [k.angle for k in camera.roll], [time])[0])
            if camera.roll
            else 0.0
        )

        def roll(angle: float) -> None:
            if angle == 0 and len(camera.roll) < 2:
                self._change(camera, "Level", roll=())
            else:
                self.session.edit("Roll", lambda p: adjusting.rolled(p, camera.id, time, angle))

        form.number(
            "Roll",
            now,
            "°",
            roll,
            "Roll to the right at the playhead; typing at another time adds a key",
            1,
            1,
            zero="level",
        )
        self._fields(camera, "banks")
        if len(camera.roll) > 1:
            form.buttons(
                (
                    "Level the horizon",
                    lambda: self._change(camera, "Level", roll=(), banks=False),
                    "Delete all roll keys",
                )
            )

    # demands

    def _demands(self, camera: Camera, seen: Views) -> None:
        project, form, limits = self.session.shown, self.form, camera.framing
        things = [("", "the aim"), *self._things(camera.subject)]
        self._fields(camera, "subject", options=things)
        form.fields(camera, "keeps", change=lambda keeps: self._keep(camera, keeps))
        if camera.keeps:
            self._fields(camera, "size")

        def limit(**fields: float) -> None:
            self._change(camera, "Limit", framing=msgspec.structs.replace(limits, **fields))

        self._fields(limits, "least", "most", "change", "visible", "margin", "near", "roll", change=limit)
        if camera.walk is not None:
            self._fields(camera.walk, "eye_height", "distance", change=partial(self._walk, camera))
        for i, fade in enumerate(camera.fades):
            form.number(
                f"{name_of(project, fade.thing)[:18]} shown",
                100 * fade.opacity,
                "%",
                partial(self._fade, camera, i),
                f"Faint to this camera from {fade.start:.2f} to {fade.end:.2f} s",
                0,
                5,
            )
        if camera.fades:
            form.buttons(
                ("Clear fades", lambda: self._change(camera, "Clear fades", fades=()), "Show every part solid")
            )
        subject = subject_of(project, self.session.meshes, camera)
        if subject is not None:
            width, height = self._frame()
            covered = heights(camera, seen, subject.places_at(project, [self.session.time]), width / height)
            form.worked(
                f"now {100 * float(covered[0]):.1f} % of the frame’s height", "see the timeline's lanes for its curves"
            )

    def _keep(self, camera: Camera, by: str) -> None:
        if not by:
            self._change(camera, "Size", keeps="")
            return
        width, height = self._frame()
        time, meshes = self.session.time, self.session.meshes
        self.session.edit(
            "Keep size",
            lambda p: adjusting.holding_size(p, meshes, camera.id, time, width / height, by),  # type: ignore[arg-type]
        )

    def _walk(self, camera: Camera, **fields: float) -> None:
        assert camera.walk is not None

        def change(project: Project) -> Project:
            assert camera.walk is not None
            project = update(project, camera.id, walk=msgspec.structs.replace(camera.walk, **fields))
            if "eye_height" in fields:
                for run in [r for r in project.runs if r.rider == camera.id]:
                    project = update(project, run.id, offset=(*run.offset[:2], fields["eye_height"]))
            return project

        self.session.edit("Walk", change)

    def _fade(self, camera: Camera, k: int, percent: float) -> None:
        fades = list(camera.fades)
        fades[k] = msgspec.structs.replace(fades[k], opacity=percent / 100)
        self._change(camera, "Fade", fades=tuple(fades))

    def _add_shot(self, camera: Camera) -> None:
        if self.session.edit("Add shot", lambda project: with_shot(project, camera.id)):
            self.session.select(self.session.project.shots[-1].id)


def _with_angle(project: Project, camera_id: str, width: float, height: float, degrees: float) -> Project:
    camera = adjusting.camera_of(project, camera_id)
    return update(
        project, camera_id, focal_length=focal_length_for(camera, width, height, np.radians(degrees), "width")
    )
