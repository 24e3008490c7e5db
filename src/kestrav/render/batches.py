"""Many parts as few drawings: parts that move as one are merged, each with its colour at its vertices.

A graphics driver spends about as long on a drawing of ten triangles as on one of ten thousand, so an
assembly of hundreds of parts is drawn as a handful of merged bodies.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property

import msgspec
import numpy as np
from numpy.typing import NDArray
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkPolyDataMapper

from kestrav.core.document.records import LookName
from kestrav.core.document.surfaces import Finish
from kestrav.core.finishes.applied import under_picture
from kestrav.core.finishes.box_mapping import Mapped
from kestrav.core.finishes.pictures import mapping_of, tangents
from kestrav.core.finishes.textures import structure_is_known
from kestrav.render.finishes import (
    MIRRORED,
    STEADY_LAMPS,
    SetupLamps,
    Style,
    apply_finish,
    apply_flat_finish,
    count_in_light,
)
from kestrav.render.outlines import Outline
from kestrav.render.palette import CARD, INK, rgb
from kestrav.render.shapes import merged_lines, merged_surface, vtk_matrix

Array = NDArray[np.float64]

CAP_SHADE = 0.8  # of the colour of a part that is cut open
EDGE_SHADE = 0.45  # an edge is the part's own colour, darkened: black lines would shout


WIRE_TRIANGLES, WIRE_EDGES = 0.16, 0.9  # opacities of a picture of wires
FADED, FADED_EDGES = 0.1, 0.16  # opacities of what is not looked at
GHOST, GHOST_EDGES = 0.07, 0.3  # and of what a ghostly picture shows around its mover


class Member(msgspec.Struct, frozen=True):
    """A part within a batch: its row in the project, its outline, its place in the batch, its colour, and whether its faces show those that
    the file gives them."""

    part: str
    row: int
    outline: Outline
    matrix: Array
    colour: str
    tinted: bool = True

    def middle(self) -> Array:
        """The middle of its box (3,), in the batch's coordinates."""
        return np.asarray(self.matrix[:3, :3] @ self.outline.middle + self.matrix[:3, 3])

    def coarse(self) -> Member:
        """The same part as it is drawn coarsely."""
        assert self.outline.coarse is not None
        return msgspec.structs.replace(self, outline=self.outline.coarse)


class Kind(msgspec.Struct, frozen=True):
    """What members of a batch share: the row that carries them (or -1), how they look, whether they are closed, whether a stage
    shows them faded, as other things are looked at, and the thing as which some camera sees them faint."""

    group: int
    opacity: float
    closed: bool
    finish: Finish | None
    faded: bool = False
    apart: str = ""


class DisplayMode(msgspec.Struct, frozen=True):
    """How pictures show the parts: the look, the ids of those that stay solid in a ghostly one, the plane that cuts them open, and the
    width of edges in pixels; and whether the background is ``dark``, so that wires must be light."""

    look: LookName = "studio"
    solid: frozenset[str] = frozenset()
    cut: vtkPlane | None = None
    line: float = 1.0
    dark: bool = False


