"""Make the demo project from the STEP assemblies beside this script: ``make demo-project``."""

from __future__ import annotations

import itertools
from pathlib import Path

import msgspec
import numpy as np

from kestrav.core.camera.making import add_follower, add_standing
from kestrav.core.camera.mending import faded
from kestrav.core.camera.orbits import add_orbit
from kestrav.core.camera.walking import add_walk, open_door, with_stop
from kestrav.core.clearance.putting import put_down
from kestrav.core.derive import derived
from kestrav.core.document import edits
from kestrav.core.document.lookup import get, new_id, subtree
from kestrav.core.document.records import (
    AlongAim,
    AlongOrientation,
    ArcShape,
    Attachment,
    Axle,
    BoxForm,
    CarriedOrientation,
    ContactTrigger,
    Coupled,
    Eased,
    FixedOrientation,
    Following,
    KeyPose,
    Law,
    Light,
    LightKey,
    LightSetup,
    Limited,
    OnPicture,
    PartAim,
    PathPoint,
    Pin,
    Placement,
    PointShape,
    PoseTrack,
    Project,
    Requirement,
    Rod,
    Run,
    Settings,
    TimedRotation,
    Trigger,
)
from kestrav.core.document.records import Path as PathRecord
from kestrav.core.editing.finishing import shown_in, with_colourway, with_finish, with_rule
from kestrav.core.editing.run_making import stop_at_mark
from kestrav.core.editing.wheel_making import add_rolls, add_swivel
from kestrav.core.extraction.taking_apart import add_sequence, order_of
from kestrav.core.files import project_file
from kestrav.core.files.product_import import into_project, read_product
from kestrav.core.findings.model import point
from kestrav.core.finishes.shelf import BY_NAME
from kestrav.core.geometry.meshes import Mesh
from kestrav.core.kinematics.motion import Motion
from kestrav.core.kinematics.runs import journey
from kestrav.core.parts.placeholders import add_form
from kestrav.core.parts.placing import placement, shift
from kestrav.core.parts.rest import rest_and_pivot
from kestrav.core.paths.path_curves import path_curve
from kestrav.core.paths.shaping import raised

HERE = Path(__file__).parent
PRODUCTS = ("cabinet", "trolley", "jib-hoist", "swing-gate", "plant-room")
TARGET = HERE / "fan-cassette.kestrav"
CLOSED = HERE / "closed-cabinet.kestrav"
DOOR, DOOR_AT = (880.0, 6.0, 560.0), (0.0, -404.0, 1000.0)  # mm: width, depth and height, and where its foot stands

# the cassette's middle: out along its runners, aside of the riser pipe, to under the hoist's hook
WAY_OUT = (
    PathPoint((0.0, -90.0, 1278.0), "corner"),
    PathPoint((9.0, -140.0, 1278.5)),
    PathPoint((20.0, -200.0, 1280.0)),
    PathPoint((21.0, -420.0, 1290.0)),
    PathPoint((60.0, -720.0, 1292.0)),
    PathPoint((162.82, -1086.59, 1301.5), "corner"),
)
PULLED = 522.4  # mm/s at which it is pulled, between a soft start and stop
RAMPS = (250.0, 300.0)


def build() -> project_file.Opened:
    """The demo project with its meshes."""
    project = Project(name="Fan cassette exchange", settings=Settings(fps=30.0, required_clearance=6.0))
    meshes = {}
    for name in PRODUCTS:
        imported = read_product(HERE / f"{name}.step")
        project = into_project(project, imported)
        meshes.update(imported.meshes)
    ids = {part.name: part.id for part in project.parts}
    cassette = ids["Fan cassette"]
    project = edits.add(
        project,
        PathRecord("path-1", "Extraction path", PointShape(WAY_OUT)),
        Run(
            "run-1",
            "Cassette leaves",
            cassette,
            "path-1",
            start=0.5,
            duration=None,
            speed=PULLED,
            speed_profile=Eased(*RAMPS),
            orientation=FixedOrientation(),
        ),
    )
    project = with_trolley(project, ids)
    project = with_jib(project, ids)
    project = with_hoisting(project, ids, meshes)
    project = with_gate(project, ids)
    project = with_louvres(project, ids)
    project = with_filter(project, ids)
    project = with_light(project, ids)
    project = with_wheels(project, ids, meshes)
    project = with_cameras(project, ids, meshes)
    project = with_finishes(project, ids)
    return project_file.Opened(derived(project, meshes), meshes)


