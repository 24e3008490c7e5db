"""A camera's depth of field: how wide its lens is open, and where it is sharp."""

from __future__ import annotations

from functools import partial
from typing import Any

import msgspec
import numpy as np

from kestrav.app.cards.rows import Rows, replacing
from kestrav.core.camera.focusing import aperture_diameter, circle_of, focus_distances, keyed_focus, sharp_span
from kestrav.core.camera.subject import subject_id
from kestrav.core.camera.views import Views
from kestrav.core.document.records import Camera, Focus, FocusKey
from kestrav.core.units import show


class FocusRows(Rows):
    """The f-number, what is focused on, and what that comes to."""

    def build(self, camera: Camera, seen: Views) -> None:
        """Write the rows of a camera as it looks now."""
        self._fields(camera, "f_number")
        if not camera.f_number:
            return
        time = self.session.time
        sharp = float(focus_distances(self.session.shown, camera, [time], self.session.poses()[None], seen)[0])
        self._where(camera, seen, FocusKey(time, sharp))
        length = float(seen.focal_length[0])
        near, far = sharp_span(camera, length, sharp, circle_of(camera))
        self.form.worked(
            f"{show(length, 'mm', 0)} ÷ {camera.f_number:g} = {show(float(aperture_diameter(camera, length)), 'mm', 1)} opening",
            f"sharp from {show(near, 'mm', 0)} to {show(far, 'mm', 0) if np.isfinite(far) else 'the horizon'}",
        )

    def _where(self, camera: Camera, seen: Views, now: FocusKey) -> None:
        """What is focused on; ``now`` is the distance that is sharp at the playhead."""
        form, focus = self.form, camera.focus

        def change(focus: Focus) -> None:
            self._set(camera.id, "Focus", focus=focus)

        def put(**fields: Any) -> None:
            change(msgspec.structs.replace(focus, **fields))

        x, y, z = (float(v) for v in (seen.position[0] + now.distance * seen.forward[0]).round(1))
        parts = [
            (p.id, p.name)
            for p in self.session.shown.parts
            if p.geometry is None or p.parent is None or p.id == focus.part
        ]
        kinds = {"": Focus(), "point": Focus(point=(x, y, z)), "keys": Focus(keys=(now,))}
        if parts:
            kinds["part"] = Focus(part=subject_id(camera) or parts[0][0])
        names = {"": "the aim", "part": "a part", "point": "a point", "keys": "keyed distances"}
        kind = "keys" if focus.keys else "part" if focus.part else "point" if focus.point is not None else ""
        form.choice(
            "Focus", [(k, names[k]) for k in names if k in kinds], kind, lambda v: change(kinds[v]), "What is sharp"
        )
        if kind == "part":
            self._fields(focus, "part", change=put, options=parts)
        elif focus.point is not None and not focus.keys:
            self._fields(focus, "point", change=put)

        def take(k: int, keys: tuple[FocusKey, ...]) -> None:
            # of two keys at one time the one that was changed stays
            change(keyed_focus((*keys[:k], *keys[k + 1 :]), keys[k]))

        for k, key in enumerate(focus.keys):
            put_key = replacing(focus.keys, k, partial(take, k))
            self._fields(key, "time", "distance", change=put_key, prefix=f"Focus key {k + 1}")
        if focus.keys:
            form.buttons(
                ("Add focus key here", lambda: change(keyed_focus(focus.keys, now)), "Add a focus key at the playhead")
            )
