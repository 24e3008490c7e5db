"""The product as VTK actors, posed by arrays; shared by the stage, the lens and the film."""

from __future__ import annotations

from collections import Counter
from collections.abc import Hashable, Iterable, Mapping
from typing import Any

import msgspec
import numpy as np
import vtkmodules.vtkRenderingFreeType
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401  (registers the renderer)
from numpy.typing import NDArray
from vtkmodules.vtkCommonDataModel import vtkPlane
from vtkmodules.vtkRenderingCore import vtkRenderer

from kestrav.core.camera.subject import subject_id
from kestrav.core.document.lookup import get, shown_parts, subtree
from kestrav.core.document.records import LightSetup, Part, Project
from kestrav.core.document.surfaces import Finish
from kestrav.core.finishes.applied import colour_of, finishes_of, laid_on
from kestrav.core.finishes.textures import structure_is_known
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.geometry.transforms import inverse_rigid
from kestrav.core.kinematics.poses import moving_groups
from kestrav.core.parts.rest import rest_poses
from kestrav.core.parts.solids import solid_mesh
from kestrav.render.batches import Batch, DisplayMode, Drawings, Kind, Member, shared_drawing
from kestrav.render.finishes import Style, give_room
from kestrav.render.outlines import AT_ONCE, EACH, Outlines
from kestrav.render.steady_light import relight, setup_lamps

Array = NDArray[np.float64]


# a geometry placed so often that its copies would be more triangles than this is drawn by sharing, if it has so
# many itself that a drawing of its own is worth while
MERGED_AT_MOST, SHARED_FROM = 20_000, 300
BATCH = 200_000  # triangles after which a further batch is begun, so that one is soon made anew
_SAME_PLACE = 1e-7


class _Looks(msgspec.Struct, frozen=True):
    """What the batches were made from."""

    looks: tuple[tuple[object, ...], ...]
    groups: dict[str, int]
    only: frozenset[str] | None
    bright: frozenset[str] | None
    apart: dict[str, str]


