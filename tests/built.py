"""Simulated places with hardly a right angle: houses with oblique walls, houses in gardens, stairwells,
plants with tanks and pipes, naves, tunnels, garages and rows of shelves.
"""

import numpy as np

from tests import alike, open_ground
from tests.meshes import Mesh, Scanner


def storey(mesh: Mesh, rng, across: int, deep: int, floor=0.0, size=(3.2, 5.5), height=None):
    """Rooms of an old house, no wall square to another, and a station in each and in some doors."""
    height = height or rng.uniform(2.4, 3.4)
    xs = np.r_[0, np.cumsum(rng.uniform(*size, across))]
    ys = np.r_[0, np.cumsum(rng.uniform(*size, deep))]
    node = lambda i, j: np.array([xs[i], ys[j]]) + shift[i, j]
    shift = rng.normal(0, 0.22, (across + 1, deep + 1, 2))
    for i in range(across + 1):
        for j in range(deep + 1):
            for to in ((i + 1, j), (i, j + 1)):
                if to[0] > across or to[1] > deep:
                    continue
                a, b = node(i, j), node(*to)
                long = np.linalg.norm(b - a)
                outside = (j in (0, deep)) if to[0] > i else (i in (0, across))
                start = rng.uniform(0.5, long - 1.6)
                gap = (start, start + 0.95, 0.9, 2.05) if outside else (start, start + 0.9, 0.0, 2.05)
                gaps = [gap] if rng.random() < (0.8 if outside else 0.85) else []
                mesh.wall(a, b, floor, floor + height, gaps, rng.uniform(0.3, 0.5) if outside else 0.14)
                if gaps and not outside and rng.random() < 0.3:
                    mesh.stations.append((*(a + (b - a) * (start + 0.45) / long), floor))
    for i in range(across):
        for j in range(deep):
            corners = [node(i, j), node(i + 1, j), node(i + 1, j + 1), node(i, j + 1)]
            middle = np.mean(corners, axis=0)
            mesh.stations.append((*(middle + rng.uniform(-0.5, 0.5, 2)), floor))
            for z in (floor, floor + height - rng.choice([0.0, 0.0, 0.25])):
                mesh.polygon(*(np.append(c, z) for c in corners))
            mesh.things(rng, 5, middle - 1.3, middle + 1.3, floor)
    return xs[-1], ys[-1], height


def house(rng) -> Mesh:
    mesh = Mesh()
    storey(mesh, rng, int(rng.integers(2, 4)), 2)
    return mesh


def garden(rng) -> Mesh:
    """A house in a garden: three rooms inside, and stations around it and in the open door."""
    mesh = Mesh()
    wide, deep, height = storey(mesh, rng, 2, 1)
    inside = list(mesh.stations)
    waves = [(rng.uniform(0.1, 0.4), *rng.normal(0, 0.15, 2), rng.uniform(0, 6)) for _ in range(4)]
    slope = rng.normal(0, 0.04, 2)

    def ground(x, y):
        away = max(0.0, -x, x - wide, -y, y - deep) / 4
        rough = sum(a * np.sin(u * x + v * y + p) for a, u, v, p in waves)
        return -0.15 + min(1.0, away) * (rough + slope @ [x, y])

    mesh.ground(ground, (-22, -20), (wide + 22, deep + 20))
    ridge = height + rng.uniform(1.5, 2.5)
    for y, over in ((0, -0.5), (deep, 0.5)):
        eave = height - 0.1
        mesh.polygon(
            [-0.6, y + over, eave],
            [wide + 0.6, y + over, eave],
            [wide + 0.6, deep / 2, ridge],
            [-0.6, deep / 2, ridge],
        )
    for x in (-0.3, wide + 0.3):
        mesh.polygon([x, 0, height], [x, deep, height], [x, deep / 2, ridge])
    for _ in range(10):
        x, y = rng.uniform([-18, -16], [wide + 18, deep + 16])
        if not (-3 < x < wide + 3 and -3 < y < deep + 3):
            mesh.tree(rng, x, y, ground(x, y))
    x, y = rng.uniform(-9, -6), rng.uniform(-8, 8)
    mesh.block(x, y, ground(x, y) - 0.3, ground(x, y) + 2.4, 3.5, 2.5, rng.uniform(0, 3))
    a, b = np.array([wide + 9, -14.0]), np.array([wide + 12, deep + 14.0])
    mesh.wall(a, b, -1.5, 1.4, thick=0.3)
    for t in np.arange(5) * 2 * np.pi / 5 + rng.uniform(0, 1):
        x, y = wide / 2 + (wide / 2 + 5) * np.cos(t), deep / 2 + (deep / 2 + 5) * np.sin(t)
        mesh.stations.append((x, y, ground(x, y)))
    mesh.stations = inside[:4] + mesh.stations[len(inside) :]
    return mesh


