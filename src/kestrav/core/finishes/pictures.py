"""Pictures that lie on surfaces: taken from files, decoded, and how triangles lie on them."""

from __future__ import annotations

import base64
import io
import warnings
from functools import lru_cache
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import to_linear
from kestrav.core.document.surfaces import LARGEST_PICTURE, PICTURE_FORMATS, Finish, Pictures
from kestrav.core.errors import Damaged
from kestrav.core.finishes.box_mapping import Mapped, box_mapped
from kestrav.core.finishes.textures import structure_pixels

Pixels = NDArray[np.uint8]

MOST_PIXELS = 1 << 27  # of a picture that is read
_MOST_BYTES = 4 << 20  # of one that is kept as it came


def _opened(data: bytes) -> Any:
    """A picture file, decoded. Raises Damaged, a ValueError, for one that cannot be read."""
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            picture = Image.open(io.BytesIO(data))
            large = picture.width * picture.height > MOST_PIXELS
            if not large:
                picture.load()
        except MemoryError:
            raise
        except Exception as fault:  # of many kinds, whatever a damaged file makes the decoders raise
            raise Damaged("a picture of it is damaged") from fault
    if large:
        raise Damaged("a picture of it is too large")
    return picture


def mean_colour(data: bytes) -> tuple[float, float, float]:
    """The mean linear colour of a picture file, weighed by its opacity. Raises Damaged for one that cannot be read."""
    pixels = np.asarray(_opened(data).convert("RGBA")).reshape(-1, 4)
    weights = pixels[:, 3].astype(float)
    if weights.sum() <= 0:
        raise Damaged("a picture of it is all transparent")
    # light is added up, and not the numbers that stand for it
    light = to_linear(np.arange(256) / 255.0)
    r, g, b = (float(np.bincount(pixels[:, k], weights, 256) @ light / weights.sum()) for k in range(3))
    return r, g, b


def kept(data: bytes, largest: int = LARGEST_PICTURE, *, opaque: bool = False) -> str:
    """A picture file as a project keeps it: as it came, or made smaller, or without its opacity. Raises Damaged for one that cannot be
    read."""
    picture = _opened(data)
    clear = ("A" in picture.getbands() or "transparency" in picture.info) and not opaque
    plain = picture.mode in ("RGB", "L") or clear
    if plain and picture.format in PICTURE_FORMATS and max(picture.size) <= largest and len(data) <= _MOST_BYTES:
        return base64.b64encode(data).decode()
    picture = picture.convert("RGBA" if clear else "RGB")
    picture.thumbnail((largest, largest))
    return encoded(np.asarray(picture))


def encoded(pixels: Pixels, most: int = _MOST_BYTES) -> str:
    """A picture (h, w, 3 or 4), the first row at its top, as a project keeps it: without loss where that takes no more than ``most`` bytes, or
    where it has an opacity."""
    from PIL import Image

    held, picture = io.BytesIO(), Image.fromarray(pixels)
    if most > 0 or pixels.shape[2] == 4:
        picture.save(held, "PNG")
    if pixels.shape[2] == 3 and not 0 < held.tell() <= most:
        held = io.BytesIO()
        picture.save(held, "JPEG", quality=92, subsampling=0)
    return base64.b64encode(held.getbuffer()).decode()


def merged_surface(
    occlusion: tuple[bytes, int] | None,
    rough: tuple[bytes, int] | None,
    metal: tuple[bytes, int] | None,
    largest: int = LARGEST_PICTURE,
) -> str:
    """One picture of occlusion in red, roughness in green and metalness in blue, as glTF has them; each from a file's channel (0 to 2), and
    white where there is none. Empty without any. Raises Damaged for one that cannot be read."""
    asked = (occlusion, rough, metal)
    held = {data: _opened(data).convert("RGB") for data, _ in filter(None, asked)}
    if not held:
        return ""
    size = tuple(min(max(one.size[k] for one in held.values()), largest) for k in (0, 1))
    pixels = {data: np.asarray(one.resize(size)) for data, one in held.items()}
    merged = np.full((size[1], size[0], 3), 255, np.uint8)
    for k, one in enumerate(asked):
        if one is not None:
            merged[..., k] = pixels[one[0]][..., one[1]]
    return encoded(merged)


@lru_cache(maxsize=24)
def decoded(text: str) -> Pixels:
    """The pixels (h, w, 3 or 4) of a picture that a project keeps, the first row at v = 0, its lower edge; one white pixel where it is
    damaged."""
    try:
        picture = _opened(base64.b64decode(text, validate=True))
        clear = "A" in picture.getbands() or "transparency" in picture.info
        pixels = np.asarray(picture.convert("RGBA" if clear else "RGB"))
    except ValueError:
        pixels = np.full((1, 1, 3), 255, np.uint8)
    flipped = np.ascontiguousarray(pixels[::-1])
    flipped.flags.writeable = False
    return flipped


