"""Make the demo's STEP assemblies: a plant room in which a fan cassette is exchanged.

Run ``make demo-geometry``. Lengths in mm, Z up; the cabinet's front faces -Y and the floor is z = 0.
Everything is invented; no real product is shown.
"""

from __future__ import annotations

import math
from pathlib import Path

from shapes import Group, Solid, X, Y, Z, bend, box, cut, cylinder, fillet, fuse, prism, ring, tube, turn, write_step

HERE = Path(__file__).parent

STEEL, SLATE, DARK, BLACK = "#9aa7ab", "#566a71", "#36454b", "#22282c"
SAGE, GLASS, AMBER, BRASS = "#c3cfc0", "#cfdcd8", "#d9a441", "#b98d3c"
COPPER, BLUE, CREAM, CONCRETE = "#a4583a", "#5c829a", "#e4dcc6", "#e9dfc6"

BOLTS = (180.0, 980.0, 1780.0)  # heights of the bolts in the posts
WIDTH, DEPTH, HEIGHT = 900.0, 800.0, 1900.0
POST = 40.0
SHELF = 1060.0  # top of the shelf on which the cassette's runners lie
REACH = 1570.0  # of the hoist's hook from its column
BAY = (600.0, 500.0, 420.0)  # the cassette: width, depth, height
THREAD = 0.2  # by which screws cut into the walls of their holes, as threads that are not drawn do
FILTER = (500.0, 420.0, 44.0)  # width, depth, height
FILTER_AT = (0.0, -165.0, 1604.0)  # the middle of its bottom, pushed home
SQUEEZE = 1.5  # by which the filter presses into its seal

# directions of the guard's spokes
WIRES = [(math.cos(math.radians(60 * i + 30)), 0.0, -math.sin(math.radians(60 * i + 30))) for i in range(6)]

hex_bolt = Solid(
    "Hex bolt M8",
    fuse(
        cylinder(4, 14),
        prism([(6.5 * math.cos(a), 6.5 * math.sin(a), 14) for a in [i * math.pi / 3 for i in range(6)]], (0, 0, 5.3)),
    ),
    STEEL,
)
anchor = Solid(
    "Anchor bolt M12",
    fuse(
        cylinder(6, 30),
        prism([(10 * math.cos(a), 10 * math.sin(a), 14) for a in [i * math.pi / 3 for i in range(6)]], (0, 0, 8)),
    ),
    STEEL,
)


def room() -> Group:
    """Floor, low walls, drain and two columns."""
    floor = cut(box((9000, 7200, 80), (-3600, -3900, -80)), box((1600, 120, 12), (1500, 1900, -12)))
    grate = cut(
        box((1596, 116, 10), (1502, 1902, -11)), *[box((30, 90, 20), (1530 + 62 * i, 1915, -16)) for i in range(25)]
    )
    wall = Solid("Wall, back", fillet(box((9000, 120, 900), (-3600, 3300, 0)), 10), CREAM)
    side = Solid(
        "Wall, side",
        cut(fillet(box((120, 7200, 900), (-3720, -3900, 0)), 10), box((200, 1320, 1000), (-3760, DOOR_AT - 660, -20))),
        CREAM,
    )
    skirting = Solid("Skirting", box((8520, 14, 90), (-3360, 3286, 0)), SLATE)
    column = Solid("Column", fillet(box((240, 240, 2500), (-120, -120, 0)), 12), CREAM)
    pipe = Solid("Wall pipe", cylinder(45, 8520, (-3360, 3215, 560), X), STEEL)
    hanger = Solid(
        "Pipe hanger",
        cut(
            fuse(tube(56, 45, 40, (-20, 3215, 560), X), box((40, 42, 60), (-20, 3258, 530))),
            cylinder(45, 60, (-30, 3215, 560), X),
        ),
        DARK,
    )
    mark = Solid("Aisle marking", box((60, 3600, 1.2), (-30, -1800, 0)), "#e9c46a")
    group = Group("Plant room").add(Solid("Floor slab", floor, CONCRETE)).add(Solid("Drain grate", grate, DARK))
    group.add(wall).add(side).add(skirting).add(pipe)
    for i, x in enumerate((-3480.0, 5280.0)):
        group.add(column, (x, 3180, 0), f"Column {i + 1}")
    for i, x in enumerate((-2600.0, -600.0, 1400.0, 3400.0)):
        group.add(hanger, (x, 0, 0), f"Pipe hanger {i + 1}")
    for i, x in enumerate((2500.0, 3900.0)):
        group.add(mark, (x, -1200, 0), f"Aisle marking {i + 1}")
    return group.add(corridor()).add(door(), (-3660, DOOR_AT - 600, 0))


