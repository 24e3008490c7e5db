"""Finished frames: what the document costs beside the bare path tracer, and how near few denoised samples come to many."""

from __future__ import annotations

import json
import subprocess
import sys
import time

SAMPLES = 8
_CODE = """
import json, sys, time
from pathlib import Path
import msgspec, numpy as np
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.files import project_file
from kestrav.render.tracing.description import TracedScene, Wanted
from kestrav.render.tracing.tracer import Tracer
from kestrav.render.tracing.studio import FinishedStudio
from kestrav.core.light.setups import environment
from kestrav.render.tracing.traced_bodies import bodies_of

opened = project_file.load(Path("demo/fan-cassette.kestrav"))
project, samples = opened.project, int(sys.argv[1])
shot = project.shots[0]
studio = FinishedStudio(project, opened.meshes, shot, 1280, 720)
camera = camera_of(project, shot.camera)
around = environment(project.light_setup, 128).astype(np.float32)
tracer = Tracer(TracedScene(bodies_of(project, opened.meshes, camera), around, 1280, 720))
def ours(time_):
    return tracer.traced(Wanted(studio.moments(camera, time_), samples, denoise=False), lambda *_: True)
def bare():
    for k in range(max(samples // 8, 2)):
        np.array(tracer.mi.render(tracer._scene, spp=min(samples // 2, 8), seed=k))
ours(2.0); bare()
took, plain, ready = [], [], []
for k in range(3):
    began = time.perf_counter(); ours(2.0 + 0.1 * k); took.append(time.perf_counter() - began)
    began = time.perf_counter(); bare(); plain.append(time.perf_counter() - began)
    began = time.perf_counter(); tracer._arrange(studio.moments(camera, 3.0 + 0.1 * k)[0]); ready.append(time.perf_counter() - began)
print(json.dumps({"ours": sorted(took)[1], "bare": sorted(plain)[1], "ready": sorted(ready)[1], "variant": tracer.variant}))
"""


def against_the_bare_tracer(_: object) -> tuple[str, bool]:
    """A frame of the demo at 1280 × 720 beside the bare library's rendering of the same scene, and what the next frame costs before it."""
    began = time.monotonic()
    out = subprocess.run([sys.executable, "-c", _CODE, str(SAMPLES)], capture_output=True, text=True, check=True).stdout
    told = json.loads(out.strip().splitlines()[-1])
    ratio = told["ours"] / told["bare"]
    good = ratio <= 1.15 and told["ready"] <= 0.3
    text = (
        f"finished frame, {SAMPLES} samples ({told['variant']}): {told['ours']:.1f} s, {ratio:.2f} times the bare library (1.15); the next frame "
        f"is ready in {told['ready']:.2f} s (0.3); {time.monotonic() - began:.0f} s in all"
    )
    return text, good


_SETTLED = """
import json, sys, time
from pathlib import Path
import msgspec, numpy as np
from kestrav.core.camera.adjusting import camera_of
from kestrav.core.files import project_file
from kestrav.core.light.response import shown_light
from kestrav.core.light.setups import environment
from kestrav.render.tracing.traced_bodies import bodies_of
from kestrav.render.tracing.description import TracedScene, Wanted
from kestrav.render.tracing.tracer import Tracer
from kestrav.render.tracing.studio import FinishedStudio

opened = project_file.load(Path("demo/fan-cassette.kestrav"))
project, many = opened.project, int(sys.argv[1])
# sharp: what moves would be drawn at many moments, each of which has to be arranged
shot = msgspec.structs.replace(next(s for s in project.shots if s.name == "Cassette leaves"), shutter=0.0)
studio = FinishedStudio(project, opened.meshes, shot, 1280, 720)
camera = camera_of(project, shot.camera)
around = environment(project.light_setup, 128).astype(np.float32)
tracer = Tracer(TracedScene(bodies_of(project, opened.meshes, camera), around, 1280, 720))
moments, keep = studio.moments(camera, 2.0), lambda *_: True
first = time.perf_counter()
tracer.traced(Wanted(moments, shot.samples), keep)
began = time.perf_counter()
whole = tracer.traced(Wanted(moments, shot.samples), keep)
took = time.perf_counter() - began
region = (480, 270, 800, 450)
left, top, right, bottom = region
few = whole.light[top:bottom, left:right]
settled = tracer.traced(Wanted(moments, many, denoise=False, seed=7, region=region), keep).light
settled = settled if settled.shape == few.shape else settled[top:bottom, left:right]
off = shown_light(few) - shown_light(settled)
print(json.dumps({"first": began - first, "took": took, "samples": shot.samples, "psnr": float(-10 * np.log10(np.mean(off**2)))}))
"""
_MANY, _PSNR, _FRAME = 1024, 35.0, 30.0


def against_many_samples(_: object) -> tuple[str, bool]:
    """How near a denoised frame of the demo comes to one of 1,024 samples, as they are shown, amid the picture; and what it takes."""
    out = subprocess.run(
        [sys.executable, "-c", _SETTLED, str(_MANY)], capture_output=True, text=True, check=True
    ).stdout
    told = json.loads(out.strip().splitlines()[-1])
    text = (
        f"finished frame of 1280 x 720, {told['samples']} samples without noise: {told['took']:.0f} s (at most {_FRAME:g}; the first of a scene "
        f"{told['first']:.0f} s, more where nothing like it was compiled before), "
        f"{told['psnr']:.1f} dB against {_MANY:,} samples (at least {_PSNR:g})"
    )
    return text, told["psnr"] >= _PSNR and told["took"] <= _FRAME
