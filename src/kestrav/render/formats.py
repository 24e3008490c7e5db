"""What pictures and films can be written as: endings, codecs, bits. Light to load, as dialogs ask it."""

from __future__ import annotations

from pathlib import Path
from typing import Literal, cast, get_args

from kestrav.core.errors import BadInput

Codec = Literal["h264", "av1"]
Bits = Literal[8, 10, 16, 32]  # of each colour in what is written: 32 is linear light with layers
EXR, PNG = ".exr", ".png"
ENDINGS = (".mp4", ".webm", ".gif", ".webp", "")  # of films; a folder of numbered pictures has none
BITS: dict[str, tuple[Bits, ...]] = {
    ".mp4": (8, 10),
    ".webm": (8, 10),
    ".gif": (8,),
    ".webp": (8,),
    "": (8, 16, 32),
    PNG: (8, 16),
    EXR: (32,),
}


def read_bits(value: int) -> Bits:
    """The bits that a number asks for. Raises BadInput."""
    if value not in get_args(Bits):
        raise BadInput(f"{value} bits are not possible: give 8, 10 (films), 16 (PNG) or 32 (OpenEXR)")
    return cast(Bits, value)


def check_bits(ending: str, bits: Bits) -> None:
    """Raise BadInput where what ends so cannot have so many bits."""
    can = BITS[ending]
    if bits not in can:
        what = "a folder of pictures" if ending == "" else ending
        raise BadInput(f"{what} can have {' or '.join(str(b) for b in can)} bits for each colour, not {bits}")


def is_still(target: Path) -> bool:
    """Whether a name is that of a still."""
    return target.suffix.lower() in (PNG, EXR)


def with_ending(target: Path, ending: str) -> Path:
    """A name with an ending, which is added where there is another or none."""
    return target if target.suffix.lower() == ending else target.with_name(target.name + ending)


def beside_named(target: Path, name: str) -> Path:
    """A target's name with another added."""
    return target.with_name(f"{target.stem} {file_name(name)}{target.suffix}")


def file_name(name: str) -> str:
    """A name as a file's or folder's: without what would be a folder, hidden or special somewhere."""
    return "".join(c if c.isalnum() or c in "-_. " else "-" for c in name).strip(" .") or "unnamed"
