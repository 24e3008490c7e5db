"""Views packed by meshopt's own encoder come back as they were."""

import subprocess
from pathlib import Path

import numpy as np
import pytest
import trimesh
from test_packed_gltf import file_of

from kestrav.core.files.meshopt import unpacked
from kestrav.core.files.product_import import read_product

ENCODER = Path(__file__).parents[3] / ".third-party" / "meshoptimizer" / "node_modules" / "meshoptimizer"
PACK = """
const { MeshoptEncoder } = await import(process.argv[1]);
const fs = await import("fs");
const [source, target, count, size, mode, bits] = process.argv.slice(2);
await MeshoptEncoder.ready;
let data = new Uint8Array(fs.readFileSync(source));
if (bits) data = MeshoptEncoder.encodeFilterExp(new Float32Array(data.buffer, 0, data.length / 4), +count, +size, +bits);
fs.writeFileSync(target, MeshoptEncoder.encodeGltfBuffer(data, +count, +size, mode, 0));
"""

pytestmark = pytest.mark.skipif(not ENCODER.exists(), reason="meshopt's encoder is not here; make dev fetches it")


@pytest.fixture
def packed(tmp_path):
    def pack(values, mode, bits=""):
        data, count = np.ascontiguousarray(values), len(values)
        source, target = tmp_path / "plain", tmp_path / "packed"
        source.write_bytes(data.tobytes())
        entry = (ENCODER / "meshopt_encoder.js").as_uri()
        words = ["node", "--input-type=module", "-e", PACK, entry, source, target, count, data.nbytes // count]
        subprocess.run([*map(str, words), mode, str(bits)], check=True, capture_output=True)
        return target.read_bytes()

    return pack


BODY = trimesh.creation.icosphere(4)  # 2,562 corners: many blocks, the last one not full


@pytest.mark.parametrize("noise", [0, 1, 40, 30000])
def test_attributes_come_back_to_the_byte(packed, noise):
    steps = np.random.default_rng(1).integers(-noise, noise + 1, BODY.vertices.shape)
    corners = np.zeros((len(BODY.vertices), 4), "<i2")
    corners[:, :3] = np.round(BODY.vertices * 300) + steps
    data = packed(corners, "ATTRIBUTES")
    assert unpacked(data, "ATTRIBUTES", len(corners), 8) == corners.tobytes()


def test_floats_through_the_exponential_filter_are_within_its_bits(packed):
    corners = (BODY.vertices * [1.0, 20.0, 0.01]).astype("<f4")
    data = packed(corners, "ATTRIBUTES", 15)
    found = np.frombuffer(unpacked(data, "ATTRIBUTES", len(corners), 12, "EXPONENTIAL"), "<f4").reshape(-1, 3)
    assert np.abs(found - corners).max(axis=0) == pytest.approx([0, 0, 0], abs=20 * 2.0**-13)
    with pytest.raises(ValueError, match="“SPIRAL” is not known"):
        unpacked(data, "ATTRIBUTES", len(corners), 12, "SPIRAL")


@pytest.mark.parametrize("kind", ["<u2", "<u4"])
@pytest.mark.parametrize("shuffled", [False, True])
def test_triangles_come_back_each_begun_anywhere(packed, kind, shuffled):
    faces = BODY.faces.copy()
    if shuffled:
        faces = np.random.default_rng(2).permutation(faces)
    data = packed(faces.astype(kind).reshape(-1), "TRIANGLES")
    found = np.frombuffer(unpacked(data, "TRIANGLES", faces.size, np.dtype(kind).itemsize), kind).reshape(-1, 3)
    first = [np.stack([np.roll(f, -int(np.argmin(f))) for f in each]) for each in (found, faces)]
    assert (first[0] == first[1]).all()


def test_plain_indices_come_back(packed):
    indices = np.random.default_rng(3).integers(0, 60000, 900).astype("<u4")
    assert unpacked(packed(indices, "INDICES"), "INDICES", 900, 4) == indices.tobytes()


@pytest.mark.parametrize("mode", ["ATTRIBUTES", "TRIANGLES", "INDICES"])
def test_what_is_damaged_is_refused_or_read_and_never_breaks(packed, mode):
    plain = np.arange(900, dtype="<u4")
    data, random = packed(plain, mode), np.random.default_rng(4)
    for cut in range(0, len(data), max(len(data) // 60, 1)):
        broken = bytearray(data[: cut + 1])
        broken[random.integers(len(broken))] ^= 255
        try:
            assert len(unpacked(bytes(broken), mode, 900, 4)) == 3600
        except ValueError as fault:
            assert "packed" in str(fault)
    with pytest.raises(ValueError, match="not known"):
        unpacked(data, "POINTS", 900, 4)


def test_a_product_packed_with_meshopt_is_read(packed, tmp_path):
    ring = trimesh.creation.annulus(0.02, 0.05, 0.03, sections=40)
    parts = [(ring.vertices.astype("<f4"), "ATTRIBUTES", 12), (ring.faces.astype("<u4").reshape(-1), "TRIANGLES", 4)]
    data, views = b"", []
    for values, mode, stride in parts:
        mine = packed(values, mode)
        own = {"buffer": 0, "byteOffset": len(data), "byteLength": len(mine), "byteStride": stride}
        own |= {"count": len(values), "mode": mode}
        plain = {"buffer": 1, "byteLength": values.nbytes}
        views.append({**plain, "extensions": {"EXT_meshopt_compression": own}})
        data += mine + b"\0" * (-len(mine) % 4)
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": len(ring.vertices), "type": "VEC3"},
        {"bufferView": 1, "componentType": 5125, "count": ring.faces.size, "type": "SCALAR"},
    ]
    meshes = [{"name": "Ring", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}]
    file = file_of(tmp_path, meshes, data, views, accessors, extensionsRequired=["EXT_meshopt_compression"])
    placeholder = '{"byteLength": 9000, "extensions": {"EXT_meshopt_compression": {"fallback": true}}}'
    file.write_text(
        file.read_text()
        .replace('"buffers": [', f'"buffers": [{placeholder}, ', 1)
        .replace('"buffer": 0', '"buffer": 9')
    )
    file.write_text(file.read_text().replace('"buffer": 1', '"buffer": 0').replace('"buffer": 9', '"buffer": 1'))
    imported = read_product(file)
    (shape,) = imported.meshes.values()
    assert imported.parts[-1].name == "Ring" and not imported.left_out
    assert shape.watertight and shape.volume == pytest.approx(ring.volume * 1e9, rel=1e-6)
