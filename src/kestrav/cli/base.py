"""What the commands share: options that several have, and how they print and tell how far they are."""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from kestrav.core.errors import BadInput

if TYPE_CHECKING:
    from kestrav.render.cluster import Cluster

Json = Annotated[bool, typer.Option("--json", help="Print one JSON object, for machines.")]
Force = Annotated[bool, typer.Option("--force", help="Overwrite existing files.")]
Processes = Annotated[int | None, typer.Option(help="Number of processes; one per core if not given.")]
ClusterAddress = Annotated[
    str | None, typer.Option("--cluster", help="Address of a dask.distributed scheduler, whose workers do the work.")
]
Certificates = Annotated[
    Path | None, typer.Option(help="Folder of the cluster's ca.pem, cert.pem and key.pem, for one on other machines.")
]
FARTHEST = 1e9  # of a number given: a thousand kilometres in mm, thirty years in s


def sensible(value: float | None) -> float | None:
    """A number as it was given. Raises BadParameter when it is not finite or far beyond anything built."""
    if value is None or abs(value) <= FARTHEST:
        return value
    raise typer.BadParameter(f"{value:g} is not a number that can be worked with; give one within ±{FARTHEST:,.0f}")


def print_as(data: object, text: str, *, as_json: bool) -> None:
    """Print one JSON object, or a text for people."""
    typer.echo(json.dumps(data, ensure_ascii=False, indent=1) if as_json else text.rstrip("\n"))


def refuse_kept(out: Path | None, *, force: bool) -> None:
    """Refuse to overwrite a file unless that is allowed."""
    from kestrav.core.files.writing import refuse_existing

    if out is not None:
        refuse_existing(out, force=force, otherwise="--force to overwrite it")


def cluster_of(address: str | None, certificates: Path | None) -> Cluster | None:
    """The cluster of an address, if one is given. Raises BadInput where it may not be connected to."""
    if address is None:
        if certificates is not None:
            raise BadInput("--certificates are those of a cluster; give its address with --cluster too")
        return None
    from kestrav.render.cluster import Cluster

    farm = Cluster(address, certificates)
    farm.security()
    return farm


class Line:
    """Frames done, or what else, and how long it will take, on one line of a terminal."""

    def __init__(self, what: str = "frame") -> None:
        self.what = what
        self.began: tuple[float, int] | None = None

    def __call__(self, done: int, total: int) -> None:
        """Tell that so many of all are done."""
        now = time.monotonic()
        if self.began is None:
            self.began = (now, done)
        since, first = self.began
        left = (total - done) * (now - since) / (done - first) if done > first else None
        wait = "" if left is None or done == total else f", about {left:.0f} s left"
        end = "\n" if done == total else ""
        sys.stderr.write(f"\r{self.what} {done} of {total}{wait:<24}{end}")
        sys.stderr.flush()


def share_line(share: float, text: str = "") -> None:
    """Tell which share is done, on the line where the last one was told."""
    end = "\n" if share >= 1 else ""
    sys.stderr.write(f"\r{share:4.0%} {text:<40}{end}")
    sys.stderr.flush()
