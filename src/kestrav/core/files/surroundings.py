"""Pictures of surroundings from files: Radiance .hdr and OpenEXR, all around in equal steps of angle; read by OpenImageIO."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import packed_light
from kestrav.core.document.light_setup import SURROUNDINGS_HEIGHT, Surroundings
from kestrav.core.errors import BadInput

ENDINGS = (".hdr", ".exr")
_MOST = 400_000_000  # pixels


def read_surroundings(file: Path) -> Surroundings:
    """Read what is all around from a picture twice as wide as high. Raises BadInput where it cannot be read or is not such a picture."""
    import OpenImageIO as oiio

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
        found = reader.read_image(0, 0, 0, 3, "float")
        fault = reader.geterror()
    finally:
        reader.close()
    if found is None or fault:
        raise BadInput(f"“{file}” cannot be read; it is damaged")
    light = np.nan_to_num(np.asarray(found, np.float32), nan=0.0, posinf=65504.0, neginf=0.0)
    return Surroundings(file.name, packed_light(_reduced(np.clip(light, 0.0, None))))


def _reduced(light: NDArray[np.float32]) -> NDArray[np.float32]:
    """A picture as one of 256 by 512 pixels, that give as much light."""
    for axis, wanted in ((0, SURROUNDINGS_HEIGHT), (1, 2 * SURROUNDINGS_HEIGHT)):
        count = light.shape[axis]
        if count == wanted:
            continue
        # the light up to each edge of the new pixels, of which each has what lies between two
        sums = np.concatenate(
            [np.zeros_like(light.take([0], axis)), np.cumsum(light, axis=axis, dtype=np.float64)], axis=axis
        )
        edges = np.arange(wanted + 1) / wanted * count
        low = np.minimum(np.floor(edges).astype(int), count - 1)
        share = (edges - low).reshape([-1 if k == axis else 1 for k in range(3)])
        at = sums.take(low, axis) * (1.0 - share) + sums.take(low + 1, axis) * share
        light = np.asarray(np.diff(at, axis=axis) * wanted / count, np.float32)
    return light
