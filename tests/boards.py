"""Simulated rooms with targets, for their detection, its tests and its benchmark: boards of any turn and
discs on walls and floor, spheres on poles, among posters, stripes, tiles, heads and jugs (ellipsoids) and
columns.
"""

import numpy as np

FOOTPRINT, SPREAD, NOISE = 0.003, 0.0004, 0.0015  # m at the scanner, and per metre of range; m of range


def room(rng):
    """Size of the room, the scanner's place in it, and boards: (face axis, side, centre (2,), turn, edge)."""
    size = np.array([rng.uniform(5, 11), rng.uniform(4, 9), rng.uniform(2.5, 4)])
    place = np.array([size[0] * rng.uniform(0.3, 0.7), size[1] * rng.uniform(0.3, 0.7), 1.6])
    boards = []
    for _ in range(60):
        axis, side, edge = (
            int(rng.choice([0, 1, 2])),
            int(rng.integers(0, 2)),
            float(np.exp(rng.uniform(np.log(0.05), np.log(0.6)))),
        )
        if axis == 2:
            side = 0
        others = [k for k in range(3) if k != axis]
        centre = np.array([rng.uniform(edge, size[k] - edge) for k in others])
        if (
            all(
                b[0] != axis or b[1] != side or np.linalg.norm(b[2] - centre) > 0.9 * (b[4] + edge)
                for b in boards
            )
            and len(boards) < 14
        ):
            boards.append((axis, side, centre, rng.uniform(0, np.pi), edge))
    return size, place, boards


def hung_discs(rng, size, boards, most=8):
    """Discs clear of the boards and of each other: (face axis, side, centre (2,), radius, lighter
    or darker).
    """
    out = []
    for _ in range(60):
        axis = int(rng.choice([0, 1, 2]))
        side, radius = (
            0 if axis == 2 else int(rng.integers(0, 2)),
            float(np.exp(rng.uniform(np.log(0.03), np.log(0.16)))),
        )
        centre = np.array([rng.uniform(2 * radius, size[k] - 2 * radius) for k in range(3) if k != axis])
        near = [(b[2], 0.9 * b[4]) for b in boards if b[:2] == (axis, side)] + [
            (d[2], 2 * d[3]) for d in out if d[:2] == (axis, side)
        ]
        if all(np.linalg.norm(c - centre) > e + 2 * radius for c, e in near) and len(out) < most:
            out.append((axis, side, centre, radius, bool(rng.integers(0, 2))))
    return out


def stood(rng, size, place, spheres=6, others=4):
    """Things that stand free of each other and of the scanner: (centre (3,), half-axes (3,)); the first are
    spheres on poles of 1 cm, the others heads and jugs.
    """
    things, used = [], [place[:2]]
    for _k in range(200):
        at = rng.uniform([0.6, 0.6], size[:2] - 0.6)
        if len(things) == spheres + others:
            break
        if min(np.linalg.norm(at - u) for u in used) < 0.9:
            continue
        radius = float(np.exp(rng.uniform(np.log(0.04), np.log(0.15))))
        axes = (
            np.full(3, radius)
            if len(things) < spheres
            else radius * np.array([1.0, rng.uniform(0.7, 0.85), rng.uniform(1.15, 1.4)])
        )
        things.append((np.array([*at, rng.uniform(0.6, 2.0)]), axes))
        used.append(at)
    return things


