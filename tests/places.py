"""Simulated places for registration, its tests and its benchmark: rooms, hotels, corridors, floors, streets,
terrain; and a scanner that casts rays at them, which knows nothing of the demo's instruments.
"""

import numpy as np

from terrazza.core.geometry import rigid
from tests.boxes import Place, cast, furnish, lasting, moved, shell, wall

ROWS, COLUMNS, LOW, HIGH, FARTHEST = 220, 480, -62.0, 82.0, 60.0


def building(rng, alike: bool):
    """Boxes and station places: a corridor with rooms on both sides; ``alike``: all rooms and their furniture
    the same.
    """
    n, height, corridor = int(rng.integers(3, 5)), rng.uniform(2.5, 3.2), rng.uniform(1.5, 2.2)
    widths = np.full(n, rng.uniform(3.6, 4.4)) if alike else rng.uniform(3.0, 6.5, n)
    depth, edges = (rng.uniform(4.2, 5.5), np.r_[0, np.cumsum(widths)])
    width, boxes, places = float(edges[-1]), [], []
    shell(boxes, width, depth + corridor, height)
    doors = (
        [(a + 0.7, a + 1.6, 0.0, 2.05) for a in edges[:-1]]
        if alike
        else [(a + (o := rng.uniform(0.3, w - 1.3)), a + o + 0.9, 0.0, 2.05) for a, w in zip(edges, widths)]
    )
    windows = [(a + w / 2 - 0.6, a + w / 2 + 0.6, 0.9, 2.1) for a, w in zip(edges, widths)]
    wall(boxes, 0, corridor, 0, width, doors, height)
    wall(boxes, 0, corridor + depth, 0, width, windows, height, 0.3)
    wall(boxes, 0, 0.0, 0, width, [] if alike else [(width * 0.4, width * 0.4 + 1.5, 0.9, 2.0)], height, 0.3)
    for x in edges:
        wall(boxes, 1, float(x), corridor if 0 < x < width else 0, corridor + depth, [], height)
    for _k, (a, w) in enumerate(zip(edges, widths)):
        places.append(
            (a + w * (0.5 if alike else rng.uniform(0.35, 0.65)), corridor + depth * rng.uniform(0.35, 0.65))
        )
    for x in np.arange(1.5, width, 4.6):
        places.append((x + rng.uniform(-0.4, 0.4), corridor * rng.uniform(0.4, 0.6)))
    for a, w in zip(edges, widths):
        spread = np.random.default_rng(5) if alike else rng
        part = []
        furnish(
            part,
            spread,
            0.1,
            w - 0.1,
            corridor + 0.1,
            corridor + depth - 0.1,
            [(p[0] - a, p[1]) for p in places] if not alike else [(w / 2, corridor + depth / 2)],
            4,
        )
        boxes += [([lo[0] + a, lo[1], lo[2]], [hi[0] + a, hi[1], hi[2]]) for lo, hi in part]
    return Place(boxes, [(*p, 0.0) for p in places])


def street(rng):
    boxes, places, length = [([-5, -15, -0.3], [75, 25, 0.0])], [], 70.0
    for at, sign in ((0.0, -1), (rng.uniform(9, 13), 1)):
        x = 0.0
        while x < length:
            w = rng.uniform(6, 14)
            set_back, height = rng.uniform(0, 0.8) * sign, rng.uniform(6, 12)
            holes = [
                (x + k + 0.8, x + k + 0.8 + rng.uniform(0.9, 1.4), z, z + 1.5)
                for k in np.arange(0, w - 2.5, rng.uniform(2.2, 3.2))
                for z in (0.9,)
            ]
            wall(boxes, 0, at + set_back, x, min(x + w, length), holes, height, 0.4)
            boxes.append(
                (
                    [x, at + set_back + (sign * 0.5 if sign > 0 else -0.9), 0],
                    [min(x + w, length), at + set_back + (0.9 if sign > 0 else -0.5), height],
                )
            )
            x += w
    for _ in range(8):
        x, y = rng.uniform(3, length - 3), rng.choice([2.0, 7.0])
        boxes.append(([x, y, 0], [x + rng.uniform(0.3, 4), y + rng.uniform(0.3, 1.8), rng.uniform(1.0, 4)]))
    for x in np.arange(12, 58, 12.0):
        places.append((x + rng.uniform(-2, 2), rng.uniform(3.5, 5.5)))
    return Place(boxes, [(*p, 0.0) for p in places])


