"""Which part has which finish: its own, one that a rule gives it by its name, or that of a colourway."""

from __future__ import annotations

import re
from functools import lru_cache

import msgspec

from kestrav.core.document.records import Part, Project
from kestrav.core.document.surfaces import Colourway, Finish
from kestrav.core.memo import Memo

_PLAIN = Finish("", "")
_applied: Memo[dict[str, Finish]] = Memo(16)


def finishes_of(project: Project, colourway: str = "") -> dict[str, Finish]:
    """The finish of each part with geometry that has one, by part id, as a colourway shows it (empty: none).

    A part has the finish that the colourway gives it, or the nearest assembly above it; else its own; else that of the last rule whose
    words its name holds, or that of an assembly above it. Kept by the records' tuples.
    """
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
    rules = [(pattern(rule.words), rule.finish) for rule in reversed(project.finish_rules) if rule.words.strip()]
    above: dict[
        str, tuple[str, str]
    ] = {}  # of each part: what a colourway and what a rule gives to it and what is in it
    found: dict[str, Finish] = {}
    for part in project.parts:
        from_colourway, from_rule = above.get(part.parent or "", ("", ""))
        from_colourway = given.get(part.id, from_colourway)
        from_rule = next((finish for words, finish in rules if words.search(part.name)), from_rule)
        above[part.id] = (from_colourway, from_rule)
        finish = known.get(from_colourway or part.finish or from_rule)
        if part.geometry is not None and finish is not None:
            found[part.id] = finish
    return found


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


def lets_through(finish: Finish | None) -> bool:
    """Whether one sees through a finish: glass, or what has holes."""
    return finish is not None and (finish.transmission > 0 or finish.texture == "mesh")


def colour_of(part: Part, finish: Finish | None) -> str:
    """The base colour that a part shows, as #rrggbb."""
    return finish.colour if finish is not None and finish.colour else part.colour
