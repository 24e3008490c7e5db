"""How finishes look: plain shading for paint, physically based shading for the rest, their fine structure, and what they mirror."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from typing import Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray
from vtkmodules.util.numpy_support import numpy_to_vtk
from vtkmodules.vtkCommonDataModel import vtkImageData
from vtkmodules.vtkRenderingCore import vtkActor, vtkProperty, vtkRenderer, vtkTexture

from kestrav.core.colours import to_srgb
from kestrav.core.document.light_setup import LightSetup
from kestrav.core.document.surfaces import Finish, Pictures
from kestrav.core.finishes.applied import emitted, under_picture
from kestrav.core.finishes.pictures import decoded
from kestrav.core.finishes.textures import SMOOTHEST, Pixels, structure_pixels
from kestrav.core.light.environments import directions
from kestrav.core.light.response import KNEE
from kestrav.core.light.setups import environment, gains, surround
from kestrav.core.memo import Memo

Style = Literal["solid", "see-through", "wire", "finished"]

_BOX = 0.1  # a third of the tangent of half a soft box's angle
STYLES: tuple[Style, ...] = ("solid", "see-through", "wire", "finished")
SEE_THROUGH = 0.32  # opacity of everything in that style
_CLEAR = 0.25  # opacity of what lets all light through, where light is not bent

_DIMMED, _BRIGHTEST = 0.25, 4.0
_ROOM_HEIGHT = 32  # pixels of the room that metal mirrors; its light is soft anyway


def opacity_of(finish: Finish | None, opacity: float, style: Style) -> float:
    """How opaque a part is in a style."""
    if style == "see-through":
        return min(opacity, SEE_THROUGH)
    if style != "wire" and finish is not None:
        # one sees into what is glazed in a solid style too
        return opacity * (1.0 - (1.0 - _CLEAR) * finish.transmission * (1.0 - finish.metallic))
    return opacity


def apply_finish(
    look: vtkProperty,
    finish: Finish | None,
    opacity: float,
    style: Style,
    *,
    closed: bool,
    cut: bool,
    structured: bool = True,
) -> bool:
    """Give a surface its look; tells whether it needs a room to mirror.

    ``closed`` solids show no back sides, unless one can see through or into them (``cut``). What is not ``structured`` is even.
    """
    known = finish if style == "finished" else None
    shown = opacity_of(finish, opacity, style)
    holes = known is not None and known.texture == "mesh"
    look.SetOpacity(shown)
    look.SetBackfaceCulling(closed and shown >= 1 and not cut and not holes)
    look.RemoveAllTextures()
    if known is None:
        _lay_colour(look, finish)
        look.SetInterpolationToGouraud()
        look.SetAmbient(0.34)
        look.SetDiffuse(0.72)
        look.SetSpecular(0.12)
        look.SetSpecularPower(22)
        return False
    look.SetInterpolationToPBR()
    look.SetAmbient(0.0)
    look.SetDiffuse(1.0)
    look.SetSpecular(1.0)
    look.SetMetallic(known.metallic)
    look.SetRoughness(max(_seen_by_lamps(known.roughness, known.metallic), SMOOTHEST))
    look.SetBaseIOR(known.index)
    look.SetCoatStrength(known.coat)
    look.SetCoatRoughness(max(_seen_by_lamps(known.coat_roughness, 0.0), SMOOTHEST))
    look.SetAnisotropy(known.anisotropy if known.texture else 0.0)
    glow = emitted(known)
    if glow is not None:
        _shine(look, glow)
    if known.pictures is not None:
        _lay(look, known, known.pictures)
    elif known.texture and structured:
        _structure(look, known)
    return True


class SetupLamps(msgspec.Struct, frozen=True):
    """The lamps that stand for a set-up's soft boxes, after the one at the viewer: how many they are, and how many times as strong as they shine
    on plain paint they are for physically based shading."""

    count: int = 2
    gain: float = 1.0


STEADY_LAMPS = SetupLamps()
MIRRORED = 8.0  # how long tangents are where a picture is seen mirrored; elsewhere they are 1


def count_in_light(actor: vtkActor, *, linear: bool, lamps: SetupLamps) -> None:
    """Let an actor's colours be counted as linear light, as physically based shading needs them, with a film's shoulder for what is bright; or
    as they are written."""
    shader = actor.GetShaderProperty()
    if shader.HasFragmentShaderCode():
        return
    wanted = _in_light(lamps) if linear else ()
    text = repr(wanted)
    if shader.GetObjectName() == text:
        return
    shader.SetObjectName(text)
    shader.ClearAllFragmentShaderReplacements()
    for where, first, code in wanted:
        shader.AddFragmentShaderReplacement(where, first, code, True)


@lru_cache(maxsize=16)
def _in_light(lamps: SetupLamps) -> tuple[tuple[str, bool, str], ...]:
    """What is put in place of what in the shaders of physically based surfaces, and whether before VTK's own replacements."""
    return (
        # VTK takes colours at points for linear light; those that people write are sRGB
        (
            "//VTK::Color::Impl",
            True,
            "//VTK::Color::Impl\n  ambientColor = pow(ambientColor, vec3(2.2));\n  diffuseColor = pow(diffuseColor, vec3(2.2));\n",
        ),
        # VTK knows pictures only as they are; seen mirrored, the second direction of their relief goes the other way
        (
            "vec3 bitangentVC = cross(normalVCVSOutput, tangentVC);",
            False,
            f"float handed = length(tangentVCVSOutput) > {MIRRORED / 2:.1f} ? -1.0 : 1.0;\n  tangentVC = normalize(tangentVC);\n"
            "  vec3 bitangentVC = handed * cross(normalVCVSOutput, tangentVC);",
        ),
        # a lamp of strength 1 shows what faces it as white: VTK leaves out the π by which what is reflected evenly is divided. Highlights stay
        # as they are: a lamp without a size stands for a soft box, which is mirrored over a wide field and not as one glare
        ("Lo += radiance * (diffuse + specular)", False, "Lo += radiance * (3.14159265 * diffuse + specular)"),
        # the lamp at the viewer helps plain paint; here it stands for what a floor throws back
        ("radiance = lightColor0;", False, "radiance = 0.2 * lightColor0;"),
        *(
            (f"radiance = lightColor{k};", False, f"radiance = {lamps.gain:.6f} * lightColor{k};")
            for k in range(1, lamps.count + 1)
        ),
        # what is brighter than a screen can show is drawn together as in finished pictures (kestrav.core.light.response)
        (
            "//VTK::Light::Impl",
            False,
            f"""vec3 lit = pow(max(gl_FragData[0].rgb, vec3(0.0)), vec3(2.2));
  vec3 over = max(lit - vec3({KNEE}), vec3(0.0)) / {1.0 - KNEE:.6f};
  lit = mix(lit, {KNEE} + {1.0 - KNEE:.6f} * over / (1.0 + over), step(vec3({KNEE}), lit));
  gl_FragData[0].rgb = pow(lit, vec3(1.0 / 2.2));
  //VTK::Light::Impl
""",
        ),
    )


