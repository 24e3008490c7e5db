"""Views of a glTF file that are packed with meshopt, unpacked by its own library.

Reference: the extension EXT_meshopt_compression of the glTF registry.
"""

from __future__ import annotations

import numpy as np

from kestrav.core.errors import Damaged

EXTENSION = "EXT_meshopt_compression"


def unpacked(data: bytes, mode: str, count: int, stride: int, filtered: str = "NONE") -> bytes:
    """The ``count`` elements of ``stride`` bytes that a view packs in a mode of the extension.

    Raises ValueError when the data is cut short, is not of that mode, or is filtered in a way that is not known.
    """
    # only files that are packed so need it
    import meshoptimizer

    filters = {
        "EXPONENTIAL": meshoptimizer.decode_filter_exp,
        "OCTAHEDRAL": meshoptimizer.decode_filter_oct,
        "QUATERNION": meshoptimizer.decode_filter_quat,
    }
    if mode not in ("ATTRIBUTES", "TRIANGLES", "INDICES"):
        raise Damaged(f"its mode “{mode}” is not known")
    if filtered != "NONE" and filtered not in filters:
        raise Damaged(f"its filter “{filtered}” is not known")
    try:
        if mode == "ATTRIBUTES":
            vertices = meshoptimizer.decode_vertex_buffer(count, stride, data, np.dtype((np.void, stride)))
            vertices = vertices.view(np.uint8)
            if filtered != "NONE":
                vertices = filters[filtered](vertices, count, stride)
        elif mode == "TRIANGLES":
            if count % 3:
                raise Damaged("its packed data is of no whole triangles")
            vertices = meshoptimizer.decode_index_buffer(count, stride, data)
        else:
            vertices = meshoptimizer.decode_index_sequence(count, stride, data)
    except (ValueError, RuntimeError) as fault:
        raise Damaged("its packed data is damaged or cut short") from fault
    # numbers of two bytes come in the first half of what holds numbers of four
    plain: bytes = vertices.tobytes()
    return plain[: count * stride]
