"""The fine structure of finishes as pictures that repeat without a seam, made by formula.

A structure is made of noise with a spectrum of its choice, which repeats by nature (the discrete Fourier transform is periodic), of waves
of a whole number of periods, and of cells about scattered points (S. Worley, "A Cellular Texture Basis Function", SIGGRAPH 1996).
"""

from __future__ import annotations

from functools import lru_cache

import msgspec
import numpy as np
import scipy
from numpy.typing import NDArray

from kestrav.core.colours import to_srgb
from kestrav.core.document.surfaces import Finish, TextureName
from kestrav.core.memo import Memo

Array = NDArray[np.float64]
SIDE = 512  # pixels along either side
SMOOTHEST = 0.02  # roughness of a mirror


class Texture(msgspec.Struct, frozen=True):
    """A square (n, n) of a surface: its ``height`` and its ``shade``, how much of the base colour it shows, both 0 to 1; ``rough`` is
    added to the roughness, and ``opacity`` is 0 in holes. The first axis goes along the surface's v, the second along u, the grain."""

    height: Array
    shade: Array
    rough: Array
    opacity: Array | None = None

    @property
    def normals(self) -> Array:
        """Normals (n, n, 3) in the tangent space of u and v, of unit length: those of the height over a tenth of the side."""
        slope = 0.1 * len(self.height)
        across = slope * (np.roll(self.height, -1, 1) - np.roll(self.height, 1, 1)) / 2
        along = slope * (np.roll(self.height, -1, 0) - np.roll(self.height, 1, 0)) / 2
        normals = np.stack([-across, -along, np.ones_like(across)], axis=-1)
        return np.asarray(normals / np.linalg.norm(normals, axis=-1, keepdims=True))


@lru_cache(maxsize=32)
def texture(name: TextureName) -> Texture:
    """The structure of a name; flat for none."""
    texture = _MADE[name]() if name else _plain(np.full((SIDE, SIDE), 0.5))
    for values in (texture.height, texture.shade, texture.rough):
        values.flags.writeable = False
    return texture


def shading(finish: Finish) -> Array:
    """How much of the base colour (n, n) a finish shows: its structure by its contrast."""
    return np.asarray(1.0 - finish.contrast * (1.0 - texture(finish.texture).shade))


def roughness(finish: Finish) -> Array:
    """The roughness (n, n) of a finish with its structure; no less than renderers can show."""
    return np.clip(finish.roughness + texture(finish.texture).rough, SMOOTHEST, 1.0)


Pixels = NDArray[np.uint8]
_pixels: Memo[tuple[Pixels, Pixels, Pixels]] = Memo(64, lasting=True)


def structure_pixels(finish: Finish) -> tuple[Pixels, Pixels, Pixels]:
    """A structure as pictures: how much of the base colour shows (n, n, 3, or 4 with its opacity) in sRGB, normals (n, n, 3), and occlusion
    with roughness and metalness (n, n, 3)."""
    return _pixels.get((), lambda: _drawn(finish), *_seen_of(finish))


def structure_is_known(finish: Finish) -> bool:
    """Whether its pictures are there already: making them takes a tenth of a second."""
    return _pixels.known((), *_seen_of(finish)) is not None


def _seen_of(finish: Finish) -> tuple[TextureName, float, float, float]:
    """All of a finish that the pictures of its structure show."""
    return finish.texture, finish.contrast, finish.roughness, finish.metallic


def _drawn(finish: Finish) -> tuple[Pixels, Pixels, Pixels]:
    drawn, shade, rough = texture(finish.texture), shading(finish), roughness(finish)
    base = np.repeat(to_srgb(shade)[..., None], 3, axis=2)
    if drawn.opacity is not None:
        base = np.concatenate([base, drawn.opacity[..., None]], axis=2)
    parts = np.stack([shade, rough, np.full_like(rough, finish.metallic)], axis=-1)
    shown, normals, surface = (
        np.rint(v).astype(np.uint8) for v in (255.0 * base, 127.5 + 127.5 * drawn.normals, 255.0 * parts)
    )
    return shown, normals, surface


