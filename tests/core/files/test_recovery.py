"""Unsaved work outlives the process that made it, however that ends."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import msgspec
import pytest
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file, versions
from kestrav.core.files.presence import Presence
from kestrav.core.files.recovery import Keeper, discard, leftovers, recovered
from kestrav.core.files.versions import keep_version, versions_of


@pytest.fixture
def made():
    return make_project({"Box": (box_mesh(20, 20, 40), (0, 0, 20))}, straight((0, 0, 20), (50, 0, 20)))


def ended(keeper):
    """As if its process had ended: the lock is let go of, the folder stays."""
    os.close(keeper._lock)


def test_what_was_kept_is_offered_with_what_it_holds_and_comes_back(made, tmp_path):
    keeper = Keeper(tmp_path)
    keeper.keep(made.project, made.meshes, None)
    assert not leftovers(tmp_path)  # its window is open still
    ended(keeper)
    (left,) = leftovers(tmp_path)
    assert "1 part," in left.text and "never saved" in left.text
    project, meshes = recovered(left)
    assert project == made.project and meshes.keys() == {g.hash for g in project.geometry}
    discard(left)
    assert not leftovers(tmp_path) and not list(tmp_path.iterdir())


def test_geometry_that_the_file_has_is_not_written_again_and_a_lost_file_is_told(made, tmp_path):
    file = tmp_path / "work.kestrav"
    project_file.save(made.project, made.meshes, file)
    keeper = Keeper(tmp_path / "home")
    named = msgspec.structs.replace(made.project, name="Later")
    keeper.keep(named, made.meshes, file)
    assert not list((keeper.folder / "geometry").iterdir())
    ended(keeper)
    (left,) = leftovers(tmp_path / "home")
    assert recovered(left)[0].name == "Later"
    file.unlink()
    with pytest.raises(BadInput, match="put that file back"):
        recovered(left)


def test_two_windows_do_not_mix_and_saving_forgets(made, tmp_path):
    one, two = Keeper(tmp_path), Keeper(tmp_path)
    one.keep(made.project, made.meshes, None)
    two.keep(msgspec.structs.replace(made.project, name="Other"), made.meshes, None)
    assert one.folder != two.folder
    one.forget()
    assert [folder.name for folder in tmp_path.iterdir()] == [two.folder.name]
    ended(two)
    (left,) = leftovers(tmp_path)
    assert left.about.name == "Other" and one.take_over(left) and not Keeper(tmp_path).take_over(left)


def test_a_place_that_cannot_be_written_is_told(made, tmp_path):
    (tmp_path / "home").write_text("a file")
    with pytest.raises(BadInput, match="cannot be kept"):
        Keeper(tmp_path / "home").keep(made.project, made.meshes, None)


WRITER = """
import sys, msgspec
from pathlib import Path
from kestrav.core.files import project_file, versions
from kestrav.core.files.presence import Presence
from kestrav.core.files.recovery import Keeper
from kestrav.core.files.versions import keep_version, versions_of
opened = project_file.load(Path(sys.argv[1]))
keeper = Keeper(Path(sys.argv[2]))
number = 0
while True:
    number += 1
    keeper.keep(msgspec.structs.replace(opened.project, name=f"edit {number}"), opened.meshes, None)
    print(number, flush=True)
"""


def test_no_kill_at_any_instant_loses_more_than_the_last_writing(made, tmp_path):
    file = tmp_path / "work.kestrav"
    project_file.save(made.project, made.meshes, file)
    for turn in range(5):
        home = tmp_path / f"home {turn}"
        child = subprocess.Popen(
            [sys.executable, "-c", WRITER, str(file), str(home)],
            stdout=subprocess.PIPE,
            text=True,
            env=dict(os.environ),
        )
        last = int(child.stdout.readline())
        time.sleep(0.013 * turn)
        child.send_signal(signal.SIGKILL)
        rest = child.communicate()[0].split()
        last = int(rest[-1]) if rest else last
        (left,) = leftovers(home)
        project, _ = recovered(left)
        assert int(project.name.split()[1]) >= last


def test_a_project_saved_by_somebody_else_has_another_fingerprint_and_the_changes_are_told(made, tmp_path):
    file = Path(tmp_path / "work.kestrav")
    assert project_file.fingerprint(file) is None
    project_file.save(made.project, made.meshes, file)
    first = project_file.fingerprint(file)
    project_file.save(made.project, made.meshes, file)
    assert project_file.fingerprint(file) == first  # saved again, and the same
    theirs = edits.update(made.project, "run-1", duration=9.0)
    theirs = edits.settings(edits.remove(theirs, theirs.cameras[0].id) if theirs.cameras else theirs, fps=25.0)
    project_file.save(theirs, made.meshes, file)
    assert project_file.fingerprint(file) != first
    told = project_file.changes_between(made.project, project_file.load(file).project)
    assert "1 run changed" in told and "other limits" in told


def test_the_last_ten_versions_are_kept_each_once_and_can_be_read(made, tmp_path):
    home, file = tmp_path / "versions", tmp_path / "work.kestrav"
    keep_version(home, file)  # there is nothing yet
    for number in range(13):
        keep_version(home, file)
        project_file.save(edits.update(made.project, "run-1", duration=1.0 + number), made.meshes, file)
        os.utime(file, ns=(number * 10**9, number * 10**9))
        keep_version(home, file)
    found = versions_of(home, file)
    assert [round(one.saved) for one in found] == list(range(12, 2, -1))
    now = project_file.load(file).project
    told = [project_file.changes_in_words(now, project_file.load_document(one.file)) for one in found[:2]]
    assert told[0] == "no part, path, run, camera or shot is another one" and "run" in told[1]
    assert project_file.load(found[-1].file).project.runs[0].duration == 4.0
    assert not versions_of(home, tmp_path / "other.kestrav")


def test_versions_of_all_projects_take_so_much_room_and_the_oldest_go(made, tmp_path, monkeypatch):
    home, files = tmp_path / "versions", [tmp_path / f"{name}.kestrav" for name in "ab"]
    for number, file in enumerate(files):
        project_file.save(made.project, made.meshes, file)
        os.utime(file, ns=(number * 10**9, number * 10**9))
    monkeypatch.setattr(versions, "MOST_BYTES", files[0].stat().st_size)
    for file in files:
        keep_version(home, file)
    assert not versions_of(home, files[0]) and len(versions_of(home, files[1])) == 1


def test_windows_of_one_project_know_of_each_other_until_they_end(tmp_path):
    one, two, other = (Presence(tmp_path / "open") for _ in range(3))
    file = tmp_path / "work.kestrav"
    for presence in (one, two):
        presence.show(file)
    other.show(tmp_path / "other.kestrav")
    assert (one.others(), two.others(), other.others()) == (1, 1, 0)
    os.close(two._lock)  # its process ended
    assert one.others() == 0 and len(list((tmp_path / "open").glob("*/*"))) == 2
    one.leave()
    assert one.others() == 0
