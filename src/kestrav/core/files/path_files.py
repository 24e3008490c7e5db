"""Paths from DXF, SVG and CSV files, and back to DXF and CSV. Lengths in mm once the unit is known."""

from __future__ import annotations

import csv
import io
import itertools
import math
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.core.document.lookup import new_id, new_name
from kestrav.core.document.records import (
    ArcShape,
    EllipseShape,
    Path as PathRecord,
    PathPoint,
    PointShape,
    Project,
    Shape,
)
from kestrav.core.document.validation import validate
from kestrav.core.errors import BadInput, Damaged, in_words
from kestrav.core.files.product_import import read_bytes
from kestrav.core.files.product_tree import clean_name
from kestrav.core.files.reading import as_unicode
from kestrav.core.files.writing import write_whole
from kestrav.core.geometry.faces import Vector, vector
from kestrav.core.paths.path_curves import parametric_of, path_curve
from kestrav.core.paths.shaping import as_points

Array = NDArray[np.float64]

SUFFIXES = (".dxf", ".svg", ".csv")
MOST_PATHS = 300  # that one file brings in
MOST_USED = 20_000  # times that a drawing uses its elements again
MOST_POINTS = 20_000
_SAME = 1e-6  # of the file's unit; nearer points are one
# DXF reference, header variable $INSUNITS
_DXF_UNITS = {1: 25.4, 2: 304.8, 4: 1.0, 5: 10.0, 6: 1000.0, 10: 914.4, 13: 0.001, 14: 100.0}
_SVG_PIXEL = 25.4 / 96.0  # mm; CSS Values and Units Level 3, section 6.2: an inch is 96 px
_CURVES = ("LINE", "ARC", "CIRCLE", "ELLIPSE", "LWPOLYLINE", "POLYLINE", "SPLINE")


class PathsFile(msgspec.Struct):
    """What a file holds: names and shapes in its unit; one of its units in mm, or None while nobody has said."""

    source: str
    shapes: list[tuple[str, Shape]] = msgspec.field(default_factory=list)
    unit: float | None = None
    left_out: list[str] = msgspec.field(default_factory=list)

    @property
    def size(self) -> Array:
        """Size (3,) over all of its points, in the file's unit."""
        places = []
        for name, shape in self.shapes:
            curve = path_curve(PathRecord("path", name, shape)).curve
            places.append(curve.position(np.linspace(0.0, curve.length, 65)))
        size: Array = np.ptp(np.concatenate(places), axis=0)
        return size


def read_paths(path: Path) -> PathsFile:
    """Read the curves of a DXF, SVG or CSV file. Raises BadInput naming the file and what is wrong with it."""
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"“{path}” is not a kind of file that holds paths; give one of {', '.join(SUFFIXES)}")
    data = read_bytes(path)
    paths = PathsFile(as_unicode(path.name))
    try:
        # what is too large for a number is found where it is checked
        with np.errstate(all="ignore"):
            {".dxf": _read_dxf, ".svg": _read_svg, ".csv": _read_csv}[suffix](path, data, paths)
    except BadInput:
        raise
    except Exception as fault:  # whatever a damaged file makes the readers raise
        raise BadInput(f"“{path}” cannot be read: {in_words(fault)}") from fault
    paths.shapes = [(clean_name(as_unicode(name)) or path.suffix[1:].upper(), shape) for name, shape in paths.shapes]
    paths.shapes = _longest(paths)
    paths.shapes = [pair for pair in paths.shapes if _travelled(paths, *pair)]
    if not paths.shapes:
        why = f": {paths.left_out[0]}" if paths.left_out else ""
        raise BadInput(f"“{path}” holds no curve that could be a path{why}")
    return paths


def _longest(paths: PathsFile) -> list[tuple[str, Shape]]:
    """The curves, or the longest of them when a drawing holds more than one can work with as paths."""
    if len(paths.shapes) <= MOST_PATHS:
        return paths.shapes
    lengths = [_about_as_long(shape) for _, shape in paths.shapes]
    # in the order of the file
    kept = sorted(sorted(range(len(lengths)), key=lambda k: -lengths[k])[:MOST_PATHS])
    paths.left_out.append(
        f"{len(lengths) - MOST_PATHS} shorter curves: the longest {MOST_PATHS} are brought in; "
        "a file with the wanted layers alone brings in the others"
    )
    return [paths.shapes[k] for k in kept]


