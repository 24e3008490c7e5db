"""What the steps of a sheet are: which motions go together, what moves in them, how far it is shown from its seat, from where it is seen.

Lengths in mm, times in s.
"""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from functools import partial

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.comments import SavedView
from kestrav.core.document.edits import add, update
from kestrav.core.document.lookup import find, get, get_as, new_id, new_name, shown_parts, subtree
from kestrav.core.document.records import PoseTrack, Project, Run, Step, StepSheet
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh, box_corners
from kestrav.core.geometry.rays import tree
from kestrav.core.geometry.transforms import apply, inverse_rigid
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import span
from kestrav.core.memo import Memo
from kestrav.core.parts.rest import own_bounds, rows
from kestrav.core.parts.solids import solid_mesh

Array = NDArray[np.float64]
Motion = Run | PoseTrack

_TOGETHER = 1e-6  # s between starts of motions that begin at once
_LOOKS = 120  # times at which it is looked how far a thing has gone
_TRAIL = 60  # points of a trail
_ANGLE = 20.0  # degrees of the view of a step, which is nearly parallel
# three-quarter views: seen along an axis, solids are flat
_ELEVATIONS, _AZIMUTHS = (28.0, 50.0, 12.0), (-45, -25, -65, 25, 45, 65, 115, 135, 155, 205, 225, 245)
_SEEN = 160  # places of what moves, by which it is seen how much of it shows
_ROOM = 0.12  # of the frame, left around what moves


class Shown(msgspec.Struct, frozen=True, eq=False):
    """What a step shows: at a ``time`` in s, the ``names`` of what each of its motions moves, the parts that move with it (ids of solids), and
    the trails (k, 3) in space that these have made since their seats."""

    time: float
    names: tuple[str, ...]
    moved: tuple[tuple[str, ...], ...]
    trails: tuple[Array, ...]

    @property
    def parts(self) -> frozenset[str]:
        """All of the parts that move."""
        return frozenset(part for some in self.moved for part in some)


def motions_of(project: Project) -> tuple[Motion, ...]:
    """Runs and key poses of parts, in the order of their starts."""
    parts = {part.id for part in project.parts}
    motions: list[Motion] = [*project.runs, *project.pose_tracks]
    return tuple(sorted((m for m in motions if m.rider in parts), key=lambda m: (begins(project, m), m.id)))


def begins(project: Project, motion: Motion) -> float:
    """When a motion starts; infinite where it never does."""
    return float(segment_of(project, motion).start)


def ends(project: Project, motion: Motion) -> float:
    """When a motion has come to its end, or the project has."""
    return float(min(segment_of(project, motion).end, max(span(project), 0.0)))


def make_sheet(project: Project, motions: Iterable[str] | None = None, name: str = "Step sheet") -> Project:
    """A project with a new step sheet of motions (all of parts, if none are named): those that start at once are one step.

    Raises BadInput where there is nothing that moves.
    """
    wanted = None if motions is None else set(motions)
    chosen = [m for m in motions_of(project) if (wanted is None or m.id in wanted) and np.isfinite(begins(project, m))]
    if not chosen:
        raise BadInput(
            "a step sheet is made of runs or key poses of parts, and there are none; take something apart first"
        )
    groups: list[list[Motion]] = []
    for motion in chosen:
        if groups and begins(project, motion) - begins(project, groups[-1][0]) < _TOGETHER:
            groups[-1].append(motion)
        else:
            groups.append([motion])
    steps = tuple(Step(tuple(m.id for m in group), titled(project, group)) for group in groups)
    sheet = StepSheet(new_id(project, StepSheet), new_name(project, StepSheet, name), steps)
    return current(add(project, sheet), sheet.id)


def titled(project: Project, motions: Sequence[Motion]) -> str:
    """What a step of some motions is called: what moves, counted."""
    return ", ".join(counted(get(project, m.rider).name for m in motions))


def counted(names: Iterable[str]) -> list[str]:
    """Names with how often they come, as “4 × Screw”."""
    return [name if count == 1 else f"{count} × {name}" for name, count in Counter(names).items()]


# editing


def join(project: Project, sheet_id: str, number: int) -> Project:
    """A step joined with the one after it. Raises BadInput for the last one."""
    sheet = get_as(project, sheet_id, StepSheet)
    if not 0 <= number < len(sheet.steps) - 1:
        raise BadInput("the last step has none after it to be joined with")
    first, second = sheet.steps[number : number + 2]
    edited = msgspec.structs.replace(
        first,
        motions=(*first.motions, *second.motions),
        title=f"{first.title}, {second.title}",
        text="\n".join(filter(None, (first.text, second.text))),
        tools=", ".join(filter(None, (first.tools, second.tools))),
    )
    return update(project, sheet_id, steps=(*sheet.steps[:number], edited, *sheet.steps[number + 2 :]))


