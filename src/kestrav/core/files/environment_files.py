"""Pictures of surroundings from files: Radiance .hdr and OpenEXR, all around in equal steps of angle; read by OpenImageIO."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from kestrav.core.colours import packed_light
from kestrav.core.document.light_setup import SURROUNDINGS_HEIGHT, Surroundings
from kestrav.core.errors import BadInput

ENDINGS = (".hdr", ".exr")
_MOST = 150_000_000  # pixels, for which there is memory: 16384 by 8192


def read_surroundings(file: Path) -> Surroundings:
    """Read what is all around from a picture twice as wide as high. Raises BadInput where it cannot be read or is not such a picture."""
    import OpenImageIO as oiio
    from skimage import transform

    resize: Any = transform.resize_local_mean  # it tells no types

    if file.suffix.lower() not in ENDINGS:
        raise BadInput(f"“{file}” is no picture of surroundings; give a .hdr or .exr file")
    if not file.is_file():
        raise BadInput(f"“{file}” is not there")
    reader = oiio.ImageInput.open(str(file))
    if reader is None:
        oiio.geterror()
        raise BadInput(f"“{file}” cannot be read as a {file.suffix.lower()} picture; it may be damaged")
    try:
        spec = reader.spec()
        width, height, channels = spec.width, spec.height, spec.nchannels
        if width * height > _MOST:
            raise BadInput(
                f"“{file}” has {width} × {height} pixels, which is too many; {_MOST // 10**6} million are the most"
            )
        if channels < 3:
            raise BadInput(f"“{file}” has no colours")
        if not 1.9 < width / max(height, 1) < 2.1 or height < 16:
            raise BadInput(
                f"“{file}” is {width} × {height} pixels; a picture of all that is around is twice as wide as high"
            )
        pixels = reader.read_image(0, 0, 0, 3, "float")
        fault = reader.geterror()
    finally:
        reader.close()
    if pixels is None or fault:
        raise BadInput(f"“{file}” cannot be read; it is damaged")
    light = np.clip(np.nan_to_num(np.asarray(pixels, np.float32), nan=0.0, posinf=65504.0, neginf=0.0), 0.0, None)
    size = (SURROUNDINGS_HEIGHT, 2 * SURROUNDINGS_HEIGHT)
    return Surroundings(file.name, packed_light(resize(light, size, channel_axis=-1)))
