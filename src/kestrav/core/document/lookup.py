"""Finding things in a project."""

from __future__ import annotations

from collections.abc import Iterator

from kestrav.core.document.records import COLLECTIONS, Item, Part, Project
from kestrav.core.errors import BadInput


def items(project: Project) -> Iterator[Item]:
    """Every part, path, run, camera and shot."""
    for name in COLLECTIONS.values():
        yield from getattr(project, name)


def find(project: Project, item_id: str) -> Item | None:
    """The item of an id, or None."""
    for name in COLLECTIONS.values():
        if item_id in (found := _by_id(getattr(project, name))):
            return found[item_id]
    return None


def get(project: Project, item_id: str) -> Item:
    """The item of an id. Raises BadInput when there is none."""
    found = find(project, item_id)
    if found is None:
        raise BadInput(f"the project “{project.name}” holds nothing with the id “{item_id}”")
    return found


# keyed by identity: the tuples are shared between versions of a document and hashing them is not cheap
_cache: dict[int, tuple[tuple[Item, ...], dict[str, Item]]] = {}


def _by_id(collection: tuple[Item, ...]) -> dict[str, Item]:
    known = _cache.get(id(collection))
    if known is None or known[0] is not collection:
        if len(_cache) > 64:
            _cache.clear()
        known = _cache[id(collection)] = (collection, {item.id: item for item in collection})
    return known[1]


def children(project: Project, part_id: str | None) -> list[Part]:
    """Parts directly under a parent (None for the top)."""
    return [part for part in project.parts if part.parent == part_id]


def subtree(project: Project, part_id: str) -> list[str]:
    """Ids of a part and everything below it; parents come before their children in a document."""
    found = {part_id}
    for part in project.parts:
        if part.parent in found:
            found.add(part.id)
    return [part.id for part in project.parts if part.id in found]


def ancestors(project: Project, part_id: str) -> list[str]:
    """Ids from the top down to the part's own parent."""
    chain: list[str] = []
    part = get(project, part_id)
    while isinstance(part, Part) and part.parent is not None:
        chain.append(part.parent)
        part = get(project, part.parent)
    return chain[::-1]


def new_id(project: Project, kind: type) -> str:
    """An unused id for a record of a kind, such as ``path-3``."""
    prefix = kind.__name__.lower()
    taken = {item.id for item in items(project)}
    number = 1
    while f"{prefix}-{number}" in taken:
        number += 1
    return f"{prefix}-{number}"


def new_name(project: Project, kind: type, wish: str) -> str:
    """A name not used yet among records of a kind."""
    taken = {item.name for item in getattr(project, COLLECTIONS[kind])}
    if wish not in taken:
        return wish
    number = 2
    while f"{wish} {number}" in taken:
        number += 1
    return f"{wish} {number}"


def is_shown(project: Project, part_id: str) -> bool:
    """Whether a part and all above it are shown."""
    chain = [*ancestors(project, part_id), part_id]
    return all(isinstance(part := get(project, i), Part) and part.shown for i in chain)
