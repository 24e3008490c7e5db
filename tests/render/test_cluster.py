"""Frames made on a dask.distributed cluster of this machine's own."""

import os
import shutil
import subprocess
import threading
import time

import msgspec
import numpy as np
import pytest
from clusters import cluster_here
from distributed import Security
from PIL import Image
from shapes import box_mesh, make_project, straight

from kestrav.core.document import edits
from kestrav.core.document.records import Camera, PointAim, Shot
from kestrav.core.errors import BadInput
from kestrav.render import cluster as on_cluster, film
from kestrav.render.cluster import Cluster


@pytest.fixture(scope="module")
def filmed():
    opened = make_project(
        {"Cube": (box_mesh(60, 60, 60), (-200, 0, 0))}, straight((-200, 0, 0), (200, 0, 0)), duration=1.0
    )
    camera = Camera("camera-1", "Eye", PointAim((0, 0, 0)), position=(0.0, -900.0, 0.0))
    shot = Shot("shot-1", "Take", "camera-1", 0.0, 0.6, 160, 90, 25.0, "#808080")
    return edits.add(opened.project, camera, shot), opened.meshes


@pytest.fixture(scope="module")
def local():
    with cluster_here(n_workers=2) as made:
        yield made


def pictures(folder):
    return [np.asarray(Image.open(p)) for p in sorted(folder.iterdir())]


def test_a_cluster_makes_the_same_pixels(written, local, tmp_path):
    project, meshes = written.project, written.meshes
    told = []
    here = film.render_shot(project, meshes, project.shots[0], tmp_path / "here", processes=1)
    there = film.render_shot(
        project,
        meshes,
        project.shots[0],
        tmp_path / "there",
        lambda d, n: told.append(d),
        cluster=Cluster(local.scheduler_address),
    )
    ours, theirs = pictures(here), pictures(there)
    assert len(ours) == len(theirs) == 10
    assert all((a == b).all() for a, b in zip(ours, theirs, strict=True))
    assert told == sorted(told) and told[-1] == 10


def test_the_loss_of_a_worker_is_survived(filmed, local, tmp_path):
    project, meshes = filmed
    shot = msgspec.structs.replace(project.shots[0], end=2.0, fps=60.0)
    killed = []

    def kill():
        while not (tmp_path / ".film.frames").is_dir():
            time.sleep(0.01)
        worker = next(iter(local.workers.values()))
        killed.append(worker.process.process.pid)
        os.kill(killed[0], 9)

    killer = threading.Thread(target=kill)
    killer.start()
    target = film.render_shot(project, meshes, shot, tmp_path / "film", cluster=Cluster(local.scheduler_address))
    killer.join()
    assert killed
    assert len(list(target.iterdir())) == 120


def test_a_cluster_that_does_not_answer_is_told(filmed, tmp_path, monkeypatch):
    project, meshes = filmed
    monkeypatch.setattr(on_cluster, "_ANSWERS", 0.5)
    with pytest.raises(BadInput, match="does not answer"):
        film.render_shot(project, meshes, project.shots[0], tmp_path / "a", cluster=Cluster("tcp://127.0.0.1:9"))
    with pytest.raises(BadInput, match="does not answer"):
        film.render_shot(project, meshes, project.shots[0], tmp_path / "a", cluster=Cluster("127.0.0.1:no address"))
    assert not list(tmp_path.iterdir())


def test_a_cluster_without_workers_is_told(filmed, tmp_path):
    project, meshes = filmed
    with (
        cluster_here(n_workers=0) as empty,
        pytest.raises(BadInput, match="has no workers"),
    ):
        film.render_shot(project, meshes, project.shots[0], tmp_path / "a", cluster=Cluster(empty.scheduler_address))


_ROLES = ("scheduler", "worker", "client")