def with_cameras(project: Project, ids: dict[str, str], meshes: dict[str, Mesh]) -> Project:
    """An orbit of the cabinet that loops, a chase camera behind the trolley as it comes in, and a walk through the door."""
    # clockwise, so that the cassette is seen leaving from the front and never from behind the hoist's column
    project = add_orbit(
        project,
        meshes,
        [ids["Heat-pump cabinet"]],
        duration=12.0,
        offset=2600.0,
        height=1900.0,
        start=-40.0,
        clockwise=True,
    )
    project = edits.update(project, project.shots[-1].id, name="Cabinet orbit")
    project = edits.update(
        project, project.cameras[-1].id, name="Orbit camera", focal_length=22.0, keeps="distance", size=0.86
    )
    project = edits.update(project, project.paths[-1].id, name="Cabinet orbit")
    project = edits.update(project, project.runs[-1].id, name="Orbit of the cabinet")
    # the hoist's column passes before the cabinet
    project = faded(project, project.cameras[-1].id, ids["Jib hoist"], ((10.2, 11.5),))
    trolley = ids["Service trolley"]
    project = add_follower(project, trolley, "behind", 2300.0, 1100.0, lag=0.35)
    arrives = journey(project, get(project, "run-2")).end
    project = edits.update(project, project.shots[-1].id, name="Trolley chase", end=round(arrives + 0.6, 1))
    project = edits.update(project, project.cameras[-1].id, name="Chase camera", focal_length=28.0)
    project = add_standing(project, (-1500.0, -2200.0, 1900.0), ids["Fan cassette"], focal_length=38.0)
    project = edits.update(project, project.cameras[-1].id, name="Cassette camera")
    project = edits.update(project, project.shots[-1].id, name="Cassette leaves", start=0.3, end=6.0)
    project = add_walk(project, meshes, WALK, speed=1200.0, distance=400.0, doors=[ids["Room door"]])
    walk = project.runs[-1].id
    project = edits.update(project, project.cameras[-1].id, aim=AlongAim(2500.0, 16.0, -11.0), aim_lag=0.8)
    project = with_stop(project, walk, 0.40, 4.0)
    project = open_door(project, meshes, walk, ids["Room door"], 95.0)
    # the film leaves the walk while the trolley is still in sight
    project = edits.update(project, project.shots[-1].id, name="Walkthrough", end=WALK_FILMED)
    project = filmed(project, ids)
    # a door hangs as near to its frame as it is built
    leaf = [p.id for p in project.parts if p.name in ("Door leaf", "Door handle", "Door pane")]
    rest = [p.id for p in project.parts if p.name.startswith(("Door post", "Door lintel")) or p.name == "Wall, side"]
    for pair in (*itertools.product(leaf, rest), *itertools.product(leaf, [ids["Corridor floor"], ids["Floor slab"]])):
        project = edits.set_contact(project, *pair, True)
    return project


def filmed(project: Project, ids: dict[str, str]) -> Project:
    """The four shots as a film: how each looks, and what is written on it."""
    orbit, chase, leaves, walk = (shot.id for shot in project.shots)
    for shot in (orbit, chase, leaves, walk):
        project = edits.update(project, shot, fps=24.0, fade=0.0 if shot == orbit else FADE)
    project = edits.update(
        project,
        orbit,
        background="#e9ecea",
        background_top="#c9d6d8",
        shows=OnPicture(
            title="Fan cassette exchange",
            subtitle="heat-pump cabinet in a plant room",
            labels=(ids["Fan cassette"], ids["Riser pipe"]),
        ),
    )
    project = edits.update(
        project,
        chase,
        background="#e9ecea",
        background_top="#c9d6d8",
        shows=OnPicture(speed=True, turns=True, clock=True),
    )
    project = edits.update(
        project,
        leaves,
        look="ghost",
        background=PAPER,
        shows=OnPicture(clearance=True, trace=True, images=1.2, speed=True, clock=True, labels=(ids["Riser pipe"],)),
    )
    return edits.update(
        project,
        walk,
        background="#e9ecea",
        background_top="#c9d6d8",
        shows=OnPicture(end="Fan cassette exchange\nout past the riser, on the hoist, away on the trolley"),
    )


