"""Kills, full and read-only disks, links and two writers: no project is ever unreadable, and no more than the last seconds are lost.

``python -m campaigns.drill [--kills N] [--seed S]``; the exit code is 1 when something was lost or broken.
"""

from __future__ import annotations

import argparse
import os
import random
import resource
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from kestrav.core.document.records import Part, Placement, Project
from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.path_files import read_paths, write_path
from kestrav.core.files.recovery import Keeper, leftovers, recovered
from kestrav.core.files.versions import keep_version, versions_of
from kestrav.core.files.writing import clear_parts
from kestrav.core.geometry.meshes import mesh
from kestrav.core.parts.solids import with_meshes


def made(number: int) -> tuple[Project, dict[str, object]]:
    """A project whose name tells its number, with a solid that is another one each time."""
    corners = [(0, 0, 0), (9 + number % 7, 0, 0), (0, 9, 0), (0, 0, 9)]
    shape = mesh(corners, [(0, 2, 1), (0, 1, 3), (1, 2, 3), (0, 3, 2)])
    project = with_meshes(Project(name=f"edit {number}"), [shape])
    part = Part("part-1", "Part", placement=Placement((float(number), 0.0, 0.0)), geometry=shape.hash)
    return msgspec.structs.replace(project, parts=(part,)), {shape.hash: shape}


def work(folder: Path) -> None:
    """Edit, keep what is not saved, save, keep versions and export, for ever; a line is printed when an edit is safe."""
    from kestrav.core.document.records import Path as PathRecord, PathPoint, PointShape

    keeper, number = Keeper(folder / "unsaved"), 0
    while True:
        number += 1
        project, meshes = made(number)
        keeper.keep(project, meshes, folder / "work.kestrav")
        print(number, flush=True)
        if number % 3 == 0:
            keep_version(folder / "versions", folder / "work.kestrav")
            project_file.save(project, meshes, folder / "work.kestrav")
        if number % 2 == 0:
            line = PathRecord(
                "path-1", "Line", PointShape((PathPoint((0.0, 0.0, 0.0)), PathPoint((float(number), 5.0, 0.0))))
            )
            write_path(line, folder / "line.csv")


def _working(folder: Path) -> tuple[int, int]:
    """A process that works in a folder until it is killed, and the pipe to which it says what it has finished."""
    said, saying = os.pipe()
    child = os.fork()
    if child == 0:
        try:
            os.dup2(saying, 1)
            sys.stdout = os.fdopen(1, "w")
            work(folder)
        finally:
            os._exit(1)
    os.close(saying)
    return child, said


def killed(folder: Path, rng: random.Random) -> list[str]:
    """What is lost or broken after a kill at some instant."""
    # forked, not begun anew: what it has to load would take most of the time
    child, said = _working(folder)
    with os.fdopen(said) as stream:
        first = stream.readline()
        time.sleep(rng.uniform(0.0, 0.25))
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
        told = [first, *stream.read().splitlines(keepends=True)]
    last = int([line for line in told if line.endswith("\n")][-1])
    wrong = []
    found = leftovers(folder / "unsaved")
    if not found:
        return [f"nothing was kept of {last} edits"]
    project, _ = recovered(found[0])
    if int(project.name.split()[1]) < last:
        wrong.append(f"edit {last} is lost, {project.name} was kept")
    for file in [
        folder / "work.kestrav",
        *(one.file for one in versions_of(folder / "versions", folder / "work.kestrav")),
    ]:
        if file.exists():
            project_file.load(file)
    if (folder / "line.csv").exists():
        read_paths(folder / "line.csv")
    for place in (folder, *folder.glob("unsaved/*"), *folder.glob("unsaved/*/geometry")):
        clear_parts(place)
    left = [file.name for file in folder.rglob("*.part")]
    return wrong + [f"left behind: {name}" for name in left]


