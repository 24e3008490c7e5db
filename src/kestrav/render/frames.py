"""Frames on disk, each under the hash of all that it is made from: what is there need not be made again."""

from __future__ import annotations

import contextlib
import hashlib
import os
import struct
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray
from zstandard import ZstdCompressor, ZstdDecompressor, ZstdError

from kestrav import __version__
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.filmed import faint_things, kept_solid
from kestrav.core.camera.views import views
from kestrav.core.document.records import OnPicture, Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.document.surfaces import Finish
from kestrav.core.errors import Cancelled
from kestrav.core.finishes.applied import finishes_of, in_colourway
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.poses import light_places, world_poses
from kestrav.render.formats import Bits
from kestrav.render.picture import Picture, Studio
from kestrav.render.studios import studio_of
from kestrav.render.tracing.studio import FinishedStudio

ENDING = ".frame"
_HEAD = struct.Struct("<4sIII4s")  # what it is, height, width, channels, the kind of its numbers
_MARK = b"KVF2"
_KINDS: dict[str, type] = {"|u1": np.uint8, "<u2": np.uint16, "<f4": np.float32}
_TOGETHER = 200  # frames whose poses are worked out at once
_DIGITS = 6  # to which numbers count: 1e-6 mm


class Frame(msgspec.Struct, frozen=True):
    """A picture to be made: of which shot, at what time in s, and the hash of all that it is made from."""

    shot: Shot
    time: float
    key: str


def packed(picture: Picture) -> bytes:
    """A picture (h, w, channels) without loss: differences of neighbours, by Zstandard (RFC 8878) with its checksum.

    As small as PNG and many times faster, which counts where each frame is written and read once.
    """
    steps: NDArray[Any] = np.ascontiguousarray(picture).copy()
    if steps.dtype != np.float32:
        steps[:, 1:] -= np.asarray(picture)[:, :-1]
    head = _HEAD.pack(_MARK, *picture.shape, picture.dtype.str.encode())
    return head + ZstdCompressor(level=1, write_checksum=True).compress(steps.data)


def unpacked(data: bytes) -> Picture:
    """The picture of :func:`packed`. Raises ValueError where it is damaged."""
    try:
        mark, *shape, kind = _HEAD.unpack_from(data)
        if mark != _MARK:
            raise ValueError("this is no frame")
        numbers = _KINDS[kind.rstrip(b"\0").decode()]
        steps = np.frombuffer(ZstdDecompressor().decompress(data[_HEAD.size :]), numbers).reshape(shape)
    except (ZstdError, struct.error, KeyError, UnicodeDecodeError) as fault:
        raise ValueError(f"the frame is damaged: {fault}") from fault
    return steps if numbers == np.float32 else np.cumsum(steps, axis=1, dtype=numbers)


def read_frame(path: Path) -> Picture | None:
    """A kept picture, or none where it is not there or damaged."""
    try:
        return unpacked(path.read_bytes())
    except (OSError, ValueError):
        return None