PAPER = "#f4f1ea"
WALK_FILMED = 10.3  # s
FADE = 0.5  # s by which the shots of the film follow each other
WALK = ((-5400.0, -2100.0, 0.0), (-3000.0, -2150.0, 0.0), (-1300.0, -2500.0, 0.0), (1900.0, -2500.0, 0.0))

# the trolley's middle stands at MIDDLE beside the cabinet; its castors are AXLE before and behind it, its deck ends NOSE
# ahead of it
MIDDLE, AXLE, NOSE = (400.0, -1330.0), 430.0, 525.0
AISLE_X, BEND = 3200.0, 700.0
AISLE_END, WAITS, OUT = -3850.0, -2500.0, -3300.0  # y of the path's start, and of the trolley's middle before and after


def with_trolley(project: Project, ids: dict[str, str]) -> Project:
    """The trolley comes in on two points, slows for the bend and stops with its front at the mark; with the cassette set
    down on it, it reverses out."""
    trolley = ids["Service trolley"]
    mark = MIDDLE[0] - NOSE
    points = (
        PathPoint((AISLE_X, AISLE_END, 0.0), "corner"),
        PathPoint((AISLE_X, MIDDLE[1], 0.0), "corner", radius=BEND),
        PathPoint((mark - 100.0, MIDDLE[1], 0.0), "corner"),
    )
    path = PathRecord("path-2", "Aisle", PointShape(points))
    length = path_curve(path).length
    comes = Run(
        "run-2",
        "Trolley comes in",
        trolley,
        path.id,
        begin=(WAITS + AXLE - AISLE_END) / length,
        end=0.9,
        duration=None,
        speed=1400.0,
        speed_profile=Limited(top=1400.0, sideways=700.0, forward=900.0, braking=900.0),
        orientation=CarriedOrientation(wheelbase=2 * AXLE, share=0.5),
        mark=1.0 - 100.0 / length,
    )
    project = stop_at_mark(edits.add(project, path, comes), comes.id)
    stopped = get(project, comes.id)
    leaves = edits.change(
        stopped,
        id="run-3",
        name="Trolley reverses out",
        start=6.1,
        begin=(OUT + AXLE - AISLE_END) / length,
        backwards=True,
        speed=1300.0,
        speed_profile=Limited(top=1300.0, sideways=700.0, forward=900.0, braking=900.0),
        mark=None,
    )
    project = edits.add(project, leaves)
    # wheels roll over what is painted on the floor, which is nothing to run against
    wheels = [p.id for p in project.parts if p.name == "Wheel" and p.id in subtree(project, trolley)]
    paint = [p.id for p in project.parts if p.name.startswith("Aisle marking")]
    item = Requirement(new_id(project, Requirement), "Wheels on paint", tuple(wheels), tuple(paint), checked=False)
    return edits.add(project, item)


def with_jib(project: Project, ids: dict[str, str]) -> Project:
    """The jib swings over the trolley and back, its tip on an arc, with all that hangs on it."""
    centre, tip = np.array([1400.0, -120.0, 2350.0]), 1700.0
    toward = np.radians(180 + 38)
    start = centre + tip * np.array([np.cos(toward), np.sin(toward), 0.0])
    swing = ArcShape(point(centre), point(start), JIB_SWING)
    over = Run(
        "run-4",
        "Jib swings over",
        ids["Arm"],
        "path-3",
        start=SWINGS[0],
        duration=SWINGS[1] - SWINGS[0],
        speed_profile=Law("modified sine"),
        orientation=AlongOrientation("-y"),
        reference="point",
        reference_point=(-tip, 0.0, 70.0),
        companions=tuple(ids[name] for name in ("Brace", "Trolley block", "Hook")),
    )
    back = edits.change(over, id="run-5", name="Jib swings back", start=SWINGS[2], duration=1.6, backwards=True)
    return edits.add(project, PathRecord("path-3", "Jib arc", swing), over, back)


