"""Writing a file whole or not at all."""

from __future__ import annotations

from pathlib import Path

from kestrav.core.errors import BadInput


def write_whole(target: Path, data: bytes) -> None:
    """Write a file beside its place and then put it there, so that it is never half written. Raises BadInput naming it."""
    part = target.with_name(f".{target.name}.part")
    try:
        part.write_bytes(data)
        part.replace(target)
    except OSError as fault:
        raise BadInput(f"“{target}” cannot be written: {fault.strerror or fault}") from fault
    finally:
        part.unlink(missing_ok=True)
