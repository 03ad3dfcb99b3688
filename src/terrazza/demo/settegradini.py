"""The invented estate: geometry of the lemon terraces of Settegradini.

Scene frame: x along the hill, y up the hill (south is the lake), z up, metres.
Levels from below: lane −2.4, lower terrace 0.2, house terrace 2.0, upper
terrace 4.8.
"""

import numpy as np

from terrazza.instruments.scene import (
    BARK,
    BOARD,
    CLAY,
    CLOTH,
    COBBLE,
    COBBLED,
    DRYSTONE,
    EARTH,
    GLASS,
    GRASS,
    HEWN,
    IRON,
    KERB,
    PAINT,
    PLASTER,
    STONE,
    TILE,
    TIMBER,
    UNDULATING,
    WATER,
    WHITE,
    Scene,
    World,
)

GROUND, LOW, MEDIUM, HIGH, BUILDING, OTHER, WATER_CODE = 2, 3, 4, 5, 6, 1, 9
LANE, LOWER, HOUSE, UPPER = -2.4, 0.2, 2.0, 4.8

# (name, x, y, floor level) of the eight set-ups; the instrument stands 1.62 m above the floor
STATIONS = [
    ("Lemon house west", -7.5, 10.8, HOUSE),
    ("Lemon house east", 6.5, 10.6, HOUSE),
    ("Store room", 17.6, 11.0, HOUSE),
    ("Press room", 21.9, 11.1, HOUSE),
    ("House terrace", -2.6, 1.9, HOUSE),
    ("Lower terrace", 1.6, -8.3, LOWER),
    ("Lane", 6.4, -12.6, LANE),
    ("Culvert", 7.3, -8.4, LANE),
]
HEIGHT = 1.62
BOARD_SIZE = 0.45

# checkerboards: name, centre, direction it faces (plan azimuth in degrees), all upright
BOARDS = [
    ("B1", (-10.2, 13.97, 3.6), -90),
    ("B2", (-0.6, 13.97, 3.3), -90),
    ("B3", (9.55, 13.47, 3.4), -90),
    ("B4", (19.57, 12.9, 3.5), 180),
    ("B5", (25.97, 12.4, 3.3), 180),
    ("B6", (-4.5, 8.18, 4.3), -90),
    ("B7", (4.6, -5.2, 1.5), -134),
    ("B8", (0.6, 3.4, 3.45), 205),
    ("B9", (4.9, -10.04, -0.9), -90),
    ("B10", (9.4, -10.04, -0.8), -90),
    ("B11", (2.6, -14.3, -0.95), 55),
]
ON_RODS = {"B7": LOWER, "B8": HOUSE, "B11": LANE}
SPHERES = [(-3.2, 12.2, 2.45), (10.6, 11.8, 2.45), (1.4, -6.0, 0.65), (10.2, -13.6, -1.95)]
RADIUS = 0.10
# control: board name, role, height of the board's centre above the surveyed mark
CONTROL = [
    ("B1", "control", 0.0),
    ("B5", "control", 0.0),
    ("B8", "control", 0.0),
    ("B7", "check", 0.0),
    ("B10", "control", 0.0),
    ("B11", "control", 1.45),
]
GRID_ORIGIN, GRID_TURN = np.array([4210.0, 8835.0, 312.4]), np.radians(27.3)


def only(*scans):
    """Epoch mask: visible in these scans alone (numbered from 0)."""
    mask = np.uint64(0)
    for s in scans:
        mask |= np.uint64(1) << np.uint64(s)
    return mask


def wall(scene, start, end, z0, z1, thick, material=STONE, code=BUILDING, style=HEWN):
    """An upright wall with its right-hand face on the line from ``start`` to ``end``."""
    (x0, y0), (x1, y1) = start, end
    d = np.array([x1 - x0, y1 - y0])
    n = np.array([-d[1], d[0]]) / np.linalg.norm(d) * thick
    o, along, up, deep = (
        np.array([x0, y0, z0]),
        np.array([*d, 0]),
        np.array([0, 0, z1 - z0]),
        np.array([*n, 0]),
    )
    scene.quad(o, along, up, material, code, style)
    scene.quad(o + deep, along, up, material, code, style)
    scene.quad(o, deep, up, material, code)
    scene.quad(o + along, deep, up, material, code)
    scene.quad(o + up, along, deep, material, code)


