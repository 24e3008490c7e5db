"""A project's shown parts as bodies of the path tracer: merged by what they move with and what they are made of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kestrav.core.colours import linear, to_linear
from kestrav.core.document.lookup import shown_parts, subtree
from kestrav.core.document.records import Camera, Part, Project, Section
from kestrav.core.document.surfaces import Finish, Pictures
from kestrav.core.finishes.applied import PAINT, colour_of, emitted, finishes_of, under_picture, without_pictures
from kestrav.core.finishes.pictures import decoded, mapping_of
from kestrav.core.finishes.textures import SMOOTHEST, roughness, shading, texture
from kestrav.core.geometry.cutting import cut_by
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.render.outlines import Outline, outline
from kestrav.render.tracing.description import Body, Surface

Array = NDArray[np.float64]

_Chosen = NDArray[np.int64] | slice
_Member = tuple[int, Array, Outline, _Chosen]

_outlines: Memo[Outline] = Memo(2048)


def bodies_of(
    project: Project,
    meshes: Mapping[str, Mesh],
    camera: Camera,
    cut: tuple[Section, Array] | None = None,
) -> tuple[Body, ...]:
    """The bodies, where they are at rest, in metres; what this camera may see faint is apart. With a ``cut`` they are where they are at
    world poses (parts, 4, 4), cut open, and nothing moves."""
    groups, rest, shown = moving_groups(project), rest_poses(project), shown_parts(project)
    if cut is not None:
        groups, rest = {}, cut[1]
    finishes = finishes_of(project, project.colourway)
    fades = {inner: fade.thing for fade in camera.fades for inner in subtree(project, fade.thing)}
    together: dict[tuple[int, Finish, str, float, str, bool], list[_Member]] = {}
    for row, part in enumerate(project.parts):
        if part.geometry is None or part.id not in shown or part.opacity <= 0 or part.swept is not None:
            continue
        outline = _outline_of(meshes, part) if cut is None else _cut_open(meshes, part, cut[0], rest[row])
        if outline is None:
            continue
        finish = finishes.get(part.id, PAINT)
        if finish.pictures is not None and outline.uv is None:
            finish = without_pictures(finish)
        for seen, colour, mirrored, chosen in _by_looks(outline, part, finish):
            key = (groups.get(part.id, -1), seen, colour, part.opacity, fades.get(part.id, ""), mirrored)
            together.setdefault(key, []).append((row, rest[row], outline, chosen))
    return tuple(
        _merged(group, surface_of(finish, colour, opacity, mirrored=mirrored), finish, fade, members, mirrored=mirrored)
        for (group, finish, colour, opacity, fade, mirrored), members in together.items()
    )


def _by_looks(outline: Outline, part: Part, finish: Finish) -> Iterator[tuple[Finish, str, bool, _Chosen]]:
    """The numbers of the triangles of each finish, colour, and whether pictures are seen mirrored, that an outline shows."""
    if finish.pictures is None or outline.uv is None:
        yield from ((finish, colour, False, chosen) for colour, chosen in _by_colour(outline, part, finish))
        return
    on = outline.uv.astype(float)
    one, two = on[:, 1] - on[:, 0], on[:, 2] - on[:, 0]
    area = one[:, 0] * two[:, 1] - one[:, 1] * two[:, 0]
    beside, bent = ~np.isfinite(area), bool(finish.pictures.normal) and finish.relief > 0
    mirrored = (area < 0) & bent
    plain = without_pictures(finish)
    sorts = ((finish, False, ~mirrored & ~beside), (finish, True, mirrored), (plain, False, beside))
    for seen, turned, there in sorts:
        for colour, chosen in _by_colour(outline, part, seen):
            mine = np.flatnonzero(there) if isinstance(chosen, slice) else chosen[there[chosen]]
            if len(mine):
                yield seen, colour, turned, mine


def _outline_of(meshes: Mapping[str, Mesh], part: Part) -> Outline:
    shape = solid_mesh(meshes, part)
    return _outlines.get((shape,), lambda: outline(shape, edges=False))


def _cut_open(meshes: Mapping[str, Mesh], part: Part, section: Section, pose: Array) -> Outline | None:
    """What is left of a part at a world pose (4, 4); None where nothing is."""
    back, shape = inverse_rigid(pose), solid_mesh(meshes, part)
    normal = back[:3, :3] @ np.asarray(section.normal, float)
    left = cut_by(shape, apply(back, np.asarray(section.point, float)[None])[0], normal)
    if left is shape:
        return _outline_of(meshes, part)
    return None if left is None else outline(left, edges=False)


def _by_colour(outline: Outline, part: Part, finish: Finish) -> list[tuple[str, _Chosen]]:
    """The numbers of the triangles of each colour that an outline shows."""
    own = colour_of(part, finish)
    if under_picture(finish):
        return [(under_picture(finish), slice(None))]
    if outline.tint_of is None or finish.colour:
        return [(own, slice(None))]
    tint = outline.tint_of[outline.triangles[:, 0]]
    return [(outline.tints[t] or own, np.flatnonzero(tint == t)) for t in np.unique(tint)]


def _merged(
    group: int, surface: Surface, finish: Finish, fade: str, members: list[_Member], *, mirrored: bool = False
) -> Body:
    points, normals, uv, triangles, rows = [], [], [], [], []
    count = 0
    for row, matrix, drawn, chosen in members:
        turn, shift = matrix[:3, :3], matrix[:3, 3]
        corners = drawn.triangles[chosen]
        on = None if drawn.uv is None else drawn.uv[chosen]
        if on is not None and mirrored:
            on = on * np.array([-1.0, 1.0], np.float32) + np.array([1.0, 0.0], np.float32)
        mapped = mapping_of(finish, drawn.points, corners, on)
        used, faces = np.unique(corners, return_inverse=True)
        source = used if mapped is None else mapped.source
        faces = faces.reshape(-1, 3) if mapped is None else mapped.triangles
        points.append(1e-3 * (drawn.points[source] @ turn.T + shift))
        if drawn.normals is not None:
            normals.append(drawn.normals[source] @ turn.T)
        if mapped is not None:
            uv.append(mapped.uv)
        triangles.append(faces + count)
        rows.append(np.full(len(faces), row, np.int32))
        count += len(source)
    return Body(
        group,
        np.concatenate(points).astype(np.float32),
        np.concatenate(normals).astype(np.float32) if len(normals) == len(members) else None,
        np.concatenate(uv).astype(np.float32) if uv else None,
        np.concatenate(triangles).astype(np.uint32),
        surface,
        fade,
        np.concatenate(rows),
    )


def surface_of(finish: Finish, colour: str, opacity: float = 1.0, *, mirrored: bool = False) -> Surface:
    """What the path tracer knows of a finish in a colour. It knows pictures only as they are: what is seen ``mirrored`` is the picture turned over."""
    base = linear(colour).astype(np.float32)
    rough = normals = holes = None
    glow = emitted(finish)
    shown: NDArray[np.float32] = base
    metal: NDArray[np.float32] | float = finish.metallic
    if finish.pictures is not None:
        shown, rough, metal, normals, holes = _pictured(finish, finish.pictures, base)
    elif finish.texture:
        fine = texture(finish.texture)
        shown = (shading(finish)[..., None] * base).astype(np.float32)
        rough = roughness(finish).astype(np.float32)
        bent = fine.normals * [finish.relief, finish.relief, 1.0]
        normals = (
            (bent / np.linalg.norm(bent, axis=-1, keepdims=True)).astype(np.float32) if finish.relief > 0 else None
        )
        holes = None if fine.opacity is None else fine.opacity.astype(np.float32)
    if glow is not None and finish.pictures is not None and finish.pictures.emission:
        glow = glow * to_linear(decoded(finish.pictures.emission)[..., :3] / 255.0)
    if mirrored:
        shown, rough, metal, holes, glow = (_turned_over(v) for v in (shown, rough, metal, holes, glow))
        normals = None if normals is None else _turned_over(normals) * np.array([-1.0, 1.0, 1.0], np.float32)
    return Surface(
        shown,
        metal,
        finish.roughness,
        finish.coat,
        finish.coat_roughness,
        finish.transmission * (1.0 - finish.metallic),
        finish.index,
        finish.anisotropy,
        linear(finish.sheen).astype(np.float32) if finish.sheen else None,
        opacity,
        rough,
        normals,
        holes,
        None if glow is None else glow.astype(np.float32),
    )


def _turned_over(values: Any) -> Any:
    """A picture (h, w, ...) from its right to its left; one value or colour as it is."""
    return values[:, ::-1] if isinstance(values, np.ndarray) and values.ndim >= 2 else values


def _pictured(
    finish: Finish, pictures: Pictures, base: NDArray[np.float32]
) -> tuple[
    NDArray[np.float32],
    NDArray[np.float32] | None,
    NDArray[np.float32] | float,
    NDArray[np.float32] | None,
    NDArray[np.float32] | None,
]:
    """Base colour, roughness, metalness, normals and opacity of a finish's pictures; what has none is even."""
    shown, rough, normals, holes = base, None, None, None
    metal: NDArray[np.float32] | float = finish.metallic
    if pictures.colour:
        pixels = decoded(pictures.colour)
        shown = (to_linear(pixels[..., :3] / 255.0) * base).astype(np.float32)
        holes = (pixels[..., 3] / 255.0).astype(np.float32) if pixels.shape[2] == 4 else None
    if pictures.surface:
        parts = decoded(pictures.surface)[..., :3] / 255.0
        rough = np.maximum(finish.roughness * parts[..., 1], SMOOTHEST).astype(np.float32)
        if finish.metallic > 0:
            metal = (finish.metallic * parts[..., 2]).astype(np.float32)
    if pictures.normal and finish.relief > 0:
        bent = (decoded(pictures.normal)[..., :3] / 127.5 - 1.0) * [finish.relief, finish.relief, 1.0]
        size = np.linalg.norm(bent, axis=-1, keepdims=True)
        normals = (bent / np.maximum(size, 1e-6)).astype(np.float32)
    return shown, rough, metal, normals, holes