def _plain(
    height: Array, shade: Array | None = None, rough: Array | None = None, opacity: Array | None = None
) -> Texture:
    flat = np.ones_like(height)
    return Texture(height, flat if shade is None else shade, 0.0 * height if rough is None else rough, opacity)


def noise(low: float, high: float, seed: int, across: float = 1.0, fall: float = 1.0) -> Array:
    """Noise (n, n), 0 to 1, of waves of ``low`` to ``high`` periods a side; along v there are so many times more of them (``across``), and
    their strength falls with this power of their number."""
    random = np.random.default_rng(seed)
    v, u = np.fft.fftfreq(SIDE, 1.0 / SIDE)[:, None] / across, np.fft.rfftfreq(SIDE, 1.0 / SIDE)[None]
    number = np.hypot(u, v)
    with np.errstate(divide="ignore"):
        strength = np.where((number >= low) & (number <= high), number**-fall, 0.0)
    waves = strength * np.exp(2j * np.pi * random.random(strength.shape))
    return _spread(np.fft.irfft2(waves, (SIDE, SIDE)))


def _spread(values: Array) -> Array:
    """Values brought to 0 to 1 by their 1st and 99th hundredth."""
    low, high = np.percentile(values, [1.0, 99.0])
    return np.asarray(np.clip((values - low) / max(high - low, 1e-12), 0.0, 1.0))


def _grid() -> tuple[Array, Array]:
    """v and u (n, 1), (1, n) from 0 to 1."""
    steps = (np.arange(SIDE) + 0.5) / SIDE
    return steps[:, None], steps[None]


def cells(count: int, seed: int) -> tuple[Array, Array, NDArray[np.int64]]:
    """Distances to the nearest and second nearest of so many scattered points, in sides, and which is the nearest (each n, n)."""
    points = np.random.default_rng(seed).random((count, 2))
    v, u = np.meshgrid(*(np.ravel(a) for a in _grid()), indexing="ij")
    away, which = scipy.spatial.cKDTree(points, boxsize=1.0).query(np.stack([v, u], axis=-1).reshape(-1, 2), k=2)
    shape = (SIDE, SIDE)
    return away[:, 0].reshape(shape), away[:, 1].reshape(shape), which[:, 0].reshape(shape)


def _brushed() -> Texture:
    # streaks along u: the spectrum is drawn out to many periods across and few along
    streaks = 0.6 * noise(1, 6, 1, across=60.0, fall=0.5) + 0.4 * noise(1, 3, 2, across=80.0, fall=0.2)
    return _plain(streaks, streaks, 0.1 * (streaks - 0.5))


def _turned() -> Texture:
    fine = noise(1, 8, 3, across=30.0, fall=0.7)
    return _plain(
        0.7 * fine + 0.3 * noise(20, 80, 4), 0.6 * fine + 0.4 * noise(2, 10, 5), 0.12 * (noise(2, 12, 6) - 0.5)
    )


def _cast() -> Texture:
    rough = 0.6 * noise(10, 60, 7, fall=0.8) + 0.4 * noise(60, 200, 8, fall=0.5)
    return _plain(rough, 0.5 + 0.5 * rough, 0.1 * (rough - 0.5))


def _blasted() -> Texture:
    fine = noise(60, 240, 9, fall=0.2)
    return _plain(fine, fine)


def _orange_peel() -> Texture:
    return _plain(noise(8, 26, 10, fall=0.3))


def _grained() -> Texture:
    near, second, _ = cells(900, 11)
    leather = np.clip((second - near) * 30.0, 0.0, 1.0)
    return _plain(leather, 0.7 + 0.3 * leather)