def _about_as_long(shape: Shape) -> float:
    """A curve's length by chords; 0 when it has none."""
    try:
        curve, _ = parametric_of(shape)
    except ValueError:
        return 0.0
    places = curve.evaluate(np.linspace(curve.breaks[0], curve.breaks[-1], 4 * len(curve.breaks)))
    return float(np.linalg.norm(np.diff(places, axis=0), axis=1).sum())


def _travelled(paths: PathsFile, name: str, shape: Shape) -> bool:
    """Whether a shape can be a path; otherwise it is left out, with the reason."""
    try:
        record = PathRecord("path", name, shape)
        validate(Project(paths=(record,)))
        path_curve(record)
    except BadInput as fault:
        paths.left_out.append(f"“{name}”: {fault}")
        return False
    return True


# DXF; ezdxf takes a third of a second to load, so it is loaded when a drawing is read or written


def _read_dxf(path: Path, data: bytes, paths: PathsFile) -> None:
    from ezdxf.lldxf.const import DXFError

    try:
        document = _sound_dxf(data)
    except (DXFError, OSError) as fault:
        raise BadInput(f"“{path}” is not readable as DXF: its structure is damaged; export it again") from fault
    paths.unit = _DXF_UNITS.get(int(document.header.get("$INSUNITS", 0)))
    others: dict[str, int] = {}
    for entity in document.modelspace():
        kind = entity.dxftype()
        if kind not in _CURVES:
            others[kind] = others.get(kind, 0) + 1
            continue
        layer = str(entity.dxf.layer)
        label = kind.capitalize() if layer in ("0", "") else layer
        for shape in _dxf_shapes(entity, kind):
            paths.shapes.append((label, shape))
    paths.left_out += [f"{count} {kind}: not a curve that is read" for kind, count in sorted(others.items())]


def _sound_dxf(data: bytes) -> Any:
    """A drawing read the quick way where it is sound, and mended while it is read where it is not."""
    from ezdxf import recover
    from ezdxf.filemanagement import read
    from ezdxf.lldxf.const import DXFError

    if b"\x1a\x00" not in data[:24]:  # the mark of a binary drawing
        with suppress(DXFError, UnicodeDecodeError, ValueError, KeyError, IndexError, AttributeError, TypeError):
            encoding = "utf-8" if data[data.find(b"AC10") :][:6] >= b"AC1021" else "cp1252"
            return read(io.StringIO(data.decode(encoding).replace("\r\n", "\n")))
    return recover.read(io.BytesIO(data))[0]


def _dxf_shapes(entity: Any, kind: str) -> Iterable[Shape]:
    import ezdxf.math
    import ezdxf.path

    if kind in ("ARC", "CIRCLE"):
        to_world = entity.ocs()
        centre = to_world.to_wcs(entity.dxf.center)
        begin = math.radians(entity.dxf.start_angle) if kind == "ARC" else 0.0
        sweep = 360.0 if kind == "CIRCLE" else (entity.dxf.end_angle - entity.dxf.start_angle) % 360.0 or 360.0
        rim = entity.dxf.center + ezdxf.math.Vec3.from_angle(begin, entity.dxf.radius)
        axis = to_world.to_wcs((0, 0, 1))
        if kind == "CIRCLE" and abs(axis.z - 1) < 1e-12:
            yield EllipseShape(vector(centre), entity.dxf.radius, entity.dxf.radius)
        else:
            yield ArcShape(vector(centre), vector(to_world.to_wcs(rim)), sweep, vector(axis))
        return
    if kind == "ELLIPSE" and _is_whole_level_ellipse(entity):
        major = entity.dxf.major_axis
        size = major.magnitude
        turn = math.degrees(math.atan2(major.y, major.x))
        yield EllipseShape(vector(entity.dxf.center), size, size * entity.dxf.ratio, turn)
        return
    if kind == "LINE":
        yield _corners([entity.dxf.start, entity.dxf.end])
        return
    curve = ezdxf.path.make_path(entity)
    for part in curve.sub_paths():
        shape = _from_commands(part)
        if shape is not None:
            yield shape


