"""The path tracer's process: takes a scene and then frames over a connection, and tells how far each is."""

from __future__ import annotations

import contextlib
import gc
import sys
import time
from multiprocessing.connection import Connection
from typing import Any

from kestrav.core.processes import give_memory_back
from kestrav.render.tracing.tracer import Tracer

_RESTS = 120.0  # s without a scene, in which it holds half a gigabyte, after which it ends


def _give_all_back() -> None:
    """Give back what a scene that is gone has taken."""
    gc.collect()
    if "drjit" in sys.modules:
        # it keeps freed arrays for the next ones
        sys.modules["drjit"].flush_malloc_cache()
    give_memory_back()


def serve(connection: Connection, *, slow: bool = False) -> None:
    """Answer until the other side goes, or wants nothing for long."""
    tracer: Tracer | None = None
    with contextlib.suppress(EOFError, OSError):
        while True:
            if tracer is None and not connection.poll(_RESTS):
                return
            kind, value = connection.recv()
            try:
                if kind == "scene":
                    # what is prepared for one scene goes through all that are there: two take several times as long
                    tracer = None
                    gc.collect()
                    tracer = Tracer(value, slow=slow)
                    connection.send(("ready", tracer.variant))
                elif kind == "rest":
                    tracer = None
                    _give_all_back()
                elif kind == "frame":
                    assert tracer is not None
                    shown = time.monotonic()

                    def tell(share: float, picture: Any, noise: float) -> bool:
                        nonlocal shown
                        now = time.monotonic()
                        wants = now - shown > 2.0
                        connection.send(("progress", (share, noise, picture() if wants else None)))
                        shown = now if wants else shown
                        while connection.poll():
                            if connection.recv()[0] == "stop":
                                return False
                        return True

                    connection.send(("done", tracer.traced(value, tell)))
            except (EOFError, OSError):
                raise
            except Exception as fault:
                connection.send(
                    ("failed", f"{type(fault).__name__}: {str(fault).strip().splitlines()[0] if str(fault) else ''}")
                )


if __name__ == "__main__":
    serve(Connection(int(sys.argv[1])), slow="slow" in sys.argv[2:])
