"""Ways out that are known, and hard to find: each a thing to take out, what it is in, and the way that there is.

All are made here of boxes, cylinders and rings, in mm; the thing is 1 mm away from what it is in unless told otherwise.
"""

from __future__ import annotations

import msgspec
import numpy as np
import trimesh

from kestrav.core.document.records import Part, Placement, Project, Settings
from kestrav.core.geometry.meshes import mesh
from kestrav.core.parts.solids import geometry_record

REQUIRED = 0.5


class Puzzle(msgspec.Struct, frozen=True):
    """Solids by name, of which ``things`` are to be taken out; whether there is a way (``known``, in words)."""

    name: str
    known: str
    solids: dict[str, trimesh.Trimesh]
    things: tuple[str, ...] = ("thing",)
    solvable: bool = True


def project_of(puzzle: Puzzle):
    """A puzzle as a project, and its meshes."""
    parts, meshes = [Part("all", "Assembly")], {}
    for name, solid in puzzle.solids.items():
        shape = mesh(solid.vertices, solid.faces)
        meshes[shape.hash] = shape
        parts.append(Part(name, name, "all", Placement((0.0, 0.0, 0.0)), geometry=shape.hash))
    project = Project(
        parts=tuple(parts),
        geometry=tuple(geometry_record(m) for m in meshes.values()),
        settings=Settings(required_clearance=REQUIRED),
    )
    return project, meshes


def box(low, high):
    """A box from its lowest to its highest corner."""
    low, high = np.array(low, float), np.array(high, float)
    made = trimesh.creation.box(high - low)
    made.apply_translation(0.5 * (low + high))
    return made


def rod(one, two, radius, sections=24):
    """A cylinder from one point to another."""
    return trimesh.creation.cylinder(radius, segment=[one, two], sections=sections)


def one_of(*solids):
    """Solids as one."""
    return trimesh.boolean.union(list(solids))


def without(solid, *cut):
    """A solid with others cut out of it."""
    return trimesh.boolean.difference([solid, *cut])


def turned(solid, degrees, axis, about=(0, 0, 0)):
    """A solid turned about a line."""
    made = solid.copy()
    made.apply_transform(trimesh.transformations.rotation_matrix(np.radians(degrees), axis, about))
    return made


def drawer_over_a_lip():
    case = without(box((0, 0, 0), (200, 120, 100)), box((-1, 10, 10), (190, 110, 90)))
    lip = box((0, 10, 10), (6, 110, 22))
    drawer = box((8, 12, 11), (188, 108, 74))
    return Puzzle("drawer over a lip", "up by 12, then out", {"thing": drawer, "case": one_of(case, lip)})


def key_in_an_l():
    """An L-shaped key in an L-shaped corridor; it has to turn around the corner."""
    key = one_of(box((10, 10, 1), (70, 24, 19)), box((10, 10, 1), (24, 36, 19)))
    room = one_of(box((0, 0, 0), (90, 80, 20)), box((60, -160, 0), (90, 80, 20)))
    block = without(box((-20, -170, -20), (120, 100, 40)), room, box((60, -200, 0), (90, 0, 20)))
    return Puzzle("key in an L", "along, a quarter turn and down the other leg", {"thing": key, "block": block})


def ring_off_a_hook():
    ring = trimesh.creation.torus(20, 4, 32, 12)
    ring.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, (0, 1, 0)))
    ring.apply_translation((30, 0, -11))
    wall = box((-20, -60, -70), (0, 60, 80))
    hook = one_of(
        wall, rod((-5, 0, 0), (60, 0, 0), 5), rod((60, 0, -4), (60, 0, 30), 5), rod((60, 0, 30), (45, 0, 30), 5)
    )
    return Puzzle("ring off a hook", "along, around two corners and off the end", {"thing": ring, "hook": hook})


def tilted_plate():
    """A plate that is wider than the window is high, and leaves it askew."""
    case = without(box((0, 0, 0), (140, 120, 120)), box((10, 10, 10), (130, 110, 110)))
    case = without(case, box((-10, 12, 34.0), (20, 108, 86.0)))
    plate = box((40, 15, 11), (48, 105, 69))
    return Puzzle("tilted plate", "turned over by a quarter and out flat", {"thing": plate, "case": case})


def plate_past_a_shelf():
    """A plate that has to be tilted while it goes up past a shelf, with 2.2 mm to spare."""
    walls = one_of(
        box((0, -60, 0), (10, 60, 160)), box((0, -60, -10), (120, 60, 0)), box((110, -60, 0), (120, 60, 160))
    )
    sides = one_of(box((0, -70, -10), (120, -60, 160)), box((0, 60, -10), (120, 70, 160)))
    shelf = box((52.2, -60, 70), (115, 60, 80))
    plate = box((12, -55, 1), (102, 55, 9))
    return Puzzle(
        "plate past a shelf",
        "tilted to stand and up through 42 mm",
        {"thing": plate, "case": one_of(walls, sides, shelf)},
    )


def bent_pipe_through_two_clips():
    pipe = one_of(rod((0, 0, 0), (120, 0, 0), 6), trimesh.creation.icosphere(2, 6), rod((0, 0, 0), (0, 60, 0), 6))

    def clip(x):
        ring = trimesh.creation.annulus(14, 20, 4)
        ring.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, (0, 1, 0)))
        ring.apply_translation((x, 0, 0))
        return one_of(ring, box((x - 2, -10, -60), (x + 2, 10, -17)))

    return Puzzle(
        "bent pipe through two clips",
        "on through both, the bend going off their axis between them",
        {
            "thing": pipe,
            "near": clip(40),
            "far": clip(90),
            "base": box((-40, -60, -75), (140, 60, -62)),
            "stop": box((-60, -60, -75), (-40, 80, 40)),
        },
    )


