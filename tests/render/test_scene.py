"""The scene's batches, the marks over it, and the viewpoint."""

import numpy as np
import pytest
import trimesh
from shapes import box_mesh, make_project, straight
from vtkmodules.vtkRenderingCore import vtkRenderer, vtkRenderWindow

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, LightSetup, Path, PathPoint, PointAim, PointShape, Project
from kestrav.core.document.surfaces import Finish
from kestrav.core.editing.finishing import with_finish
from kestrav.core.geometry.meshes import mesh
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.parts import placing
from kestrav.core.paths.path_curves import path_curve
from kestrav.render.aiming import aim_camera
from kestrav.render.marks import Dimension, PathMarks, chainage_ticks, frustum, grid, handle_geometry, tick_spacing
from kestrav.render.picture import plain_studio
from kestrav.render.scene import Scene
from kestrav.render.steady_light import light
from kestrav.render.viewpoint import Viewpoint, facing, on_plane, ray, to_display


def bounds_of(actor):
    return np.array(actor.GetBounds()).reshape(3, 2).T


def test_parts_that_move_as_one_are_one_batch(passing):
    scene = Scene()
    scene.update(passing.project, passing.meshes)
    assert len(scene.batches) == 2
    assert sorted(scene.shown_parts()) == ["part-1", "part-2", "part-3"]
    mover = next(b for b in scene.batches if b.members[0].part == "part-1")
    scene.pose(world_poses(passing.project, [1.0])[0])
    assert bounds_of(mover.stage) == pytest.approx(np.array([[-10, -10, -10], [10, 10, 10]]), abs=1e-4)


def test_a_cell_tells_its_part_and_a_vertex_its_colour(passing):
    project = edits.update(passing.project, "part-3", colour="#336699")
    scene = Scene()
    scene.update(project, passing.meshes)
    still = next(b for b in scene.batches if len(b.members) == 2)
    assert [m.part for m in still.members] == ["part-2", "part-3"]
    colours = still.stage.GetMapper().GetInput().GetPointData().GetScalars()
    assert colours.GetTuple(colours.GetNumberOfTuples() - 1) == (0x33, 0x66, 0x99)


def test_an_edit_makes_batches_anew_only_when_it_concerns_them(passing):
    scene = Scene()
    scene.update(passing.project, passing.meshes)
    before = scene.batches
    scene.update(edits.set_point(passing.project, "path-1", 1, position=(90.0, 0.0, 0.0)), passing.meshes)
    assert scene.batches is before
    scene.update(edits.update(passing.project, "part-2", shown=False), passing.meshes)
    assert "part-2" not in scene.shown_parts()
    scene.update(edits.remove(passing.project, "run-1"), passing.meshes)
    assert len(scene.batches) == 1


def test_see_through_parts_are_drawn_apart(passing):
    project = edits.update(passing.project, "part-2", opacity=0.4)
    scene = Scene()
    scene.update(project, passing.meshes)
    clear = next(b for b in scene.batches if b.members[0].part == "part-2")
    assert clear.final.GetProperty().GetOpacity() == pytest.approx(0.4)
    assert not clear.final.GetProperty().GetBackfaceCulling()


def test_edges_are_left_out_where_they_are_not_wanted(passing):
    scene, renderer = Scene(), vtkRenderer()
    scene.update(passing.project, passing.meshes)
    scene.show_in(renderer, edges=False, stage=True)
    assert renderer.GetActors().GetNumberOfItems() == 2
    scene.show_in(renderer, edges=True, stage=True)
    assert renderer.GetActors().GetNumberOfItems() == 4


@pytest.fixture(scope="module")
def seen():
    """A renderer that looks at the origin, in a window that has been drawn."""
    view = Viewpoint()
    view.frame([[-100, -100, -100], [100, 100, 100]])
    renderer, window = vtkRenderer(), vtkRenderWindow()
    light(renderer)
    window.SetOffScreenRendering(True)
    window.SetSize(400, 300)
    window.AddRenderer(renderer)
    aim_camera(renderer, view.position, view.focus, view.up, view.angle, 1e5)
    window.Render()
    yield view, renderer
    window.Finalize()


def test_a_ray_through_a_points_pixel_meets_the_point(seen, random):
    _, renderer = seen
    for point in random.uniform(-80, 80, (10, 3)):
        x, y, depth = to_display(renderer, point)[0]
        assert 0 < depth < 1
        origin, way = ray(renderer, x, y)
        assert np.linalg.norm(np.cross(point - origin, way)) < 0.05


