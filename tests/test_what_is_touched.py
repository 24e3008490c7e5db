"""What the program opens, runs and asks for while it works with files of others: seen by an audit hook (PEP 578) in a process of its own."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from campaigns.fuzz import seeds

WATCHED = """
import json, sys
from pathlib import Path

seen = []

def hook(name, given):
    if name in ("socket.connect", "socket.getaddrinfo", "socket.gethostbyname", "socket.sendto", "urllib.Request", "ftplib.connect"):
        seen.append(["asked", f"{name} {given[1:]}"])
    elif name in ("os.system", "os.exec", "os.posix_spawn", "pty.spawn", "webbrowser.open"):
        seen.append(["ran", f"{name} {given}"])
    elif name == "subprocess.Popen":
        seen.append(["ran", str(given[0])])
    elif name == "open" and isinstance(given[0], (str, bytes)) and isinstance(given[1], str) and set(given[1]) & set("wax+"):
        seen.append(["wrote", str(Path(str(given[0])).resolve())])
    elif name in ("os.remove", "os.rename", "os.rmdir", "shutil.rmtree", "os.mkdir", "os.symlink", "os.chmod"):
        seen.append(["wrote", str(Path(str(given[1 if name == "os.rename" else 0])).resolve())])

import kestrav.cli.commands
from kestrav.cli import main

sys.addaudithook(hook)
codes = [main(words) for words in json.loads(sys.argv[1])]
Path(sys.argv[2]).write_text(json.dumps([codes, seen]))
"""


@pytest.fixture
def watched(tmp_path):
    """Runs commands, and tells their exit codes, and what was asked for, run and written."""

    def run(*commands):
        told = tmp_path / "told.json"
        places = {"HOME": "home", "XDG_CACHE_HOME": "home/cache", "TMPDIR": "temporary"}
        for place in places.values():
            (tmp_path / place).mkdir(parents=True, exist_ok=True)
        words = [sys.executable, "-c", WATCHED, json.dumps(commands), str(told)]
        surroundings = os.environ | {name: str(tmp_path / place) for name, place in places.items()}
        subprocess.run(words, cwd=tmp_path, check=True, capture_output=True, env=surroundings)
        codes, seen = json.loads(told.read_text())
        return codes, {kind: [what for each, what in seen if each == kind] for kind in ("asked", "ran", "wrote")}

    return run


def only_below(folder, wrote):
    return [place for place in wrote if not Path(place).is_relative_to(folder) and place not in ("/dev/null",)]


def test_reading_files_of_every_kind_asks_nobody_and_writes_only_where_it_may(watched, tmp_path):
    commands = []
    for number, seed in enumerate(seeds()):
        file = tmp_path / f"file{number}{seed.suffix}"
        file.write_bytes(seed.data)
        if seed.suffix not in (".dxf", ".svg", ".csv"):
            commands.append(["info", str(file)])
    codes, seen = watched(*commands)
    assert set(codes) == {0} and not seen["asked"]
    # the CAD kernel alone is run, in a process of our own Python
    assert seen["ran"] and set(seen["ran"]) == {sys.executable}
    assert not only_below(tmp_path, seen["wrote"])


def test_what_a_file_points_at_elsewhere_is_not_gone_to(watched, tmp_path):
    outside = "http://localhost:9/a.bin"
    tree = {"asset": {"version": "2.0"}, "buffers": [{"uri": outside, "byteLength": 9}], "meshes": [], "scenes": [{}]}
    (tmp_path / "a.gltf").write_text(json.dumps(tree))
    (tmp_path / "a.obj").write_text(f"mtllib {outside}\nmtllib ../../etc/passwd\nv 0 0 0\nv 9 0 0\nv 0 9 0\nf 1 2 3\n")
    entity = '<!DOCTYPE a [<!ENTITY e SYSTEM "http://localhost:9/x">]>'
    (tmp_path / "a.dae").write_text(f'<?xml version="1.0"?>{entity}<COLLADA xmlns="x">&e;</COLLADA>')
    codes, seen = watched(*(["info", str(tmp_path / f"a.{kind}")] for kind in ("gltf", "obj", "dae")))
    assert codes == [2, 0, 2] and not seen["asked"] and not seen["ran"]


def test_checking_rendering_and_handing_on_ask_nobody_and_write_only_what_was_asked_for(watched, saved, tmp_path):
    made = tmp_path / "made"
    made.mkdir()
    codes, seen = watched(
        ["check", str(saved), "-o", str(made / "report.html")],
        ["export", str(saved), str(made / "motion.glb")],
        ["render", str(saved), "-o", str(made / "still.png"), "--at", "0.5", "--size", "sd"],
    )
    assert codes[1] == 0 and not seen["asked"] and not seen["ran"]
    assert not only_below(tmp_path, seen["wrote"])
    assert {"report.html", "motion.glb"} <= {file.name for file in made.iterdir()}