def split(project: Project, sheet_id: str, number: int) -> Project:
    """A step of several motions as one for each. Raises BadInput for one of a single motion."""
    sheet = get_as(project, sheet_id, StepSheet)
    step = sheet.steps[number]
    if len(step.motions) < 2:
        raise BadInput("the step shows one motion, which cannot be split")
    parted = tuple(
        msgspec.structs.replace(
            step, motions=(m,), title=titled(project, [_motion(project, m)]), text=step.text if not k else ""
        )
        for k, m in enumerate(step.motions)
    )
    return update(project, sheet_id, steps=(*sheet.steps[:number], *parted, *sheet.steps[number + 1 :]))


def move(project: Project, sheet_id: str, number: int, by: int) -> Project:
    """A step moved forward or back in the sheet. Raises BadInput beyond its ends."""
    sheet = get_as(project, sheet_id, StepSheet)
    if not 0 <= number + by < len(sheet.steps):
        raise BadInput("the step cannot be moved beyond the sheet's ends")
    steps = list(sheet.steps)
    steps.insert(number + by, steps.pop(number))
    return update(project, sheet_id, steps=tuple(steps))


def change(project: Project, sheet_id: str, number: int, **fields: object) -> Project:
    """A step with some fields changed."""
    sheet = get_as(project, sheet_id, StepSheet)
    edited = msgspec.structs.replace(sheet.steps[number], **fields)
    return update(project, sheet_id, steps=(*sheet.steps[:number], edited, *sheet.steps[number + 1 :]))


# being out of date


_SHOWS = (
    "parts", "paths", "runs", "pose_tracks", "attachments", "wheels", "castors", "rotations", "gears", "rods", "balls", "finishes",
    "colourways", "colourway",
)  # fmt: skip
_states: Memo[bytes] = Memo(4 * len(_SHOWS))


def state_of(project: Project) -> str:
    """A mark of all that sheets show: it changes where parts, motions or finishes do."""
    digest = hashlib.sha256()
    for name in _SHOWS:
        value = getattr(project, name)
        # an edit, or a step of a drag, makes one or two of them anew
        digest.update(_states.get((value,), partial(_digest, value), name))
    return digest.hexdigest()[:16]


def _digest(value: object) -> bytes:
    return hashlib.sha256(msgspec.json.encode(value)).digest()


def is_stale(project: Project, sheet: StepSheet) -> bool:
    """Whether the project has changed since the sheet was last looked through."""
    return sheet.made_of != state_of(project)


def current(project: Project, sheet_id: str) -> Project:
    """The sheet marked as looked through with the project as it is."""
    return update(project, sheet_id, made_of=state_of(project))


# what a step shows


def _motion(project: Project, motion_id: str) -> Motion:
    motion = find(project, motion_id)
    if not isinstance(motion, (Run, PoseTrack)):
        raise BadInput(f"the step shows a motion “{motion_id}” that is not there")
    return motion


def shown_in(project: Project, meshes: Mapping[str, Mesh], step: Step) -> Shown:
    """What a step shows, and when: as soon as what moves is as far from its seat as it is to be shown apart, or has come to its end."""
    motions = [_motion(project, m) for m in step.motions]
    shown, row = shown_parts(project), rows(project)
    start = min(begins(project, m) for m in motions)
    last = max(ends(project, m) for m in motions)
    times = np.linspace(start, max(last, start), _LOOKS)
    poses = world_poses(project, times)
    moved, middles, limits = [], [], []
    for motion in motions:
        things = [motion.rider, *(motion.companions if isinstance(motion, Run) else ())]
        solids = tuple(
            part
            for thing in things
            for part in subtree(project, thing)
            if part in shown and project.parts[row[part]].geometry
        )
        boxes = np.concatenate(
            [_corners(project, part, poses[:, row[part]]) for part in solids or (motion.rider,)], axis=1
        )
        middles.append(0.5 * (boxes.min(axis=1) + boxes.max(axis=1)))
        limits.append(step.apart * float(np.linalg.norm(np.ptp(boxes[0], axis=0))))
        moved.append(solids)
    far = [np.linalg.norm(middle - middle[0], axis=1) >= limit for middle, limit in zip(middles, limits, strict=True)]
    # all of them as far as they are to be, each having begun
    reached = np.flatnonzero(np.all(far, axis=0))
    at = int(reached[0]) if len(reached) else len(times) - 1
    trails = []
    for middle in middles:
        trail = middle[: at + 1]
        still = np.flatnonzero(np.linalg.norm(trail - trail[0], axis=1) > 1e-3)
        trail = trail[max(int(still[0]) - 1, 0) :] if len(still) else trail[:1]
        trails.append(trail[np.unique(np.linspace(0, len(trail) - 1, _TRAIL).astype(int))])
    names = tuple(get(project, m.rider).name for m in motions)
    return Shown(float(times[at]), names, tuple(moved), tuple(trails))


def _corners(project: Project, part: str, poses: Array) -> Array:
    """Corners (n, 8, 3) of a part's box at poses (n, 4, 4)."""
    record = project.parts[rows(project)[part]]
    if record.geometry is None:
        return poses[:, None, :3, 3]
    box = box_corners(own_bounds(project, part))
    return np.asarray(np.einsum("nij,kj->nki", poses[:, :3, :3], box) + poses[:, None, :3, 3])


