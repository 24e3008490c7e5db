"""The curves of the timeline's lanes, filled with what they show, and their limits."""

from __future__ import annotations

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav.app.timeline.chart import Chart
from kestrav.app.timeline.lanes import Lane
from kestrav.app.widgets.window_colours import PETROL, SHOT, STALE, STALE_SHOT
from kestrav.core.camera.measured_curves import CURVES
from kestrav.core.clearance.live import with_live
from kestrav.core.clearance.sweep import intervals_of
from kestrav.core.document import edits
from kestrav.core.document.records import Ball, Gear, Limited, Project, Turner, Wheel
from kestrav.core.findings.on_paths import least_radius
from kestrav.core.findings.rules.teeth import MESH
from kestrav.core.findings.rules.wheels import SLIP
from kestrav.core.kinematics.banking import bank
from kestrav.core.kinematics.lane_values import headings, mesh_errors, rates, rolled_distances, slips, wheel_gaps
from kestrav.core.kinematics.lighting import state
from kestrav.core.kinematics.motion import Motion, thing_speeds
from kestrav.core.kinematics.runs import shown_times, span
from kestrav.core.mechanisms.joints import joints_of
from kestrav.core.parts.rest import rows
from kestrav.core.paths.analysis import bend_radii, tight_spans
from kestrav.core.paths.path_curves import PathCurve

Array = NDArray[np.float64]

_GAPS = 90  # times at which the ground below a wheel is looked for


