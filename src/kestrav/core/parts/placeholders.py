"""Simple solids for what is missing, and geometry exchanged in place: baking, reshaping."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray

from kestrav.core.document.edits import update_parts
from kestrav.core.document.lookup import children, fresh_part_ids, get, get_as, new_name, subtree
from kestrav.core.document.records import (
    BoxForm,
    CylinderForm,
    FloorForm,
    Form,
    Part,
    Placement,
    Project,
    SphereForm,
    WallForm,
)
from kestrav.core.document.validation import check_form, validate
from kestrav.core.geometry.faces import Face, vector
from kestrav.core.geometry.meshes import Mesh, mesh
from kestrav.core.geometry.transforms import rigid
from kestrav.core.parts.arranging import linked_with
from kestrav.core.parts.placing import placement
from kestrav.core.parts.rest import placement_matrix
from kestrav.core.parts.solids import solid_mesh, with_meshes, without_unused

Array = NDArray[np.float64]

FORM_NAMES: dict[type, str] = {
    BoxForm: "Box",
    CylinderForm: "Cylinder",
    SphereForm: "Sphere",
    FloorForm: "Floor",
    WallForm: "Wall",
}
_COLOURS: dict[type, str] = {FloorForm: "#d8cfbb", WallForm: "#e6e1d6"}
_CHORD = 0.05  # mm between a round placeholder and its facets


def form_mesh(form: Form) -> Mesh:
    """The mesh of a placeholder with its faces. Raises BadInput for measures that are not above 0."""
    check_form(Part("", FORM_NAMES[type(form)], form=form))
    if isinstance(form, BoxForm):
        return _box((0.0, 0.0, form.height / 2), (form.width, form.depth, form.height))
    if isinstance(form, FloorForm):
        return _box((0.0, 0.0, -form.thickness / 2), (form.width, form.depth, form.thickness))
    if isinstance(form, WallForm):
        return _wall(form)
    radius = form.diameter / 2
    if isinstance(form, CylinderForm):
        import trimesh

        body = trimesh.creation.cylinder(radius, form.height, sections=_sections(radius))
        body.apply_translation((0, 0, form.height / 2))
        faces = (
            Face("cylinder", (0, 0, 0), (0, 0, 1), radius, across=(0, 2 * np.pi), along=(0, form.height)),
            Face("plane", (0, 0, 0), (0, 0, -1), across=(-radius, radius), along=(-radius, radius)),
            Face("plane", (0, 0, form.height), (0, 0, 1), across=(-radius, radius), along=(-radius, radius)),
        )
        level = body.face_normals[:, 2]
        return mesh(body.vertices, body.faces, faces, np.where(level > 0.5, 2, np.where(level < -0.5, 1, 0)))
    import trimesh

    ball = trimesh.creation.uv_sphere(radius, count=[_sections(radius) // 2, _sections(radius)])
    ball.apply_translation((0, 0, radius))
    face = Face("sphere", (0, 0, radius), radius=radius, across=(0, 2 * np.pi), along=(-np.pi / 2, np.pi / 2))
    return mesh(ball.vertices, ball.faces, (face,), np.zeros(len(ball.faces), np.int32))


def _sections(radius: float) -> int:
    """Facets around, so that they stay within the chord; in fours."""
    angle = 2.0 * np.arccos(max(1.0 - _CHORD / max(radius, _CHORD), 0.0))
    return int(np.clip(4 * np.ceil(2 * np.pi / max(angle, 1e-3) / 4), 24, 512))


def _box(middle: tuple[float, float, float], size: tuple[float, float, float]) -> Mesh:
    import trimesh

    body = trimesh.creation.box(size, transform=rigid(np.eye(3), middle))
    return _with_planes(np.asarray(body.vertices, float), np.asarray(body.faces, np.int64))


def _wall(form: WallForm) -> Mesh:
    """A wall as one closed solid: a grid of cells without the opening's, and the sides between full and empty."""
    x = np.unique([0.0, form.offset, form.offset + form.opening_width, form.length])
    z = np.unique([0.0, form.sill, form.sill + form.opening_height, form.height])
    half = form.thickness / 2
    middle_x, middle_z = 0.5 * (x[:-1] + x[1:]), 0.5 * (z[:-1] + z[1:])
    inside = (middle_x > form.offset) & (middle_x < form.offset + form.opening_width)
    open_z = (middle_z > form.sill) & (middle_z < form.sill + form.opening_height)
    full = ~(inside[:, None] & open_z[None, :])
    ring = np.pad(full, 1)
    quads: list[list[list[float]]] = []
    for i, k in np.argwhere(full):
        x0, x1, z0, z1 = x[i], x[i + 1], z[k], z[k + 1]
        quads.append([[x0, -half, z0], [x1, -half, z0], [x1, -half, z1], [x0, -half, z1]])
        quads.append([[x1, half, z0], [x0, half, z0], [x0, half, z1], [x1, half, z1]])
        if not ring[i, k + 1]:
            quads.append([[x0, half, z0], [x0, -half, z0], [x0, -half, z1], [x0, half, z1]])
        if not ring[i + 2, k + 1]:
            quads.append([[x1, -half, z0], [x1, half, z0], [x1, half, z1], [x1, -half, z1]])
        if not ring[i + 1, k]:
            quads.append([[x0, half, z0], [x1, half, z0], [x1, -half, z0], [x0, -half, z0]])
        if not ring[i + 1, k + 2]:
            quads.append([[x0, -half, z1], [x1, -half, z1], [x1, half, z1], [x0, half, z1]])
    corners = np.array(quads, float).reshape(-1, 3)
    vertices, numbers = np.unique(np.round(corners, 6), axis=0, return_inverse=True)
    sides = numbers.reshape(-1, 4)
    return _with_planes(vertices, np.concatenate([sides[:, [0, 1, 2]], sides[:, [0, 2, 3]]]))