def floors(rng):
    """Two floors with the same walls and other furniture, and a stair with a landing from which both are
    seen.
    """
    seed, height = int(rng.integers(1 << 30)), 3.1
    lower, upper = (building(np.random.default_rng(seed), False) for _ in range(2))
    width = max(hi[0] for _, hi in lower.boxes) - 0.3
    boxes = [
        (np.array(lo, float), np.array(hi, float))
        for lo, hi in lower.boxes
        if not (lo[2] > 2 and hi[0] - lo[0] > 8 and hi[1] - lo[1] > 3)
    ]
    above = [
        (np.array(lo, float) + [0, 0, height], np.array(hi, float) + [0, 0, height])
        for lo, hi in upper.boxes
        if hi[2] > 0.1 and not (lo[0] == 0 and hi[2] < 2.3)
    ]
    slab = ([-0.3, -0.3, height - 0.25], [width + 0.3, max(hi[1] for _, hi in lower.boxes), height])
    hall, depth = 3.2, slab[1][1]
    boxes += [*above, slab]
    part = []
    furnish(part, rng, 0.2, width - 0.2, 0.3, depth - 0.4, [p[:2] for p in upper.places], 5)
    boxes += [(np.array(lo) + [0, 0, height], np.array(hi) + [0, 0, height]) for lo, hi in part]
    boxes += [
        ([width + 0.15, -0.3, -0.2], [width + hall, depth, 0.0]),
        ([width + 0.15, -0.3, 2 * height - 0.2], [width + hall, depth, 2 * height]),
        ([width + hall, -0.3, 0], [width + hall + 0.3, depth, 2 * height]),
        ([width + 0.15, depth - 0.3, 0], [width + hall, depth, 2 * height]),
        ([width + 0.15, -0.3, 0], [width + hall, 0, 2 * height]),
    ]
    boxes = [
        b
        for b in boxes
        if not (abs(b[0][0] - width) < 0.2 and b[1][0] - b[0][0] < 0.4 and b[1][1] - b[0][1] > 3)
    ] + [([width - 0.06, 1.7, 0], [width + 0.06, depth, 2 * height])]
    for k in range(16):
        boxes.append(
            ([width + 1.6, 1.8 + 0.2 * k, 0.0], [width + hall, 2.0 + 0.2 * k, height / 16 * (k + 1)])
        )
    boxes.append(([width + 0.15, 5.0, height - 0.25], [width + hall, depth, height]))
    rooms = [
        (p[0], p[1], z) for z, part in ((0.0, lower), (height, upper)) for p in part.places[:: 2 if z else 1]
    ]
    return Place(
        boxes,
        [
            *rooms,
            (width + 0.9, 1.0, 0.0),
            (width + 0.9, 3.6, 0.0),
            (width + 1.4, min(5.8, depth - 0.8), height),
            (width - 1.0, 0.9, height),
        ],
    )


def corridor(rng):
    """A long corridor with like doors, all shut, and a few things in it."""
    length, wide, high = rng.uniform(28, 40), rng.uniform(1.8, 2.4), rng.uniform(2.5, 2.9)
    boxes = [
        ([-0.3, -0.3, -0.2], [length + 0.3, wide + 0.3, 0]),
        ([-0.3, -0.3, high], [length + 0.3, wide + 0.3, high + 0.2]),
        ([-0.3, -0.3, 0], [length + 0.3, 0, high]),
        ([-0.3, wide, 0], [length + 0.3, wide + 0.3, high]),
        ([-0.3, 0, 0], [0, wide, high]),
        ([length, 0, 0], [length + 0.3, wide, high]),
    ]
    for x in np.arange(1.5, length - 1.5, 3.6):
        boxes += [
            ([x, 0, 0], [x + 0.08, 0.06, 2.1]),
            ([x + 0.98, 0, 0], [x + 1.06, 0.06, 2.1]),
            ([x + 1.4, wide - 0.06, 0], [x + 1.48, wide, 2.1]),
            ([x + 2.4, wide - 0.06, 0], [x + 2.48, wide, 2.1]),
        ]
    for _ in range(4):
        x, y = rng.uniform(2, length - 3), rng.choice([0.0, wide - 0.4])
        boxes.append(([x, y, 0], [x + rng.uniform(0.4, 1.2), y + 0.4, rng.uniform(0.5, 1.9)]))
    return Place(
        boxes,
        [
            (x + rng.uniform(-0.5, 0.5), wide * rng.uniform(0.4, 0.6), 0.0)
            for x in np.arange(3, length - 2, 6.0)
        ],
    )