def walk_way() -> np.ndarray:
    """Corners (n, 3) of the way that the walked scanner is carried along: through the lemon house and into
    the store room.
    """
    return np.array(
        [
            (x, y, HOUSE + 1.45)
            for x, y in ((-11.5, 10.5), (-3.0, 10.3), (5.0, 11.0), (12.8, 11.1), (16.5, 11.1))
        ]
    )


def build() -> World:
    """The whole estate as a finished scene."""
    s = Scene()
    _land(s)
    _house(s)
    _rooms(s)
    _lane(s)
    _culvert(s)
    _garden(s)
    _targets(s)
    _moving(s)
    return s.finish()


def _floor(s, x0, x1, y0, y1, z, material, code=GROUND, style=UNDULATING):
    s.quad((x0, y0, z), (x1 - x0, 0, 0), (0, y1 - y0, 0), material, code, style)


def _land(s):
    _floor(s, -24, 34, 0.0, 8.0, HOUSE, EARTH)
    _floor(s, -24, -14.4, 8.0, 16.0, HOUSE, EARTH)
    _floor(s, 26.4, 34, 8.0, 16.0, HOUSE, EARTH)
    _floor(s, -24, 34, -10.0, 0.0, LOWER, GRASS)
    _floor(s, -24, 34, 16.0, 27.0, UPPER, GRASS)
    # drystone walls of the terraces
    s.quad((-24, 0, LOWER), (22.4, 0, 0), (0, 0, HOUSE - LOWER), STONE, OTHER, DRYSTONE)
    s.quad((1.6, 0, LOWER), (32.4, 0, 0), (0, 0, HOUSE - LOWER), STONE, OTHER, DRYSTONE)
    s.quad((-24, 16, HOUSE), (58, 0, 0), (0, 0, UPPER - HOUSE), STONE, OTHER, DRYSTONE)
    wall(s, (-24, 27.0), (34, 27.0), UPPER, UPPER + 1.8, 0.5, style=DRYSTONE, code=OTHER)
    # seven steps from the lower to the house terrace
    rise, tread = (HOUSE - LOWER) / 7, 2.4 / 7
    for k in range(7):
        y = -2.4 + k * tread
        s.quad((-1.6, y, LOWER + k * rise), (3.2, 0, 0), (0, 0, rise), STONE, GROUND)
        s.quad((-1.6, y, LOWER + (k + 1) * rise), (3.2, 0, 0), (0, tread, 0), STONE, GROUND)
    for x in (-1.9, 1.6):
        s.box((x, -2.4, LOWER), (x + 0.3, 0.0, HOUSE + 0.3), STONE, OTHER)
    # slope below the lane, falling to the lake
    s.quad((-24, -34, -9.4), (58, 0, 0), (0, 17.6, 6.2), GRASS, GROUND, UNDULATING)


