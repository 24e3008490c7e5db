"""What came of looking for an extraction path, as plain data and as text."""

from __future__ import annotations

from typing import Any

import numpy as np

from kestrav.core.document.lookup import qualified_name
from kestrav.core.document.records import Project
from kestrav.core.extraction.disassembly import Order
from kestrav.core.extraction.pulls import Pull
from kestrav.core.extraction.search import ExtractionPath, NoExtractionPath
from kestrav.core.extraction.snaps import Snap

_MOST_PULLS = 12  # that are told in a text


def as_data(project: Project, result: ExtractionPath | NoExtractionPath) -> dict[str, Any]:
    """JSON-ready: the stage that served with its poses, or what blocks; what was tried, and every pull."""
    data: dict[str, Any] = {
        "found": isinstance(result, ExtractionPath),
        "required_clearance_mm": result.required,
        "seed": result.seed,
        "seconds": round(result.seconds, 3),
        "tried": list(result.tried),
        "pulls": [_pull(project, pull) for pull in result.pulls],
    }
    if isinstance(result, ExtractionPath):
        data |= {
            "stage": result.stage,
            "length_mm": result.length,
            "points": len(result.poses),
            "slack_mm": result.slack,
            "greatest_tilt_deg": result.tilt,
            "rounded": result.rounding > 0,
            "status": _status(result),
            "certified_at_least_mm": _bound(result),
            "taken_away": [qualified_name(project, thing) for thing in result.aside],
            "poses": [
                {"translation_mm": list(at.translation), "turn_deg": np.degrees(at.turn).round(6).tolist()}
                for at in result.poses
            ],
        }
    else:
        data |= {
            "blockers": [qualified_name(project, part) for part in result.blockers],
            "blocker_ids": list(result.blockers),
            "direction": None if result.direction is None else list(result.direction),
            "snaps": [
                {
                    "pair": [qualified_name(project, snap.part), qualified_name(project, snap.other)],
                    "pair_ids": [snap.part, snap.other],
                    "deeper_mm": snap.deeper,
                    "distance_mm": snap.distance,
                    "direction": list(snap.direction),
                }
                for snap in result.snaps
            ],
        }
    return data


def _status(path: ExtractionPath) -> str:
    return "not checked" if path.certificate is None else path.certificate.status


def _bound(path: ExtractionPath) -> float | None:
    certificate = path.certificate
    return None if certificate is None or not np.isfinite(certificate.at_least) else certificate.at_least


def _snap(project: Project, snap: Snap) -> str:
    direction = ", ".join(f"{x:.2f}" for x in snap.direction)
    names = f"{qualified_name(project, snap.part)} in {qualified_name(project, snap.other)}"
    return f"{names}: {snap.deeper:.2f} mm deeper at {snap.distance:.1f} mm along ({direction}); allow it?"


def _pull(project: Project, pull: Pull) -> dict[str, Any]:
    return {
        "direction": list(pull.direction),
        "travel_mm": pull.travel,
        "free": pull.free,
        "slack_mm": pull.slack if pull.free else None,
        "blocker": None if pull.blocker is None else qualified_name(project, pull.blocker),
    }


def order_as_text(project: Project, order: Order) -> str:
    """The order in which things come out, and what holds the rest."""
    lines = []
    for removal in order.removals:
        direction = ", ".join(f"{x:.2f}" for x in removal.direction)
        legs = "" if len(removal.translations) == 2 else f" in {len(removal.translations) - 1} legs, at last"
        names = " and ".join(qualified_name(project, thing) for thing in removal.things)
        kind = " (fastener)" if removal.fastener else ""
        lines.append(f"{removal.step}. {names}{kind}: {removal.travel:.1f} mm{legs} along ({direction})")
    if order.stays is not None:
        lines.append(f"{qualified_name(project, order.stays)} stays")
    for thing in order.left:
        if thing not in order.blockers:
            lines.append(f"{qualified_name(project, thing)} was not looked at to the end")
            continue
        names = ", ".join(qualified_name(project, part) for part in order.blockers[thing])
        lines.append(f"{qualified_name(project, thing)} does not come out; it is held by {names}")
    return "\n".join(lines)


def order_as_data(project: Project, order: Order) -> dict[str, Any]:
    """The same, JSON-ready."""
    return {
        "removals": [
            {
                "thing": qualified_name(project, r.thing),
                "thing_id": r.thing,
                "together_with": [qualified_name(project, thing) for thing in r.companions],
                "step": r.step,
                "fastener": r.fastener,
                "direction": list(r.direction),
                "travel_mm": r.travel,
                "translations_mm": [list(leg) for leg in r.translations],
            }
            for r in order.removals
        ],
        "stopped": order.stopped,
        "stays": None if order.stays is None else qualified_name(project, order.stays),
        "left": [
            {
                "thing": qualified_name(project, t),
                "blockers": [qualified_name(project, p) for p in order.blockers.get(t, ())],
            }
            for t in order.left
        ],
    }


def as_text(project: Project, result: ExtractionPath | NoExtractionPath, *, table: bool = True) -> str:
    """What people read; with a ``table`` of the pulls."""
    lines = [f"Tried: {'; '.join(result.tried)}"]
    if isinstance(result, ExtractionPath):
        lines.append(
            f"Extraction path by {result.stage}: {result.length:.1f} mm, {len(result.poses)} points, tilt {result.tilt:.1f}° at most, "
            f"{result.slack:.2f} mm beyond the {result.required:g} mm required, {_status(result)}"
            f"{', corners rounded' if result.rounding > 0 else ''} (seed {result.seed}, {result.seconds:.1f} s)"
        )
        if result.aside:
            lines.append(f"Removed first: {', '.join(qualified_name(project, thing) for thing in result.aside)}")
    else:
        lines.append(f"No extraction path found (seed {result.seed}, {result.seconds:.1f} s)")
        if result.blockers and result.direction is not None:
            names = ", ".join(qualified_name(project, part) for part in result.blockers)
            direction = ", ".join(f"{x:.2f}" for x in result.direction)
            lines.append(f"Without {names} it could be pulled out along ({direction})")
        lines += [_snap(project, snap) for snap in result.snaps]
    if not table:
        return "\n".join(lines)
    lines += ["", f"{'free':<8} {'mm':>9}  direction            blocked by"]
    for pull in result.pulls[:_MOST_PULLS]:
        direction = ", ".join(f"{x:5.2f}" for x in pull.direction)
        blocker = "" if pull.blocker is None else qualified_name(project, pull.blocker)
        lines.append(f"{'free' if pull.free else 'blocked':<8} {pull.travel:9.1f}  {direction:<19}  {blocker}".rstrip())
    return "\n".join(lines) + "\n"
