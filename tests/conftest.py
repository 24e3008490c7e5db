"""Shared by all tests: a small project, and the demo."""

from __future__ import annotations

import gc
import os
import subprocess
from pathlib import Path

# software rendering of many small windows needs no help from more threads
os.environ.setdefault("LP_NUM_THREADS", "2")
# what it has compiled is kept where it is by default, for all processes of the tests and the next run
os.environ.setdefault("MESA_SHADER_CACHE_DIR", str(Path.home() / ".cache"))

import numpy as np
import pytest
from shapes import DEMO, box_mesh, make_project, straight

from kestrav.core.camera.making import add_follower, add_standing
from kestrav.core.document import edits
from kestrav.core.document.records import AlongOrientation, Axle, TimedRotation
from kestrav.core.files import project_file
from kestrav.core.processes import give_memory_back


def pytest_configure(config):
    """Give every further process of the tests a display of its own: on one, only one window has the keys."""
    if os.environ.get("PYTEST_XDIST_WORKER", "gw0") == "gw0":
        return
    reading, writing = os.pipe()
    command = ["Xvfb", "-displayfd", str(writing), "-screen", "0", "1280x800x24", "-nolisten", "tcp"]
    config.display = subprocess.Popen(command, pass_fds=[writing], stderr=subprocess.DEVNULL)
    os.close(writing)
    with os.fdopen(reading) as stream:
        os.environ["DISPLAY"] = f":{stream.readline().strip()}"


def pytest_collection_finish(session):
    """Let what is imported for good be passed over where garbage is looked for, as the window does."""
    gc.collect()
    gc.freeze()


def pytest_unconfigure(config):
    """Take the display away again."""
    if hasattr(config, "display"):
        config.display.terminate()


@pytest.fixture(scope="session", autouse=True)
def own_cache(tmp_path_factory: pytest.TempPathFactory):
    """What was read of product files is kept in a folder of the tests' own."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.mktemp("cache")))
        yield


@pytest.fixture(scope="module", autouse=True)
def memory_goes_back():
    """What a file of tests has freed is given back, as several processes would hold gigabytes of it."""
    yield
    give_memory_back()


@pytest.fixture
def passing() -> project_file.Opened:
    """A cube that passes a post, 4 mm away at the nearest, under a limit of 5 mm."""
    return make_project(
        {
            "Cube": (box_mesh(20, 20, 20), (-100.0, 0.0, 0.0)),
            "Post": (box_mesh(10, 10, 100), (0.0, 19.0, 0.0)),
            "Floor": (box_mesh(400, 400, 10), (0.0, 0.0, -15.0)),
        },
        straight((-100, 0, 0), (100, 0, 0)),
        duration=2.0,
    )


@pytest.fixture(scope="session")
def demo() -> project_file.Opened:
    """The demo project."""
    return project_file.load(DEMO)


@pytest.fixture
def saved(passing: project_file.Opened, tmp_path: Path) -> Path:
    """The small project in a file."""
    target = tmp_path / "small.kestrav"
    project_file.save(passing.project, passing.meshes, target)
    return target


@pytest.fixture
def random() -> np.random.Generator:
    """Random numbers that are the same every time."""
    return np.random.default_rng(20)


@pytest.fixture
def turning(passing):
    """The cube turns along a bent path, with a spinning child's worth of motion and two cameras."""
    project = edits.update(passing.project, "run-1", orientation=AlongOrientation())
    bent = straight((-100, 0, 0), (0, 0, 0), (40, 60, 0), (100, 90, 20), kind="smooth")
    project = edits.update(project, "path-1", shape=bent)
    rotation = TimedRotation(
        "rotation-1", "Post spins", "part-2", Axle((0, 0, 0), (0, 0, 1)), end=2.0, turns=3.0, rpm=None
    )
    project = edits.add(project, rotation)
    project = add_standing(project, (400.0, -500.0, 300.0), "part-1")
    project = add_follower(project, "part-1", "behind", 300.0, 80.0)
    return project, passing.meshes
