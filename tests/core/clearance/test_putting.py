"""Putting down what rides."""

import numpy as np
import pytest
from shapes import box_mesh, straight

from kestrav.core.clearance.putting import as_it_is, put_at, put_down, target_placement
from kestrav.core.document import edits
from kestrav.core.document.records import Attachment, Eased, Part, Path, Placement, Project, Run
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.findings.check import find_all
from kestrav.core.findings.model import Evidence
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import frame_times
from kestrav.core.parts.solids import geometry_record


@pytest.fixture
def lifted():
    """A hook carries a crate over a cart, which sets out later."""
    shapes = {"hook": (20, 20, 20), "crate": (100, 80, 60), "cart": (300, 200, 100), "table": (200, 200, 50)}
    places = {"hook": (0, 0, 500), "crate": (0, 0, 430), "cart": (800, 0, 50), "table": (0, 800, 25)}
    meshes = {name: box_mesh(*size) for name, size in shapes.items()}
    parts = tuple(Part(n, n, placement=Placement(places[n]), geometry=m.hash) for n, m in meshes.items())
    made = Project(parts=parts, geometry=tuple(geometry_record(m) for m in meshes.values()))
    made = edits.add(
        made,
        Path("over", "Over", straight((0, 0, 500), (800, 0, 500))),
        Path("away", "Away", straight((800, 0, 50), (1800, 0, 50))),
        Run("run-1", "Swings", "hook", "over", duration=2.0, speed_profile=Eased(100, 100)),
        Run("run-2", "Leaves", "cart", "away", start=4.0, duration=2.0, speed_profile=Eased(100, 100)),
        Attachment("attachment-1", "Crate hangs", "crate", "hook"),
    )
    return made, {m.hash: m for m in meshes.values()}


def bottom(made, time):
    return float(Motion(made).poses("crate", [time])[0, 2, 3]) - 30


def test_it_is_put_onto_what_lies_below_and_rides_on_with_it(lifted):
    made, meshes = lifted
    made = put_down(made, meshes, "attachment-1", 3.5)
    first, second = made.attachments
    assert (first.end, first.onto, second.carrier, second.start) == (3.5, "cart", "cart", 3.5)
    assert bottom(made, 2.4) == pytest.approx(400) and bottom(made, 3.5) == pytest.approx(100, abs=1e-2)
    times = np.linspace(0, 6, 6001)
    places = Motion(made).poses("crate", times)[:, :3, 3]
    # no jump at pick-up, lowering, put-down and setting out
    assert np.linalg.norm(np.diff(places, axis=0), axis=1).max() < 1.0
    assert places[-1] == pytest.approx((1800, 0, 130), abs=1e-2)
    rules = {f.rule for f in find_all(Evidence(made, meshes, frame_times(made)))}
    assert not rules & {"jump", "overlap", "released-in-motion", "attached-in-motion", "speed-jump"}
    # lowered softly over the last second
    assert bottom(made, 3.0) == pytest.approx(250, abs=1.0)


def test_onto_what_stands_it_stays_there(lifted):
    made, meshes = lifted
    over = edits.update(made, "over", shape=straight((0, 0, 500), (0, 800, 500)))
    made = put_down(over, meshes, "attachment-1", 3.5)
    assert len(made.attachments) == 1 and made.attachments[0].onto is None
    assert Motion(made).poses("crate", [6.0])[0, :3, 3] == pytest.approx((0, 800, 80), abs=1e-2)
    assert target_placement(made, made.attachments[0]).position == pytest.approx((0, 800, 80), abs=1e-2)


def test_onto_the_floor_where_nothing_is(lifted):
    made, meshes = lifted
    made = put_down(made, meshes, "attachment-1", 1.0)
    assert bottom(made, 1.0) == pytest.approx(0, abs=1e-2)


def test_a_target_placement_and_as_it_is(lifted):
    made, _ = lifted
    made = edits.update(made, "attachment-1", end=3.0)
    turned = Placement((700.0, 50.0, 200.0), (np.cos(0.4), 0.0, 0.0, np.sin(0.4)))
    put = put_at(made, "attachment-1", turned)
    pose = Motion(put).poses("crate", [3.0])[0]
    assert pose[:3, 3] == pytest.approx(turned.position) and np.arctan2(pose[1, 0], pose[0, 0]) == pytest.approx(0.8)
    assert Motion(as_it_is(put, "attachment-1")).poses("crate", [3.0])[0, :3, 3] == pytest.approx((800, 0, 430))


def test_what_cannot_be_put_down_is_refused(lifted):
    made, meshes = lifted
    with pytest.raises(BadInput, match="after that"):
        put_down(edits.update(made, "attachment-1", start=2.0), meshes, "attachment-1", 1.0)
    with pytest.raises(BadInput, match="has no end"):
        put_at(made, "attachment-1", Placement())
    ended = edits.update(made, "attachment-1", end=3.0, put=Placement(), onto="cart")
    assert edits.remove(ended, "cart").attachments[0].put is None


def test_it_stops_at_once_where_it_is_let_go_from_what_moves(lifted):
    made, meshes = lifted
    made = edits.update(made, "attachment-1", end=1.0)
    found = [f for f in find_all(Evidence(made, meshes, frame_times(made))) if f.rule == "released-in-motion"]
    assert len(found) == 1 and found[0].value > 400
    mended = found[0].fix.edit(made)
    assert mended.attachments[0].end == pytest.approx(2.0, abs=0.02)
    assert not [f for f in find_all(Evidence(mended, meshes, frame_times(mended))) if f.rule == "released-in-motion"]
    snatched = edits.update(made, "attachment-1", start=1.0, end=None)
    assert [f for f in find_all(Evidence(snatched, meshes, frame_times(snatched))) if f.rule == "attached-in-motion"]


def test_it_is_kept_in_the_file(lifted, tmp_path):
    made, meshes = lifted
    made = put_down(made, meshes, "attachment-1", 3.5)
    project_file.save(made, meshes, tmp_path / "lift.kestrav")
    assert project_file.load(tmp_path / "lift.kestrav").project == made
