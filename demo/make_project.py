"""Make the demo project from the STEP assemblies beside this script: ``make demo-project``."""

from __future__ import annotations

from pathlib import Path

import numpy as np

import kestrav

HERE = Path(__file__).parent
PRODUCTS = ("cabinet", "trolley", "jib-hoist", "swing-gate", "plant-room")
TARGET = HERE / "fan-cassette.kestrav"
CLOSED = HERE / "closed-cabinet.kestrav"
DOOR, DOOR_AT = (880.0, 6.0, 560.0), (0.0, -404.0, 1000.0)  # mm: width, depth and height, and where its foot stands

# the cassette's middle: out along its runners, aside of the riser pipe, to under the hoist's hook
WAY_OUT = (
    ("corner", (0.0, -90.0, 1278.0)),
    ("smooth", (9.0, -140.0, 1278.5)),
    ("smooth", (20.0, -200.0, 1280.0)),
    ("smooth", (21.0, -420.0, 1290.0)),
    ("smooth", (60.0, -720.0, 1292.0)),
    ("corner", (162.82, -1086.59, 1301.5)),
)
PULLED = 522.4  # mm/s at which it is pulled, between a soft start and stop
RAMPS = (250.0, 300.0)
FIXED = {"type": "fixed"}


def build() -> kestrav.Project:
    """The demo project."""
    project = kestrav.new(*(HERE / f"{name}.step" for name in PRODUCTS), name="Fan cassette exchange")
    project.set_settings(fps=30.0, required_clearance=6.0)
    points = [{"position": place, "kind": kind} for kind, place in WAY_OUT]
    way = project.add("path", "Extraction path", shape={"type": "points", "points": points})
    project.add(
        "run",
        "Cassette leaves",
        rider="Fan cassette",
        path=way,
        start=0.5,
        duration=None,
        speed=PULLED,
        speed_profile={"type": "eased", "start_length": RAMPS[0], "stop_length": RAMPS[1]},
        orientation=FIXED,
    )
    add_trolley(project)
    add_jib(project)
    add_hoisting(project)
    add_gate(project)
    add_louvres(project)
    add_filter(project)
    add_light(project)
    add_wheels(project)
    add_cameras(project)
    add_finishes(project)
    return project


def add_cameras(project: kestrav.Project) -> None:
    """An orbit of the cabinet that loops, a chase camera behind the trolley as it comes in, and a walk through the door."""
    # clockwise, so that the cassette is seen leaving from the front and never from behind the hoist's column
    shot = project.orbit("Heat-pump cabinet", seconds=12.0, offset=2600.0, height=1900.0, start=-40.0, clockwise=True)
    orbit = project.camera_of(shot)
    project.set(shot, name="Cabinet orbit")
    project.set(orbit, name="Orbit camera", focal_length=22.0, keeps="distance", size=0.86)
    project.set(project.paths[-1], name="Cabinet orbit")
    project.set(project.runs[-1], name="Orbit of the cabinet")
    # the hoist's column passes before the cabinet
    project.fade(orbit, "Jib hoist", (10.2, 11.5))
    shot = project.follow("Service trolley", "behind", 2300.0, 1100.0, lag=0.35)
    arrives = project.span_of("Trolley comes in")[1]
    project.set(project.camera_of(shot), name="Chase camera", focal_length=28.0)
    project.set(shot, name="Trolley chase", end=round(arrives + 0.6, 1))
    shot = project.add_camera((-1500.0, -2200.0, 1900.0), "Fan cassette", 0.3, 6.0, focal_length=38.0)
    project.set(project.camera_of(shot), name="Cassette camera")
    project.set(project.id_of(shot, "shot"), name="Cassette leaves")
    shot = project.walk(WALK, speed=1200.0, distance=400.0, doors=["Room door"])
    walk = project.runs[-1]
    aim = {"type": "along", "ahead": 2500.0, "yaw": 16.0, "pitch": -11.0}
    project.set(project.camera_of(shot), aim=aim, aim_lag=0.8)
    project.hold(walk, 0.40, 4.0)
    project.open_door(walk, "Room door", 95.0)
    # the film leaves the walk while the trolley is still in sight
    project.set(project.id_of(shot, "shot"), name="Walkthrough", end=WALK_FILMED)
    set_film(project)
    # a door hangs as near to its frame as it is built
    leaf = [*project.find_parts("Door leaf"), *project.find_parts("Door handle"), *project.find_parts("Door pane")]
    rest = [*project.find_parts("Door post*"), *project.find_parts("Door lintel*"), *project.find_parts("Wall, side")]
    project.allow_contact(leaf, [*rest, "Corridor floor", "Floor slab"])


