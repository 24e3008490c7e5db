"""A part or assembly, or several."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.app.cards.finish import chosen_finish, finish_options
from kestrav.app.cards.rows import Rows, Vector
from kestrav.app.widgets.window_colours import PETROL
from kestrav.core.clearance.drop import drop
from kestrav.core.document import edits
from kestrav.core.document.lookup import ancestors, get, subtree
from kestrav.core.document.records import (
    BoxForm,
    CylinderForm,
    FloorForm,
    Part,
    Placement,
    Project,
    SphereForm,
    WallForm,
)
from kestrav.core.editing.finishing import with_finish
from kestrav.core.errors import BadInput
from kestrav.core.finishes.applied import finish_of
from kestrav.core.geometry.transforms import angles_from_quaternion
from kestrav.core.parts import placeholders, placing
from kestrav.core.parts.arranging import array_places, array_steps, copy, group, ungroup
from kestrav.core.parts.rest import world_bounds
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show

Array = NDArray[np.float64]

SEE_THROUGH = 0.35
_AXES = [("+x", "x"), ("-x", "−x"), ("+y", "y"), ("-y", "−y"), ("+z", "z"), ("-z", "−z")]
_FORM_LABELS = {
    "opening_width": "Opening",
    "opening_height": "Opening height",
    "offset": "From the left",
    "sill": "Sill",
}


def direction(axis: str) -> Array:
    """The unit vector of an axis such as ``-y``."""
    direction = np.zeros(3)
    direction["xyz".index(axis[1])] = -1.0 if axis[0] == "-" else 1.0
    return direction


def triple(values: Array) -> str:
    """A direction as it is shown."""
    return ", ".join(show(float(v), "", 3) for v in values)


def _cubic(volume: float) -> str:
    """A volume in mm³ as people say it."""
    return show(volume / 1e9, "m³", 4) if volume >= 1e8 else show(volume / 1000, "cm³", 2)


def _square(area: float) -> str:
    """An area in mm² as people say it."""
    return show(area / 1e6, "m²", 3) if area >= 1e6 else show(area / 100, "cm²", 1)


class PartRows(Rows):
    """Placing, pivot, looks, copies, and what can be done with it."""

    def build(self, part: Part) -> None:
        project, form = self.session.shown, self.form
        chain = [get(project, i) for i in ancestors(project, part.id)]
        crumbs = [f'<a style="color:{PETROL}; text-decoration:none" href="{p.id}">{p.name}</a> ›' for p in chain]
        self.form.title = " ".join([*crumbs, part.name])
        if part.swept is not None:
            self._swept(part)
        if form.section("Motion"):
            self._motion(part)
        if form.section("Place", ", ".join(show(v, "", 0) for v in part.placement.position)):
            self._place(part)
        if form.section("Pivot and front"):
            self._pivot(part)
        solid = part if part.geometry is not None else self._first_solid(part.id)
        if form.section("Appearance", "" if solid is None else self._finish_name(solid)):
            self._looks(part)
        if form.section("Copies"):
            self._copies(part)
        self._delete(part, "part" if part.geometry is not None else "assembly")

    def _swept(self, part: Part) -> None:
        """What a swept volume is of."""
        assert part.swept is not None
        swept, project = part.swept, self.session.shown
        shape = solid_mesh(self.session.meshes, part)
        findings = () if self.card.result is None else self.card.result.findings
        old = any(f.rule == "swept-outdated" and part.id in f.subject for f in findings)
        size = " × ".join(show(float(v), "", 0) for v in shape.bounds[1] - shape.bounds[0])
        self.form.worked(
            f"swept by {get(project, swept.thing).name}, {swept.start:.2f} to {swept.end:.2f}\u2009s",
            f"<b>{_cubic(shape.volume)}</b>, {size}\u2009mm over all",
            f"edges to {show(swept.tolerance, 'mm', 2)}" + (" · <b>out of date</b>" if old else ""),
        )
        self.form.buttons(
            (
                "Recompute",
                lambda: self.card.swept_asked.emit(part.id),
                "Recompute the swept volume for the present motion, over the same time span",
            )
        )

    def _edit(self, label: str, change: Callable[[Project], Project]) -> None:
        self.session.edit(label, change)

    def _size(self, ids: list[str]) -> Array:
        poses = self.session.poses()[None]
        boxes = [world_bounds(self.session.shown, i, poses)[0] for i in ids]
        size: Array = np.max([b[1] for b in boxes], axis=0) - np.min([b[0] for b in boxes], axis=0)
        return size

    def _measures(self, part: Part) -> None:
        """Worked lines: size, volume, what is in it."""
        project = self.session.shown
        lines = [" × ".join(show(float(v)) for v in self._size([part.id])) + "\u2009mm overall"]
        if part.geometry is None:
            solids = sum(get(project, i).geometry is not None for i in subtree(project, part.id))  # type: ignore[union-attr]
            lines.append(f"{solids} parts in the assembly")
        else:
            shape = solid_mesh(self.session.meshes, part)
            exact = sum(face.kind != "free" for face in shape.faces)
            if shape.watertight:
                lines.append(f"volume {_cubic(shape.volume)}, surface {_square(shape.area)}")
            lines.append(
                f"{len(shape.triangles)} triangles, {exact} exact faces"
                if exact
                else f"{len(shape.triangles)} triangles"
            )
        source = next((s for s in project.sources if s.id == part.source), None)
        if source is not None:
            lines.append(f"from {source.file.rsplit('/', 1)[-1]}")
        self.form.worked(*lines)

    # motion

    def _motion(self, part: Part) -> None:
        project, form = self.session.shown, self.form
        self._name(part)
        self._fields(part, "role", "least_radius")
        if project.paths:
            options = [("", "choose …"), *((p.id, p.name) for p in project.paths)]
            form.choice(
                "Move along", options, "", lambda path: self._add_run(part.id, path), "Move this part along a path"
            )
        if part.form is not None:
            self._form(part)
        self._measures(part)
        form.buttons(
            ("Draw path", self.card.draw_asked.emit, "Draw a path for this part (D)"),
            (
                "Orbit …",
                self.card.orbit_asked.emit,
                "Add a camera that orbits the selection, with a shot (Shift+O)",
            ),
            (
                "Replace with file …",
                lambda: self.card.replace_asked.emit(part.id),
                "Replace this part with a product from a file; runs and cameras stay",
            ),
            *(
                [
                    (
                        "Reload file …",
                        lambda: self.card.reload_asked.emit(part.source),
                        "Show what has changed in the file, and update the product",
                    )
                ]
                if part.source
                else []
            ),
        )

    def _form(self, part: Part) -> None:
        """A placeholder's own measures."""
        assert part.form is not None
        for field in part.form.__struct_fields__:
            label = _FORM_LABELS.get(field, field.replace("_", " ").capitalize())
            tip = f"{field.replace('_', ' ').capitalize()} of the placeholder"
            self.form.number(label, getattr(part.form, field), "mm", partial(self._reshape, part, field), tip, step=10)

    def _reshape(self, part: Part, field: str, value: float) -> None:
        changed = edits.change_form(part, field, value)
        try:
            shape = placeholders.form_mesh(changed)
        except BadInput as fault:
            self.session.refused.emit(str(fault))
            return
        self.session.edit(
            "Dimensions", lambda p: placeholders.reshape(p, part.id, changed)[0], meshes={shape.hash: shape}
        )

    # placing

    def _place(self, part: Part) -> None:
        form, placement = self.form, part.placement

        def place(position: Vector) -> None:
            self._set(part.id, "Move part", placement=Placement(position, placement.rotation))

        form.vector("Position", placement.position, "mm", place, "Position in the assembly", own=True)
        angles = angles_from_quaternion(placement.rotation)

        def turn(values: Vector) -> None:
            w, x, y, z = scipy.spatial.transform.Rotation.from_euler("xyz", values, degrees=True).as_quat(
                scalar_first=True
            )
            rotation = (float(w), float(x), float(y), float(z))
            self._set(part.id, "Turn part", placement=Placement(placement.position, rotation))

        form.vector(
            "Rotation", [float(a) for a in angles], "°", turn, "Rotation about the assembly's axes, x first", own=True
        )
        size = self._size([part.id])

        def grow(values: Vector) -> None:
            # the one that was typed is the known dimension
            k = int(np.argmax(np.abs(np.array(values) - size)))
            self._edit("Scale", lambda p: placing.scale_to(p, part.id, float(size[k]), values[k]))

        form.vector(
            "Size",
            [float(v) for v in size],
            "mm",
            grow,
            "Overall size; type one dimension to scale uniformly",
            own=True,
        )
        if part.geometry is not None:
            form.vector(
                "Scale",
                part.scale,
                "",
                lambda v: self._edit("Scale", lambda p: placing.scale_axes(p, part.id, v)),
                "Scale factors along the part's axes",
                4,
                own=True,
            )
        else:
            form.number(
                "Scale by",
                1.0,
                "",
                lambda v: self._edit("Scale", lambda p: placing.scale(p, part.id, v)),
                "Scale the whole assembly about its pivot",
                4,
                0.1,
                acts=True,
            )
        self._place_buttons([part.id])

    def _place_buttons(self, ids: list[str]) -> None:
        meshes = self.session.meshes
        self.form.buttons(
            (
                "Drop to surface",
                lambda: self._edit("Drop to surface", lambda p: drop(p, meshes, ids)),
                "Lower the part onto the surface below, or the floor (B)",
            ),
            (
                "Face on face …",
                lambda: self.card.place_asked.emit("face"),
                "Pick a face of this part, then the face to lay it on",
            ),
            (
                "Axis on axis …",
                lambda: self.card.place_asked.emit("axis"),
                "Pick a round edge or cylinder of this part, then the one to centre on",
            ),
            (
                "Points on points …",
                lambda: self.card.place_asked.emit("points"),
                "Pick one, two or three pairs of points",
            ),
            *(
                [
                    (
                        "Bake",
                        lambda: self._bake(ids[0]),
                        "Apply scale and rotation to the geometry; the part stays in place",
                    )
                ]
                if len(ids) == 1
                else []
            ),
        )

    def _bake(self, part_id: str) -> None:
        try:
            _, mesh = placeholders.bake(self.session.project, self.session.meshes, part_id)
        except BadInput as fault:
            self.session.refused.emit(str(fault))
            return
        meshes = self.session.meshes
        self.session.edit("Bake", lambda p: placeholders.bake(p, meshes, part_id)[0], meshes={m.hash: m for m in mesh})

    # pivot and front

    def _pivot(self, part: Part) -> None:
        form, pivot = self.form, part.pivot

        def set_pivot(position: Vector) -> None:
            self._set(part.id, "Move pivot", pivot=Placement(position, pivot.rotation))

        form.vector(
            "Pivot", pivot.position, "mm", set_pivot, "Point that follows a path, in the part's coordinates", own=True
        )
        sides = [
            ("", "choose …"),
            *((s, f"{s} of its box" if s != "middle" else "middle of bounds") for s in placing.BOX_SIDES),
            ("gravity", "centre of gravity"),
        ]
        form.choice(
            "Set pivot to", sides, "", lambda key: self._pivot_to(part.id, key), "Move the pivot to a place on the part"
        )
        _, front, up = placing.front_of(self.session.shown, part.id)
        for label, now, field in (("Front", front, "front"), ("Up", up, "up")):
            axis = next((key for key, _ in _AXES if float(direction(key) @ now) > 1 - 1e-9), "")
            options = _AXES if axis else [("", triple(now)), *_AXES]
            form.choice(
                label,
                options,
                axis,
                partial(self._face, part.id, field),
                f"Where its {label.lower()} points in the room; along a path the front leads",
            )
        form.buttons(
            (
                "Pick a place …",
                lambda: self.card.place_asked.emit("pivot"),
                "Click a corner, edge, round edge or cylinder for the pivot",
            ),
            (
                "Pick front …",
                lambda: self.card.place_asked.emit("front"),
                "Click a face or axis for the part's front",
            ),
            (
                "Pick up direction …",
                lambda: self.card.place_asked.emit("up"),
                "Click a face or axis for the part's up direction",
            ),
            (
                "Square to the room",
                lambda: self._edit("Square axes", lambda p: placing.square_axes(p, part.id)),
                "Align front with x and up with z",
            ),
        )
        place, _, _ = placing.front_of(self.session.shown, part.id)
        form.worked(
            "pivot in the room " + ", ".join(show(float(v)) for v in place) + "\u2009mm",
            f"front {triple(front)}",
            f"up {triple(up)}",
        )

    def _pivot_to(self, part_id: str, key: str) -> None:
        if key == "gravity":
            meshes = self.session.meshes
            self._edit(
                "Move pivot", lambda p: placing.pivot_at(p, part_id, placing.centre_of_gravity(p, meshes, part_id))
            )
        elif key:
            self._edit("Move pivot", lambda p: placing.pivot_at_side(p, part_id, key))

    def _face(self, part_id: str, field: str, key: str) -> None:
        if key:
            self._edit(
                "Set " + ("front" if field == "front" else "upside"),
                lambda p: placing.set_front(p, part_id, **{field: direction(key)}),
            )

    # looks

    def _looks(self, part: Part) -> None:
        ids = [part.id]
        solid = part if part.geometry is not None else self._first_solid(part.id)
        if solid is not None:
            self._look_fields(ids, solid)
        form = self.form
        self._fields(part, "shown", "locked")
        form.buttons(
            (
                "Isolate",
                lambda: self.session.isolate(None if self.session.isolated else ids),
                "Show only this part in the stage, or everything again (I)",
            ),
            ("See through", lambda: toggle_see_through(self.session, ids), "See-through or solid (G)"),
        )
        if part.link:
            others = sum(p.link == part.link for p in self.session.shown.parts) - 1
            form.note(
                f"Linked with {others} other {'copies' if others != 1 else 'copy'}: geometry and looks change together."
            )

    def _finish_name(self, solid: Part) -> str:
        """What a solid is finished with as the project is shown."""
        finish = finish_of(self.session.shown, solid.id, self.session.shown.colourway)
        return "plain paint" if finish is None else finish.name

    def _first_solid(self, part_id: str) -> Part | None:
        project = self.session.shown
        inside = set(subtree(project, part_id))
        return next((p for p in project.parts if p.id in inside and p.geometry is not None), None)

    def _look_fields(self, ids: list[str], like: Part) -> None:
        def style(label: str, **fields: Any) -> None:
            self._edit(label, lambda p: edits.restyle(p, ids, **fields))

        form = self.form
        form.colour("Colour", like.colour, lambda v: style("Colour", colour=v), "Colour of all solids in this part")
        project = self.session.shown
        now = finish_of(project, like.id, project.colourway)
        form.choice(
            "Finish",
            finish_options(project),
            now.id if now is not None else "",
            lambda key: self._edit("Finish", lambda p: with_finish(p, ids, chosen_finish(key))),
            "Surface material; shown in the lens, the film and the finished style",
        )
        form.number(
            "Opacity",
            like.opacity * 100,
            "%",
            lambda v: style("Opacity", opacity=min(max(v / 100, 0.0), 1.0)),
            "100 % is solid",
            0,
            5,
        )

    # copies

    def _copies(self, part: Part) -> None:
        self._copy_fields([part.id])
        if self.session.shown.paths:
            options = [("", "choose …"), *((p.id, p.name) for p in self.session.shown.paths)]
            self.form.choice(
                "Along a path",
                options,
                "",
                partial(self._along, part.id),
                "Spread the copies evenly along a path, turned with it",
            )

    def _copy_fields(self, ids: list[str]) -> None:
        form, state = self.form, self.card.copying
        form.fields(state, "step", "count", "linked", change=state.set)
        form.buttons(
            (
                "Copy once",
                lambda: copy_in_a_row(self.session, ids, state, 2),
                "Make one copy at the next step (Ctrl+D)",
            ),
            (
                "Array",
                lambda: copy_in_a_row(self.session, ids, state, state.count),
                "Make a row of copies, one step apart",
            ),
        )

    def _along(self, part_id: str, path_id: str) -> None:
        if not path_id:
            return
        state = self.card.copying

        def spread(project: Project) -> Project:
            if state.count < 2:
                raise BadInput("give a count of 2 or more to spread copies along a path")
            curve = path_curve(get(project, path_id)).curve  # type: ignore[arg-type]
            shares = np.linspace(0, 1, state.count, endpoint=not curve.closed)
            stations = shares * curve.length
            places, tangents = curve.position(stations), curve.tangent(stations)
            start, _, _ = placing.front_of(project, part_id)
            # the thing itself goes to the path's start, its copies follow
            moves = array_places(start, places, tangents)
            project = copy(project, [part_id], moves[1:], linked=state.linked)
            return placing.transform(project, [part_id], moves[0])

        self._edit("Copies along a path", spread)

    # several

    def build_several(self, ids: list[str]) -> None:
        """What can be done with several parts; the settings that they have in common follow."""
        project, form = self.session.shown, self.form
        self.form.title = f"{len(ids)} parts"
        names = [get(project, i).name for i in ids]
        form.note(", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else ""))
        form.worked(" × ".join(show(float(v)) for v in self._size(ids)) + "\u2009mm overall")
        if form.section("Actions"):
            if project.paths:
                options = [("", "choose …"), *((p.id, p.name) for p in project.paths)]
                form.choice(
                    "Move along",
                    options,
                    "",
                    lambda path: self._add_run(ids[-1], path),
                    "Move the selected parts along a path together; the one selected last follows the path",
                )
            form.buttons(
                (
                    "Group",
                    lambda: group_chosen(self.session, ids),
                    "Group the selected parts in a new assembly (Ctrl+G)",
                ),
                (
                    "Isolate",
                    lambda: self.session.isolate(None if self.session.isolated else ids),
                    "Show only the selected parts in the stage, or everything again (I)",
                ),
                (
                    "Show or hide",
                    lambda: toggle_shown(self.session, ids),
                    "Hidden parts are neither drawn nor checked (H)",
                ),
                ("See through", lambda: toggle_see_through(self.session, ids), "See-through or solid (G)"),
            )
            self._place_buttons(ids)
        if form.section("Row of copies"):
            self._copy_fields(ids)


def group_chosen(session: Any, ids: list[str]) -> None:
    """Gather parts in an assembly and select it."""
    before = {p.id for p in session.project.parts}
    if session.edit("Group", lambda p: group(p, ids)):
        session.select(next(p.id for p in session.project.parts if p.id not in before))


def ungroup_chosen(session: Any) -> None:
    """Dissolve the selected assembly and choose what was in it."""
    part = session.selection
    inner = [p.id for p in session.project.parts if p.parent == part]
    if part is not None and session.edit("Ungroup", lambda p: ungroup(p, part)):
        session.select_parts(inner)


def toggle_see_through(session: Any, ids: list[str]) -> None:
    """Make parts see-through, or solid when they are."""
    inside = {inner for i in ids for inner in subtree(session.project, i)}
    clear = any(p.id in inside and p.geometry and p.opacity >= 1 for p in session.project.parts)
    session.edit("See through", lambda p: edits.restyle(p, ids, opacity=SEE_THROUGH if clear else 1.0))


def copy_in_a_row(session: Any, ids: list[str], how: Any, count: int) -> None:
    """Copy parts so that there are ``count`` in a row; a single copy is selected, to be copied on."""
    before = {p.id for p in session.project.parts}
    if session.edit("Copy", lambda p: copy(p, ids, array_steps(how.step, count), linked=how.linked)) and count == 2:
        copies = [p for p in session.project.parts if p.id not in before]
        inside = {p.id for p in copies}
        session.select_parts(p.id for p in copies if p.parent not in inside)


def toggle_shown(session: Any, ids: list[str]) -> None:
    """Hide parts, or show them when all are hidden."""
    show_ = not any(p.shown for p in session.project.parts if p.id in ids)
    session.edit("Show or hide", lambda p: edits.update_parts(p, {i: {"shown": show_} for i in ids}))


PLACEHOLDERS = {
    form: placeholders.FORM_NAMES[form] for form in (BoxForm, CylinderForm, SphereForm, FloorForm, WallForm)
}
