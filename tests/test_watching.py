"""kestrav check --watch: CAD files that change are brought in and checked, and compared with the check before."""

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
import trimesh
from shapes import straight

from kestrav.core.document import edits
from kestrav.core.document.records import Part, Path as PathRecord, Project, Run
from kestrav.core.files import project_file
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.files.source_watch import SourceWatch, stamps_of
from kestrav.core.findings.comparing import in_words
from kestrav.watching import Watcher, watch


def box(file, thick, place=(0, 0, 0)):
    body = trimesh.creation.box((10, thick, 100))
    body.apply_translation(place)
    body.export(file)
    # a file that is written twice within the clock's step looks the same
    os.utime(file, ns=(time.time_ns(), time.time_ns()))


@pytest.fixture
def watched(tmp_path):
    """A cube that passes a post of a file, 9 mm away."""
    box(tmp_path / "post.stl", 10, (0, 24, 0))
    trimesh.creation.box((20, 20, 20)).export(tmp_path / "cube.stl")
    project = Project("Watched")
    meshes = {}
    for name in ("cube", "post"):
        imported = read_product(tmp_path / f"{name}.stl", unit=1.0)
        project, meshes = into_project(project, imported), meshes | imported.meshes
    cube = next(p for p in project.parts if isinstance(p, Part) and p.name == "cube")
    path = PathRecord("path-1", "Path", straight((-100, 0, 0), (100, 0, 0)))
    project = edits.add(project, path, Run("run-1", "Passes", cube.id, "path-1", duration=1.0))
    project_file.save(project, meshes, tmp_path / "watched.kestrav")
    return tmp_path / "watched.kestrav"


def test_a_file_that_is_still_written_is_waited_for(watched):
    project = project_file.load(watched).project
    eye = SourceWatch()
    eye.begin(stamps_of(project, watched))

    def look():
        return eye.changed(project, watched, stamps_of(project, watched))

    assert look() == ()
    box(watched.parent / "post.stl", 20, (0, 24, 0))
    assert look() == ()
    (changed,) = look()
    assert next(s for s in project.sources if s.id == changed).file.endswith("post.stl")
    eye.take(watched.parent / "post.stl")
    assert look() == ()
    (watched.parent / "post.stl").unlink()
    assert look() == look() == ()


def test_what_became_worse_and_better_is_told_with_all_that_is_attached_kept(watched):
    seen, faults, script = [], [], iter([16, None, None, 30, None, None, "broken", None, None, 10, None, None])

    def wait():
        do = next(script, "end")
        if do == "end":
            return False
        if do == "broken":
            (watched.parent / "post.stl").write_bytes(b"solid nothing")
        elif do is not None:
            box(watched.parent / "post.stl", do, (0, 24, 0))
        return True

    watcher = Watcher(watched, lambda project: project.check(certify=False))
    last = watch(watcher, seen.append, faults.append, wait)
    assert len(seen) == 4 and len(faults) == 1 and "post.stl" in faults[0]
    assert seen[0].comparison is None and seen[0].check.least_clearance == pytest.approx(9.0)
    assert "Other shape (1): post" in seen[1].changes[0][1]
    # 6 mm are enough, and -1 are not
    assert not seen[1].comparison.is_worse and seen[2].comparison.is_worse
    assert "1 new" in in_words(seen[2].comparison) and "9.000 → 6.000" in in_words(seen[1].comparison)
    assert "1 resolved" in in_words(seen[3].comparison)
    assert last is seen[3] and watcher.project.runs[0].rider == watcher.project.parts[0].id
    # nothing was written without a word
    assert project_file.load(watched).meshes.keys() != watcher.meshes.keys()
    watcher.save()
    assert project_file.load(watched).project.geometry == watcher.project.geometry


def test_the_command_line_watches_until_it_is_stopped(watched):
    command = [sys.executable, "-m", "kestrav.cli", "check", str(watched), "--watch", "--json", "--no-certify"]
    # what is started in the background of a shell hears no Ctrl+C, and neither would the child
    heard = signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        child = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, cwd=Path(__file__).parents[1]
        )
    finally:
        signal.signal(signal.SIGINT, heard)
    try:
        first = json.loads(child.stdout.readline())
        assert first["min_clearance_mm"] == pytest.approx(9.0)
        box(watched.parent / "post.stl", 30, (0, 24, 0))
        second = json.loads(child.stdout.readline())
        assert second["comparison"]["is_worse"] and "post.stl" in second["changes"]
        child.send_signal(signal.SIGINT)
        child.communicate(timeout=60)
    finally:
        # whatever fails above, nothing is left watching
        child.kill()
        child.communicate()
    assert child.returncode == 1
