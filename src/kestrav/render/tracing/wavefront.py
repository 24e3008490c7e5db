"""Samples of any pixels of a picture, all in one go: the path tracer's library by itself takes whole pictures."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


class Wavefront:
    """Takes samples by an integrator of the library. What it does is prepared once and used again, also when things have moved: preparing takes
    over a second where there are many bodies."""

    def __init__(self, integrator: Any) -> None:
        self._integrator = integrator
        # by the samples taken together, which become part of it, and whether there is no lens
        self._prepared: dict[tuple[int, bool], Any] = {}

    def sums(
        self,
        scene: Any,
        spots: NDArray[np.uint32],
        shape: tuple[int, ...],
        each: int,
        seed: int,
        lens: tuple[NDArray[np.float64], float, float] | None = None,
    ) -> NDArray[np.float32]:
        """Sums (*shape, n) of what the integrator tells, over ``each`` samples of every one of the spots (m,), which are numbers of pixels in
        pictures of a shape (..., h, w); where one is there more than once, it gets as many more. It tells linear light, whether there is
        anything, and what else it knows. The scene's last camera is looked through, with a ``lens`` before it: its matrix (4, 4), its radius
        and the distance along its axis at which it is sharp."""
        import drjit as dr
        import mitsuba as mi

        high, wide = shape[-2:]
        sampler = scene.sensors()[-1].sampler().fork()
        sampler.set_sample_count(each)
        sampler.set_samples_per_wavefront(each)
        sampler.seed(seed, each * len(spots))
        with dr.suspend_grad():
            # numbers that are opaque do not become part of what is compiled, which serves all sizes then
            across, pixels, together = (dr.opaque(mi.UInt32, number) for number in (wide, high * wide, each))
            channels = 4 + len(self._integrator.aov_names())
            sums = dr.zeros(mi.Float, channels * int(np.prod(shape)))
            dr.make_opaque(sums)
            number = dr.arange(mi.UInt32, each * len(spots)) // together
            dr.make_opaque(number)
            spot = dr.gather(mi.UInt32, mi.UInt32(spots), number)
            before: list[Any] = []
            if lens is not None:
                matrix, radius, focus = lens
                before = [mi.Vector3f(*(float(v) for v in matrix[:3, k])) for k in range(4)]
                before += [mi.Float(radius), mi.Float(focus)]
                dr.make_opaque(before)
            prepared = self._prepared.setdefault((each, lens is None), dr.freeze(self._sums))
            prepared(scene, sampler, spot, across, pixels, sums, before)
            dr.eval(sums)
        return np.array(sums).reshape(*shape, channels)

    def _sums(self, scene: Any, sampler: Any, spot: Any, wide: Any, pixels: Any, sums: Any, lens: list[Any]) -> None:
        """Add samples to sums; random numbers are drawn in the order of the library's own rendering."""
        import drjit as dr
        import mitsuba as mi

        pixel = spot % pixels
        within = sampler.next_2d()
        place = mi.Point2f(
            (mi.Float(pixel % wide) + within.x) / mi.Float(wide),
            (mi.Float(pixel // wide) + within.y) / mi.Float(pixels // wide),
        )
        ray, weight = scene.sensors()[-1].sample_ray_differential(0.0, sampler.next_1d(), place, mi.Point2f(0.5))
        if lens:
            ray = _through(lens, ray, sampler.next_2d())
        light, there, others = self._integrator.sample(scene, sampler, ray)
        told = [*(weight * light), dr.select(there, mi.Float(1.0), mi.Float(0.0)), *others]
        for channel, value in enumerate(told):
            dr.scatter_add(sums, value, len(told) * spot + channel)


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