def test_what_is_behind_the_eye_is_told(seen):
    view, renderer = seen
    assert to_display(renderer, view.position - 500 * view.forward)[0, 2] > 1


def test_a_ray_meets_a_plane_ahead_and_no_other():
    origin, way = np.array([0.0, 0, 100]), np.array([0.0, 0, -1])
    assert on_plane(origin, way, (0, 0, 20), (0, 0, 1)) == pytest.approx([0, 0, 20])
    assert on_plane(origin, way, (0, 0, 120), (0, 0, 1)) is None
    assert on_plane(origin, way, (0, 0, 0), (1, 0, 0)) is None


def test_the_viewpoint_frames_turns_and_zooms():
    view = Viewpoint()
    view.frame([[0, 0, 0], [200, 100, 100]])
    assert view.focus == pytest.approx([100, 50, 50])
    corner = np.array([200.0, 100, 100]) - view.position
    angle = np.arccos(corner @ view.forward / np.linalg.norm(corner))
    assert angle < view.angle / 2
    view.turn(0.0, 9.0)
    assert view.elevation < np.pi / 2
    place = view.focus + 10 * view.right
    before = (place - view.position) @ view.right / ((place - view.position) @ view.forward)
    view.zoom(0.5, place)
    after = (place - view.position) @ view.right / ((place - view.position) @ view.forward)
    # the point under the pointer keeps its place in the picture
    assert after == pytest.approx(before)
    view.look_from((0, -1, 0))
    assert view.forward == pytest.approx([0, 1, 0], abs=1e-9)


@pytest.mark.parametrize(("length", "spacing"), [(1801.0, 100.0), (9410.0, 500.0), (37.0, 2.0), (250_000.0, 20_000.0)])
def test_chainage_is_round(length, spacing):
    assert tick_spacing(length) == pytest.approx(spacing)


def test_ticks_stand_across_the_path_at_their_stations():
    curve = path_curve(Path("p", "P", straight((0, 0, 0), (2400, 0, 0))))
    ordinary, long = chainage_ticks(curve, 10.0)
    assert len(ordinary) + len(long) == 25
    assert long[:, :, 0].mean(axis=1) == pytest.approx([0, 1000, 2000])
    assert np.linalg.norm(ordinary[:, 0] - ordinary[:, 1], axis=1) == pytest.approx(np.full(22, 20.0))
    assert ordinary[:, 0, 0] == pytest.approx(ordinary[:, 1, 0])


def test_handles_are_shown_for_free_points_only():
    shape = PointShape((PathPoint((0, 0, 0), "free", None, (5, 0, 0)), PathPoint((9, 0, 0), "smooth", None, (1, 1, 1))))
    points, lines, ends = handle_geometry(Path("p", "P", shape))
    assert len(points) == 2
    assert ends == pytest.approx(np.array([[5, 0, 0]]))
    assert lines[0] == pytest.approx(np.array([[0, 0, 0], [5, 0, 0]]))
    assert [len(v) for v in handle_geometry(None)] == [0, 0, 0]


def test_marks_follow_their_paths():
    opened = make_project({"A": (box_mesh(1, 1, 1), (0, 0, 0))}, straight((0, 0, 0), (100, 0, 0)))
    renderer, over = vtkRenderer(), vtkRenderer()
    marks = PathMarks(renderer, over)
    marks.update(opened.project, "path-1", (1,), 1.0)
    first = marks.drawn["path-1"]
    line = marks.chosen.actors[0].GetMapper().GetInput()
    assert np.array(line.GetBounds()) == pytest.approx([0, 100, 0, 0, 0, 0])
    marks.update(opened.project, "path-1", (1,), 1.05)
    assert marks.drawn["path-1"] is first and marks.chosen.actors[0].GetMapper().GetInput() is line
    marks.update(opened.project, None, (), 1.0)
    assert not marks.chosen.actors[0].GetVisibility() and marks.others.actors[0].GetVisibility()
    marks.update(edits.remove(opened.project, "path-1"), None, (), 1.0)
    assert marks.drawn == {} and not marks.others.actors[0].GetVisibility()


def test_ticks_do_not_crowd_seen_from_afar():
    curve = path_curve(Path("p", "P", straight((0, 0, 0), (2400, 0, 0))))
    for least in (0.0, 90.0, 430.0, 5000.0):
        ticks = np.concatenate(chainage_ticks(curve, 10.0, least))
        stations = np.sort(ticks[:, :, 0].mean(axis=1))
        assert np.diff(stations).min(initial=np.inf) >= max(least, 100.0) - 1e-9


