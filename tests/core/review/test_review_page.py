"""The review page: exact motion, by Chromium; clicks, scrubbing, comments, pixels of the gap; nothing injected, nothing asked of anybody."""

import csv
import io
import json

import msgspec
import numpy as np
import pytest
import trimesh
from browser import until
from pictured import QUARTERS, parts, plate, wavy
from PIL import Image
from players import Player
from poses_on_page import PLACE, TURN, off
from pxr import Usd, UsdGeom
from scipy.spatial import cKDTree
from shapes import box_mesh, make_project

from kestrav.core.camera.making import add_standing
from kestrav.core.camera.views import views
from kestrav.core.document import edits
from kestrav.core.document.records import Colourway, Comment, GivenFinish, Project, SavedView
from kestrav.core.document.surfaces import Finish
from kestrav.core.errors import BadInput
from kestrav.core.files.gltf_export import animated
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.tables import pose_table
from kestrav.core.files.usd_export import write_usd
from kestrav.core.findings.check import check
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.runs import frame_times, span
from kestrav.core.review.comment_files import add_comments, read_comments
from kestrav.core.review.packing import Pack, unpacked
from kestrav.core.review.review_page import review_page, write_review_page

BREACH = (214, 69, 43)


def pixels_of(page, colour, near=40):
    """The places (n, 2) of pixels about like a colour in the product's picture."""
    shot = np.asarray(Image.open(io.BytesIO(page.screenshot(timeout=60_000))).convert("RGB"), int)
    box = page.locator("#stage").bounding_box()
    left, top = int(box["x"]), int(box["y"])
    part = shot[top : top + int(box["height"]), left : left + int(box["width"])]
    rows, columns = np.nonzero(np.abs(part - colour).max(axis=2) < near)
    return np.column_stack([columns, rows])


@pytest.fixture(scope="module")
def made():
    """Pages that were made, by what they show."""
    return {}


def test_arrays_are_packed_and_read_again(random):
    pack = Pack()
    numbers = random.normal(size=(50, 3))
    whole = random.integers(-(2**30), 2**30, (40, 2))
    assert (pack.add(numbers), pack.add(whole, "i4"), pack.add([], "f4")) == (0, 1, 2)
    header, arrays = unpacked(pack.packed({"name": "ä"}))
    assert header == {"name": "ä"}
    np.testing.assert_array_equal(arrays[0], numbers)
    np.testing.assert_array_equal(arrays[1], whole)
    assert arrays[2].size == 0


def test_poses_on_the_page_are_those_of_the_project(turning, shown, random):
    project, meshes = turning
    page = shown(review_page(project, meshes).html)
    far, turned = off(project, page, np.sort(random.uniform(0, span(project), 200)))
    assert far <= PLACE and turned <= TURN
    # its cameras too
    for k, camera in enumerate(project.cameras):
        for time in random.uniform(0, span(project), 20):
            eye = page.evaluate("([k, t]) => review.eye(k, t)", [k, float(time)])
            seen = views(project, meshes, camera, [time])
            matrix = np.array(eye["matrix"]).reshape(4, 4)
            assert np.linalg.norm(matrix[:3, 3] - seen.position[0]) < 0.02
            assert -matrix[:3, 2] @ seen.forward[0] > np.cos(np.radians(0.02))


def test_gltf_openusd_tables_and_the_page_tell_the_same_motion(turning, shown, tmp_path):
    project, meshes = turning
    times = frame_times(project)[::4]
    page = shown(review_page(project, meshes).html)
    theirs = np.array(page.evaluate("times => times.map(t => review.poses(t))", times.tolist())).reshape(
        len(times), -1, 4, 4
    )
    player = Player(animated(project, meshes)[0])
    write_usd(project, meshes, tmp_path / "scene.usdc")
    stage = Usd.Stage.Open(str(tmp_path / "scene.usdc"))
    prims = {p.GetAttribute("kestrav:id").Get(): p for p in stage.Traverse() if p.GetAttribute("kestrav:id").IsValid()}
    table = list(csv.DictReader(io.StringIO(pose_table(project, times))))
    for row, part in enumerate(project.parts):
        in_gltf = player.poses(row + 1, times)[:, :3, 3]
        in_usd = [
            UsdGeom.Imageable(prims[part.id]).ComputeLocalToWorldTransform(Usd.TimeCode(t * project.settings.fps))
            for t in times.tolist()
        ]
        assert np.abs(in_gltf - theirs[:, row, :3, 3]).max() < 0.05
        assert np.abs(np.array(in_usd)[:, 3, :3] - theirs[:, row, :3, 3]).max() < 0.05
        told = [[float(one[f"{axis}_mm"]) for axis in "xyz"] for one in table if one["id"] == part.id]
        if told:
            assert np.abs(np.array(told) - theirs[:, row, :3, 3]).max() < PLACE