class Batch:
    """Parts that move as one: a surface and an edge actor for each of two purposes, under one matrix.

    The stage may show a style of its own and a cut; the lens and the film show the mode of a shot, with ``caps`` as what
    a section shows of the inside of closed solids. ``offset``
    is how far the members stand from where they were when the batch was made. ``lamps`` are those of the light set-up. Surfaces are drawn whole or coarse, as
    :meth:`set_coarse` says, and what is drawn is made when it is first needed. A ``patient`` one shows its finish even until the finish's
    structure is known.
    """

    def __init__(
        self,
        kind: Kind,
        members: Sequence[Member],
        shared: Drawings | None = None,
        lamps: SetupLamps = STEADY_LAMPS,
        *,
        patient: bool = False,
    ) -> None:
        self.kind, self.members, self.shared, self.lamps = kind, tuple(members), shared is not None, lamps
        self._drawings = shared
        self.offset = np.eye(4)
        self.own = members[0].matrix if shared is not None else np.eye(4)
        self.matrix = vtk_matrix(np.eye(4))
        self.actors = tuple(vtkActor() for _ in range(5))
        self.stage, self.final, self.edges, self.final_edges, self.caps = self.actors
        self._whole = {actor: _mapper() for actor in self.actors}
        self._coarse = {actor: _mapper() for actor in (self.stage, self.final)}
        shades = (1.0, 1.0, EDGE_SHADE, EDGE_SHADE, 1.0)
        for actor, shade in zip(self.actors, shades, strict=True):
            if shared is not None:
                for mapper in self._mappers(actor):
                    mapper.ScalarVisibilityOff()
                actor.GetProperty().SetColor(*(shade * v for v in self._own_colour(actor)))
            actor.SetMapper(self._whole[actor])
            actor.SetUserMatrix(self.matrix)
            actor.PickableOff()
        for actor in (self.edges, self.final_edges):
            actor.GetProperty().SetLighting(False)
        # the inside of a closed solid that is cut open, in one tone that no lamp changes, looks as the face of the cut
        inside = self.caps.GetProperty()
        inside.SetFrontfaceCulling(True)
        inside.SetAmbient(CAP_SHADE)
        inside.SetDiffuse(0.0)
        inside.SetSpecular(0.0)
        self._opacities, self._shown = (1.0, 1.0), (True, False)
        self.structured = True
        self._own_colours = shared is None
        self._is_coarse: bool | None = None
        self._final_is_coarse = False
        self.needs_room = False
        self._patient = patient

    @cached_property
    def triangles(self) -> int:
        """How many there are of it when it is drawn whole."""
        return sum(len(m.outline.triangles) for m in self.members)

    @property
    def opaque(self) -> bool:
        """Whether nothing shows through it, neither in a stage nor in pictures."""
        return all(actor.GetProperty().GetOpacity() >= 1 for actor in (self.stage, self.final))

    @property
    def made(self) -> bool:
        """Whether what is drawn of it whole is there already."""
        return self._drawings is not None

    def whole(self) -> Drawings:
        """What is drawn of it, whole."""
        if self._drawings is None:
            line = edges_of(self.members, lambda m: m.colour, EDGE_SHADE)
            self._drawings = Drawings(surface_of(self.members, self.kind.finish), line)
        return self._drawings

    def set_coarse(self, coarse: bool) -> None:
        """Draw its surfaces coarsely and no edges, or all of it whole."""
        if coarse == self._is_coarse:
            return
        self._is_coarse = coarse
        if coarse:
            self._draw(self._coarse, self._coarse_surface)
        else:
            drawings = self.whole()
            faces = {actor: self._whole[actor] for actor in (self.stage, self.final, self.caps)}
            self._draw(faces, lambda: drawings.face)
            self._draw({actor: self._whole[actor] for actor in (self.edges, self.final_edges)}, lambda: drawings.line)
        self.edges.SetVisibility(not coarse)
        self._final_is_coarse = coarse
        self.final_edges.SetVisibility(self._shown[1] and not coarse)

    def set_final_coarse(self, coarse: bool) -> None:
        """Draw coarsely for lens and film alone, where the stage is drawn whole."""
        if self._is_coarse or coarse == self._final_is_coarse:
            return
        self._final_is_coarse = coarse
        if coarse:
            self._draw({self.final: self._coarse[self.final]}, self._coarse_surface)
        else:
            self.final.SetMapper(self._whole[self.final])
        self.final_edges.SetVisibility(self._shown[1] and not coarse)

    @staticmethod
    def _draw(mappers: Mapping[vtkActor, vtkPolyDataMapper], data: Callable[[], vtkPolyData]) -> None:
        some = next(iter(mappers.values()))
        known = some.GetInput() if some.GetNumberOfInputConnections(0) else data()
        for actor, mapper in mappers.items():
            if not mapper.GetNumberOfInputConnections(0):
                mapper.SetInputData(known)
            actor.SetMapper(mapper)

    def _coarse_surface(self) -> vtkPolyData:
        if self.shared and self._drawings is not None:
            return self._drawings.coarse or self._drawings.face
        return surface_of([m if m.outline.coarse is None else m.coarse() for m in self.members], self.kind.finish)

    def _mappers(self, actor: vtkActor) -> list[vtkPolyDataMapper]:
        """All that an actor is drawn by, now or later."""
        return [self._whole[actor], *filter(None, [self._coarse.get(actor)])]

    @property
    def rough(self) -> bool:
        """Whether some of its members are not worked out yet."""
        return any(m.outline.rough for m in self.members)

    def show(self, style: Style, cut: vtkPlane | None) -> None:
        """Show the stage's copy in a style, cut open by a plane or whole."""
        kind = self.kind
        opacity = min(kind.opacity, FADED) if kind.faded else kind.opacity
        face, self.structured = self.stage.GetProperty(), self._is_structured()
        pbr = apply_finish(
            face, kind.finish, opacity, style, closed=kind.closed, cut=cut is not None, structured=self.structured
        )
        count_in_light(self.stage, linear=pbr, lamps=self.lamps)
        self.edges.GetProperty().SetOpacity(FADED_EDGES if kind.faded else 1.0)
        self.stage.SetVisibility(style != "wire")
        for actor in (self.stage, self.edges):
            self._cut(actor, cut)

    def _is_structured(self) -> bool:
        finish = self.kind.finish
        return not self._patient or finish is None or not finish.texture or structure_is_known(finish)

    def _cut(self, actor: vtkActor, cut: vtkPlane | None) -> None:
        for mapper in self._mappers(actor):
            mapper.RemoveAllClippingPlanes()
            if cut is not None:
                mapper.AddClippingPlane(cut)

    def show_final(self, mode: DisplayMode) -> None:
        """Show the copy for pictures in a mode."""
        kind, look, cut = self.kind, mode.look, mode.cut is not None
        solid = any(m.part in mode.solid for m in self.members)
        face, line = self.final.GetProperty(), self.final_edges.GetProperty()
        self.needs_room, unlit = False, False
        if look == "technical" or look == "wire":
            apply_flat_finish(face, kind.finish, kind.opacity, closed=kind.closed, cut=cut)
        elif look == "ghost" and not solid:
            # many layers lie over each other: without light they take a fifth of the time, and their edges tell their shape
            apply_flat_finish(face, kind.finish, min(GHOST, kind.opacity), closed=kind.closed, cut=cut)
            unlit = True
        else:
            self.needs_room = apply_finish(
                face,
                kind.finish,
                kind.opacity,
                "finished",
                closed=kind.closed,
                cut=cut,
                structured=self._is_structured(),
            )
        count_in_light(self.final, linear=self.needs_room, lamps=self.lamps)
        self._opacities = face.GetOpacity(), GHOST_EDGES if look == "ghost" and not solid else 1.0
        line.SetOpacity(self._opacities[1])
        line.SetLineWidth(mode.line)
        self._wire(mode, unlit=unlit)
        self._shown = True, look != "studio"
        self.final.SetVisibility(True)
        self.final_edges.SetVisibility(self._shown[1] and not self._final_is_coarse)
        self.caps.SetVisibility(cut and kind.closed and look != "wire" and face.GetOpacity() >= 1)
        for actor in (self.final, self.final_edges, self.caps):
            self._cut(actor, mode.cut)

    def _wire(self, mode: DisplayMode, *, unlit: bool) -> None:
        """Draw the copy for pictures as wires, or not: the edges strongly, the triangles faintly, in one colour that shows."""
        wire = mode.look == "wire"
        for actor, opacity in ((self.final, WIRE_TRIANGLES), (self.final_edges, WIRE_EDGES)):
            look = actor.GetProperty()
            for mapper in self._mappers(actor):
                mapper.SetScalarVisibility(self._own_colours and not wire)
            look.SetLighting(not wire and not unlit and actor is self.final)
            if wire:
                look.SetColor(*rgb(CARD if mode.dark else INK))
                look.SetOpacity(opacity)
            elif self._own_colours:
                look.SetColor(1.0, 1.0, 1.0)
            else:
                shade = 1.0 if actor is self.final else EDGE_SHADE
                look.SetColor(*(shade * v for v in self._own_colour(actor)))
        face = self.final.GetProperty()
        if wire:
            face.SetRepresentationToWireframe()
            face.SetLineWidth(mode.line)
            self._opacities = WIRE_TRIANGLES, WIRE_EDGES
        else:
            face.SetRepresentationToSurface()

    def _own_colour(self, actor: vtkActor) -> Sequence[float]:
        """The colour of an actor that has one alone: under a picture, what that is multiplied by."""
        own = self.members[0].colour
        return rgb((under_picture(self.kind.finish) or own) if actor in (self.stage, self.final) else own)

    def fade(self, share: float) -> None:
        """Show the copy for pictures with a share of its opacity."""
        for actor, opacity, shown in zip((self.final, self.final_edges), self._opacities, self._shown, strict=True):
            actor.GetProperty().SetOpacity(opacity * share)
            hidden = actor is self.final_edges and self._final_is_coarse
            actor.SetVisibility(shown and share > 0.005 and not hidden)

    def place(self, displacement: Array) -> None:
        """Put the whole batch somewhere, by how far its group has moved from rest."""
        vtk_matrix(displacement @ self.offset @ self.own, self.matrix)