JIB_SWING = 12.4  # degrees, from the cabinet to over the trolley
SWINGS = (3.9, 4.8, 7.0)  # s at which the jib sets out, arrives and sets out back
LOWERS, DOWN, LETS_GO, UP = 4.8, 5.75, 5.85, 6.9  # s of the hook
LIFT = 841.4  # mm that it lets the cassette down


def with_hoisting(project: Project, ids: dict[str, str], meshes: dict[str, Mesh]) -> Project:
    """The hoist takes the cassette from its way out and sets it down on the trolley, with which it rides on."""
    hook, cassette = ids["Hook"], ids["Fan cassette"]
    project = edits.update(project, hook, pivot=Placement((0.0, 0.0, 1512.0)))
    there = Motion(project).poses(hook, [LOWERS])[0] @ rest_and_pivot(project, hook)[1]
    high = placement(there)
    low = placement(shift((0.0, 0.0, -LIFT)) @ there)
    times = (0.0, DOWN - LOWERS, LETS_GO - LOWERS, UP - LOWERS)
    keys = tuple(KeyPose(time, where) for time, where in zip(times, (high, low, low, high), strict=True))
    hangs = Attachment(
        "attachment-1", "Hoist carries the cassette", cassette, hook, trigger=Trigger("run-1"), lowering=0.2
    )
    project = edits.add(project, PoseTrack("pose-track-1", "Hook goes down and up", hook, keys, start=LOWERS), hangs)
    skids, pads = (
        [ids[f"{name}, {side}"] for side in sides]
        for name, sides in (("Skid", ("left", "right")), ("Rubber pad", ("rear", "front")))
    )
    for pair in (*itertools.product(skids, pads), (ids["Hook plate"], ids["Housing"])):
        project = edits.set_contact(project, *pair, True)
    project = put_down(project, meshes, hangs.id, LETS_GO)
    return edits.update(project, project.attachments[-1].id, name="Cassette rides on the trolley")


def with_gate(project: Project, ids: dict[str, str]) -> Project:
    """The trolley reverses into the gate's leaf, which swings open about its hinges from that moment on."""
    trolley, leaf = ids["Service trolley"], ids["Leaf"]
    swings = TimedRotation(
        "rotation-2",
        "Gate swings open",
        leaf,
        Axle((-30.0, 0.0, 0.0), (0.0, 0.0, 1.0)),
        end=GATE_TAKES,
        turns=-95.0 / 360.0,
        rpm=None,
        ramp_out=GATE_TAKES,
        trigger=ContactTrigger(trolley, leaf),
    )
    project = edits.add(project, swings)
    bars = [p.id for p in project.parts if p.name.startswith("Leaf ")]
    for pair in itertools.product([ids["Deck"], ids["Push bow"], ids["Bow plate"]], bars):
        project = edits.set_contact(project, *pair, True)
    return project


GATE_TAKES = 0.85  # s; it is knocked open, fastest at first, and so is never in the trolley's way


