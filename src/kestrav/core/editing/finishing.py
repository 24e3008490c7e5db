"""Giving finishes: from the shelf to parts, by rules and in colourways."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from kestrav.core.document.edits import add, change, replace, restyle, update
from kestrav.core.document.lookup import get, get_as, new_id, new_name, solids, subtree
from kestrav.core.document.records import Colourway, Finish, FinishRule, GivenFinish, Project, Shot
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput
from kestrav.core.finishes.applied import finishes_of


def taken(project: Project, finish: Finish) -> tuple[Project, str]:
    """The project with a finish of the shelf, and its id there; one that it has already just like that is taken again."""
    for known in project.finishes:
        if msgspec.structs.replace(known, id=finish.id) == finish:
            return project, known.id
    taken_over = change(finish, id=new_id(project, Finish), name=new_name(project, Finish, finish.name))
    return add(project, taken_over), taken_over.id


def with_finish(project: Project, part_ids: Iterable[str], finish: Finish | str) -> Project:
    """The project with parts, or all in assemblies, given a finish of the shelf, or one that it has, by id (empty: plain paint).

    Where the project shows a colourway, that gives it. Raises BadInput for an id that is not there.
    """
    ids = list(part_ids)
    if isinstance(finish, Finish):
        project, finish = taken(project, finish)
    if not project.colourway:
        return restyle(project, ids, finish=finish)
    colourway = get_as(project, project.colourway, Colourway)
    inner = {i for part_id in ids for i in subtree(project, part_id)}
    left = tuple(entry for entry in colourway.finishes if entry.part not in inner)
    given = tuple(GivenFinish(part_id, finish) for part_id in ids) if finish else ()
    return update(project, colourway.id, finishes=(*left, *given))


def with_rule(project: Project, words: str, finish: Finish | str) -> Project:
    """The project with a rule that gives a finish to all parts whose names hold some words. Raises BadInput for no words."""
    words = " ".join(words.split())
    if not words.replace("*", "").strip():
        raise BadInput("a finish rule needs words to look for in the names of parts")
    if isinstance(finish, Finish):
        project, finish = taken(project, finish)
    name = new_name(project, FinishRule, f"{words}: {get_as(project, finish, Finish).name}")
    return add(project, FinishRule(new_id(project, FinishRule), name, words, finish))


def with_colourway(project: Project, name: str = "") -> tuple[Project, str]:
    """The project with a further colourway, which it shows from now on, and its id. It gives what the one shown before gave."""
    before = next(
        (colourway for colourway in project.colourways if colourway.id == project.colourway), Colourway("", "")
    )
    added = Colourway(new_id(project, Colourway), new_name(project, Colourway, name or "Colourway"), before.finishes)
    return shown_in(add(project, added), added.id), added.id


def shown_in(project: Project, colourway: str) -> Project:
    """The project showing a colourway (empty: the parts' own finishes). Raises BadInput when it does not have it."""
    return validate(msgspec.structs.replace(project, colourway=colourway))


def in_all_colourways(project: Project, shots: Sequence[Shot]) -> list[tuple[str, list[Shot]]]:
    """Shots once for each colourway, with its name. Raises BadInput where there is none."""
    if not project.colourways:
        raise BadInput(f"“{project.name}” has no colourway; add one first")
    return [
        (colourway.name, [msgspec.structs.replace(shot, colourway=colourway.id) for shot in shots])
        for colourway in project.colourways
    ]


def users_of(project: Project, finish_id: str) -> list[str]:
    """The ids of the parts that show a finish as the project is shown."""
    return [part_id for part_id, finish in finishes_of(project, project.colourway).items() if finish.id == finish_id]


def without_unused(project: Project) -> Project:
    """The project without finishes that no part, rule or colourway has."""
    used = {part.finish for part in project.parts} | {rule.finish for rule in project.finish_rules}
    used |= {entry.finish for colourway in project.colourways for entry in colourway.finishes}
    left = tuple(finish for finish in project.finishes if finish.id in used)
    return project if len(left) == len(project.finishes) else msgspec.structs.replace(project, finishes=left)


def replaced_everywhere(project: Project, old: str, new: str) -> Project:
    """The project in which everything that had one finish has another."""
    get(project, new)
    project = restyle(
        project, [p.id for p in solids(project, *(p.id for p in project.parts)) if p.finish == old], finish=new
    )
    for rule in project.finish_rules:
        if rule.finish == old:
            project = replace(project, change(rule, finish=new))
    for colourway in project.colourways:
        given = tuple(change(entry, finish=new) if entry.finish == old else entry for entry in colourway.finishes)  # type: ignore[type-var]
        if given != colourway.finishes:
            project = update(project, colourway.id, finishes=given)
    return project