def test_a_finding_goes_to_its_moment_and_the_gap_is_drawn_as_a_dimension(passing, shown):
    result = check(passing.project, passing.meshes)
    page = shown(review_page(passing.project, passing.meshes, result=result).html)
    page.click("#findings .item.breach")
    finding = next(f for f in result.findings if f.severity == "breach")
    assert page.evaluate("review.time") == pytest.approx(finding.time)
    page.wait_for_timeout(400)
    ends = np.array(page.evaluate("points => points.map(p => review.screen(p))", [list(p) for p in finding.gap]))
    red = pixels_of(page, BREACH)
    assert len(red) > 30
    # the line is where the two points are, and the breach's colour is nowhere else than by it, its label and what the finding says
    for end in ends:
        assert np.linalg.norm(red - end, axis=1).min() < 6
    told = page.evaluate("review.gapAt(review.time).distance")
    assert told == pytest.approx(4.0, abs=1e-6)
    assert "Cube" in page.inner_text("#pairs table >> nth=0") or page.evaluate("review.selected.length") > 0


def test_playing_scrubbing_and_keys(passing, shown):
    page = shown(review_page(passing.project, passing.meshes).html)
    box = page.locator("#chart").bounding_box()
    page.mouse.click(box["x"] + 0.6 * box["width"], box["y"] + 8)
    half = page.evaluate("review.time")
    assert 0.5 < half < 1.5
    page.keyboard.press("ArrowRight")
    assert page.evaluate("review.time") == pytest.approx(half + 0.05)
    page.keyboard.press("Home")
    page.keyboard.press("Space")
    until(page, "review.time > 0.2")
    page.keyboard.press("Space")
    assert not page.evaluate("review.playing")
    page.fill("#time", "1.25")
    page.press("#time", "Enter")
    assert page.evaluate("review.time") == pytest.approx(1.25)


def test_of_what_does_not_move_nothing_is_claimed(passing, shown):
    page = shown(review_page(edits.remove(passing.project, "run-1"), passing.meshes).html)
    assert page.inner_text("#certainty") == ""
    page.click("#tab-pairs")
    assert "ertified" not in page.inner_text("#pairs") and "Nothing moves" in page.inner_text("#pairs")


def test_parts_are_hidden_isolated_selected_and_cut(passing, shown):
    page = shown(review_page(passing.project, passing.meshes).html)
    page.click("#tab-parts")
    page.fill("#filter", "flo")
    assert page.locator("#tree .row").count() == 1
    page.uncheck("#tree input[aria-label='Show Floor']")
    assert page.evaluate("review.hidden") == [2]
    page.fill("#filter", "")
    page.click("#tree .row >> nth=0")
    assert page.evaluate("review.selected") == [0]
    page.click("#isolate")
    assert sorted(page.evaluate("review.hidden")) == [1, 2]
    page.click("#show-all")
    assert page.evaluate("review.hidden") == []
    page.click("#tool-section")
    page.select_option("#section-axis", "2")
    page.fill("#section-number", "0")
    page.press("#section-number", "Enter")
    page.wait_for_timeout(300)
    assert len(pixels_of(page, (195, 168, 104), 12)) > 200  # the cut of the cube and the post