def with_louvres(project: Project, ids: dict[str, str]) -> Project:
    """A crank closes the louvres by a rod that stays upright, once the cassette is out."""
    crank, rod = ids["Crank"], ids["Link rod"]
    axle = Axle((0.0, 0.0, 0.0), (1.0, 0.0, 0.0))
    slats = [p.id for p in project.parts if p.name.startswith("Slat ") and p.geometry is None]
    closes = TimedRotation(
        "rotation-3", "Crank closes the louvres", crank, axle, start=4.0, end=6.5, turns=62.0 / 360.0, rpm=None,
        ramp_in=0.5, ramp_out=0.5,
    )  # fmt: skip
    upright = Rod(
        "rod-1",
        "Link rod stays upright",
        rod,
        Pin(crank, (-14.0, 26.0, 14.0)),
        near=(0.0, 0.0, 550.0),
        far=(0.0, 0.0, 30.0),
        coupled=tuple(Coupled(slat, axle) for slat in slats),
    )
    project = edits.add(project, closes, upright)
    # what turns in holes and on pins is as near as it is built
    blades, pins = (
        [p.id for p in project.parts if p.name == name and p.parent in slats] for name in ("Slat blade", "Slat pin")
    )
    sides = [ids["Louvre side, left"], ids["Louvre side, right"]]
    near = [
        *itertools.product(blades, sides),
        *itertools.product(pins, [rod, sides[1], crank]),
        (crank, rod),
        (rod, sides[1]),
    ]
    for pair in near:
        project = edits.set_contact(project, *pair, True)
    return project


def with_filter(project: Project, ids: dict[str, str]) -> Project:
    """The filter is pulled off its seal and out along its guides, and pushed home again."""
    taken = ids["Filter"]
    project = edits.add(project, PathRecord("path-4", "Filter guides", PointShape(tuple(map(PathPoint, FILTER_PULL)))))
    out = Run(
        "run-6", "Filter comes out", taken, "path-4", start=0.8, duration=1.6, orientation=FixedOrientation(), speed_profile=Law("modified sine")
    )  # fmt: skip
    home = edits.change(out, id="run-7", name="Filter is pushed home", start=FILTER_HOME, backwards=True)
    return edits.add(project, out, home)


FILTER_PULL = ((0.0, -165.0, 1604.0), (0.0, -465.0, 1604.0))
FILTER_HOME = 8.0  # s at which it sets out back


def with_light(project: Project, ids: dict[str, str]) -> Project:
    """A spot light on a rail above the aisle keeps with the trolley, and comes up as it sets out."""
    aisle = get(project, "path-2")
    rail = edits.change(aisle, id="path-5", name="Light rail")
    project = edits.add(project, rail)
    project = raised(project, rail.id, 2900.0)
    trolley = ids["Service trolley"]
    keys = (
        LightKey(0.0, 0.0),
        LightKey(1.0, 1200.0),
        LightKey(11.0, 1200.0, "#ffd9a0"),
        LightKey(12.0, 0.0, "#ffd9a0"),
    )
    light = Light(
        "light-1", "Follower light", "spot", (3200.0, -3400.0, 2900.0), PartAim(trolley), cone=50.0, keys=keys
    )
    project = edits.add(project, light)
    for number, lead in ((8, "run-2"), (9, "run-3")):
        run = get(project, lead)
        follows = edits.change(
            run,
            id=f"run-{number}",
            name=f"Light follows {'in' if number == 8 else 'out'}",
            rider=light.id,
            path=rail.id,
            orientation=FixedOrientation(),
            # behind its front both ways: what is behind is ahead where it goes backwards
            follows=Following(lead, 600.0 if number == 8 else -600.0),
            mark=None,
        )
        project = edits.add(project, follows)
    return project


def with_wheels(project: Project, ids: dict[str, str], meshes: dict[str, Mesh]) -> Project:
    """The trolley rolls on four castors, each by the way that it goes itself; the impeller runs down as the fan is taken out."""
    inside = subtree(project, ids["Service trolley"])
    wheels = [p for p in project.parts if p.name == "Wheel" and p.id in inside]
    project = add_rolls(project, meshes, [wheel.id for wheel in wheels])
    for wheel in wheels:
        # a wheel is as near to its fork as it is built
        fork = next(p.id for p in project.parts if p.name == "Fork" and p.parent == wheel.parent)
        project = edits.set_contact(project, wheel.id, fork, True)
    for castor in [p.id for p in project.parts if p.name.startswith("Castor, ") and p.id in inside]:
        project = add_swivel(project, castor)
    return edits.add(
        project,
        TimedRotation(
            "rotation-1",
            "Impeller runs down",
            ids["Impeller"],
            Axle((0.0, 0.0, 0.0), (0.0, 1.0, 0.0)),
            end=4.0,
            turns=5.0,
            rpm=None,
            ramp_out=4.0,
        ),
    )


