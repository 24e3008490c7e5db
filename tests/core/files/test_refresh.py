"""Replacing geometry and reading a changed file again: what people did here is kept."""

import numpy as np
import pytest
import trimesh
from shapes import straight

from kestrav.core.document import edits
from kestrav.core.document.lookup import get
from kestrav.core.document.records import BoxForm, Camera, PartAim, Path as PathRecord, Placement, Project, Run
from kestrav.core.errors import BadInput
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.refresh import reload, replace
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts import arranging, placeholders, placing
from kestrav.core.parts.rest import rest_poses

MM = 0.001


def product(folder, parts, name="set.glb"):
    """A GLB of boxes: name → (size, place) in mm, all under one node “Set”; Y is up there, so z goes to −y."""
    scene = trimesh.Scene()
    scene.graph.update("Set", "world", matrix=np.eye(4))
    scene.graph.update("Body", "Set", matrix=np.eye(4))
    scene.graph.update("Other", "world", matrix=np.eye(4))
    scene.add_geometry(trimesh.creation.box((MM, MM, MM)), "Marker", "Marker", parent_node_name="Other")
    for part, (size, place) in parts.items():
        x, y, z = place
        at = trimesh.transformations.translation_matrix([x * MM, z * MM, -y * MM])
        body = trimesh.creation.box((size[0] * MM, size[2] * MM, size[1] * MM))
        scene.add_geometry(body, part, f"{part} shape", parent_node_name="Body", transform=at)
    target = folder / name
    target.write_bytes(scene.export(file_type="glb"))
    return target


PARTS = {
    "Case": ((100, 80, 60), (0, 0, 30)),
    "Lid": ((100, 80, 5), (0, 0, 65)),
    "Bolt": ((8, 8, 20), (40, 30, 60)),
}


@pytest.fixture
def opened(tmp_path):
    """The set, with a run for its lid and a camera that looks at the bolt."""
    imported = read_product(product(tmp_path, PARTS))
    project = into_project(Project(), imported)
    lid, bolt = of(project, "Lid"), of(project, "Bolt")
    project = edits.add(
        project,
        PathRecord("path-1", "Up", straight((0, 0, 65), (0, 0, 300))),
        Run("run-1", "Lid lifts", lid, "path-1"),
        Camera("camera-1", "Look", PartAim(bolt)),
    )
    return project, dict(imported.meshes)


def of(project, name):
    return next(p.id for p in project.parts if p.name == name)


def box_of(project, name):
    return placing.bounds_of(project, [of(project, name)])


def read_again(project, folder, parts):
    return reload(project, project.sources[0].id, read_product(product(folder, parts)))


def test_a_file_as_it_was_changes_nothing(opened, tmp_path):
    project, _ = opened
    after, changes = read_again(project, tmp_path, PARTS)
    assert not changes.any
    assert after == project


def test_added_gone_and_changed_parts_are_told_and_runs_kept(opened, tmp_path):
    project, _ = opened
    new = {
        "Case": ((120, 80, 60), (0, 0, 30)),
        "Lid": ((100, 80, 5), (0, 0, 90)),
        "Handle": ((10, 60, 10), (0, 0, 100)),
    }
    after, changes = read_again(project, tmp_path, new)
    assert changes.added == ("Handle",)
    assert changes.removed == ("Bolt",)
    assert changes.reshaped == ("Case",)
    assert changes.moved == ("Lid",)
    assert any("Look" in text for text in changes.lost)
    assert [r.name for r in after.runs] == ["Lid lifts"]
    assert of(after, "Lid") == of(project, "Lid")
    assert np.ptp(box_of(after, "Case"), axis=0) == pytest.approx([120, 80, 60], abs=1e-3)
    assert "Removed (1): Bolt" in changes.text()


def test_what_was_changed_here_stays(opened, tmp_path):
    project, _ = opened
    lid, case = of(project, "Lid"), of(project, "Case")
    project = edits.update(project, case, name="Housing", colour="#123456", role="fixed")
    project = placing.transform(project, [lid], placing.shift((500, 0, 0)))
    new = PARTS | {"Case": ((100, 80, 70), (0, 0, 35)), "Lid": ((100, 80, 5), (0, 0, 75))}
    after, changes = read_again(project, tmp_path, new)
    housing = get(after, case)
    assert (housing.name, housing.colour, housing.role) == ("Housing", "#123456", "fixed")
    assert box_of(after, "Lid").mean(axis=0) == pytest.approx([500, 0, 65], abs=1e-3)
    assert changes.reshaped == ("Housing",)


