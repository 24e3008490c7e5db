"""Shots to film: H.264 in MP4, a PNG sequence, or a still."""

from __future__ import annotations

import contextlib
import shutil
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from fractions import Fraction
from pathlib import Path
from types import TracebackType

import av
from av.error import FFmpegError
from PIL import Image

from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.picture import Picture, Studio, camera_of

Progress = Callable[[int, int], None]


def render_shot(
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    target: Path,
    progress: Progress | None = None,
    overwrite: bool = False,
) -> Path:
    """Render a shot to ``target``: a film when it ends in .mp4, else a folder of numbered PNG files.

    ``progress`` is told frames done and in all, and may raise to stop; then nothing is left behind.
    Raises BadInput when the target exists (unless ``overwrite``) or cannot be written.
    """
    check_target(target, overwrite)
    count = frame_count(shot)
    # the codec halves the colour's resolution, so it needs even sides
    film = target.suffix.lower() == ".mp4"
    width, height = (shot.width // 2 * 2, shot.height // 2 * 2) if film else (shot.width, shot.height)
    studio = Studio(project, meshes, width, height, shot.background, shot.paths)
    camera = camera_of(project, shot.camera)
    sink: _Sink = _Film(target, width, height, shot.fps) if film else _Sequence(target)
    try:
        with sink:
            for frame in range(count):
                if progress is not None:
                    progress(frame, count)
                sink.add(studio.picture(camera, frame_time(shot, frame)))
            sink.finish()
        if progress is not None:
            progress(count, count)
    except (OSError, FFmpegError) as fault:
        raise BadInput(f"“{target}” cannot be written: {getattr(fault, 'strerror', None) or fault}") from fault
    finally:
        studio.close()
    return target


def render_still(
    project: Project, meshes: Mapping[str, Mesh], shot: Shot, time: float, target: Path, overwrite: bool = False
) -> Path:
    """One PNG picture of a shot's camera at a time in s. Raises BadInput as :func:`render_shot` does."""
    check_target(target, overwrite)
    studio = Studio(project, meshes, shot.width, shot.height, shot.background, shot.paths)
    try:
        save_png(studio.picture(camera_of(project, shot.camera), time), target)
    except OSError as fault:
        raise BadInput(f"“{target}” cannot be written: {fault.strerror or fault}") from fault
    finally:
        studio.close()
    return target


def check_target(target: Path, overwrite: bool) -> None:
    """Raise BadInput when a target cannot be written or would hide something that is there."""
    if target.suffix.lower() not in (".mp4", ".png", ""):
        raise BadInput(f"“{target}” has an ending that is not known: give .mp4, .png (a still) or a folder's name")
    folder = target.parent
    if not folder.is_dir():
        raise BadInput(f"“{target}” cannot be written: the folder “{folder}” does not exist")
    if target.exists() and not overwrite:
        raise BadInput(f"“{target}” is there already; give another name, or allow it to be overwritten")
    try:
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as fault:
        raise BadInput(f"the folder “{folder}” cannot be written to: {fault.strerror or fault}") from fault


def save_png(picture: Picture, target: Path) -> None:
    """Write a picture, whole or not at all."""
    part = target.with_name(f".{target.name}.part")
    try:
        Image.fromarray(picture).save(part, format="PNG", compress_level=3)
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)


_AHEAD = 3  # pictures that may wait to be written; each holds its memory


class _Sink(ABC):
    """Where frames go: written on a second thread while the next one is drawn.

    What is half done is removed when the work is left early.
    """

    def __init__(self, target: Path) -> None:
        self.target = target
        self.part = target.with_name(f".{target.name}.part")
        self.done = False
        self.count = 0
        self._pool = ThreadPoolExecutor(1)
        self._waiting: list[Future[None]] = []

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

    def __enter__(self) -> _Sink:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, fault: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._pool.shutdown(cancel_futures=True)
        if not self.done:
            self.drop()


class _Film(_Sink):
    """H.264 in MP4."""

    def __init__(self, target: Path, width: int, height: int, fps: float) -> None:
        super().__init__(target)
        rate = Fraction(fps).limit_denominator(1001)
        self.container = av.open(str(self.part), "w", format="mp4", options={"movflags": "+faststart"})
        self.stream = self.container.add_stream("libx264", rate=rate, options={"crf": "17", "preset": "fast"})
        self.stream.width, self.stream.height = width, height
        self.stream.pix_fmt = "yuv420p"
        context = self.stream.codec_context
        # BT.709 (ITU-R BT.709-6), as code points of ITU-T H.273; limited range
        context.colorspace = context.color_primaries = context.color_trc = 1
        context.color_range = 1

    def write(self, number: int, picture: Picture) -> None:
        frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
        frame = frame.reformat(
            format="yuv420p", src_colorspace="ITU709", dst_colorspace="ITU709", dst_color_range="MPEG"
        )
        for packet in self.stream.encode(frame):
            self.container.mux(packet)

    def close(self) -> None:
        for packet in self.stream.encode():
            self.container.mux(packet)
        self.container.close()
        self.part.replace(self.target)

    def drop(self) -> None:
        # the fault that brought us here is the one to tell
        with contextlib.suppress(OSError, FFmpegError):
            self.container.close()
        self.part.unlink(missing_ok=True)


class _Sequence(_Sink):
    """Numbered PNG files in a folder."""

    def __init__(self, target: Path) -> None:
        super().__init__(target)
        shutil.rmtree(self.part, ignore_errors=True)
        self.part.mkdir()

    def write(self, number: int, picture: Picture) -> None:
        save_png(picture, self.part / f"frame_{number:05d}.png")

    def close(self) -> None:
        if self.target.exists():
            shutil.rmtree(self.target)
        self.part.replace(self.target)

    def drop(self) -> None:
        shutil.rmtree(self.part, ignore_errors=True)