DOOR_AT = -2100.0  # y of the door's middle in the side wall


def corridor() -> Solid:
    """The floor before the door."""
    return Solid("Corridor floor", box((2400, 2600, 80), (-6000, DOOR_AT - 1300, -80)), CONCRETE)


def door() -> Group:
    """A door in its frame; the leaf's own origin is at its hinges."""
    post = Solid("Door post", fillet(box((140, 60, 2160), (-70, -30, 0)), 5), SLATE)
    lintel = Solid("Door lintel", fillet(box((140, 1320, 60), (-70, -60, 2160)), 5), SLATE)
    leaf = Solid(
        "Door leaf",
        cut(
            box((44, 1130, 2130), (-22, 0, 8)),
            box((60, 700, 700), (-30, 215, 1200)),
            cylinder(9, 60, (-30, 1060, 1040), X),
        ),
        SAGE,
    )
    pane = Solid("Door pane", box((8, 700, 700), (-4, 215, 1200)), GLASS, 0.35)
    knob = Solid(
        "Door handle", fuse(cylinder(9, 150, (-75, 1060, 1040), X), cylinder(16, 8, (-83, 1060, 1040), X)), DARK
    )
    swings = Group("Room door").add(leaf).add(pane).add(knob)
    group = (
        Group("Doorway")
        .add(post, (0, -30, 0), "Door post, hinge side")
        .add(post, (0, 1230, 0), "Door post, latch side")
    )
    return group.add(lintel).add(swings, (0, 35, 0))


def frame() -> Group:
    """Posts, rails, feet and the shelf with its runners."""
    w, d = WIDTH / 2, DEPTH / 2
    post = Solid(
        "Post",
        cut(
            fillet(box((POST, POST, HEIGHT - 60), (-20, -20, 60)), 4),
            *[cylinder(4.5, 60, (0, -30, 160 + 200 * i), Y) for i in range(9)],
            *[cylinder(4 - THREAD, 20, (0, 5, z), Y) for z in BOLTS],
            cylinder(9 - THREAD, 30, (0, 0, 50)),
        ),
        SLATE,
    )
    rail_x = Solid("Rail, wide", fillet(box((WIDTH - 2 * POST, 30, POST), (-(WIDTH / 2 - POST), -15, -20)), 3), SLATE)
    rail_y = Solid("Rail, deep", fillet(box((30, DEPTH - 2 * POST, POST), (-15, -(DEPTH / 2 - POST), -20)), 3), SLATE)
    foot = Solid("Levelling foot", fuse(cylinder(32, 12), cylinder(9, 60, (0, 0, 8))), BLACK)
    runner = Solid("Runner", fillet(box((40, 560, 16), (-20, -280, -16)), 1.5), STEEL)
    shelf = Solid(
        "Shelf",
        cut(
            box((WIDTH - 2 * POST, DEPTH - 60, 14), (-(w - POST), -d + 40, SHELF - 30)),
            *[cylinder(26, 40, (x, y, SHELF - 40)) for x in (-180, -60, 60, 180) for y in (-160, 0, 160)],
        ),
        STEEL,
    )
    group = Group("Frame")
    for i, (x, y) in enumerate([(-1, -1), (1, -1), (1, 1), (-1, 1)]):
        place = (x * (w - 20), y * (d - 20), 0.0)
        group.add(post, place, f"Post {i + 1}").add(foot, place, f"Levelling foot {i + 1}")
    for i, (y, z) in enumerate([(-1, 80), (1, 80), (-1, HEIGHT - 20), (1, HEIGHT - 20), (-1, 980)]):
        group.add(rail_x, (0, y * (d - 15), z), f"Rail, wide {i + 1}")
    for i, (x, z) in enumerate([(-1, 80), (1, 80), (-1, HEIGHT - 20), (1, HEIGHT - 20), (-1, 980), (1, 980)]):
        # the middle ones stand behind the side panels
        group.add(rail_y, (x * (w - (25 if z == 980 else 15)), 0, z), f"Rail, deep {i + 1}")
    group.add(shelf)
    group.add(runner, (-240, -60, SHELF), "Runner, left")
    group.add(runner, (240, -60, SHELF), "Runner, right")
    return group