def _shine(look: vtkProperty, glow: NDArray[np.float64]) -> None:
    """Let a surface give light of its own: a texture of one colour, as the renderer has it by textures only."""
    even = np.tile(np.rint(255 * to_srgb(glow)).astype(np.uint8), (2, 2, 1))
    look.SetEmissiveTexture(_texture(_image(even), colours=True))
    look.SetEmissiveFactor(1.0, 1.0, 1.0)


def _lay(look: vtkProperty, finish: Finish, pictures: Pictures) -> None:
    """Lay a finish's pictures on a surface, as glTF 2.0, 3.9, has them."""
    if pictures.colour:
        look.SetBaseColorTexture(_kept_texture(pictures.colour, colours=True))
        look.SetBackfaceCulling(look.GetBackfaceCulling() and decoded(pictures.colour).shape[2] == 3)
    if pictures.normal and finish.relief > 0:
        look.SetNormalTexture(_kept_texture(pictures.normal))
        look.SetNormalScale(finish.relief)
    if pictures.surface:
        look.SetORMTexture(_kept_texture(pictures.surface))
        look.SetOcclusionStrength(finish.contrast)
        look.SetRoughness(max(finish.roughness, SMOOTHEST))
    glow = emitted(finish)
    if glow is not None and pictures.emission:
        look.SetEmissiveTexture(_kept_texture(pictures.emission, colours=True))
        look.SetEmissiveFactor(*(float(v) for v in glow))


def _lay_colour(look: vtkProperty, finish: Finish | None) -> None:
    """Show a finish's picture of its base colour where shading is plain; elsewhere it has that by its colour at points."""
    if finish is not None and finish.pictures is not None and under_picture(finish):
        look.SetTexture("picture", _kept_texture(finish.pictures.colour))


def _kept_texture(text: str, *, colours: bool = False) -> vtkTexture:
    return _texture(_kept_image(text), colours=colours)


_structure_images: Memo[vtkImageData] = Memo(3 * 64)


def _structure_image(values: Pixels) -> vtkImageData:
    """A picture of a structure as VTK has it, once for all surfaces."""
    return _structure_images.get((values,), lambda: _image(values))