class Drawings(msgspec.Struct, frozen=True):
    """What is drawn: the surface, its edges and its coarse form. Of a geometry that is placed many times they are in its own coordinates,
    without colour, and shared."""

    face: vtkPolyData
    line: vtkPolyData
    coarse: vtkPolyData | None = None


def shared_drawing(outline: Outline, finish: Finish | None = None) -> Drawings:
    """Make the drawing that many parts of one finish share."""
    alone = Member("", 0, outline, np.eye(4), "#ffffff")
    coarse = None if outline.coarse is None else surface_of([alone.coarse()], finish)
    return Drawings(surface_of([alone], finish), edges_of([alone], lambda _: "#ffffff", 1.0), coarse)


def _mapper() -> vtkPolyDataMapper:
    mapper = vtkPolyDataMapper()
    mapper.SetColorModeToDirectScalars()
    mapper.SetResolveCoincidentTopologyToPolygonOffset()
    return mapper


def surface_of(members: Sequence[Member], finish: Finish | None = None) -> vtkPolyData:
    """The members' surfaces in the batch's coordinates, with normals and colours, and with their places on the texture of a finish that has
    one."""
    points, normals, triangles, colours = [], [], [], []
    mapped, along = [], []
    count = 0
    for m in members:
        turn, shift = m.matrix[:3, :3].astype(np.float32), m.matrix[:3, 3].astype(np.float32)
        here = _mapping(m, finish)
        source = slice(None) if here is None else here.source
        points.append(m.outline.points[source] @ turn.T + shift)
        if m.outline.normals is not None:
            normals.append(m.outline.normals[source] @ turn.T)
        triangles.append((m.outline.triangles if here is None else here.triangles) + count)
        colours.append(_tinted(m, finish if here is not None else None)[source])
        if here is not None:
            mapped.append(here.uv)
            along.append(_handed(here, m.outline) @ turn.T)
        count += len(points[-1])
    return merged_surface(
        _joined(points, 3),
        _joined(normals, 3) if len(normals) == len(members) else None,
        _joined(triangles, 3, np.int64),
        _joined(colours, 3, np.uint8),
        (_joined(mapped, 2), _joined(along, 3)) if mapped else None,
    )