class Scene:
    """A project's parts, merged into batches. One scene belongs to one render window.

    A ``patient`` one shows large products at once as they are, and smooth and with edges as :meth:`refine` is called again.
    """

    def __init__(self, other: Scene | None = None, *, patient: bool = False) -> None:
        self._patient = patient
        self.project: Project | None = None
        self.batches: list[Batch] = []
        # what is worked out of the geometry may be another scene's; what is drawn may not
        self._outlines: Outlines = Outlines(coarse=patient) if other is None else other._outlines
        self._shared: dict[tuple[Any, bool, Finish | None], Drawings] = {}
        self._renderers: dict[vtkRenderer, tuple[bool, bool]] = {}  # whether edges are shown, whether it is a stage
        self._faint: dict[vtkRenderer, dict[str, float]] = {}
        self._drawn: _Looks | None = None
        self._parts: object = None
        self._finishes: object = None
        self._poses: Array | None = None
        self._base: Array = np.empty((0, 4, 4))  # rest poses when the batches were made
        self._rest: Array = np.empty((0, 4, 4))
        self._moved: Array = np.empty((0, 4, 4))  # all groups' displacements by the poses
        self._style: Style = "solid"
        self._display_mode = DisplayMode()
        self._setup = LightSetup()
        self._lamps = setup_lamps(self._setup)
        self.cut: vtkPlane | None = None

    def show_in(self, renderer: vtkRenderer, *, edges: bool = True, stage: bool = False) -> None:
        """Show the parts in a renderer, present and future ones, with or without their sharp edges.

        A stage shows the style and the cut of :meth:`set_style`; others, which are pictures, the mode of :meth:`set_display_mode`, to
        which edges belong or not. Said again, it changes whether a stage's edges are shown.
        """
        for batch in self.batches:
            self._withdraw(renderer, batch)
        if renderer not in self._renderers:
            relight(renderer, self._setup)
        self._renderers[renderer] = (edges, stage)
        for batch in self.batches:
            self._present(renderer, batch)

    @property
    def renderers(self) -> list[vtkRenderer]:
        """Those that the parts are shown in."""
        return list(self._renderers)

    def hide_in(self, renderer: vtkRenderer) -> None:
        """Do not show the parts in a renderer any more."""
        if self._renderers.pop(renderer, None) is not None:
            for batch in self.batches:
                self._withdraw(renderer, batch)

    def _present(self, renderer: vtkRenderer, batch: Batch) -> None:
        edges, stage = self._renderers[renderer]
        if not stage:
            for actor in (batch.final, batch.final_edges, batch.caps):
                renderer.AddActor(actor)
            if batch.needs_room:
                give_room(renderer, self._setup)
            return
        renderer.AddActor(batch.stage)
        if self._style == "finished" and batch.kind.finish is not None:
            give_room(renderer, self._setup)
        if edges:
            renderer.AddActor(batch.edges)

    def _withdraw(self, renderer: vtkRenderer, batch: Batch) -> None:
        for actor in (batch.stage, batch.edges, batch.final, batch.final_edges, batch.caps):
            renderer.RemoveActor(actor)

    def set_display_mode(self, mode: DisplayMode) -> None:
        """How pictures show the parts."""
        if mode == self._display_mode:
            return
        self._display_mode = mode
        for batch in self.batches:
            batch.show_final(mode)
        if any(batch.needs_room for batch in self.batches):
            for renderer, (_, stage) in self._renderers.items():
                if not stage:
                    give_room(renderer, self._setup)

    def set_style(self, style: Style, cut: tuple[Array, Array] | None = None) -> None:
        """How stages show the parts, and a plane (point, normal) that cuts away what its normal shows."""
        self._style = style
        self.cut = None
        if cut is not None:
            self.cut = vtkPlane()
            self.cut.SetOrigin(*cut[0])
            self.cut.SetNormal(*(-v for v in cut[1]))
        for batch in self.batches:
            batch.show(style, self.cut)
        if style == "finished" and any(batch.kind.finish is not None for batch in self.batches):
            for renderer, (_, stage) in self._renderers.items():
                if stage:
                    give_room(renderer, self._setup)

    def update(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        only: frozenset[str] | None = None,
        bright: frozenset[str] | None = None,
    ) -> None:
        """Follow an edit; ``only`` are the parts to show when not all are, ``bright`` those that are not faded in stages.

        What moves as one is one batch, so a new rider makes the batches anew. Where parts were only placed
        otherwise, those batches follow, split if need be: a drag draws as fast as a turn of the view.
        """
        groups, apart = moving_groups(project), _apart(project)
        self._relight(project.light_setup)
        drawn = self._drawn
        if drawn is not None and (drawn.groups, drawn.only, drawn.bright, drawn.apart) == (groups, only, bright, apart):
            if self._parts is project.parts and self._finishes is finishes_of(project, project.colourway):
                self.project = project
                return
            if drawn.looks == _looks(project):
                self._follow(project)
                return
        for renderer in self._renderers:
            for batch in self.batches:
                self._withdraw(renderer, batch)
        self.project, self._drawn, self._poses = project, _Looks(_looks(project), groups, only, bright, apart), None
        self._parts, self._finishes = project.parts, finishes_of(project, project.colourway)
        self._base = self._rest = rest_poses(project)
        # what an edit took away may come back; what another project is made of does not
        self._outlines.want_only({_solid_key(part) for part in project.parts}, lambda key: key[0] in meshes)
        for known in [known for known in self._shared if known[0][0] not in meshes]:
            del self._shared[known]
        self.batches = []
        for kind, members in self._sorted(project, meshes, groups, only, bright, apart).items():
            self._make(kind, members, project)
        self._show_new(self.batches)

    def _relight(self, setup: LightSetup) -> None:
        """Follow an edit of the steady light."""
        if setup == self._setup:
            return
        self._setup = setup
        lamps = setup_lamps(setup)
        if self._lamps != lamps:
            self._lamps = lamps
            for batch in self.batches:
                batch.lamps = self._lamps
                batch.show(self._style, self.cut)
                batch.show_final(self._display_mode)
        for renderer in self._renderers:
            relight(renderer, setup)
            if renderer.GetUseImageBasedLighting():
                give_room(renderer, setup)

    def _show_new(self, batches: Iterable[Batch]) -> None:
        for batch in batches:
            batch.show(self._style, self.cut)
            batch.show_final(self._display_mode)
            if not self._patient:
                batch.set_coarse(False)
            for renderer in self._renderers:
                self._present(renderer, batch)

    def _make(self, kind: Kind, members: list[Member], project: Project) -> None:
        """Batches of members of a kind: merged, but for geometry that is placed often and large."""
        weight = Counter[object]()
        for m in members:
            weight[_solid_key(project.parts[m.row])] += len(m.outline.triangles)
        merged = []
        for m in members:
            key = _solid_key(project.parts[m.row])
            size = len(m.outline.triangles)
            often = size >= SHARED_FROM and weight[key] >= max(MERGED_AT_MOST, 4 * size)
            if not often or m.outline.tint_of is not None:
                merged.append(m)
                continue
            self.batches.append(self._batch(kind, [m], self._shared_of(key, m, kind.finish)))
        for group in side_by_side(merged):
            self.batches.append(self._batch(kind, group))

    def _batch(self, kind: Kind, members: list[Member], shared: Drawings | None = None) -> Batch:
        return Batch(kind, members, shared, self._lamps, patient=self._patient)

    def _shared_of(self, key: Hashable, member: Member, finish: Finish | None) -> Drawings:
        """The drawing that parts of one geometry and finish share."""
        known = (
            key,
            member.outline.rough,
            finish if finish is not None and (finish.texture or finish.pictures) else None,
        )
        if known not in self._shared:
            self._shared[known] = shared_drawing(member.outline, finish)
        return self._shared[known]

    @property
    def triangles(self) -> int:
        """How many are drawn when all is drawn whole."""
        return sum(batch.triangles for batch in self.batches)

    def set_coarse(self, coarse: bool) -> None:
        """Draw all coarsely, or whole."""
        for batch in self.batches:
            batch.set_coarse(coarse)

    def set_final_coarse(self, coarse: bool) -> None:
        """Draw coarsely for lens and film alone."""
        for batch in self.batches:
            batch.set_final_coarse(coarse)

    def set_blended(self, blended: bool) -> None:
        """Let what is clear be blended as it comes, or, as it is at first, independently of what is drawn before what."""
        for renderer in self._renderers:
            renderer.SetUseOIT(not blended)

    @property
    def refining(self) -> bool:
        """Whether something is shown rougher than it will be."""
        uneven = [batch for batch in self.batches if not batch.structured]
        wanted = {batch.kind.finish for batch in uneven if batch.kind.finish is not None}
        self._outlines.want_structures(finish for finish in wanted if not structure_is_known(finish))
        # asked, it begins to work
        waiting = self._outlines.waiting
        return waiting or bool(uneven) or any(self._finer(batch) for batch in self.batches)

    def refine(self) -> bool:
        """Show what has been worked out meanwhile; tells whether anything changed."""
        fresh: list[Batch] = []
        for batch in list(self.batches):
            fine = self._finer(batch)
            if not fine:
                continue
            shared = self._shared_of(self._key_of(fine[0]), fine[0], batch.kind.finish) if batch.shared else None
            refined = self._batch(batch.kind, fine, shared)
            refined.offset = batch.offset
            self.batches.remove(batch)
            for renderer in self._renderers:
                self._withdraw(renderer, batch)
            fresh.append(refined)
        self.batches += fresh
        self._show_new(fresh)
        return self._lay_structures() or bool(fresh)

    def _lay_structures(self) -> bool:
        """Show the finishes' structures that have been drawn meanwhile; tells whether there are any."""
        uneven = [(b, b.kind.finish) for b in self.batches if not b.structured]
        drawn = [batch for batch, finish in uneven if finish is not None and structure_is_known(finish)]
        for batch in drawn:
            batch.show(self._style, self.cut)
            batch.show_final(self._display_mode)
        return bool(drawn)

    def _finer(self, batch: Batch) -> list[Member]:
        """A rough batch's members as they have been worked out, once they all are."""
        if not batch.rough:
            return []
        members = [msgspec.structs.replace(m, outline=self._outlines.known[self._key_of(m)]) for m in batch.members]
        return [] if any(m.outline.rough for m in members) else members

    def _key_of(self, member: Member) -> Hashable:
        assert self.project is not None
        return _solid_key(self.project.parts[member.row])

    def _follow(self, project: Project) -> None:
        """Let the batches follow parts that were only placed otherwise."""
        self.project, self._parts = project, project.parts
        self._finishes = finishes_of(project, project.colourway)
        self._rest = rest_poses(project)
        self._displace()
        moved = self._rest @ inverse_rigid(self._base)
        fresh: list[Batch] = []
        for batch in list(self.batches):
            offsets = moved[[m.row for m in batch.members]]
            same = np.abs(offsets - offsets[0]).max(axis=(1, 2)) < _SAME_PLACE
            if same.all():
                batch.offset = offsets[0]
                continue
            self.batches.remove(batch)
            for renderer in self._renderers:
                self._withdraw(renderer, batch)
            left = np.arange(len(offsets))
            while len(left):
                alike = np.abs(offsets[left] - offsets[left[0]]).max(axis=(1, 2)) < _SAME_PLACE
                part = self._batch(batch.kind, [batch.members[i] for i in left[alike]])
                part.offset = offsets[left[0]]
                fresh.append(part)
                left = left[~alike]
        self.batches += fresh
        self._show_new(fresh)

    def _sorted(
        self,
        project: Project,
        meshes: Mapping[str, Mesh],
        groups: Mapping[str, int],
        only: frozenset[str] | None,
        bright: frozenset[str] | None,
        apart: Mapping[str, str],
    ) -> dict[Kind, list[Member]]:
        """The shown parts by what their batch shares."""
        closed, now = {g.hash: g.watertight for g in project.geometry}, self._all_at_once(project)
        kinds: dict[Kind, list[Member]] = {}
        shown, finishes = shown_parts(project), finishes_of(project, project.colourway)
        for row, part in enumerate(project.parts):
            if part.geometry is None or part.id not in shown or (only is not None and part.id not in only):
                continue
            faded = bright is not None and part.id not in bright
            finish = finishes.get(part.id)
            kind = Kind(
                groups.get(part.id, -1),
                part.opacity,
                closed.get(part.geometry, False),
                None if finish is None else laid_on(finish, meshes[part.geometry]),
                faded,
                apart.get(part.id, ""),
            )
            kinds.setdefault(kind, []).append(self._member(meshes, part, row, now=now, finish=kind.finish))
        return kinds

    def _all_at_once(self, project: Project) -> bool:
        """Whether all that is not known yet is worked out before it is shown."""
        if not self._patient:
            return True
        sizes = {g.hash: g.triangles for g in project.geometry}
        fresh = {_solid_key(p): sizes[p.geometry] for p in project.parts if p.geometry is not None}
        return sum(EACH + size for key, size in fresh.items() if key not in self._outlines.known) <= AT_ONCE

    def _member(self, meshes: Mapping[str, Mesh], part: Part, row: int, *, now: bool, finish: Finish | None) -> Member:
        """A part as it stood when the batches were made."""
        key = _solid_key(part)
        # the many small edges of a swept volume say nothing
        outline = self._outlines.known.get(key)
        if outline is None or (outline.rough and now):
            outline = self._outlines.of(key, solid_mesh(meshes, part), edges=part.swept is None, now=now)
        own = finish is None or not finish.colour
        return Member(part.id, row, outline, self._base[row], colour_of(part, finish), own)

    def fade(self, renderer: vtkRenderer, faint: Mapping[str, float]) -> None:
        """Show things that cameras see faint with an opacity in one renderer, until told otherwise."""
        if renderer not in self._faint:
            # actors are shared by renderers, so they are told as each begins to draw, and told back as it has
            listened: Any = renderer  # its stubs know events by number only
            listened.AddObserver("StartEvent", lambda *_: self._show_faint(renderer, begins=True))
            listened.AddObserver("EndEvent", lambda *_: self._show_faint(renderer, begins=False))
        self._faint[renderer] = dict(faint)

    def _show_faint(self, renderer: vtkRenderer, *, begins: bool) -> None:
        faint = self._faint.get(renderer, {})
        for batch in self.batches:
            if batch.kind.apart in faint:
                batch.fade(faint[batch.kind.apart] if begins else 1.0)

    def pose(self, poses: Array) -> None:
        """Place everything by world matrices (parts, 4, 4) of the project last given to :meth:`update`."""
        self._poses = poses
        self._displace()
        for batch in self.batches:
            batch.place(self.displacement(batch.kind.group))

    def displacement(self, group: int, poses: Array | None = None) -> Array:
        """How a group has moved from rest, as a matrix; it is rigid, so its carrying part tells for all.

        It is that of the poses (parts, 4, 4) given, or of those last given to :meth:`pose`.
        """
        if group < 0 or (poses is None and self._poses is None):
            return np.eye(4)
        moved: Array = self._moved[group] if poses is None else poses[group] @ inverse_rigid(self._rest[group])
        return moved

    def _displace(self) -> None:
        if self._poses is not None:
            self._moved = self._poses @ inverse_rigid(self._rest)

    def shown_parts(self) -> list[str]:
        """Ids of the parts that are drawn."""
        return [m.part for batch in self.batches for m in batch.members]

    def outlines_of(self, part_ids: Iterable[str]) -> list[tuple[Batch, list[Member]]]:
        """These parts' members by their batch."""
        wanted = set(part_ids)
        outlines = []
        for batch in self.batches:
            members = [m for m in batch.members if m.part in wanted]
            if members:
                outlines.append((batch, members))
        return outlines

    def matrix_of(self, batch: Batch) -> Array:
        """Where a batch's members are now, from where they were when it was made."""
        matrix: Array = self.displacement(batch.kind.group) @ batch.offset
        return matrix


