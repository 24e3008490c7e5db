"""What a surface is to the path tracer: descriptions of its library's own materials."""

from __future__ import annotations

import hashlib
from collections.abc import Hashable
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.render.tracing.description import Body, Single, Surface

_GLOSS = 0.4  # of the looks along a surface's highlight to those all around, where it is no metal: the highlight is faint there
# roughnesses, and by what the even body's colour is multiplied so that a white ball in an even light is as bright as that: the model of the
# renderer sends back more than it gets (measured with it, seen straight on)
_EVEN = (0.1, 0.3, 0.6, 1.0), (0.982, 0.969, 0.957, 0.956)
_NO_FACE = 1.01  # index of refraction below which a face reflects nothing itself
_MIRROR = 0.02  # roughness below which glass is clear


def look_of(body: Body) -> Hashable:
    """What tells surfaces apart: bodies of which it is the same have the same material."""
    values = (
        hashlib.sha256(value.tobytes()).digest() if isinstance(value, np.ndarray) else value
        for value in msgspec.structs.astuple(body.surface)
    )
    return (*values, body.fades)


def bsdf_of(body: Body) -> dict[str, Any]:
    """How a body's surface scatters light, as the renderer's own description."""
    surface = body.surface
    bsdf = _glass(surface) if surface.transmission >= 0.999 else _opaque(surface)
    if 0 < surface.transmission < 0.999:
        bsdf = {"type": "blendbsdf", "weight": float(surface.transmission), "a": bsdf, "b": _glass(surface)}
    if surface.normals is not None:
        bsdf = {"type": "normalmap", "normalmap": _picture(0.5 + 0.5 * surface.normals), "inner": bsdf}
    if surface.transmission == 0:
        bsdf = {"type": "twosided", "inner": bsdf}
    if surface.holes is not None:
        bsdf = {"type": "mask", "opacity": _picture(surface.holes[..., None]), "inner": bsdf}
    if surface.opacity < 1 or body.fades:
        bsdf = {"type": "mask", "opacity": float(surface.opacity), "inner": bsdf}
    return bsdf


def glow_of(surface: Surface) -> dict[str, Any]:
    """The light that a surface gives of its own, as the renderer's description."""
    glow = surface.emission
    assert glow is not None
    even = {"type": "rgb", "value": [float(v) for v in glow]} if glow.ndim == 1 else _picture(glow)
    return {"type": "area", "radiance": even}


def _glass(surface: Surface) -> dict[str, Any]:
    tint = _colour(surface.base)
    common = {"int_ior": float(max(surface.index, 1.0001)), "specular_transmittance": tint}
    if surface.roughness < _MIRROR:
        return {"type": "dielectric", **common}
    return {"type": "roughdielectric", "distribution": "ggx", "alpha": float(surface.roughness) ** 2, **common}


def _opaque(surface: Surface) -> dict[str, Any]:
    even = not isinstance(surface.metallic, np.ndarray)
    if even and surface.metallic == 0 and surface.sheen is None:
        return _paint(surface)
    rough: Any = float(max(surface.roughness, _MIRROR))
    if surface.rough is not None:
        rough = _picture(np.clip(surface.rough, _MIRROR, 1.0)[..., None])
    opaque: dict[str, Any] = {
        "type": "principled",
        "base_color": _colour(surface.base),
        "metallic": float(surface.metallic) if even else _picture(np.asarray(surface.metallic)[..., None]),
        "roughness": rough,
        "eta": float(max(surface.index, 1.01)),
        "anisotropic": float(surface.anisotropy),
    }
    if even and surface.metallic == 0:
        opaque["main_specular_sampling_rate"] = _GLOSS
    if surface.coat > 0:
        opaque["clearcoat"] = float(surface.coat)
        opaque["clearcoat_gloss"] = 1.0 - float(surface.coat_roughness)
    if surface.sheen is not None:
        opaque["sheen"] = float(np.max(surface.sheen))
        opaque["sheen_tint"] = 0.0
    return opaque


def _paint(surface: Surface) -> dict[str, Any]:
    """What is no metal: an even body under a face that reflects as its index of refraction says; no light is lost between the two."""
    colour = _colour(surface.base)
    if surface.index < _NO_FACE:
        return {"type": "diffuse", "reflectance": colour}
    # over what reflects evenly a coat's highlight takes the place of its own
    share = surface.coat if surface.coat_roughness < surface.roughness else 0.0
    rough = surface.coat_roughness * share + surface.roughness * (1.0 - share)
    if rough < _MIRROR and surface.rough is None:
        return {
            "type": "plastic",
            "diffuse_reflectance": colour,
            "int_ior": float(surface.index),
            "nonlinear": False,
        }
    even: Any = float(rough)
    if surface.rough is not None and share == 0:
        even = _picture(np.clip(surface.rough, _MIRROR, 1.0)[..., None])
    whole = _colour(surface.base * np.float32(np.interp(rough, *_EVEN)))
    return {
        "type": "principled",
        "base_color": whole,
        "roughness": even,
        "eta": float(surface.index),
        "main_specular_sampling_rate": _GLOSS,
    }


def _colour(base: Single) -> dict[str, Any]:
    if base.ndim == 1:
        return {"type": "rgb", "value": [float(v) for v in np.clip(base, 0.0, 0.999)]}
    return _picture(np.clip(base, 0.0, 0.999))


def _picture(values: NDArray[np.floating]) -> dict[str, Any]:
    import mitsuba as mi

    # its first row is at v = 0 there too
    return {
        "type": "bitmap",
        "bitmap": mi.Bitmap(np.ascontiguousarray(values, np.float32)),
        "raw": True,
        "wrap_mode": "repeat",
    }