def _wood() -> Texture:
    v, _ = _grid()
    # growth rings cut along the trunk: bands across u whose edges waver, with pores along the grain
    waver = 0.08 * (noise(1, 4, 12, across=1.0, fall=1.5) - 0.5)
    rings = (v + waver) * 9.0
    band = (rings - np.floor(rings)) ** 2
    pores = noise(2, 10, 13, across=40.0, fall=0.3)
    shade = 1.0 - 0.45 * band - 0.3 * np.clip(pores - 0.7, 0.0, 1.0) / 0.3
    return _plain(1.0 - np.clip(pores - 0.6, 0.0, 1.0), np.clip(shade, 0.0, 1.0), 0.15 * band)


def _concrete() -> Texture:
    near, _, _ = cells(260, 14)
    pits = np.clip(near / 0.006, 0.0, 1.0)
    stains = noise(1, 12, 15, fall=1.4)
    fine = noise(30, 200, 16, fall=0.4)
    return _plain(pits * (0.8 + 0.2 * fine), np.clip(0.45 + 0.45 * stains + 0.1 * fine, 0.0, 1.0) * (0.6 + 0.4 * pits))


def _terrazzo() -> Texture:
    near, second, which = cells(420, 17)
    tone = np.random.default_rng(18).random(420)[which]
    stone = (second - near > 0.006) & (tone > 0.25)
    return _plain(np.full((SIDE, SIDE), 0.5), np.where(stone, 0.35 + 0.65 * tone, 0.8))


def _tiles() -> Texture:
    v, u = _grid()
    away = np.minimum(np.minimum(u, 1.0 - u) + 0.0 * v, np.minimum(v, 1.0 - v) + 0.0 * u)
    joint = np.clip((away - 0.008) / 0.006, 0.0, 1.0)
    return _plain(joint, 0.45 + 0.55 * joint, 0.5 * (1.0 - joint))


def _mesh() -> Texture:
    v, u = _grid()
    wires = 8
    across, along = np.sin(np.pi * wires * u) ** 2 + 0.0 * v, np.sin(np.pi * wires * v) ** 2 + 0.0 * u
    wire = np.maximum(1.0 - across / 0.25, 1.0 - along / 0.25)
    # one goes over the other and then under it
    sign = np.sign(np.cos(np.pi * wires * u) * np.cos(np.pi * wires * v) + 1e-9)
    height = np.clip(0.5 + 0.5 * np.clip(wire, 0, 1) * np.where(across < along, sign, -sign), 0.0, 1.0)
    return _plain(height, np.ones((SIDE, SIDE)), opacity=(wire > 0).astype(float))


def _weave() -> Texture:
    v, u = _grid()
    threads = 16
    warp = np.abs(np.sin(np.pi * threads * u)) * (
        0.5 + 0.5 * np.cos(np.pi * threads * v + np.pi * np.floor(threads * u))
    )
    weft = np.abs(np.sin(np.pi * threads * v)) * (
        0.5 - 0.5 * np.cos(np.pi * threads * u + np.pi * np.floor(threads * v))
    )
    height = np.maximum(warp, weft)
    return _plain(height, 0.35 + 0.65 * height)


def _knurled() -> Texture:
    v, u = _grid()
    rows = 8
    a, b = (u + v) * rows % 1.0, (u - v) * rows % 1.0
    height = np.minimum(1.0 - np.abs(2 * a - 1), 1.0 - np.abs(2 * b - 1))
    return _plain(height, 0.5 + 0.5 * height)


_MADE = {
    "brushed": _brushed,
    "turned": _turned,
    "cast": _cast,
    "blasted": _blasted,
    "orange peel": _orange_peel,
    "grained": _grained,
    "wood": _wood,
    "concrete": _concrete,
    "terrazzo": _terrazzo,
    "tiles": _tiles,
    "mesh": _mesh,
    "weave": _weave,
    "knurled": _knurled,
}
