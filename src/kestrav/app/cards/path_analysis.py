"""What can be said of a path, and what the stage shows of it."""

from __future__ import annotations

from functools import partial

import numpy as np

from kestrav.app.cards.rows import Rows
from kestrav.core.document.records import Path
from kestrav.core.paths.analysis import heights, least_bend, steepest
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.units import show

SHOWN = (
    ("numbers", "Numbers", "distances at long ticks", "Distances from the start, beside the long ticks"),
    ("seconds", "Seconds", "times of the riders", "Round marks with the time of each run along it"),
    ("comb", "Comb", "curvature, outside bends", "Curvature comb: lines as long as the curvature, outside the bends"),
)


class AnalysisRows(Rows):
    """Worked lines and switches of marks."""

    def build(self, path: Path) -> None:
        form, curve = self.form, path_curve(path).curve
        lines = [f"length <b>{show(curve.length, 'mm')}</b>"]
        if not curve.closed:
            straight = float(np.linalg.norm(np.subtract(*curve.position([0.0, curve.length]))))
            lines.append(f"ends {show(straight, 'mm')} apart")
        bend = least_bend(curve)
        if bend is None:
            lines.append("straight throughout")
        else:
            lines.append(
                f"minimum bend radius 1 ÷ {1 / bend.value:.6f} = <b>{show(bend.value, 'mm', 1)}</b> "
                f"at {show(bend.station, 'mm', 0)}"
            )
        slope = steepest(curve)
        if abs(slope.value) > 0.005:
            percent = f" = {100 * np.tan(np.radians(slope.value)):+.1f} %" if abs(slope.value) < 45 else ""
            where = show(slope.station, "mm", 0)
            lines.append(f"steepest {slope.value:+.1f}°{percent} at {where}".replace("-", "−"))
        else:
            lines.append("level throughout")
        low, high = heights(curve)
        lines.append(f"height {show(low, 'mm', 0)} to {show(high, 'mm', 0)}")
        if len(curve.kink_stations):
            sharpest = int(np.argmax(curve.kink_angles))
            count = len(curve.kink_stations)
            lines.append(
                f"{count} kink{'s' if count > 1 else ''}, the sharpest {np.degrees(curve.kink_angles[sharpest]):.0f}° "
                f"at {show(float(curve.kink_stations[sharpest]), 'mm')}"
            )
        form.worked(*lines)
        shown = self.card.path_marks
        for key, label, text, tip in SHOWN:
            form.check(label, text, shown.get(key), partial(shown.set, key), tip)
        form.note("The lanes “Height” and “Bend radius” of the chart show both by distance (“lanes” above the chart).")