# words in names, and the finish of the shelf that parts of such names have; of several the last one counts
FINISHES = (
    ("panel", "Powder coat, fine"),
    ("roof", "Powder coat, fine"),
    ("tray", "Powder coat, fine"),
    ("housing", "Powder coat, fine"),
    ("rail,", "Brushed aluminium"),
    ("post", "Paint, gloss"),
    ("column", "Paint, gloss"),
    ("arm", "Paint, gloss"),
    ("brace", "Paint, gloss"),
    ("riser", "Copper"),
    ("elbow", "Copper"),
    ("suction line", "Copper"),
    ("flange", "Raw steel"),
    ("clamp", "Zinc-plated"),
    ("bolt", "Zinc-plated"),
    ("foot", "Zinc-plated"),
    ("hinge", "Zinc-plated"),
    ("fork", "Zinc-plated"),
    ("guard", "Chrome-plated"),
    ("blade", "Moulded plastic, matt"),
    ("hub", "Moulded plastic, matt"),
    ("motor body", "Cast aluminium"),
    ("rubber", "Rubber"),
    ("seal", "Rubber"),
    ("wheel", "Rubber"),
    ("deck", "Beech plywood"),
    ("filter pad", "Felt"),
    ("drain grate", "Steel mesh"),
    ("leaf", "Brushed steel"),
    ("floor", "Floor coating"),
    ("wall,", "Plaster"),
    ("pane", "Glass, clear"),
    ("door leaf", "Paint, matt"),
    ("vessel", "Brushed steel"),
)


def with_finishes(project: Project, ids: dict[str, str]) -> Project:
    """Finishes by names, and a second colourway of the cabinet."""
    for words, finish in FINISHES:
        project = with_rule(project, words, BY_NAME[finish])
    # the studio's light, large and soft, so that the floor shows no lamps
    project = msgspec.structs.replace(project, light_setup=LightSetup("three-point", turn=-20.0, softness=1.6))
    project, _ = with_colourway(project, "Anthracite")
    for name in ("Side panel, left", "Side panel, right", "Back panel", "Roof", "Housing"):
        project = with_finish(project, [ids[name]], BY_NAME["Anodised, black"])
    return shown_in(project, "")


def closed_cabinet() -> project_file.Opened:
    """The cabinet alone, closed by a door panel in front of the bay, and how panel, cassette and motor come out one after another."""
    project = Project(name="Closed cabinet", settings=Settings(fps=30.0, required_clearance=6.0))
    imported = read_product(HERE / "cabinet.step")
    project, meshes = into_project(project, imported), dict(imported.meshes)
    ids = {part.name: part.id for part in project.parts}
    project, shape = add_form(project, BoxForm(*DOOR), DOOR_AT)
    meshes[shape.hash] = shape
    door = project.parts[-1].id
    looks = {"name": "Door panel", "parent": ids["Heat-pump cabinet"], "colour": "#c3cfc0", "opacity": 0.45}
    project = edits.update(project, door, **looks)
    project, shape = add_form(project, BoxForm(2400.0, 100.0, 2400.0), (0.0, 520.0, 0.0))
    meshes[shape.hash] = shape
    project = edits.update(project, project.parts[-1].id, name="Wall behind", colour="#d9d2c3")
    # pulled by hand, each comes out by 3 mm at least
    order = order_of(project, meshes, [door, ids["Filter"], ids["Fan cassette"], ids["Motor"]], 3.0)
    project = add_sequence(project, order, 0.5)
    project = add_orbit(
        project, meshes, [ids["Heat-pump cabinet"]], duration=8.0, offset=2600.0, height=1900.0, start=-75.0
    )
    return project_file.Opened(project, meshes)


def main() -> None:
    """Write the projects."""
    for opened, target in ((build(), TARGET), (closed_cabinet(), CLOSED)):
        project_file.save(opened.project, opened.meshes, target)
        print(f"{target.name}: {sum(p.geometry is not None for p in opened.project.parts)} parts")


if __name__ == "__main__":
    main()
