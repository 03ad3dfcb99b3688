"""Simulated places that look like themselves turned, mirrored or a step on, but for little: cloisters,
rotundas, bridges, offices of like desks, flats that mirror each other; and a cave, in which nothing is flat.
"""

import numpy as np

from tests.meshes import Mesh, corners_of

FLAT = 2.6  # m: the height of a flat


def cloister(rng) -> Mesh:
    """A square yard between four like walks with arcades: a quarter turn shows it again, but for a well and
    some doors.
    """
    mesh, bays, bay, walk, tall = (
        Mesh(),
        int(rng.integers(4, 7)),
        rng.uniform(2.6, 3.4),
        rng.uniform(2.8, 3.6),
        4.2,
    )
    inner, half = bays * bay / 2, bays * bay / 2 + walk
    mesh.block(0, 0, -0.3, 0, 2 * half + 2, 2 * half + 2)
    for k in range(4):
        turn = k * np.pi / 2
        c, s = np.cos(turn), np.sin(turn)
        at = lambda x, y, c=c, s=s: [c * x - s * y, s * x + c * y]
        gaps = []
        if rng.random() < 0.6:
            start = rng.uniform(1, 2 * half - 3)
            gaps = [(start, start + 1.2, 0.0, 2.3)]
        mesh.wall(at(-half, -half), at(half, -half), 0, tall, gaps, 0.5)
        mesh.wall(at(-inner, -inner), at(inner, -inner), 0, 0.9, [(inner - 0.6, inner + 0.6, 0.0, 0.9)], 0.35)
        for b in range(bays + 1):
            mesh.block(*at(-inner + b * bay, -inner), 0, tall - 1.0, 0.4, 0.4, turn)
        mesh.wall(at(-inner, -inner), at(inner, -inner), tall - 1.0, tall + 1.5, [], 0.4)
        corners = [at(-half, -half), at(half, -half), at(inner, -inner), at(-inner, -inner)]
        mesh.polygon(*([*p, tall] for p in corners))
        mesh.stations.append((*at(rng.uniform(-inner, inner), -inner - walk / 2), 0.0))
        if rng.random() < 0.7:
            mesh.stations.append((*at(-half + walk / 2, -half + walk / 2), 0.0))
    mesh.stations.append((*rng.uniform(-inner / 2, inner / 2, 2), 0.0))
    x, y = rng.uniform(-inner / 2, inner / 2, 2)
    if np.hypot(x - mesh.stations[-1][0], y - mesh.stations[-1][1]) > 1.5:
        mesh.pipe([x, y, 0], [x, y, 0.9], 0.8, 16)
    mesh.things(rng, int(rng.integers(1, 6)), (-half + 0.5, -half + 0.5), (half - 0.5, half - 0.5))
    return mesh


def rotunda(rng) -> Mesh:
    """Round, with like niches between like columns, a ring about it and a door or two."""
    mesh, n, radius, tall = Mesh(), int(rng.choice([6, 8, 10])), rng.uniform(5, 7.5), rng.uniform(5, 7)
    ring = radius + rng.uniform(2.2, 3.0)
    mesh.block(0, 0, -0.3, 0, 2 * ring + 1, 2 * ring + 1)
    at = lambda r, t: np.array([r * np.cos(t), r * np.sin(t)])
    step = 2 * np.pi / n
    doors = set(rng.choice(n, int(rng.integers(1, 3)), replace=False).tolist())
    for k in range(n):
        t = k * step
        mesh.pipe([*at(radius, t), 0], [*at(radius, t), tall], 0.4, 16)
        for j in range(4):  # the outer wall, facets
            a, b = at(ring, t + j * step / 4), at(ring, t + (j + 1) * step / 4)
            long = np.linalg.norm(b - a)
            gap = [(long / 2 - 0.5, long / 2 + 0.5, 0.0, 2.2)] if k in doors and j == 1 and long > 1.1 else []
            mesh.wall(a, b, 0, tall, gap, 0.3)
        a, b = at(radius, t), at(radius, t + step)
        mesh.wall(a, b, tall - 1.2, tall, [], 0.4)
        if rng.random() < 0.25:  # a niche that is walled up
            mesh.wall(a, b, 0, tall - 1.2, [], 0.3)
        mesh.polygon([*a, tall], [*b, tall], [0, 0, tall + radius * 0.6])
        mesh.polygon([*a, tall], [*b, tall], [*at(ring, t + step), tall], [*at(ring, t), tall])
        if rng.random() < 0.6:
            mesh.stations.append((*at((radius + ring) / 2, t + step * rng.uniform(0.3, 0.7)), 0.0))
    for _ in range(3):
        mesh.stations.append((*at(rng.uniform(0.5, radius - 1.2), rng.uniform(0, 6.3)), 0.0))
    mesh.things(rng, int(rng.integers(2, 7)), (-radius * 0.7, -radius * 0.7), (radius * 0.7, radius * 0.7))
    return mesh