def _handed(mapped: Mapped, outline: Outline) -> NDArray[np.floating]:
    """The directions of u (k, 3), longer where the picture is seen mirrored."""
    if outline.normals is None:
        return mapped.along
    signs = tangents(mapped, outline.normals[mapped.source])[:, 3:]
    return np.asarray(mapped.along * np.where(signs < 0, MIRRORED, 1.0))


def _mapping(member: Member, finish: Finish | None) -> Mapped | None:
    """Where a member's surface lies on the texture of a finish; none where that has none."""
    if finish is None:
        return None
    outline, uv = member.outline, member.outline.uv
    if finish.pictures is not None and uv is None:
        # what is drawn in its stead meanwhile lies nowhere on them
        uv = np.zeros((len(outline.triangles), 3, 2), np.float32)
    return mapping_of(finish, outline.points, outline.triangles, uv)


def edges_of(members: Sequence[Member], colour: Callable[[Member], str], shade: float) -> vtkPolyData:
    """The members' sharp edges in the batch's coordinates."""
    points, lines, colours = [], [], []
    count = 0
    for m in members:
        turn, shift = m.matrix[:3, :3].astype(np.float32), m.matrix[:3, 3].astype(np.float32)
        points.append(m.outline.edge_points @ turn.T + shift)
        lines.append(m.outline.edges + count)
        colours.append(_shades(colour(m), shade, len(m.outline.edge_points)))
        count += len(m.outline.edge_points)
    return merged_lines(_joined(points, 3), _joined(lines, 2, np.int64), _joined(colours, 3, np.uint8))


def _tinted(member: Member, finish: Finish | None) -> NDArray[np.uint8]:
    """Colours of a member's points: its own, and its faces' where the file coloured them apart; under a picture, what that is multiplied
    by."""
    outline = member.outline
    if under_picture(finish):
        return _shades(under_picture(finish), 1.0, len(outline.points))
    if outline.tint_of is None or not member.tinted:
        return _shades(member.colour, 1.0, len(outline.points))
    table = np.array([np.rint(255 * np.array(rgb(t or member.colour))) for t in outline.tints])
    return table[outline.tint_of].astype(np.uint8)


def _shades(colour: str, shade: float, count: int) -> NDArray[np.uint8]:
    return np.tile(np.rint(255 * shade * np.array(rgb(colour))).astype(np.uint8), (count, 1))


def _joined(arrays: list[NDArray], width: int, kind: type = np.float32) -> NDArray:  # type: ignore[type-arg]
    return np.concatenate(arrays).astype(kind) if arrays else np.empty((0, width), kind)
