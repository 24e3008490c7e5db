"""OpenUSD scenes into node trees: geometry, nesting, instances, looks, and motion of transforms.

Reference: OpenUSD 26.11, schemas UsdGeom and UsdShade (UsdPreviewSurface). A scene is read in a process of its own, as a damaged one can end
that; what it found comes back as plain arrays.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import srgb_hex
from kestrav.core.document.records import Finish
from kestrav.core.document.surfaces import Pictures
from kestrav.core.errors import Damaged
from kestrav.core.files.cad_kernel import read_apart
from kestrav.core.files.gltf_materials import finish_by_name
from kestrav.core.files.product_tree import GREY, Node, NodeMotion, Shape, Upward, clean_name
from kestrav.core.light.exposure import WHITE

Array = NDArray[np.float64]

_READER = "import sys; sys.argv.pop(0); from kestrav.core.files.usd_scene import main; main(*sys.argv)"


class UsdProduct(msgspec.Struct, frozen=True):
    """Node trees, what was left out, one of the scene's units in mm, and its upward axis."""

    roots: list[Node]
    left_out: list[str]
    unit: float
    up: Upward


def read_usd(path: Path, size: int, waiting: Callable[[], None]) -> UsdProduct:
    """Read a scene of ``size`` bytes; ``waiting`` is called again and again meanwhile, and may raise Cancelled. Raises BadInput or ValueError
    saying what is wrong with it."""
    data = read_apart(path, _READER, (str(path.resolve()),), size, waiting, "OpenUSD")
    if not data:
        raise Damaged("it is damaged, or no scene of OpenUSD")
    with np.load(io.BytesIO(data), allow_pickle=False) as arrays:
        header = msgspec.json.decode(arrays["header"].tobytes())
        if header.get("fault"):
            raise Damaged(header["fault"])
        return UsdProduct(_trees(header, arrays), header["left_out"], header["unit"], header["up"])


def _trees(header: dict[str, Any], arrays: Any) -> list[Node]:
    """The nodes of a scene, parents first, as trees."""
    nodes: list[Node] = []
    roots: list[Node] = []
    matrices, points, triangles = arrays["matrices"], arrays["points"], arrays["triangles"]
    for described, matrix in zip(header["nodes"], matrices, strict=True):
        node = Node(described["name"], matrix)
        if described["shape"] is not None:
            node.shapes.append(
                _shape(
                    header,
                    header["shapes"][described["shape"]],
                    described,
                    points,
                    triangles,
                    arrays["tint_of"],
                    arrays["uv"],
                )
            )
        if described["motion"] is not None:
            first, last = described["motion"]
            node.motion = NodeMotion(arrays["times"][first:last], arrays["poses"][first:last])
        (nodes[described["parent"]].children if described["parent"] >= 0 else roots).append(node)
        nodes.append(node)
    for node in reversed(nodes):
        _take_in(node)
    return roots


def _take_in(node: Node) -> None:
    """Let a node that only holds one shape's node be that shape: what has a place and what has a surface are apart in OpenUSD."""
    if node.shapes or len(node.children) != 1:
        return
    (only,) = node.children
    still = np.abs(only.matrix - np.eye(4)).max() < 1e-12
    if only.children or not only.shapes or only.motion is not None or (node.motion is not None and not still):
        return
    node.shapes, node.children = only.shapes, []
    node.matrix = node.matrix @ only.matrix


def _shape(
    header: dict[str, Any],
    shape: dict[str, Any],
    described: dict[str, Any],
    points: Array,
    triangles: Any,
    tint_of: Any,
    uv: Any,
) -> Shape:
    a, b = shape["points"]
    c, d = shape["triangles"]
    looks = header["looks"][described["looks"]] if described["looks"] is not None else None
    colour, opacity, finish = _looks(looks) if looks else (shape["colour"] or GREY, 1.0, None)
    tints = tuple(_looks(header["looks"][k])[0] if k >= 0 else "" for k in shape["tints"])
    return Shape(
        shape["key"],
        points[a:b],
        triangles[c:d],
        colour,
        opacity,
        finish,
        described["name"],
        tints=tints,
        tint_of=tint_of[c:d] if tints else None,
        uv=None if shape["uv"] is None else uv[slice(*shape["uv"])],
    )


def _looks(described: dict[str, Any]) -> tuple[str, float, Finish | None]:
    """sRGB colour (#rrggbb), opacity and finish of a preview surface."""
    colour = srgb_hex(described["colour"]) if described["colour"] else GREY
    name = clean_name(described["name"])
    if not described["surface"]:
        return colour, described["opacity"], finish_by_name(name)
    light = np.array(described["emission"])
    most = float(light.max(initial=0.0))
    finish = Finish(
        "",
        name or "Material",
        metallic=described["metallic"],
        roughness=described["roughness"],
        coat=described["coat"],
        coat_roughness=described["coat_roughness"],
        index=described["index"],
        emission=srgb_hex((light / most).tolist()) if most > 0 else "",
        luminance=min(most, 1e7) if most > 10 else most * WHITE,
        relief=described.get("relief", 0.5),
        contrast=1.0 if described.get("occlusion") else 0.5,
    )
    if described["pictures"] is not None:
        pictures = {**described["pictures"], "factor": srgb_hex(described["pictures"]["factor"])}
        finish = msgspec.structs.replace(finish, pictures=Pictures(**pictures))
    return colour, described["opacity"], finish
