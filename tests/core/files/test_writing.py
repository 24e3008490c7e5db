"""Files are written whole, as what they were, and nothing else is touched."""

import csv
import io
import os
import stat
import subprocess
import sys

import pytest

from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.path_files import write_path
from kestrav.core.files.writing import as_csv, beside, clear_parts, owner_lost, part_of, refuse_existing, write_whole


def rest_of(folder):
    return sorted(p.name for p in folder.iterdir())


def test_a_link_stays_a_link_and_mode_and_owner_are_kept(tmp_path, passing):
    real, link = tmp_path / "real.kestrav", tmp_path / "link.kestrav"
    real.write_bytes(b"old")
    real.chmod(0o600)
    link.symlink_to(real)
    project_file.save(passing.project, passing.meshes, link)
    assert link.is_symlink() and project_file.load(real).project == passing.project
    assert stat.S_IMODE(real.stat().st_mode) == 0o600
    fresh = tmp_path / "fresh.kestrav"
    project_file.save(passing.project, passing.meshes, fresh)
    mask = os.umask(0)
    os.umask(mask)
    assert stat.S_IMODE(fresh.stat().st_mode) == 0o666 & ~mask
    assert rest_of(tmp_path) == ["fresh.kestrav", "link.kestrav", "real.kestrav"]


def test_an_owner_and_group_that_cannot_be_kept_are_told_before(tmp_path, monkeypatch):
    file = tmp_path / "a.csv"
    assert owner_lost(file) == ""
    file.write_text("old")
    known = file.stat()
    monkeypatch.setattr(os, "geteuid", lambda: known.st_uid or 12345)
    monkeypatch.setattr(os, "getegid", lambda: known.st_gid)
    if known.st_uid:
        assert owner_lost(file) == ""
    # another user's and another group's, under numbers that no name has
    monkeypatch.setattr(os, "geteuid", lambda: 54321)
    monkeypatch.setattr(os, "getegid", lambda: 54322)
    monkeypatch.setattr(os, "getgroups", list)
    told = owner_lost(file)
    assert told.startswith("“a.csv” belongs to ") and "would belong to user 54321" in told
    assert told.endswith("would be of group 54322")
    with pytest.raises(BadInput, match=r"is there already; “a.csv” belongs to .*; give another name, or allow"):
        refuse_existing(file, force=False)
    refuse_existing(file, force=True)


def test_a_fault_leaves_what_was_there_and_no_rest(tmp_path):
    target = tmp_path / "a.csv"
    target.write_text("old")
    with pytest.raises(BadInput, match=r"cannot be written.*as it was"), beside(target) as part:
        part.write_text("half")
        raise OSError(28, os.strerror(28))
    assert target.read_text() == "old" and rest_of(tmp_path) == ["a.csv"]


def test_what_lies_beside_under_an_old_temporary_name_is_left_alone(tmp_path):
    mine = tmp_path / ".a.csv.part"
    mine.write_text("mine")
    write_whole(tmp_path / "a.csv", b"new")
    assert mine.read_text() == "mine" and (tmp_path / "a.csv").read_text() == "new"


def test_folders_pipes_and_what_is_not_there_are_refused_in_a_sentence(tmp_path, passing):
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "file").write_text("x")
    for name, why in (
        ("", "is a folder"),
        ("pipe", "a device or a pipe"),
        ("none/a.csv", "cannot be written"),
        ("file/a", "cannot be written"),
        ("n" * 300, "cannot be written"),
    ):
        with pytest.raises(BadInput, match=why):
            write_whole(tmp_path / name, b"x")
    with pytest.raises(BadInput, match="cannot be written"):
        write_path(passing.project.paths[0], tmp_path / "none" / "a.dxf")


def test_no_cell_of_a_table_is_a_formula():
    names = ["=1+1", "+cmd", "-2+3", "@SUM(A1)", "\tx", "Riser, 2 x", "-4.5"]
    (heading, *rows) = csv.reader(io.StringIO(as_csv(["name"], [[n] for n in names])))
    # the characters that OWASP's page on CSV injection names; a negative number is none
    assert [r[0] for r in rows] == ["'=1+1", "'+cmd", "'-2+3", "'@SUM(A1)", "'\tx", "Riser, 2 x", "-4.5"]
    assert heading == ["name"]


def test_what_killed_writings_left_is_removed_and_nothing_else(tmp_path):
    ended = subprocess.Popen([sys.executable, "-c", "pass"])
    ended.wait()
    target = tmp_path / "work.kestrav"
    mine = part_of(target)
    left = mine.with_name(mine.name.replace(f"-{os.getpid()}-", f"-{ended.pid}-"))
    other = mine.with_name(left.name.replace(left.name.split(".")[-2][:6], "abcdef"))
    for file in (left, other, tmp_path / ".work.kestrav.part", tmp_path / "work.part"):
        file.write_text("half")
    assert clear_parts(tmp_path, "elsewhere.kestrav") == []
    assert clear_parts(tmp_path, "work.kestrav") == [left]
    assert mine.exists() and other.exists() and (tmp_path / ".work.kestrav.part").exists()
    os.utime(other, (0, 0))
    assert clear_parts(tmp_path) == [other]
    assert clear_parts(tmp_path / "nowhere") == []