def _is_whole_level_ellipse(entity: Any) -> bool:
    span = (entity.dxf.end_param - entity.dxf.start_param) % (2 * math.pi)
    level = abs(entity.dxf.extrusion.z - 1) < 1e-12 and abs(entity.dxf.major_axis.z) < 1e-12
    return bool(level and min(span, 2 * math.pi - span) < 1e-9)


def _corners(points: Sequence[Any]) -> PointShape:
    return PointShape(tuple(PathPoint(vector(p), "corner") for p in points))


def _from_commands(curve: Any) -> PointShape | None:
    """A path of lines and Bezier curves as points: corners between lines, free ones with their handles elsewhere."""
    places, handles_in, handles_out = [np.array(curve.start)], [None], [None]
    curved = False
    for command in curve.commands():
        end = np.array(command.end)
        kind = command.type.name
        if kind == "MOVE_TO":
            continue
        here = places[-1]
        if kind == "LINE_TO":
            if np.linalg.norm(end - here) <= _SAME:
                continue
            first, second = here + (end - here) / 3, end - (end - here) / 3
        elif kind == "CURVE3_TO":
            control = np.array(command.ctrl)
            first, second = here + 2 / 3 * (control - here), end + 2 / 3 * (control - end)
            curved = True
        else:
            first, second = np.array(command.ctrl1), np.array(command.ctrl2)
            curved = True
        handles_out[-1] = first - here
        places.append(end)
        handles_in.append(second - end)
        handles_out.append(None)
    return _with_handles(places, handles_in, handles_out, curved=curved)


def _with_handles(
    places: list[Array], handles_in: list[Any], handles_out: list[Any], *, curved: bool
) -> PointShape | None:
    if len(places) < 2:
        return None
    closed = len(places) > 3 and float(np.linalg.norm(places[-1] - places[0])) <= 1e-6 * max(
        1.0, float(np.abs(places).max())
    )
    if closed:
        handles_in[0] = handles_in[-1]
        places, handles_in, handles_out = places[:-1], handles_in[:-1], handles_out[:-1]
    if not curved:
        return PointShape(tuple(PathPoint(vector(p), "corner") for p in places), closed)
    points = []
    for place, before, after in zip(places, handles_in, handles_out, strict=True):
        given = [None if h is None or np.linalg.norm(h) < 1e-12 else vector(h) for h in (before, after)]
        points.append(PathPoint(vector(place), "free", given[0], given[1]))
    return PointShape(tuple(points), closed)


# SVG


def _read_svg(path: Path, data: bytes, paths: PathsFile) -> None:
    import svgelements

    if b"<svg" not in data[:65536].replace(b"\0", b""):
        raise BadInput(f"“{path}” is not an SVG file: it has no svg element")
    if used_again(data) > MOST_USED:
        raise BadInput(f"“{path}” uses its elements again more than {MOST_USED:,} times; export a part of it")
    drawing = svgelements.SVG.parse(io.BytesIO(data), reify=True)
    paths.unit = _SVG_PIXEL
    for element in drawing.elements():
        if not isinstance(element, svgelements.Shape):
            continue
        whole = svgelements.Path(element)
        label = str(getattr(element, "id", None) or type(element).__name__)
        for part in whole.as_subpaths():
            shape = _from_segments(svgelements.Path(part))
            if shape is not None:
                paths.shapes.append((label, shape))


def used_again(data: bytes) -> float:
    """How many elements a drawing places beyond those that it holds, as it uses them again and again: a few lines can make that any number.

    Raises Damaged when one uses itself.
    """
    try:
        root = ElementTree.fromstring(data)
    except (ElementTree.ParseError, ValueError):
        return 0.0  # the reader that follows may make something of it
    named = {element.get("id"): element for element in root.iter() if element.get("id")}
    known: dict[ElementTree.Element, float] = {}
    waiting: list[tuple[ElementTree.Element, bool]] = [(root, False)]
    under_way = set[ElementTree.Element]()
    while waiting:
        element, counted = waiting.pop()
        link = element.get("href") or element.get("{http://www.w3.org/1999/xlink}href") or ""
        used = named.get(link.removeprefix("#")) if element.tag.endswith("}use") else None
        inner = [*element, *([] if used is None else [used])]
        if counted:
            known[element] = 1.0 + sum(known[one] for one in inner)
            under_way.discard(element)
        elif element not in known:
            if element in under_way:
                raise Damaged("an element of it uses itself")
            under_way.add(element)
            waiting.append((element, True))
            for one in inner:
                if one in under_way:
                    raise Damaged("an element of it uses itself")
                waiting.append((one, False))
    return known[root] - len(list(root.iter()))


