"""Checks of finishes and of the pictures that lie on them."""

from __future__ import annotations

import base64
import io
import warnings
from functools import lru_cache

from kestrav.core.document.check_values import check_colour, name_of
from kestrav.core.document.fields import check_fields
from kestrav.core.document.surfaces import LARGEST_PICTURE, PICTURE_FORMATS, Finish, Pictures
from kestrav.core.errors import BadInput


def check_finish(finish: Finish) -> None:
    """Raise BadInput when a finish has a value that no surface has."""
    label = name_of(finish)
    check_fields(finish, label)
    for field in ("colour", "sheen", "emission"):
        if getattr(finish, field):
            check_colour(getattr(finish, field), f"the {field} of {label}")
    if finish.pictures is not None:
        _check_pictures(finish.pictures, label)


def _check_pictures(pictures: Pictures, label: str) -> None:
    check_colour(pictures.factor, f"the colour by which pictures are multiplied of {label}")
    for kind in ("colour", "normal", "surface", "emission"):
        text = getattr(pictures, kind)
        if text and not _is_picture(text):
            formats = " or ".join(PICTURE_FORMATS)
            raise BadInput(
                f"the {kind} picture of {label} is no {formats} of at most {LARGEST_PICTURE} pixels a side, or is damaged"
            )


@lru_cache(maxsize=256)
def _is_picture(text: str) -> bool:
    """Whether a text is a picture that a project can keep. Nothing is decoded."""
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            picture = Image.open(io.BytesIO(base64.b64decode(text, validate=True)))
    except Exception:  # of many kinds, whatever a damaged file makes the reader raise
        return False
    return picture.format in PICTURE_FORMATS and max(picture.size) <= LARGEST_PICTURE
