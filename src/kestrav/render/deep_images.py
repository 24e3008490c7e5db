"""Pictures of more than 8 bits as files: PNG of 16 bits, and OpenEXR with linear light and its layers; by OpenImageIO."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.records import Project
from kestrav.core.files.writing import beside
from kestrav.render.formats import EXR, PNG
from kestrav.render.tracing.render_passes import LAYERS

_WHOLE = ("Z", "id.Y")  # that half precision would not hold


def layers_told(project: Project) -> dict[str, str]:
    """What an OpenEXR file says of its layers, with the names of the parts by their numbers."""
    names = {str(row + 1): part.name for row, part in enumerate(project.parts)}
    return {
        "layers": (
            "R G B: linear light in the primaries of sRGB (ITU-R BT.709-6), 1 is white, exposed and white-balanced, by the cover A; "
            "Z: mm along the camera's axis; N: normals in the project's axes; id: numbers of parts, 0 is none; "
            "shadow: share of direct light that other parts hold off"
        ),
        "parts": json.dumps(names, ensure_ascii=False),
    }


def save_layers(picture: NDArray[Any], target: Path, about: Mapping[str, str] | None = None) -> None:
    """Write linear light with its layers (h, w, 10) as OpenEXR, whole or not at all. Raises OSError."""
    import OpenImageIO as oiio

    height, width, count = picture.shape
    spec = oiio.ImageSpec(width, height, count, oiio.FLOAT)
    spec.channelnames = LAYERS
    spec.channelformats = tuple(oiio.TypeDesc(oiio.FLOAT if name in _WHOLE else oiio.HALF) for name in LAYERS)
    spec.attribute("compression", "zip")
    spec.attribute("oiio:ColorSpace", "lin_rec709_scene")
    _write(spec, np.asarray(picture, np.float32), target, about)


def save_deep(picture: NDArray[Any], target: Path, about: Mapping[str, str] | None = None) -> None:
    """Write a picture (h, w, 3 or 4) of 16 bits as PNG, whole or not at all. Raises OSError."""
    import OpenImageIO as oiio

    height, width, count = picture.shape
    spec = oiio.ImageSpec(width, height, count, oiio.UINT16)
    spec.attribute("png:compressionLevel", 3)
    # colours are not by their opacity in a PNG, and are not here
    spec.attribute("oiio:UnassociatedAlpha", 1)
    spec.attribute("oiio:ColorSpace", "srgb_rec709_scene")
    _write(spec, np.asarray(picture, np.uint16), target, about, PNG)


def _write(spec: Any, values: NDArray[Any], target: Path, about: Mapping[str, str] | None, ending: str = EXR) -> None:
    import OpenImageIO as oiio

    for name, text in (about or {}).items():
        spec.attribute({"title": "ImageDescription", "software": "Software"}.get(name, name), text)
    with beside(target) as part:
        # the ending says which format it is
        writer = oiio.ImageOutput.create(f"picture{ending}")
        if writer is None or not writer.open(str(part), spec):
            raise OSError(0, oiio.geterror() if writer is None else writer.geterror())
        done = writer.write_image(values)
        fault = "" if done else writer.geterror()
        if not writer.close() or fault:
            raise OSError(0, fault or writer.geterror())


def made_by(file: Path) -> str:
    """The program that a picture says made it; empty where it says none or cannot be read."""
    import OpenImageIO as oiio

    reader = oiio.ImageInput.open(str(file))
    if reader is None:
        oiio.geterror()
        return ""
    text = str(reader.spec().get_string_attribute("Software"))
    reader.close()
    return text
