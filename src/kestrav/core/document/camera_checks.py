"""What cameras, shots and orbits must be like."""

from __future__ import annotations

from itertools import pairwise

from kestrav.core.document.check_values import check_colour, check_time, positive
from kestrav.core.document.fields import check_fields
from kestrav.core.document.records import Camera, FreeAim, OrbitShape, Path, Shot
from kestrav.core.errors import BadInput

LEAST_BETWEEN = 0.05  # s between two images of a rider


def check_camera(camera: Camera) -> None:
    """Raise BadInput when a lens, an aim or a limit is impossible."""
    label = f"the camera “{camera.name}”"
    if isinstance(camera.aim, FreeAim):
        if not camera.aim.keys:
            raise BadInput(f"{label} aims freely and has no key; give it one")
        _check_keys([k.time for k in camera.aim.keys], f"{label}: its look")
        if any(not -90 <= k.pitch <= 90 for k in camera.aim.keys):
            raise BadInput(f"{label} looks up or down by more than 90°; give −90 to 90")
    _check_keys([k.time for k in camera.roll], f"{label}: its roll")
    if camera.keeps and not 0 < camera.size <= 10:
        raise BadInput(f"{label} keeps a size of {100 * camera.size:g} % of the frame; give above 0, up to 1000")
    for fade in camera.fades:
        check_time(fade.start, f"{label} begins to fade something")
        if not fade.start < fade.end:
            raise BadInput(f"{label} fades something from {fade.start:g} to {fade.end:g} s; its end must come later")
        if not 0 <= fade.opacity <= 1:
            raise BadInput(f"{label} fades something to {100 * fade.opacity:g} %; it can be 0 to 100")
    _check_framing(camera, label)
    if camera.f_number != 0 and not 0.5 <= camera.f_number <= 256:
        raise BadInput(f"{label} has the f-number {camera.f_number:g}; give 0 for all sharp, or 0.5 to 256")
    _check_keys([k.time for k in camera.focus.keys], f"{label}: its focus")
    for key in camera.focus.keys:
        positive(f"{label}: the distance of a focus key", key.distance)


def _check_keys(times: list[float], label: str) -> None:
    for time in times:
        check_time(time, f"{label} is keyed")
    if any(b <= a for a, b in pairwise(times)):
        raise BadInput(f"{label} has keys that do not follow each other in time")


def _check_framing(camera: Camera, label: str) -> None:
    limits = camera.framing
    if not 0 <= limits.least < limits.most:
        raise BadInput(
            f"{label}: its subject may cover {100 * limits.least:g} to {100 * limits.most:g} % of the frame’s height; "
            "the least must be 0 or more, and below the most"
        )


def check_orbit(path: Path, shape: OrbitShape) -> None:
    """Raise BadInput when an orbit goes around nothing or cannot be gone."""
    label = f"the path “{path.name}”"
    check_fields(shape, label)
    if not shape.outline:
        raise BadInput(f"{label} goes around nothing; give a thing with geometry to go around")
    if shape.rounding is not None and shape.rounding < 0:
        raise BadInput(f"{label} has a negative rounding; give 0 or more")


def check_shot(shot: Shot) -> None:
    """Raise BadInput when a shot has no length or no picture."""
    label = f"the shot “{shot.name}”"
    check_fields(shot, label)
    if not 0 <= shot.start < shot.end:
        raise BadInput(f"{label} runs from {shot.start:g} to {shot.end:g} s; its end must come after its start")
    check_time(shot.end, f"{label} ends")
    if not 0 <= shot.fade < shot.end - shot.start:
        raise BadInput(f"{label} comes by a cross-fade of {shot.fade:g} s; give 0 or more, and less than it lasts")
    check_colour(shot.background, f"{label}: the background")
    if shot.background_top:
        check_colour(shot.background_top, f"{label}: the background at the top")
    if shot.section is not None and not any(shot.section.normal):
        raise BadInput(f"{label}: its section has a normal without a direction; give one that is not 0, 0, 0")
    if shot.shows.images and not shot.shows.images >= LEAST_BETWEEN:
        raise BadInput(
            f"{label} shows images of its rider every {shot.shows.images:g} s; give {LEAST_BETWEEN:g} s or more, or 0 for none"
        )
