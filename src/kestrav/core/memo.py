"""Results that are kept as long as what they are of is the same: one way for all of the core's caches."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, Generic, TypeVar
from weakref import WeakSet

Value = TypeVar("Value")

_every: WeakSet[Memo[Any]] = WeakSet()


class Memo(Generic[Value]):
    """Keeps the results that were asked for last, so many at the most.

    A result is known again by the identity of the objects that it is of, and by plain values beside them. Versions of a document share
    their tuples and records, and hashing these would cost more than most results. The objects are held with the result: as long as it is
    kept, no other object can have the same identity.

    ``lasting`` ones are of no project, and stay when another is opened.
    """

    def __init__(self, most: int, *, lasting: bool = False) -> None:
        self.most, self.lasting = most, lasting
        self._known: OrderedDict[tuple[Hashable, ...], tuple[tuple[object, ...], Value]] = OrderedDict()
        self._lock = threading.Lock()  # saving and pictures made ahead ask from threads of their own
        _every.add(self)

    def __len__(self) -> int:
        return len(self._known)

    def get(self, of: tuple[object, ...], make: Callable[[], Value], *by: Hashable) -> Value:
        """The result that is kept of these objects and plain values, or a new one, which may raise whatever making it raises."""
        key = (*map(id, of), *by)
        with self._lock:
            known = self._known.get(key)
            if known is not None:
                self._known.move_to_end(key)
                return known[1]
        value = make()
        self.put(of, value, *by)
        return value

    def put(self, of: tuple[object, ...], value: Value, *by: Hashable) -> None:
        """Keep a result."""
        with self._lock:
            self._known[(*map(id, of), *by)] = (of, value)
            while len(self._known) > self.most:
                self._known.popitem(last=False)

    def known(self, of: tuple[object, ...], *by: Hashable) -> Value | None:
        """The result that is kept, or none."""
        value = self._known.get((*map(id, of), *by))
        return None if value is None else value[1]

    def latest(self) -> list[tuple[tuple[object, ...], Value]]:
        """All that is kept with what it is of, the last one asked for first."""
        with self._lock:
            return list(reversed(self._known.values()))

    def clear(self) -> None:
        """Forget all of it."""
        with self._lock:
            self._known.clear()


def forget_projects() -> None:
    """Forget what is kept of a project that goes, and of what it is made of."""
    for memo in list(_every):
        if not memo.lasting:
            memo.clear()


def clear_all() -> None:
    """Forget everything that any memo keeps: what is measured then is the work itself."""
    for memo in list(_every):
        memo.clear()