class Curves:
    """Fills a timeline's lanes."""

    def __init__(self, timeline: Chart) -> None:
        self.timeline = timeline

    def speed(self, project: Project) -> None:
        """How fast the thing is that the chart is about."""
        thing = self.timeline.lane_thing()
        if thing is None:
            times, values = np.array([0.0, span(project)]), np.zeros(2)
        else:
            times = np.union1d(shown_times(project), np.linspace(0, span(project), 400))
            values = thing_speeds(project, thing, times) / 1000.0
        self.timeline.speed.title = "Speed" if thing is None or thing in rows(project) else "Camera speed"
        if thing is not None and any(light.id == thing for light in project.lights):
            self.timeline.speed.title = "Light speed"
        x = self.timeline.to_x(times)
        keep = np.isfinite(x)
        self.timeline.speed.show(x[keep], values[keep])
        limit = self.limit_of("speed")
        self.timeline.speed.limit.setVisible(limit is not None)
        if limit is not None:
            self.timeline.speed.limit.setValue(limit)

    def motion(self, project: Project) -> None:
        """Distance and accelerations of the run that the chart is about."""
        shown = [
            lane
            for lane in (self.timeline.distance, self.timeline.gain, self.timeline.sideways, self.timeline.roll)
            if lane in self.timeline.lanes
        ]
        course = self.timeline.axis_journey()
        if not shown:
            return
        if course is None:
            for lane in shown:
                lane.show(np.empty(0), np.empty(0))
            return
        times = np.linspace(course.start, course.shown_end, 800)
        x = self.timeline.to_x(times)
        ahead = course.accelerations(times) / 1000.0
        across = course.sideways(times) / 1000.0
        distance = course.profile.distance(times - course.start)
        order = np.argsort(x, kind="stable")
        self.timeline.distance.show(x[order], distance[order])
        self.timeline.gain.show(x[order], ahead[order], low=float(min(ahead.min(), 0.0)))
        self.timeline.sideways.show(x[order], across[order])
        angle = np.degrees(bank(course, course.stations(times)))
        self.timeline.roll.show(x[order], angle[order], low=float(min(angle.min(), 0.0)))
        for lane, name in ((self.timeline.gain, "acceleration"), (self.timeline.sideways, "sideways")):
            limit = self.limit_of(name)
            lane.limit.setVisible(limit is not None)
            if limit is not None:
                lane.limit.setValue(limit)

    def limit_of(self, lane: str) -> float | None:
        """The limit that a lane shows, in the lane's unit: the run's own, or the project's."""
        settings, course = self.timeline.session.shown.settings, self.timeline.axis_journey()
        speed_profile = (
            course.run.speed_profile if course is not None and isinstance(course.run.speed_profile, Limited) else None
        )
        limits = {
            "clearance": settings.required_clearance,
            "speed": (speed_profile.top if speed_profile else settings.speed_limit) / 1000.0,
            "acceleration": (speed_profile.forward if speed_profile else settings.acceleration_limit) / 1000.0,
            "sideways": (speed_profile.sideways if speed_profile else 0.0) / 1000.0,
        }.get(lane, 0.0)
        return limits if limits > 0 else None

    def set_limit(self, lane: str, value: float, merge: str = "") -> None:
        """Change the limit that a lane shows."""
        course = self.timeline.axis_journey()
        speed_profile = (
            course.run.speed_profile if course is not None and isinstance(course.run.speed_profile, Limited) else None
        )
        value = max(value, 1e-3)
        own = {"speed": "top", "acceleration": "forward", "sideways": "sideways"}.get(lane)
        whole = {"clearance": "required_clearance", "speed": "speed_limit", "acceleration": "acceleration_limit"}
        kept = round(value, 1) if lane == "clearance" else round(1000.0 * value)
        if speed_profile is not None and own is not None and course is not None:
            run = course.run
            fields: dict[str, object] = {"speed_profile": msgspec.structs.replace(speed_profile, **{own: max(kept, 1)})}
            if own == "top" and run.speed is not None:
                fields["speed"] = max(kept, 1)
            self.timeline.session.edit("Limit", lambda p: edits.update(p, run.id, **fields), merge=merge)
        elif lane in whole:
            self.timeline.session.edit("Limit", lambda p: edits.settings(p, **{whole[lane]: kept}), merge=merge)

    def heading(self, project: Project) -> None:
        """Where the front of the thing points that the chart is about."""
        lane, thing = self.timeline.orientation, self.timeline.lane_thing()
        if lane not in self.timeline.lanes:
            return
        course = self.timeline.axis_journey()
        if thing is None or (self.timeline.by_distance and course is None):
            lane.show(np.empty(0), np.empty(0))
            return
        if self.timeline.by_distance and course is not None:
            times = np.linspace(course.start, course.shown_end, 400)
        else:
            times = np.linspace(0.0, span(project), 600)
        x, values = self.timeline.to_x(times), headings(project, thing, times)
        order = np.argsort(x, kind="stable")
        lane.show(x[order], values[order], float(values.max()) + 5.0, float(values.min()) - 5.0)

    def strength(self) -> None:
        """The strength of a light in time."""
        light = self.timeline.lane_light()
        if self.timeline.strength not in self.timeline.lanes:
            return
        if light is None or self.timeline.by_distance:
            self.timeline.strength.show(np.empty(0), np.empty(0))
            return
        self.timeline.strength.title = light.name
        self.timeline.strength.unit = "lx" if light.kind == "sun" else "cd"
        times = np.unique(
            [0.0, *np.linspace(0.0, span(self.timeline.session.shown), 200), *(k.time for k in light.keys)]
        )
        values = np.array([state(light, t)[0] for t in times])
        self.timeline.strength.show(times, values)

    def wheels(self, project: Project) -> None:
        """What the wheel, rotation, gear, rod or ball does that the chart is about: turns, way, slip, rate, gap and mesh."""
        timeline = self.timeline
        lanes = (timeline.wheel, timeline.rolled, timeline.slip, timeline.rate, timeline.gap, timeline.mesh)
        shown = [lane for lane in lanes if lane in timeline.lanes]
        if not shown:
            return
        item, course = timeline.lane_turning(), timeline.axis_journey()
        times = np.empty(0)
        if item is not None and timeline.by_distance and course is not None:
            times = np.linspace(course.start, course.shown_end, 600)
        elif item is not None and not timeline.by_distance:
            times = np.linspace(0.0, span(project), 900)
        sliding = item is not None and all(j.role != "turns" for j in joints_of(project, item))
        timeline.wheel.title, timeline.wheel.unit = ("Slider", "mm") if sliding else ("Wheel", "turns")
        timeline.rate.unit = "mm/s" if sliding else "rpm"
        for lane in shown:
            values = (
                None if item is None or not len(times) else self._of_turner(project, lane, item, times, sliding=sliding)
            )
            limit = None if values is None else self._limit_of_turning(lane)
            lane.limit.setVisible(limit is not None)
            if values is None:
                lane.show(np.empty(0), np.empty(0))
                continue
            if limit is not None:
                lane.limit.setValue(limit)
            x = timeline.to_x(times)
            order = np.argsort(x, kind="stable")
            top = max(float(np.nanmax(values)), 1.5 * limit if limit is not None else 0.1)
            low = min(float(np.nanmin(values)), -1.5 * limit if limit is not None and lane is timeline.gap else 0.0)
            lane.show(x[order], values[order], top, low)

    def _of_turner(self, project: Project, lane: Lane, item: Turner, times: Array, *, sliding: bool) -> Array | None:
        """The values of one lane at times (n,); None where it says nothing of this item."""
        timeline = self.timeline
        if lane is timeline.wheel:
            return Motion(project).angles(item, times) / (1.0 if sliding else 2 * np.pi)
        if lane is timeline.rolled:
            return rolled_distances(project, item, times) if isinstance(item, Wheel | Gear | Ball) else None
        if lane is timeline.slip:
            return slips(project, item, times) if isinstance(item, Wheel) else None
        if lane is timeline.rate:
            return rates(project, item, times)
        if lane is timeline.gap:
            if not isinstance(item, Wheel):
                return None
            coarse = times[:: max(len(times) // _GAPS, 1)]
            gaps, _ = wheel_gaps(project, timeline.session.meshes, item, coarse)
            return np.interp(times, coarse, gaps)
        return np.abs(mesh_errors(project, item, times)) if isinstance(item, Gear) else None

    def _limit_of_turning(self, lane: Lane) -> float | None:
        timeline = self.timeline
        known = {timeline.slip: SLIP, timeline.gap: timeline.session.shown.settings.ground_gap, timeline.mesh: MESH}
        return next((value for one, value in known.items() if one is lane), None)

    def shape(self, along: tuple[PathCurve, float, float] | None) -> None:
        """The height and the bend radius of the path that the chart is about."""
        shown = [lane for lane in (self.timeline.height_lane, self.timeline.bend) if lane in self.timeline.lanes]
        if not shown:
            return
        course = self.timeline.axis_journey()
        if along is None or (not self.timeline.by_distance and course is None):
            for lane in shown:
                lane.show(np.empty(0), np.empty(0))
                lane.shade([])
                lane.limit.setVisible(False)
            return
        curve, first, last = along
        if self.timeline.by_distance:
            x = stations = np.union1d(np.linspace(first, last, 600), curve.curve.breaks[:400])
            x = stations = stations[(stations >= first) & (stations <= last)]
        else:
            assert course is not None
            x = np.linspace(course.start, course.shown_end, 600)
            stations = course.stations(x)
        heights = curve.curve.position(stations)[:, 2]
        low = float(heights.min())
        self.timeline.height_lane.show(x, heights, low=0.0 if 0 <= low < 0.5 * float(heights.max()) else low)
        radius = bend_radii(curve.curve, stations)
        project, path_id = self.timeline.session.shown, self.timeline.axis_path_id()
        needed = least_radius(project, path_id)[0] if path_id else 0.0
        tightest = float(radius.min())
        top = 5.0 * (needed or (tightest if np.isfinite(tightest) else 1000.0))
        self.timeline.bend.show(x, radius, top)
        self.timeline.bend.limit.setVisible(needed > 0)
        self.timeline.bend.limit.setValue(needed)
        spans = []
        for tight in tight_spans(curve.curve, needed) if needed > 0 else []:
            inside = (stations >= tight.first - 1e-6) & (stations <= tight.last + 1e-6)
            if inside.any():
                half = 0.002 * float(x[-1] - x[0])
                spans.append((float(x[inside][0]) - half, float(x[inside][-1]) + half))
        self.timeline.bend.shade(spans)

    def camera(self) -> None:
        """What is measured of the lens's camera, with its limits and where they are not kept."""
        timeline = self.timeline
        known = timeline.camera_curves
        if known is not None and known.camera != timeline.session.camera_id:
            known = None
        for name in CURVES:
            lane = timeline.every[name]
            if lane not in timeline.lanes:
                continue
            curve = None if known is None else known.curves.get(name)
            lane.limit.setVisible(curve is not None and curve.limit is not None)
            if known is None or curve is None:
                lane.show(np.empty(0), np.empty(0))
                lane.shade([])
                continue
            x = timeline.to_x(known.times)
            keep = np.isfinite(x)
            lane.curve.set_colour(SHOT if timeline.camera_current else STALE_SHOT)
            finite = curve.values[np.isfinite(curve.values)]
            high = max([*finite.tolist(), 1.2 * (curve.limit or 0.0), 1e-3])
            if name == "nearest" and curve.limit:
                high = min(high, 8.0 * curve.limit)
            low = min([*finite.tolist(), 0.0])
            order = np.argsort(x[keep], kind="stable")
            lane.show(x[keep][order], curve.values[keep][order], high, low)
            if curve.limit is not None:
                lane.limit.setValue(curve.limit)
            half = 0.5 * float(np.median(np.diff(known.times))) if len(known.times) > 1 else 0.0
            spans = []
            for first, last in intervals_of(np.flatnonzero(curve.breached & keep)):
                ends = np.sort(x[[first, last]])
                spans.append((float(ends[0]) - (0 if timeline.by_distance else half), float(ends[1]) + half))
            lane.shade(spans)

    def clearance(self) -> None:
        result, lane = self.timeline.result, self.timeline.clearance
        if result is None:
            lane.show(np.empty(0), np.empty(0))
            lane.shade([])
            lane.limit.setVisible(False)
            return
        required = self.timeline.session.shown.settings.required_clearance
        clearance = with_live(result.clearance, self.timeline.live, span(self.timeline.session.shown))
        x = self.timeline.to_x(clearance.times)
        keep = np.isfinite(x)
        values = np.where(np.isfinite(clearance.distance), clearance.distance, np.nan)
        finite = values[np.isfinite(values)]
        top = None
        if len(finite):
            top = float(np.clip(np.max(finite), 2.0 * required, max(5.0 * required, 10.0)))
        lane.curve.set_colour(PETROL if self.timeline.current or self.timeline.live is not None else STALE)
        # below 0 is how deep they overlap
        lane.show(x[keep], values[keep], top, min(0.0, float(finite.min())) if len(finite) else 0.0)
        lane.limit.setVisible(bool(len(finite)))
        lane.limit.setValue(required)
        half = 0.5 / self.timeline.session.shown.settings.fps
        spans = []
        for first, last in intervals_of(np.flatnonzero(clearance.short)):
            ends = self.timeline.to_x(np.array([clearance.times[first] - half, clearance.times[last] + half]))
            inner = self.timeline.to_x(clearance.times[first : last + 1])
            inner = inner[np.isfinite(inner)]
            if len(inner):
                ends = np.where(np.isfinite(ends), ends, [inner[0], inner[-1]])
                spans.append((float(ends[0]), float(ends[1])))
        lane.shade(spans)