def test_a_part_put_under_another_parent_here_is_found_and_stays_there(opened, tmp_path):
    project, _ = opened
    project = arranging.group(project, [of(project, "Bolt")], "Loose things")
    after, changes = read_again(project, tmp_path, PARTS)
    assert get(after, of(after, "Bolt")).parent == of(after, "Loose things")
    assert changes.removed == ()
    assert np.allclose(box_of(after, "Bolt"), box_of(project, "Bolt"), atol=1e-3)


def test_a_renamed_part_in_the_same_place_is_found_by_place(opened, tmp_path):
    project, _ = opened
    new = {("Cover" if name == "Lid" else name): value for name, value in PARTS.items()}
    after, changes = read_again(project, tmp_path, new)
    assert changes.found_by_place == ("Cover",)
    assert after.runs[0].rider == of(after, "Cover") == of(project, "Lid")


def test_linked_copies_follow_the_file(opened, tmp_path):
    project, _ = opened
    project = arranging.copy(project, [of(project, "Case")], [placing.shift((0, 500, 0))])
    after, _ = read_again(project, tmp_path, PARTS | {"Case": ((50, 50, 50), (0, 0, 30))})
    cases = [p for p in after.parts if p.name.startswith("Case")]
    assert len(cases) == 2
    assert len({p.geometry for p in cases}) == 1


def test_an_unknown_source_is_refused(opened, tmp_path):
    with pytest.raises(BadInput, match="no source"):
        reload(opened[0], "source-9", read_product(product(tmp_path, PARTS)))


def standing(form=None):
    """A placeholder that is turned, carried by a run and looked at."""
    project, shape = placeholders.add_form(Project(), form or BoxForm(100, 80, 70), (200, 300, 0))
    part = project.parts[0].id
    project = placing.transform(project, [part], placing.turn_about((200, 300, 0), (0, 0, 1), np.pi / 2))
    project = placing.pivot_at_side(project, part, "middle")
    project = edits.add(
        project,
        PathRecord("path-1", "Way", straight((200, 300, 35), (900, 300, 35))),
        Run("run-1", "Trip", part, "path-1"),
        Camera("camera-1", "Look", PartAim(part)),
    )
    return project, part, shape


def test_a_placeholder_becomes_an_assembly_and_keeps_place_pivot_run_and_camera(tmp_path):
    project, part, _ = standing()
    after = replace(project, part, read_product(product(tmp_path, PARTS)))
    assert get(after, part).geometry is None
    assert get(after, part).name == project.parts[0].name
    assert {"Case", "Lid", "Bolt"} <= {p.name for p in after.parts}
    # the undersides' middles agree; the product is turned as the placeholder was
    assert box_of(after, "Case")[0, 2] == pytest.approx(0, abs=1)
    assert np.ptp(box_of(after, "Case"), axis=0) == pytest.approx([80, 100, 60], abs=1e-3)
    assert after.runs == project.runs
    assert after.cameras == project.cameras
    before_pose, after_pose = (world_poses(p, [2.0])[0][[q.id for q in p.parts].index(part)] for p in (project, after))
    assert after_pose == pytest.approx(before_pose, abs=1e-9)
    # and again: the same names keep their ids
    again = replace(after, part, read_product(product(tmp_path, PARTS)))
    assert of(again, "Lid") == of(after, "Lid")


def test_a_placeholder_becomes_one_solid_where_it_stood(tmp_path):
    body = trimesh.creation.box((0.05, 0.05, 0.05))
    body.apply_translation((1.0, 1.0, 1.0))
    (tmp_path / "one.glb").write_bytes(trimesh.Scene({"One": body}).export(file_type="glb"))
    project, part, _ = standing()
    after = replace(project, part, read_product(tmp_path / "one.glb"))
    assert len(after.parts) == 1
    low, high = placing.bounds_of(after, [part])
    assert [*(0.5 * (low + high))[:2], low[2]] == pytest.approx([200, 300, 0], abs=1e-2)
    assert placing.front_of(after, part)[0] == pytest.approx(placing.front_of(project, part)[0], abs=1e-6)
    assert {g.hash for g in after.geometry} == {after.parts[0].geometry}


def test_replacing_by_origin_lays_origins_on_each_other(tmp_path):
    project, part, _ = standing()
    after = replace(project, part, read_product(product(tmp_path, PARTS)), align="origin")
    rest = rest_poses(after)
    assert rest[0][:3, 3] == pytest.approx([200, 300, 0], abs=1e-6)
    assert box_of(after, "Case").mean(axis=0) == pytest.approx([200, 300, 30], abs=1e-3)


def test_placements_in_the_file_are_kept_to_their_digits(opened):
    project, _ = opened
    assert isinstance(get(project, of(project, "Lid")).placement, Placement)
    assert box_of(project, "Bolt").mean(axis=0) == pytest.approx([40, 30, 60], abs=1e-3)
