"""Outside the lemon house: land, lane, culvert and garden."""

import numpy as np

from terrazza.demo.survey import (
    BUILDING,
    GROUND,
    HIGH,
    HOUSE,
    LANE,
    LOW,
    LOWER,
    MEDIUM,
    OTHER,
    UPPER,
    WATER_CODE,
)
from terrazza.instruments.scene import (
    BARK,
    CLAY,
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
    STONE,
    TILE,
    TIMBER,
    UNDULATING,
    WATER,
    WHITE,
)

VAULT = ((7.3, -10.0, LANE + 1.0), 9.4, 1.1)  # of the culvert: its axis at the mouth, length, radius


def floor_of(s, x0, x1, y0, y1, z, material, code=GROUND, style=UNDULATING):
    s.quad((x0, y0, z), (x1 - x0, 0, 0), (0, y1 - y0, 0), material, code, style)


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


def land(s):
    floor_of(s, -24, 34, 0.0, 8.0, HOUSE, EARTH)
    floor_of(s, -24, -14.4, 8.0, 16.0, HOUSE, EARTH)
    floor_of(s, 26.4, 34, 8.0, 16.0, HOUSE, EARTH)
    floor_of(s, -24, 34, -10.0, 0.0, LOWER, GRASS)
    floor_of(s, -24, 34, 16.0, 27.0, UPPER, GRASS)
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


def lane_of(s):
    floor_of(s, -24, 34, -15.0, -10.0, LANE, COBBLE, GROUND, COBBLED)
    for k in range(14):  # kerb stones, and the verge behind them
        x = -24 + k * 4.15
        s.box((x, -15.15, LANE), (x + 4.13, -15.0, LANE + 0.13), KERB, OTHER, faces="yYZxX")
    floor_of(s, -24, 34, -16.4, -15.15, LANE + 0.11, EARTH)
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


def culvert_of(s):
    (mid, mouth, spring), length, crown = VAULT
    x0, x1 = 6.2, 8.4
    # retaining wall of the lower terrace, left out where the culvert opens
    for a, b in ((-24.0, x0), (x1, 34.0)):
        s.quad((a, -10.0, LANE), (b - a, 0, 0), (0, 0, LOWER - LANE), STONE, OTHER, DRYSTONE)
    s.quad(
        (x0, -10.0, spring), (x1 - x0, 0, 0), (0, 0, LOWER - spring), STONE, OTHER, hole=(crown, 0.0, crown)
    )
    for x in (x0, x1):
        s.quad((x, -10.0, LANE), (0, 9.4, 0), (0, 0, 1.0), STONE, OTHER, HEWN)
    s.cylinder((mid, mouth, spring), (0, length, 0), crown, STONE, OTHER, facing=(0, 0, 1), caps=False)
    s.quad((x0, -0.6, LANE), (x1 - x0, 0, 0), (0, 0, 2.2), STONE, OTHER, HEWN)
    s.quad((x0, -10.0, LANE + 0.02), (x1 - x0, 0, 0), (0, 9.4, 0), STONE, GROUND, COBBLED)
    s.box((x0, -5.2, LANE), (x0 + 0.35, -4.2, LANE + 0.9), STONE, OTHER)  # a silt ledge
    s.box((x1 - 0.25, -8.0, LANE), (x1, -6.9, LANE + 0.55), STONE, OTHER)
    s.cylinder((x1 - 0.2, -2.4, LANE), (0, 0, 1.7), 0.09, IRON, OTHER)
    s.box((3.5, -10.35, LANE), (4.4, -10.0, LANE + 0.5), STONE, OTHER)  # a seat beside the mouth
    s.box((10.0, -10.5, LANE), (10.5, -10.0, LANE + 2.3), STONE, OTHER)  # a buttress


def garden(s):
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
    _pots(s)
    _plants(s)


def _pots(s):
    """Lemon trees in pots, some inside, some in front."""
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


def _plants(s):
    """Cypresses behind the house and below, and bushes."""
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
