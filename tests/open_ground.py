"""Simulated places in the open, where slopes tell more than walls: terraces with dry walls and trees in rows,
quarries with benches, bare dunes with a few boulders.
"""

import numpy as np

from tests.meshes import Mesh


def terraces(rng) -> Mesh:
    """Terraces of a hillside, nearly as wide and as high as each other, along a bent contour; trees in rows
    as far apart as each other: one terrace up, or one tree on, it looks much the same.
    """
    mesh, n, long = Mesh(), int(rng.integers(4, 6)), rng.uniform(26, 36)
    wide, tall, every = rng.uniform(3.2, 4.5), rng.uniform(1.2, 1.8), rng.uniform(3.2, 4.2)
    bend, phase = rng.uniform(0.5, 3.0), rng.uniform(0, 6)
    xs = np.arange(0, long + 0.1, 1.5)
    edge = lambda k, x: (
        k * wide + bend * np.sin(x / long * 4 + phase) + rough[k][np.searchsorted(xs, x - 1e-6)]
    )
    rough = rng.normal(0, 0.08, (n + 2, len(xs) + 1))
    level = [k * tall + rng.normal(0, 0.1) for k in range(n + 1)]
    fall = rng.normal(0, 0.03)
    for k in range(n + 1):
        z = lambda x, k=k: level[k] + fall * x
        for x, x1 in zip(xs, xs[1:]):
            y, y1, far, far1 = edge(k, x), edge(k, x1), edge(k + 1, x), edge(k + 1, x1)
            sag = rng.normal(0, 0.04, 4)
            mesh.polygon([x, y, z(x) + sag[0]], [x1, y1, z(x1) + sag[1]], [x1, far1, z(x1) + sag[2]])
            mesh.polygon([x, y, z(x) + sag[0]], [x1, far1, z(x1) + sag[2]], [x, far, z(x) + sag[3]])
            if k < n:  # the wall to the next, leaning a little
                lean = [far + 0.15, far1 + 0.15]
                top = lambda x, k=k: level[k + 1] + fall * x
                mesh.polygon([x, far, z(x) - 0.2], [x1, far1, z(x1) - 0.2], [x1, lean[1], top(x1)])
                mesh.polygon([x, far, z(x) - 0.2], [x1, lean[1], top(x1)], [x, lean[0], top(x)])
        for x in np.arange(rng.uniform(1, every), long - 1, every):
            if rng.random() < 0.75:
                at = x + rng.normal(0, 0.15), edge(k, x) + wide / 2 + rng.normal(0, 0.2)
                mesh.tree(rng, *at, z(x))
        for x in rng.permutation(np.arange(4, long - 4, 7.0))[:2]:
            mesh.stations.append((x + rng.uniform(-1, 1), edge(k, x) + wide * 0.8, z(x)))
    return mesh


def quarry(rng) -> Mesh:
    """Rough faces in benches around a floor with heaps."""
    mesh, step, around = Mesh(), rng.uniform(4, 6), np.linspace(-2.2, 2.2, 40)
    radii = 13 + np.arange(3)[:, None] * rng.uniform(4, 6) + rng.normal(0, 0.5, (3, 40))
    at = lambda r, t, z: [r * np.cos(t), r * np.sin(t), z]
    ground = lambda x, y: 0.15 * np.sin(0.3 * x + 1) * np.cos(0.25 * y)
    mesh.ground(ground, (-24, -18), (18, 18))
    for k in range(3):
        mids = radii[k] + rng.normal(0.3, 0.3, 40)
        for i in range(39):
            t, t1, low, high = around[i], around[i + 1], k * step - 0.3 * (k == 0), (k + 1) * step
            for r, r1, z, q, q1, z1 in (
                (radii[k][i], radii[k][i + 1], low, mids[i], mids[i + 1], (low + high) / 2),
                (mids[i], mids[i + 1], (low + high) / 2, radii[k][i] + 0.4, radii[k][i + 1] + 0.4, high),
            ):
                mesh.polygon(at(r, t, z), at(r1, t1, z), at(q1, t1, z1))
                mesh.polygon(at(r, t, z), at(q1, t1, z1), at(q, t, z1))
            if k < 2:
                out, out1 = radii[k + 1][i] + 0.5, radii[k + 1][i + 1] + 0.5
                mesh.polygon(
                    at(radii[k][i] + 0.3, t, high),
                    at(radii[k][i + 1] + 0.3, t1, high),
                    at(out1, t1, high),
                    at(out, t, high),
                )
    for _ in range(int(rng.integers(3, 8))):
        mesh.ball(rng, [*rng.uniform(-9, 9, 2), 0.0], rng.uniform(0.4, 2.0))
    for x, y in rng.uniform(-8, 8, (6, 2)):
        mesh.stations.append((x, y, ground(x, y)))
    for i in rng.choice(36, 2, replace=False) + 2:
        mesh.stations.append((*at((radii[0][i] + radii[1][i]) / 2, around[i], 0)[:2], step))
    return mesh


def dunes(rng) -> Mesh:
    """Bare hills, and a few boulders."""
    mesh = Mesh()
    waves = [(rng.uniform(0.1, 0.5), *rng.normal(0, 0.25, 2), rng.uniform(0, 6)) for _ in range(6)]
    ground = lambda x, y: sum(a * np.sin(u * x + v * y + p) for a, u, v, p in waves)
    mesh.ground(ground, (-30, -30), (30, 30), 1.5)
    for _ in range(int(rng.integers(3, 12))):
        x, y = rng.uniform(-18, 18, 2)
        mesh.ball(rng, [x, y, ground(x, y)], rng.uniform(0.3, 1.2))
    for x in (-8, 0, 8):
        for y in (-5, 5):
            at = x + rng.uniform(-2, 2), y + rng.uniform(-2, 2)
            mesh.stations.append((*at, ground(*at)))
    return mesh


WORLDS = {"terraces": terraces, "quarry": quarry, "dunes": dunes}