@pytest.fixture(scope="module")
def authority(tmp_path_factory):
    """Certificates of an authority of our own, made as the guide says."""
    if shutil.which("openssl") is None:
        pytest.skip("openssl is not here")
    folder = tmp_path_factory.mktemp("certificates")
    new = ["openssl", "req", "-newkey", "rsa:2048", "-nodes", "-subj"]
    for words in (
        [*new, "/CN=our-authority", "-x509", "-days", "9", "-keyout", "ca-key.pem", "-out", "ca.pem"],
        [*new, "/CN=our-films", "-keyout", "key.pem", "-out", "request.pem"],
        [
            "openssl",
            "x509",
            "-req",
            "-in",
            "request.pem",
            "-CA",
            "ca.pem",
            "-CAkey",
            "ca-key.pem",
            "-CAcreateserial",
            "-days",
            "9",
            "-out",
            "cert.pem",
        ],
    ):
        subprocess.run(words, cwd=folder, check=True, capture_output=True)
    return folder


def test_a_cluster_elsewhere_is_only_used_encrypted_and_known_by_its_certificate(
    filmed, authority, tmp_path, monkeypatch
):
    project, meshes = filmed
    roles = {f"tls_{role}_{what}": str(authority / f"{what}.pem") for role in _ROLES for what in ("cert", "key")}
    security = Security(tls_ca_file=str(authority / "ca.pem"), require_encryption=True, **roles)
    with cluster_here(n_workers=1, protocol="tls://", security=security) as farm:
        address = farm.scheduler_address
        assert address.startswith("tls://")
        told = film.render_shot(
            project, meshes, project.shots[0], tmp_path / "film", cluster=Cluster(address, authority)
        )
        assert len(list(told.iterdir())) == 15
        stranger = tmp_path / "stranger"
        shutil.copytree(authority, stranger)
        subprocess.run(
            [
                "openssl",
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-subj",
                "/CN=our-films",
                "-days",
                "9",
                "-keyout",
                "key.pem",
                "-out",
                "cert.pem",
            ],
            cwd=stranger,
            check=True,
            capture_output=True,
        )
        # a stranger is turned away again and again until the time is up
        monkeypatch.setattr(on_cluster, "_ANSWERS", 2.0)
        with pytest.raises(BadInput, match="does not answer"):
            film.render_shot(project, meshes, project.shots[0], tmp_path / "b", cluster=Cluster(address, stranger))


@pytest.mark.parametrize(
    ("address", "folder", "told"),
    [
        ("tcp://farm:8786", None, "on another machine: start its scheduler and workers with TLS"),
        ("tls://farm:8786", None, "--certificates with the folder that holds ca.pem, cert.pem, key.pem"),
        ("tls://farm:8786", "empty", "holds no ca.pem, cert.pem, key.pem"),
        ("tcp://farm:8786", "full", "the cluster's address is tls://host:8786"),
    ],
)
def test_nothing_leaves_this_machine_unencrypted(address, folder, told, tmp_path):
    for name in ("empty", "full"):
        (tmp_path / name).mkdir()
    for name in on_cluster.CERTIFICATES:
        (tmp_path / "full" / name).write_text("")
    with pytest.raises(BadInput, match=told):
        Cluster(address, None if folder is None else tmp_path / folder).security()


def test_finished_frames_are_the_same_on_a_cluster(filmed, local, tmp_path):
    project, meshes = filmed
    shot = msgspec.structs.replace(project.shots[0], end=0.08, width=64, height=36, quality="finished", samples=4)
    here = film.render_shot(project, meshes, shot, tmp_path / "here", processes=1, bits=16)
    there = film.render_shot(
        project, meshes, shot, tmp_path / "there", cluster=Cluster(local.scheduler_address), bits=16
    )
    ours, theirs = pictures(here), pictures(there)
    assert len(ours) == len(theirs) == 2
    # the order in which threads add up light may change its last digit
    assert all(np.abs(a.astype(int) - b).max() <= 2 for a, b in zip(ours, theirs, strict=True))