def _house(s):
    # floor and back wall with a buttress off the middle, so that the long room has one reading only
    _floor(s, -14.4, 26.4, 8.0, 14.4, HOUSE, STONE, GROUND, HEWN)
    wall(s, (-14.4, 14.0), (26.4, 14.0), HOUSE, 6.6, 0.4, PLASTER)
    wall(s, (-14.4, 14.4), (-14.4, 8.0), HOUSE, 6.6, 0.4, STONE)
    s.box((-4.0, 13.4, HOUSE), (-3.2, 14.0, 5.4), STONE, BUILDING)
    s.box((9.3, 13.5, HOUSE), (9.8, 14.0, 6.2), STONE, BUILDING)
    # row of pillars along the open front with a beam over them
    for k in range(10):
        x = -13.2 + k * 2.9
        s.box((x - 0.3, 8.2, HOUSE), (x + 0.3, 8.8, 5.6), STONE, BUILDING, HEWN)
        s.box((x - 0.4, 8.1, HOUSE), (x + 0.4, 8.9, HOUSE + 0.35), STONE, BUILDING)
    s.box((-14.2, 8.3, 5.6), (14.0, 8.7, 5.95), TIMBER, BUILDING)
    # gable roof on timber trusses, ridge along x
    ridge, eaves, over = 8.4, 5.95, 7.6
    for y0, z0, dy in ((over, eaves - 0.15, 11.1 - over), (14.8, eaves - 0.15, 11.1 - 14.8)):
        s.quad((-15.0, y0, z0), (42.0, 0, 0), (0, dy, ridge - z0), TILE, BUILDING)
    for k in range(8):
        x = -12.6 + k * 3.6
        s.box((x - 0.09, 8.4, 5.95), (x + 0.09, 14.0, 6.2), TIMBER, BUILDING)
        s.box((x - 0.08, 11.0, 6.2), (x + 0.08, 11.2, 8.3), TIMBER, BUILDING)
        for y in (9.6, 12.6):
            s.cylinder(
                (x, 11.1, 6.5), (0, y - 11.1, 0.9 if abs(y - 11.1) < 2 else 0.5), 0.07, TIMBER, BUILDING
            )
    # drainpipes and a bench
    for x in (-14.0, 13.7):
        s.cylinder((x, 8.05, HOUSE), (0, 0, 3.9), 0.055, IRON, OTHER)
    s.cylinder((26.55, 8.3, HOUSE), (0, 0, 3.9), 0.055, IRON, OTHER)
    s.box((-9.4, 13.35, HOUSE + 0.42), (-6.9, 13.85, HOUSE + 0.5), TIMBER, OTHER)
    for x in (-9.2, -7.2):
        s.box((x, 13.4, HOUSE), (x + 0.1, 13.8, HOUSE + 0.42), TIMBER, OTHER)


def _rooms(s):
    top = 5.0
    # wall to the lemon house with a wide opening, wall between store and press room with a door
    for x, y0, y1, lintel in ((14.0, 9.9, 12.3, 4.6), (19.6, 10.1, 12.0, 4.3)):
        wall(s, (x, 14.0), (x, y1), HOUSE, 6.4, 0.35, PLASTER)
        wall(s, (x, y0), (x, 8.0), HOUSE, 6.4, 0.35, PLASTER)
        wall(s, (x, y1), (x, y0), lintel, 6.4, 0.35, PLASTER)
    # south wall of both rooms; the press room has a door to the terrace, the store room a window
    for x0, x1, z0, z1 in (
        (14.35, 16.2, HOUSE, 6.0),
        (17.6, 22.6, HOUSE, 6.0),
        (24.0, 26.4, HOUSE, 6.0),
        (16.2, 17.6, HOUSE, 3.1),
        (16.2, 17.6, 4.3, 6.0),
        (22.6, 24.0, 4.4, 6.0),
    ):
        wall(s, (x0, 8.0), (x1, 8.0), z0, z1, 0.35, STONE)
    wall(s, (26.0, 8.0), (26.0, 14.0), HOUSE, 6.6, -0.4, STONE)
    s.quad((14.35, 8.35, top), (11.65, 0, 0), (0, 5.65, 0), TIMBER, BUILDING)
    for k in range(6):
        s.box((15.0 + 2 * k, 8.35, top - 0.22), (15.16 + 2 * k, 14.0, top), TIMBER, BUILDING, faces="xXz")
    # store room: shelves, barrels, crates; press room: the press, a trough, jars
    for z in (2.5, 3.1, 3.7):
        s.box((14.6, 13.45, z), (18.4, 13.98, z + 0.04), TIMBER, OTHER)
    for x in (14.6, 18.36):
        s.box((x, 13.45, HOUSE), (x + 0.04, 13.98, 4.1), TIMBER, OTHER)
    for x, y, r in ((15.1, 9.0, 0.38), (16.0, 8.85, 0.36), (18.9, 8.9, 0.4)):
        s.cylinder((x, y, HOUSE), (0, 0, 1.05), r, TIMBER, OTHER)
    s.box((18.3, 12.5, HOUSE), (19.2, 13.2, 2.7), TIMBER, OTHER, yaw=0.3)
    s.cylinder((24.3, 12.6, HOUSE), (0, 0, 0.7), 0.85, STONE, OTHER)
    s.cylinder((24.3, 12.6, 2.7), (0, 0, 1.5), 0.11, TIMBER, OTHER)
    s.box((23.2, 12.5, 4.15), (25.4, 12.7, 4.35), TIMBER, OTHER)
    s.box((20.2, 13.2, HOUSE), (22.2, 13.95, 2.75), STONE, OTHER)
    for x, y, r in ((25.3, 8.9, 0.33), (20.6, 8.9, 0.28), (21.5, 8.8, 0.24)):
        s.cylinder((x, y, HOUSE), (0, 0, 0.9), r, CLAY, OTHER)