def test_measuring_between_two_corners(passing, shown):
    page = shown(review_page(passing.project, passing.meshes).html)
    page.click("#tool-measure")
    # two corners of the post's upper side, which is 10 mm long
    for corner in ((-5.0, 14.0, 50.0), (5.0, 14.0, 50.0)):
        x, y = page.evaluate("p => review.screen(p)", list(corner))
        box = page.locator("#stage").bounding_box()
        inwards = page.evaluate("p => review.screen(p)", [0.6 * corner[0], 16.0, 50.0])
        page.mouse.click(box["x"] + x + 0.25 * (inwards[0] - x), box["y"] + y + 0.25 * (inwards[1] - y))
    told = page.inner_text("#reading")
    assert "Distance" in told
    assert float(told.split()[1]) == pytest.approx(10.0, abs=3.5)


def test_comments_are_saved_and_read_back_as_notes_pinned_to_the_moment(passing, shown, tmp_path):
    page = shown(review_page(passing.project, passing.meshes).html)
    page.click("#tab-comments")
    page.evaluate("review.seek(1.5)")
    page.fill("#comment-name", "R. Viewer")
    page.fill("#comment-text", "Too near\nthe <b>post</b> here")
    page.click("#comment-form button")
    assert "R. Viewer · 1.50 s" in page.inner_text("#comment-list")
    assert page.locator("#comment-list b").count() == 0
    with page.expect_download() as saving:
        page.click("#comments-save")
    file = tmp_path / saving.value.suggested_filename
    saving.value.save_as(file)
    (comment,) = read_comments(file)
    assert (comment.author, comment.time, comment.text) == ("R. Viewer", 1.5, "Too near\nthe <b>post</b> here")
    project, count = add_comments(passing.project, (comment,))
    assert count == 1 and project.comments[0].view is not None
    # the same file again brings nothing new
    assert add_comments(project, read_comments(file))[1] == 0
    # and the next page shows what is known
    again = shown(review_page(project, passing.meshes).html)
    again.click("#tab-comments")
    again.click("#comment-list .item")
    assert again.evaluate("review.time") == 1.5


def test_pictures_on_surfaces_lie_as_they_were_laid(shown, tmp_path):
    imported = read_product(plate(tmp_path, normalTexture=wavy(), metallicRoughnessTexture=parts()))
    project = into_project(Project(name="Printed"), imported)
    project = add_standing(project, (0.0, -3000.0, 500.0), np.array([0.0, 0.0, 500.0]), focal_length=50.0)
    page = shown(review_page(project, dict(imported.meshes)).html)
    page.select_option("#view", label=f"Shot {project.shots[0].name}")
    page.wait_for_timeout(1000)
    shot = np.asarray(Image.open(io.BytesIO(page.screenshot(timeout=60_000))).convert("RGB"), float)
    box = page.locator("#stage").bounding_box()
    for (x, z), colour in zip(((-250, 750), (250, 750), (-250, 250), (250, 250)), QUARTERS, strict=True):
        across, down = page.evaluate("p => review.screen(p)", [x, 0, z])
        seen = shot[int(box["y"] + down), int(box["x"] + across)]
        # shaded, it is most like the colour that lies there
        likeness = [seen @ np.array(c, float) / np.linalg.norm(seen) / np.linalg.norm(c) for c in QUARTERS]
        assert int(np.argmax(likeness)) == QUARTERS.index(colour), (seen, colour)


@pytest.fixture(scope="module")
def dome_table(chromium):
    """What surfaces see of the dome: rows of roughness and one of all directions (17), heights (64), sky and lamp (2)."""
    page = chromium.new_page()
    opened = make_project({"Box": (box_mesh(10, 10, 10), (0.0, 0.0, 0.0))})
    page.set_content(review_page(opened.project, opened.meshes).html.decode())
    until(page, "document.documentElement.dataset.ready === 'yes'", 120.0)
    table = np.reshape(page.evaluate("review.dome()"), (17, 64, 4))[:, :, :2] / 255
    page.close()
    return table


def check_row(row, up, turn, weight, low, high):
    """Compare a row of the table with weighted means of a smooth step from one height to another."""
    column = 0 if low < 0 else 1
    for k in range(0, 64, 7):
        height = (k + 0.5) / 32 - 1
        there = up * height + np.sqrt(1 - up**2) * np.cos(turn) * np.sqrt(1 - height**2)
        share = np.clip((there - low) / (high - low), 0, 1)
        assert row[k, column] == pytest.approx(np.average(share**2 * (3 - 2 * share), weights=weight), abs=0.015)