def stairwell(rng) -> Mesh:
    """Four like storeys about a stair that turns, with a room open to each landing."""
    mesh, tall, levels = Mesh(), 3.0, 4
    wide, deep = rng.uniform(2.6, 3.2), rng.uniform(5.2, 6.0)
    for k in range(levels):
        z = k * tall
        mesh.wall([0, 0], [0, deep], z, z + tall, [(1.0, 2.0, 0.0, 2.05)], 0.25)
        mesh.wall(
            [wide, 0], [wide, deep], z, z + tall, [(0.9, 1.8, 0.0, 2.05)] if rng.random() < 0.6 else [], 0.25
        )
        mesh.wall([0, deep], [wide, deep], z, z + tall, [(0.8, 1.8, 0.3, 1.5)], 0.35)
        mesh.wall([0, 0], [wide, 0], z, z + tall, [], 0.25)
        mesh.block(wide / 2, 0.9, z - 0.2, z, wide, 1.8)
        if k < levels - 1:
            half = z + tall / 2
            mesh.block(wide / 2, deep - 0.6, half - 0.2, half, wide, 1.2)
            steps = 8
            run = (deep - 3.0) / steps
            for s in range(steps):
                y = 1.8 + run * (s + 0.5)
                mesh.block(wide * 0.25, y, z + tall / 16 * s, z + tall / 16 * (s + 1), wide / 2 - 0.1, run)
                mesh.block(
                    wide * 0.75,
                    y,
                    z + tall - tall / 16 * (s + 1),
                    z + tall - tall / 16 * s,
                    wide / 2 - 0.1,
                    run,
                )
            mesh.stations.append((wide / 2, deep - 0.6, half))
        mesh.stations.append((wide * 0.5, 0.9, z))
        if k % 2 == 0:
            left = -rng.uniform(3.5, 4.5)
            mesh.block(left / 2, 2, z - 0.2, z, -left, 4)
            for a, b in (([left, 0], [0, 0]), ([left, 4], [0, 4]), ([left, 0], [left, 4])):
                mesh.wall(a, b, z, z + tall, [(1.2, 2.4, 0.9, 2.1)] if a[0] == b[0] else [], 0.25)
            mesh.polygon([left, 0, z + 2.6], [0, 0, z + 2.6], [0, 4, z + 2.6], [left, 4, z + 2.6])
            mesh.stations.append((left / 2, 2 + rng.uniform(-0.5, 0.5), z))
            mesh.things(rng, 5, (left + 0.4, 0.4), (-0.4, 3.6), z)
    mesh.block(wide / 2, deep / 2, levels * tall, levels * tall + 0.2, wide, deep)
    return mesh


def plant(rng) -> Mesh:
    """Tanks, pipes and columns on a slab, no walls but a low one."""
    mesh = Mesh()
    mesh.block(10, 8, -0.3, 0.0, 44, 36)
    for x in np.arange(0, 21, 5.0):
        for y in (0.0, 8.0, 16.0):
            mesh.block(x, y, 0, 6.0, 0.25, 0.25)
    for y in (0.0, 8.0, 16.0):
        mesh.block(10, y, 5.7, 6.0, 20, 0.2)
    for z in rng.uniform(2.5, 5.5, 6):
        y, r = rng.uniform(0, 16), rng.uniform(0.05, 0.25)
        a, b = sorted(rng.uniform(-2, 22, 2))
        mesh.pipe([a, y, z], [b, y, z], r)
        mesh.pipe([b, y, z], [b, y, 0.0], r)
        mesh.pipe([a, y, z], [a, y + rng.uniform(2, 6), z], r)
    while len(mesh.stations) < 7:
        x, y = rng.uniform([-1, -2], [21, 18])
        if all(np.hypot(x - s[0], y - s[1]) > 3.5 for s in mesh.stations):
            mesh.stations.append((x, y, 0.0))
    done = 0
    while done < 7:
        x, y, r = *rng.uniform([-2, -2], [22, 18]), rng.uniform(0.5, 1.6)
        if all(np.hypot(x - s[0], y - s[1]) > r + 1.2 for s in mesh.stations):
            mesh.pipe([x, y, 0], [x, y, rng.uniform(1.5, 5)], r, 24)
            done += 1
    mesh.things(rng, 8, (-2, -2), (22, 18))
    return mesh


