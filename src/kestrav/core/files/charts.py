"""Curves over time or distance as a picture: SVG or PNG, one lane above another, with limits and what breaches them."""

from __future__ import annotations

import io
from collections.abc import Sequence
from importlib import resources
from pathlib import Path

import msgspec
import numpy as np
from numpy.typing import NDArray

from kestrav import __version__
from kestrav.core.errors import BadInput
from kestrav.core.files.writing import as_csv, refuse_existing, write_whole

Array = NDArray[np.float64]

_WIDE, _TALL, _HEAD = 10.0, 1.35, 0.9  # inches of the width, of a lane, and of heading and axis
_DPI = 144
_INK, _RULE, _LINE, _BREACH, _CARD = "#1d2a33", "#d9d2c3", "#0d6b74", "#d6452b", "#fffdf8"


class Charted(msgspec.Struct, frozen=True):
    """A curve: its title and unit, places along the axis (n,) and values (n,) (NaN: none), its limit in the same unit, and the spans
    (first, last) of the axis in which that is breached. What is above ``top`` runs along the top."""

    title: str
    unit: str
    x: Array
    values: Array
    limit: float | None = None
    breached: Sequence[tuple[float, float]] = msgspec.field(default_factory=tuple)
    top: float | None = None


def write_chart(
    lanes: Sequence[Charted], target: Path, title: str, axis: str = "time in s", *, overwrite: bool = False
) -> Path:
    """Write lanes, over one axis, as ``.svg`` or ``.png`` by the target's ending.

    Raises BadInput where there is nothing to draw, for another ending, and for a file that is there or cannot be written.
    """
    ending = target.suffix.lower()
    if ending not in (".svg", ".png"):
        raise BadInput(f"“{target}” has an ending that is not known: give .svg or .png")
    refuse_existing(target, force=overwrite)
    lanes = [lane for lane in lanes if np.isfinite(lane.values).any()]
    if not lanes:
        raise BadInput(
            "there is nothing to draw: none of the lanes has a value; let something move, or choose other lanes"
        )
    write_whole(target, drawn(lanes, title, axis, ending[1:]))
    return target


def drawn(lanes: Sequence[Charted], title: str, axis: str, form: str) -> bytes:
    """Lanes as the bytes of an SVG or PNG file."""
    import matplotlib
    from matplotlib import font_manager
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    fonts = resources.files("kestrav") / "assets" / "fonts"
    for name in ("OpenSans-Regular.ttf", "OpenSans-Semibold.ttf"):
        font_manager.fontManager.addfont(str(fonts / name))
    # text stays text; the same curves give the same bytes
    style = {
        "font.family": "Open Sans",
        "font.size": 10,
        "svg.fonttype": "none",
        "svg.hashsalt": "kestrav",
        "text.parse_math": False,  # a $ in a name is a $
    }
    with matplotlib.rc_context(style):  # type: ignore[arg-type]  # names that are not literals
        figure = Figure(figsize=(_WIDE, _HEAD + _TALL * len(lanes)), facecolor=_CARD, layout="constrained")
        (FigureCanvasSVG if form == "svg" else FigureCanvasAgg)(figure)
        figure.suptitle(title, x=0.01, ha="left", color=_INK, weight=600, size=13)
        axes = figure.subplots(len(lanes), 1, sharex=True, squeeze=False)[:, 0]
        for at, lane in zip(axes, lanes, strict=True):
            at.set_facecolor("white")
            for first, last in lane.breached:
                at.axvspan(first, last, color=_BREACH, alpha=0.18, lw=0)
            values = lane.values if lane.top is None else np.minimum(lane.values, 1.03 * lane.top)
            at.plot(lane.x, values, color=_LINE, lw=1.4)
            if lane.top is not None:
                at.set_ylim(top=1.06 * lane.top)
            if lane.limit is not None:
                at.axhline(lane.limit, color=_INK, lw=1.0, ls=(0, (5, 3)))
                at.annotate(
                    f"limit {lane.limit:g} {lane.unit}", (1.0, lane.limit), (-3, 3), ("axes fraction", "data"), "offset points",
                    ha="right", size=8, color=_INK, annotation_clip=True,
                ).set_in_layout(False)  # fmt: skip  # a limit far off the curve would leave the axes no room
            name = lane.title.replace("\n", ": ")
            at.set_title(f"{name} in {lane.unit}" if lane.unit else name, loc="left", color=_INK, size=9, pad=3)
            at.grid(True, color=_RULE, lw=0.6)
            at.tick_params(colors=_INK, length=3)
            for spine in at.spines.values():
                spine.set_color(_RULE)
            at.margins(x=0.0)
        axes[-1].set_xlabel(axis, color=_INK)
        out = io.BytesIO()
        if form == "svg":
            figure.savefig(out, format="svg", metadata={"Creator": f"Kestrav {__version__}", "Date": None})
        else:
            figure.savefig(out, format="png", dpi=_DPI, metadata={"Software": f"Kestrav {__version__}", "Title": title})
    return out.getvalue()


def write_lane_table(
    lanes: Sequence[Charted], target: Path, axis: str = "time in s", *, overwrite: bool = False
) -> Path:
    """Write lanes over one axis as CSV: the axis, then a column each with its unit, at all of their places; empty where a lane has no value.

    Raises BadInput where there are none, for another ending, and for a file that is there or cannot be written.
    """
    if target.suffix.lower() != ".csv":
        raise BadInput(f"“{target}” has an ending that is not known: give .csv")
    refuse_existing(target, force=overwrite)
    if not lanes:
        raise BadInput("there are no lanes to write; let something move first")
    times = np.unique(np.concatenate([lane.x for lane in lanes]))
    columns = [np.interp(times, lane.x, lane.values, left=np.nan, right=np.nan) for lane in lanes]
    titles = [f"{' '.join(lane.title.split())} [{lane.unit}]" for lane in lanes]
    rows = (
        [f"{time:.9g}", *("" if not np.isfinite(c[k]) else f"{c[k]:.9g}" for c in columns)]
        for k, time in enumerate(times)
    )
    write_whole(target, as_csv([f"{axis.replace(' in ', ' [')}]", *titles], rows).encode("utf-8"))
    return target
