"""A measurement under way, and a kept note."""

from __future__ import annotations

from kestrav.app.cards.rows import Rows
from kestrav.app.stage.part_tools import MeasureTool
from kestrav.core.clearance.measuring import Reading, read
from kestrav.core.document.lookup import ancestors, get
from kestrav.core.document.records import Feature, Note
from kestrav.core.errors import BadInput
from kestrav.core.parts.placing import scale_to
from kestrav.core.parts.rest import rest_poses

_KINDS = {
    "point": "point",
    "line": "straight edge",
    "circle": "round edge",
    "plane": "flat face",
    "cylinder": "cylinder",
    "cone": "cone",
    "sphere": "ball",
    "torus": "ring",
    "edge": "curved edge",
    "thing": "all of",
}


class MeasureRows(Rows):
    """What is being measured."""

    def build(self, tool: MeasureTool) -> None:
        form = self.form
        self.form.title = "Measure"
        if not tool.features:
            form.note(
                "Click a corner, an edge, a round edge or a face in the stage. A second click measures between the two."
            )
            return
        for feature in tool.features:
            form.note(self._named(feature))
        if tool.reading is None:
            form.note("Click the second one.")
            return
        self._reading(tool.reading)
        form.buttons(
            (
                "Keep as note",
                self.card.keep_asked.emit,
                "Keep the measurement as a note, shown in the stage and usable in fields (Ctrl+K)",
            ),
            ("Copy value", self.card.copy_asked.emit, "Copy the number with its unit (Ctrl+C)"),
        )

    def _named(self, feature: Feature) -> str:
        project = self.session.shown
        where = "" if feature.part is None else f" of {get(project, feature.part).name}"
        sure = "" if feature.exact else " (fitted)"
        return f"{_KINDS[feature.kind]}{where}{sure}".replace("the whole of of", "all of")

    def _reading(self, reading: Reading) -> None:
        self.form.worked(*reading.lines)
        self.form.note(
            "Exact, from the CAD faces." if reading.exact else "Approximate: measured on facets, not on CAD faces."
        )


class NoteRows(MeasureRows):
    """A kept measurement."""

    def build(self, note: Note) -> None:  # type: ignore[override]
        form, project = self.form, self.session.shown
        self.form.title = "Note"
        self._name(note)
        try:
            reading = read(note, project, self.session.meshes, rest_poses(project))
        except BadInput as fault:
            form.note(f"It cannot be measured any more: {fault}.")
            self._delete(note)
            return
        self._reading(reading)
        for feature in note.features:
            form.note(self._named(feature))
        if reading.unit == "mm":
            top = self._common_top(note)
            if top is not None:
                name = get(project, top).name
                form.number(
                    "Set length",
                    reading.value,
                    "mm",
                    lambda v: self.session.edit("Scale", lambda p: scale_to(p, top, reading.value, v)),
                    f"Scale {name} evenly so that this becomes the typed length",
                    3,
                )
        form.note("Type the note's name into any field of the same unit to use its value.")
        form.buttons(("Copy value", self.card.copy_asked.emit, "Copy the number with its unit (Ctrl+C)"))
        self._delete(note)

    def _common_top(self, note: Note) -> str | None:
        """The outermost thing that all of its features belong to."""
        project = self.session.shown
        tops = {[*ancestors(project, f.part), f.part][0] for f in note.features if f.part is not None}
        return tops.pop() if len(tops) == 1 and all(f.part for f in note.features) else None