def view_of(project: Project, meshes: Mapping[str, Mesh], step: Step, shown: Shown, aspect: float) -> SavedView:
    """From where a step is seen: its own view, or that of a few from which most of what moves shows and its way is seen across, framed so
    that it fills the picture with its seat."""
    if step.view is not None:
        return step.view
    row = rows(project)
    now = world_poses(project, [shown.time])[0]
    moving = sorted(shown.parts)
    points = np.concatenate([_corners(project, part, now[None, row[part]])[0] for part in moving] or [np.zeros((1, 3))])
    seats = np.concatenate([trail[:1] - trail[-1] for trail in shown.trails] or [np.zeros((1, 3))])
    framed = np.concatenate([points, *(points + seat for seat in seats)])
    moves = [trail[-1] - trail[0] for trail in shown.trails if np.linalg.norm(trail[-1] - trail[0]) > 1e-3]
    solids = [
        k
        for k, part in enumerate(project.parts)
        if part.geometry is not None and part.id in shown_parts(project) and part.opacity >= 0.5
    ]
    spots = places_on(project, meshes, moving, now)
    # what it leaves should show as well
    seats_seen = np.concatenate([spots + seat for seat in seats])[:: max(len(seats), 1)]
    spots = np.concatenate([spots, seats_seen[:: max(len(seats_seen) // max(len(spots) // 2, 1), 1)]])
    best: SavedView | None = None
    most = -1.0
    for elevation in _ELEVATIONS:
        for azimuth in _AZIMUTHS:
            move_there = toward(azimuth, elevation)
            view = framing(framed, move_there, aspect)
            open_ = _open(project, meshes, spots, np.array(view.position), now, solids, shown.parts)
            across = (
                np.mean([np.linalg.norm(np.cross(move / np.linalg.norm(move), move_there)) for move in moves])
                if moves
                else 1.0
            )
            # as engineers draw it: a little from above, and from the front and right rather than from behind
            usual = 0.04 * (elevation == _ELEVATIONS[0]) + 0.1 * float(np.cos(np.radians(azimuth + 45)))
            score = open_ * (0.35 + 0.65 * float(across)) + usual
            if score > most + 1e-9:
                best, most = view, score
    assert best is not None
    return best


def toward(azimuth: float, elevation: float) -> Array:
    """The unit vector (3,) in the direction of an azimuth (from +X to the left) and an elevation in degrees."""
    a, e = np.radians([azimuth, elevation])
    return np.array([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)])


def framing(points: Array, direction: Array, aspect: float, room: float = _ROOM) -> SavedView:
    """A view from a direction (3,) in which points (n, 3) just have room."""
    right = np.cross([0.0, 0.0, 1.0], direction)
    right /= max(float(np.linalg.norm(right)), 1e-9)
    up = np.cross(direction, right)
    x, y, z = points @ right, points @ up, points @ direction
    half = 0.5 * max(float(np.ptp(y)), float(np.ptp(x)) / aspect, 1.0) / (1.0 - 2 * room)
    middle = 0.5 * ((x.min() + x.max()) * right + (y.min() + y.max()) * up + (z.min() + z.max()) * direction)
    away = half / np.tan(np.radians(0.5 * _ANGLE))
    position = middle + away * direction
    return SavedView(tuple(map(float, position)), tuple(map(float, middle)), angle=_ANGLE)  # type: ignore[arg-type]


def places_on(
    project: Project, meshes: Mapping[str, Mesh], parts: Sequence[str], poses: Array, most: int = _SEEN
) -> Array:
    """About ``most`` places (n, 3) in space spread over the surfaces of some parts, under world poses (parts, 4, 4)."""
    row, places = rows(project), []
    for part in parts:
        shape = solid_mesh(meshes, project.parts[row[part]])
        middles = shape.vertices[shape.triangles].mean(axis=1)
        picked = middles[np.unique(np.linspace(0, len(middles) - 1, max(most // len(parts), 4)).astype(int))]
        places.append(apply(poses[row[part]], picked))
    return np.concatenate(places) if places else np.zeros((0, 3))


def _open(
    project: Project,
    meshes: Mapping[str, Mesh],
    spots: Array,
    eye: Array,
    poses: Array,
    solids: Sequence[int],
    moving: frozenset[str],
) -> float:
    """The share of places (n, 3) that nothing but what moves stands before, as seen from a place (3,)."""
    if not len(spots):
        return 1.0
    toward = eye - spots
    toward /= np.maximum(np.linalg.norm(toward, axis=1, keepdims=True), 1e-9)
    free = np.ones(len(spots), bool)
    for k in solids:
        part = project.parts[k]
        if part.id in moving:
            continue
        back = inverse_rigid(poses[k])
        starts = apply(back, spots[free] + 0.5 * toward[free])
        directions = toward[free] @ back[:3, :3].T
        hit = tree(solid_mesh(meshes, part)).first(starts, directions) >= 0
        free[np.flatnonzero(free)[hit]] = False
        if not free.any():
            return 0.0
    return float(free.mean())