def _structure(look: vtkProperty, finish: Finish) -> None:
    """Give a surface its fine structure."""
    shade, normals, parts = structure_pixels(finish)
    look.SetBaseColorTexture(_texture(_structure_image(shade), colours=True))
    look.SetNormalTexture(_texture(_structure_image(normals)))
    look.SetNormalScale(finish.relief)
    look.SetORMTexture(_texture(_structure_image(parts)))
    # the texture holds the values themselves, so nothing is taken off them again
    look.SetMetallic(1.0)
    look.SetRoughness(1.0)


@lru_cache(maxsize=48)
def _kept_image(text: str) -> vtkImageData:
    """A kept picture as VTK has it, once for all surfaces that it lies on."""
    return _image(decoded(text))


def _image(values: Pixels) -> vtkImageData:
    """Pixels (h, w, 3 or 4), the first row at v = 0, as VTK has them."""
    height, width, channels = values.shape
    image = vtkImageData()
    image.SetDimensions(width, height, 1)
    image.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(values.reshape(-1, channels)), deep=True))
    return image


def _texture(image: vtkImageData, *, colours: bool = False) -> vtkTexture:
    texture = vtkTexture()
    texture.SetInputData(image)
    texture.SetUseSRGBColorSpace(colours)
    texture.MipmapOn()
    texture.InterpolateOn()
    texture.RepeatOn()
    # software renderers never end with it in some pictures (seen with Mesa 22.3 at 2560 × 1440)
    texture.SetMaximumAnisotropicFiltering(1.0)
    texture.SetColorModeToDirectScalars()
    return texture


def apply_flat_finish(look: vtkProperty, finish: Finish | None, opacity: float, *, closed: bool, cut: bool) -> None:
    """Give a surface the flat tones of a technical picture: mostly its own colour, with little light and no gloss."""
    shown = opacity_of(finish, opacity, "finished")
    look.SetOpacity(shown)
    look.SetBackfaceCulling(closed and shown >= 1 and not cut)
    look.RemoveAllTextures()
    _lay_colour(look, finish)
    look.SetInterpolationToGouraud()
    look.SetAmbient(0.66)
    look.SetDiffuse(0.4)
    look.SetSpecular(0.0)


def _seen_by_lamps(roughness: float, metallic: float) -> float:
    """The roughness at which a lamp without a size makes as wide a highlight as a soft box; of metal it is what it mirrors that counts.

    B. Karis, "Real Shading in Unreal Engine 4", SIGGRAPH 2013 course: a light's size adds to the squared roughness.
    """
    return float(np.sqrt(min(roughness**2 + _BOX * (1.0 - metallic), 1.0)))


@lru_cache(maxsize=16)
def _name_of(setup: LightSetup) -> str:
    """A short name of a set-up, by which it is known again."""
    return hashlib.sha256(repr(setup).encode()).hexdigest()


def give_room(renderer: vtkRenderer, setup: LightSetup) -> None:
    """Let a renderer's physically based surfaces mirror what is around them in a light set-up."""
    name = _name_of(setup)
    known = renderer.GetEnvironmentTexture()
    if known is not None and known.GetObjectName() == name:
        return
    # the boxes shine as lamps, so what is mirrored of them is dimmed to what a lamp's highlight does not show
    rays = directions(_ROOM_HEIGHT)
    light = surround(setup, rays) + _DIMMED * np.minimum(
        environment(setup, _ROOM_HEIGHT) - surround(setup, rays), _BRIGHTEST
    )
    light = light * gains(setup)
    # its picture begins below, and goes round the other way
    colours = np.ascontiguousarray(light[::-1, ::-1].astype(np.float32))
    image = vtkImageData()
    image.SetDimensions(2 * _ROOM_HEIGHT, _ROOM_HEIGHT, 1)
    image.GetPointData().SetScalars(numpy_to_vtk(np.ascontiguousarray(colours.reshape(-1, 3)), deep=True))
    room = vtkTexture()
    room.SetInputData(image)
    room.MipmapOn()
    room.InterpolateOn()
    room.SetColorModeToDirectScalars()
    room.SetObjectName(name)
    renderer.SetEnvironmentTexture(room, False)
    renderer.SetEnvironmentUp(0.0, 0.0, 1.0)
    renderer.SetEnvironmentRight(1.0, 0.0, 0.0)
    # the OpenGL renderer that it is has more than its base declares
    drawn: Any = renderer
    drawn.GetEnvMapPrefiltered().SetPrefilterMaxSamples(128)
    drawn.GetEnvMapPrefiltered().SetPrefilterLevels(4)
    drawn.GetEnvMapLookupTable().SetLUTSize(128)
    drawn.GetEnvMapLookupTable().SetLUTSamples(128)
    drawn.UseSphericalHarmonicsOn()
    renderer.UseImageBasedLightingOn()