def set_film(project: kestrav.Project) -> None:
    """The four shots as a film: how each looks, and what is written on it."""
    orbit, chase, leaves, walk = (project.id_of(name, "shot") for name in project.shots)
    for shot in (orbit, chase, leaves, walk):
        project.set(shot, fps=24.0, fade=0.0 if shot == orbit else FADE, samples=12)
    for shot in (orbit, chase, walk):
        project.set(shot, background="#e9ecea", background_top="#c9d6d8")
    labels = ("Fan cassette", "Riser pipe")
    title = {"title": "Fan cassette exchange", "subtitle": "heat-pump cabinet in a plant room"}
    project.set(orbit, shows={**title, "labels": labels})
    project.set(chase, shows={"speed": True, "turns": True, "clock": True})
    told = {"clearance": True, "trace": True, "images": 1.2, "speed": True, "clock": True, "labels": labels[1:]}
    project.set(leaves, look="ghost", background=PAPER, shows=told)
    project.set(walk, shows={"end": "Fan cassette exchange\nout past the riser, on the hoist, away on the trolley"})


PAPER = "#f4f1ea"
WALK_FILMED = 10.3  # s
FADE = 0.5  # s by which the shots of the film follow each other
WALK = ((-5400.0, -2100.0, 0.0), (-3000.0, -2150.0, 0.0), (-1300.0, -2500.0, 0.0), (1900.0, -2500.0, 0.0))

# the trolley's middle stands at MIDDLE beside the cabinet; its castors are AXLE before and behind it, its deck ends NOSE
# ahead of it
MIDDLE, AXLE, NOSE = (400.0, -1330.0), 430.0, 525.0
AISLE_X, BEND = 3200.0, 700.0
AISLE_END, WAITS, OUT = -3850.0, -2500.0, -3300.0  # y of the path's start, and of the trolley's middle before and after


def add_trolley(project: kestrav.Project) -> None:
    """The trolley comes in on two points, slows for the bend and stops with its front at the mark; with the cassette set
    down on it, it reverses out."""
    mark = MIDDLE[0] - NOSE
    points = [
        {"position": (AISLE_X, AISLE_END, 0.0), "kind": "corner"},
        {"position": (AISLE_X, MIDDLE[1], 0.0), "kind": "corner", "radius": BEND},
        {"position": (mark - 100.0, MIDDLE[1], 0.0), "kind": "corner"},
    ]
    aisle = project.add("path", "Aisle", shape={"type": "points", "points": points})
    length = project.path_length(aisle)

    def within(top: float) -> dict[str, object]:
        return {"type": "limited", "top": top, "sideways": 700.0, "forward": 900.0, "braking": 900.0}

    comes = project.add(
        "run",
        "Trolley comes in",
        rider="Service trolley",
        path=aisle,
        begin=(WAITS + AXLE - AISLE_END) / length,
        end=0.9,
        duration=None,
        speed=1400.0,
        speed_profile=within(1400.0),
        orientation={"type": "carried", "wheelbase": 2 * AXLE, "share": 0.5},
        mark=1.0 - 100.0 / length,
    )
    project.stop_at_mark(comes)
    project.copy(
        comes,
        "Trolley reverses out",
        start=6.1,
        begin=(OUT + AXLE - AISLE_END) / length,
        backwards=True,
        speed=1300.0,
        speed_profile=within(1300.0),
        mark=None,
    )
    # wheels roll over what is painted on the floor, which is nothing to run against
    wheels, paint = project.find_parts("Wheel", "Service trolley"), project.find_parts("Aisle marking*")
    project.add("requirement", "Wheels on paint", things=wheels, others=paint, checked=False)


