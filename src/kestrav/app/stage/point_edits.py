"""Edits of a path's chosen point, for the card and the keyboard."""

from __future__ import annotations

from typing import Literal

import msgspec
import numpy as np

from kestrav.app.session import Session
from kestrav.core.document import edits
from kestrav.core.document.lookup import find
from kestrav.core.document.records import Path, PointShape, Project
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show

APART = 1.0  # mm; a point nearer to another than this is not inserted


def insert_at_station(session: Session, path_id: str, station: float) -> None:
    """Insert a point into a path at a station, on the curve as it is."""
    path = find(session.project, path_id)
    if not isinstance(path, Path):
        return  # typed into the card of a path that has gone meanwhile
    if not isinstance(path.shape, PointShape):
        session.refused.emit(
            f"“{path.name}” has a shape of its own: its numbers are in the card; “Make it points” gives it points"
        )
        return
    curve = path_curve(path)
    stations = curve.point_stations()
    if not 0 <= station <= curve.length:
        session.refused.emit(f"the path is {show(curve.length, 'mm')} long; give a distance within it")
        return
    if np.abs(stations - station).min() < APART:
        session.refused.emit("there is a point already")
        return
    index = int(np.searchsorted(stations, station))
    place = curve.curve.position([station])[0]
    x, y, z = (float(round(v, 3)) for v in place)
    if session.edit("Insert point", lambda project: edits.insert_point(project, path_id, index, (x, y, z))):
        session.select(path_id, index)


def insert_after(session: Session) -> None:
    """Insert half way from the chosen point to the next one."""
    path, index = session.path, session.point
    if path is None or index is None:
        return
    curve = path_curve(path)
    stations = np.append(curve.point_stations(), curve.length if curve.curve.closed else [])
    if index + 1 >= len(stations):
        session.refused.emit("this is the last point; choose the one before it, or press twice on the path")
        return
    insert_at_station(session, path.id, float(stations[index] + stations[index + 1]) / 2)


def delete_point(session: Session) -> bool:
    """Take the chosen points out; False when none is chosen."""
    path, chosen = session.path, sorted(session.points, reverse=True)
    if path is None or not chosen:
        return False

    def delete(project: Project) -> Project:
        shape = edits.point_shape(project, path.id)
        kept = tuple(p for i, p in enumerate(shape.points) if i not in set(chosen))
        return edits.update(project, path.id, shape=msgspec.structs.replace(shape, points=kept))

    if session.edit("Delete point" if len(chosen) == 1 else "Delete points", delete):
        session.select(path.id, None)
    return True


def next_kind(session: Session) -> None:
    """Turn the chosen point into the next kind."""
    path, index = session.path, session.point
    if path is None or index is None or not isinstance(path.shape, PointShape):
        return
    order: tuple[Literal["corner", "smooth", "free"], ...] = ("corner", "smooth", "free")
    kind = order[(order.index(path.shape.points[index].kind) + 1) % 3]
    session.edit("Kind of point", lambda p: edits.set_kind(p, path.id, index, kind))
