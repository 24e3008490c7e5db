"""Shots to film: frames are made and kept on disk as they are ready, and put together at the end."""

from __future__ import annotations

import contextlib
import os
import shutil
import tempfile
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import wait
from concurrent.futures.process import BrokenProcessPool
from functools import partial
from pathlib import Path

import numpy as np
from av.error import FFmpegError
from numpy.typing import NDArray

from kestrav import __version__
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.document.records import Project, Shot
from kestrav.core.document.shots import FilmFrame, film_frames, shot_frames
from kestrav.core.errors import BadInput, Cancelled
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.processes import Pool, may_fork
from kestrav.render.cluster import Cluster, make_on_cluster
from kestrav.render.deep_images import layers_told, save_layers
from kestrav.render.formats import ENDINGS, EXR, PNG, Bits, Codec, check_bits, is_still
from kestrav.render.frames import Frame, FrameStore, Maker, begin_share, keyed, make_share
from kestrav.render.picture import Picture
from kestrav.render.sinks import Output, check_output, frames_in, open_sink, others_in, save_png, sides
from kestrav.render.studios import check_studio, is_traced, studio_of
from kestrav.render.tracing.studio import FinishedStudio

Progress = Callable[[int, int], None]
Show = Callable[[float, Picture], object]
"""Given the share done of a still, and its picture so far."""