def panels() -> Group:
    """Cladding, see-through at the sides, held by bolts."""
    w, d = WIDTH / 2, DEPTH / 2
    side = Solid("Side panel", fillet(box((4, DEPTH - 84, HEIGHT - 180), (-2, -(d - 42), 110)), 1), GLASS, 0.35)
    back = Solid("Back panel", fillet(box((WIDTH - 84, 4, HEIGHT - 180), (-(w - 42), -2, 110)), 1), GLASS, 0.35)
    top = Solid("Roof", fillet(box((WIDTH + 40, DEPTH + 40, 24), (-w - 20, -d - 20, HEIGHT)), 8), SAGE)
    base = Solid(
        "Base tray",
        cut(
            box((WIDTH - 2 * POST, DEPTH - 2 * POST, 20), (-(w - POST), -(d - POST), 100)),
            box((WIDTH - 2 * POST - 12, DEPTH - 2 * POST - 12, 20), (-(w - POST) + 6, -(d - POST) + 6, 106)),
        ),
        STEEL,
    )
    group = Group("Panels")
    group.add(side, (-w + 6, 0, 0), "Side panel, left").add(side, (w - 6, 0, 0), "Side panel, right")
    group.add(back, (0, d - 6, 0)).add(top).add(base)
    for i, (x, z) in enumerate([(x, z) for x in (-1, 1) for z in BOLTS]):
        group.add(hex_bolt, turn(X, -90, offset=(x * (w - 20), d - 14, z)), f"Panel bolt {i + 1}")
    return group


def riser() -> Group:
    """The riser pipe in front: up from the floor, an elbow towards the cabinet's left edge, and on up."""
    r, m, y = 38.0, 90.0, -505.0
    low_x, high_x = -420.0, -320.0
    z1 = 760.0
    bank = 45.0
    # two 45 degree elbows make the set from low_x to high_x
    s, c = math.sin(math.radians(bank)), math.cos(math.radians(bank))
    across = high_x - low_x - 2 * m * (1 - c)
    straight = across / s
    lower = Solid("Riser, lower", cylinder(r, z1, (low_x, y, 0)), COPPER)
    elbow1 = Solid("Elbow", bend(m, r, bank, (m, 0, 0), (0, 1, 0), (-1, 0, 0)), COPPER)
    mid = Solid("Riser, set", cylinder(r, straight, (low_x + m * (1 - c), y, z1 + m * s), (s, 0, c)), COPPER)
    z2 = z1 + 2 * m * s + straight * c
    upper = Solid("Riser, upper", cylinder(r, 2350 - z2, (high_x, y, z2)), COPPER)
    flange = Solid(
        "Flange",
        cut(
            tube(74, r + 0.2, 18),
            *[cylinder(6, 60, (58 * math.cos(a), 58 * math.sin(a), -10)) for a in [i * math.pi / 3 for i in range(6)]],
        ),
        DARK,
    )
    clamp = Solid("Pipe clamp", fuse(tube(r + 10, r, 30), box((24, 62, 30), (-12, r + 4, 0))), DARK)
    group = Group("Riser pipe").add(lower).add(elbow1, (low_x, y, z1), "Elbow, lower").add(mid)
    group.add(elbow1, turn(Y, 180, offset=(high_x, y, z2)), "Elbow, upper").add(upper)
    group.add(flange, (low_x, y, 240), "Flange, lower").add(flange, (low_x, y, 258.0), "Flange, upper")
    for i in range(6):
        a = i * math.pi / 3
        group.add(hex_bolt, (low_x + 58 * math.cos(a), y + 58 * math.sin(a), 262), f"Flange bolt {i + 1}")
    group.add(clamp, (low_x, y, 620), "Pipe clamp, lower").add(clamp, (high_x, y, 1780), "Pipe clamp, upper")
    return group