def add_jib(project: kestrav.Project) -> None:
    """The jib swings over the trolley and back, its tip on an arc, with all that hangs on it."""
    centre, tip = np.array([1400.0, -120.0, 2350.0]), 1700.0
    toward = np.radians(180 + 38)
    start = centre + tip * np.array([np.cos(toward), np.sin(toward), 0.0])
    arc = {"type": "arc", "centre": centre.tolist(), "start": start.tolist(), "sweep": JIB_SWING}
    over = project.add(
        "run",
        "Jib swings over",
        rider="Arm",
        path=project.add("path", "Jib arc", shape=arc),
        start=SWINGS[0],
        duration=SWINGS[1] - SWINGS[0],
        speed_profile=SOFT,
        orientation={"type": "along", "forward": "-y"},
        reference="point",
        reference_point=(-tip, 0.0, 70.0),
        companions=("Brace", "Trolley block", "Hook"),
    )
    project.copy(over, "Jib swings back", start=SWINGS[2], duration=1.6, backwards=True)


SOFT = {"type": "law", "name": "modified sine"}
JIB_SWING = 12.4  # degrees, from the cabinet to over the trolley
SWINGS = (3.9, 4.8, 7.0)  # s at which the jib sets out, arrives and sets out back
LOWERS, DOWN, LETS_GO, UP = 4.8, 5.75, 5.85, 6.9  # s of the hook
LIFT = 841.4  # mm that it lets the cassette down


def add_hoisting(project: kestrav.Project) -> None:
    """The hoist takes the cassette from its way out and sets it down on the trolley, with which it rides on."""
    project.set("Hook", pivot={"position": (0.0, 0.0, 1512.0)})
    high = project.pivot("Hook", LOWERS)
    x, y, z = high["position"]
    low = {**high, "position": (x, y, z - LIFT)}
    times = (0.0, DOWN - LOWERS, LETS_GO - LOWERS, UP - LOWERS)
    keys = [{"time": time, "placement": where} for time, where in zip(times, (high, low, low, high), strict=True)]
    project.add("pose track", "Hook goes down and up", rider="Hook", keys=keys, start=LOWERS)
    hangs = project.add(
        "attachment",
        "Hoist carries the cassette",
        rider="Fan cassette",
        carrier="Hook",
        trigger={"type": "run", "run": project.id_of("Cassette leaves", "run")},
        lowering=0.2,
    )
    project.allow_contact(project.find_parts("Skid, *"), project.find_parts("Rubber pad, *"))
    project.allow_contact("Hook plate", "Housing")
    project.set(project.put_down(hangs, LETS_GO), name="Cassette rides on the trolley")


def add_gate(project: kestrav.Project) -> None:
    """The trolley reverses into the gate's leaf, which swings open about its hinges from that moment on."""
    project.add(
        "rotation",
        "Gate swings open",
        part="Leaf",
        axle={"origin": (-30.0, 0.0, 0.0), "direction": (0.0, 0.0, 1.0)},
        end=GATE_TAKES,
        turns=-95.0 / 360.0,
        rpm=None,
        ramp_out=GATE_TAKES,
        trigger={"type": "contact", "a": "Service trolley", "b": "Leaf"},
    )
    project.allow_contact(["Deck", "Push bow", "Bow plate"], project.find_parts("Leaf *"))


GATE_TAKES = 0.85  # s; it is knocked open, fastest at first, and so is never in the trolley's way


def add_louvres(project: kestrav.Project) -> None:
    """A crank closes the louvres by a rod that stays upright, once the cassette is out."""
    axle = {"direction": (1.0, 0.0, 0.0)}
    slats = [part for part in project.find_parts("Slat ?") if part not in project.find_parts("Slat ?", solids=True)]
    project.add(
        "rotation",
        "Crank closes the louvres",
        part="Crank",
        axle=axle,
        start=4.0,
        end=6.5,
        turns=62.0 / 360.0,
        rpm=None,
        ramp_in=0.5,
        ramp_out=0.5,
    )
    project.add(
        "rod",
        "Link rod stays upright",
        part="Link rod",
        crank={"part": "Crank", "at": (-14.0, 26.0, 14.0)},
        near=(0.0, 0.0, 550.0),
        far=(0.0, 0.0, 30.0),
        coupled=[{"part": slat, "axle": axle} for slat in slats],
    )
    # what turns in holes and on pins is as near as it is built
    blades, pins = (
        [part for slat in slats for part in project.find_parts(f"Slat {name}", slat)] for name in ("blade", "pin")
    )
    sides = ["Louvre side, left", "Louvre side, right"]
    project.allow_contact(blades, sides)
    project.allow_contact(pins, ["Link rod", sides[1], "Crank"])
    project.allow_contact("Link rod", ["Crank", sides[1]])


