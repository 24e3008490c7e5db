"""Where the pictures of a film go: H.264 and AV1 in MP4, VP9 in WebM, GIF, animated WebP, or numbered PNG or OpenEXR files."""

from __future__ import annotations

import contextlib
import re
import shutil
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

import av
import msgspec
import numpy as np
from av.error import FFmpegError

from kestrav.core.errors import BadInput
from kestrav.core.files.writing import beside, part_of, put, umask
from kestrav.core.later import later
from kestrav.render.deep_images import made_by, save_deep, save_layers
from kestrav.render.formats import ENDINGS, EXR, Bits, Codec, check_bits
from kestrav.render.picture import Picture

if TYPE_CHECKING:
    from PIL import Image, PngImagePlugin
else:
    Image = later("PIL.Image")
    PngImagePlugin = later("PIL.PngImagePlugin")

_AHEAD = 3  # pictures that may wait to be written; each holds its memory
_EVEN = (".mp4", ".webm")  # whose colour is halved, and so needs even sides
_ALPHA = (".webm", ".webp", ".gif", "")  # that can let through
_CODECS = {
    (".mp4", "h264"): ("libx264", {"crf": "17", "preset": "fast"}),
    (".mp4", "av1"): ("libsvtav1", {"crf": "28", "preset": "8"}),
    (".webm", "h264"): ("libvpx-vp9", {"crf": "24", "b:v": "0", "row-mt": "1", "cpu-used": "4", "deadline": "good"}),
    (".webm", "av1"): ("libsvtav1", {"crf": "28", "preset": "8"}),
}


class Output(msgspec.Struct, frozen=True):
    """What is written: where to, its size in pixels, its rate, whether it lets through, and what is told of it in the file."""

    target: Path
    width: int
    height: int
    fps: float
    alpha: bool = False
    codec: Codec = "h264"
    about: Mapping[str, str] | None = None
    bits: Bits = 8


