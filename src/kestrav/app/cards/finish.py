"""Finishes, the rules that give them, and colourways."""

from __future__ import annotations

from functools import partial

from kestrav.app.cards.rows import Rows
from kestrav.core.document.lookup import get, qualified_name
from kestrav.core.document.records import Colourway, Finish, FinishRule, GivenFinish, Project
from kestrav.core.document.surfaces import TextureName
from kestrav.core.editing.finishing import replaced_everywhere, shown_in, users_of, with_finish
from kestrav.core.finishes.applied import matched
from kestrav.core.finishes.shelf import BY_NAME, SHELF
from kestrav.core.units import show

TEXTURES: tuple[tuple[TextureName, str], ...] = (
    ("", "smooth"), ("brushed", "brushed"), ("turned", "turned"), ("cast", "cast"), ("blasted", "blasted"), ("orange peel", "orange peel"),
    ("grained", "grained"), ("wood", "wood"), ("concrete", "concrete"), ("terrazzo", "terrazzo"), ("tiles", "tiles"), ("mesh", "wire mesh"),
    ("weave", "woven"), ("knurled", "knurled"),
)  # fmt: skip
_FROM_SHELF = "shelf/"


def finish_options(project: Project) -> list[tuple[str, str]]:
    """The finishes that can be chosen: plain paint, those of the project, and those of the shelf that it does not have yet."""
    mine = {finish.name for finish in project.finishes}
    finish_options = [("", "plain paint"), *((finish.id, finish.name) for finish in project.finishes)]
    for group, finishes in SHELF:
        finish_options += [(_FROM_SHELF + f.name, f"{group}: {f.name}") for f in finishes if f.name not in mine]
    return finish_options


def chosen_finish(key: str) -> Finish | str:
    """What an option of :func:`finish_options` stands for: a finish of the shelf, or the id of one of the project's."""
    return BY_NAME[key.removeprefix(_FROM_SHELF)] if key.startswith(_FROM_SHELF) else key


class FinishRows(Rows):
    """The parameters of a finish, and which parts have it."""

    def build(self, finish: Finish) -> None:
        project, form = self.session.shown, self.form
        form.title = finish.name
        self._name(finish)
        parts = users_of(project, finish.id)
        if form.section("Base", finish.colour):
            form.check(
                "Colour",
                "each part's own",
                not finish.colour,
                lambda own: self._set(finish.id, "Colour", colour="" if own else "#9aa7ab"),
                "Whether the finish takes the colour of each part or has a colour of its own",
            )
            if finish.colour:
                self._fields(finish, "colour")
            self._fields(finish, "metallic", "roughness")
            if finish.metallic < 1:
                self._fields(finish, "index", "transmission")
        if form.section("Coat", show(100 * finish.coat, "%", 0) if finish.coat else "none"):
            self._fields(finish, "coat", "coat_roughness")
        if finish.pictures is not None and form.section("Pictures", "of the product's file"):
            kinds = {
                "colour": "base colour",
                "normal": "normals",
                "surface": "roughness, metal and occlusion",
                "emission": "emitted light",
            }
            there = [words for kind, words in kinds.items() if getattr(finish.pictures, kind)]
            form.note(f"Pictures of the file lie on the parts: {', '.join(there)}.")
            if finish.pictures.normal:
                self._share(finish, "Normal strength", "relief", "Depth of the picture's relief in the light")
            if finish.pictures.surface:
                self._share(
                    finish, "Occlusion strength", "contrast", "How much the picture's occlusion darkens the surface"
                )
            form.buttons(
                (
                    "Remove pictures",
                    lambda: self._set(finish.id, "Remove pictures", pictures=None),
                    "Show the plain finish in place of the pictures that came with the file",
                )
            )
        if finish.pictures is None and form.section("Structure", dict(TEXTURES)[finish.texture]):
            self._fields(finish, "texture", options=TEXTURES)
            if finish.texture:
                self._fields(finish, "grain", "relief", "contrast", "anisotropy")
        if form.section("Sheen and light", "gives light" if finish.emission else ""):
            self._optional_colour(finish, "Sheen", "sheen", "#ffffff", "Colour of the rim light of cloth")
            if finish.sheen:
                self._fields(finish, "sheen_roughness")
            self._optional_colour(
                finish, "Emission", "emission", "#ffffff", "Colour of the light that the surface gives"
            )
            if finish.emission:
                self._fields(finish, "luminance")
        if form.section("Parts", f"{len(parts)}"):
            form.note(
                ", ".join(get(project, i).name for i in parts[:12])
                + (f" and {len(parts) - 12} more" if len(parts) > 12 else "")
            )
            others = [(f.id, f.name) for f in project.finishes if f.id != finish.id]
            form.choice(
                "Replace by",
                [("", "choose …"), *others],
                "",
                lambda v: v and self.session.edit("Replace finish", lambda p: replaced_everywhere(p, finish.id, v)),
                "Give another finish to everything that has this one",
                acts=True,
            )
            form.buttons(
                ("Select parts", lambda: self.session.select_several(parts), "Select the parts that show this finish")
            )
        self._delete(finish)

    def _share(self, finish: Finish, label: str, field: str, tip: str) -> None:
        self.form.number(
            label,
            100 * getattr(finish, field),
            "%",
            lambda v: self._set(finish.id, label, **{field: v / 100}),
            tip,
            0,
            5,
        )

    def _optional_colour(self, finish: Finish, label: str, field: str, first: str, tip: str) -> None:
        value, form = getattr(finish, field), self.form
        form.check(
            label,
            "on",
            bool(value),
            lambda on: self._set(finish.id, label, **{field: first if on else ""} | _lit(finish, field, on=on)),
            tip,
        )
        if value:
            form.colour(f"{label} colour", value, lambda v: self._set(finish.id, label, **{field: v}), tip)


