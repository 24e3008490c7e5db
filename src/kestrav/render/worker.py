"""Makes some of a film's frames in a process of its own: ``python -m kestrav.render.worker SPEC NUMBER OF``.

A frame is given up after a second failure; its fault is written beside the frames, and the others are made.
"""

from __future__ import annotations

import os
import pickle
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from kestrav.core.errors import Cancelled
from kestrav.render.frames import FAULTS, Frame, FrameStore, Maker


def make(maker: Maker, store: FrameStore, frame: Frame) -> None:
    """Make a frame, a second time if need be. Raises what the second time raised; OSError of a full disk, and Cancelled, at once."""
    try:
        store.save(frame.key, maker.picture(frame))
    except (OSError, Cancelled):
        raise
    except Exception:
        maker.close()
        store.save(frame.key, maker.picture(frame))


def main(arguments: list[str]) -> int:
    """Make every so-manieth frame of a file's work."""
    spec, number, of = Path(arguments[0]), int(arguments[1]), int(arguments[2])
    with spec.open("rb") as stream:
        told: dict[str, Any] = pickle.load(stream)
    return make_share(Maker(**told["maker"]), FrameStore(Path(told["folder"])), told["frames"], number, of)


def make_share(maker: Maker, store: FrameStore, frames: Sequence[Frame], number: int, of: int) -> int:
    """Make every so-manieth frame that is not there yet; returns the exit code."""
    parent = os.getppid()
    mine = [frame for frame in frames[number::of] if not store.has(frame.key)]
    maker.prefetch(mine)
    for frame in mine:
        if os.getppid() != parent:
            return 1  # whoever asked for it has gone
        try:
            make(maker, store, frame)
        except OSError as fault:
            _tell(store, fault.strerror or str(fault))
            return 2
        except Exception as fault:
            _tell(store, f"frame at {frame.time:.3f} s of “{frame.shot.name}”: {fault}")
    maker.close()
    return 0


def _tell(store: FrameStore, text: str) -> None:
    try:
        with (store.folder / FAULTS).open("a", encoding="utf-8") as stream:
            stream.write(text + "\n")
    except OSError:
        print(text, file=sys.stderr)


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
