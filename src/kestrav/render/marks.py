"""What the stage shows besides the product: paths, points, handles, the floor grid, highlights, dimensions."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np
from numpy.typing import ArrayLike, NDArray
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPolyData
from vtkmodules.vtkRenderingCore import vtkActor, vtkGlyph3DMapper, vtkPolyDataMapper

from kestrav.core.document.records import Path, PointShape, Project, SurfaceShape
from kestrav.core.paths.path_curves import PathCurve, path_curve
from kestrav.render.batches import Batch, edges_of
from kestrav.render.palette import CARD, INK, PETROL, PETROL_DARK, STRAW, VERMILION, rgb
from kestrav.render.scene import Scene
from kestrav.render.shapes import diamond, point_cloud, polyline, put_data, segments, vertices, vtk_matrix

Array = NDArray[np.float64]

ARROW_PIXELS = 9.0
MOST_DIAMONDS, _NEAR_CHOSEN = 600, 20  # points that are drawn as solids, and how many on either side of a chosen one
_MOST_DRAWN = 1000  # of a path's points by which its line is drawn
_TICKS = 24  # wished-for number of chainage ticks along a path
TICK_PIXELS, POINT_PIXELS, HANDLE_PIXELS = 7.0, 8.5, 5.5
_LINE, _CHOSEN_LINE = 1.6, 3.4  # pixels that a path is wide
_STEPPED_BACK = "#7f9698"  # paths that are not chosen: the product is what the eye sees first
LEAST_SPACING = 8.0  # pixels from a tick to the next, of the size of one at the middle of the view
_BEFORE_FACES = -6  # steps of the depth buffer by which a line on a face lies before it


def flat(data: vtkPolyData, colour: str, width: float = 1.0, opacity: float = 1.0) -> vtkActor:
    """An unlit actor that cannot be picked."""
    mapper = vtkPolyDataMapper()
    mapper.SetInputData(data)
    mapper.ScalarVisibilityOff()
    actor = vtkActor()
    actor.SetMapper(mapper)
    look = actor.GetProperty()
    look.SetColor(*rgb(colour))
    look.SetLighting(False)
    look.SetLineWidth(width)
    look.SetOpacity(opacity)
    actor.PickableOff()
    return actor


def tick_spacing(length: float, least: float = 0.0) -> float:
    """A round chainage (1, 2 or 5 times a power of ten, in mm) that divides a length into about 24, or no more than is at least so far apart."""
    raw = max(length / _TICKS, least, 1e-7)
    power = 10.0 ** np.floor(np.log10(raw))
    return float(next(m * power for m in (1.0, 2.0, 5.0, 10.0) if m * power >= raw))


def chainage_ticks(curve: PathCurve, half: float, least: float = 0.0) -> tuple[Array, Array]:
    """Ticks across a path, at least so far apart, as pairs of points: (n, 2, 3) ordinary ones, and each tenth, longer."""
    spacing = tick_spacing(curve.length, least)
    stations = np.arange(0.0, curve.length + 1e-9, spacing)
    left = curve.frames(stations)[:, :, 1]
    middle = curve.curve.position(stations)
    long = np.arange(len(stations)) % 10 == 0
    reach = np.where(long, 1.8 * half, half)[:, None]
    pairs = np.stack([middle - reach * left, middle + reach * left], axis=1)
    return pairs[~long], pairs[long]


class Diamonds:
    """Diamond marks of a size in pixels, each filled or hollow by colour."""

    def __init__(self, renderer: Any, colour: str, edge: str) -> None:
        self.mapper = vtkGlyph3DMapper()
        self.mapper.SetSourceData(diamond())
        self.mapper.SetInputData(point_cloud(np.empty((0, 3))))
        self.mapper.ScalarVisibilityOff()
        self.mapper.OrientOff()
        self.actor = vtkActor()
        self.actor.SetMapper(self.mapper)
        self.actor.GetProperty().SetColor(*rgb(colour))
        self.actor.GetProperty().SetAmbient(0.55)
        self.actor.GetProperty().SetDiffuse(0.5)
        self.actor.GetProperty().EdgeVisibilityOn()
        self.actor.GetProperty().SetEdgeColor(*rgb(edge))
        self.actor.PickableOff()
        renderer.AddActor(self.actor)

    def place(self, points: ArrayLike) -> None:
        """Mark points (n, 3)."""
        points = np.asarray(points, float).reshape(-1, 3)
        self.mapper.SetInputData(point_cloud(points))
        self.actor.SetVisibility(len(points) > 0)

    def scale(self, size: float) -> None:
        """Make them of a size in mm."""
        self.mapper.SetScaleFactor(size)


def _line(curve: PathCurve) -> Array:
    """Points (n, 3) close enough to draw a path by."""
    breaks = curve.curve.breaks
    count = int(np.clip(len(breaks) * 24, 60, 1200))
    # of thousands of points each is hardly a pixel from the next
    own = breaks if len(breaks) <= _MOST_DRAWN else breaks[:: len(breaks) // _MOST_DRAWN + 1]
    return curve.curve.position(np.union1d(np.linspace(0.0, curve.length, count), own))


def direction_arrows(curve: PathCurve, size: float, least: float = 0.0) -> Array:
    """Chevrons (n, 2, 3) of a size in mm that point along a path, between ticks that are at least so far apart."""
    spacing = tick_spacing(curve.length, least)
    stations = np.arange(2.5 * spacing, curve.length, 5 * spacing)
    frames, tip = curve.frames(stations), curve.curve.position(stations)
    back = tip - size * frames[:, :, 0]
    wings = [np.stack([tip, back + sense * 0.6 * size * frames[:, :, 1]], axis=1) for sense in (1, -1)]
    return np.concatenate(wings)


_AT_ONCE = 20  # paths that are drawn anew in one update


class _Drawn(msgspec.Struct, frozen=True):
    """What is drawn of a path, at a size of a pixel in mm: its line, ticks and each tenth tick, and arrows, as pairs of points (n, 2, 3)."""

    path: Path
    pixel: float
    line: Array
    ticks: Array
    long: Array
    arrows: Array

    @classmethod
    def of(cls, path: Path, pixel: float) -> _Drawn:
        """Work it out."""
        curve = path_curve(path)
        line, least = _line(curve), LEAST_SPACING * pixel
        ticks, long = chainage_ticks(curve, TICK_PIXELS * pixel, least)
        arrows = direction_arrows(curve, ARROW_PIXELS * pixel, least)
        return cls(path, pixel, np.stack([line[:-1], line[1:]], axis=1), ticks, long, arrows)


class _Lines:
    """The lines of one or many paths, as one drawing for each width."""

    def __init__(self, renderer: Any, colour: str, line: float, ticks: float, long: float, arrows: float) -> None:
        none = np.empty((0, 2, 3))
        self.actors = [flat(segments(none), colour, width) for width in (line, ticks, long, arrows)]
        self._of: tuple[_Drawn, ...] = ()
        for actor in self.actors:
            actor.GetMapper().SetResolveCoincidentTopologyToPolygonOffset()
            actor.GetMapper().SetRelativeCoincidentTopologyLineOffsetParameters(0, _BEFORE_FACES)
            renderer.AddActor(actor)

    def show(self, drawn: Sequence[_Drawn]) -> None:
        """Show these and no others."""
        if len(drawn) == len(self._of) and all(a is b for a, b in zip(drawn, self._of, strict=True)):
            return
        self._of = tuple(drawn)
        kinds = ([d.line for d in drawn], [d.ticks for d in drawn], [d.long for d in drawn], [d.arrows for d in drawn])
        for actor, pairs in zip(self.actors, kinds, strict=True):
            put_data(actor, segments(np.concatenate([np.empty((0, 2, 3)), *pairs])))
            actor.SetVisibility(any(len(p) for p in pairs))


class PathMarks:
    """Every path as a surveyed line, with chainage ticks and, where it is chosen, diamond points. What is not chosen steps back.

    All keep their weight on the screen. Points go into a renderer laid over the first one: what is to be taken hold of is never hidden.
    """

    def __init__(self, renderer: Any, over: Any) -> None:
        self.drawn: dict[str, _Drawn] = {}
        self.others = _Lines(renderer, _STEPPED_BACK, _LINE, 1.0, 1.4, 1.6)
        self.chosen = _Lines(renderer, PETROL, _CHOSEN_LINE, 1.2, 2.2, 2.6)
        self.points = Diamonds(over, PETROL, CARD)
        self.dots = flat(point_cloud(np.empty((0, 3))), PETROL)
        self.dots.GetProperty().SetPointSize(4)
        self.dots.VisibilityOff()
        over.AddActor(self.dots)
        self.chosen_point = Diamonds(over, STRAW, INK)
        self.handles = Diamonds(over, CARD, PETROL_DARK)
        # the chosen path shows faintly through what hides it
        self.through = flat(segments(np.empty((0, 2, 3))), PETROL, 2.0, 0.45)
        over.AddActor(self.through)
        self.handle_lines = flat(segments(np.empty((0, 2, 3))), PETROL, 1.5)
        over.AddActor(self.handle_lines)
        self.pixel = 1.0
        self.behind = False  # whether some paths are still to be drawn, at the next update

    def update(self, project: Project, chosen: str | None, points: Sequence[int], pixel: float) -> None:
        """Follow the document; ``pixel`` is the size of one in mm at the middle of the view. Of many paths some are drawn at a time, so
        that nobody waits for all of them."""
        self.pixel, left = pixel, _AT_ONCE
        wanted = {path.id: path for path in project.paths}
        for path_id in self.drawn.keys() - wanted.keys():
            del self.drawn[path_id]
        for path in wanted.values():
            known = self.drawn.get(path.id)
            # marks keep their size on the screen; they are made anew when that has changed enough to see
            if known is not None and known.path is path and 0.8 < known.pixel / pixel < 1.25:
                continue
            if left > 0 or path.id == chosen:
                self.drawn[path.id] = _Drawn.of(path, pixel)
            left -= 1
        self.behind = left < 0
        picked = wanted.get(chosen or "")
        self.chosen.show([self.drawn[picked.id]] if picked is not None else [])
        self.others.show([self.drawn[i] for i in wanted if i in self.drawn and i != chosen])
        self.through.SetVisibility(picked is not None)
        if picked is not None:
            put_data(self.through, polyline(_line(path_curve(picked))))
        self._points(picked, points)

    def _points(self, path: Path | None, chosen: Sequence[int]) -> None:
        points, lines, ends = handle_geometry(path)
        keep = np.ones(len(points), bool)
        keep[[i for i in chosen if i < len(points)]] = False
        many = len(points) > MOST_DIAMONDS
        self.dots.SetVisibility(many)
        if many:
            # thousands of solids would be felt at every redraw; diamonds stand near the chosen points
            put_data(self.dots, vertices(points))
            near = np.zeros(len(points), bool)
            for i in chosen:
                near[max(i - _NEAR_CHOSEN, 0) : i + _NEAR_CHOSEN + 1] = True
            self.points.place(points[keep & near])
        else:
            self.points.place(points[keep])
        self.chosen_point.place(points[~keep])
        self.handles.place(ends)
        put_data(self.handle_lines, segments(np.concatenate([lines, corner_lines(path)])))
        for marks, size in (
            (self.points, POINT_PIXELS),
            (self.chosen_point, 1.25 * POINT_PIXELS),
            (self.handles, HANDLE_PIXELS),
        ):
            marks.scale(size * self.pixel)


class PathLines:
    """All paths as plain lines, for pictures that are to show them."""

    def __init__(self, renderer: Any) -> None:
        self.renderer = renderer
        self.actors: list[vtkActor] = []
        self._of: object = ()
        self._width = 0.0

    def show(self, paths: Sequence[Path], width: float) -> None:
        """Show these paths, as lines of a width in pixels."""
        if self._of is paths and self._width == width:
            return
        self._of, self._width = paths, width
        for actor in self.actors:
            self.renderer.RemoveActor(actor)
        self.actors = [flat(polyline(_line(path_curve(path))), PETROL, width) for path in paths]
        for actor in self.actors:
            self.renderer.AddActor(actor)


def handle_geometry(path: Path | None) -> tuple[Array, Array, Array]:
    """Points (n, 3) of a path, handle lines (k, 2, 3) and handle ends (k, 3) of its free points."""
    none = np.empty((0, 2, 3)), np.empty((0, 3))
    if path is not None and isinstance(path.shape, SurfaceShape):
        return np.array(path.shape.samples)[list(path.shape.marks[: len(path.shape.points)])], *none
    if path is None or not isinstance(path.shape, PointShape):
        return np.empty((0, 3)), *none
    points = np.array([p.position for p in path.shape.points], float)
    ends = [(i, np.asarray(h)) for i, _, h in free_handles(path.shape)]
    lines = np.array([[points[i], points[i] + h] for i, h in ends]).reshape(-1, 2, 3)
    return points, lines, lines[:, 1]


def corner_lines(path: Path | None) -> Array:
    """Lines (n, 2, 3) from rounded corners to where their arcs begin and end: a corner lies beside its path."""
    if path is None or not isinstance(path.shape, PointShape):
        return np.empty((0, 2, 3))
    points, count = path.shape.points, len(path.shape.points)
    pairs = []
    for i, point in enumerate(points):
        if point.kind != "corner" or point.radius <= 0 or (not path.shape.closed and i in (0, count - 1)):
            continue
        here = np.array(point.position)
        sides = [np.array(points[(i + step) % count].position) - here for step in (-1, 1)]
        directions = [side / np.linalg.norm(side) for side in sides]
        half = 0.5 * np.arccos(np.clip(float(directions[0] @ directions[1]), -1, 1))
        reach = point.radius / max(float(np.tan(half)), 1e-9)
        pairs += [[here, here + reach * direction] for direction in directions]
    return np.array(pairs).reshape(-1, 2, 3)


def free_handles(shape: PointShape) -> list[tuple[int, str, tuple[float, float, float]]]:
    """Point number, field name and vector of every handle of the free points."""
    return [
        (i, field, handle)
        for i, p in enumerate(shape.points)
        if p.kind == "free"
        for field, handle in (("handle_in", p.handle_in), ("handle_out", p.handle_out))
        if handle is not None
    ]


class Highlight:
    """The sharp edges of chosen parts, drawn over in petrol."""

    def __init__(self, renderer: Any, scene: Scene) -> None:
        self.renderer, self.scene = renderer, scene
        self.actors: list[tuple[Batch, vtkActor]] = []
        self.parts: list[str] = []
        self._of: object = None

    def show(self, part_ids: list[str], cut: vtkPlane | None = None) -> None:
        """Highlight these parts and no others, where they are now, cut open as they are."""
        if part_ids != self.parts or tuple(self.scene.batches) != self._of:
            for _, actor in self.actors:
                self.renderer.RemoveActor(actor)
            self.parts, self._of, self.actors = list(part_ids), tuple(self.scene.batches), []
            for batch, members in self.scene.outlines_of(part_ids):
                actor = flat(edges_of(members, lambda _: PETROL, 1.0), PETROL, 2.4)
                actor.GetMapper().SetResolveCoincidentTopologyToPolygonOffset()
                actor.GetMapper().SetRelativeCoincidentTopologyLineOffsetParameters(0, -6)
                actor.SetUserMatrix(vtk_matrix(np.eye(4)))
                self.renderer.AddActor(actor)
                self.actors.append((batch, actor))
        for batch, actor in self.actors:
            actor.GetMapper().RemoveAllClippingPlanes()
            if cut is not None:
                actor.GetMapper().AddClippingPlane(cut)
            vtk_matrix(self.scene.matrix_of(batch), actor.GetUserMatrix())


class Dimension:
    """A gap drawn as a dimension line with end marks, in front of everything."""

    def __init__(self, renderer: Any) -> None:
        self.actor = flat(segments(np.empty((0, 2, 3))), VERMILION, 2.5)
        self.actor.VisibilityOff()
        renderer.AddActor(self.actor)

    def show(self, gap: ArrayLike | None, pixel: float, *, breach: bool = True) -> None:
        """Draw between two points (2, 3), in vermilion for a breach, or hide."""
        self.actor.SetVisibility(gap is not None)
        self.actor.GetProperty().SetColor(*rgb(VERMILION if breach else PETROL_DARK))
        if gap is None:
            return
        first, second = np.asarray(gap, float)
        along = second - first
        length = float(np.linalg.norm(along))
        along = along / length if length > 1e-9 else np.array([1.0, 0.0, 0.0])
        across = np.cross(along, [0.0, 0.0, 1.0])
        if np.linalg.norm(across) < 1e-6:
            across = np.array([0.0, 1.0, 0.0])
        across *= 14 * pixel / np.linalg.norm(across)
        rise = np.array([0.0, 0.0, 14 * pixel])
        # leaders run outwards from both ends, so that a gap of a pixel can still be found
        lead = 26 * pixel * along
        lines = [[first, second], [first - lead, first], [second, second + lead]]
        lines += [[end - side, end + side] for end in (first, second) for side in (across, rise)]
        put_data(self.actor, segments(np.array(lines)))


def grid(low: ArrayLike, high: ArrayLike, spacing: float, plane: str = "xy", at: float = 0.0) -> vtkPolyData:
    """Lines of a grid in a plane parallel to two axes, over bounds (3,) each."""
    low, high = np.asarray(low, float), np.asarray(high, float)
    u, v = ("xyz".index(c) for c in plane)
    w = 3 - u - v
    first, last = np.floor(low / spacing) * spacing, np.ceil(high / spacing) * spacing
    pairs = []
    for a, b in ((u, v), (v, u)):
        for value in np.arange(first[a], last[a] + spacing / 2, spacing):
            pair = np.zeros((2, 3))
            pair[:, a], pair[:, w] = value, at
            pair[0, b], pair[1, b] = first[b], last[b]
            pairs.append(pair)
    return segments(np.array(pairs))


def plane_grid(centre: ArrayLike, u: Array, v: Array, half: float, spacing: float) -> vtkPolyData:
    """Lines of a grid along two unit vectors about a centre (3,), reaching half a size each way."""
    centre = np.asarray(centre, float)
    # on whole steps from the space's origin, so that it stands still while the centre moves
    middle = [round(float(centre @ axis) / spacing) * spacing - float(centre @ axis) for axis in (u, v)]
    start = centre + middle[0] * u + middle[1] * v
    steps = np.arange(-round(half / spacing), round(half / spacing) + 1) * spacing
    pairs = []
    for along, across in ((u, v), (v, u)):
        ends = start + steps[:, None] * across
        pairs.append(np.stack([ends - half * along, ends + half * along], axis=1))
    return segments(np.concatenate(pairs))


def frustum(position: Array, target: Array, up: Array, vertical_angle: float, aspect: float, depth: float) -> Array:
    """Lines (n, 2, 3) that draw a camera: a pyramid of a depth in mm, and a mark for its upper side."""
    forward = (target - position) / np.linalg.norm(target - position)
    right = np.cross(forward, up)
    half = depth * np.tan(vertical_angle / 2)
    corners = [
        position + forward * depth + x * half * aspect * right + y * half * up
        for x, y in ((-1, -1), (1, -1), (1, 1), (-1, 1))
    ]
    lines = [[position, corner] for corner in corners]
    lines += [[corners[i], corners[(i + 1) % 4]] for i in range(4)]
    tip = position + forward * depth + 1.5 * half * up
    lines += [[corners[2], tip], [tip, corners[3]]]
    return np.array(lines)