def sides(target: Path, width: int, height: int) -> tuple[int, int]:
    """The size that an output can have: even sides where its codec needs them."""
    if target.suffix.lower() in _EVEN:
        return max(width // 2 * 2, 2), max(height // 2 * 2, 2)
    return width, height


def check_output(output: Output) -> None:
    """Raise BadInput for an ending that is not known, or what cannot let through."""
    ending = output.target.suffix.lower()
    if ending not in ENDINGS:
        raise BadInput(
            f"“{output.target}” has an ending that is not known: give {', '.join(e for e in ENDINGS if e)} or a folder's name"
        )
    if output.alpha and ending not in _ALPHA:
        raise BadInput(
            f"“{output.target}” cannot be see-through, as H.264 and AV1 in MP4 have no alpha; give .webm, .webp, .gif or a folder for PNG files"
        )
    check_bits(ending, output.bits)
    if output.alpha and output.bits == 10:
        raise BadInput(
            "a see-through film has 8 bits for each colour; leave 10 bits out, or render a folder of PNG files"
        )
    if output.codec == "av1" and ending not in _EVEN:
        raise BadInput(f"“{output.target}” cannot hold AV1; give .mp4 or .webm")
    if output.codec == "av1" and output.alpha:
        raise BadInput("a see-through film cannot be AV1, which has no alpha; leave AV1 out for VP9")


def open_sink(output: Output) -> Sink:
    """What writes an output. Raises BadInput as :func:`check_output`."""
    check_output(output)
    ending = output.target.suffix.lower()
    if ending in _EVEN:
        return _Film(output)
    return _Sequence(output) if ending == "" else _Animation(output)


def save_png(picture: Picture, target: Path, about: Mapping[str, str] | None = None) -> None:
    """Write a picture, whole or not at all."""
    if picture.dtype == np.uint16:
        save_deep(picture, target, about)
        return
    notes = PngImagePlugin.PngInfo()
    for name, text in (about or {}).items():
        notes.add_itxt(name.capitalize(), text)
    with beside(target) as part:
        Image.fromarray(picture).save(part, format="PNG", compress_level=3, pnginfo=notes)


class Sink(ABC):
    """Takes pictures one after another; they are written on a second thread while the next one is made.

    What is half done is removed when the work is left early.
    """

    def __init__(self, output: Output) -> None:
        self.output, self.target = output, output.target
        self.part = self._begin()
        self.done = False
        self.count = 0
        self._pool = ThreadPoolExecutor(1)
        self._waiting: list[Future[None]] = []

    def _begin(self) -> Path:
        """Where the partial result is made."""
        return part_of(self.target)

    @abstractmethod
    def write(self, number: int, picture: Picture) -> None:
        """Write one frame."""

    @abstractmethod
    def close(self) -> None:
        """Complete the partial result and give it its name."""

    @abstractmethod
    def drop(self) -> None:
        """Remove the partial result."""

    def add(self, picture: Picture) -> None:
        """Take a frame; raises what writing an earlier one raised."""
        if len(self._waiting) >= _AHEAD:
            self._waiting.pop(0).result()
        self._waiting.append(self._pool.submit(self.write, self.count, picture))
        self.count += 1

    def finish(self) -> None:
        """Write what waits, and complete."""
        for job in self._waiting:
            job.result()
        self.close()
        self.done = True

    def __enter__(self) -> Sink:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._pool.shutdown(cancel_futures=True)
        if not self.done:
            self.drop()


class _Film(Sink):
    """H.264 or AV1 in MP4, VP9 or AV1 in WebM."""

    def __init__(self, output: Output) -> None:
        super().__init__(output)
        ending = self.target.suffix.lower()
        # there is no encoder of VP9 for 10 bits
        deep = ending == ".webm" and output.bits == 10
        codec, options = _CODECS[ending, "av1" if deep else output.codec]
        rate = Fraction(output.fps).limit_denominator(1001)
        flags = {"movflags": "+faststart"} if ending == ".mp4" else {}
        self.container = av.open(str(self.part), "w", format=ending[1:], options=flags)
        for name, text in (output.about or {}).items():
            self.container.metadata[name] = text
        stream: Any = self.container.add_stream(codec, rate=rate, options=options)
        self.stream = stream
        self.stream.width, self.stream.height = output.width, output.height
        self.format = "yuva420p" if output.alpha else "yuv420p10le" if output.bits == 10 else "yuv420p"
        self.stream.pix_fmt = self.format
        context: Any = self.stream.codec_context
        # BT.709 (ITU-R BT.709-6), as code points of ITU-T H.273; limited range
        context.colorspace = context.color_primaries = context.color_trc = 1
        context.color_range = 1

    def write(self, number: int, picture: Picture) -> None:
        kind = "rgba" if self.output.alpha else "rgb48le" if picture.dtype == np.uint16 else "rgb24"
        frame = av.VideoFrame.from_ndarray(picture, format=kind)
        frame = frame.reformat(
            format=self.format, src_colorspace="ITU709", dst_colorspace="ITU709", dst_color_range="MPEG"
        )
        for packet in self.stream.encode(frame):
            self.container.mux(packet)

    def close(self) -> None:
        for packet in self.stream.encode():
            self.container.mux(packet)
        self.container.close()
        put(self.part, self.target)

    def drop(self) -> None:
        # the fault that brought us here is the one to tell
        with contextlib.suppress(OSError, FFmpegError):
            self.container.close()
        self.part.unlink(missing_ok=True)


class _Animation(Sink):
    """GIF or animated WebP, by Pillow; all pictures are held until the end, as both need them together."""

    def __init__(self, output: Output) -> None:
        super().__init__(output)
        self.pictures: list[Image.Image] = []

    def write(self, number: int, picture: Picture) -> None:
        self.pictures.append(Image.fromarray(picture))

    def close(self) -> None:
        gif = self.target.suffix.lower() == ".gif"
        about = "; ".join(f"{name}: {text}" for name, text in (self.output.about or {}).items())
        options: dict[str, Any] = {"save_all": True, "append_images": self.pictures[1:], "loop": 0}
        options["duration"] = durations(len(self.pictures), self.output.fps, 10 if gif else 1)
        if gif:
            options |= {"comment": about.encode(), "disposal": 2 if self.output.alpha else 1}
        else:
            options |= {"quality": 88, "method": 3, "xmp": about.encode()}
        self.pictures[0].save(self.part, format="GIF" if gif else "WEBP", **options)
        put(self.part, self.target)

    def drop(self) -> None:
        self.part.unlink(missing_ok=True)


def durations(count: int, fps: float, unit: int) -> list[int]:
    """How many ms each of so many pictures stays, in whole units (GIF has hundredths of a second), the sum being as near as can be."""
    ends = np.rint(np.arange(count + 1) * 1000.0 / fps / unit).astype(int) * unit
    return [int(v) for v in np.maximum(np.diff(ends), unit)]


class _Sequence(Sink):
    """Numbered PNG or OpenEXR files in a folder: of what is there only frames are replaced, and only those removed that Kestrav made."""

    def _begin(self) -> Path:
        return Path(tempfile.mkdtemp(prefix=f".{self.target.name[:80]}.", suffix=".part", dir=self.target.parent))

    def write(self, number: int, picture: Picture) -> None:
        name = f"frame_{number:05d}"
        if picture.dtype == np.float32:
            save_layers(picture, self.part / f"{name}{EXR}", self.output.about)
        else:
            save_png(picture, self.part / f"{name}.png", self.output.about)

    def close(self) -> None:
        pictures = sorted(self.part.iterdir())
        if not self.target.exists():
            self.part.chmod(0o777 & ~umask())
            self.part.replace(self.target)
            return
        for file in pictures:
            file.replace(self.target / file.name)
        names = {file.name for file in pictures}
        for file in frames_in(self.target):
            if file.name not in names and _is_ours(file):
                file.unlink()
        self.part.rmdir()

    def drop(self) -> None:
        # made here under a name that nobody else has
        shutil.rmtree(self.part, ignore_errors=True)


_FRAME = re.compile(r"frame_\d{5,}\.(png|exr)")


def frames_in(folder: Path) -> list[Path]:
    """Files in a folder that have the names of a sequence's frames, in order."""
    return sorted(file for file in folder.iterdir() if _FRAME.fullmatch(file.name) and file.is_file())


def others_in(folder: Path) -> list[str]:
    """Names of what else is in a folder, hidden files too."""
    frames = {file.name for file in frames_in(folder)}
    return sorted(file.name for file in folder.iterdir() if file.name not in frames)


def _is_ours(file: Path) -> bool:
    """Whether a picture says that Kestrav made it."""
    if file.suffix == EXR:
        return made_by(file).startswith("Kestrav")
    try:
        with Image.open(file) as picture:
            return str(picture.info.get("Software", "")).startswith("Kestrav")
    except OSError:
        return False