def test_a_gap_is_vermilion_only_as_a_breach():
    dimension = Dimension(vtkRenderer())
    dimension.show([[0, 0, 0], [3, 0, 0]], 1.0, breach=True)
    red = dimension.actor.GetProperty().GetColor()
    dimension.show([[0, 0, 0], [0, 0, 0]], 1.0, breach=False)
    assert dimension.actor.GetProperty().GetColor() != red
    dimension.show(None, 1.0)
    assert not dimension.actor.GetVisibility()


def test_grid_and_frustum_have_their_shape():
    lines = grid([0, 0, 0], [1000, 500, 0], 100.0)
    assert lines.GetNumberOfLines() == 11 + 6
    drawn = frustum(np.zeros(3), np.array([0, 1.0, 0]), np.array([0, 0, 1.0]), np.radians(90), 2.0, 100.0)
    # half height 100, half width 200 at a depth of 100
    assert np.abs(drawn[:4, 1]) == pytest.approx(np.tile([200, 100, 100], (4, 1)))


def test_drawing_planes_face_the_viewer():
    assert facing(np.array([0.2, 0.9, -0.3])) == pytest.approx([0, 1, 0])
    assert facing(np.array([-0.9, 0.2, -0.3])) == pytest.approx([1, 0, 0])


# preparing


def test_parts_that_are_only_placed_otherwise_are_followed_and_split_off(passing):
    scene = Scene()
    scene.update(passing.project, passing.meshes)
    project = placing.transform(passing.project, ["part-3"], placing.shift((0, 0, -40)))
    scene.update(project, passing.meshes)
    scene.pose(world_poses(project, [0.0])[0])
    floor = next(b for b in scene.batches if b.members[0].part == "part-3")
    assert [m.part for m in floor.members] == ["part-3"]
    assert bounds_of(floor.stage)[:, 2] == pytest.approx([-60, -50], abs=1e-3)
    # a further step moves the same batch on
    again = placing.transform(project, ["part-3"], placing.shift((0, 0, -1)))
    scene.update(again, passing.meshes)
    scene.pose(world_poses(again, [0.0])[0])
    assert floor in scene.batches
    assert bounds_of(floor.stage)[:, 2] == pytest.approx([-61, -51], abs=1e-3)


def test_a_riders_batch_follows_its_run_after_its_rest_was_moved(passing):
    scene = Scene()
    scene.update(passing.project, passing.meshes)
    project = placing.transform(passing.project, ["part-1"], placing.shift((0, 70, 0)))
    scene.update(project, passing.meshes)
    scene.pose(world_poses(project, [1.0])[0])
    mover = next(b for b in scene.batches if b.members[0].part == "part-1")
    # a rider's pivot lies on its path wherever it rests
    assert bounds_of(mover.stage) == pytest.approx(np.array([[-10, -10, -10], [10, 10, 10]]), abs=1e-4)


def test_large_geometry_that_is_placed_often_is_drawn_by_sharing():
    body = trimesh.creation.icosphere(subdivisions=4, radius=10)
    ball = mesh(body.vertices, body.faces)
    opened = make_project({f"Ball {i}": (ball, (30.0 * i, 0.0, 5.0)) for i in range(6)})
    scene = Scene()
    scene.update(opened.project, opened.meshes)
    assert len(scene.batches) == 6
    assert len({id(b.stage.GetMapper().GetInput()) for b in scene.batches}) == 1
    scene.pose(world_poses(opened.project, [0.0])[0])
    assert bounds_of(scene.batches[4].stage) == pytest.approx(np.array([[110, -10, -5], [130, 10, 15]]), abs=1e-3)


def test_tinted_faces_have_their_own_colour_and_follow_no_other(passing):
    box = box_mesh(10, 10, 10)
    tinted = mesh(box.vertices, box.triangles, (), None, ("", "#ff0000"), (np.arange(12) < 2).astype(np.int32))
    opened = make_project({"Box": (tinted, (0, 0, 5))})
    project = edits.restyle(opened.project, ["part-1"], colour="#0000ff")
    scene = Scene()
    scene.update(project, opened.meshes)
    data = scene.batches[0].stage.GetMapper().GetInput().GetPointData().GetScalars()
    colours = {tuple(int(v) for v in data.GetTuple(i)) for i in range(data.GetNumberOfTuples())}
    assert colours == {(255, 0, 0), (0, 0, 255)}


def test_only_some_parts_are_shown_when_they_are_isolated(passing):
    scene = Scene()
    scene.update(passing.project, passing.meshes, frozenset({"part-2"}))
    assert scene.shown_parts() == ["part-2"]


