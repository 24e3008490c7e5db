"""The review page's frames against a bare three.js page of the same scene, by the same browser."""

import json
import shutil
import statistics
import tempfile
import time
from importlib import resources
from pathlib import Path

import numpy as np

from bench.demo import PROJECT
from kestrav.core.document.lookup import shown_parts
from kestrav.core.files import project_file
from kestrav.core.findings.check import check
from kestrav.core.geometry.meshes import smooth_surface
from kestrav.core.kinematics.poses import world_poses
from kestrav.core.kinematics.runs import span
from kestrav.core.parts.solids import solid_mesh
from kestrav.core.review.review_page import review_page

# Chromium by itself, drawing with the processor, and asking nobody for anything
ARGUMENTS = [
    "--no-sandbox", "--disable-gpu", "--use-gl=angle", "--use-angle=swiftshader", "--enable-unsafe-swiftshader", "--ignore-gpu-blocklist",
    "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
]  # fmt: skip

_FRAMES, _SIZE, _LIMIT, _START = 8, (1280, 800), 1.5, 3.0

_BARE = """
const scene = new THREE.Scene(), canvas = document.querySelector("canvas");
const renderer = new THREE.WebGLRenderer({canvas, antialias: true, preserveDrawingBuffer: true});
const box = canvas.getBoundingClientRect();
renderer.setSize(box.width, box.height, false);
const camera = new THREE.PerspectiveCamera(32, box.width / box.height, 10, 60000);
camera.up.set(0, 0, 1);
scene.background = new THREE.Color("#dfe6e6");
const sun = new THREE.DirectionalLight("#fff", 1.7);
sun.position.set(0.5, -0.7, 1.1);
scene.add(sun);
const materials = new Map();
const shapes = DATA.shapes.map(shape => {
  const made = new THREE.BufferGeometry();
  made.setAttribute("position", new THREE.BufferAttribute(new Float32Array(shape.points), 3));
  made.setIndex(new THREE.BufferAttribute(new Uint32Array(shape.triangles), 1));
  made.computeVertexNormals();
  return made;
});
const bodies = DATA.parts.map(([shape, colour]) => {
  if (!materials.has(colour)) materials.set(colour, new THREE.MeshStandardMaterial({color: colour, roughness: 0.65, side: THREE.DoubleSide}));
  const body = new THREE.Mesh(shapes[shape], materials.get(colour));
  body.matrixAutoUpdate = false;
  scene.add(body);
  return body;
});
camera.position.set(...DATA.eye);
camera.lookAt(...DATA.target);
window.redraw = count => {
  const began = performance.now(), gl = renderer.getContext(), pixel = new Uint8Array(4);
  for (let k = 0; k < count; k++) {
    bodies.forEach((body, n) => { body.matrix.set(...DATA.poses[k][n]); body.matrixWorldNeedsUpdate = true; });
    renderer.render(scene, camera);
    gl.readPixels(0, 0, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel);
  }
  return performance.now() - began;
};
"""


def _bare(project, meshes, eye, target):
    """A page that draws the same triangles at the same times, and nothing else."""

    shown = shown_parts(project)
    rows = [k for k, p in enumerate(project.parts) if p.id in shown and p.geometry is not None and p.opacity > 0]
    shapes, number, parts = [], {}, []
    for k in rows:
        part = project.parts[k]
        key = part.geometry, part.scale
        if key not in number:
            number[key] = len(shapes)
            mesh = solid_mesh(meshes, part)
            points, _, triangles = smooth_surface(mesh, np.ones(len(mesh.triangles), bool))
            shapes.append({"points": points.round(3).reshape(-1).tolist(), "triangles": triangles.reshape(-1).tolist()})
        parts.append([number[key], part.colour])
    poses = world_poses(project, np.arange(_FRAMES) * span(project) / _FRAMES)[:, rows].reshape(_FRAMES, len(rows), 16)
    data = {"shapes": shapes, "parts": parts, "poses": poses.tolist(), "eye": eye, "target": target}
    three = (resources.files("kestrav") / "assets" / "review" / "three.min.js").read_text("utf-8")
    return (
        "<!doctype html><style>canvas{position:fixed;inset:0;width:100%;height:100%}</style><canvas></canvas>"
        f"<script>{three}</script><script>const DATA={json.dumps(data)};{_BARE}</script>"
    )


def _opened(browser, size, file, redraw):
    """A page that has drawn its first frame, and how long that took in s."""
    began = time.perf_counter()
    page = browser.new_page(viewport={"width": size[0], "height": size[1]})
    page.goto(file.as_uri())
    # the page is unpacked by then, or still at it
    while not page.evaluate("typeof review !== 'undefined' || typeof redraw !== 'undefined'"):
        page.wait_for_timeout(20)
    page.evaluate(redraw)
    return page, time.perf_counter() - began


def review_against_bare_three(in_turns):
    """Frames of the demo in motion, with timeline and dimension, against the bare picture of the same size."""
    from playwright.sync_api import sync_playwright

    chromium = shutil.which("chromium")
    if chromium is None:
        return "review page: no Chromium here", True
    opened = project_file.load(PROJECT)
    project, meshes = opened.project, opened.meshes
    html = review_page(project, meshes, result=check(project, meshes)).html
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=chromium, args=ARGUMENTS)
        (Path(folder) / "ours.html").write_bytes(html)
        ours, my_start = _opened(browser, _SIZE, Path(folder) / "ours.html", "review.redraw(1)")
        # of the same size as the page's own picture, from the same place
        box = ours.locator("#picture").bounding_box()
        eye = ours.evaluate("review.view_now()")
        (Path(folder) / "bare.html").write_text(_bare(project, meshes, eye["position"], eye["target"]), "utf-8")
        size = round(box["width"]), round(box["height"])
        bare, bare_start = _opened(browser, size, Path(folder) / "bare.html", "redraw(1)")
        took = ([], [])
        for _ in range(4):
            took[0].append(ours.evaluate(f"review.redraw({_FRAMES})"))
            took[1].append(bare.evaluate(f"redraw({_FRAMES})"))
        browser.close()
    mine, theirs = (statistics.median(one[1:]) / _FRAMES for one in took)
    ratio = mine / theirs
    return (
        f"review page: {mine:.0f} ms a frame, bare three.js {theirs:.0f} ms: {ratio:.2f} times (limit {_LIMIT}); its first frame after "
        f"{my_start:.1f} s, the bare page's after {bare_start:.1f} s: {my_start / bare_start:.1f} times (limit {_START:g})",
        ratio <= _LIMIT and my_start <= _START * bare_start,
    )
