"""Surfaces are as bright in the stage's shading and quick pictures as in finished ones, up to white and beyond."""

import msgspec
import numpy as np
import pytest
from shapes import box_mesh, make_project

from kestrav.core.camera.making import add_standing
from kestrav.core.colours import to_linear
from kestrav.core.document import edits
from kestrav.core.document.records import Light, PointAim
from kestrav.core.document.surfaces import Finish
from kestrav.core.light.response import KNEE, shown_light
from kestrav.core.light.setups import SETUPS
from kestrav.render.picture import Studio
from kestrav.render.tracing.studio import FinishedStudio


def shown(setup, colour, quality, place, exposure=0.0, *lamps):
    """The mean colour of the middle of a picture of a matt block, which fills it, from a place (3,)."""
    opened = make_project({"Block": (box_mesh(4000, 4000, 4000), (0, 0, 0))})
    project = edits.add(opened.project, Finish("finish-1", "Matt", colour, roughness=1.0, index=1.0), *lamps)
    project = edits.update(project, "part-1", finish="finish-1")
    project = edits.light(project, setup=setup, exposure=exposure)
    project = add_standing(project, place, np.zeros(3), focal_length=80.0)
    shot = msgspec.structs.replace(
        project.shots[0], width=64, height=36, quality=quality, samples=24, floor="none", background="#808080"
    )
    maker = FinishedStudio if quality == "finished" else Studio
    studio = maker(project, opened.meshes, shot, 64, 36)
    try:
        picture = studio.picture(project.cameras[0], 0.0)
    finally:
        studio.close()
    return picture[12:24, 20:44].reshape(-1, 3).mean(axis=0)


@pytest.mark.parametrize("setup", [name for name in SETUPS if name != "environment"])
def test_a_matt_wall_and_a_level_plane_are_as_bright_in_quick_pictures_as_in_finished_ones(setup):
    for place in ((0.0, -6000.0, 0.0), (0.0, -10.0, 6000.0)):
        quick, fine = (shown(setup, "#b0a080", quality, place) for quality in ("good", "finished"))
        assert np.abs(quick - fine).max() < 20, (place, quick, fine)


@pytest.mark.parametrize("kind", ["point", "spot", "sun"])
def test_a_lamp_of_the_project_is_as_bright_in_quick_pictures_as_in_finished_ones(kind):
    # 2 m before the wall; the sun in lux, the others in candela
    strength = 250.0 if kind == "sun" else 1000.0
    lamp = Light("light-1", "Lamp", kind, (0.0, -4000.0, 0.0), PointAim((0.0, 0.0, 0.0)), strength, "#ffffff", 120.0)
    given = []
    for quality in ("good", "finished"):
        dark, lit = (
            shown("three-point", "#808080", quality, (0.0, -3000.0, 0.0), -1.0, *lamps) for lamps in ((), (lamp,))
        )
        given.append(float((to_linear(lit / 255) - to_linear(dark / 255)).mean()))
    assert given[1] > 0.02 and given[0] == pytest.approx(given[1], rel=0.25)


def test_highlights_are_drawn_together_alike():
    # two and four times as much light: beyond the knee neither is cut off at white
    place = (0.0, -6000.0, 0.0)
    before = 0.0
    for exposure in (0.0, 1.0, 2.0):
        quick, fine = (shown("three-point", "#e0e0e0", q, place, exposure) for q in ("good", "finished"))
        assert np.abs(quick - fine).max() < 14, (exposure, quick, fine)
        assert before + 1 < quick[1] < 255
        before = quick[1]
    assert before > 255 * shown_light(np.array(KNEE))