def side_by_side(members: list[Member]) -> list[list[Member]]:
    """Members in groups of about as many triangles as a batch has, each of what is beside each other, so that what is out of sight is left
    out as a whole."""
    if not members:
        return []
    middles, sizes = np.array([m.middle() for m in members]), np.array([len(m.outline.triangles) for m in members])
    waiting, groups = [np.arange(len(members))], []
    while waiting:
        some = waiting.pop()
        if len(some) == 1 or sizes[some].sum() <= BATCH:
            groups.append([members[k] for k in np.sort(some)])
            continue
        some = some[np.argsort(middles[some, np.argmax(np.ptp(middles[some], axis=0))], kind="stable")]
        half = int(np.clip(np.searchsorted(np.cumsum(sizes[some]), 0.5 * sizes[some].sum()), 1, len(some) - 1))
        waiting += [some[half:], some[:half]]
    return groups


def _looks(project: Project) -> tuple[tuple[object, ...], ...]:
    """What of the parts shows in the batches, but for where they are."""
    finishes = finishes_of(project, project.colourway)
    return tuple(
        (p.id, p.parent, p.geometry, p.colour, p.opacity, p.shown, p.scale, finishes.get(p.id)) for p in project.parts
    )


def _apart(project: Project) -> dict[str, str]:
    """The parts that are shown apart from others: some camera sees them faint at times, or a ghostly shot leaves them solid."""
    things = dict.fromkeys(fade.thing for camera in project.cameras for fade in camera.fades)
    for shot in project.shots:
        if shot.look == "ghost":
            things |= dict.fromkeys(filter(None, [subject_id(get(project, shot.camera))]))  # type: ignore[arg-type]
    return {inner: thing for thing in things for inner in subtree(project, thing)}


def _solid_key(part: Part) -> Hashable:
    return part.geometry, part.scale