def compressor() -> Group:
    """The vessel in the lower bay."""
    vessel = fuse(cylinder(150, 380, (0, 0, 60)), fillet(cylinder(150, 80, (0, 0, 420)), 38))
    mount = Solid("Rubber mount", fuse(cylinder(24, 30), cylinder(8, 52)), BLACK)
    corners = [(-160, -160), (160, -160), (160, 160), (-160, 160)]
    plate = cut(fillet(box((380, 380, 12), (-190, -190, 32)), 4), *[cylinder(8, 40, (x, y, 20)) for x, y in corners])
    group = Group("Compressor").add(Solid("Vessel", vessel, DARK)).add(Solid("Base plate", plate, STEEL))
    group.add(
        Solid("Suction line", fuse(cylinder(16, 160, (90, 60, 500)), cylinder(16, 220, (90, 60, 644), X)), COPPER)
    )
    for i, (x, y) in enumerate(corners):
        group.add(mount, (x, y, 2), f"Rubber mount {i + 1}")
    return group


def filters() -> Group:
    """The filter on its tray between guides, pushed home against a seal that it squeezes."""
    w, d, h = FILTER
    _, y, z = FILTER_AT
    back = y + d / 2 - SQUEEZE
    tray = Solid("Filter tray", box((WIDTH - 2 * POST, 480, 4), (-(WIDTH / 2 - POST), -DEPTH / 2 + 20, z - 4)), STEEL)
    guide = Solid("Filter guide", fillet(box((8, 400, 20), (-4, -200, 0)), 1), DARK)
    stop = Solid("Filter stop", box((w + 20, 12, h), (-(w + 20) / 2, back + 8, z)), STEEL)
    seal = Solid("Filter seal", box((w, 8, h - 8), (-w / 2, back, z + 4)), BLACK)
    edge = Solid(
        "Filter frame",
        cut(box(FILTER, (-w / 2, -d / 2, 0)), box((w - 60, d - 60, 60), (30 - w / 2, 30 - d / 2, -8))),
        BLUE,
    )
    pad = Solid("Filter pad", box((w - 60, d - 60, h - 8), (30 - w / 2, 30 - d / 2, 4)), CREAM)
    pull = Solid(
        "Filter pull",
        fuse(
            cylinder(5, 100, (-50, -d / 2 - 24, h / 2), X),
            cylinder(5, 24, (-44, -d / 2 - 24, h / 2), Y),
            cylinder(5, 24, (44, -d / 2 - 24, h / 2), Y),
        ),
        BLACK,
    )
    group = Group("Filter bay").add(tray).add(stop).add(seal)
    for side, name in ((-1, "left"), (1, "right")):
        group.add(guide, (side * (w / 2 + 4.5), y, z), f"Filter guide, {name}")
    return group.add(Group("Filter").add(edge).add(pad).add(pull), FILTER_AT)