def s_shaped_bar():
    """A bar of three arms at right angles in a wall with a hole, in front of a second wall."""
    bar = one_of(box((-60, -6, -6), (6, 6, 6)), box((-6, -6, -6), (6, 6, 46)), box((-6, -6, 34), (60, 6, 46)))
    wall = without(box((-22, -60, -60), (-12, 60, 100)), box((-23, -14, -14), (-11, 14, 14)))
    behind = box((80, -60, -60), (90, 60, 100))
    return Puzzle(
        "S-shaped bar", "back, turned about the hole and out", {"thing": bar, "wall": one_of(wall), "behind": behind}
    )


def peg_at_an_angle():
    axis = np.array([0.31, 0.23, 0.92])
    axis /= np.linalg.norm(axis)
    peg = rod(-30 * axis, 50 * axis, 10, 32)
    block = without(box((-50, -50, -50), (50, 50, 50)), rod(-31 * axis, 120 * axis, 10.8, 32))
    return Puzzle("peg at an angle", "along the hole", {"thing": peg, "block": block})


def bayonet():
    lug = box((9, -4, -4), (17, 4, 4))
    plug = one_of(rod((0, 0, -10), (0, 0, 40), 10), lug, turned(lug, 180, (0, 0, 1)))
    lane = box((0, -5.5, -6), (19, 5.5, 60))
    ring = without(rod((0, 0, -6), (0, 0, 6), 19), rod((0, 0, -20), (0, 0, 0), 0.01))
    bore = one_of(rod((0, 0, -14), (0, 0, 60), 11.5), ring)
    for angle in (50, 230):
        bore = one_of(bore, turned(lane, angle, (0, 0, 1)))
    socket = without(box((-30, -30, -20), (30, 30, 30)), bore)
    return Puzzle("bayonet", "turned by 50° and up", {"thing": plug, "socket": socket})


def nested_boxes():
    """A block in a box that is open above, in one that is open in front, in one that is open at the right."""
    block = box((-12, -12, -12), (12, 12, 12))

    def shell(size, opening):
        half = size / 2
        cut = box([-half + 4] * 3, [half - 4] * 3)
        mouth = cut.copy()
        mouth.apply_translation(np.array(opening) * 10.0)
        return without(box([-half] * 3, [half] * 3), cut, mouth)

    return Puzzle(
        "nested boxes",
        "up, forward and to the right",
        {
            "thing": block,
            "inner": shell(36, (0, 0, 1)),
            "middle": shell(104, (0, -1, 0)),
            "outer": shell(180, (1, 0, 0)),
        },
    )


def two_together():
    """Two wedges, each of which keeps the other one from going alone."""
    case = without(box((0, 0, 0), (100, 60, 60)), box((-10, 10, 10), (90, 50, 50)))
    upper = one_of(box((10, 12, 32), (80, 48, 48)), box((30, 12, 24), (40, 48, 33)))
    lower = one_of(
        box((10, 12, 12), (80, 48, 22.9)), box((10, 12, 12), (28.9, 48, 31)), box((41.1, 12, 12), (80, 48, 31))
    )
    return Puzzle("two parts together", "out, both", {"thing": upper, "other": lower, "case": case}, ("thing", "other"))


def trapped():
    case = without(box((0, 0, 0), (100, 100, 100)), box((10, 10, 10), (90, 90, 90)), box((-1, 40, 40), (11, 60, 60)))
    return Puzzle(
        "trapped",
        "none: its least width is above the window's",
        {"thing": box((30, 30, 30), (62, 58, 56)), "case": case},
        solvable=False,
    )


def out_and_around():
    """A block in a passage of five bends."""
    lanes = [
        box((0, 0, 0), (100, 30, 30)),
        box((70, 0, 0), (100, 100, 30)),
        box((0, 70, 0), (100, 100, 30)),
        box((0, 70, 0), (30, 100, 100)),
        box((0, 0, 70), (30, 100, 100)),
        box((0, -60, 70), (30, 20, 100)),
    ]
    solid = without(box((-20, -20, -20), (120, 120, 120)), one_of(*lanes))
    return Puzzle("out and around", "five bends", {"thing": box((3, 3, 3), (27, 27, 27)), "maze": solid})


def slot():
    case = without(box((-115, -135, -150), (115, 135, 150)), box((-105, -125, -140), (105, 125, 140)))
    case = without(case, box((-20, -140, -139), (20, -120, 139)))
    return Puzzle("slot", "turned to lie along it and out", {"thing": box((-80, -10, -10), (80, 10, 10)), "case": case})


def narrow_channel():
    lanes = one_of(box((-24, -24, -24), (24, 24, 116)), box((-24, -24, 68), (200, 24, 116)))
    block = without(box((-44, -44, -44), (170, 44, 136)), lanes)
    thing = turned(box((-20, -20, -20), (20, 20, 20)), 3, (0, 0, 1))
    return Puzzle("narrow channel", "up and to the right", {"thing": thing, "channel": block})


PUZZLES = (
    drawer_over_a_lip,
    key_in_an_l,
    ring_off_a_hook,
    tilted_plate,
    plate_past_a_shelf,
    bent_pipe_through_two_clips,
    s_shaped_bar,
    peg_at_an_angle,
    bayonet,
    nested_boxes,
    two_together,
    trapped,
    out_and_around,
    slot,
    narrow_channel,
)