def add_filter(project: kestrav.Project) -> None:
    """The filter is pulled off its seal and out along its guides, and pushed home again."""
    out = project.add(
        "run",
        "Filter comes out",
        rider="Filter",
        path=project.add_path(FILTER_PULL, "Filter guides"),
        start=0.8,
        duration=1.6,
        orientation=FIXED,
        speed_profile=SOFT,
    )
    project.copy(out, "Filter is pushed home", start=FILTER_HOME, backwards=True)


FILTER_PULL = ((0.0, -165.0, 1604.0), (0.0, -465.0, 1604.0))
FILTER_HOME = 8.0  # s at which it sets out back


def add_light(project: kestrav.Project) -> None:
    """A spot light on a rail above the aisle keeps with the trolley, and comes up as it sets out."""
    rail = project.copy("Aisle", "Light rail")
    project.raise_path(rail, 2900.0)
    warm = "#ffd9a0"
    keys = [
        {"time": 0.0, "strength": 0.0},
        {"time": 1.0, "strength": 1200.0},
        {"time": 11.0, "strength": 1200.0, "colour": warm},
        {"time": 12.0, "strength": 0.0, "colour": warm},
    ]
    light = project.add(
        "light",
        "Follower light",
        kind="spot",
        position=(3200.0, -3400.0, 2900.0),
        aim={"type": "part", "part": "Service trolley"},
        cone=50.0,
        keys=keys,
    )
    # behind its front both ways: what is behind is ahead where it goes backwards
    for name, lead, behind in (
        ("Light follows in", "Trolley comes in", 600.0),
        ("Light follows out", "Trolley reverses out", -600.0),
    ):
        follows = {"run": lead, "distance": behind}
        project.copy(lead, name, rider=light, path=rail, orientation=FIXED, follows=follows, mark=None)


def add_wheels(project: kestrav.Project) -> None:
    """The trolley rolls on four castors, each by the way that it goes itself; the impeller runs down as the fan is taken out."""
    castors = project.find_parts("Castor, *", "Service trolley")
    project.add_wheels(*project.find_parts("Wheel", "Service trolley"))
    for castor in castors:
        # a wheel is as near to its fork as it is built
        project.allow_contact(project.find_parts("Wheel", castor), project.find_parts("Fork", castor))
    for castor in castors:
        project.add_castor(castor)
    project.add(
        "rotation",
        "Impeller runs down",
        part="Impeller",
        axle={"direction": (0.0, 1.0, 0.0)},
        end=4.0,
        turns=5.0,
        rpm=None,
        ramp_out=4.0,
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
    ("door leaf", "Paint, matt"),
    ("vessel", "Brushed steel"),
)


def add_finishes(project: kestrav.Project) -> None:
    """Finishes by names, and a second colourway of the cabinet."""
    for words, finish in FINISHES:
        project.give_finish(words, finish)
    # the studio's light, large and soft, so that the floor shows no lamps
    project.set_light(setup="three-point", turn=-20.0, softness=1.6)
    project.add_colourway("Anthracite")
    for name in ("Side panel, left", "Side panel, right", "Back panel", "Roof", "Housing"):
        project.set_finish("Anodised, black", name)
    project.show_colourway("")


def closed_cabinet() -> kestrav.Project:
    """The cabinet alone, closed by a door panel in front of the bay, and how panel, cassette and motor come out one after another."""
    project = kestrav.new(HERE / "cabinet.step", name="Closed cabinet")
    project.set_settings(fps=30.0, required_clearance=6.0)
    door = project.add_box("Door panel", DOOR, DOOR_AT, parent="Heat-pump cabinet", colour="#c3cfc0", opacity=0.45)
    project.add_box("Wall behind", (2400.0, 100.0, 2400.0), (0.0, 520.0, 0.0), colour="#d9d2c3")
    # pulled by hand, each comes out by 3 mm at least
    project.disassemble(door, "Filter", "Fan cassette", "Motor", required=3.0, start=0.5)
    project.orbit("Heat-pump cabinet", seconds=8.0, offset=2600.0, height=1900.0, start=-75.0)
    return project


def main() -> None:
    """Write the projects."""
    for project, target in ((build(), TARGET), (closed_cabinet(), CLOSED)):
        project.save(target)
        print(f"{target.name}: {sum(one.parts for one in project.deliveries)} parts")


if __name__ == "__main__":
    main()
