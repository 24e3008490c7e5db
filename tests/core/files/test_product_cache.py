"""A file that was read is read no more while its content and what lies beside it stay the same."""

import time
import zipfile

import numpy as np
import pytest
from shapes import DEMO, box_mesh

from kestrav.core.files import product_cache, product_import
from kestrav.core.files.product_import import read_product
from kestrav.core.files.product_tree import Imported

STEP = DEMO.parent / "trolley.step"


@pytest.fixture
def counted(monkeypatch, tmp_path):
    """How often the CAD kernel was asked; everything is kept, in a folder of its own."""
    asked = []
    own = product_import.tessellated
    monkeypatch.setattr(product_import, "tessellated", lambda *words: asked.append(words[3]) or own(*words))
    monkeypatch.setattr(product_cache, "SECONDS", 0.0)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return asked


def told(imported: Imported):
    meshes = {
        name: (m.vertices.tobytes(), m.triangles.tobytes(), m.faces, m.tints) for name, m in imported.meshes.items()
    }
    numbers = {name: None if m.face_of is None else m.face_of.tolist() for name, m in imported.meshes.items()}
    return imported.parts, meshes, numbers, imported.left_out, imported.chord, imported.declared, imported.unit


def test_the_same_cad_file_again_does_not_ask_the_kernel_and_is_the_same(counted, tmp_path):
    first = read_product(STEP)
    asked = len(counted)
    copy = tmp_path / "copied under another name.step"
    copy.write_bytes(STEP.read_bytes())
    again = read_product(copy)
    assert len(counted) == asked and told(again) == told(first) and again.source == copy.name
    # with other settings it is read anew
    read_product(copy, chord=0.5)
    assert len(counted) == asked + 1
    # and so when what was kept is damaged
    for file in product_cache.home().glob("*.zip"):
        file.write_bytes(file.read_bytes()[:200])
    assert told(read_product(copy)) == told(first) and len(counted) > asked + 1


def test_a_file_beside_it_that_changed_is_seen(counted, tmp_path):
    (tmp_path / "a.obj").write_text("mtllib a.mtl\nusemtl m\nv 0 0 0\nv 9 0 0\nv 0 9 0\nf 1 2 3\n")
    look = tmp_path / "a.mtl"
    colours = []
    for colour in ("1 0 0", "0 0 1", "1 0 0"):
        look.write_text(f"newmtl m\nKd {colour}\n")
        colours.append(read_product(tmp_path / "a.obj", unit=1.0).parts[-1].colour)
    assert colours[0] == colours[2] != colours[1]


def test_what_takes_too_much_room_goes_the_least_lately_used_first(counted, monkeypatch):
    shape = box_mesh(1, 1, 1)
    made = Imported("a", meshes={shape.hash: shape})
    for name in "abc":
        product_cache.keep(name, made, {})
        time.sleep(0.02)
    assert product_cache.recalled("a", "a", lambda name: b"") is not None
    size = next(product_cache.home().glob("a.zip")).stat().st_size
    monkeypatch.setattr(product_cache, "MOST_BYTES", 2 * size)
    time.sleep(0.02)
    product_cache.keep("d", made, {})
    assert sorted(file.stem for file in product_cache.home().glob("*.zip")) == ["a", "d"]


def test_what_cannot_be_kept_is_read_all_the_same(counted, monkeypatch, tmp_path):
    (tmp_path / "file").write_text("")
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "file"))
    (tmp_path / "a.off").write_text("OFF\n3 1 0\n0 0 0\n9 0 0\n0 9 0\n3 0 1 2\n")
    assert len(read_product(tmp_path / "a.off", unit=1.0).meshes) == 1


def test_what_is_kept_is_made_of_plain_numbers(counted):
    shape = box_mesh(1, 2, 3)
    product_cache.keep("a", Imported("a", meshes={shape.hash: shape}), {})
    with zipfile.ZipFile(product_cache.home() / "a.zip") as archive:
        kept = np.frombuffer(archive.read(f"{shape.hash}.vertices")).reshape(-1, 3)
    assert (kept == shape.vertices).all()
