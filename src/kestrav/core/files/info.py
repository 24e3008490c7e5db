"""What a file holds, as plain data and as text."""

from __future__ import annotations

import math
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from kestrav.core.document.records import COLLECTIONS, Attachment, Part, PoseTrack, Project
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.product_import import SUFFIXES, UNITS, into_project, proposed_unit, read_product, with_unit
from kestrav.core.kinematics.motion_segments import segment_of
from kestrav.core.kinematics.runs import course_of, span
from kestrav.core.parts.rest import rest_poses, world_bounds
from kestrav.core.paths.path_curves import path_curve


def describe(path: Path) -> tuple[dict[str, Any], str]:
    """Describe a project or a product file. Raises BadInput when it is neither."""
    suffix = path.suffix.lower()
    if suffix == project_file.SUFFIX:
        return _project(path, project_file.load(path).project)
    if suffix not in SUFFIXES:
        raise BadInput(f"“{path}” is neither a project ({project_file.SUFFIX}) nor one of {', '.join(SUFFIXES)}")
    imported = read_product(path)
    declared = imported.declared
    if imported.unit is None:
        unit = proposed_unit(imported)
        imported = with_unit(imported, UNITS[unit])
        declared = f"not in the file, shown in {unit} by its size"
    project = into_project(Project(name=path.stem), imported)
    data = {
        **_parts(project),
        "unit": declared,
        "tolerance_mm": imported.chord or None,
        "analytic_faces": sum(f.kind != "free" for m in imported.meshes.values() for f in m.faces),
        "left_out": imported.left_out,
    }
    lines = [f"{path.name}: {_summary(data)}", f"unit: {declared}", *_tree(project.parts)]
    lines += [f"left out: {note}" for note in imported.left_out]
    return {"file": str(path), **data}, "\n".join(lines)


def _project(path: Path, project: Project) -> tuple[dict[str, Any], str]:
    paths = [{"id": p.id, "name": p.name, "length_mm": path_curve(p).length} for p in project.paths]
    names = {item.id: item.name for kind in COLLECTIONS.values() for item in getattr(project, kind)}
    runs = []
    for run in project.runs:
        course = course_of(project, run)
        runs.append(
            {
                "id": run.id,
                "name": run.name,
                "rider": names[run.rider],
                "path": names[run.path],
                "start_s": _finite(course.start),
                "end_s": _finite(course.end),
                "length_mm": course.length,
                "steady_speed_mm_s": course.greatest_speed,
            }
        )
    others: tuple[PoseTrack | Attachment, ...] = (*project.pose_tracks, *project.attachments)
    segments = [segment_of(project, item) for item in others]
    moves = [
        {
            "id": segment.item.id,
            "name": segment.item.name,
            "rider": names[segment.item.rider],
            "with": names[segment.item.carrier] if isinstance(segment.item, Attachment) else None,
            "start_s": _finite(segment.start),
            "end_s": _finite(segment.end),
        }
        for segment in segments
    ]
    shots = [
        {"id": s.id, "name": s.name, "camera": names[s.camera], "start_s": s.start, "end_s": s.end, "fps": s.fps}
        for s in project.shots
    ]
    data = {
        "file": str(path),
        "name": project.name,
        "format_version": project.version,
        "fps": project.settings.fps,
        "required_clearance_mm": project.settings.required_clearance,
        "duration_s": span(project),
        **_parts(project),
        "paths": paths,
        "runs": runs,
        "key_poses_and_rides": moves,
        "lights": [{"id": light.id, "name": light.name, "kind": light.kind} for light in project.lights],
        "cameras": [{"id": c.id, "name": c.name, "focal_length_mm": c.focal_length} for c in project.cameras],
        "shots": shots,
    }
    lines = [f"{project.name}: {_summary(data)}, {data['duration_s']:g} s at {data['fps']:g} frames per second"]
    lines += [f"path {p['name']}: {p['length_mm']:.1f} mm" for p in paths]
    lines += [
        f"run {r['name']}: {r['rider']} on {r['path']}, {_moment(r['start_s'])} to {_moment(r['end_s'])}, "
        f"{r['length_mm']:.1f} mm, {r['steady_speed_mm_s']:.1f} mm/s"
        for r in runs
    ]
    lines += [
        f"{'attachment' if m['with'] else 'key poses'} {m['name']}: {m['rider']}{' with ' + m['with'] if m['with'] else ''}, "
        f"{_moment(m['start_s'])} {'without end' if m['end_s'] is None else 'to ' + _moment(m['end_s'])}"
        for m in moves
    ]
    lines += [f"light {light['name']}: {light['kind']}" for light in data["lights"]]
    lines += [f"camera {c['name']}: {c['focal_length_mm']:g} mm lens" for c in data["cameras"]]
    lines += [f"shot {s['name']}: {s['camera']}, {s['start_s']:g} to {s['end_s']:g} s" for s in shots]
    return data, "\n".join([*lines, *_tree(project.parts)])


def _finite(time: float) -> float | None:
    """A time that comes, or none: JSON knows no infinity."""
    return time if math.isfinite(time) else None


def _parts(project: Project) -> dict[str, Any]:
    triangles = {g.hash: g.triangles for g in project.geometry}
    solids = [p for p in project.parts if p.geometry is not None]
    poses = rest_poses(project)[None]
    boxes = [world_bounds(project, p.id, poses)[0] for p in project.parts if p.parent is None]
    return {
        "parts": len(solids),
        "assemblies": len(project.parts) - len(solids),
        "geometries": len(project.geometry),
        "triangles": sum(triangles[p.geometry] for p in solids if p.geometry is not None),
        "bounds_mm": [
            [min(float(b[0, k]) for b in boxes) for k in range(3)],
            [max(float(b[1, k]) for b in boxes) for k in range(3)],
        ]
        if boxes
        else None,
    }


def _moment(time: float | None) -> str:
    return "never" if time is None else f"{time:g} s"


def _summary(data: dict[str, Any]) -> str:
    text = (
        f"{data['parts']} parts in {data['assemblies']} assemblies, {data['geometries']} geometries, "
        f"{data['triangles']} triangles"
    )
    if data["bounds_mm"]:
        low, high = data["bounds_mm"]
        text += ", " + " × ".join(f"{b - a:.1f}" for a, b in zip(low, high, strict=True)) + " mm"
    return text


def _tree(parts: Iterable[Part]) -> list[str]:
    depth: dict[str | None, int] = {None: 0}
    lines = []
    below: dict[str | None, list[Part]] = {}
    for part in parts:
        below.setdefault(part.parent, []).append(part)
    waiting = list(reversed(below.get(None, [])))
    while waiting:
        part = waiting.pop()
        depth[part.id] = depth[part.parent] + 1
        lines.append("  " * depth[part.id] + part.name)
        waiting.extend(reversed(below.get(part.id, [])))
    return lines