def _from_segments(curve: Any) -> PointShape | None:
    import svgelements

    places: list[Array] = []
    handles_in: list[Any] = []
    handles_out: list[Any] = []
    curved = False
    for segment in curve:
        if isinstance(segment, svgelements.Move):
            if places:
                break
            places, handles_in, handles_out = [_flipped(segment.end)], [None], [None]
            continue
        pieces = list(segment.as_cubic_curves()) if isinstance(segment, svgelements.Arc) else [segment]
        for piece in pieces:
            end, here = _flipped(piece.end), places[-1]
            if isinstance(piece, svgelements.QuadraticBezier):
                control = _flipped(piece.control)
                first, second = here + 2 / 3 * (control - here), end + 2 / 3 * (control - end)
                curved = True
            elif isinstance(piece, svgelements.CubicBezier):
                first, second = _flipped(piece.control1), _flipped(piece.control2)
                curved = True
            else:
                if np.linalg.norm(end - here) <= _SAME:
                    continue
                first, second = here + (end - here) / 3, end - (end - here) / 3
            handles_out[-1] = first - here
            places.append(end)
            handles_in.append(second - end)
            handles_out.append(None)
    return _with_handles(places, handles_in, handles_out, curved=curved)


def _flipped(point: Any) -> Array:
    """A point of SVG, whose y points down the page."""
    return np.array([float(point.x), -float(point.y), 0.0])


# CSV


def _read_csv(path: Path, data: bytes, paths: PathsFile) -> None:
    text = data.decode("utf-8-sig", "replace")
    if "\0" in text or "\ufffd" in text:
        raise BadInput(f"“{path}” is not a table of numbers")
    try:
        rows = table_rows(text)
    except BadInput as fault:
        raise BadInput(f"“{path}”: {fault}") from fault
    places: list[Array] = []
    for row in rows:
        place = np.array(row)
        if not places or np.linalg.norm(place - places[-1]) > _SAME:
            places.append(place)
    if len(places) > MOST_POINTS:
        raise BadInput(f"“{path}” has {len(places)} points; {MOST_POINTS} are the most that a path can have")
    closed = len(places) > 3 and float(np.linalg.norm(places[-1] - places[0])) <= _SAME
    points = tuple(PathPoint(vector(p), "smooth") for p in (places[:-1] if closed else places))
    paths.shapes.append((path.stem, PointShape(points, closed)))


def table_rows(text: str) -> list[Vector]:
    """The places that a table of numbers holds, a row each: x, y and z, which may be left out.

    Columns are parted by tabs, semicolons, commas or blanks; a first row of words and rows after # are passed over.
    Raises BadInput naming the row that has no numbers.
    """
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    mark = next((m for m in ("\t", ";", ",") if lines and m in lines[0]), None)
    rows = list(csv.reader(lines, delimiter=mark)) if mark else [line.split() for line in lines]
    if rows and not _numbers(rows[0], mark):
        rows = rows[1:]
    places: list[Vector] = []
    for number, row in enumerate(rows, 1):
        values = _numbers(row, mark)
        if values is None or not len(values) >= 2:
            raise BadInput(f"row {number} has no two or three numbers: “{' '.join(row)[:60]}”")
        if not np.isfinite(values[:3]).all():
            raise BadInput(f"row {number} has a number that is not finite")
        x, y, z = [*values[:3], 0.0][:3]
        places.append((x, y, z))
    return places


def _numbers(row: Sequence[str], mark: str | None) -> list[float] | None:
    """The numbers of a row, or None when it has words; a decimal comma where the comma does not part columns."""
    try:
        cells = [c.strip() for c in row if c.strip()]
        return [float(c.replace(",", ".") if mark != "," else c) for c in cells]
    except ValueError:
        return None


# into a project, and out of it