def test_a_mirror_shows_the_dome_bright_above_and_dim_below(shown):
    ball = trimesh.creation.icosphere(5, 100.0)
    opened = make_project({"Ball": (Mesh(ball.vertices, ball.faces), (0.0, 0.0, 0.0))})
    project = edits.add(opened.project, Finish("finish-1", "Mirror", colour="#ffffff", metallic=1.0, roughness=0.0))
    project = edits.update(project, "part-1", finish="finish-1")
    page = shown(review_page(project, opened.meshes).html)
    shot = np.asarray(Image.open(io.BytesIO(page.screenshot(timeout=60_000))).convert("RGB"), float) / 255
    box = page.locator("#stage").bounding_box()
    eye = np.array(page.evaluate("review.view_now()")["position"])

    def mirrored(direction):
        """What is seen, in light, where the ball mirrors a direction; sRGB by IEC 61966-2-1."""
        back = eye / np.linalg.norm(eye) + np.array(direction) / np.linalg.norm(direction)
        across, down = page.evaluate("p => review.screen(p)", list(100 * back / np.linalg.norm(back)))
        pixel = shot[int(box["y"] + down), int(box["x"] + across)]
        return np.where(pixel <= 0.04045, pixel / 12.92, ((pixel + 0.055) / 1.055) ** 2.4)

    # away from lamp and sun
    above, below = mirrored((-0.5, 0.33, 0.8)), mirrored((0.3, 0.2, -0.6))
    np.testing.assert_allclose(above / below, np.array([0.95, 0.97, 1.0]) / [0.32, 0.31, 0.3], rtol=0.12)
    assert mirrored((0.4, -0.5, 0.77)).min() > 1.05 * above.max()


@pytest.mark.parametrize(
    ("row", "low", "high"), [(4, -0.3, 0.6), (9, -0.3, 0.6), (15, -0.3, 0.6), (9, 0.55, 0.8), (15, 0.55, 0.8)]
)
def test_what_a_rough_surface_sees_of_the_dome_is_the_mean_by_its_distribution(dome_table, row, low, high):
    """GGX (Walter, Marschner, Li, Torrance: Microfacet models for refraction through rough surfaces, 2007; eq. 33, from memory), seen
    straight on, by even steps over the whole sphere."""
    alpha = (row / 15) ** 2
    up, turn = np.meshgrid(np.linspace(-1, 1, 2001), np.linspace(0, 2 * np.pi, 240, endpoint=False), indexing="ij")
    half = np.sqrt((1 + up) / 2)
    weight = alpha**2 / (np.pi * (half**2 * (alpha**2 - 1) + 1) ** 2) * np.clip(up, 0, None)
    check_row(dome_table[row], up, turn, weight, low, high)


@pytest.mark.parametrize(("low", "high"), [(-0.3, 0.6), (0.55, 0.8)])
def test_what_a_matt_surface_sees_of_the_dome_is_the_mean_by_lamberts_cosine(dome_table, low, high):
    up, turn = np.meshgrid(np.linspace(-1, 1, 2001), np.linspace(0, 2 * np.pi, 240, endpoint=False), indexing="ij")
    check_row(dome_table[16], up, turn, np.clip(up, 0, None), low, high)


def test_nothing_in_a_product_can_inject_anything(passing, shown):
    evil = '</script><script>alert(1)</script><img src=x onerror=alert(2)> & "quoted" ${1}'
    project = passing.project
    for part in project.parts:
        project = edits.update(project, part.id, name=evil)
    project = edits.update(project, "run-1", name=evil)
    project = msgspec.structs.replace(project, name=evil)
    project = add_standing(project, (400.0, -500.0, 300.0), "part-1")
    project = edits.update(project, project.cameras[0].id, name=evil)
    project = edits.add(
        project,
        Finish("finish-1", evil, "#aa2222"),
        Colourway("colourway-1", evil, (GivenFinish("part-1", "finish-1"),)),
    )
    view = SavedView((300.0, -400.0, 200.0), (0.0, 0.0, 0.0))
    project = edits.add(project, Comment("comment-1", "Said", evil, evil, 0.5, view))
    page = shown(review_page(project, passing.meshes).html)
    for name in ("findings", "pairs", "parts", "comments"):
        page.click(f"#tab-{name}")
    assert page.inner_text("h1") == evil and page.title().startswith("</script>")
    assert evil in page.inner_text("#comment-list")
    assert page.locator("img").count() == 0 and page.locator("script").count() == 3