@pytest.mark.parametrize("style", ["solid", "see-through", "wire", "finished"])
def test_styles_change_what_a_stage_shows_and_finishes_what_the_film_shows(passing, style):
    glass = Finish("", "Glass", roughness=0.05, transmission=0.9)
    project = with_finish(passing.project, ["part-2"], glass)
    scene = Scene()
    scene.update(project, passing.meshes)
    scene.set_style(style)
    glass = next(b for b in scene.batches if b.members[0].part == "part-2")
    assert glass.final.GetProperty().GetOpacity() == pytest.approx(0.325)
    assert glass.stage.GetVisibility() == (style != "wire")
    expected = {"solid": 0.325, "see-through": 0.32, "wire": 1.0, "finished": 0.325}[style]
    assert glass.stage.GetProperty().GetOpacity() == pytest.approx(expected)


def test_a_metal_ball_is_drawn_with_light_and_shade():
    body = trimesh.creation.icosphere(subdivisions=4, radius=100)
    ball = mesh(body.vertices, body.faces)
    opened = make_project({"Ball": (ball, (0, 0, 0))})
    metal = Finish("", "Metal", metallic=1.0, roughness=0.28, colour="#c0c0c0")
    project = with_finish(opened.project, ["part-1"], metal)
    project = edits.add(project, Camera("camera-1", "Eye", PointAim((0, 0, 0)), (0.0, -600.0, 100.0)))
    studio = plain_studio(project, opened.meshes, 160, 90, "#000000")
    picture = studio.picture(project.cameras[0], 0.0).astype(float).mean(axis=2)
    studio.close()
    ball_pixels = picture[picture > 2]
    assert len(ball_pixels) > 1000
    # it mirrors a bright side and a dark one, and neither is lost
    assert ball_pixels.max() - ball_pixels.min() > 60
    assert (ball_pixels > 250).mean() < 0.3


def test_a_parallel_view_shows_equal_things_equally_large_and_in_front_of_it_too():
    renderer = vtkRenderer()
    window = vtkRenderWindow()
    window.SetOffScreenRendering(True)
    window.SetSize(400, 400)
    window.AddRenderer(renderer)
    view = Viewpoint()
    view.parallel = True
    view.look_from((0, 0, 1))
    view.frame([[-100, -100, 0], [100, 100, 0]], 1.0, 1.0)
    aim_camera(renderer, view.position, view.focus, view.up, view.angle, 200_000, parallel=view.parallel)
    window.Render()
    near, far = (to_display(renderer, [(-100, 0, z), (100, 0, z)]) for z in (1000.0, -1000.0))
    assert np.ptp(near[:, 0]) == pytest.approx(np.ptp(far[:, 0]))
    assert np.ptp(near[:, 0]) == pytest.approx(400, abs=1)
    assert (near[:, 2] < 1).all()
    _, way = ray(renderer, 200, 200)
    assert way == pytest.approx([0, 0, -1], abs=1e-9)


def test_many_paths_are_drawn_some_at_a_time_and_the_chosen_one_at_once():
    shape = PointShape((PathPoint((0.0, 0.0, 0.0)), PathPoint((500.0, 0.0, 0.0))))
    project = Project(paths=tuple(Path(f"path-{n}", f"Path {n}", shape) for n in range(50)))
    marks = PathMarks(vtkRenderer(), vtkRenderer())
    drawn = []
    for _ in range(3):
        marks.update(project, "path-49", [], 1.0)
        drawn.append((len(marks.drawn), marks.behind, "path-49" in marks.drawn))
    assert drawn == [(21, True, True), (41, True, True), (50, False, True)]


def test_no_set_up_shows_a_plain_surface_beyond_white_but_by_its_level():
    from kestrav.core.light.setups import SETUPS

    for name in SETUPS[1:]:
        shone = []
        for level in (0.0, 1.0):
            renderer = vtkRenderer()
            light(renderer, LightSetup(name, level=level))
            lamps = [lamp for lamp in renderer.GetLights() if not lamp.LightTypeIsHeadlight()]
            towards = np.array([lamp.GetPosition() for lamp in lamps])
            strong = np.array([lamp.GetIntensity() * np.array(lamp.GetDiffuseColor()) for lamp in lamps])
            towards = towards / np.linalg.norm(towards, axis=1, keepdims=True)
            shone.append(float((np.clip(towards @ towards.T, 0, None) @ strong @ [0.2126, 0.7152, 0.0722]).max()))
        assert shone[0] <= 1.0 and shone[1] == pytest.approx(2.0 * shone[0])