def _lane(s):
    _floor(s, -24, 34, -15.0, -10.0, LANE, COBBLE, GROUND, COBBLED)
    for k in range(14):  # kerb stones, and the verge behind them
        x = -24 + k * 4.15
        s.box((x, -15.15, LANE), (x + 4.13, -15.0, LANE + 0.13), KERB, OTHER, faces="yYZxX")
    _floor(s, -24, 34, -16.4, -15.15, LANE + 0.11, EARTH)
    for x0, x1 in ((-2.0, -1.88), (3.0, 3.12), (8.0, 8.12), (13.0, 13.12)):  # bay stripes lie on the cobbles
        s.quad((x0, -14.8, LANE + 0.009), (x1 - x0, 0, 0), (0, 2.2, 0), PAINT, GROUND)
    # lake-side parapet with taller piers
    wall(s, (-24, -16.4), (34, -16.4), LANE - 0.8, LANE + 0.95, -0.4, STONE, OTHER, DRYSTONE)
    for x in (-15.0, -8.3, -1.1, 4.4, 9.9, 16.5, 23.0):
        s.box((x, -16.9, LANE - 0.8), (x + 0.6, -16.3, LANE + 1.9), STONE, OTHER)
    for x, y, z in (
        (-5.6, -15.5, LANE),
        (7.9, -15.5, LANE),
        (21.0, -15.5, LANE),
        (-8.5, 1.0, HOUSE),
        (12.0, -9.3, LOWER),
    ):
        s.cylinder((x, y, z), (0, 0, 3.4), 0.055, IRON, OTHER)
        s.cylinder((x, y, z), (0, 0, 0.5), 0.11, IRON, OTHER)
        s.ball((x, y, z + 3.55), 0.17, WHITE, OTHER)
    # the wash house at the lane's east end
    s.box((17.0, -13.4, LANE), (21.0, -10.0, 0.9), STONE, BUILDING, HEWN)
    s.box((16.7, -13.7, 0.9), (21.3, -9.7, 1.1), TILE, BUILDING)
    # gate piers at the west end, and a stair block that closes the lane
    s.box((-12.2, -12.1, LANE), (-11.5, -11.4, 0.4), STONE, OTHER)
    s.box((-12.2, -14.9, LANE), (-11.5, -14.2, 0.4), STONE, OTHER)


def _culvert(s):
    x0, x1, crown = 6.2, 8.4, 1.1
    spring, mid = LANE + 1.0, 7.3
    # retaining wall of the lower terrace, left out where the culvert opens
    for a, b in ((-24.0, x0), (x1, 34.0)):
        s.quad((a, -10.0, LANE), (b - a, 0, 0), (0, 0, LOWER - LANE), STONE, OTHER, DRYSTONE)
    s.quad(
        (x0, -10.0, spring), (x1 - x0, 0, 0), (0, 0, LOWER - spring), STONE, OTHER, hole=(crown, 0.0, crown)
    )
    for x in (x0, x1):
        s.quad((x, -10.0, LANE), (0, 9.4, 0), (0, 0, 1.0), STONE, OTHER, HEWN)
    s.cylinder((mid, -10.0, spring), (0, 9.4, 0), crown, STONE, OTHER, facing=(0, 0, 1), caps=False)
    s.quad((x0, -0.6, LANE), (x1 - x0, 0, 0), (0, 0, 2.2), STONE, OTHER, HEWN)
    s.quad((x0, -10.0, LANE + 0.02), (x1 - x0, 0, 0), (0, 9.4, 0), STONE, GROUND, COBBLED)
    s.box((x0, -5.2, LANE), (x0 + 0.35, -4.2, LANE + 0.9), STONE, OTHER)  # a silt ledge
    s.box((x1 - 0.25, -8.0, LANE), (x1, -6.9, LANE + 0.55), STONE, OTHER)
    s.cylinder((x1 - 0.2, -2.4, LANE), (0, 0, 1.7), 0.09, IRON, OTHER)
    s.box((3.5, -10.35, LANE), (4.4, -10.0, LANE + 0.5), STONE, OTHER)  # a seat beside the mouth
    s.box((10.0, -10.5, LANE), (10.5, -10.0, LANE + 2.3), STONE, OTHER)  # a buttress