def test_colourways_and_shots_are_chosen(passing, shown):
    project = add_standing(passing.project, (300.0, -400.0, 200.0), "part-1")
    project = edits.add(
        project,
        Finish("finish-1", "Signal", "#00ff00"),
        Colourway("colourway-1", "Green", (GivenFinish("part-3", "finish-1"),)),
    )
    page = shown(review_page(project, passing.meshes).html)

    def greens():
        page.wait_for_timeout(400)
        shot = np.asarray(Image.open(io.BytesIO(page.screenshot(timeout=60_000))).convert("RGB"), int)
        return int(((shot[..., 1] > shot[..., 0] + 60) & (shot[..., 1] > shot[..., 2] + 60)).sum())

    assert greens() < 500
    page.select_option("#colourway", label="Green")
    assert greens() > 5000
    page.select_option("#view", label=f"Shot {project.shots[0].name}")
    assert page.evaluate("review.view") == "shot"
    # through its camera what it looks at is in the middle
    x, y = page.evaluate("p => review.screen(p)", [-100.0, 0.0, 0.0])
    box = page.locator("#stage").bounding_box()
    assert abs(x - box["width"] / 2) < 2 and abs(y - box["height"] / 2) < 2


@pytest.mark.parametrize("size", [(360, 740), (3840, 2160)])
def test_a_phone_and_a_large_screen_show_all_of_it(passing, shown, size):
    page = shown(review_page(passing.project, passing.meshes).html, size, touch=size[0] < 400)
    wide = page.evaluate("[document.documentElement.scrollWidth, innerWidth]")
    assert wide[0] <= wide[1]
    for name in ("#stage", "#timeline", "#panel", "#play", "#view", "#help"):
        box = page.locator(name).bounding_box()
        assert box["width"] > 20 and box["height"] > 20
        assert box["x"] >= 0 and box["x"] + box["width"] <= size[0] + 1
        assert box["y"] + box["height"] <= size[1] + 1
    small = page.evaluate(
        "[...document.querySelectorAll('button,label,small,td')].map(e => parseFloat(getComputedStyle(e).fontSize)).filter(s => s > 0)"
    )
    assert min(small) >= 11


def test_fewer_triangles_make_a_smaller_page_within_a_distance(demo):
    from kestrav.core.geometry.simplifying import simplified

    solid = max(demo.meshes.values(), key=lambda mesh: len(mesh.triangles))
    body = solid.body
    points, triangles, told = simplified(np.asarray(body.vertices), np.asarray(body.faces), 0.5)
    assert len(triangles) < 0.7 * len(solid.triangles) and told <= 0.5
    # by points spread so densely over what is left that the nearest is as good as the surface
    spread = trimesh.Trimesh(points, triangles, process=False).sample(400_000, seed=3)
    step = np.sqrt(body.area / 400_000)
    away, _ = cKDTree(spread).query(body.sample(2000, seed=4))
    assert away.max() < 0.5 + 5 * step


def test_what_no_page_can_be_is_refused(passing, tmp_path):
    with pytest.raises(BadInput, match=r"give \.html"):
        write_review_page(passing.project, passing.meshes, tmp_path / "page.pdf")
    with pytest.raises(BadInput, match="0 or more"):
        review_page(passing.project, passing.meshes, -1.0)


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b"{}",
        b"[1]",
        json.dumps({"kind": "kestrav comments", "version": 1, "comments": [{"name": 3}]}).encode(),
        b"\xff\xfe\x00",
    ],
)
def test_a_file_that_holds_no_comments_is_told(tmp_path, content):
    file = tmp_path / "comments.json"
    file.write_bytes(content)
    with pytest.raises(BadInput, match="holds no comments"):
        read_comments(file)
