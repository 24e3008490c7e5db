"""Processes that share work: forked where nothing would be torn by that, started anew otherwise; and what memory this one holds."""

from __future__ import annotations

import contextlib
import ctypes
import multiprocessing
import os
import signal
import sys
import threading
import types
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ProcessPoolExecutor
from typing import Any

_drawn = False


def note_drawing() -> None:
    """Remember that this process has drawn: the graphics library's threads and connections do not live on in a fork."""
    global _drawn
    _drawn = True


def may_fork() -> bool:
    """Whether nothing of this process would be torn by a fork: pictures, windows, threads."""
    return not _drawn and threading.active_count() == 1 and "PySide6.QtWidgets" not in sys.modules


def give_memory_back() -> None:
    """Give memory that is free between what is used back to the system: what comes and goes as arrays would hold it for good."""
    c_library = ctypes.CDLL(None)
    # GNU's alone has it
    if hasattr(c_library, "malloc_trim"):
        c_library.malloc_trim(0)


class Pool:
    """Several processes that do work as it is handed in; they end with the ``with`` block, at once where that is left by a fault."""

    def __init__(
        self,
        count: int,
        begin: Callable[..., object] | None = None,
        *arguments: Any,
        surroundings: Mapping[str, str] | None = None,
    ) -> None:
        """Each process calls ``begin`` with the arguments first, in an environment with these ``surroundings``."""
        self._surroundings = dict(surroundings or {})
        self._others = set(multiprocessing.active_children())
        self._forks = may_fork()
        context = multiprocessing.get_context("fork" if self._forks else "spawn")
        self._executor = ProcessPoolExecutor(
            max(count, 1), mp_context=context, initializer=_begin, initargs=(begin, arguments)
        )

    def submit(self, work: Callable[..., Any], *arguments: Any) -> Future[Any]:
        """Let one of the processes do work. The future raises BrokenProcessPool where a process has died."""
        # the executor starts its processes as work comes
        with _environment(self._surroundings), contextlib.nullcontext() if self._forks else _without_main():
            return self._executor.submit(work, *arguments)

    def __enter__(self) -> Pool:
        return self

    def __exit__(self, fault: type[BaseException] | None, *_: object) -> None:
        if fault is not None:
            for child in set(multiprocessing.active_children()) - self._others:
                child.terminate()
        self._executor.shutdown(cancel_futures=fault is not None)


def _begin(begin: Callable[..., object] | None, arguments: tuple[Any, ...]) -> None:
    """In a process of a pool, before its first work: it ends when it is told to, which whoever started it does."""
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    if begin is not None:
        begin(*arguments)


@contextlib.contextmanager
def _environment(more: Mapping[str, str]) -> Iterator[None]:
    """With more variables in the environment, which processes that are started meanwhile get."""
    before = {name: os.environ.get(name) for name in more}
    os.environ.update(more)
    try:
        yield
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value


@contextlib.contextmanager
def _without_main() -> Iterator[None]:
    """Without the program's main module: a process that is started anew would run a script once more, which need not expect that."""
    main = sys.modules["__main__"]
    sys.modules["__main__"] = types.ModuleType("__main__")
    try:
        yield
    finally:
        sys.modules["__main__"] = main