def _lit(finish: Finish, field: str, *, on: bool) -> dict[str, float]:
    """A luminance for what begins to give light, so that it shows."""
    return {"luminance": 500.0} if field == "emission" and on and not finish.luminance else {}


class FinishRuleRows(Rows):
    """Which words of names a rule looks for, and the finish that it gives."""

    def build(self, rule: FinishRule) -> None:
        project, form = self.session.shown, self.form
        form.title = rule.name
        self._name(rule)
        self._fields(rule, "words")
        self._fields(rule, "finish", options=[(f.id, f.name) for f in project.finishes])
        parts = matched(project, rule.words)
        form.worked(
            f"{len(parts)} names hold “{rule.words}”" + (f": {', '.join(p.name for p in parts[:8])}" if parts else "")
        )
        self._delete(rule)


class ColourwayRows(Rows):
    """What a colourway gives."""

    def build(self, colourway: Colourway) -> None:
        project, form = self.session.shown, self.form
        form.title = colourway.name
        self._name(colourway)
        shown = project.colourway == colourway.id
        form.check(
            "Shown",
            "in the stage and in new shots",
            shown,
            lambda on: self.session.edit("Colourway", lambda p: shown_in(p, colourway.id if on else "")),
            "Show this colourway; finishes given meanwhile belong to it",
        )
        for entry in colourway.finishes:
            form.choice(
                qualified_name(project, entry.part),
                finish_options(project),
                entry.finish,
                partial(self._give, colourway, entry),
                "Finish of this part in this colourway",
            )
        tops = [p for p in project.parts if p.id not in {e.part for e in colourway.finishes}]
        form.choice(
            "Add part",
            [("", "choose …"), *((p.id, p.name) for p in tops if p.geometry is None or p.parent is None)],
            "",
            lambda v: (
                v
                and self._give(
                    colourway, GivenFinish(v, ""), project.finishes[0].id if project.finishes else "shelf/Paint, matt"
                )
            ),
            "Part or assembly that has a finish of its own in this colourway",
            acts=True,
        )
        self._delete(colourway)

    def _give(self, colourway: Colourway, entry: GivenFinish, key: str) -> None:
        def give(project: Project) -> Project:
            shown = project.colourway
            edited = with_finish(shown_in(project, colourway.id), [entry.part], chosen_finish(key))
            return shown_in(edited, shown)

        self.session.edit("Finish", give)