def slopes(rng, low, high):
    """Waves of uneven ground, as high as ``low`` to ``high`` of what they are long."""
    return [
        (rng.uniform(low, high) * s, rng.normal(0, 0.5 / s), rng.normal(0, 0.5 / s), rng.uniform(0, 6))
        for s in (2.5, 1.5, 0.8, 0.3, 0.12)
    ]


def terrain(rng):
    """A meadow with trees: no building, no flat wall."""
    place = Place(waves=slopes(rng, 0.1, 0.7), moving=False)
    for _ in range(45):
        x, y = rng.uniform(-28, 28, 2)
        z, r, h = place.ground(x, y), rng.uniform(0.08, 0.3), rng.uniform(1.8, 4)
        place.posts.append((x, y, r, z - 0.5, z + h))
        place.balls += [
            (
                x + rng.normal(0, 0.5),
                y + rng.normal(0, 0.5),
                z + h + rng.uniform(0.2, 1.6),
                rng.uniform(0.5, 1.2),
            )
            for _ in range(4)
        ]
    for _ in range(12):
        x, y = rng.uniform(-25, 25, 2)
        place.balls.append((x, y, place.ground(x, y), rng.uniform(0.4, 1.1)))
    for t in np.arange(6) * 2 * np.pi / 6:
        for _ in range(40):
            x, y = (
                rng.uniform(4, 11) * np.cos(t + rng.normal(0, 0.2)),
                rng.uniform(4, 11) * np.sin(t + rng.normal(0, 0.2)),
            )
            if all(np.hypot(x - p[0], y - p[1]) > 1.2 for p in place.posts) and all(
                np.hypot(x - p[0], y - p[1]) > p[3] + 0.7 for p in place.balls
            ):
                place.places.append((x, y, float(place.ground(x, y))))
                break
    return place


def orchard(rng):
    """Trees of about one size in rows on a slope: much the same from row to row."""
    place, apart = Place(waves=slopes(rng, 0.03, 0.2), moving=False), rng.uniform([3.5, 4.0], [5.5, 6.0])
    for cell in np.ndindex(11, 11):
        if rng.random() > 0.05:
            x, y = (np.array(cell) - 5) * apart + rng.normal(0, 0.15, 2)
            z, h = place.ground(x, y), rng.uniform(1.4, 1.9)
            place.posts.append((x, y, rng.uniform(0.06, 0.12), z - 0.5, z + h))
            for _ in range(2):
                dx, dy = rng.normal(0, 0.2, 2)
                place.balls.append((x + dx, y + dy, z + h + rng.uniform(0.4, 0.9), rng.uniform(0.9, 1.2)))
    for _ in range(6):
        x, y = (rng.integers(-2, 3, 2) + 0.5) * apart + rng.normal(0, 0.3, 2)
        place.places.append((x, y, float(place.ground(x, y))))
    return place