class FrameStore:
    """Pictures in a folder, by key; each is written whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, key: str) -> Path:
        """Where a picture is kept."""
        return self.folder / f"{key}{ENDING}"

    def has(self, key: str) -> bool:
        """Whether a picture is there."""
        return self.path(key).exists()

    def load(self, key: str) -> Picture | None:
        """A picture, or none where it is not there or damaged; a damaged one is removed."""
        picture = read_frame(self.path(key))
        if picture is None:
            self.path(key).unlink(missing_ok=True)
        return picture

    def look_through(self) -> None:
        """Remove what is damaged, as a power cut may leave it."""
        for path in self.files():
            self.load(path.stem)

    def files(self) -> list[Path]:
        """Those that are whole."""
        return [path for path in self.folder.glob(f"*{ENDING}") if path.name[0] != "."]

    def save(self, key: str, picture: Picture) -> None:
        """Keep a picture. Raises OSError where it cannot be written."""
        self.keep(key, packed(picture))

    def keep(self, key: str, data: bytes) -> None:
        """Keep a picture that is packed already. Raises OSError where it cannot be written."""
        self.folder.mkdir(parents=True, exist_ok=True)
        part = self.folder / f".{key}.part"
        try:
            part.write_bytes(data)
            part.replace(self.path(key))
        finally:
            part.unlink(missing_ok=True)

    def count(self) -> int:
        """How many pictures there are."""
        return len(self.files())

    def clear(self) -> None:
        """Remove all of them, and the folder where nothing else is in it."""
        if not self.folder.is_dir():
            return
        files = [*self.folder.glob(f"*{ENDING}"), *self.folder.glob(".*.part")]
        for file in files:
            if not file.is_dir():
                file.unlink(missing_ok=True)
        with contextlib.suppress(OSError):
            self.folder.rmdir()


def _looks(project: Project) -> bytes:
    """A hash over how the parts look."""
    finishes = finishes_of(project, project.colourway)
    looks = [
        (
            p.id,
            p.parent,
            p.geometry,
            p.colour,
            p.opacity,
            p.shown,
            p.scale,
            _digest_of(finishes.get(p.id)),
            p.swept is not None,
        )
        for p in project.parts
    ]
    return hashlib.sha256(msgspec.json.encode((looks, project.light_setup))).digest()


@lru_cache(maxsize=256)
def _digest_of(finish: Finish | None) -> str:
    """A short name of a finish, which may hold pictures, and which many parts have."""
    return hashlib.sha256(msgspec.json.encode(finish)).hexdigest()


def keyed(
    project: Project,
    meshes: Mapping[str, Mesh],
    moments: list[tuple[Shot, float]],
    width: int,
    height: int,
    *,
    alpha: bool,
    bits: Bits = 8,
) -> list[Frame]:
    """Frames with their keys: hashes over how parts look and stand, the view, the lights and the size at that time."""
    frames: dict[tuple[Shot, float], Frame] = {}
    for shot in dict.fromkeys(shot for shot, _ in moments):
        times = [time for other, time in moments if other is shot or other == shot]
        camera = camera_of(project, shot.camera)
        settings, looks = _settings(project, shot), _looks(in_colourway(project, shot.colourway))
        for first in range(0, len(times), _TOGETHER):
            some = times[first : first + _TOGETHER]
            poses = world_poses(project, some)
            seen = views(project, meshes, camera, some, poses, width / height)
            shining = [place for light in project.lights for place in light_places(project, light, some)]
            if shot.shutter:
                # what is seen until the shutter closes
                shut = world_poses(project, [time + shot.shutter / 360.0 / shot.fps for time in some])
                beyond = [time + shot.shutter / 360.0 / shot.fps for time in some]
                later = views(project, meshes, camera, beyond, shut, width / height)
                shining += [shut, later.position, later.target]
            numbers = (poses, seen.position, seen.target, seen.up, seen.vertical_angle(camera, width, height), *shining)
            for k, time in enumerate(some):
                digest = hashlib.sha256(looks)
                digest.update(msgspec.json.encode((__version__, width, height, alpha, camera.parallel, _pixels(bits))))
                digest.update(settings)
                digest.update(msgspec.json.encode((camera.f_number, camera.focus) if camera.f_number else ()))
                if shot.shows != OnPicture():
                    digest.update(_rounded(np.array(time)).tobytes())
                for values in numbers:
                    digest.update(_rounded(values[k]).tobytes())
                digest.update(msgspec.json.encode(sorted(faint_things(camera, time).items())))
                for light in project.lights:
                    digest.update(msgspec.json.encode((light.kind, light.cone, light.size, state(light, time))))
                if shot.paths:
                    digest.update(msgspec.json.encode(project.paths))
                frames[shot, time] = Frame(shot, time, digest.hexdigest()[:32])
    return [frames[moment] for moment in moments]


def _settings(project: Project, shot: Shot) -> bytes:
    """What of a shot shows in each of its pictures. What is written and drawn on them hangs on its whole motion and on names."""
    solid = sorted(kept_solid(project, shot)) if shot.look == "ghost" else []
    settings = msgspec.json.encode(
        (
            shot.look,
            shot.quality,
            shot.section,
            shot.background,
            shot.background_top,
            shot.clear,
            shot.paths,
            solid,
            shot.shows,
            (shot.samples, shot.seconds, shot.noise, shot.edges) if shot.quality == "finished" else (),
            (shot.shutter, shot.fps if shot.shutter else 0.0),
            # a sweep stands behind the subject for all of the shot
            (shot.floor, shot.start, shot.end, camera_of(project, shot.camera))
            if shot.floor == "sweep"
            else shot.floor,
        )
    )
    if shot.shows == OnPicture():
        return settings
    moving = world_poses(project, [frame_time(shot, k) for k in range(frame_count(shot))])
    whole = hashlib.sha256(_rounded(moving).tobytes())
    named = (
        [p.name for p in project.parts],
        project.wheels,
        project.contacts,
        project.requirements,
        project.settings,
        project.runs,
    )
    whole.update(msgspec.json.encode((shot.start, shot.end, shot.fps, named)))
    return settings + whole.digest()


def _pixels(bits: Bits) -> int:
    """The bits of a kept frame's numbers: films of 10 and pictures of 16 bits are made from the same."""
    return 16 if bits == 10 else bits


