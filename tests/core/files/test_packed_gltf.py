"""glTF whose meshes are packed: with Draco by its own encoder, and quantised as the Khronos extension has it."""

import base64
import json

import DracoPy
import numpy as np
import pytest
import trimesh

from kestrav.core.files.product_import import read_product


def file_of(folder, mesh, data, views, accessors, **fields):
    tree = {
        "asset": {"version": "2.0"},
        "scene": 0,
        "scenes": [{"nodes": list(range(len(mesh)))}],
        "nodes": [{"name": one["name"], "mesh": k} for k, one in enumerate(mesh)],
        "meshes": mesh,
        "accessors": accessors,
        "bufferViews": views,
        "buffers": [
            {"byteLength": len(data), "uri": "data:application/octet-stream;base64," + base64.b64encode(data).decode()}
        ],
        **fields,
    }
    file = folder / "packed.gltf"
    file.write_text(json.dumps(tree))
    return file


def draco(name, accessor=0, view=0):
    extension = {"KHR_draco_mesh_compression": {"bufferView": view, "attributes": {"POSITION": 0}}}
    return {
        "name": name,
        "primitives": [{"attributes": {"POSITION": accessor}, "indices": accessor + 1, "extensions": extension}],
    }


def accessors_of(body):
    return [
        {"componentType": 5126, "count": len(body.vertices), "type": "VEC3"},
        {"componentType": 5125, "count": 3 * len(body.faces), "type": "SCALAR"},
    ]


@pytest.fixture
def ring():
    return trimesh.creation.annulus(0.02, 0.05, 0.03, sections=40)


def test_a_mesh_packed_with_draco_is_read(ring, tmp_path):
    data = DracoPy.encode(ring.vertices, ring.faces, quantization_bits=16)
    file = file_of(
        tmp_path,
        [draco("Ring")],
        data,
        [{"buffer": 0, "byteLength": len(data)}],
        accessors_of(ring),
        extensionsRequired=["KHR_draco_mesh_compression"],
        extensionsUsed=["KHR_draco_mesh_compression"],
    )
    imported = read_product(file)
    (shape,) = imported.meshes.values()
    assert imported.parts[-1].name == "Ring" and not imported.left_out
    assert shape.watertight and shape.volume == pytest.approx(ring.volume * 1e9, rel=1e-3)
    assert np.ptp(shape.bounds, axis=0) == pytest.approx([100, 100, 30], abs=0.01)


def test_what_is_damaged_is_told_by_name_and_the_rest_comes_in(ring, tmp_path):
    good = DracoPy.encode(ring.vertices, ring.faces)
    data = good + b"DRACO" + b"\0" * 30
    views = [{"buffer": 0, "byteLength": len(good)}, {"buffer": 0, "byteOffset": len(good), "byteLength": 35}]
    file = file_of(tmp_path, [draco("Ring"), draco("Broken", 2, 1)], data, views, [*accessors_of(ring)] * 2)
    imported = read_product(file)
    assert len(imported.meshes) == 1
    (note,) = imported.left_out
    assert "“Broken”" in note and "damaged" in note


@pytest.mark.parametrize(
    ("kind", "code", "normalized", "most"),
    [("<i2", 5122, True, 32767), ("<u2", 5123, False, None), ("i1", 5120, True, 127)],
)
def test_quantised_positions_are_read_in_their_range(kind, code, normalized, most, tmp_path):
    box = trimesh.creation.box((1.0, 0.5, 0.25))
    whole = np.round(
        box.vertices * (2 * most if normalized else 0) + (0 if normalized else (box.vertices + 0.5) * 60000)
    )
    step = 3 * np.dtype(kind).itemsize + (4 - 3 * np.dtype(kind).itemsize % 4) % 4  # rows are aligned to four bytes
    rows = np.zeros((len(whole), step), "u1")
    rows[:, : 3 * np.dtype(kind).itemsize] = whole.astype(kind).view("u1").reshape(len(whole), -1)
    corners = rows.tobytes()
    data = corners + box.faces.astype("<u4").tobytes()
    views = [
        {"buffer": 0, "byteLength": len(corners), "byteStride": step},
        {"buffer": 0, "byteOffset": len(corners), "byteLength": 12 * len(box.faces)},
    ]
    accessors = [
        {"bufferView": 0, "componentType": code, "normalized": normalized, "count": len(whole), "type": "VEC3"},
        {"bufferView": 1, "componentType": 5125, "count": 3 * len(box.faces), "type": "SCALAR"},
    ]
    mesh = [{"name": "Box", "primitives": [{"attributes": {"POSITION": 0}, "indices": 1}]}]
    file = file_of(tmp_path, mesh, data, views, accessors, extensionsRequired=["KHR_mesh_quantization"])
    (shape,) = read_product(file).meshes.values()
    size = sorted(np.ptp(shape.bounds, axis=0) / 1000.0, reverse=True)
    told = np.array([2.0, 1.0, 0.5]) if normalized else np.array([60000.0, 30000.0, 15000.0])
    if not normalized:
        assert size == pytest.approx(told, rel=1e-4)
    else:
        assert size == pytest.approx(told, rel=0.02)
