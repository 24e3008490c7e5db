"""A scene in the path tracer's library, and frames of it: light transport by Mitsuba 3 (W. Jakob et al., "Mitsuba 3 renderer", 2022)."""

from __future__ import annotations

import time
from collections.abc import Hashable, Sequence
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.render.tracing.description import Body, Lamp, Moment, Region, Single, Surface, Traced, TracedScene, Wanted
from kestrav.render.tracing.emitters import SurfaceSample, sampling_weights
from kestrav.render.tracing.materials import bsdf_of, glow_of, look_of
from kestrav.render.tracing.samples import (
    Often,
    Taken,
    at_once,
    noise_of,
    nothing_taken,
    passes,
    picture_of,
    spread_evenly,
)
from kestrav.render.tracing.wavefront import Lens, Wavefront

FAST, SLOW = "llvm_ad_rgb", "scalar_rgb"
_DEEPEST = 10  # times that light is followed from surface to surface
_LOTS = 3  # times after which it is drawn by lot whether what is left of it is followed on
_GUIDED = 8  # samples of a pixel that tell the surfaces' colours and normals
_EDGES = 16  # samples of a pixel that tell what of it is covered
_MOVED = 100_000  # triangles that are moved point by point for a frame, at most: that takes about a tenth of a second
_GLOW = 64  # samples of a pixel that tell what of it gives light of its own
_GUIDES = "albedo:albedo,normal:sh_normal"


def best_variant(*, slow: bool = False) -> str:
    """The variant of the renderer that runs here: the fast one, which needs LLVM's library, unless the slow one is wanted."""
    import mitsuba as mi

    for name in (SLOW,) if slow else (FAST, SLOW):
        try:
            mi.set_variant(name)
            # it says only when it is used that the library is missing
            import drjit as dr

            if name == FAST:
                dr.eval(mi.Float(1.0) + 1.0)
            return name
        except Exception:
            continue
    raise RuntimeError("no variant of the path tracer runs here")