def _rounded(values: NDArray[np.float64]) -> NDArray[np.float64]:
    # −0.0 and 0.0 are one number
    return np.round(np.asarray(values, float), _DIGITS) + 0.0


class Maker:
    """Makes frames of one project, keeping a studio for each of its shots' settings."""

    def __init__(
        self, project: Project, meshes: Mapping[str, Mesh], width: int, height: int, *, alpha: bool, bits: Bits = 8
    ) -> None:
        self.project, self.meshes, self.size, self.alpha, self.bits = project, meshes, (width, height), alpha, bits
        self._studio: Studio | FinishedStudio | None = None
        self.alive: Callable[[], object] | None = None  # asked while a frame takes long; raises to stop
        self._coming: list[Frame] = []

    def prefetch(self, frames: Sequence[Frame]) -> None:
        """Be ready for these frames in this order."""
        self._coming = list(frames)
        self._pass_on()

    def _pass_on(self) -> None:
        if self._studio is not None:
            shot = self._studio.shot
            self._studio.prefetch([frame.time for frame in self._coming if frame.shot == shot])

    def picture(self, frame: Frame) -> Picture:
        """One frame's picture."""
        if self._studio is None or self._studio.shot != frame.shot:
            self.close()
            self._studio = studio_of(
                self.project, self.meshes, frame.shot, *self.size, alpha=self.alpha, bits=self.bits
            )
            if isinstance(self._studio, FinishedStudio):
                self._studio.progress = self._look_up
            self._pass_on()
        return self._studio.picture(camera_of(self.project, frame.shot.camera), frame.time)

    def tried(self, frame: Frame) -> Picture:
        """One frame's picture, made a second time if need be. Raises what the second time raised; OSError and Cancelled at once."""
        try:
            return self.picture(frame)
        except (OSError, Cancelled):
            raise
        except Exception:
            self.close()
            return self.picture(frame)

    def _look_up(self, *_: object) -> bool:
        if self.alive is not None:
            self.alive()
        return True

    def close(self) -> None:
        """Give the graphics memory back."""
        if self._studio is not None:
            self._studio.close()
            self._studio = None


# of a process of a pool: what makes its frames, where they are kept, and who wants them
_share: tuple[Maker, FrameStore, int] | None = None


def begin_share(maker: Mapping[str, Any], folder: Path) -> None:
    """In a process of a pool: be ready to make frames with a maker, by its fields, and to keep them in a folder."""
    global _share
    _share = Maker(**maker), FrameStore(folder), os.getppid()


def make_share(frames: Sequence[Frame]) -> list[str]:
    """In a process of a pool: make those frames that are not there yet, and tell what went wrong with some, twice. Raises OSError of a full
    disk."""
    assert _share is not None
    maker, store, parent = _share
    left = [frame for frame in frames if not store.has(frame.key)]
    maker.prefetch(left)
    faults = []
    for frame in left:
        if os.getppid() != parent:
            break  # whoever asked for them has gone
        try:
            store.save(frame.key, maker.tried(frame))
        except OSError:
            raise
        except Exception as fault:
            faults.append(f"frame at {frame.time:.3f} s of “{frame.shot.name}”: {fault}")
    maker.close()
    return faults