def picture_mapped(points: NDArray[np.floating], triangles: NDArray[np.integer], uv: NDArray[np.floating]) -> Mapped:
    """A surface of points (n, 3) and triangles (m, 3) with their corners' places (m, 3, 2) on a picture, cut where these are not the same.

    The direction of u follows from how it grows over the triangles about a corner.
    """
    faces, places = np.asarray(triangles, np.int64), np.asarray(uv, np.float32).reshape(-1, 2)
    if not len(faces):
        return Mapped(np.empty(0, np.int64), np.empty((0, 2)), np.empty((0, 3)), faces.reshape(0, 3))
    # two sorts of whole numbers take a tenth of one of records
    known, place = np.unique(np.ascontiguousarray(places).view(np.uint64).reshape(-1), return_inverse=True)
    keys = faces.reshape(-1) * len(known) + place.reshape(-1)
    _, first, number = np.unique(keys, return_index=True, return_inverse=True)
    cut = number.reshape(-1, 3).astype(np.int64)
    corners, on = np.asarray(points, float)[faces], places.reshape(-1, 3, 2).astype(float)
    one, two = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    first_step, second_step = on[:, 1] - on[:, 0], on[:, 2] - on[:, 0]
    # E. Lengyel, "Mathematics for 3D Game Programming and Computer Graphics", 3rd edition, 7.8.3: the direction in which u grows
    turn = np.sign(first_step[:, 0] * second_step[:, 1] - second_step[:, 0] * first_step[:, 1])
    grows = turn[:, None] * (one * second_step[:, 1:] - two * first_step[:, 1:])
    sums = np.zeros((len(first), 3))
    np.add.at(sums, cut.reshape(-1), np.repeat(grows, 3, axis=0))
    size = np.linalg.norm(sums, axis=1, keepdims=True)
    along = np.where(size > 1e-12, sums / np.maximum(size, 1e-12), [1.0, 0.0, 0.0])
    return Mapped(faces.reshape(-1)[first], places[first].astype(float), along, cut)


def tangents(mapped: Mapped, normals: NDArray[np.floating]) -> NDArray[np.float32]:
    """Tangents (k, 4) of a mapped surface with normals (k, 3), as glTF 2.0 (3.7.2.1) has them: the direction of u, square to the normal, and 1
    or -1 as the picture is seen from outside as it is or mirrored."""
    on = mapped.uv[mapped.triangles]
    one, two = on[:, 1] - on[:, 0], on[:, 2] - on[:, 0]
    area = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]
    sums = np.zeros(len(mapped.source))
    np.add.at(sums, mapped.triangles.reshape(-1), np.repeat(area, 3))
    outward = np.asarray(normals, float)
    along = mapped.along - np.einsum("ij,ij->i", mapped.along, outward)[:, None] * outward
    size = np.linalg.norm(along, axis=1, keepdims=True)
    # where u goes straight out of the surface any direction along it will do
    other = np.cross(outward, np.eye(3)[np.abs(outward).argmin(axis=1)])
    # a corner of nothing but slivers has no normal
    across = np.maximum(np.linalg.norm(other, axis=1, keepdims=True), 1e-12)
    along = np.where(size > 1e-6, along / np.maximum(size, 1e-12), other / across)
    return np.column_stack([along, np.where(sums < 0, -1.0, 1.0)]).astype(np.float32)


def mapping_of(
    finish: Finish, points: NDArray[np.floating], triangles: NDArray[np.integer], uv: NDArray[np.floating] | None
) -> Mapped | None:
    """How a surface of points (n, 3) and triangles (m, 3) lies on the pictures of its finish, by its own places (m, 3, 2), or on the structure
    that it is made with; None where it has neither."""
    if finish.pictures is not None and uv is not None:
        return picture_mapped(points, triangles, uv)
    return box_mapped(points, triangles, finish.grain) if finish.texture else None


def drawn(finish: Finish, colour: str) -> Finish:
    """A finish whose structure is made by formula, in a colour, with pictures of that in its place, as other programs can show it; others as
    they are."""
    if finish.pictures is not None or not finish.texture:
        return finish
    shade, normal, surface = _drawn_structure(msgspec.structs.replace(finish, id="", name="", colour=""))
    pictures = Pictures(shade, normal if finish.relief > 0 else "", surface, factor=colour)
    return msgspec.structs.replace(finish, pictures=pictures, roughness=1.0, contrast=0.0)


@lru_cache(maxsize=64)
def _drawn_structure(finish: Finish) -> tuple[str, str, str]:
    """The pictures of a structure: shade with opacity, normals, and roughness."""
    shade, normals, parts = structure_pixels(finish)
    # how much of it is metal is a number
    parts = np.concatenate([parts[..., :2], np.full_like(parts[..., :1], 255)], axis=2)
    packed = (encoded(values[::-1], most=0) for values in (shade, normals, parts))
    return next(packed), next(packed), next(packed)


def file_of(text: str) -> tuple[bytes, str]:
    """A kept picture as a file, and its kind: png or jpeg."""
    data = base64.b64decode(text)
    return data, "png" if data[:4] == b"\x89PNG" else "jpeg"
