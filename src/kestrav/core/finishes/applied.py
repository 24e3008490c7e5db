"""Which part has which finish: its own, one that a rule gives it by its name, or that of a colourway."""

from __future__ import annotations

import re
from functools import lru_cache

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import linear
from kestrav.core.document.records import Part, Project
from kestrav.core.document.surfaces import Colourway, Finish
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.light.exposure import WHITE
from kestrav.core.memo import Memo

Array = NDArray[np.float64]

_NONE: dict[str, Finish] = {}
_by_name: Memo[dict[str, str]] = Memo(
    8
)  # what the rules give to names looked at so far, as most stay from edit to edit
_applied: Memo[dict[str, Finish]] = Memo(16)

PAINT = Finish("", "Paint")
"""What a plainly coloured part is where everything must be physically based."""


def finishes_of(project: Project, colourway: str = "") -> dict[str, Finish]:
    """The finish of each part with geometry that has one, by part id, as a colourway shows it (empty: none).

    A part has the finish that the colourway gives it, or the nearest assembly above it; else its own; else that of the last rule whose
    words its name holds, or that of an assembly above it. Kept by the records' tuples.
    """
    if not project.finishes:
        return _NONE
    of = (project.parts, project.finishes, project.finish_rules, project.colourways)
    return _applied.get(of, lambda: _finishes_of(project, colourway), colourway)


def finish_of(project: Project, part_id: str, colourway: str = "") -> Finish | None:
    """The finish of a part, none where it shows its plain colour."""
    return finishes_of(project, colourway).get(part_id)


def in_colourway(project: Project, colourway: str) -> Project:
    """The project as a shot of a colourway shows it; itself where the shot has none of its own."""
    if not colourway or colourway == project.colourway:
        return project
    return msgspec.structs.replace(project, colourway=colourway)


def _finishes_of(project: Project, colourway: str) -> dict[str, Finish]:
    known = {finish.id: finish for finish in project.finishes}
    chosen = next((c for c in project.colourways if c.id == colourway), Colourway("", ""))
    given = {entry.part: entry.finish for entry in chosen.finishes}
    by_name = _by_name.get((project.finish_rules,), dict)
    above: dict[
        str, tuple[str, str]
    ] = {}  # of each part: what a colourway and what a rule gives to it and what is in it
    finishes: dict[str, Finish] = {}
    for part in project.parts:
        from_colourway, from_rule = above.get(part.parent or "", ("", ""))
        from_colourway = given.get(part.id, from_colourway)
        if part.name not in by_name:
            by_name[part.name] = _ruled(project, part.name)
        from_rule = by_name[part.name] or from_rule
        above[part.id] = (from_colourway, from_rule)
        finish = known.get(from_colourway or part.finish or from_rule)
        if part.geometry is not None and finish is not None:
            finishes[part.id] = finish
    return finishes


def _ruled(project: Project, name: str) -> str:
    """The finish that the last rule gives of those whose words a name holds, or none."""
    rules = (rule for rule in reversed(project.finish_rules) if rule.words.strip())
    return next((rule.finish for rule in rules if pattern(rule.words).search(name)), "")


@lru_cache(maxsize=256)
def pattern(words: str) -> re.Pattern[str]:
    """What a rule's words look for in a name: the words in any case, a star for anything."""
    parts = [re.escape(part) for part in words.strip().split("*")]
    return re.compile(".*".join(parts), re.IGNORECASE)


def matched(project: Project, words: str) -> list[Part]:
    """The parts and assemblies whose names hold some words."""
    if not words.strip():
        return []
    wanted = pattern(words)
    return [part for part in project.parts if wanted.search(part.name)]


@lru_cache(maxsize=256)
def without_pictures(finish: Finish) -> Finish:
    """A finish as it is where its pictures have no place."""
    return msgspec.structs.replace(finish, pictures=None)


def laid_on(finish: Finish, shape: Mesh) -> Finish:
    """A finish as it is on a shape: without its pictures where that has no places for them."""
    return without_pictures(finish) if finish.pictures is not None and shape.uv is None else finish


def under_picture(finish: Finish | None) -> str:
    """The colour (#rrggbb) by which the picture of a finish's base colour is multiplied; empty where it has none."""
    known = None if finish is None else finish.pictures
    return known.factor if known is not None and known.colour else ""


def emitted(finish: Finish) -> Array | None:
    """The light (3,) that a finish gives, by the luminance of white; none where it gives none."""
    if not finish.emission or finish.luminance <= 0:
        return None
    return np.asarray(linear(finish.emission) * finish.luminance / WHITE)


def lets_through(finish: Finish | None) -> bool:
    """Whether one sees through a finish: glass, or what has holes."""
    return finish is not None and (finish.transmission > 0 or finish.texture == "mesh")


def colour_of(part: Part, finish: Finish | None) -> str:
    """The base colour that a part shows, as #rrggbb."""
    return finish.colour if finish is not None and finish.colour else part.colour