def add_paths(project: Project, file: PathsFile, unit: float) -> Project:
    """The project with a file's curves as paths; ``unit`` is one of the file's units in mm.

    Raises BadInput for a unit that is not above 0.
    """
    if not unit > 0:
        raise BadInput(f"the unit of “{file.source}” is {unit:g} mm; it must be above 0")
    for name, shape in file.shapes:
        record = PathRecord(new_id(project, PathRecord), new_name(project, PathRecord, name), _grown(shape, unit))
        project = msgspec.structs.replace(project, paths=(*project.paths, record))
    return validate(project)


def _grown(shape: Shape, unit: float) -> Shape:
    if isinstance(shape, PointShape):
        points = tuple(
            msgspec.structs.replace(
                p,
                position=vector(np.array(p.position) * unit),
                handle_in=None if p.handle_in is None else vector(np.array(p.handle_in) * unit),
                handle_out=None if p.handle_out is None else vector(np.array(p.handle_out) * unit),
            )
            for p in shape.points
        )
        return msgspec.structs.replace(shape, points=points)
    if isinstance(shape, EllipseShape):
        grown = vector(np.array(shape.centre) * unit)
        return msgspec.structs.replace(shape, centre=grown, half_x=shape.half_x * unit, half_y=shape.half_y * unit)
    assert isinstance(shape, ArcShape)
    centre, start = (vector(np.array(v) * unit) for v in (shape.centre, shape.start))
    return msgspec.structs.replace(shape, centre=centre, start=start)


def write_path(path: PathRecord, target: Path, step: float = 0.0) -> None:
    """Write a path as CSV (its points, or places every ``step`` mm) or DXF in mm. Raises BadInput naming the file."""
    suffix = target.suffix.lower()
    if suffix == ".csv":
        data = _as_csv(path, step).encode()
    elif suffix == ".dxf":
        data = _as_dxf(path).encode()
    else:
        raise BadInput(f"“{target}”: a path is written as .csv or .dxf")
    write_whole(target, data)


def _as_csv(path: PathRecord, step: float) -> str:
    if isinstance(path.shape, PointShape) and step <= 0 and path.trim == (0.0, 1.0):
        places = np.array([p.position for p in path.shape.points])
        if path.shape.closed:
            places = np.concatenate([places, places[:1]])
    else:
        curve = path_curve(path).curve
        count = int(np.ceil(curve.length / (step if step > 0 else curve.length / 200))) + 1
        places = curve.position(np.linspace(0.0, curve.length, count))
    rows = ["x_mm,y_mm,z_mm", *(",".join(f"{v:.6f}" for v in place) for place in places)]
    return "\n".join(rows) + "\n"


def _as_dxf(path: PathRecord) -> str:
    import ezdxf.path
    from ezdxf.filemanagement import new

    document = new("R2010")
    document.header["$INSUNITS"] = 4
    space = document.modelspace()
    shape = path.shape if path.trim == (0.0, 1.0) else None
    layer = {"layer": "".join(c if c not in '<>/\\":;?*|=`' else "-" for c in path.name) or "0"}
    if isinstance(shape, EllipseShape):
        turn = math.radians(shape.turn)
        halves = (shape.half_x, shape.half_y) if shape.half_x >= shape.half_y else (shape.half_y, shape.half_x)
        turn += 0.0 if shape.half_x >= shape.half_y else math.pi / 2
        major = (halves[0] * math.cos(turn), halves[0] * math.sin(turn), 0.0)
        space.add_ellipse(shape.centre, major, halves[1] / halves[0], dxfattribs=layer)
    elif isinstance(shape, PointShape) and all(p.kind == "corner" and p.radius == 0 for p in shape.points):
        space.add_polyline3d([p.position for p in shape.points], close=shape.closed, dxfattribs=layer)
    else:
        curve = _bezier(as_points(path))
        ezdxf.path.render_splines_and_polylines(space, [curve], dxfattribs=layer)
    stream = io.StringIO()
    document.write(stream)
    return stream.getvalue()


def _bezier(shape: PointShape) -> Any:
    """Free points as ezdxf's path of Bezier curves."""
    import ezdxf.path

    points = [*shape.points, *([shape.points[0]] if shape.closed else [])]
    bezier = ezdxf.path.Path(points[0].position)
    for a, b in itertools.pairwise(points):
        first = np.array(a.position) + np.array(a.handle_out)
        second = np.array(b.position) + np.array(b.handle_in)
        bezier.curve4_to(b.position, vector(first), vector(second))
    return bezier