def _with_planes(vertices: Array, triangles: NDArray[np.int64]) -> Mesh:
    """A flat-sided mesh with its planes."""
    a, b, c = (vertices[triangles[:, k]] for k in range(3))
    normals = np.cross(b - a, c - a)
    normals /= np.linalg.norm(normals, axis=1)[:, None]
    heights = np.einsum("ij,ij->i", normals, a)
    planes, first, of = np.unique(
        np.round(np.column_stack([normals, heights]), 5), axis=0, return_index=True, return_inverse=True
    )
    faces = tuple(Face("plane", vector(a[i]), vector(normals[i])) for i in first[: len(planes)])
    return mesh(vertices, triangles, faces, of.ravel().astype(np.int32))


def add_form(project: Project, form: Form, at: ArrayLike = (0.0, 0.0, 0.0)) -> tuple[Project, Mesh]:
    """The project with a placeholder standing at a point, and its mesh; the part is the last one."""
    shape = form_mesh(form)
    part = Part(
        fresh_part_ids(project, 1)[0],
        new_name(project, Part, FORM_NAMES[type(form)]),
        placement=Placement(vector(at)),
        geometry=shape.hash,
        colour=_COLOURS.get(type(form), "#b9b3a4"),
        form=form,
    )
    project = with_meshes(project, [shape])
    return validate(msgspec.structs.replace(project, parts=(*project.parts, part))), shape


def reshape(project: Project, part_id: str, form: Form) -> tuple[Project, Mesh]:
    """The project with a placeholder, and what is linked to it, given other measures; and the new mesh."""
    shape = form_mesh(form)
    return exchange(project, part_id, shape, form=form), shape


def exchange(project: Project, part_id: str, shape: Mesh, **fields: Any) -> Project:
    """The project with the geometry of a solid, and of what is linked to it, exchanged."""
    project = with_meshes(project, [shape])
    changes = {one: {"geometry": shape.hash, **fields} for one in linked_with(project, [part_id])}
    return without_unused(update_parts(project, changes))


def bake_scales(
    project: Project, shapes: Mapping[tuple[str, tuple[float, float, float]], Mesh], part_id: str
) -> Project:
    """The project with the scale of every solid in a part put into its geometry.

    ``shapes`` are the scaled meshes by geometry and scale; solids that they do not have are left as they are.
    """
    changes: dict[str, dict[str, Any]] = {}
    meshes_made: list[Mesh] = []
    for inner in subtree(project, part_id):
        part = get(project, inner)
        shape = shapes.get((part.geometry or "", part.scale)) if isinstance(part, Part) else None
        if shape is not None:
            changes[inner] = {"geometry": shape.hash, "scale": (1.0, 1.0, 1.0), "link": "", "form": None}
            meshes_made.append(shape)
    return without_unused(update_parts(with_meshes(project, meshes_made), changes))


def bake(project: Project, meshes: Mapping[str, Mesh], part_id: str) -> tuple[Project, list[Mesh]]:
    """The project with a part's scale and turn put into its geometry, nothing moving in space; and the new meshes.

    A solid gets a mesh of its own and stands unturned in its assembly. An assembly hands its turn down to its
    children and the scale of every solid in it is baked.
    """
    part = get_as(project, part_id, Part)
    meshes_made: list[Mesh] = []
    changes: dict[str, dict[str, Any]] = {}
    turn = np.eye(4)
    turn[:3, :3] = placement_matrix(part.placement)[:3, :3]
    if part.geometry is None:
        for child in children(project, part_id):
            changes[child.id] = {"placement": placement(turn @ placement_matrix(child.placement))}
    for inner in subtree(project, part_id):
        record = get_as(project, inner, Part)
        own = turn if inner == part_id else np.eye(4)
        if record.geometry is None or (record.scale == (1.0, 1.0, 1.0) and np.allclose(own, np.eye(4), atol=1e-12)):
            continue
        shape = solid_mesh(meshes, record).moved(own)
        meshes_made.append(shape)
        changes.setdefault(inner, {}).update(geometry=shape.hash, scale=(1.0, 1.0, 1.0), link="", form=None)
    fields = changes.setdefault(part_id, {})
    fields["placement"] = Placement(part.placement.position)
    fields["pivot"] = placement(turn @ placement_matrix(part.pivot))
    project = with_meshes(project, meshes_made)
    return without_unused(update_parts(project, changes)), meshes_made