def louvres() -> Group:
    """Slats in the lower front with crank and link rod."""
    width = 560.0
    slat = Solid(
        "Slat",
        fuse(
            fillet(box((width, 70, 5), (-width / 2, -35, -2.5)), 2), cylinder(5, width + 24, (-width / 2 - 12, 0, 0), X)
        ),
        SAGE,
    )
    side = Solid(
        "Louvre side",
        cut(box((10, 60, 560), (-5, -30, 0)), *[cylinder(6, 30, (-15, 0, 40 + 80 * i), X) for i in range(7)]),
        DARK,
    )
    pin = Solid("Slat pin", cylinder(4, 22, (0, 0, 0), X), BRASS)
    rod = Solid(
        "Link rod",
        cut(
            fillet(box((8, 14, 580), (-4, -7, 0)), 2),
            *[cylinder(4.2, 30, (-15, 0, z), X) for z in (*(30 + 80 * i for i in range(7)), 550)],
        ),
        BRASS,
    )
    # slats and crank have their pins at the same place beside their axes, so that the rod stays upright as they turn
    crank = Solid(
        "Crank",
        fuse(cylinder(34, 10, (0, 0, 0), X), cylinder(4, 22, (-18, 26, 14), X), cylinder(9, 30, (0, 0, 0), X)),
        AMBER,
    )
    bank = math.radians(28)
    pin_at = (
        width / 2 + 14,
        26 * math.cos(bank) + 14 * math.sin(bank),
        14 * math.cos(bank) - 26 * math.sin(bank),
    )
    group = (
        Group("Louvre bank")
        .add(side, (-width / 2 - 8, 0, 0), "Louvre side, left")
        .add(side, (width / 2 + 8, 0, 0), "Louvre side, right")
    )
    for i in range(7):
        blade = Group(f"Slat {i + 1}").add(slat, (0, 0, 0), "Slat blade").add(pin, pin_at, "Slat pin")
        group.add(blade, turn(X, 28, offset=(0, 0, 40 + 80 * i)))
    group.add(rod, (width / 2 + 28, 26, 24)).add(crank, (width / 2 + 38, 0, 560))
    return group


def cassette() -> Group:
    """The fan cassette, its own origin in the middle of the housing; the fan looks to -Y."""
    w, d, h = BAY
    shell = cut(
        fillet(box(BAY), 10),
        box((w - 12, d - 12, h - 12)),
        cylinder(172, 60, (0, -d / 2 - 20, 0), Y),
        # at the back, through which the motor comes out with its bracket
        box((444, 30, 172), (-222, d / 2 - 20, -94)),
        *[cylinder(4 - THREAD, 20, (x, -d / 2 - 5, z), Y) for x in (-200, 200) for z in (-185, 185)],
    )
    motor = fuse(cylinder(62, 150, (0, 0, 0), Y), cylinder(40, 170, (0, -10, 0), Y), cylinder(14, 210, (0, -50, 0), Y))
    blade = cut(
        prism([(0, 0, 44), (0, 0, 150), (46, 0, 146), (60, 0, 100), (34, 0, 44)], (0, 5, 0)),
        cylinder(50, 20, (0, -5, 0), Y),
    )
    hub = Solid("Hub", fuse(cylinder(50, 54, (0, 0, 0), Y), fillet(cylinder(30, 16, (0, -14, 0), Y), 5)), DARK)
    impeller = Group("Impeller").add(hub)
    pitched = Solid("Blade", blade, DARK)
    for i in range(7):
        impeller.add(pitched, turn(Y, 360 / 7 * i, offset=(0, 20, 0)), f"Blade {i + 1}")
    guard = Group("Guard")
    for i, radius in enumerate((60, 115, 168)):
        guard.add(Solid(f"Guard ring {radius}", ring(radius, 3, axis=Y), STEEL), name=f"Guard ring {i + 1}")
    # its wires are welded where they cross
    boss = cut(
        cylinder(20, 7, (0, 1.8, 0), Y), *[cylinder(2.5, 60, (18 * x, 5.3, 18 * z), (x, y, z)) for x, y, z in WIRES]
    )
    spoke = Solid("Guard spoke", cylinder(2.5, 160, (18, 5.3, 0), X), STEEL)
    guard.add(Solid("Guard boss", boss, STEEL))
    for i in range(6):
        guard.add(spoke, turn(Y, 60 * i + 30), f"Guard spoke {i + 1}")
    handle = Solid(
        "Handle",
        fuse(cylinder(7, 110, (-55, -34, 0), X), cylinder(7, 34, (-48, -34, 0), Y), cylinder(7, 34, (48, -34, 0), Y)),
        BLACK,
    )
    skid = Solid("Skid", fillet(box((30, d - 20, 8), (-15, -d / 2 + 10, 0)), 2), DARK)
    group = Group("Fan cassette").add(Solid("Housing", shell, AMBER))
    group.add(
        Group("Motor")
        .add(Solid("Motor body", motor, SLATE))
        .add(Solid("Motor bracket", fillet(box((420, 40, 16), (-210, 90, -78)), 3), DARK)),
        (0, -40, 0),
    )
    group.add(impeller, (0, -170, 0)).add(guard, (0, -d / 2 + 6, 0))
    group.add(handle, turn(Y, 90, offset=(-250, -d / 2, 0)), "Handle, left").add(
        handle, turn(Y, 90, offset=(250, -d / 2, 0)), "Handle, right"
    )
    group.add(skid, (-240, 0, -h / 2 - 8), "Skid, left").add(skid, (240, 0, -h / 2 - 8), "Skid, right")
    for i, (x, z) in enumerate([(-1, -1), (1, -1), (1, 1), (-1, 1)]):
        group.add(hex_bolt, turn(X, 90, offset=(x * 200, -d / 2 + 14, z * 185)), f"Cover bolt {i + 1}")
    return group