class Tracer:
    """A scene in the renderer, and its frames."""

    def __init__(self, scene: TracedScene, *, slow: bool = False) -> None:
        self.variant = best_variant(slow=slow)
        import mitsuba as mi

        self.mi: Any = mi
        self.described = scene
        self.groups = sorted({body.group for body in scene.bodies if body.group >= 0})
        self.lit = [k for k, body in enumerate(scene.bodies) if body.surface.emission is not None]
        self.by_points = _placed_by_points(scene.bodies, every=self.variant == SLOW)
        self._placed: dict[int, NDArray[np.float64]] = {}
        self._camera: tuple[bool, bool, Region | None] | None = None
        self._region: Region | None = None
        self._lamps: list[tuple[object, ...]] = []
        self._scene: Any = None
        self._parameters: Any = None
        self._bare: Tracer | None = None
        self._kept: Taken | None = None
        self._materials: dict[Hashable, Any] = {}
        self._shapes = self._made_shapes()
        self._surfaces = SurfaceSample(scene.bodies)
        path = {"type": "path", "max_depth": _DEEPEST, "rr_depth": _LOTS, "hide_emitters": True}
        self._paths: Any = mi.load_dict(path)
        self._firsts: Any = mi.load_dict({"type": "aov", "aovs": _GUIDES})
        self._light, self._guides = Wavefront(self._paths), Wavefront(self._firsts)

    # the scene

    def _made_shapes(self) -> dict[str, Any]:
        """Everything but camera and lamps, as the renderer's own objects: they are kept when these are exchanged."""
        mi = self.mi
        description: dict[str, Any] = {"type": "scene"}
        groups: dict[int, dict[str, Any]] = {group: {"type": "shapegroup"} for group in self.groups}
        for k, body in enumerate(self.described.bodies):
            mesh = self._mesh(f"body{k}", body)
            if body.group < 0 or k in self.by_points:
                description[f"body{k}"] = mesh
            else:
                groups[body.group][f"body{k}"] = mesh
        for group, shapes in groups.items():
            if len(shapes) > 1:
                description[f"group{group}"] = mi.load_dict({**shapes, "id": f"group{group}"})
        environment = np.ascontiguousarray(self.described.environment, np.float32)
        # its own y axis is up, ours is z
        description["environment"] = mi.load_dict(
            {
                "type": "envmap",
                "bitmap": mi.Bitmap(environment),
                "to_world": mi.ScalarTransform4f().rotate([1, 0, 0], 90),
            }
        )
        return description

    def _made_glow(self, moment: Moment, *, cover: bool) -> Any:
        """What gives light of its own, seen by itself: all else hides it. As ``cover`` it is 1 where it is seen.

        The tracer hides what gives light from the camera, as its lamps and surroundings are no part of the picture.
        """
        description: dict[str, Any] = {"type": "scene", "integrator": {"type": "path", "max_depth": 1}}
        description["camera"] = self._sensor(moment)
        for k, body in enumerate(self.described.bodies):
            glows = body.surface.emission is not None
            if not glows and (body.surface.transmission > 0 or body.surface.opacity < 1 or body.fades):
                continue
            black = Surface(np.zeros(3, np.float32), index=1.0, emission=None)
            if glows:
                black = msgspec.structs.replace(
                    black, emission=np.ones(3, np.float32) if cover else body.surface.emission
                )
            matrix = _metres(moment.groups.get(body.group, np.eye(4)))
            points = (body.points @ matrix[:3, :3].T + matrix[:3, 3]).astype(np.float32)
            description[f"body{k}"] = self._mesh(f"body{k}", Body(-1, points, None, None, body.triangles, black))
        scene = self.mi.load_dict(description)
        parameters = self.mi.traverse(scene)
        self._aim(parameters, moment)
        parameters.update()
        return scene

    def _glow_at(self, moment: Moment, count: int) -> tuple[Any, Any]:
        """The light (h, w, 3) of what gives light of its own at a moment, and what of each pixel (h, w, 1) it covers."""
        light, share = (
            np.array(self.mi.render(self._made_glow(moment, cover=cover), spp=count), np.float64)[..., :3]
            for cover in (False, True)
        )
        return light, np.clip(share[..., :1], 0.0, 1.0)

    def _mesh(self, name: str, body: Body) -> Any:
        mi = self.mi
        properties = mi.Properties()
        # one for all that are made of the same: each by itself is prepared anew before each picture
        look = look_of(body)
        if look not in self._materials:
            self._materials[look] = mi.load_dict(bsdf_of(body))
        properties["surface"] = self._materials[look]
        if body.surface.emission is not None:
            properties["glow"] = mi.load_dict(glow_of(body.surface))
        mesh = mi.Mesh(
            name,
            vertex_count=len(body.points),
            face_count=len(body.triangles),
            has_vertex_normals=body.normals is not None,
            has_vertex_texcoords=body.uv is not None,
            props=properties,
        )
        parameters = mi.traverse(mesh)
        parameters["vertex_positions"] = np.ascontiguousarray(body.points, np.float32).ravel()
        parameters["faces"] = np.ascontiguousarray(body.triangles, np.uint32).ravel()
        if body.normals is not None:
            parameters["vertex_normals"] = np.ascontiguousarray(body.normals, np.float32).ravel()
        if body.uv is not None:
            parameters["vertex_texcoords"] = np.ascontiguousarray(body.uv, np.float32).ravel()
        parameters.update()
        return mesh

    # a frame

    def _arrange(self, moment: Moment) -> None:
        """Put everything where it is at a moment; only what has changed is told to the renderer."""
        mi = self.mi
        kinds = [(lamp.kind, lamp.size, lamp.half) for lamp in moment.lamps]
        camera = (moment.parallel > 0, _blurs(moment), self._region)
        if self._scene is None or camera != self._camera or kinds != self._lamps:
            self._camera, self._lamps = camera, list(kinds)
            description = dict(self._shapes)
            for group in self.groups:
                if f"group{group}" in description:
                    description[f"moved{group}"] = {"type": "instance", "group": description[f"group{group}"]}
            for k, lamp in enumerate(moment.lamps):
                description[f"lamp{k}"] = self._lamp(lamp)
            description["camera"] = self._sensor(moment)
            description["pinhole"] = self._sensor(msgspec.structs.replace(moment, aperture=0.0))
            description["integrator"] = self._paths
            self._scene = mi.load_dict(description)
            self._parameters = mi.traverse(self._scene)
        parameters = self._parameters
        for group in self.groups:
            key = f"moved{group}.to_world"
            if key in parameters:
                parameters[key] = mi.Transform4f(_metres(moment.groups.get(group, np.eye(4))))
        for k in self.by_points:
            body = self.described.bodies[k]
            matrix = _metres(moment.groups.get(body.group, np.eye(4)))
            if k in self._placed and np.array_equal(self._placed[k], matrix):
                continue
            self._placed[k] = matrix
            moved = body.points @ matrix[:3, :3].T + matrix[:3, 3]
            parameters[f"body{k}.vertex_positions"] = np.ascontiguousarray(moved, np.float32).ravel()
            if body.normals is not None:
                turned = body.normals @ matrix[:3, :3].T
                parameters[f"body{k}.vertex_normals"] = np.ascontiguousarray(turned, np.float32).ravel()
        weights = sampling_weights(self._surfaces, self.described.environment, moment)
        parameters["environment.sampling_weight"] = weights[0]
        for k, lamp in enumerate(moment.lamps):
            self._set_lamp(f"lamp{k}", lamp)
            parameters[f"lamp{k}.{'emitter.' * (lamp.kind == 'area')}sampling_weight"] = weights[k + 1]
        for key, _ in parameters:
            if key.endswith(".opacity.value"):
                self._set_opacity(key, moment)
        self._aim(parameters, moment)
        parameters.update()
        self._light, self._guides = Wavefront(self._paths), Wavefront(self._firsts)

    def _aim(self, parameters: Any, moment: Moment) -> None:
        """Point the cameras as a moment says."""
        stands = _looking(moment)
        if moment.parallel > 0:
            stands = stands @ np.diag([*[0.5 * moment.parallel * self._aspect] * 2, 1.0, 1.0])
        for camera in ("camera", "pinhole"):
            if f"{camera}.to_world" not in parameters:
                continue
            parameters[f"{camera}.to_world"] = self.mi.Transform4f(stands)
            if moment.parallel == 0:
                parameters[f"{camera}.x_fov"] = _across(moment.angle, self._aspect)
        if _blurs(moment):
            parameters["camera.aperture_radius"] = float(moment.aperture)
            parameters["camera.focus_distance"] = float(moment.focus)

    @property
    def _aspect(self) -> float:
        return self.described.width / self.described.height

    def _set_opacity(self, key: str, moment: Moment) -> None:
        number = next((int(part[4:]) for part in key.split(".") if part.startswith("body")), -1)
        if number >= 0:
            body = self.described.bodies[number]
            self._parameters[key] = float(body.surface.opacity * moment.faint.get(body.fades, 1.0))

    def _sensor(self, moment: Moment) -> dict[str, Any]:
        film: dict[str, Any] = {
            "type": "hdrfilm",
            "width": self.described.width,
            "height": self.described.height,
            "pixel_format": "rgba",
            "component_format": "float32",
            "rfilter": {"type": "box"},
        }
        if self._region is not None:
            left, top, right, bottom = self._region
            film |= {
                "crop_offset_x": left,
                "crop_offset_y": top,
                "crop_width": right - left,
                "crop_height": bottom - top,
            }
        # it spreads the samples of a pixel evenly, which thin edges need most
        common = {"film": film, "sampler": {"type": "multijitter"}, "near_clip": 0.001, "far_clip": 1e4}
        if moment.parallel > 0:
            return {"type": "orthographic", **common}
        if _blurs(moment):
            return {"type": "thinlens", "fov": 40.0, "aperture_radius": 0.01, "focus_distance": 1.0, **common}
        return {"type": "perspective", "fov": 40.0, **common}

    def _lamp(self, lamp: Lamp) -> dict[str, Any]:
        strength = {"type": "rgb", "value": [1.0, 1.0, 1.0]}
        if lamp.kind == "point":
            return {"type": "point", "position": [0.0, 0.0, 0.0], "intensity": strength}
        if lamp.kind == "spot":
            return {
                "type": "spot",
                "intensity": strength,
                "cutoff_angle": float(lamp.half),
                "beam_width": 0.75 * float(lamp.half),
            }
        if lamp.kind == "sun":
            return {"type": "directional", "irradiance": strength}
        return {"type": "rectangle", "flip_normals": False, "emitter": {"type": "area", "radiance": strength}}

    def _set_lamp(self, name: str, lamp: Lamp) -> None:
        mi, parameters = self.mi, self._parameters
        value = mi.Color3f([float(v) for v in lamp.strength])
        stand = mi.Transform4f(_facing(lamp.place, lamp.target))
        if lamp.kind == "point":
            parameters[f"{name}.position"] = mi.Point3f([float(v) for v in lamp.place])
            parameters[f"{name}.intensity.value"] = value
        elif lamp.kind == "spot":
            parameters[f"{name}.to_world"] = stand
            parameters[f"{name}.intensity.value"] = value
        elif lamp.kind == "sun":
            parameters[f"{name}.to_world"] = stand
            parameters[f"{name}.irradiance.value"] = value
        else:
            wide, high = lamp.size
            parameters[f"{name}.to_world"] = mi.Transform4f(
                _facing(lamp.place, lamp.target) @ np.diag([0.5 * wide, 0.5 * high, 1.0, 1.0])
            )
            parameters[f"{name}.emitter.radiance.value"] = value

    def traced(self, wanted: Wanted, tell: Any) -> Traced:
        """A frame; ``tell`` is told shares done and the picture so far, and says whether to go on."""
        began = time.monotonic()
        kept = self._going_on_from(wanted)
        moments, last, noise = kept.moments, -1, noise_of(kept)
        for which, often in passes(kept, wanted.samples, adaptive=self._adapts(wanted)):
            if which != last:
                self._arrange(moments[which])
                last = which
            if wanted.denoise and which not in kept.guides:
                kept.guides[which] = self._guided(kept, which)
            self._take(kept, which, often, wanted.seed + kept.passes)
            noise = noise_of(kept)
            spent = time.monotonic() - began
            whole = which == len(moments) - 1
            enough = (wanted.seconds and spent > wanted.seconds) or (wanted.noise and noise < wanted.noise)
            share = kept.samples / max(wanted.samples, kept.samples)
            if wanted.seconds:
                share = max(share, min(spent / wanted.seconds, 1.0))
            if (enough and whole) or not tell(share, lambda: picture_of(kept, denoise=False), noise):
                break
        light, cover = picture_of(kept, denoise=wanted.denoise)
        bare = self._bare_cover(wanted) if wanted.bare else None
        spent = time.monotonic() - began
        return Traced(light, cover, round(kept.samples), float(noise), spent, self.variant, bare)

    def _going_on_from(self, wanted: Wanted) -> Taken:
        """What has been taken of a frame that is gone on with, or nothing yet of another."""
        kept = self._kept if wanted.onward else None
        if kept is None or kept.region != wanted.region or len(kept.moments) != len(wanted.moments):
            left, top, right, bottom = wanted.region or (0, 0, self.described.width, self.described.height)
            shape, moments = (bottom - top, right - left), wanted.moments
            # half of them are taken first, by which it is told where the others are needed
            first = wanted.samples // 2 if self._adapts(wanted) else wanted.samples
            kept = nothing_taken(moments, wanted.region, shape, at_once(first, len(moments), shape[0] * shape[1]))
        self._kept, self._region = kept, wanted.region
        return kept

    def _adapts(self, wanted: Wanted) -> bool:
        """Whether samples are taken where they are needed: the slow variant takes whole pictures alone, and noise that stays shall be even."""
        return wanted.denoise and self.variant == FAST

    def _take(self, kept: Taken, which: int, often: Often | None, seed: int) -> None:
        """Take samples of a frame at one of its moments, for which all is arranged: as often as it says for each pixel (h, w), or once."""
        turn = kept.passes % 2
        kept.passes += 1
        often = np.ones(kept.counts.shape[1:], np.int64) if often is None else often
        if self.variant == SLOW:
            taken = np.zeros(kept.sums.shape, np.float32)
            taken[turn] = kept.each * np.array(self.mi.render(self._scene, spp=kept.each, seed=seed))
        else:
            taken = self._light.sums(self._scene, often, 2, kept.each, seed, _lens(kept.moments[which]))
            taken = taken[::-1] if turn else taken
        counts = kept.each * np.stack([often - often // 2, often // 2][:: -1 if turn else 1])
        if self.lit:
            if which not in kept.glows:
                kept.glows[which] = self._glow_at(
                    kept.moments[which], spread_evenly(max(_GLOW // len(kept.moments), 4))
                )
            taken = _under_glow(taken, counts, *kept.glows[which])
        kept.sums += taken
        kept.counts += counts

    def _bare_cover(self, wanted: Wanted) -> Single:
        """What of each pixel (h, w) is covered without what only catches shadows."""
        if self._bare is None:
            left = tuple(body for body in self.described.bodies if not body.catches)
            self._bare = Tracer(msgspec.structs.replace(self.described, bodies=left), slow=self.variant == SLOW)
        other = self._bare
        other._region = wanted.region
        each = spread_evenly(max(1, round(_EDGES / len(wanted.moments))))
        total: Any = 0.0
        for k, moment in enumerate(wanted.moments):
            other._arrange(moment)
            picture = np.array(self.mi.render(other._scene, spp=each, seed=wanted.seed + k), np.float64)
            if other.lit:
                picture = _under_glow(picture, np.ones(picture.shape[:2]), *other._glow_at(moment, each))
            total = total + picture[..., 3]
        return np.clip(total / len(wanted.moments), 0.0, 1.0).astype(np.float32)

    def _guided(self, kept: Taken, which: int) -> Single:
        """The surfaces' colours and normals (h, w, 6) of a frame at the moment that it is arranged for. By themselves: the library takes three
        times as long to prepare both in one."""
        count = spread_evenly(max(_GUIDED // len(kept.moments), 1))
        if self.variant == SLOW:
            return np.array(self.mi.render(self._scene, integrator=self._firsts, spp=count), np.float32)[..., -6:]
        once = np.ones(kept.counts.shape[1:], np.int64)
        sums = self._guides.sums(self._scene, once, 1, count, 0, _lens(kept.moments[which]))[0]
        return sums[..., -6:] / np.float32(count)


def _placed_by_points(bodies: Sequence[Body], *, every: bool) -> list[int]:
    """The numbers of the bodies whose points are moved themselves: those of ``every`` group, as the slow variant places nothing by a matrix; or
    what gives light, which cannot be placed by one alone, and small groups, as each that is placed by one makes every ray slower."""
    sizes: dict[int, int] = {}
    for body in bodies:
        if body.group >= 0:
            sizes[body.group] = sizes.get(body.group, 0) + len(body.triangles)
    groups = sorted(sizes, key=lambda group: sizes[group])
    moved = np.cumsum([sizes[group] for group in groups])
    small = {group for group, count in zip(groups, moved, strict=True) if every or count <= _MOVED}
    return [
        k
        for k, body in enumerate(bodies)
        if body.group in small or (body.group >= 0 and body.surface.emission is not None)
    ]


def _blurs(moment: Moment) -> bool:
    """Whether what is not in focus is blurred."""
    return moment.aperture > 0 and moment.parallel == 0


def _lens(moment: Moment) -> Lens | None:
    """The lens before the camera, where it blurs."""
    return (_looking(moment), moment.aperture, moment.focus) if _blurs(moment) else None


def _under_glow(picture: Any, counts: Any, light: Any, share: Any) -> Any:
    """Sums (..., h, w, 4) of so many samples (..., h, w), with what gives light of its own over them: its light (h, w, 3) and cover (h, w, 1)."""
    glow = np.concatenate([light, share], axis=-1)
    return counts[..., None] * glow + (1.0 - share) * picture


def _metres(matrix: NDArray[np.floating]) -> NDArray[np.float64]:
    """A rigid matrix in mm as one in metres."""
    metres = np.array(matrix, float)
    metres[:3, 3] *= 1e-3
    return metres


def _looking(moment: Moment) -> NDArray[np.float64]:
    """A camera's matrix: it looks along its own z axis, with y up and x to the left."""
    return _frame(moment.place, moment.target - moment.place, moment.up)


def _facing(place: NDArray[np.floating], target: NDArray[np.floating]) -> NDArray[np.float64]:
    """A matrix at a place whose z axis goes to a target."""
    ahead = np.asarray(target, float) - place
    up = np.array([0.0, 0.0, 1.0]) if np.hypot(*ahead[:2]) > 1e-6 * np.linalg.norm(ahead) else np.array([0.0, 1.0, 0.0])
    return _frame(place, ahead, up)


def _frame(place: NDArray[np.floating], ahead: NDArray[np.floating], up: NDArray[np.floating]) -> NDArray[np.float64]:
    z = np.asarray(ahead, float) / max(float(np.linalg.norm(ahead)), 1e-12)
    x = np.cross(up, z)
    x /= max(float(np.linalg.norm(x)), 1e-12)
    frame = np.eye(4)
    frame[:3, 0], frame[:3, 1], frame[:3, 2], frame[:3, 3] = x, np.cross(z, x), z, place
    return frame


def _across(angle: float, aspect: float) -> float:
    """A vertical angle of view in degrees as the one across."""
    return float(2.0 * np.degrees(np.arctan(np.tan(np.radians(angle) / 2.0) * aspect)))