def nave(rng) -> Mesh:
    """A vault on round columns, every bay alike, an apse at one end and things of its own in some bays."""
    mesh, bays, bay = Mesh(), int(rng.integers(5, 8)), rng.uniform(3.8, 5.0)
    wide, spring, long = rng.uniform(8, 11), rng.uniform(4.5, 6), bays * bay
    mesh.block(long / 2, wide / 2, -0.3, 0, long + 12, wide + 2)
    for y in (0.0, wide):
        gaps = [(bay * (k + 0.3), bay * (k + 0.7), 2.0, 4.2) for k in range(bays)]
        mesh.wall([0, y], [long, y], 0, spring + 0.3, gaps, 0.6)
    mesh.wall([0, 0], [0, wide], 0, spring + wide / 2, [(wide / 2 - 0.9, wide / 2 + 0.9, 0.0, 2.8)], 0.6)
    t = np.linspace(0, np.pi, 13)
    arc = np.c_[wide / 2 - wide / 2 * np.cos(t), spring + wide / 2 * np.sin(t)]
    for p, q in zip(arc, arc[1:]):
        mesh.polygon([0, *p], [0, *q], [long, *q], [long, *p])
    end = np.c_[long + wide / 2 * np.sin(t), arc[:, 0]]
    for p, q in zip(end, end[1:]):
        mesh.polygon([*p, 0], [*q, 0], [*q, spring], [*p, spring])
        mesh.polygon([*p, spring], [*q, spring], [long, wide / 2, spring + wide / 2])
    for k in range(1, bays):
        for y in (1.6, wide - 1.6):
            mesh.pipe([bay * k, y, 0], [bay * k, y, spring], 0.35, 16)
    for k in range(bays):
        mesh.stations.append((bay * (k + 0.5) + rng.uniform(-0.8, 0.8), wide / 2 + rng.uniform(-1, 1), 0.0))
        if rng.random() < 0.5:
            mesh.block(bay * (k + 0.5), rng.choice([0.5, wide - 0.5]), 0, rng.uniform(0.8, 2.5), 1.2, 0.5)
    mesh.things(rng, 6, (1, 1), (long, wide - 1))
    return mesh


def tunnel(rng) -> Mesh:
    """A curved tube with niches and cabinets at one side: little holds along it."""
    mesh, radius, bend, arc = Mesh(), rng.uniform(2.2, 3.0), rng.uniform(60, 200), rng.uniform(45, 60)
    at = lambda s, u: np.array([(bend + u) * np.sin(s / bend), bend - (bend + u) * np.cos(s / bend)])
    t = np.linspace(-0.3, np.pi + 0.3, 15)
    section = np.c_[radius * np.cos(t), radius * 0.4 + radius * np.sin(t)]
    stops = np.linspace(0, arc, 25)
    for s, s1 in zip(stops, stops[1:]):
        for p, q in zip(section, np.roll(section, -1, 0)):
            corners = [
                (*at(s, p[0]), p[1]),
                (*at(s, q[0]), q[1]),
                (*at(s1, q[0]), q[1]),
                (*at(s1, p[0]), p[1]),
            ]
            mesh.polygon(*corners)
    for s in np.cumsum(rng.uniform(3, 9, 12)):
        if s < arc - 1:
            side = rng.choice([-1, 1]) * (radius - 0.25)
            floor = section[-1][1]
            mesh.block(*at(s, side), floor, floor + rng.uniform(0.6, 2), rng.uniform(0.3, 1.5), 0.5, s / bend)
    mesh.stations = [
        (*at(s, rng.uniform(-0.7, 0.7)), float(section[-1][1])) for s in np.arange(4, arc - 3, 8.0)
    ]
    return mesh


