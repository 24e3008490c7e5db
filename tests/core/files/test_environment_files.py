"""Pictures of surroundings, written by OpenCV and OpenImageIO."""

import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from kestrav.core.colours import unpacked_light
from kestrav.core.errors import BadInput
from kestrav.core.files.environment_files import read_surroundings


def light(height=96, width=192):
    random = np.random.default_rng(3)
    found = random.random((height, width, 3)).astype(np.float32)
    found[20:24, 40:44] = 500.0
    return found


def write_exr(file, picture):
    writer = oiio.ImageOutput.create(str(file))
    writer.open(str(file), oiio.ImageSpec(picture.shape[1], picture.shape[0], picture.shape[2], "float"))
    writer.write_image(picture)
    writer.close()


@pytest.mark.parametrize("size", [(96, 192), (512, 1024), (300, 600)])
@pytest.mark.parametrize("ending", [".hdr", ".exr"])
def test_a_picture_of_any_size_gives_as_much_light(tmp_path, size, ending):
    file, picture = tmp_path / f"room{ending}", light(*size)
    if ending == ".hdr":
        cv2.imwrite(str(file), picture[..., ::-1])
    else:
        write_exr(file, picture)
    found = read_surroundings(file)
    back = unpacked_light(found.picture, 256)
    assert found.name == file.name
    assert back.mean(axis=(0, 1)) == pytest.approx(picture.mean(axis=(0, 1)), rel=0.01)
    row, column = np.unravel_index(back[..., 0].argmax(), back.shape[:2])
    assert row / 256 == pytest.approx(22 / size[0], abs=0.02) and column / 512 == pytest.approx(42 / size[1], abs=0.02)


def test_what_is_no_number_counts_as_nothing(tmp_path):
    picture = light()
    picture[0, 0], picture[1, 1], picture[2, 2] = np.nan, -5.0, np.inf
    write_exr(tmp_path / "a.exr", picture)
    assert np.isfinite(unpacked_light(read_surroundings(tmp_path / "a.exr").picture, 256)).all()


def test_what_cannot_be_surroundings_says_why(tmp_path):
    for name, told in (("a.png", "give a .hdr or .exr"), ("missing.exr", "not there")):
        with pytest.raises(BadInput, match=told):
            read_surroundings(tmp_path / name)
    write_exr(tmp_path / "square.exr", light(64, 64))
    with pytest.raises(BadInput, match="twice as wide as high"):
        read_surroundings(tmp_path / "square.exr")
    write_exr(tmp_path / "grey.exr", light()[..., :1])
    with pytest.raises(BadInput, match="no colours"):
        read_surroundings(tmp_path / "grey.exr")
    (tmp_path / "broken.hdr").write_bytes(b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 64 +X 128\nabc")
    (tmp_path / "broken.exr").write_bytes(b"\x76\x2f\x31\x01rest")
    for name in ("broken.hdr", "broken.exr"):
        with pytest.raises(BadInput, match=r"damaged|cannot be read"):
            read_surroundings(tmp_path / name)