def bridge(rng) -> Mesh:
    """Like piers in a valley with like banks: half a turn, or a span, shows it again but for the ground."""
    mesh, spans, span, tall = Mesh(), int(rng.integers(3, 5)), rng.uniform(9, 13), rng.uniform(6, 8)
    long, wide = spans * span, rng.uniform(4, 6)
    waves = [(rng.uniform(0.05, 0.25), *rng.normal(0, 0.2, 2), rng.uniform(0, 6)) for _ in range(4)]

    def ground(x, y):
        bank = tall * 0.7 * (2 * abs(x / long - 0.5)) ** 4
        return bank + sum(a * np.sin(u * x + v * y + p) for a, u, v, p in waves)

    mesh.ground(ground, (-6, -20), (long + 6, 20 + wide))
    mesh.block(long / 2, wide / 2, tall, tall + 0.9, long + 4, wide)
    for y in (0.15, wide - 0.15):
        mesh.block(long / 2, y, tall + 0.9, tall + 1.9, long + 4, 0.25)
    for k in range(1, spans):
        mesh.block(k * span, wide / 2, -2, tall, 1.2, wide - 0.8)
    for x in (-1.0, long + 1.0):
        mesh.block(x, wide / 2, -2, tall, 2.0, wide + 2)
    for _ in range(int(rng.integers(0, 5))):
        x, y = rng.uniform(2, long - 2), rng.choice([-1, 1]) * rng.uniform(6, 14)
        mesh.tree(rng, x, y, ground(x, y))
    for k in range(spans):
        for y in rng.permutation([-rng.uniform(3, 8), wide + rng.uniform(3, 8)])[: int(rng.integers(1, 3))]:
            x = span * (k + rng.uniform(0.3, 0.7))
            mesh.stations.append((x, y, ground(x, y)))
    for x in (long * 0.25, long * 0.75):
        mesh.stations.append((x + rng.uniform(-2, 2), wide / 2 + rng.uniform(-1, 1), tall + 0.9))
    return mesh


def office(rng) -> Mesh:
    """One large floor, glazed all around, in which like groups of desks stand in a raster about a core."""
    mesh, nx, ny, step, tall = Mesh(), int(rng.integers(4, 6)), 3, rng.uniform(3.6, 4.4), 2.8
    wide, deep = nx * step + 2, ny * step + 2
    mesh.block(wide / 2, deep / 2, -0.3, 0, wide, deep)
    mesh.block(wide / 2, deep / 2, tall, tall + 0.3, wide, deep)
    for a, b in (
        ([0, 0], [wide, 0]),
        ([wide, deep], [0, deep]),
        ([wide, 0], [wide, deep]),
        ([0, deep], [0, 0]),
    ):
        long = np.hypot(b[0] - a[0], b[1] - a[1])
        mesh.wall(a, b, 0, tall, [(x, x + 1.6, 0.8, 2.5) for x in np.arange(0.4, long - 1.8, 2.0)], 0.3)
    core = rng.uniform(-1, 1)
    mesh.block(wide / 2 + core, deep / 2, 0, tall, step, step * 0.8)
    for i in range(nx):
        for j in range(ny):
            x, y = 1 + step * (i + 0.5), 1 + step * (j + 0.5)
            if abs(x - wide / 2 - core) < step and abs(y - deep / 2) < step * 0.8:
                continue
            mesh.block(x, y, 0.68, 0.72, 1.6, 1.6)
            mesh.block(x, y, 0.72, 1.15, 1.6, 0.04)
            for u, v in ((-0.7, -0.7), (0.7, -0.7), (0.7, 0.7), (-0.7, 0.7)):
                mesh.block(x + u, y + v, 0, 0.68, 0.06, 0.06)
            for v in (-1.1, 1.1):
                chair = Mesh()
                cx, cy = x + rng.normal(0, 0.25), y + v + rng.normal(0, 0.1)
                chair.block(cx, cy, 0.42, 0.5, 0.45, 0.45, rng.uniform(0, 3))
                chair.block(cx, cy, 0.5, 1.0, 0.45, 0.06, rng.uniform(0, 3))
                mesh.loose.append(chair)
            if rng.random() < 0.5:
                mesh.stations.append((x + step / 2 - 0.1, y + rng.uniform(-0.8, 0.8), 0.0))
    mesh.stations = [
        s
        for s in mesh.stations
        if s[0] < wide - 0.7
        and not (abs(s[0] - wide / 2 - core) < step / 2 + 0.5 and abs(s[1] - deep / 2) < step / 2)
    ] or [(0.8, 0.8, 0.0)]
    return mesh


