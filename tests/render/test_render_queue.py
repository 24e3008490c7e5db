"""What is to be rendered outlives the process that was asked for it."""

import subprocess
import sys
import textwrap

import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.errors import BadInput
from kestrav.render.render_queue import Request, keep, left_over, render_kept

SHOT = Shot("shot-1", "Take", "camera-1", 0.0, 0.2, 64, 48, 10.0, quality="preview")


@pytest.fixture(scope="module")
def opened():
    made = make_project({"Box": (box_mesh(80, 80, 80), (0.0, 0.0, 0.0))}, straight((0, 0, 0), (90, 0, 0)), duration=1.0)
    camera = Camera("camera-1", "Eye", PointAim((0.0, 0.0, 0.0)), position=(0.0, -700.0, 300.0))
    return type(made)(edits.add(made.project, camera, SHOT), made.meshes)


def request(target, **fields):
    return Request("Rendering", (SHOT,), str(target), **fields)


def test_what_is_held_is_left_to_its_process_and_what_is_done_is_gone(opened, tmp_path):
    entry = keep(tmp_path / "queue", request(tmp_path / "a.gif"), opened.project, opened.meshes)
    assert left_over(tmp_path / "queue") == []
    entry.forget()
    assert list((tmp_path / "queue").iterdir()) == []


def test_a_still_and_a_film_go_on_after_their_process_was_killed(opened, tmp_path):
    home = tmp_path / "queue"
    for name, fields in (("a.gif", {}), ("b.png", {"time": 0.1, "bits": 16})):
        keep(home, request(tmp_path / name, **fields), opened.project, opened.meshes).let_go()
    # another process that holds what it finds until it is killed
    code = f"""
        from pathlib import Path
        from kestrav.render.render_queue import left_over
        found = left_over(Path({str(home)!r}))
        print(len(found), flush=True)
        input()
    """
    other = subprocess.Popen(
        [sys.executable, "-c", textwrap.dedent(code)], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert other.stdout.readline().strip() == "2"
    assert left_over(home) == []
    other.kill()
    other.wait()
    found = left_over(home)
    assert [entry.request.target.rsplit("/", 1)[-1] for entry in found] == ["a.gif", "b.png"]
    for entry in found:
        render_kept(entry.folder, entry.request, lambda done, count: None)
        entry.forget()
    assert (tmp_path / "a.gif").exists() and (tmp_path / "b.png").exists() and list(home.iterdir()) == []


def test_what_is_damaged_is_removed_and_no_home_is_no_fault(opened, tmp_path):
    home = tmp_path / "queue"
    assert left_over(home) == []
    entry = keep(home, request(tmp_path / "a.gif"), opened.project, opened.meshes)
    (entry.folder / "request.json").write_text("{")
    entry.let_go()
    assert left_over(home) == [] and list(home.iterdir()) == []


def test_where_nothing_can_be_kept_it_is_said(opened, tmp_path):
    (tmp_path / "queue").write_text("a file")
    with pytest.raises(BadInput, match="cannot be written"):
        keep(tmp_path / "queue", request(tmp_path / "a.gif"), opened.project, opened.meshes)
