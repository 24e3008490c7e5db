"""The space that a moving thing sweeps: as a solid, with its volume, to be checked against others. Lengths in mm, times in s."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.clearance.between import led_by, swept_bounds
from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import get, new_id, new_name, solids
from kestrav.core.document.records import Part, Project, Requirement, Swept
from kestrav.core.errors import BadInput
from kestrav.core.geometry.distance_fields import Grid, Near, Space, distance_grid, empty_space, node_count
from kestrav.core.geometry.meshes import Mesh, mesh, turned_bounds
from kestrav.core.geometry.transforms import apply
from kestrav.core.kinematics.bounds import WORLD, Points, of_box
from kestrav.core.kinematics.displacement import Displacement
from kestrav.core.kinematics.law_changes import with_changes
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import span
from kestrav.core.parts.solids import solid_mesh, with_meshes, without_unused
from kestrav.core.progress import Progress

Array = NDArray[np.float64]

SIZES = 60  # the default tolerance is this fraction of the thing's size
FINEST, COARSEST = 0.05, 50.0  # mm
MOST_NODES = 30_000_000
_STEP, _FINE_STEP = 1.0, 0.2  # of the tolerance that anything goes between two instants, at first and near the surface
_SOLID = 0.5  # of the tolerance that the nodes of a solid's own distances are apart
_OFTEN = 16  # instants between two tellings of progress
_LOOKS = 240.0  # a second at which it is looked at how far things go
_MOST_LOOKS = 20_000
_MOST_INSTANTS = 50_000
_MARKS = 33  # instants by which a motion is told from others


class SweptVolume(msgspec.Struct, frozen=True):
    """What was swept: the solid in the room's coordinates, how near it is to the truth in mm, over which span, and the names of parts
    that were thickened as they close no volume or are thinner than that."""

    solid: Mesh
    tolerance: float
    thing: str
    start: float
    end: float
    mark: str
    thickened: tuple[str, ...]

    @property
    def volume(self) -> float:
        """The volume in mm³."""
        return self.solid.volume


def swept_space(
    project: Project,
    meshes: Mapping[str, Mesh],
    thing: str,
    start: float = 0.0,
    end: float | None = None,
    tolerance: float | None = None,
    progress: Progress | None = None,
) -> SweptVolume:
    """The space that a thing and all in it sweep from one time to another.

    Signed distances on a grid as fine as the tolerance are taken at instants between which nothing goes farther than a fifth of it near the
    surface, and their least is drawn out at 0: flat faces come out exactly, edges and corners rounded by less than the tolerance. Raises
    BadInput for a thing without geometry, a span outside the project's time, or a tolerance so fine that memory would not hold it.
    """
    until = span(project) if end is None else end
    bodies = solids(project, thing)
    if not bodies:
        raise BadInput(f"“{get(project, thing).name}” has no geometry, so it sweeps nothing")
    if not 0 <= start <= until <= span(project) + 1e-9:
        raise BadInput(
            f"from {start:g} to {until:g} s is not possible; the project lasts from 0 to {span(project):.3f} s"
        )
    motion = Motion(project)
    looks = np.linspace(start, until, int(np.clip((until - start) * _LOOKS, 1, _MOST_LOOKS)) + 1)
    looks = with_changes(motion, looks)
    poses = np.stack([motion.poses(part.id, looks) for part in bodies], axis=1)
    boxes = np.array([solid_mesh(meshes, part).bounds for part in bodies])
    corners = {part.id: of_box(box) for part, box in zip(bodies, boxes, strict=True)}
    seen = turned_bounds(boxes, poses)
    # of all bodies the one that goes farthest in each step: they may move one after another
    moves = Displacement(motion, looks)
    distances = np.max([moves.of(i, WORLD, c).distance for i, c in corners.items()], axis=0)
    swept = seen
    if len(distances):
        swept = swept_bounds(boxes, poses, np.broadcast_to(distances[:, None], (len(distances), len(boxes))))
    bounds = np.array([swept[:, :, 0].min(axis=(0, 1)), swept[:, :, 1].max(axis=(0, 1))])
    size = float(np.linalg.norm(seen[0, :, 1].max(axis=0) - seen[0, :, 0].min(axis=0)))
    travelled = np.concatenate([[0.0], np.cumsum(distances)])
    fine = float(np.clip(size / SIZES, FINEST, COARSEST)) if tolerance is None else tolerance
    _refuse_too_fine(get(project, thing).name, fine, bounds, float(travelled[-1]))
    space = empty_space(bounds, fine)
    grids, thickened = _grids(project, meshes, bodies, _SOLID * fine)

    def put(into: Space | Near, instants: Array, done: float) -> None:
        for k, (leader, grid) in enumerate(grids.items()):
            for number, pose in enumerate(motion.poses(leader, instants)):
                if progress is not None and number % _OFTEN == 0:
                    progress(done + 0.5 * (k + number / len(instants)) / len(grids))
                into.put(grid, pose)

    # coarsely first, and then finely where the surface is
    put(space, _instants(motion, corners, looks, distances, _STEP * fine), 0.0)
    near = space.near()
    put(near, _instants(motion, corners, looks, distances, _FINE_STEP * fine), 0.5)
    space.take(near)
    volume = space.surface()
    if progress is not None:
        progress(1.0)
    solid = mesh(volume.vertices, volume.triangles)
    mark = motion_mark(project, thing, start, until)
    return SweptVolume(solid, fine, thing, start, until, mark, tuple(thickened))


def _grids(
    project: Project, meshes: Mapping[str, Mesh], bodies: list[Part], spacing: float
) -> tuple[dict[str, Grid], list[str]]:
    """The distances of what moves as one, by its leader and in that one's coordinates, and the names of what was thickened."""
    together: dict[str, list[tuple[str, Mesh]]] = {}
    for part, leader, there in zip(bodies, *led_by(project, [part.id for part in bodies]), strict=True):
        shape = solid_mesh(meshes, part)
        seen = Mesh(apply(there, shape.vertices), shape.triangles)
        together.setdefault(leader, []).append((part.name, seen))
    grids, thickened = {}, []
    for leader, mine in together.items():
        grids[leader], thick = distance_grid([shape for _, shape in mine], spacing)
        thickened += [name for (name, _), flag in zip(mine, thick, strict=True) if flag]
    return grids, thickened


