"""What has been sampled of a frame: how many at once, in which order, how much noise is left, and the picture without it.

Noise is taken away by Intel Open Image Denoise with the surfaces' colours and normals as guides.
"""

from __future__ import annotations

import math
from collections.abc import Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.render.tracing.adaptive import error_of, further_samples
from kestrav.render.tracing.description import Moment, Region, Single

_AT_ONCE = 16  # samples of a pixel that are taken together, at most
# of a picture in which so many are: of larger ones fewer, so that it is told as often how far it is
_PIXELS = 1280 * 720
_RIM = 16  # pixels
_APART = 1001  # numbers of passes that are kept for those of one moment; odd, so that halves take turns in moments too
_LEFT = 0.03  # of all samples, which are not worth a round of their own
_GROWTH = 2  # times as many samples each time that it is told anew where a picture needs them

Array = NDArray[np.float64]
Often = NDArray[np.int64]


class Taken(msgspec.Struct):
    """What has been taken of a frame, so that it can be gone on with: ``sums`` (2, h, w, 4) of linear light and cover and ``counts`` (2, h, w) of
    samples, in two halves that know nothing of each other. They are taken ``each`` at a time."""

    moments: tuple[Moment, ...]
    region: Region | None
    each: int
    sums: Array
    counts: Array
    passes: int = 0
    guides: dict[int, Single] = msgspec.field(default_factory=dict)  # by the number of the moment
    # what gives light of its own: its light and cover
    glows: dict[int, tuple[Array, Array]] = msgspec.field(default_factory=dict)

    @property
    def halves(self) -> Single:
        """Linear light and cover (2, h, w, 4) of both halves."""
        return (self.sums / np.maximum(self.counts, 1.0)[..., None]).astype(np.float32)

    @property
    def samples(self) -> float:
        """How many samples a pixel has, by the mean of all."""
        return float(self.counts.sum() / max(self.counts[0].size, 1))


def nothing_taken(moments: tuple[Moment, ...], region: Region | None, shape: tuple[int, int], each: int) -> Taken:
    """A frame of a shape (h, w) of which nothing has been taken."""
    return Taken(moments, region, each, np.zeros((2, *shape, 4)), np.zeros((2, *shape)))


def passes(taken: Taken, samples: int, *, adaptive: bool) -> Iterator[tuple[int, Often | None]]:
    """What is taken next until a frame has so many samples: the number of the moment, and how often each pixel (h, w); None is all of them once.
    Where it is ``adaptive``, a part of them is taken where the picture needs it most by what was taken before."""
    moments = len(taken.moments)
    together = taken.each * moments
    if not adaptive:
        done = round(taken.samples / taken.each)
        for k in range(done, max(count_of(samples, taken.each, moments), done)):
            yield k % moments, None
        return
    most = max(_AT_ONCE * _PIXELS // (taken.each * taken.counts[0].size), 1)
    while taken.samples < (1.0 - _LEFT) * samples:
        # the more is known of a picture, the better it is told where it needs more
        goal = max(_GROWTH * taken.samples, 2.0 * _GROWTH * together)
        goal = goal if samples - goal >= together else samples
        for k in range(count_of(round((goal - taken.samples) / 2), taken.each, moments)):
            yield k % moments, None
        often, first = _needy(taken, goal - taken.samples), taken.passes
        for which in range(moments if often.any() else 0):
            # few are sampled as often as the last
            starts = [0, *range(most, int(often.max()), 2 * most)]
            for k, (start, end) in enumerate(zip(starts, [*starts[1:], often.max()], strict=True)):
                # with a number of its own, however many there are for others: a frame's noise is like that of the frame before
                taken.passes = first + which * _APART + k
                yield which, np.clip(often, start, end) - start
        taken.passes = first + moments * _APART


def _needy(taken: Taken, budget: float) -> Often:
    """How often each pixel (h, w) is sampled further, of so many samples by the mean of all."""
    counts, together = taken.counts.sum(axis=0), taken.each * len(taken.moments)
    if budget < together:
        return np.zeros(counts.shape, np.int64)
    one, two = (clean_light(half[..., :3], taken, fast=True) for half in taken.halves)
    return further_samples(error_of((one, two)), counts, budget * counts.size, together)


def clean_light(light: Single, taken: Taken, *, fast: bool = False) -> Single:
    """Linear light (h, w, 3) without its noise."""
    return _without_noise(light, _guides_of(taken), hdr=True, fast=fast)


def _guides_of(taken: Taken) -> tuple[Single, Single]:
    """Colours and normals (h, w, 3) by the mean of the moments."""
    guided: Single = np.asarray(np.mean(list(taken.guides.values()), axis=0), np.float32)
    return np.clip(guided[..., :3], 0.0, 1.0), guided[..., 3:]


def picture_of(taken: Taken, *, denoise: bool) -> tuple[Single, Single]:
    """Linear light and cover of what has been taken so far."""
    counts = np.maximum(taken.counts.sum(axis=0), 1.0)[..., None]
    mean = (taken.sums.sum(axis=0) / counts).astype(np.float32)
    light, cover = mean[..., :3], np.clip(mean[..., 3], 0.0, 1.0)
    if denoise and taken.guides:
        light = clean_light(light, taken)
        if ((cover > 0.02) & (cover < 0.98)).mean() > 0.02:
            # what lets through is drawn by lot as well; edges alone need no help
            grey = np.repeat(cover[..., None], 3, axis=2)
            cover = _without_noise(grey, _guides_of(taken), hdr=False, fast=True)[..., 0]
    return np.asarray(light), cover


def _without_noise(values: Single, guides: tuple[Single, Single], *, hdr: bool, fast: bool = False) -> Single:
    """A picture (h, w, 3) without its noise, guided by colours and normals; what is beyond its rim is taken to be as within it. ``fast`` is a
    little rougher."""
    from pyoidn import denoise

    rim = min(_RIM, *(side - 1 for side in values.shape[:2]))
    value, albedo, normal = (
        np.ascontiguousarray(np.pad(layer, ((rim, rim), (rim, rim), (0, 0)), "reflect"), np.float32)
        for layer in (values, *guides)
    )
    clean = np.asarray(denoise(value, hdr=hdr, albedo=albedo, normal=normal, quality="fast" if fast else "high"))
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


def noise_of(taken: Taken) -> float:
    """The noise that is left: the root mean square of half the difference of two independent halves, of values as they are shown."""
    if not taken.counts.any(axis=(1, 2)).all():
        return float("inf")
    halves = np.clip(taken.halves[..., :3], 0.0, 1.0) ** np.float32(1 / 2.2)
    return float(np.sqrt(np.mean((halves[0] - halves[1]) ** 2)) / 2.0)
