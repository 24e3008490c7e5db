"""Samples of any pixels of a picture, all in one go: the path tracer's library by itself takes whole pictures."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

# a camera's matrix (4, 4), the radius of its lens, and the distance along its axis at which that is sharp
Lens = tuple[NDArray[np.float64], float, float]
_LANES = 4_000_000  # samples that are taken at once: each holds 85 bytes of random state
_SEEDS = 7919  # between those of what is taken one after the other


class Wavefront:
    """Takes samples by an integrator of the library of a scene as it is. What it does is prepared once and used again, as that takes over a second
    where there are many bodies; when something has moved or shines otherwise, another has to be made: what is prepared would not know of it."""

    def __init__(self, integrator: Any) -> None:
        self._integrator = integrator
        # by the samples taken together, which become part of it, and whether there is no lens
        self._prepared: dict[tuple[int, bool], Any] = {}

    def sums(
        self,
        scene: Any,
        often: NDArray[np.int64],
        pictures: int,
        each: int,
        seed: int,
        lens: Lens | None = None,
    ) -> NDArray[np.float32]:
        """Sums (pictures, h, w, n) of what the integrator tells, over ``each`` samples as ``often`` as it says for a pixel (h, w), in the pictures
        by turns. It tells linear light, whether there is anything, and what else it knows. The scene's last camera is looked through, with a
        ``lens`` before it.

        A pixel's random numbers are its own, however often the others are sampled: what stays in a film does not flicker for what moves.
        """
        import drjit as dr
        import mitsuba as mi

        high, wide = often.shape
        channels = 4 + len(self._integrator.aov_names())
        once = max(_LANES // each, 1)
        bands = [(start, min(start + once, often.size)) for start in range(0, often.size, once)]
        with dr.suspend_grad():
            # numbers that are opaque do not become part of what is compiled, which serves all sizes then
            sizes = [dr.opaque(mi.UInt32, number) for number in (wide, often.size)]
            sums = dr.zeros(mi.Float, channels * pictures * often.size)
            wanted = mi.UInt32(often.ravel().astype(np.uint32))
            before: list[Any] = []
            if lens is not None:
                matrix, radius, focus = lens
                before = [mi.Vector3f(*(float(v) for v in matrix[:3, k])) for k in range(4)]
                before += [mi.Float(radius), mi.Float(focus)]
            dr.make_opaque(sums, wanted, before)
            key = (each, lens is None)
            prepared = self._prepared.setdefault(key, dr.freeze(self._sums, state_fn=_everything))
            for turn in range(int(often.max(initial=0))):
                for k, (start, end) in enumerate(bands):
                    sampler = scene.sensors()[-1].sampler().fork()
                    sampler.set_sample_count(each)
                    sampler.set_samples_per_wavefront(each)
                    sampler.seed(seed + _SEEDS * (turn * len(bands) + k), each * (end - start))
                    pixel = start + dr.arange(mi.UInt32, each * (end - start)) // dr.opaque(mi.UInt32, each)
                    turns = [dr.opaque(mi.UInt32, turn), dr.opaque(mi.UInt32, turn % pictures)]
                    dr.make_opaque(pixel)
                    try:
                        prepared(scene, sampler, pixel, wanted, turns, sizes, sums, before)
                        dr.eval(sums)
                    except RuntimeError:
                        if prepared == self._sums:
                            raise
                        # not all that a scene may hold can be prepared by the library: all is done anew then, step by step
                        self._prepared[key] = self._sums
                        return self.sums(scene, often, pictures, each, seed, lens)
        return np.array(sums).reshape(pictures, high, wide, channels)

    def _sums(
        self,
        scene: Any,
        sampler: Any,
        pixel: Any,
        often: Any,
        turns: list[Any],
        sizes: list[Any],
        sums: Any,
        lens: list[Any],
    ) -> None:
        """Add samples to sums; random numbers are drawn in the order of the library's own rendering."""
        import drjit as dr
        import mitsuba as mi

        (turn, picture), (wide, pixels) = turns, sizes
        active = turn < dr.gather(mi.UInt32, often, pixel)
        within = sampler.next_2d()
        place = mi.Point2f(
            (mi.Float(pixel % wide) + within.x) / mi.Float(wide),
            (mi.Float(pixel // wide) + within.y) / mi.Float(pixels // wide),
        )
        ray, weight = scene.sensors()[-1].sample_ray_differential(0.0, sampler.next_1d(), place, mi.Point2f(0.5))
        if lens:
            ray = _through(lens, ray, sampler.next_2d())
        light, there, others = self._integrator.sample(scene, sampler, ray, active=active)
        told = [*(weight * light), dr.select(there, mi.Float(1.0), mi.Float(0.0)), *others]
        at = len(told) * (pixel + pixels * picture)
        for channel, value in enumerate(told):
            dr.scatter_add(sums, value, at + channel, active)


def _through(lens: list[Any], ray: Any, spread: Any) -> Any:
    """A ray of a pinhole camera as one through a point of a thin lens there: all of a pixel meet where the lens is sharp. The library's own camera
    with a lens cannot be prepared."""
    import drjit as dr
    import mitsuba as mi

    across, up, axis, middle, radius, focus = lens
    on = radius * mi.warp.square_to_uniform_disk_concentric(spread)
    meets = middle + ray.d * (focus / dr.dot(ray.d, axis))
    start = middle + on.x * across + on.y * up
    return mi.RayDifferential3f(mi.Ray3f(start, dr.normalize(meets - start)))


def _everything(scene: Any, *_: Any) -> list[Any]:
    """All that takes part in a scene, which is told for what is prepared."""
    shapes = scene.shapes()
    return [*shapes, *(shape.bsdf() for shape in shapes), *scene.emitters()]