_FEW = 48  # frames that are made faster in this process than others are started, and than others are forked
_FEW_FORKED = 6
_MOST_PROCESSES = 16
_TRIES = 3  # that the frames of a worker that died are given to others
_LOOKS = 0.15  # s between two looks at how far the workers are
# each, as all cores are at work already
_ONE_THREAD = {"LP_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
_BYTES: dict[Bits, float] = {8: 1.2, 10: 4.0, 16: 4.0, 32: 20.0}  # that a pixel of a kept frame takes, about


def render_shot(
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    target: Path,
    progress: Progress | None = None,
    *,
    overwrite: bool = False,
    **options: object,
) -> Path:
    """Render one shot to ``target``, as :func:`render_film` does films."""
    return _render(project, meshes, shot_frames(shot), shot, target, progress, overwrite=overwrite, **options)  # type: ignore[arg-type]


def render_film(
    project: Project,
    meshes: Mapping[str, Mesh],
    shots: Sequence[Shot],
    target: Path,
    progress: Progress | None = None,
    *,
    overwrite: bool = False,
    **options: object,
) -> Path:
    """Render shots one after another, with their cross-fades, to ``target``: MP4, WebM, GIF, animated WebP, or a folder of PNG files.

    Size and rate are those of the first shot. ``progress`` is told frames done and in all, and may raise to stop; the frames
    that are ready are kept beside the target then, and with ``resume`` are not made again as long as nothing that they show
    has changed. ``alpha`` leaves the background out; ``codec`` is that of an MP4; ``bits`` those of each colour (10 in films, 16 in
    PNG, 32 for a folder of OpenEXR files with linear light and its layers, of finished shots); ``processes`` is how many work at it (none:
    one for each core); with a ``cluster`` it is made by the workers of a dask.distributed
    scheduler at that address. Raises BadInput when the target exists (unless ``overwrite``), when it or the disk cannot take the
    result, or when a frame cannot be made.
    """
    first = shots[0] if shots else None
    frames = film_frames(shots, first.fps if first is not None else 1.0)
    assert first is not None
    return _render(project, meshes, frames, first, target, progress, overwrite=overwrite, **options)  # type: ignore[arg-type]


def frames_folder(target: Path) -> Path:
    """Where the frames of a target are kept until it is whole."""
    return target.with_name(f".{target.name}.frames")


def _render(
    project: Project,
    meshes: Mapping[str, Mesh],
    frames: list[FilmFrame],
    first: Shot,
    target: Path,
    progress: Progress | None,
    *,
    overwrite: bool,
    resume: bool = False,
    alpha: bool = False,
    codec: Codec = "h264",
    processes: int | None = None,
    cluster: Cluster | None = None,
    bits: Bits = 8,
) -> Path:
    check_target(target, overwrite=overwrite)
    width, height = sides(target, first.width, first.height)
    about = _about(project, frames, width, height, first.fps)
    if bits == 32:
        about |= layers_told(project)
    output = Output(target, width, height, first.fps, alpha, codec, about, bits)
    check_output(output)
    for shot in dict.fromkeys(shot for frame in frames for shot, _ in _moments(frame)):
        check_studio(shot, bits)
    store = FrameStore(frames_folder(target))
    if resume:
        store.look_through()
    else:
        store.clear()
    moments = list(dict.fromkeys(m for f in frames for m in _moments(f)))
    known = dict(zip(moments, keyed(project, meshes, moments, width, height, alpha=alpha, bits=bits), strict=True))
    wanted = list({frame.key: frame for frame in known.values()}.values())
    _check_room(target, [f for f in wanted if not store.has(f.key)], width, height, _BYTES[bits])
    count = len(frames)

    def tell(done: int) -> None:
        if progress is not None:
            # the last ones stand for putting it together
            progress(min(round(done / max(len(wanted), 1) * count), count - 1), count)

    try:
        _make_all(
            project,
            meshes,
            wanted,
            store,
            width,
            height,
            alpha=alpha,
            bits=bits,
            processes=processes,
            cluster=cluster,
            tell=tell,
        )
        with open_sink(output) as sink:
            for frame in frames:
                sink.add(_shown(frame, known, store))
            sink.finish()
    except (OSError, FFmpegError) as fault:
        raise BadInput(
            f"“{target}” cannot be written: {getattr(fault, 'strerror', None) or fault}{_kept(store)}"
        ) from fault
    finally:
        if not store.count():
            store.clear()
    store.clear()
    if progress is not None:
        progress(count, count)
    return target


def _kept(store: FrameStore) -> str:
    count = store.count()
    return f"; {count} finished frames are kept in “{store.folder}”, and --resume goes on from them" if count else ""


def _moments(frame: FilmFrame) -> list[tuple[Shot, float]]:
    moments = [(frame.shot, frame.time)]
    return [*moments, (frame.over, frame.over_time)] if frame.over is not None else moments


def _shown(frame: FilmFrame, known: Mapping[tuple[Shot, float], Frame], store: FrameStore) -> Picture:
    """The picture of a frame; in a cross-fade both of its pictures by their shares."""
    pictures = []
    for moment in _moments(frame):
        picture = store.load(known[moment].key)
        if picture is None:
            raise OSError(f"the frame at {moment[1]:.3f} s of “{moment[0].name}” is not there any more")
        pictures.append(picture)
    if len(pictures) == 1:
        return pictures[0]
    mixed = (1.0 - frame.share) * pictures[0] + frame.share * pictures[1]
    if pictures[0].dtype != np.float32:
        return np.rint(mixed).astype(pictures[0].dtype)
    # numbers of parts and distances are no light that could be mixed
    mixed[..., 4:] = pictures[frame.share > 0.5][..., 4:]
    return mixed.astype(np.float32)


def _about(project: Project, frames: Sequence[FilmFrame], width: int, height: int, fps: float) -> dict[str, str]:
    """What a file says of itself."""
    names = ", ".join(dict.fromkeys(f.shot.name for f in frames))
    text = f"{names}; {width} × {height}, {fps:g} frames a second, {len(frames)} frames; Kestrav {__version__}"
    return {"title": project.name, "comment": text, "software": f"Kestrav {__version__}"}


def _check_room(target: Path, frames: Sequence[Frame], width: int, height: int, each: float) -> None:
    """Raise BadInput where the disk has no room for the frames, of so many bytes a pixel."""
    need = int(each * len(frames) * width * height)
    free = shutil.disk_usage(target.parent).free
    if need > free:
        raise BadInput(
            f"the disk of “{target.parent}” has {free / 1e9:.1f} GB left, and {len(frames)} frames need about {need / 1e9:.1f} GB; "
            "make room, or render a smaller size"
        )


def _make_all(
    project: Project,
    meshes: Mapping[str, Mesh],
    wanted: Sequence[Frame],
    store: FrameStore,
    width: int,
    height: int,
    *,
    alpha: bool,
    bits: Bits,
    processes: int | None,
    cluster: Cluster | None,
    tell: Callable[[int], None],
) -> None:
    """Make what is not there yet: here, in several processes, or on a cluster."""
    left = [frame for frame in wanted if not store.has(frame.key)]
    count = processes if processes is not None else min(os.cpu_count() or 1, _MOST_PROCESSES)
    if any(is_traced(frame.shot) for frame in left):
        count = 1  # the path tracer takes all cores for each frame
    tell(len(wanted) - len(left))
    if not left:
        return
    if cluster is not None:
        ready = len(wanted) - len(left)
        make_on_cluster(
            cluster,
            project,
            meshes,
            left,
            store,
            (width, height),
            alpha=alpha,
            bits=bits,
            tell=lambda done: tell(ready + done),
        )
        return
    if count <= 1 or (processes is None and len(left) < (_FEW_FORKED if may_fork() else _FEW)):
        maker = Maker(project, meshes, width, height, alpha=alpha, bits=bits)
        maker.prefetch(left)
        try:
            for k, frame in enumerate(left):
                ready = len(wanted) - len(left) + k
                tell(ready)
                maker.alive = partial(tell, ready)
                try:
                    store.save(frame.key, maker.tried(frame))
                except (OSError, Cancelled):
                    raise
                except Exception as fault:
                    raise BadInput(
                        f"the frame at {frame.time:.3f} s of “{frame.shot.name}” could not be made, twice: {fault}{_kept(store)}"
                    ) from fault
        finally:
            maker.close()
        return
    for _ in range(_TRIES):
        left = [frame for frame in wanted if not store.has(frame.key)]
        if not left:
            return
        faults = _spread(
            project,
            meshes,
            left,
            store,
            width,
            height,
            alpha=alpha,
            bits=bits,
            count=min(count, len(left)),
            tell=tell,
            total=len(wanted),
        )
        if faults:
            raise BadInput(f"not all frames could be made: {faults}{_kept(store)}")
    raise BadInput(
        f"the processes that make the frames ended too early, {_TRIES} times; memory may have run out{_kept(store)}"
    )


def _spread(
    project: Project,
    meshes: Mapping[str, Mesh],
    left: Sequence[Frame],
    store: FrameStore,
    width: int,
    height: int,
    *,
    alpha: bool,
    bits: Bits,
    count: int,
    tell: Callable[[int], None],
    total: int,
) -> str:
    """Let several processes make frames; returns what went wrong with some of them."""
    store.folder.mkdir(parents=True, exist_ok=True)
    used = {g.hash for g in project.geometry}
    maker = {
        "project": project,
        "meshes": {name: shape for name, shape in meshes.items() if name in used},
        "width": width,
        "height": height,
        "alpha": alpha,
        "bits": bits,
    }
    faults = []
    with Pool(count, begin_share, maker, store.folder, surroundings=_ONE_THREAD) as pool:
        shares = []
        for k in range(count):
            # what is left undone where a process dies is given to others
            with contextlib.suppress(BrokenProcessPool):
                shares.append(pool.submit(make_share, left[k::count]))
        while wait(shares, timeout=_LOOKS).not_done:
            tell(total - sum(not store.has(frame.key) for frame in left))
        for share in shares:
            try:
                faults += share.result()
            except OSError as fault:
                faults.append(fault.strerror or str(fault))
            except BrokenProcessPool:
                continue
    return "; ".join(faults[:3])


def render_still(
    project: Project,
    meshes: Mapping[str, Mesh],
    shot: Shot,
    time: float,
    target: Path,
    *,
    overwrite: bool = False,
    alpha: bool = False,
    progress: Progress | None = None,
    bits: Bits = 8,
    show: Show | None = None,
) -> Path:
    """One picture of a shot's camera at a time in s: PNG of 8 or 16 bits, or OpenEXR with linear light and its layers.

    ``show`` is given a finished one as far as it is. Raises BadInput as :func:`render_film` does.
    """
    check_target(target, overwrite=overwrite)
    ending = target.suffix.lower()
    bits = 32 if ending == EXR else bits
    check_bits(ending, bits)
    studio = studio_of(project, meshes, shot, shot.width, shot.height, alpha=alpha, bits=bits)
    if isinstance(studio, FinishedStudio):
        studio.progress = partial(_tell_still, studio, progress, show)
    about = told_of(project, shot, time)
    try:
        picture = studio.picture(camera_of(project, shot.camera), time)
        if bits == 32:
            save_layers(picture, target, about | layers_told(project))
        else:
            save_png(picture, target, about)
    except OSError as fault:
        raise BadInput(f"“{target}” cannot be written: {fault.strerror or fault}") from fault
    finally:
        studio.close()
    return target


def told_of(project: Project, shot: Shot, time: float) -> dict[str, str]:
    """What a still's file says of itself."""
    return _about(project, [FilmFrame(shot, time)], shot.width, shot.height, shot.fps)


def _tell_still(
    studio: FinishedStudio,
    progress: Progress | None,
    show: Show | None,
    share: float,
    noise: float,
    so_far: tuple[NDArray[np.float32], NDArray[np.float32]] | None,
) -> bool:
    if progress is not None:
        progress(round(1000 * share), 1000)
    if show is not None and so_far is not None:
        show(share, studio.so_far(*so_far))
    return True


def check_target(target: Path, *, overwrite: bool) -> None:
    """Raise BadInput when a target cannot be written or would hide something that is there."""
    if target.suffix.lower() not in ENDINGS and not is_still(target):
        endings = ", ".join(e for e in ENDINGS if e)
        raise BadInput(
            f"“{target}” has an ending that is not known: give {endings}, {PNG} or {EXR} (a still) or a folder's name"
        )
    folder = target.parent
    if not folder.is_dir():
        raise BadInput(f"“{target}” cannot be written: the folder “{folder}” does not exist")
    if target.is_dir():
        _check_folder(target, overwrite=overwrite)
    elif target.exists() and not overwrite:
        raise BadInput(f"“{target}” is there already; give another name, or allow it to be overwritten")
    elif target.exists() and not target.is_file():
        raise BadInput(f"“{target}” is a device or a pipe and no plain file; give another name")
    try:
        with tempfile.TemporaryFile(dir=folder):
            pass
    except OSError as fault:
        raise BadInput(f"the folder “{folder}” cannot be written to: {fault.strerror or fault}") from fault


def _check_folder(folder: Path, *, overwrite: bool) -> None:
    """Raise BadInput where a folder is no place for a sequence: it holds other things, or frames that must not be replaced."""
    if folder.suffix:
        raise BadInput(f"“{folder}” is a folder; give the name of a file, or a folder's name without an ending")
    try:
        others = others_in(folder)
    except OSError as fault:
        raise BadInput(f"the folder “{folder}” cannot be looked into: {fault.strerror}") from fault
    if others:
        more = f" and {len(others) - 1} more" if len(others) > 1 else ""
        raise BadInput(
            f"“{folder}” holds other things (“{others[0]}”{more}), which a sequence must not lie among; "
            f"name a new folder in it, such as “{folder / 'film'}”"
        )
    reason = replaced_by(folder)
    if reason and not overwrite:
        raise BadInput(
            f"“{folder}” is there already and holds {reason}; give another name, or allow them to be replaced"
        )


def replaced_by(target: Path) -> str:
    """What a film would replace at a target, in words; empty where that is nothing, or a file."""
    frames = frames_in(target) if target.is_dir() else []
    if not frames:
        return ""
    return f"{len(frames)} frame{'s' if len(frames) > 1 else ''}, {frames[0].name} to {frames[-1].name}"
