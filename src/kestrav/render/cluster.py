"""A film's frames made by the workers of a dask.distributed cluster."""

from __future__ import annotations

import asyncio
import os
import threading
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from typing import Any

import msgspec

from kestrav.core.document.records import Project
from kestrav.core.errors import BadInput
from kestrav.core.geometry.meshes import Mesh
from kestrav.render.formats import Bits
from kestrav.render.frames import Frame, FrameStore, Maker, packed

_ANSWERS = 30.0  # s within which a cluster must answer
_TOGETHER = 4  # frames that a worker is given at a time: few, so that little is lost with it
_RETRIES = 3

CERTIFICATES = ("ca.pem", "cert.pem", "key.pem")
_HERE = ("127.0.0.1", "localhost", "[::1]")


class Cluster(msgspec.Struct, frozen=True):
    """The address of a cluster's scheduler, and the folder of the certificates by which it and we know each other.

    What goes to another machine is encrypted, and only to one that has a certificate of the same authority: whoever could send work to the
    workers could run anything there.
    """

    address: str
    certificates: Path | None = None

    def security(self) -> Any:
        """How dask is to connect. Raises BadInput where it would be unencrypted to another machine, or certificates are missing."""
        from distributed import Security

        if self.certificates is None:
            host = self.address.removeprefix("tcp://").rpartition(":")[0]
            if self.address.startswith("tls://") or host not in _HERE:
                raise BadInput(
                    f"the cluster at “{self.address}” is on another machine: start its scheduler and workers with TLS, give its address as"
                    f" tls://host:8786, and --certificates with the folder that holds {', '.join(CERTIFICATES)}"
                )
            return Security()
        authority, mine, key = (self.certificates / name for name in CERTIFICATES)
        missing = [file.name for file in (authority, mine, key) if not file.is_file()]
        if missing:
            raise BadInput(
                f"“{self.certificates}” holds no {', '.join(missing)}; give the folder of the cluster's certificates"
            )
        if not self.address.startswith("tls://"):
            raise BadInput(f"with certificates the cluster's address is tls://host:8786, not “{self.address}”")
        return Security(
            tls_ca_file=str(authority), tls_client_cert=str(mine), tls_client_key=str(key), require_encryption=True
        )


@cache
def running_loop() -> Any:
    """The tornado loop of a thread of its own, running until the process ends, for dask to work in.

    dask would start one itself, and fails by an assertion where the thread has not begun after 10 s, as on a machine that stood still.
    Here it is waited for.
    """
    from tornado.ioloop import IOLoop

    begun: Future[IOLoop] = Future()

    async def for_ever() -> None:
        begun.set_result(IOLoop.current())
        await asyncio.Event().wait()

    threading.Thread(target=lambda: asyncio.run(for_ever()), name="cluster", daemon=True).start()
    return begun.result()


os.register_at_fork(after_in_child=running_loop.cache_clear)  # threads do not go along


@contextmanager
def connected(cluster: Cluster) -> Iterator[Any]:
    """A client of a cluster that answers and has workers. Raises BadInput for one that does not."""
    from distributed import Client

    class _Client(Client):
        def start(self, **options: Any) -> None:
            try:
                super().start(**options)
            except BaseException:
                self.close()  # now and from here: when it is collected, that may be in its own loop's thread, which cannot wait for it
                raise

    address = cluster.address
    try:
        client = _Client(address, timeout=_ANSWERS, security=cluster.security(), loop=running_loop())
    except (OSError, ValueError, TimeoutError) as fault:
        raise BadInput(
            f"the cluster at “{address}” does not answer within {_ANSWERS:g} s; give the address of its scheduler, as tcp://host:8786"
        ) from fault
    try:
        if not client.scheduler_info()["workers"]:
            raise BadInput(f"the cluster at “{address}” has no workers; start some, then try again")
        yield client
    finally:
        client.close()


# of the worker's own process: the studio of the work that it was given last
_maker: tuple[str, Maker] | None = None


def frames_of(
    token: str,
    project: Project,
    meshes: Mapping[str, Mesh],
    frames: Sequence[Frame],
    size: tuple[int, int],
    bits: Bits,
    *,
    alpha: bool,
) -> list[tuple[str, bytes]]:
    """On a worker: packed frames, by key. A frame that fails is made a second time."""
    global _maker
    if _maker is None or _maker[0] != token:
        if _maker is not None:
            _maker[1].close()
        _maker = (token, Maker(project, meshes, *size, alpha=alpha, bits=bits))
    packed_frames = []
    _maker[1].prefetch(frames)
    for frame in frames:
        packed_frames.append((frame.key, packed(_maker[1].tried(frame))))
    return packed_frames


def make_on_cluster(
    cluster: Cluster,
    project: Project,
    meshes: Mapping[str, Mesh],
    left: Sequence[Frame],
    store: FrameStore,
    size: tuple[int, int],
    *,
    alpha: bool,
    bits: Bits,
    tell: Callable[[int], None],
) -> None:
    """Let the workers of a cluster make frames, and keep each as it comes; what a lost worker had is given to others.

    Raises BadInput for a cluster that does not answer or has no worker, and for a frame that cannot be made. ``tell`` is told how
    many are done, and may raise to stop.
    """
    from distributed import as_completed

    with connected(cluster) as client:
        used = {g.hash for g in project.geometry}
        # sent to the workers once, not with each frame
        shared = client.scatter([project, {n: m for n, m in meshes.items() if n in used}], broadcast=True, hash=False)
        token = f"{shared[0].key}"
        chunks = [left[k : k + _TOGETHER] for k in range(0, len(left), _TOGETHER)]
        futures = [
            client.submit(
                frames_of, token, shared[0], shared[1], chunk, size, bits, alpha=alpha, pure=False, retries=_RETRIES
            )
            for chunk in chunks
        ]
        done = 0
        tell(done)
        for future in as_completed(futures):
            done += _keep(future, store)
            tell(done)


def _keep(future: Any, store: FrameStore) -> int:
    try:
        frames: list[tuple[str, bytes]] = future.result()
    except OSError:
        raise
    except Exception as fault:
        raise BadInput(f"frames could not be made on the cluster: {fault}") from fault
    for key, data in frames:
        store.keep(key, data)
    return len(frames)
