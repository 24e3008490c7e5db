"""Writing single parts as meshes: STL (binary, mm) and GLB (m, as glTF 2.0 has it)."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from kestrav.core.document.lookup import get, solids
from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.files.mesh_entries import to_glb
from kestrav.core.files.writing import refuse_existing, write_whole
from kestrav.core.geometry.meshes import Mesh, joined
from kestrav.core.parts.rest import rest_poses, rows
from kestrav.core.parts.solids import solid_mesh


def write_part(
    project: Project, meshes: Mapping[str, Mesh], part_id: str, target: Path, *, overwrite: bool = False
) -> Path:
    """Write a part, or all solids of an assembly as one mesh, as it stands at rest in the room.

    Raises BadInput for an ending that is not .stl or .glb, a part without geometry, or a file that cannot be written.
    """
    import trimesh
    from trimesh.exchange.stl import export_stl

    ending = target.suffix.lower()
    if ending not in (".stl", ".glb"):
        raise BadInput(f"“{target}” has an ending that is not known: give .stl or .glb")
    refuse_existing(target, force=overwrite)
    bodies = solids(project, part_id)
    if not bodies:
        raise BadInput(f"“{get(project, part_id).name}” has no geometry to write")
    rest, row = rest_poses(project), rows(project)
    whole = joined([solid_mesh(meshes, part).moved(rest[row[part.id]]) for part in bodies])
    if ending == ".glb":
        data = to_glb(whole)
    else:
        body = trimesh.Trimesh(whole.vertices, np.asarray(whole.triangles), process=False)
        data = export_stl(body)
    write_whole(target, data)
    return target
