"""The campaigns in short: seeded, and small enough for every run of the tests."""

import json
import zipfile

import pytest

from campaigns import fuzz
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file


@pytest.mark.parametrize("seed", [101, 102])
def test_damaged_files_are_read_or_refused_in_a_sentence(seed):
    told, wrong = fuzz.campaign(seed, seconds=120.0, most=160)
    assert not wrong
    assert told["refused"] > 20 and told["read"] > 20


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
