"""Damaged files of every kind that is read: each is opened, or refused in one sentence that speaks to people.

``python -m campaigns.fuzz [--minutes M] [--seed S] [--keep FOLDER]``; the exit code is 1 when anything else happened.
"""

from __future__ import annotations

import argparse
import io
import json
import math
import multiprocessing
import multiprocessing.connection
import random
import re
import sys
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import ezdxf
import msgspec
import trimesh

from kestrav.core.errors import BadInput
from kestrav.core.files import project_file
from kestrav.core.files.path_files import read_paths
from kestrav.core.files.product_import import read_product

ROOT = Path(__file__).parent.parent
SECONDS = 30.0  # after which one file counts as a hang
LONGEST = 300  # letters of a refusal, without the file's own name
PYTHON = re.compile(
    r"object has no attribute|NoneType|out of range|out of bounds|Error\b|Traceback|not subscriptable|unsupported operand"
    r"|positional argument|invalid literal|could not convert|cannot reshape|not iterable|unhashable|unpack \(|\bstr\b|\bdict\b|\btuple\b"
    r"|`\w+`|\bNone\b|must be real number|expected at|numpy|dtype|__\w+__|0x[0-9a-f]{6}"
)
EXTREME = ("nan", "inf", "-1", "0", "1e300", "-1e300", "1e-300", "99999999999999999999", "2147483648", "0.5", "", "x")
SLOW = (".step", ".iges")  # whose reader is a process of its own


class Seed(msgspec.Struct, frozen=True):
    """A sound file: the ending it is read by, and its content."""

    suffix: str
    data: bytes


def seeds() -> list[Seed]:
    """Sound files of every kind, small so that many can be tried."""
    ring = trimesh.creation.annulus(4.0, 9.0, 3.0, sections=12)
    found = [Seed(f".{kind}", _exported(ring, kind)) for kind in ("obj", "stl", "ply", "off", "glb")]
    found.append(Seed(".dae", trimesh.exchange.dae.export_collada(ring)))
    found.append(Seed(".3mf", _three_mf(ring)))
    found.append(Seed(".stl", trimesh.exchange.stl.export_stl_ascii(ring).encode()))
    found.append(Seed(".gltf", _gltf(ring)))
    found += [Seed(".step", (ROOT / "demo" / "swing-gate.step").read_bytes())]
    found += [Seed(".kestrav", _project()), Seed(".dxf", _dxf()), Seed(".svg", _SVG), Seed(".csv", _CSV)]
    return found


def _exported(body: trimesh.Trimesh, kind: str) -> bytes:
    made = trimesh.Scene({"Ring": body}).export(file_type=kind) if kind != "off" else body.export(file_type=kind)
    return made.encode() if isinstance(made, str) else bytes(made)


def _three_mf(body: trimesh.Trimesh) -> bytes:
    corners = "".join(f'<vertex x="{x:.3f}" y="{y:.3f}" z="{z:.3f}"/>' for x, y, z in body.vertices)
    facets = "".join(f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in body.faces)
    model = (
        '<?xml version="1.0"?><model unit="millimeter" xmlns="http://schemas.microsoft.com/3dmanufacturing/core/2015/02"><resources>'
        f'<object id="1" type="model"><mesh><vertices>{corners}</vertices><triangles>{facets}</triangles></mesh></object>'
        '<object id="2" type="model"><components><component objectid="1"/><component objectid="1" transform="1 0 0 0 1 0 0 0 1 9 0 0"/>'
        '</components></object></resources><build><item objectid="2"/></build></model>'
    )
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("3D/3dmodel.model", model)
    return out.getvalue()


def _gltf(body: trimesh.Trimesh) -> bytes:
    from base64 import b64encode

    files = trimesh.Scene({"Ring": body}).export(file_type="gltf")
    tree = json.loads(files["model.gltf"])
    for buffer in tree["buffers"]:
        buffer["uri"] = "data:application/octet-stream;base64," + b64encode(files[buffer["uri"]]).decode()
    return json.dumps(tree).encode()