def albedo(axis, side, uv, boards, tiles, discs=()):
    """Reflectance at places (n, 2) of a face."""
    out = np.full(len(uv), 0.55)
    if axis == 2 and side == 0 and tiles:
        out = np.where((np.floor(uv[:, 0] / tiles) + np.floor(uv[:, 1] / tiles)) % 2 == 0, 0.2, 0.7)
    if axis == 1 and side == 1:  # stripes
        out = np.where((uv[:, 0] % 0.5 < 0.1) & (uv[:, 1] < 1.2), 0.25, out)
    if axis == 0 and side == 0:  # a poster
        out = np.where(
            (np.abs(uv - 1.2) < 0.3).all(1), 0.35 + 0.15 * np.sin(9 * uv[:, 0]) * np.cos(7 * uv[:, 1]), out
        )
    for a, s, centre, turn, edge in boards:
        if (a, s) == (axis, side):
            d = uv - centre
            x, y = (
                np.cos(turn) * d[:, 0] + np.sin(turn) * d[:, 1],
                np.cos(turn) * d[:, 1] - np.sin(turn) * d[:, 0],
            )
            out = np.where((np.abs(x) < 0.54 * edge) & (np.abs(y) < 0.54 * edge), 0.8, out)
            out = np.where(
                (np.abs(x) < edge / 2) & (np.abs(y) < edge / 2), np.where(x * y > 0, 0.08, 0.85), out
            )
    for a, s, centre, radius, lighter in discs:
        if (a, s) == (axis, side):
            d = np.hypot(*(uv - centre).T)
            out = np.where(d < 1.7 * radius, 0.15 if lighter else 0.8, out)
            out = np.where(d < radius, 0.85 if lighter else 0.1, out)
    return out


def before(place, rays, ranges, things):
    """Ranges with what stands in the way, and which rays it stops; every thing stands on a pole."""
    out, stopped = ranges.copy(), np.zeros(len(rays), bool)
    for centre, axes in things:
        o, d = (place - centre) / axes, rays / axes
        a, b, c = (d * d).sum(1), (o * d).sum(1), (o * o).sum() - 1
        inside = b * b - a * c
        t = np.where((inside > 0) & (b < 0), (-b - np.sqrt(np.maximum(inside, 0))) / a, np.inf)
        flat, o2 = (rays[:, :2] ** 2).sum(1), (place - centre)[:2]
        b2, c2 = rays[:, :2] @ o2, o2 @ o2 - 0.01**2
        inside = b2 * b2 - flat * c2
        pole = np.where(
            (inside > 0) & (b2 < 0), (-b2 - np.sqrt(np.maximum(inside, 0))) / np.maximum(flat, 1e-9), np.inf
        )
        pole = np.where(
            place[2] + np.where(np.isfinite(pole), pole, 0) * rays[:, 2] < centre[2], pole, np.inf
        )
        t = np.minimum(t, pole)
        stopped |= t < out
        out = np.minimum(out, t)
    return out, stopped


def met(place, rays, size):
    """Range, axis and side of the face that each ray meets."""
    with np.errstate(divide="ignore"):
        t = np.where(rays > 0, (size - place) / rays, np.where(rays < 0, -place / rays, np.inf))
    axis = np.argmin(t, 1)
    return t[np.arange(len(rays)), axis], axis, (rays[np.arange(len(rays)), axis] > 0).astype(int)


def scan(rng, size, place, boards, tiles, step, discs=(), things=()):
    rows, columns = int(np.radians(150) / step), int(2 * np.pi / step)
    row, column = (a.ravel() for a in np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij"))
    el, az = np.radians(-62) + step * row, step * column
    total = np.zeros(len(row))
    for k in range(7):
        spot = (0.5 * FOOTPRINT / 5 + 0.5 * SPREAD) * (0 if k == 0 else 0.8)
        de, da = spot * np.sin(k * np.pi / 3), spot * np.cos(k * np.pi / 3) / np.cos(np.clip(el, -1.4, 1.4))
        e, a = el + de, az + da
        rays = np.stack([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)], 1)
        r, axis, side = met(place, rays, size)
        hit = place + rays * r[:, None]
        value = np.zeros(len(row))
        for ax in range(3):
            for s in (0, 1):
                here = (axis == ax) & (side == s)
                value[here] = albedo(ax, s, np.delete(hit[here], ax, 1), boards, tiles, discs)
        if things:
            r, stopped = before(place, rays, r, things)
            value[stopped] = 0.7
        if k == 0:
            middle, first, face = r, rays, axis
        total += value / 7
    steep = np.abs(first[np.arange(len(row)), face])
    intensity = 50000 * total * (0.3 + 0.7 * steep) + rng.normal(0, 800, len(row))
    xyz = first * (middle + rng.normal(0, NOISE, len(row)))[:, None]
    return row, column, xyz, np.clip(intensity, 0, 65535)