def cabinet() -> Group:
    """The whole cabinet, the cassette in its bay."""
    group = Group("Heat-pump cabinet").add(frame()).add(panels()).add(riser())
    group.add(filters())
    group.add(compressor(), (-40, 60, 104)).add(louvres(), (0, -DEPTH / 2 + 36, 300))
    group.add(cassette(), (0, -90, SHELF + 8 + BAY[2] / 2))
    return group


def trolley() -> Group:
    """A flat service trolley on four castors; travels along its +X."""
    deck = Solid("Deck", fillet(box((1050, 680, 40), (-525, -340, 190)), 8), BLUE)
    bow = Solid(
        "Push bow",
        fuse(
            cylinder(16, 760, (-500, -300, 230)),
            cylinder(16, 760, (-500, 300, 230)),
            cylinder(16, 632, (-500, -316, 974), Y),
        ),
        STEEL,
    )
    plate = Solid("Bow plate", fillet(box((12, 568, 420), (-506, -284, 300)), 4), BLUE)
    pad = Solid("Rubber pad", fillet(box((60, 600, 12), (-30, -300, 230)), 3), BLACK)
    wheel = Solid(
        "Wheel",
        cut(
            fillet(cylinder(62.5, 36, (0, -18, 0), Y), 6),
            cylinder(8, 60, (0, -30, 0), Y),
            *[
                cylinder(9, 60, (34 * math.cos(a), -30, 34 * math.sin(a)), Y)
                for a in [i * math.pi / 3 for i in range(6)]
            ],
        ),
        BLACK,
    )
    fork = Solid(
        "Fork",
        cut(
            fuse(
                box((56, 6, 110), (-28, 22, -12)),
                box((56, 6, 110), (-28, -28, -12)),
                box((56, 56, 8), (-28, -28, 98)),
                cylinder(18, 22, (0, 0, 105.5)),
            ),
            cylinder(8, 80, (0, -40, 0), Y),
        ),
        SLATE,
    )
    axle = Solid("Axle", cylinder(8, 66, (0, -33, 0), Y), STEEL)
    castor = Group("Castor").add(wheel).add(fork).add(axle)
    group = Group("Service trolley").add(deck).add(bow).add(plate)
    group.add(pad, (-240, 0, 0), "Rubber pad, rear").add(pad, (240, 0, 0), "Rubber pad, front")
    for name, x, y in [("rear left", -1, 1), ("rear right", -1, -1), ("front left", 1, 1), ("front right", 1, -1)]:
        group.add(castor, (x * 430, y * 270, 62.5), f"Castor, {name}")
    return group


