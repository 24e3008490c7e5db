"""Run every measurement and print ratios.

Each pair is timed in turns in one run, several times over, and the medians are compared: a machine that
is busy with other things then slows both alike.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable

from PySide6.QtCore import QSettings

from bench import (
    adversarial,
    cameras,
    certificates,
    clearance,
    contacts,
    curves,
    extraction,
    films,
    finished,
    handing,
    imports,
    instances,
    large,
    motion,
    paths,
    picking,
    review,
    scale,
    stage,
    start,
    tree,
)


def in_turns(ours: Callable[[], object], bare: Callable[[], object], rounds: int) -> tuple[float, float]:
    """Median seconds of both, after one warm-up round each."""
    ours()
    bare()
    took: tuple[list[float], list[float]] = ([], [])
    for _ in range(rounds):
        for kept, work in zip(took, (ours, bare), strict=True):
            began = time.perf_counter()
            work()
            kept.append(time.perf_counter() - began)
    return statistics.median(took[0]), statistics.median(took[1])


def main() -> int:
    """Print one line per measurement; the exit code is 1 when a limit is missed."""
    missed = 0
    for measure in (
        clearance.sweep_against_every_pair,
        scale.many_parts_against_every_pair,
        scale.live_while_dragging,
        scale.growing_scenes,
        scale.two_million_triangles,
        large.opening,
        large.clearing,
        contacts.search_against_every_instant,
        certificates.certificate_against_sampling,
        adversarial.certificates_against_the_truth,
        extraction.puzzles_against_plain_planning,
        curves.stations_against_spline,
        paths.drag_step,
        paths.long_drag_step,
        paths.redrawing_ten_thousand_points,
        paths.large_dxf,
        motion.thousand_parts,
        motion.many_wheels,
        motion.timeline_redraw,
        motion.key_drag,
        imports.step_against_cascadio_and_trimesh,
        instances.thousand_of_fifty,
        picking.million_triangles,
        tree.ten_thousand_rows,
        cameras.watching_the_demo,
        cameras.watching_two_thousand_parts,
        cameras.scrubbing_against_bare_views,
        films.frames_against_bare_loop,
        films.preview_after_a_click,
        finished.against_the_bare_tracer,
        finished.against_many_samples,
        handing.gltf_against_every_sample,
        handing.going_on_with_a_film,
        review.review_against_bare_three,
        stage.redraw_against_bare_window,
        stage.playing,
        stage.redraw_of_a_large_assembly,
        start.first_frame,
    ):
        # nobody's settings are used or changed, and none are left for the next
        with tempfile.TemporaryDirectory() as settings:
            QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, settings)
            text, fine = measure(in_turns)
        missed += not fine
        print(f"{'ok    ' if fine else 'MISSED'} {text}", flush=True)
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