def shell(mesh: Mesh, rng, size, door, share: float) -> None:
    """Floor, ceiling and four walls, a ``share`` of which has a door."""
    wide, deep, tall = size
    mesh.block(wide / 2, deep / 2, -0.3, 0, wide + 1, deep + 1)
    mesh.block(wide / 2, deep / 2, tall, tall + 0.3, wide + 1, deep + 1)
    for a, b in (
        ([0, 0], [wide, 0]),
        ([0, deep], [wide, deep]),
        ([0, 0], [0, deep]),
        ([wide, 0], [wide, deep]),
    ):
        mesh.wall(a, b, 0, tall, [door] if rng.random() < share else [], 0.3)


def garage(rng) -> Mesh:
    """A low floor with columns in a raster, cars that are elsewhere in other scans, and a ramp."""
    mesh, wide, deep, tall = Mesh(), rng.uniform(24, 34), rng.uniform(16, 20), rng.uniform(2.2, 2.5)
    shell(mesh, rng, (wide, deep, tall), (3.0, 4.0, 0.0, 2.05), 0.5)
    for x in np.arange(5.0, wide - 1, 5.2):
        for y in (deep * 0.33, deep * 0.67):
            mesh.block(x, y, 0, tall, 0.5, 0.3)
            if rng.random() < 0.5:
                mesh.block(x, y, tall - 0.35, tall, 0.3, deep * 0.3)
    mesh.block(rng.uniform(6, wide - 6), deep - 1.3, 0, rng.uniform(1.0, tall), rng.uniform(2, 5), 2.4)
    for x in np.arange(4, wide - 2, 5.5):
        mesh.stations.append((x + rng.uniform(-1, 1), deep / 2 + rng.uniform(-1.5, 1.5), 0.0))
    for x in np.arange(1.8, wide - 1, 2.6):
        for y in (2.4, deep - 2.4):
            if rng.random() < 0.5:
                car = Mesh()
                car.block(x, y, 0.2, 0.85, 1.75, 4.3)
                car.block(x, y, 0.85, 1.45, 1.5, 2.2)
                mesh.loose.append(car)
    return mesh


def shelves(rng) -> Mesh:
    """Rows of like shelves with boxes in them in a plain hall."""
    mesh, rows, long = Mesh(), int(rng.integers(3, 5)), rng.uniform(14, 20)
    gap = rng.uniform(2.6, 3.4)
    wide, deep, tall = long + 6, rows * gap + 4, rng.uniform(4.5, 6)
    shell(mesh, rng, (wide, deep, tall), (4.0, 7.0, 0.0, 3.2), 0.4)
    for k in range(rows):
        y = 2.6 + k * gap
        for x in np.arange(3, 3 + long + 0.1, 2.7):
            mesh.block(x, y, 0, 4.0, 0.08, 0.9)
        for z in (0.15, 1.5, 2.9):
            mesh.block(3 + long / 2, y, z, z + 0.08, long, 0.9)
            for x in np.arange(3.2, 3 + long - 1, 0.9):
                if rng.random() < 0.6:
                    mesh.block(x + 0.3, y, z + 0.08, z + rng.uniform(0.3, 1.1), rng.uniform(0.3, 0.7), 0.7)
        for x in (rng.uniform(3, 6), wide - rng.uniform(4, 7)):
            mesh.stations.append((x, y + gap / 2, 0.0))
    return mesh


WORLDS = {
    "house": house,
    "garden": garden,
    "stairwell": stairwell,
    "plant": plant,
    "nave": nave,
    "tunnel": tunnel,
    "garage": garage,
    "shelves": shelves,
    **alike.WORLDS,
    **open_ground.WORLDS,
}
MOST = 9  # stations of a job


def swept(family: str, rng) -> tuple[Mesh, Scanner, list]:
    """A place of a family, its scanner, and what that gives at each station (see ``Scanner.scan``)."""
    place, scanner = WORLDS[family](rng), Scanner.any(rng)
    order = sorted(rng.permutation(len(place.stations))[:MOST])
    out = []
    for k in order:
        there = [m for m in place.loose if rng.random() < 0.9]  # what was carried away
        out.append(scanner.scan(place, there, place.stations[k], rng))
    return place, scanner, out