def _refuse_too_fine(name: str, fine: float, bounds: Array, travelled: float) -> None:
    if not fine >= FINEST:
        raise BadInput(f"a tolerance of {fine:g} mm is not possible; give {FINEST:g} or more")
    count = node_count(bounds, fine)
    if count > MOST_NODES:
        least = fine * (count / MOST_NODES) ** (1 / 3)
        raise BadInput(f"a tolerance of {fine:g} mm is too fine for a space this large; give {least:.2g} or more")
    if travelled > _MOST_INSTANTS * _FINE_STEP * fine:
        raise BadInput(f"“{name}” goes {travelled:.0f} mm; give a coarser tolerance than {fine:g} mm")


def _instants(motion: Motion, corners: Mapping[str, Points], looks: Array, distances: Array, step: float) -> Array:
    """Times between which nothing goes farther than a step, from looks (n,) between which it goes so far at most (n - 1,)."""
    if not distances.any():
        return looks[:1]
    times, travelled = looks, distances
    for _ in range(_MOST_HALVINGS):
        far = travelled > step
        if not far.any():
            break
        parts = np.minimum(np.ceil(travelled[far] / step), 64).astype(int)
        inner = [np.linspace(a, b, n + 1)[1:-1] for a, b, n in zip(times[:-1][far], times[1:][far], parts, strict=True)]
        times = np.unique(np.concatenate([times, *inner]))
        moves = Displacement(motion, times)
        travelled = np.max([moves.of(i, WORLD, c).distance for i, c in corners.items()], axis=0)
    # of what is nearer than a step to the last one kept nothing more is to be seen, but for what comes after a jump
    far = np.concatenate([[0.0], np.cumsum(travelled)])
    kept, last = [0], 0
    for k in range(1, len(times)):
        if k == len(times) - 1 or far[k + 1] - far[last] > step or times[k] - times[k - 1] < 1e-9:
            kept.append(k)
            last = k
    return times[kept]


_MOST_HALVINGS = 8


def motion_mark(project: Project, thing: str, start: float, end: float) -> str:
    """What tells the motion of a thing and its shape over a span apart from others: 16 hex digits."""
    motion, times = Motion(project), np.linspace(start, max(end, start), _MARKS)
    digest = hashlib.sha256()
    for part in solids(project, thing):
        digest.update(f"{part.geometry} {part.scale}".encode())
        digest.update((np.round(motion.poses(part.id, times), 4) + 0.0).tobytes())
    return digest.hexdigest()[:16]


def add_swept(project: Project, volume: SweptVolume) -> Project:
    """The project with a swept volume as a part, the last one; what sweeps it is not checked against it."""
    name = f"Swept volume of {get(project, volume.thing).name}"
    part = Part(
        new_id(project, Part),
        new_name(project, Part, name),
        geometry=volume.solid.hash,
        colour="#4f9aa3",
        opacity=0.35,
        swept=Swept(volume.thing, volume.start, volume.end, volume.tolerance, volume.mark),
    )
    edited = add(with_meshes(project, [volume.solid]), part)
    alone = Requirement(
        new_id(edited, Requirement),
        new_name(edited, Requirement, f"{get(project, volume.thing).name} in its swept volume"),
        (volume.thing,),
        (part.id,),
        checked=False,
    )
    return add(edited, alone)


def renew_swept(project: Project, part_id: str, volume: SweptVolume) -> Project:
    """The project with a part that is a swept volume as it is now."""
    swept = Swept(volume.thing, volume.start, volume.end, volume.tolerance, volume.mark)
    edited = update(with_meshes(project, [volume.solid]), part_id, geometry=volume.solid.hash, swept=swept)
    return without_unused(edited)


def is_outdated(project: Project, part: Part) -> bool:
    """Whether what a swept volume is of moves otherwise now."""
    swept = part.swept
    assert swept is not None
    return motion_mark(project, swept.thing, swept.start, swept.end) != swept.mark
