"""The marks over and in the stage: paths, what is selected, clearance, readings, axes, lamps, the lens's frustum."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QPoint
from vtkmodules.vtkRenderingCore import vtkActor

from kestrav.app.stage.overlays import StageLabel
from kestrav.app.stage.panes import Everywhere, alone, unseen
from kestrav.app.stage.stage_base import StageBase
from kestrav.core.camera.views import Views
from kestrav.core.document.lookup import find, named_parts, subtree
from kestrav.core.document.records import Attachment, FixedOrientation, Part, PoseTrack, Project, Run, Turner
from kestrav.core.kinematics.seating import body_axes
from kestrav.core.parts.rest import placement_matrix
from kestrav.render.judging_marks import JudgingMarks
from kestrav.render.marks import Dimension, Highlight, PathMarks, flat, frustum, grid
from kestrav.render.measure_marks import Caught, FrontArrow, NoteMarks
from kestrav.render.palette import INK, SHOT
from kestrav.render.pose_marks import PoseMarks
from kestrav.render.scene_lights import LightMarks
from kestrav.render.selection import SelectionOutline
from kestrav.render.shapes import put_data, segments
from kestrav.render.turn_marks import TurnMarks
from kestrav.render.viewpoint import to_display

Array = NDArray[np.float64]


class StageMarks:
    """Shows in a stage what is not the product itself."""

    def __init__(self, stage: StageBase) -> None:
        self.stage = stage
        panes = list(stage.panes.values())
        self.all, self.over = Everywhere([p.renderer for p in panes]), Everywhere([p.over for p in panes])
        self.floor = flat(grid([-5000, -5000, 0], [5000, 5000, 0], 500.0, "xy", 0.5), INK, 1.0, 0.10)
        self.frustum = flat(segments(np.empty((0, 2, 3))), SHOT, 1.5)
        self.all.AddActor(self.floor)
        self.paths = PathMarks(self.all, self.over)
        self.highlight = Highlight(self.all, stage.scene)
        self.outline = SelectionOutline(stage.scene)
        self.dimension = Dimension(self.over)
        self.notes = NoteMarks(self.over)
        self.front = FrontArrow(self.over)
        self.caught = Caught(self.over)
        self.judged = JudgingMarks(self.over)
        self.lamps = LightMarks(self.over)
        self.poses = PoseMarks(self.all, self.over)
        self.turns = TurnMarks(self.over)
        self.all.AddActor(self.frustum)
        self.label = StageLabel(stage)

    @property
    def steady(self) -> list[vtkActor]:
        """Marks that stay as they are while it plays."""
        return [*self.paths.others.actors, *self.paths.chosen.actors, self.poses.paths, self.floor]

    def show(self, project: Project, poses: Array, pixel: float) -> None:
        """Show the marks of a project whose parts are at poses (n, 4, 4), at a ``pixel`` of so many mm."""
        stage = self.stage
        session = stage.session
        path, item = session.path, session.item
        self.paths.update(project, path.id if path else None, session.points, pixel)
        self.judged.show(project, path, stage.path_marks, pixel, stage.main)
        self.judged.show_trace(session.trace_places())
        self.lamps.show(project, session.time, pixel, session.selection)
        self.poses.show(project, item if isinstance(item, PoseTrack) else None, session.point, pixel, stage.main)
        self.turns.show(project, item, poses, session.time)
        selected = self._selected_parts(project)
        plain = stage.swapped or stage.together or stage.tiles is not None
        # in an inset, and in several views at once, a line around would hide as much as it shows
        self.highlight.show(selected if plain else [], stage.scene.cut)
        self.outline.choose([] if plain else selected, stage.scene.cut)
        gap = stage.gap
        self.dimension.show(gap[0] if gap else None, pixel, breach=gap is not None and gap[2])
        readings = session.readings(at_rest=False)
        shown = [(n.name, r.text, r.drawn, r.place) for n in project.notes if (r := readings.get(n.id)) is not None]
        self.notes.show(shown, pixel)
        self.front.show(_front(project, item, poses), pixel)

    def show_frustum(self, seen: Views | None, angle: float, aspect: float) -> None:
        """Show what the lens sees: ``angle`` is its height in radians, ``aspect`` its width by its height; without ``seen`` nothing."""
        self.frustum.SetVisibility(seen is not None)
        if seen is not None:
            lines = frustum(seen.position[0], seen.target[0], seen.up[0], angle, aspect, 320.0)
            put_data(self.frustum, segments(lines))

    def show_outline(self) -> None:
        """Draw the line around what is selected, for the next drawing."""
        if self.outline.is_empty:
            self.outline.hide()
            return
        window = self.stage.view.GetRenderWindow()
        with alone(window, self.outline.mask), unseen(window):
            self.outline.show_in(window, self.stage.main)

    def place_label(self) -> None:
        """Put the number of the clearance beside its line."""
        stage, gap = self.stage, self.stage.gap
        quiet = stage.tool is not None and stage.tool.quiet
        if gap is None or stage.swapped or stage.together or stage.tiles is not None or quiet:
            self.label.hide()
            return
        points, text, breach = gap
        x, y, depth = to_display(stage.main, points.mean(axis=0))[0]
        ratio = stage.devicePixelRatioF()
        place = QPoint(round(x / ratio) + 18, stage.height() - round(y / ratio) - 40)
        self.label.show_at(place, text, breach=breach, visible=depth < 1)

    def _selected_parts(self, project: Project) -> list[str]:
        """The parts that the selection is of or moves, with what is in them."""
        item = self.stage.session.item
        if isinstance(item, (Run, PoseTrack, Attachment)):
            item = find(project, item.rider)
        elif isinstance(item, Turner):
            named = dict.fromkeys(named_parts(item))
            return list(dict.fromkeys(inner for one in named for inner in subtree(project, one)))
        if not isinstance(item, Part):
            return []
        chosen = self.stage.session.chosen or (item.id,)
        return list(dict.fromkeys(inner for one in chosen for inner in subtree(project, one)))


def _front(project: Project, item: object, poses: Array) -> Array | None:
    """The pivot and axes of a part, or of a run's rider as the run faces it; none of anything else."""
    part = find(project, item.rider) if isinstance(item, Run) else item
    if not isinstance(part, Part):
        return None
    front: Array = poses[project.parts.index(part)] @ placement_matrix(part.pivot)
    if isinstance(item, Run) and not isinstance(item.orientation, FixedOrientation):
        orientation = item.orientation
        front = front.copy()
        front[:3, :3] = front[:3, :3] @ body_axes(orientation.forward, flip=orientation.flip, up_axis=orientation.up)
    return front
