"""Who refers to whom: read off the types of the records, so that it is written down once.

A field that holds the id of something says so by its type (:class:`kestrav.core.document.base.Ref`). Validation, removal, dissolving
assemblies, what a motion hangs on, and copies under other ids all walk the records by these types.
"""

from __future__ import annotations

import types
import typing
from collections.abc import Callable, Collection, Iterator, Mapping
from functools import lru_cache
from typing import Any, TypeVar

import msgspec

from kestrav.core.document.base import Needs, Record, Ref, Vector
from kestrav.core.document.cameras import AlongAim, PartAim, PathAim, PointAim
from kestrav.core.document.mechanisms import Ball
from kestrav.core.document.records import (
    COLLECTIONS,
    Attachment,
    PathPoint,
    PointShape,
    Project,
    SurfaceShape,
)
from kestrav.core.memo import Memo

T = TypeVar("T", bound=Record)
PlaceOf = Callable[[str], Vector]
"""Where in the room a part stood."""

_ROLES = {
    "companions": "companion", "holds": "thing to look at", "follows": "run to follow", "onto": "part to put it on",
    "shows": "label", "fades": "faded thing", "things": "thing", "others": "thing", "shape": "part", "features": "measured part",
    "swept": "thing that sweeps it", "finishes": "finish or part", "a": "part", "b": "part", "on": "part", "crank": "part", "to": "part", "coupled": "part",
}  # fmt: skip


class Reference(msgspec.Struct, frozen=True):
    """An id that a record names: what it may name, and as what, in words."""

    id: str
    ref: Ref
    role: str


# what the types say


class _Node(msgspec.Struct, frozen=True, eq=False):
    """A field's type, as far as ids are in it: an id itself, or several, or records that hold some."""

    ref: Ref | None = None
    several: _Node | None = None
    records: bool = False
    optional: bool = False
    needs: Needs | None = None


def _node(hint: Any) -> _Node | None:
    """What a type holds of ids; None where it holds none."""
    origin = typing.get_origin(hint)
    if origin is typing.Annotated:
        inner, *marks = typing.get_args(hint)
        for mark in marks:
            if isinstance(mark, Ref):
                return _Node(ref=mark)
        node = _node(inner)
        needs = next((m for m in marks if isinstance(m, Needs)), None)
        if node is None or needs is None:
            return node
        return _Node(node.ref, node.several, node.records, node.optional, needs)
    if origin in (typing.Union, types.UnionType):
        members = [m for m in typing.get_args(hint) if m is not type(None)]
        nodes = [n for n in map(_node, members) if n is not None]
        if not nodes:
            return None
        optional = len(members) < len(typing.get_args(hint))
        return _Node(nodes[0].ref, nodes[0].several, nodes[0].records, optional)
    if origin is tuple:
        each = _node(typing.get_args(hint)[0])
        return None if each is None else _Node(several=each)
    if isinstance(hint, type) and issubclass(hint, msgspec.Struct):
        return _Node(records=True) if _plan(hint) else None
    return None


@lru_cache(maxsize=256)
def _plan(kind: type) -> tuple[tuple[str, _Node], ...]:
    """The fields of a kind of record that hold ids."""
    hints = typing.get_type_hints(kind, include_extras=True)
    nodes = ((name, _node(hints[name])) for name in kind.__struct_fields__)  # type: ignore[attr-defined]
    return tuple((name, node) for name, node in nodes if node is not None)


# walking


_references: Memo[tuple[Reference, ...]] = Memo(16_384)


def references(record: Record) -> tuple[Reference, ...]:
    """All that a record names, in the order of its fields; kept by the record, as most stay as they are from edit to edit."""
    return _references.get((record,), lambda: tuple(_walked(record, "")))


def _walked(record: Record, role: str) -> Iterator[Reference]:
    for name, node in _plan(type(record)):
        yield from _named_in(getattr(record, name), node, role or _ROLES.get(name, name))


def _named_in(value: Any, node: _Node, role: str) -> Iterator[Reference]:
    if value is None:
        return
    if node.ref is not None:
        if value:
            yield Reference(value, node.ref, role)
    elif node.several is not None:
        for inner in value:
            yield from _named_in(inner, node.several, role)
    elif isinstance(value, Record):
        yield from _walked(value, role)


def named(record: Record, *kinds: str) -> tuple[str, ...]:
    """Ids of what a record names, each once; only of some kinds where these are given."""
    return tuple(dict.fromkeys(r.id for r in references(record) if not kinds or set(kinds) & set(r.ref.kinds)))


def users(project: Project, target: str) -> list[Record]:
    """All that names something, but for the parts that lie in it."""
    records = [*_records(project, parts=False), *(p for p in project.parts if p.swept is not None)]
    return [r for r in records if target in named(r) and getattr(r, "parent", None) != target]


