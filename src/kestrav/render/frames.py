"""Frames on disk, each under the hash of all that it is made from: what is there need not be made again."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray
from PIL import Image, UnidentifiedImageError

from kestrav import __version__
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.camera.filmed import kept_solid
from kestrav.core.camera.views import views
from kestrav.core.document.records import OnPicture, Project, Shot
from kestrav.core.document.shots import frame_count, frame_time
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.motion.lighting import state
from kestrav.core.motion.poses import light_places, world_poses
from kestrav.render.picture import Picture, Studio
from kestrav.render.scene import faint_things
from kestrav.render.sinks import save_png

_TOGETHER = 200  # frames whose poses are worked out at once
_DIGITS = 6  # to which numbers count: 1e-6 mm


@dataclass(frozen=True)
class Frame:
    """A picture to be made: of which shot, at what time in s, and the hash of all that it is made from."""

    shot: Shot
    time: float
    key: str


class FrameStore:
    """Pictures in a folder, by key; each is written whole or not at all."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def path(self, key: str) -> Path:
        """Where a picture is kept."""
        return self.folder / f"{key}.png"

    def has(self, key: str) -> bool:
        """Whether a picture is there."""
        return self.path(key).exists()

    def load(self, key: str) -> Picture | None:
        """A picture, or none where it is not there or damaged; a damaged one is removed."""
        try:
            with Image.open(self.path(key)) as image:
                return np.asarray(image).copy()
        except FileNotFoundError:
            return None
        except (OSError, UnidentifiedImageError, SyntaxError):
            self.path(key).unlink(missing_ok=True)
            return None

    def look_through(self) -> None:
        """Remove what is damaged, as a power cut may leave it."""
        for path in self.folder.glob("*.png"):
            self.load(path.stem)

    def save(self, key: str, picture: Picture) -> None:
        """Keep a picture. Raises OSError where it cannot be written."""
        self.folder.mkdir(parents=True, exist_ok=True)
        # it is there for a while only
        save_png(picture, self.path(key), effort=1)

    def keep(self, key: str, data: bytes) -> None:
        """Keep a picture that is PNG already. Raises OSError where it cannot be written."""
        self.folder.mkdir(parents=True, exist_ok=True)
        part = self.folder / f".{key}.part"
        part.write_bytes(data)
        part.replace(self.path(key))

    def count(self) -> int:
        """How many pictures there are."""
        return sum(1 for _ in self.folder.glob("*.png")) if self.folder.is_dir() else 0

    def clear(self) -> None:
        """Remove all of them."""
        shutil.rmtree(self.folder, ignore_errors=True)


def keyed(
    project: Project,
    meshes: Mapping[str, Mesh],
    moments: list[tuple[Shot, float]],
    width: int,
    height: int,
    alpha: bool,
) -> list[Frame]:
    """Frames with their keys: hashes over how parts look and stand, the view, the lights and the size at that time."""
    looks = hashlib.sha256(
        msgspec.json.encode(
            [
                (p.id, p.parent, p.geometry, p.colour, p.opacity, p.shown, p.scale, p.finish, p.swept is not None)
                for p in project.parts
            ]
        )
    ).digest()
    found: dict[tuple[Shot, float], Frame] = {}
    for shot in dict.fromkeys(shot for shot, _ in moments):
        times = [time for other, time in moments if other is shot or other == shot]
        camera = camera_of(project, shot.camera)
        settings = _settings(project, shot)
        for first in range(0, len(times), _TOGETHER):
            some = times[first : first + _TOGETHER]
            poses = world_poses(project, some)
            seen = views(project, meshes, camera, some, poses, width / height)
            numbers = (poses, seen.position, seen.target, seen.up, seen.vertical_angle(camera, width, height))
            for k, time in enumerate(some):
                digest = hashlib.sha256(looks)
                digest.update(msgspec.json.encode((__version__, width, height, alpha, camera.parallel)))
                digest.update(settings)
                if shot.shows != OnPicture():
                    digest.update(_rounded(np.array(time)).tobytes())
                for values in numbers:
                    digest.update(_rounded(values[k]).tobytes())
                digest.update(msgspec.json.encode(sorted(faint_things(camera, time).items())))
                for light in project.lights:
                    digest.update(msgspec.json.encode((light.kind, light.cone, light.size, state(light, time))))
                    for place in light_places(project, light, [time]):
                        digest.update(_rounded(place).tobytes())
                if shot.paths:
                    digest.update(msgspec.json.encode(project.paths))
                found[shot, time] = Frame(shot, time, digest.hexdigest()[:32])
    return [found[moment] for moment in moments]


def _settings(project: Project, shot: Shot) -> bytes:
    """What of a shot shows in each of its pictures. What is written and drawn on them hangs on its whole motion and on names."""
    solid = sorted(kept_solid(project, shot)) if shot.look == "ghost" else []
    found = msgspec.json.encode(
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
        )
    )
    if shot.shows == OnPicture():
        return found
    moving = world_poses(project, [frame_time(shot, k) for k in range(frame_count(shot))])
    whole = hashlib.sha256(_rounded(moving).tobytes())
    named = (
        [p.name for p in project.parts],
        project.rolls,
        project.contacts,
        project.requirements,
        project.settings,
        project.runs,
    )
    whole.update(msgspec.json.encode((shot.start, shot.end, shot.fps, named)))
    return found + whole.digest()


def _rounded(values: NDArray[np.float64]) -> NDArray[np.float64]:
    # −0.0 and 0.0 are one number
    return np.round(np.asarray(values, float), _DIGITS) + 0.0


class Maker:
    """Makes frames of one project, keeping a studio for each of its shots' settings."""

    def __init__(self, project: Project, meshes: Mapping[str, Mesh], width: int, height: int, alpha: bool) -> None:
        self.project, self.meshes, self.size, self.alpha = project, meshes, (width, height), alpha
        self._studio: Studio | None = None

    def picture(self, frame: Frame) -> Picture:
        """One frame's picture."""
        if self._studio is None or self._studio.shot != frame.shot:
            self.close()
            self._studio = Studio(self.project, self.meshes, frame.shot, *self.size, self.alpha)
        return self._studio.picture(camera_of(self.project, frame.shot.camera), frame.time)

    def close(self) -> None:
        """Give the graphics memory back."""
        if self._studio is not None:
            self._studio.close()
            self._studio = None