def _garden(s):
    # water basin that mirrors
    for low, high in (
        ((-8.6, 3.2, HOUSE), (-8.3, 5.8, 2.55)),
        ((-5.0, 3.2, HOUSE), (-4.7, 5.8, 2.55)),
        ((-8.6, 3.2, HOUSE), (-4.7, 3.5, 2.55)),
        ((-8.6, 5.5, HOUSE), (-4.7, 5.8, 2.55)),
    ):
        s.box(low, high, STONE, OTHER, faces="xXyYZ")
    s.quad((-8.3, 3.5, 2.42), (3.3, 0, 0), (0, 2.0, 0), WATER, WATER_CODE)
    # glass cold frame
    s.box((4.0, 3.6, HOUSE), (6.4, 4.7, 2.35), TIMBER, OTHER, faces="xXyY")
    s.quad((4.0, 3.6, 2.36), (2.4, 0, 0), (0, 1.1, 0.25), GLASS, OTHER)
    for k in range(5):
        s.cylinder((4.0 + 0.6 * k, 3.6, 2.37), (0, 1.1, 0.25), 0.02, TIMBER, OTHER)
    # lemon trees in pots, some inside, some in front
    pots = [
        (-11.6, 6.3, HOUSE),
        (-1.0, 6.4, HOUSE),
        (2.0, 6.2, HOUSE),
        (8.2, 6.4, HOUSE),
        (11.3, 6.0, HOUSE),
        (-11.8, 10.2, HOUSE),
        (1.6, 12.9, HOUSE),
        (11.8, 12.6, HOUSE),
        (-7.0, -5.6, LOWER),
        (-11.0, -4.2, LOWER),
        (6.5, -3.2, LOWER),
        (11.0, -5.4, LOWER),
    ]
    for k, (x, y, z) in enumerate(pots):
        s.cylinder((x, y, z), (0, 0, 0.55), 0.32, CLAY, OTHER)
        s.cylinder((x, y, z + 0.55), (0, 0, 0.75), 0.035, BARK, MEDIUM)
        s.foliage((x, y, z + 1.62), (0.55 + 0.03 * (k % 3), 0.55, 0.48), 0.14, MEDIUM)
    for x, y, h in (
        (-18.0, 20.0, 7.0),
        (-11.0, 21.5, 8.0),
        (-3.0, 20.5, 7.5),
        (6.0, 21.0, 8.5),
        (15.0, 20.3, 7.2),
        (23.0, 21.4, 8.0),
    ):
        s.cylinder((x, y, UPPER), (0, 0, 1.0), 0.14, BARK, HIGH)
        s.foliage((x, y, UPPER + 0.8 + h / 2), (0.75, 0.75, h / 2), 0.16, HIGH)
    for x, y, z, h in ((-14.5, -7.6, LOWER, 6.0), (17.0, -6.0, LOWER, 6.4)):
        s.cylinder((x, y, z), (0, 0, 0.9), 0.13, BARK, HIGH)
        s.foliage((x, y, z + 0.7 + h / 2), (0.7, 0.7, h / 2), 0.16, HIGH)
    for x, y, z, r in (
        (-6.2, -2.0, LOWER, 0.55),
        (-12.0, -1.6, LOWER, 0.6),
        (8.8, -1.5, LOWER, 0.5),
        (13.6, -2.2, LOWER, 0.65),
        (-9.0, 18.6, UPPER, 0.7),
        (10.0, 18.0, UPPER, 0.6),
        (-4.5, -9.2, LOWER, 0.45),
        (9.4, -8.6, LOWER, 0.4),
        (14.6, 3.0, HOUSE, 0.5),
        (0.0, -20.0, -4.2, 0.9),
        (12.0, -21.0, -4.6, 0.9),
    ):
        s.foliage((x, y, z + 0.7 * r), (r, r, 0.75 * r), 0.13, LOW)