def _records(project: Project, *, parts: bool = True) -> Iterator[Record]:
    for name in COLLECTIONS.values():
        if parts or name != "parts":
            yield from getattr(project, name)
    yield from project.contacts


# other ids


def renamed(record: T, ids: Mapping[str, str]) -> T:
    """A record that names others, by their ids; what is not told stays."""
    fields = {}
    for name, node in _plan(type(record)):
        old = getattr(record, name)
        new = _other(old, node, ids)
        if new is not old:
            fields[name] = new
    return msgspec.structs.replace(record, **fields) if fields else record


def _other(value: Any, node: _Node, ids: Mapping[str, str]) -> Any:
    if value is None:
        return None
    if node.ref is not None:
        return ids.get(value, value)
    if node.several is not None:
        others = tuple(_other(inner, node.several, ids) for inner in value)
        return value if all(a is b for a, b in zip(others, value, strict=True)) else others
    return renamed(value, ids) if isinstance(value, Record) else value


# removal


class _Gone:
    """What is left of a record that cannot be without what is removed."""


_GONE = _Gone()


def without(
    project: Project, removed: Collection[str], place_of: PlaceOf
) -> tuple[dict[str, tuple[Any, ...]], set[str]]:
    """The collections of a project (but its parts and geometry) without some things and without what cannot be without them; and the ids
    of all that is gone then.

    What only mentions a removed thing goes on without it: what aimed at a part aims at its ``place_of``.
    """
    out = set(removed)
    while True:
        fields: dict[str, tuple[Any, ...]] = {}
        lost: set[str] = set()
        for name in (*COLLECTIONS.values(), "contacts"):
            if name == "parts":
                continue
            kept = []
            for item in getattr(project, name):
                left = _GONE if getattr(item, "id", "") in out else _left(item, out, place_of)
                if isinstance(left, _Gone):
                    lost |= {item.id} if hasattr(item, "id") else set()
                else:
                    kept.append(left)
            same = len(kept) == len(getattr(project, name)) and all(
                a is b for a, b in zip(kept, getattr(project, name), strict=True)
            )
            fields[name] = getattr(project, name) if same else tuple(kept)
        if lost <= out:
            return fields, out
        out |= lost


def parts_without(parts: Collection[T], removed: Collection[str], place_of: PlaceOf) -> tuple[T, ...]:
    """Parts that are left, without what they mention of what is not."""
    left = ((part, _left(part, removed, place_of)) for part in parts)
    return tuple(part if isinstance(rest, _Gone) else rest for part, rest in left)


def _left(record: Any, removed: Collection[str], place_of: PlaceOf) -> Any:
    """A record without removed things; gone where it cannot be."""
    if not any(r.id in removed for r in references(record)):
        return record
    instead = _INSTEAD.get(type(record))
    if instead is not None:
        return instead(record, place_of)
    fields = {}
    kind: type = type(record)
    for name, node in _plan(kind):
        old = getattr(record, name)
        new = _kept(old, node, removed, place_of)
        if isinstance(new, _Gone):
            return _GONE
        if new is not old:
            fields[name] = new
    rest = msgspec.structs.replace(record, **fields)
    mended = _MENDED.get(type(rest))
    return rest if mended is None else mended(rest)


def _kept(value: Any, node: _Node, removed: Collection[str], place_of: PlaceOf) -> Any:
    if value is None:
        return None
    rest: Any = value
    if node.ref is not None:
        if value in removed:
            rest = "" if node.ref.blank else _GONE
    elif node.several is not None:
        left = [_kept(inner, node.several, removed, place_of) for inner in value]
        kept = tuple(inner for inner in left if not isinstance(inner, _Gone))
        how = node.needs.how if node.needs is not None else ""
        if (how == "all" and len(kept) < len(value)) or (how == "one" and value and not kept):
            return _GONE
        rest = value if len(kept) == len(value) and all(a is b for a, b in zip(kept, value, strict=True)) else kept
    elif isinstance(value, Record):
        rest = _left(value, removed, place_of)
    if isinstance(rest, _Gone) and node.optional and node.needs is None:
        return None
    return rest


def _as_points(shape: SurfaceShape, _: PlaceOf) -> PointShape:
    samples = shape.samples[:-1] if shape.closed else shape.samples
    return PointShape(tuple(PathPoint(place) for place in samples), shape.closed)


_INSTEAD: dict[type, Callable[[Any, PlaceOf], Any]] = {
    PartAim: lambda aim, place_of: PointAim(place_of(aim.part)),
    PathAim: lambda aim, place_of: AlongAim(),
    SurfaceShape: _as_points,
}
_MENDED: dict[type, Callable[[Any], Any]] = {
    Attachment: lambda carry: carry if carry.onto is not None else msgspec.structs.replace(carry, put=None),
    Ball: lambda ball: ball if ball.on is not None else msgspec.structs.replace(ball, normals=()),
}