def hoist() -> Group:
    """A small jib hoist: column, arm, trolley block, hook. The arm points to -X from the column."""
    corners = [(-165, -165), (165, -165), (165, 165), (-165, 165)]
    plate = cut(fillet(box((420, 420, 20), (-210, -210, 0)), 5), *[cylinder(6.5, 40, (x, y, -10)) for x, y in corners])
    group = Group("Jib hoist").add(Solid("Base plate", plate, DARK))
    for i, (x, y) in enumerate(corners):
        group.add(anchor, (x, y, 6), f"Anchor bolt {i + 1}")
    group.add(Solid("Column", tube(80, 70, 2480, (0, 0, 20)), BLUE))
    arm = cut(
        fuse(box((1750, 80, 140), (-1700, -40, 0)), tube(104, 87, 220, (0, 0, -40))),
        cylinder(26, 200, (-REACH, 0, -20)),
        cylinder(87, 300, (0, 0, -60)),
    )
    group.add(Solid("Arm", arm, BLUE), (0, 0, 2280))
    group.add(Solid("Brace", prism([(-104, -15, 2280), (-700, -15, 2280), (-104, -15, 1850)], (0, 30, 0)), BLUE))
    # a spindle through the block, long enough to let the hook down to the trolley
    block = cut(fillet(box((170, 130, 70), (-85, -65, 2200)), 6), cylinder(26, 100, (0, 0, 2190)))
    group.add(Solid("Trolley block", block, AMBER), (-REACH, 0, 0))
    lifting = Group("Hook").add(Solid("Spindle", cylinder(9, 1500, (0, 0, 1570)), STEEL))
    lifting.add(
        Solid(
            "Hook plate",
            cut(fuse(cylinder(26, 62, (0, 0, 1518)), cylinder(60, 12, (0, 0, 1512))), cylinder(9, 20, (0, 0, 1570))),
            DARK,
        )
    )
    group.add(lifting, (-REACH, 0, 0))
    return group


def gate() -> Group:
    """A swing gate: two posts, a leaf of tubes that swings about its hinges."""
    post = Solid("Gate post", fuse(cylinder(45, 1150), cylinder(90, 12)), DARK)
    tube_x = Solid("Leaf tube", cylinder(18, 1180, (0, 0, 0), X), AMBER)
    ends = [cylinder(18, 60, (-30, 0, z), X) for z in (0, 800)]
    bar = Solid("Leaf bar", cut(cylinder(11, 800), *ends), AMBER)
    hinge = Solid("Hinge", tube(24, 12, 60), STEEL)
    leaf = Group("Leaf").add(tube_x, (0, 0, 140), "Leaf tube, lower").add(tube_x, (0, 0, 940), "Leaf tube, upper")
    for i in range(8):
        leaf.add(bar, (25 + 161 * i, 0, 140), f"Leaf bar {i + 1}")
    group = (
        Group("Swing gate")
        .add(post, (0, 0, 0), "Gate post, hinge side")
        .add(post, (1400, 0, 0), "Gate post, latch side")
    )
    group.add(hinge, (80, 0, 200), "Hinge, lower").add(hinge, (80, 0, 980), "Hinge, upper").add(leaf, (110, 0, 0))
    return group


def main() -> None:
    """Write every assembly beside this script."""
    everything = {
        "plant-room": Group("Plant room set").add(room()),
        "cabinet": Group("Cabinet set").add(cabinet()),
        "trolley": Group("Trolley set").add(trolley(), turn(Z, 180, offset=(400, -1330, 0))),
        "jib-hoist": Group("Hoist set").add(hoist(), turn(Z, 38, offset=(1400, -120, 0))),
        "swing-gate": Group("Gate set").add(gate(), turn(Z, 0, offset=(2500, -3200, 0))),
    }
    for name, group in everything.items():
        write_step(group, HERE / f"{name}.step")
        print(f"{name}.step: {group.count()} parts")
    print(f"{sum(g.count() for g in everything.values())} parts in all")


if __name__ == "__main__":
    main()