def _targets(s):
    for name, (x, y, z), facing_deg in BOARDS:
        a = np.radians(facing_deg)
        n = np.array([np.cos(a), np.sin(a), 0])
        u, v = np.array([-n[1], n[0], 0]) * BOARD_SIZE, np.array([0, 0, BOARD_SIZE])
        s.quad(np.array([x, y, z]) + 0.03 * n - u / 2 - v / 2, u, v, BOARD, OTHER)
        if name in ON_RODS:
            s.cylinder((x, y, ON_RODS[name]), (0, 0, z - ON_RODS[name] - 0.23), 0.025, IRON, OTHER)
    for x, y, z in SPHERES:
        s.ball((x, y, z), RADIUS, WHITE, OTHER)
        s.cylinder((x, y, z - 0.45), (0, 0, 0.36), 0.03, IRON, OTHER)


def board_centres() -> dict[str, np.ndarray]:
    """True centres of the checkerboards in the scene frame (m)."""
    out = {}
    for name, c, deg in BOARDS:
        a = np.radians(deg)
        out[name] = np.array(c) + 0.03 * np.array([np.cos(a), np.sin(a), 0])
    return out


def scene_to_grid() -> np.ndarray:
    """4×4 from the scene frame to the invented local grid."""
    m = np.eye(4)
    c, t = np.cos(GRID_TURN), np.sin(GRID_TURN)
    m[:2, :2] = [[c, -t], [t, c]]
    m[:3, 3] = GRID_ORIGIN
    return m


def _moving(s):
    places = [
        ((1.4, 9.6, HOUSE), (0, 1)),
        ((2.6, 4.8, HOUSE), (4,)),
        ((-4.0, -6.5, LOWER), (5,)),
        ((1.0, -13.4, LANE), (6, 7)),
    ]
    for (x, y, z), scans in places:  # the gardener
        e = only(*scans)
        s.cylinder((x, y, z), (0, 0, 0.9), 0.16, CLOTH, OTHER, epochs=e, moved=True)
        s.box(
            (x - 0.25, y - 0.14, z + 0.9), (x + 0.25, y + 0.14, z + 1.5), CLOTH, OTHER, epochs=e, moved=True
        )
        s.ball((x, y, z + 1.66), 0.13, CLAY, OTHER, epochs=e, moved=True)
    carts = [
        ((-5.0, 9.5, HOUSE), (0, 2)),
        ((3.6, 12.0, HOUSE), (1, 3)),
        ((8.5, 2.2, HOUSE), (4, 5)),
        ((12.0, -12.2, LANE), (6,)),
        ((-1.5, -11.3, LANE), (7,)),
    ]
    for (x, y, z), scans in carts:  # the handcart
        e = only(*scans)
        s.box(
            (x - 0.6, y - 0.35, z + 0.45),
            (x + 0.6, y + 0.35, z + 0.85),
            TIMBER,
            OTHER,
            yaw=0.5,
            epochs=e,
            moved=True,
        )
        for side in (-0.42, 0.42):
            s.cylinder((x, y + side, z + 0.3), (0, 0.06, 0), 0.3, TIMBER, OTHER, epochs=e, moved=True)


__all__ = [
    "BOARDS",
    "BOARD_SIZE",
    "CONTROL",
    "HEIGHT",
    "SPHERES",
    "STATIONS",
    "board_centres",
    "build",
    "scene_to_grid",
]
