"""Simulated rooms with checkerboards, for target detection, its tests and its benchmark: boards of any turn on walls and floor, among posters, stripes and tiles."""

import numpy as np

FOOTPRINT, SPREAD, NOISE = 0.003, 0.0004, 0.0015  # m at the scanner, and per metre of range; m of range


def room(rng):
    """Size of the room, the scanner's place in it, and boards: (face axis, side, centre (2,), turn, edge)."""
    size = np.array([rng.uniform(5, 11), rng.uniform(4, 9), rng.uniform(2.5, 4)])
    place = np.array([size[0] * rng.uniform(0.3, 0.7), size[1] * rng.uniform(0.3, 0.7), 1.6])
    boards = []
    for _ in range(60):
        axis, side, edge = int(rng.choice([0, 1, 2])), int(rng.integers(0, 2)), float(np.exp(rng.uniform(np.log(0.05), np.log(0.6))))
        if axis == 2:
            side = 0
        others = [k for k in range(3) if k != axis]
        centre = np.array([rng.uniform(edge, size[k] - edge) for k in others])
        if all(b[0] != axis or b[1] != side or np.linalg.norm(b[2] - centre) > 0.9 * (b[4] + edge) for b in boards) and len(boards) < 14:
            boards.append((axis, side, centre, rng.uniform(0, np.pi), edge))
    return size, place, boards


def albedo(axis, side, uv, boards, tiles):
    """Reflectance at places (n, 2) of a face."""
    out = np.full(len(uv), 0.55)
    if axis == 2 and side == 0 and tiles:
        out = np.where((np.floor(uv[:, 0] / tiles) + np.floor(uv[:, 1] / tiles)) % 2 == 0, 0.2, 0.7)
    if axis == 1 and side == 1:  # stripes
        out = np.where((uv[:, 0] % 0.5 < 0.1) & (uv[:, 1] < 1.2), 0.25, out)
    if axis == 0 and side == 0:  # a poster
        out = np.where((np.abs(uv - 1.2) < 0.3).all(1), 0.35 + 0.15 * np.sin(9 * uv[:, 0]) * np.cos(7 * uv[:, 1]), out)
    for a, s, centre, turn, edge in boards:
        if (a, s) == (axis, side):
            d = uv - centre
            x, y = np.cos(turn) * d[:, 0] + np.sin(turn) * d[:, 1], np.cos(turn) * d[:, 1] - np.sin(turn) * d[:, 0]
            out = np.where((np.abs(x) < 0.54 * edge) & (np.abs(y) < 0.54 * edge), 0.8, out)
            out = np.where((np.abs(x) < edge / 2) & (np.abs(y) < edge / 2), np.where(x * y > 0, 0.08, 0.85), out)
    return out


def met(place, rays, size):
    """Range, axis and side of the face that each ray meets."""
    with np.errstate(divide="ignore"):
        t = np.where(rays > 0, (size - place) / rays, np.where(rays < 0, -place / rays, np.inf))
    axis = np.argmin(t, 1)
    return t[np.arange(len(rays)), axis], axis, (rays[np.arange(len(rays)), axis] > 0).astype(int)


def scan(rng, size, place, boards, tiles, step):
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
                value[here] = albedo(ax, s, np.delete(hit[here], ax, 1), boards, tiles)
        if k == 0:
            middle, first, face = r, rays, axis
        total += value / 7
    steep = np.abs(first[np.arange(len(row)), face])
    intensity = 50000 * total * (0.3 + 0.7 * steep) + rng.normal(0, 800, len(row))
    xyz = first * (middle + rng.normal(0, NOISE, len(row)))[:, None]
    return row, column, xyz, np.clip(intensity, 0, 65535)