def _project() -> bytes:
    """A project with something of everything that the demo has, but only the smallest geometry."""
    with zipfile.ZipFile(ROOT / "demo" / "fan-cassette.kestrav") as archive:
        tree = json.loads(archive.read("project.json"))
        smallest = min(tree["geometry"], key=lambda g: g["triangles"])
        for part in tree["parts"]:
            if part.get("geometry"):
                part["geometry"] = smallest["hash"]
        tree["geometry"] = [smallest]
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("project.json", json.dumps(tree))
            for name in archive.namelist():
                if smallest["hash"] in name:
                    made.writestr(name, archive.read(name))
    return out.getvalue()


def _dxf() -> bytes:
    drawing = ezdxf.new(setup=False)
    space = drawing.modelspace()
    space.add_lwpolyline([(0, 0), (50, 0), (50, 30, 0, 0, 0.4), (0, 30)])
    space.add_spline([(0, 0, 0), (10, 20, 5), (30, 10, 0), (60, 0, 0)])
    space.add_arc((5, 5), 20, 0, 120)
    out = io.StringIO()
    drawing.write(out)
    return out.getvalue().encode()


_SVG = b"""<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" width="100mm" viewBox="0 0 100 100">
<defs><path id="p" d="M0 0 C 10 20 30 20 40 0 S 70 -20 80 0 A 20 20 0 0 1 90 30 Z"/></defs><g transform="rotate(10) scale(2)">
<use xlink:href="#p" x="3"/><polyline points="0,0 10,10 20,0"/><circle cx="9" cy="9" r="4"/></g></svg>"""
_CSV = b"x,y,z\n" + b"\n".join(b"%d,%d,%d" % (10 * k, k * k, 5 * k) for k in range(20)) + b"\n"


# damaging


def damaged(seed: Seed, rng: random.Random) -> bytes:
    """A seed's content, damaged in one to four ways."""
    data = seed.data
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        if seed.suffix in (".kestrav", ".3mf") and rng.random() < 0.85:
            data = _repacked(data, rng)
        elif seed.suffix == ".gltf" and rng.random() < 0.7:
            data = _restructured(data, rng)
        else:
            data = rng.choice(WAYS)(data, rng)
    return data


def _flipped(data: bytes, rng: random.Random) -> bytes:
    made = bytearray(data)
    for _ in range(rng.choice((1, 4, 40))):
        if made:
            made[rng.randrange(len(made))] = rng.randrange(256)
    return bytes(made)


def _cut(data: bytes, rng: random.Random) -> bytes:
    return data[: rng.randrange(len(data) + 1)]


def _without(data: bytes, rng: random.Random) -> bytes:
    a = rng.randrange(len(data) + 1)
    return data[:a] + data[a + rng.choice((1, 10, 400)) :]


def _doubled(data: bytes, rng: random.Random) -> bytes:
    a = rng.randrange(len(data) + 1)
    b = min(a + rng.choice((1, 50, 2000)), len(data))
    return data[:b] + data[a:b] * rng.choice((1, 30)) + data[b:]


def _extreme(data: bytes, rng: random.Random) -> bytes:
    numbers = list(re.finditer(rb"-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?", data))
    if not numbers:
        return _flipped(data, rng)
    one = rng.choice(numbers)
    return data[: one.start()] + rng.choice(EXTREME).encode() + data[one.end() :]


def _swapped(data: bytes, rng: random.Random) -> bytes:
    words = list(re.finditer(rb"[A-Za-z_]{3,}", data))
    if len(words) < 2:
        return _flipped(data, rng)
    one, two = sorted(rng.sample(words, 2), key=lambda m: m.start())
    return data[: one.start()] + two[0] + data[one.end() : two.start()] + one[0] + data[two.end() :]


WAYS: tuple[Callable[[bytes, random.Random], bytes], ...] = (
    _flipped,
    _cut,
    _without,
    _doubled,
    _extreme,
    _extreme,
    _swapped,
)


