"""The campaigns in short: seeded, and small enough for every run of the tests."""

import json
import zipfile

import pytest
from PySide6.QtCore import QSettings

from campaigns import drill, fuzz
from campaigns.endure import endured
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file


@pytest.mark.parametrize("seed", [101, 102])
def test_damaged_files_are_read_or_refused_in_a_sentence(seed):
    told, wrong = fuzz.campaign(seed, seconds=120.0, most=160)
    assert not wrong
    assert told["refused"] > 20 and told["read"] > 20


def test_what_is_saved_can_be_loaded_whatever_a_document_holds():
    told, wrong = fuzz.documents(seed=103, seconds=60.0, most=60)
    assert not wrong
    assert told["saved and loaded"] > 3 and told["refused"] > 3


def test_the_campaign_sees_what_it_looks_for(tmp_path, monkeypatch):
    file = tmp_path / "some.kestrav"
    for fault, verdict in (
        (BadInput(f"“{file}”: 'str' object has no attribute 'get'"), "Python words"),
        (BadInput("something is wrong"), "names no file"),
        (BadInput(f"“{file}” " + "is wrong and " * 30), "too long"),
        (KeyError("parts"), "traceback"),
        (BadInput(f"“{file}” is empty; take it from a backup"), "refused"),
    ):

        def load(_, fault=fault):
            raise fault

        monkeypatch.setattr(project_file, "load", load)
        assert fuzz.tried(file)[0] == verdict


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ({"parts": 5}, "“parts”: expected a list, got a whole number"),
        ({"parts": [{"id": 7}]}, "“parts[0].id”: expected text, got a whole number"),
        ({"parts": [{"id": "a"}]}, "“parts[0]”: the record lacks the required field “name”"),
    ],
)
def test_what_does_not_fit_a_project_is_said_in_words(change, told, tmp_path):
    file = tmp_path / "some.kestrav"
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("project.json", json.dumps({"version": 11, **change}))
    with pytest.raises(BadInput) as fault:
        project_file.load(file)
    assert told in str(fault.value)


@pytest.mark.parametrize("one", drill.DRILLS, ids=lambda one: one.__name__)
def test_disks_links_and_other_writers_lose_nothing(one, tmp_path):
    assert not one(tmp_path)


def test_kills_lose_no_edit_that_was_kept_and_leave_no_project_unreadable():
    assert not drill.kills(4, seed=7)


def test_random_hands_at_the_window_break_nothing(qapp, saved, tmp_path):
    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path))
    told = endured(saved, seed=3, seconds=60.0, most=150)
    assert not told.wrong and sum(told.done.values()) > 20
