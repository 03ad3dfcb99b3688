"""The invented estate: geometry of the lemon terraces of Settegradini.

Scene frame: x along the hill, y up the hill (south is the lake), z up, metres.
Levels from below: lane −2.4, lower terrace 0.2, house terrace 2.0, upper
terrace 4.8.
"""

import numpy as np

from terrazza.demo.outdoors import culvert_of, floor_of, garden, land, lane_of, only, wall
from terrazza.demo.survey import BOARD_SIZE, BOARDS, BUILDING, GROUND, HOUSE, LANE, LOWER, OTHER, SPHERES
from terrazza.instruments.scene import (
    BOARD,
    CLAY,
    CLOTH,
    HEWN,
    IRON,
    MIRROR,
    PLASTER,
    STONE,
    TILE,
    TIMBER,
    WHITE,
    Scene,
    World,
)

ON_RODS = {"B7": LOWER, "B8": HOUSE, "B11": LANE}
RADIUS = 0.10
# where water drips from the vault of the culvert
DRIPS = [(6.6 + 0.13 * (5 * k % 11), -7.2 + 0.42 * k) for k in range(10)]
GRID_ORIGIN, GRID_TURN = np.array([4210.0, 8835.0, 312.4]), np.radians(27.3)


def build() -> World:
    """The whole estate as a finished scene."""
    s = Scene()
    land(s)
    _house(s)
    _rooms(s)
    lane_of(s)
    culvert_of(s)
    garden(s)
    _targets(s)
    _moving(s)
    return s.finish()


def _house(s):
    # floor and back wall with a buttress off the middle, so that the long room has one reading only
    floor_of(s, -14.4, 26.4, 8.0, 14.4, HOUSE, STONE, GROUND, HEWN)
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
    # a mirror in its frame on the south wall of the press room
    s.quad((19.95, 8.37, 2.95), (0.9, 0, 0), (0, 0, 1.25), MIRROR, OTHER)
    for x, z, wide, high in (
        (19.89, 2.89, 1.02, 0.06),
        (19.89, 4.2, 1.02, 0.06),
        (19.89, 2.95, 0.06, 1.25),
        (20.85, 2.95, 0.06, 1.25),
    ):
        s.box((x, 8.35, z), (x + wide, 8.39, z + high), TIMBER, OTHER, faces="xXYzZ")
    for x, y, r in ((25.3, 8.9, 0.33), (20.6, 8.9, 0.28), (21.5, 8.8, 0.24)):
        s.cylinder((x, y, HOUSE), (0, 0, 0.9), r, CLAY, OTHER)


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
    for k, (x, y) in enumerate(DRIPS):  # water falling from the vault, elsewhere in every scan
        s.ball((x, y, LANE + 0.4 + 0.17 * (k % 7)), 0.016, WHITE, OTHER, epochs=only(6 if k % 4 == 0 else 7))
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