def kills(count: int, seed: int) -> list[str]:
    """What was wrong after so many kills, each of work that goes on where the one before was killed."""
    rng, wrong = random.Random(seed), []
    with tempfile.TemporaryDirectory() as home:
        for number in range(count):
            folder = Path(home, str(number // 10))
            folder.mkdir(exist_ok=True)
            for left in leftovers(folder / "unsaved"):
                for file in sorted(left.folder.rglob("*"), reverse=True):
                    file.unlink() if not file.is_dir() else file.rmdir()
                left.folder.rmdir()
            try:
                wrong += [f"kill {number}: {one}" for one in killed(folder, rng)]
            except BadInput as fault:
                wrong.append(f"kill {number}: {fault}")
    return wrong


def full_disk(folder: Path) -> list[str]:
    """A file that cannot grow, as on a full disk, ends a saving; what was there is as it was."""
    project, meshes = made(1)
    file = folder / "work.kestrav"
    project_file.save(project, meshes, file)
    before, wrong = file.read_bytes(), []
    kept, handler = resource.getrlimit(resource.RLIMIT_FSIZE), signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (300, kept[1]))
    try:
        project_file.save(made(2)[0], made(2)[1], file)
        wrong.append("a saving on a full disk was not refused")
    except BadInput as fault:
        if file.name not in str(fault) or "as it was" not in str(fault):
            wrong.append(f"a full disk is told as: {fault}")
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, kept)
        signal.signal(signal.SIGXFSZ, handler)
    if file.read_bytes() != before or sorted(folder.iterdir()) != [file]:
        wrong.append("a saving on a full disk changed something")
    return wrong


def unwritable(folder: Path) -> list[str]:
    """Places that cannot be written are told in a sentence."""
    project, meshes = made(1)
    plain = folder / "plain"
    plain.write_text("a file")
    wrong = []
    places = [
        plain / "work.kestrav",
        folder / "nowhere" / "work.kestrav",
        folder / ("x" * 300 + ".kestrav"),
        Path("/proc/work.kestrav"),
    ]
    for place in places:
        try:
            project_file.save(project, meshes, place)
            wrong.append(f"“{place}” was written")
        except BadInput as fault:
            if "Errno" in str(fault):
                wrong.append(str(fault))
        except Exception as fault:
            wrong.append(f"“{place}”: {type(fault).__name__}")
    return wrong


def linked(folder: Path) -> list[str]:
    """A link stays one, and a link that somebody puts where a part would be is not followed."""
    project, meshes = made(1)
    file, link = folder / "there.kestrav", folder / "work.kestrav"
    project_file.save(project, meshes, file)
    link.symlink_to(file)
    project_file.save(made(2)[0], made(2)[1], link)
    good = link.is_symlink() and project_file.load(file).project.name == "edit 2"
    return [] if good else ["a link was replaced"]


def two_writers(folder: Path) -> list[str]:
    """Two that save to one file at once leave one of both projects, whole."""
    file, children = folder / "work.kestrav", []
    code = "import sys\nfrom pathlib import Path\nfrom campaigns.drill import made\nfrom kestrav.core.files import project_file\nfor k in range(30):\n    project_file.save(*made(int(sys.argv[2])), Path(sys.argv[1]))"
    for number in (1, 2):
        children.append(
            subprocess.Popen([sys.executable, "-c", code, str(file), str(number)], cwd=Path(__file__).parent.parent)
        )
    while any(child.poll() is None for child in children):
        if file.exists():
            project_file.load(file)
    names = sorted(each.name for each in folder.iterdir())
    wrong = [] if names == [file.name] else [f"two writers left {names}"]
    return wrong + [f"a writer ended with {child.returncode}" for child in children if child.returncode]


DRILLS: tuple[Callable[[Path], list[str]], ...] = (full_disk, unwritable, linked, two_writers)


def main() -> int:
    """Run all of it."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    wrong = []
    for drill in DRILLS:
        with tempfile.TemporaryDirectory() as folder:
            wrong += drill(Path(folder))
    wrong += kills(given.kills, given.seed)
    print("\n".join(wrong) or f"nothing lost in {given.kills} kills and {len(DRILLS)} other drills")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