def hall(rng):
    """A hall with columns every six metres and a few things in it."""
    size, boxes, places = np.array([42.0, 30.0]), [], []
    shell(boxes, *size, 5.0)
    for axis, at, stop in ((0, 0.0, 42.0), (0, 30.0, 42.0), (1, 0.0, 30.0), (1, 42.0, 30.0)):
        wall(boxes, axis, at, 0.0, stop, [(5.0, 7.0, 0.0, 3.0)] if axis == 0 else [], 5.0, 0.3)
    for x in np.arange(6.0, 42.0, 6.0):
        boxes += [([x - 0.2, y - 0.2, 0], [x + 0.2, y + 0.2, 5.0]) for y in np.arange(6.0, 30.0, 6.0)]
    for _ in range(5):
        low = np.append(rng.uniform(2, size - 4), 0.0)
        boxes.append((low, low + rng.uniform(0.5, 2.0, 3)))
    for _ in range(6):
        places.append((*(rng.integers(0, [7, 5]) * 6.0 + 3.0 + rng.uniform(-0.8, 0.8, 2)), 0.0))
    return Place(boxes, places)


def islands(rng):
    """Two buildings that share nothing."""
    one, two = building(rng, False), moved(building(rng, False), (120.0, 40.0, 0.7))
    return Place(one.boxes + two.boxes, one.places[-4:] + two.places[-5:])


WORLDS = {
    "rooms": lambda rng: building(rng, False),
    "posed": lambda rng: building(rng, False),
    "hotel": lambda rng: building(rng, True),
    "tilted": lambda rng: building(rng, False),
    "crowd": lambda rng: building(rng, False),
    "street": street,
    "floors": floors,
    "corridor": corridor,
    "terrain": terrain,
    "islands": islands,
    "orchard": orchard,
    "hall": hall,
    "odd": lambda rng: building(rng, False),
    "sectors": lambda rng: building(rng, False),
    "bands": lambda rng: building(rng, False),
}


def rays() -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Row, column and unit ray (n, 3) of every place of the grid."""
    row, column = (a.ravel() for a in np.meshgrid(np.arange(ROWS), np.arange(COLUMNS), indexing="ij"))
    el, az = np.radians(LOW + (HIGH - LOW) * (row + 0.5) / ROWS), 2 * np.pi * column / COLUMNS
    return row, column, np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], 1)


def scanned(place: Place, family: str, station, rng, index_error: float = 0.0):
    """One sweep: its true pose, and for the grid places that returned: mask, points (n, 3) in the scanner's
    frame.
    """
    x, y, floor = station
    lean = (
        rng.normal(0, np.radians(2.0), 2).clip(-0.08, 0.08)
        if family == "tilted"
        else rng.normal(0, np.radians(0.003), 2)
    )
    pose = rigid.make(
        rigid.rotation_from(np.append(lean, 0)) @ rigid.about_z(rng.uniform(-np.pi, np.pi)),
        np.array([x, y, floor + rng.uniform(1.4, 1.75)]),
    )
    boxes = list(place.boxes)
    if place.moving:
        for _ in range(
            int(rng.integers(0, 3) if family != "crowd" else rng.integers(4, 9))
        ):  # people who walk about
            p = np.array([x, y]) + rng.uniform(1.0, 2.2 if family != "crowd" else 4.0) * np.array(
                [np.cos(t := rng.uniform(0, 6.3)), np.sin(t)]
            )
            boxes.append(([p[0] - 0.2, p[1] - 0.15, floor], [p[0] + 0.2, p[1] + 0.15, floor + 1.75]))
        if family == "crowd":  # chairs and boxes that stand elsewhere in every scan
            boxes = lasting(boxes)
            furnish(boxes, rng, x - 3, x + 3, y - 2.5, y + 2.5, [(x, y)], 5)
    _, _, directions = rays()
    r = cast(pose[:3, 3], directions @ pose[:3, :3].T, *place.solids(boxes))
    hit = r < FARTHEST
    measured = (
        r[hit]
        + rng.normal(0, 0.002, int(hit.sum()))
        + (
            rng.normal(0, 0.03, int(hit.sum())) * (rng.random(int(hit.sum())) < 0.3)
            if family == "terrain"
            else 0
        )
    )
    seen = directions[hit]
    if index_error:
        flat = np.hypot(seen[:, 0], seen[:, 1])
        el = np.arctan2(seen[:, 2], flat) + index_error
        seen = np.stack([seen[:, 0] / flat * np.cos(el), seen[:, 1] / flat * np.cos(el), np.sin(el)], 1)
    return pose, hit, seen * measured[:, None]
