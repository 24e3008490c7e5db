"""What is done with a path as a whole."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Literal

import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.core.document.records import Path, PointShape, Project
from kestrav.core.editing import joining
from kestrav.core.editing.grounding import projected_down
from kestrav.core.findings.model import Fix
from kestrav.core.parts.placing import bounds_of, shift
from kestrav.core.paths import offsetting, shaping, smoothing
from kestrav.core.paths.analysis import least_bend
from kestrav.core.paths.fitting import departure
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show


class TransformRows(Rows):
    """Length, place, portion, and what makes another path of it."""

    def build(self, path: Path) -> None:
        if self.form.section("Length and place"):
            self._length(path)
            self._place(path)
        if self.form.section("Trim"):
            self._portion(path)
        if self.form.section("Reshape"):
            self._reshaping(path)
        if self.form.section("Combine"):
            self._others(path)

    def _edit(self, label: str, change: Callable[[Project], Project]) -> bool:
        return self.session.edit(label, change)

    def _length(self, path: Path) -> None:
        form, state = self.form, self.card.shaping
        keeps = [
            ("start", "scaled about its start"),
            ("middle", "scaled about its middle"),
            ("end", "scaled about its end"),
            ("last", "by its last segment"),
        ]
        form.number(
            "Length",
            path_curve(path).length,
            "mm",
            lambda v: self._edit("Set length", lambda p: shaping.set_length(p, path.id, v, state.anchor)),
            "Exact length, reached by the method below",
            3,
            10,
        )
        form.choice(
            "Method", keeps, state.anchor, state.set_anchor, "How a typed length is reached, and what stays in place"
        )

    def _anchor(self, path: Path) -> np.ndarray:
        anchor = self.card.shaping.anchor
        return shaping.anchor_of(path, "start" if anchor == "last" else anchor)

    def _place(self, path: Path) -> None:
        form = self.form
        height = float(path_curve(path).curve.position([0.0])[0, 2])
        form.number(
            "Start height",
            height,
            "mm",
            lambda v: self._edit("Raise path", lambda p: shaping.raised(p, path.id, v)),
            "Height of the path's start; the whole path moves up or down",
            1,
            10,
        )
        project = self.session.shown
        things = [("", "choose …"), *((c.id, f"camera {c.name}") for c in project.cameras)]
        things += [(p.id, f"middle of {p.name}") for p in project.parts if p.parent is None or p.geometry is None]
        form.choice(
            "Match height of", things, "", lambda k: self._raise_to(path, k), "Raise the path to the height of a part"
        )
        form.vector(
            "Move by",
            (0.0, 0.0, 0.0),
            "mm",
            lambda v: self._edit("Move path", lambda p: shaping.transformed(p, path.id, shift(v))),
            "Move the whole path by these lengths",
            acts=True,
        )
        form.number(
            "Turn by",
            0.0,
            "°",
            lambda v: self._edit("Turn path", lambda p: shaping.turned_about(p, path.id, v, self._anchor(path))),
            "Turn the path about the vertical axis through the fixed point chosen under Method",
            1,
            15,
            acts=True,
        )
        form.number(
            "Scale by",
            1.0,
            "",
            lambda v: self._edit("Scale path", lambda p: shaping.scale_about(p, path.id, v, self._anchor(path))),
            "Scale factor; the fixed point is chosen under Method",
            3,
            0.1,
            acts=True,
        )
        form.buttons(
            (
                "Flatten",
                lambda: self._edit("Flatten path", lambda p: shaping.flattened(p, path.id, height)),
                "Flatten the path to the height of its start",
            ),
            ("Drop to surface", lambda: self._let_down(path), "Lower the path onto the surfaces below, plus the lift"),
        )
        form.number("Lift", self.card.shaping.lift, "mm", self.card.shaping.set_lift, "Height above the surfaces below")

    def _raise_to(self, path: Path, thing: str) -> None:
        def change(project: Project) -> Project:
            camera = next((c for c in project.cameras if c.id == thing), None)
            height = camera.position[2] if camera else float(bounds_of(project, [thing]).mean(axis=0)[2])
            return shaping.raised(project, path.id, height)

        if thing:
            self._edit("Raise path", change)

    def _let_down(self, path: Path) -> None:
        meshes, lift = self.session.meshes, self.card.shaping.lift
        self._edit("Drop path to surface", lambda p: projected_down(p, meshes, path.id, lift))

    def _portion(self, path: Path) -> None:
        form = self.form
        whole = path_curve(Path(path.id, path.name, path.shape)).length
        begin, end = path.trim
        for label, value, field in (("From", begin, 0), ("To", end, 1)):
            side = "before" if field == 0 else "after"

            def cut(share: float, field: int = field) -> None:
                trim = (share, end) if field == 0 else (begin, share)
                self._set(path.id, "Trim", trim=trim)

            form.number(
                label, value * whole, "mm", partial(lambda c, v: c(v / whole), cut), f"Cut off what lies {side}", 1, 10
            )
            form.number(
                f"{label} %",
                value * 100,
                "%",
                partial(lambda c, v: c(v / 100), cut),
                f"Station as a share: cut off what lies {side}",
                2,
                5,
            )
            turn = shaping.turn_of(path, value)
            if turn is not None:
                form.number(
                    f"{label} °",
                    turn,
                    "°",
                    partial(lambda c, v: c(shaping.share_at(path, v)), cut),
                    f"Station as an angle from the shape's start: cut off what lies {side}",
                    2,
                    5,
                )
        form.number(
            "Split at",
            0.0,
            "mm",
            lambda v: self._split(path, v),
            "Split the path into two; a closed path is opened there",
            1,
            10,
            acts=True,
        )

    def _split(self, path: Path, station: float) -> None:
        self._edit("Split path", lambda p: joining.split(p, path.id, station))

    def _reshaping(self, path: Path) -> None:
        form = self.form
        if isinstance(path.shape, PointShape):
            form.number(
                "Round corners",
                0.0,
                "mm",
                lambda v: self._edit("Round corners", lambda p: shaping.round_corners(p, path.id, v)),
                "Round every corner between straight sides by a radius, which stays editable",
                1,
                10,
                acts=True,
            )
        form.number(
            "Minimum bend radius",
            0.0,
            "mm",
            lambda v: self._propose(path, f"Widen to {v:g} mm", partial(smoothing.widened, path_id=path.id, radius=v)),
            "Widen bends tighter than this radius; previewed before you accept",
            1,
            50,
            acts=True,
        )
        form.number(
            "Smoothing",
            0.0,
            "mm",
            lambda v: self._smooth(path, v),
            "Greatest departure from the present path; previewed before you accept",
            1,
            5,
            acts=True,
        )
        form.number(
            "Parallel offset",
            0.0,
            "mm",
            lambda v: self._edit("Offset sideways", lambda p: offsetting.offset_sideways(p, path.id, v)),
            "Offset to the left; negative is to the right",
            1,
            10,
            acts=True,
        )
        form.number(
            "Repeat",
            1,
            "times",
            lambda v: self._edit("Repeat path", lambda p: joining.repeated(p, path.id, round(v))),
            "Repeat the path end to end, this many times in all",
            0,
            acts=True,
        )
        form.buttons(
            (
                "Reverse",
                lambda: self._edit("Reverse path", lambda p: shaping.reverse(p, path.id)),
                "Reverse the direction of travel",
            ),
            (
                "Convert to points",
                lambda: self._edit("Convert to points", lambda p: shaping.to_points(p, path.id)),
                f"Free points within {shaping.AS_POINTS:g} mm of the curve",
            ),
            (
                "Mirror left–right",
                lambda: self._edit("Mirror path", lambda p: _mirror(p, path.id, "x")),
                "Mirror the path in the plane across x through its start",
            ),
            (
                "Mirror front–back",
                lambda: self._edit("Mirror path", lambda p: _mirror(p, path.id, "y")),
                "Mirror the path in the plane across y through its start",
            ),
        )

    def _propose(self, path: Path, label: str, change: Callable[[Project], Project]) -> None:
        """Show another shape of the path with how far it departs, to be accepted or not."""
        before = path_curve(path).curve
        fix = Fix(label, change)
        self.session.preview(fix)
        after = next((p for p in self.session.shown.paths if p.id == path.id), path)
        if self.session.fix is not fix or after is path:
            return
        curve = path_curve(after).curve
        gone = departure(before, curve)
        bends = [show(b.value, "mm", 0) if (b := least_bend(c)) else "straight" for c in (before, curve)]
        self.session.describe(
            f"Departure {show(gone.distance, 'mm')} at most, at {show(gone.station, 'mm', 0)}; "
            f"minimum bend radius {bends[0]} → {bends[1]}"
        )

    def _smooth(self, path: Path, most: float) -> None:
        self._propose(path, f"Smooth by {most:g} mm", lambda p: smoothing.smoothed(p, path.id, most)[0])

    def _others(self, path: Path) -> None:
        form = self.form
        others = [("", "choose …")]
        others += [
            (p.id, p.name) for p in self.session.shown.paths if p.id != path.id and not path_curve(p).curve.closed
        ]
        if not path_curve(path).curve.closed and len(others) > 1:
            form.choice(
                "Join with",
                others,
                "",
                lambda k: k and self._edit("Join paths", lambda p: joining.join(p, path.id, k)),
                "Join both paths at their nearest ends",
            )
        form.buttons(("Copy", lambda: self._copy(path), "Copy the path, one step on"))

    def _copy(self, path: Path) -> None:
        step = self.card.copying.step
        if self._edit("Copy path", lambda p: shaping.copied(p, path.id, step)):
            self.session.select(self.session.project.paths[-1].id)


def _mirror(project: Project, path_id: str, axis: Literal["x", "y"]) -> Project:
    at = float(shaping.anchor_of(shaping.path_of(project, path_id), "start")["xy".index(axis)])
    return shaping.mirrored(project, path_id, axis, at)