def flats(rng) -> Mesh:
    """Two storeys of two flats about a stair, each a mirror image of its neighbour, furnished anyhow."""
    mesh, hall, tall, top = Mesh(), 2.4, FLAT + 0.3, 2.6
    wide, deep = rng.uniform(5.5, 7), rng.uniform(6.8, 8)
    split, depth = rng.uniform(2.6, 3.4), rng.uniform(3, 4)
    for level in range(2):
        z = level * tall
        for x, y, across, long in (
            (-(wide + hall) / 2, deep / 2, wide, deep),
            ((wide + hall) / 2, deep / 2, wide, deep),
            (0, top / 2 if level else deep / 2, hall, top if level else deep),
        ):
            mesh.block(x, y, z - 0.3, z, across, long)
        for side in (-1, 1):
            flat(mesh, rng, lambda x, y, side=side: [side * (hall / 2 + x), y], (wide, deep, split, depth), z)
        gaps = [] if level else [(0.8, 1.7, 0.0, 2.05)]
        mesh.wall([-hall / 2, 0], [hall / 2, 0], z, z + tall, gaps, 0.3)
        mesh.wall([-hall / 2, deep], [hall / 2, deep], z, z + tall, [(0.8, 1.7, 0.9, 2.0)], 0.3)
        mesh.stations.append((rng.uniform(-0.4, 0.4), 1.5 + rng.uniform(-0.3, 0.3), z))
    for k in range(14):
        mesh.block(
            0.6,
            top + 0.25 * (k + 0.5),
            tall - (k + 1) * tall / 14 - 0.3,
            tall - (k + 1) * tall / 14,
            1.1,
            0.25,
        )
    mesh.stations += [(-0.6, deep - 0.6, 0.0), (0.6, top + 1.9, tall - 8 * tall / 14)]
    mesh.block(0, deep / 2, 2 * tall - 0.3, 2 * tall, 2 * wide + hall, deep + 0.5)
    return mesh


def flat(mesh: Mesh, rng, at, size: tuple, z: float) -> None:
    """Three rooms of a flat on the floor z: ``at`` puts its plan (x, y) into that of the house."""
    wide, deep, split, depth = size
    doors = [(0.6, 1.5, 0.0, 2.05), (wide - 1.6, wide - 0.7, 0.0, 2.05)]
    for a, b, gaps, thick in (
        ([0, 0], [0, deep], [(1.2, 2.1, 0.0, 2.05)], 0.24),
        ([0, 0], [wide, 0], [(1.5, 2.7, 0.9, 2.1)], 0.36),
        ([wide, 0], [wide, deep], [], 0.36),
        ([0, deep], [wide, deep], [(0.8, 1.9, 0.9, 2.1), (wide - 2, wide - 0.9, 0.9, 2.1)], 0.36),
        ([0, depth], [wide, depth], doors, 0.12),
        ([split, depth], [split, deep], [(0.5, 1.3, 0.0, 2.05)], 0.12),
    ):
        mesh.wall(at(*a), at(*b), z, z + FLAT, gaps, thick)
    for low, high in (((0, 0), (wide, depth)), ((0, depth), (split, deep)), ((split, depth), (wide, deep))):
        low, high = np.add(low, 0.5), np.subtract(high, 0.5)
        corners = np.sort([at(*low), at(*high)], axis=0)
        mesh.stations.append((*(corners.mean(0) + rng.uniform(-0.4, 0.4, 2)), z))
        mesh.things(rng, int(rng.integers(3, 7)), *corners, z)


def cave(rng) -> Mesh:
    """A bent tube of rough rock with chambers: nothing flat, nothing upright."""
    mesh, rings, around = Mesh(), 60, 30
    s = np.linspace(0, 1, rings)
    phases = rng.uniform(0, 6.3, 4)
    middle = np.stack([32 * s, 4 * np.sin(5 * s + phases[0]), 0.8 * np.sin(4 * s + phases[1])], 1)
    base = 1.9 + 0.9 * np.sin(9 * s + phases[2]) ** 2
    t = np.arange(around) * 2 * np.pi / around
    rough = rng.normal(0, 0.16, (rings, around))
    radius = np.clip(base[:, None] + rough + 0.25 * np.sin(3 * t + 11 * s[:, None] + phases[3]), 0.9, None)
    skin = np.stack(
        [
            np.broadcast_to(middle[:, :1], radius.shape) + rng.normal(0, 0.08, radius.shape),
            middle[:, 1:2] + radius * np.cos(t),
            middle[:, 2:] + radius * 0.85 * np.sin(t),
        ],
        2,
    )
    for a, b in zip(skin, skin[1:]):
        for k in range(around):
            j = (k + 1) % around
            mesh.polygon(a[k], a[j], b[j])
            mesh.polygon(a[k], b[j], b[k])
    for k in range(4, rings - 3, int(rng.integers(7, 10))):
        mesh.stations.append((*middle[k, :2], float(middle[k, 2] - 1.5 + 0.25)))
    for _ in range(5):
        k = int(rng.integers(3, rings - 3))
        x, y = middle[k, :2] + rng.normal(0, 0.8, 2)
        if all(np.hypot(x - q[0], y - q[1]) > 1.0 for q in mesh.stations):
            mesh.prism(
                corners_of(x, y, 0.6, 0.8, 1.0), middle[k, 2] - 2.5, middle[k, 2] - rng.uniform(0.3, 1)
            )
    return mesh


WORLDS = {
    "cloister": cloister,
    "rotunda": rotunda,
    "bridge": bridge,
    "office": office,
    "flats": flats,
    "cave": cave,
}