def _repacked(data: bytes, rng: random.Random) -> bytes:
    """An archive one of whose entries is damaged, or gone."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = {name: archive.read(name) for name in archive.namelist()}
    except Exception:  # it is damaged already
        return _flipped(data, rng)
    if not entries:
        return data
    document = next((name for name in entries if name.endswith(("project.json", ".model"))), None)
    name = document if document and rng.random() < 0.85 else rng.choice(list(entries))
    if name.endswith(".json") and rng.random() < 0.8:
        entries[name] = _restructured(entries[name], rng)
    elif rng.random() < 0.05:
        del entries[name]
    else:
        entries[name] = rng.choice(WAYS)(entries[name], rng)
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for each, content in entries.items():
            made.writestr(each, content)
    return out.getvalue()


def _restructured(data: bytes, rng: random.Random) -> bytes:
    """JSON one of whose values is another, of another kind, gone, or there twice."""
    try:
        tree = json.loads(data)
    except ValueError:
        return _flipped(data, rng)
    places = list(_places(tree))
    if not places:
        return b"5"
    holder, key = rng.choice(places)
    kind = rng.randrange(5)
    if kind == 0:
        del holder[key]
    elif kind == 1:
        holder[key] = rng.choice(
            (None, True, -1, 0, 5, 1e300, -1e-300, 2**70, "", "x", "\ud800", [], {}, [None], {"id": 3}, "a" * 5000)
        )
    elif kind == 2:
        other, there = rng.choice(places)
        holder[key] = json.loads(json.dumps(other[there]))
    elif kind == 3 and isinstance(holder, list):
        holder.insert(rng.randrange(len(holder) + 1), holder[key])
    elif isinstance(holder[key], (int, float)):
        holder[key] = holder[key] * rng.choice((-1, 1e9, 1e-9, 0, 1e200))
    else:
        holder[key] = [holder[key]]
    return json.dumps(tree).encode()


def _places(tree: Any) -> Iterator[tuple[Any, Any]]:
    waiting = [tree]
    while waiting:
        here = waiting.pop()
        inner = here.items() if isinstance(here, dict) else enumerate(here) if isinstance(here, list) else ()
        for key, value in inner:
            yield here, key
            waiting.append(value)


# trying


def tried(file: Path) -> tuple[str, str]:
    """What came of reading a file: “read”, “refused”, or what went wrong, with the words."""
    try:
        if file.suffix == ".kestrav":
            project_file.load(file)
        elif file.suffix in (".dxf", ".svg", ".csv"):
            read_paths(file)
        else:
            read_product(file, unit=1.0 if file.suffix in (".obj", ".stl", ".ply", ".off") else None)
    except BadInput as fault:
        words = str(fault).replace(str(file), "").replace(file.name, "")
        if PYTHON.search(words):
            return "Python words", str(fault)
        if len(words) > LONGEST or "\n" in words:
            return "too long", str(fault)
        return ("refused", str(fault)) if file.name in str(fault) else ("names no file", str(fault))
    except BaseException:
        return "traceback", traceback.format_exc(limit=-6)
    return "read", ""


def _worker(pipe: multiprocessing.connection.Connection) -> None:
    import warnings

    warnings.simplefilter("ignore")
    while True:
        pipe.send(tried(Path(pipe.recv())))


class Reader:
    """A process that reads files, so that one on which it dies or hangs is told from the others."""

    context = multiprocessing.get_context("spawn")

    def __init__(self) -> None:
        self.process: multiprocessing.process.BaseProcess | None = None

    def read(self, file: Path, seconds: float = SECONDS) -> tuple[str, str]:
        """What came of a file."""
        if self.process is None:
            self.pipe, other = self.context.Pipe()
            self.process = self.context.Process(target=_worker, args=(other,), daemon=True)
            self.process.start()
            other.close()
        try:
            self.pipe.send(str(file))
            if self.pipe.poll(seconds):
                return self.pipe.recv()
            self.end()
            return "hang", f"more than {seconds:g} s"
        except (EOFError, BrokenPipeError, ConnectionResetError):
            code = self.process.exitcode
            self.end()
            return "crash", f"the reader ended with {code}"

    def end(self) -> None:
        """End the process."""
        if self.process is not None:
            self.process.kill()
            self.process.join()
        self.process = None


def campaign(
    seed: int, seconds: float, keep: Path | None = None, most: int | None = None
) -> tuple[Counter[str], list[str]]:
    """How often what came of damaged files, and of each that went wrong a line; the files themselves in a folder to ``keep`` them."""
    rng, sound = random.Random(seed), seeds()
    quick = [one for one in sound if one.suffix not in SLOW]
    told, wrong, reader = Counter[str](), [], Reader()
    until, number = time.monotonic() + seconds, 0
    with tempfile.TemporaryDirectory() as folder:
        while time.monotonic() < until and (most is None or number < most):
            one = rng.choice(sound if number % 20 == 0 else quick)
            file = Path(folder, f"f{seed}-{number}{one.suffix}")
            file.write_bytes(damaged(one, rng))
            verdict, words = reader.read(file)
            told[verdict] += 1
            if verdict not in ("read", "refused"):
                wrong.append(f"{file.name}: {verdict}: {words}")
                if keep is not None:
                    keep.mkdir(parents=True, exist_ok=True)
                    (keep / file.name).write_bytes(file.read_bytes())
            file.unlink()
            number += 1
    reader.end()
    return told, wrong


# documents


STRANGE = (0, 1, -1, 0.5, 1e-300, 1e300, -1e300, 1e13, math.nan, math.inf, True, None, "", "a" * 5000, "\ud800", "\0\n\t", "part-1",
           "run-1", (), (0.0, 0.0, 0.0), (1.0, 2.0), ((0.0, 0.0, 0.0),) * 2, (math.nan, 0.0, 1.0), {}, 2**70)  # fmt: skip


def _fields(value: object, trail: tuple[str | int, ...] = ()) -> Iterator[tuple[str | int, ...]]:
    """Where in a document, below its records, there is a value."""
    names = value.__struct_fields__ if isinstance(value, msgspec.Struct) else ()
    inner = range(len(value)) if isinstance(value, tuple) else names
    for key in inner:
        yield (*trail, key)
        yield from _fields(_at(value, (key,)), (*trail, key))


def _at(value: object, trail: tuple[str | int, ...]) -> object:
    for key in trail:
        value = value[key] if isinstance(value, tuple) else getattr(value, key)
    return value


def _with(value: object, trail: tuple[str | int, ...], new: object) -> object:
    """A document with another value somewhere."""
    if not trail:
        return new
    key, rest = trail[0], trail[1:]
    if isinstance(value, tuple):
        return (*value[:key], _with(value[key], rest, new), *value[key + 1 :])
    return msgspec.structs.replace(value, **{key: _with(getattr(value, key), rest, new)})


def documents(seed: int, seconds: float, most: int | None = None) -> tuple[Counter[str], list[str]]:
    """Whether what saving accepts is what loading accepts, over documents with random values in random places: how often what came of it,
    and of each on which they did not agree a line."""
    rng, told, wrong = random.Random(seed), Counter[str](), []
    until = time.monotonic() + seconds
    with tempfile.TemporaryDirectory() as folder:
        first, file = Path(folder, "first.kestrav"), Path(folder, "again.kestrav")
        first.write_bytes(_project())
        opened = project_file.load(first)
        trails = list(_fields(opened.project))
        while time.monotonic() < until and (most is None or told.total() < most):
            project, places = opened.project, rng.sample(trails, rng.choice((1, 1, 2, 4)))
            for trail in places:
                try:
                    old = _at(project, trail)
                    project = _with(project, trail, _another(old, opened.project, trails, rng))
                except (AttributeError, IndexError, TypeError):  # the place went with what was put before
                    continue
            try:
                project_file.save(project, opened.meshes, file)
            except BadInput:
                told["refused"] += 1
                continue
            except Exception:
                told["traceback"] += 1
                wrong.append(f"{places}: {traceback.format_exc(limit=-4)}")
                continue
            try:
                back = project_file.load(file)
                project_file.save(back.project, back.meshes, file)
                told["saved and loaded"] += 1
            except BadInput as fault:
                told["saved, not loaded"] += 1
                wrong.append(f"{places}: {fault}")
    return told, wrong


def _another(old: object, project: object, trails: list[tuple[str | int, ...]], rng: random.Random) -> object:
    if rng.random() < 0.2:
        return _at(project, rng.choice(trails))
    if isinstance(old, (int, float)) and not isinstance(old, bool) and rng.random() < 0.5:
        return old * rng.choice((-1, 0, 1e9, 1e-9, 1.5))
    return rng.choice(STRANGE)


def main() -> int:
    """Run it for some minutes, a tenth of them on documents."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--minutes", type=float, default=10.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path)
    given = parser.parse_args()
    told, wrong = campaign(given.seed, 54 * given.minutes, given.keep)
    for more, of in zip(documents(given.seed, 6 * given.minutes), (told, wrong), strict=True):
        of += more
    for line in wrong:
        print(line)
    print(", ".join(f"{count} {verdict}" for verdict, count in told.most_common()))
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
