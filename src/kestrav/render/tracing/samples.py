"""What has been sampled of a frame: how many at once, how much noise is left, and the picture without it.

Noise is taken away by Intel Open Image Denoise with the surfaces' colours and normals as guides.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from kestrav.render.tracing.description import Moment, Region, Single

_AT_ONCE = 16  # samples of a pixel that are taken together, at most
# of a picture in which so many are: of larger ones fewer, so that it is told as often how far it is
_PIXELS = 1280 * 720
_RIM = 16  # pixels


@dataclass
class Taken:
    """What has been taken of a frame, so that it can be gone on with: two halves that know nothing of each other."""

    moments: tuple[Moment, ...]
    region: Region | None
    each: int
    passes: int = 0
    sums: list[Any] = field(default_factory=lambda: [0.0, 0.0])
    counts: list[int] = field(default_factory=lambda: [0, 0])
    guides: dict[int, Single] = field(default_factory=dict)  # by the number of the moment


def picture_of(taken: Taken, *, denoise: bool) -> tuple[Single, Single]:
    """Linear light and cover of what has been taken so far."""
    mean = ((taken.sums[0] + taken.sums[1]) / max(sum(taken.counts), 1)).astype(np.float32)
    light, cover = mean[..., :3], np.clip(mean[..., 3], 0.0, 1.0)
    if denoise and taken.guides:
        guided: Single = np.asarray(np.mean(list(taken.guides.values()), axis=0), np.float32)
        guides = (np.clip(guided[..., :3], 0.0, 1.0), guided[..., 3:])
        light = _without_noise(light, guides, hdr=True)
        if ((cover > 0.02) & (cover < 0.98)).mean() > 0.02:
            # what lets through is drawn by lot as well; edges alone need no help
            cover = _without_noise(np.repeat(cover[..., None], 3, axis=2), guides, hdr=False)[..., 0]
    return np.asarray(light), cover


def _without_noise(values: Single, guides: tuple[Single, Single], *, hdr: bool) -> Single:
    """A picture (h, w, 3) without its noise, guided by colours and normals; what is beyond its rim is taken to be as within it."""
    from pyoidn import denoise

    rim = min(_RIM, *(side - 1 for side in values.shape[:2]))
    value, albedo, normal = (
        np.ascontiguousarray(np.pad(layer, ((rim, rim), (rim, rim), (0, 0)), "reflect"), np.float32)
        for layer in (values, *guides)
    )
    clean = np.asarray(denoise(value, hdr=hdr, albedo=albedo, normal=normal))
    return clean[rim : clean.shape[0] - rim, rim : clean.shape[1] - rim]


def at_once(samples: int, moments: int, pixels: int) -> int:
    """How many samples of a pixel are taken together."""
    most = min(_AT_ONCE, max(_AT_ONCE * _PIXELS // max(pixels, 1), 1))
    return spread_evenly(max(1, min(most, samples // max(moments, 2))))


def spread_evenly(samples: int) -> int:
    """The number up to some samples that fills a grid of about as many rows as columns: the sampler takes no other."""
    return next(count for count in range(samples, 0, -1) if count % math.isqrt(count) == 0)


def count_of(samples: int, each: int, moments: int) -> int:
    """How many times so many samples are taken together: each moment equally often, and at least twice, as two halves tell the noise."""
    count = max(round(samples / each), 2)
    return moments * max(round(count / moments), 1) if moments > 1 else count


def noise_of(sums: list[Any], counts: list[int]) -> float:
    """The noise that is left: the root mean square of half the difference of two independent halves, of values as they are shown."""
    if min(counts) == 0:
        return float("inf")
    halves = [np.clip(s[..., :3] / max(n, 1), 0.0, 1.0) ** (1 / 2.2) for s, n in zip(sums, counts, strict=True)]
    return float(np.sqrt(np.mean((halves[0] - halves[1]) ** 2)) / 2.0)
