"""Floors of rooms whose walls are not square, with doors, windows, furniture and a round wall, scanned from
one station in each: simulated truth for plans.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit, prange
from shapely.geometry import Polygon

THICK, OUTER = 0.12, 0.3  # m of partitions and of outer walls
HEAD, SILL = 2.05, 0.9


@dataclass
class Floor:
    """``rooms``: corners (n, 2) m of each, counter-clockwise; ``rounds``: (room, centre, radius) of round
    walls; ``openings``: ends (2, 2) on a face, sill and head, rooms that it joins (-1: outside); ``walls``
    (n, 6): ends in plan, from and to height; ``stations`` (n, 3).
    """

    height: float
    rooms: list = field(default_factory=list)
    rounds: list = field(default_factory=list)
    openings: list = field(default_factory=list)
    walls: list = field(default_factory=list)
    stations: list = field(default_factory=list)

    def wall(self, a, b, low, high):
        self.walls.append((*a, *b, low, high))


def _arc(a, b, sagitta, n=60):
    """Points from a to b on an arc to the right of that way, with its centre and radius."""
    chord, middle = np.linalg.norm(b - a), (a + b) / 2
    out = np.array([(b - a)[1], -(b - a)[0]]) / chord
    radius = (chord**2 / 4 + sagitta**2) / (2 * sagitta)
    centre = middle - out * (radius - sagitta)
    angle = lambda p: np.arctan2(*(p - centre)[::-1])
    turn = np.linspace(angle(a), angle(a) + (angle(b) - angle(a)) % (2 * np.pi), n)
    return centre + radius * np.stack([np.cos(turn), np.sin(turn)], 1), centre, radius


def _pieces(floor, a, b, gaps):
    """The face from a to b with its openings (from, to, sill, head) left open."""
    along, at = (b - a) / np.linalg.norm(b - a), a
    for start, stop, sill, head in sorted(gaps):
        floor.wall(at, a + start * along, 0, floor.height)
        floor.wall(a + start * along, a + stop * along, head, floor.height)
        if sill > 0:
            floor.wall(a + start * along, a + stop * along, 0, sill)
        at = a + stop * along
    floor.wall(at, b, 0, floor.height)


def floor_of(rng, nx=3, ny=2, rounded=True, furnished=True) -> Floor:
    """A floor of nx × ny rooms."""
    floor = Floor(float(rng.uniform(2.4, 3.1)))
    x = np.cumsum(np.r_[0, rng.uniform(3.0, 5.5, nx)])
    y = np.cumsum(np.r_[0, rng.uniform(3.0, 5.0, ny)])
    knots = np.stack(np.meshgrid(x, y, indexing="ij"), -1) + rng.uniform(-0.25, 0.25, (nx + 1, ny + 1, 2))
    inner = {}
    for i in range(nx):
        for j in range(ny):
            quad = knots[[i, i + 1, i + 1, i], [j, j, j + 1, j + 1]]
            inset = Polygon(quad).buffer(-THICK / 2, join_style="mitre")
            corners = np.array(inset.exterior.coords)[:-1]
            corners = corners if inset.exterior.is_ccw else corners[::-1]
            first = int(np.argmin(np.linalg.norm(corners - quad[0], axis=1)))
            inner[i, j] = np.roll(corners, -first, 0)
    gaps = {key: [[] for _ in range(4)] for key in inner}
    number = {key: k for k, key in enumerate(inner)}
    sides = ((0, -1), (1, 0), (0, 1), (-1, 0))
    round_room = (nx - 1, int(rng.integers(ny))) if rounded else None
    for (i, j), corners in inner.items():
        for side, (di, dj) in enumerate(sides):
            other = (i + di, j + dj)
            a, b = corners[side], corners[(side + 1) % 4]
            along, length = (b - a) / np.linalg.norm(b - a), np.linalg.norm(b - a)
            if other in inner and (di + dj > 0):
                wide = rng.uniform(0.75, 1.0)
                start = rng.uniform(0.3, length - wide - 0.3)
                ends = np.array([a + start * along, a + (start + wide) * along])
                gaps[i, j][side].append((start, start + wide, 0.0, HEAD))
                c = inner[other][(side + 2) % 4]
                back = -along
                s = (ends[1] - c) @ back
                gaps[other][(side + 2) % 4].append((s, s + wide, 0.0, HEAD))
                floor.openings.append((ends, 0.0, HEAD, (number[i, j], number[other])))
                normal = np.array([along[1], -along[0]])
                for end in ends:
                    floor.wall(end, end + THICK * normal, 0, HEAD)
            elif other not in inner and not ((i, j) == round_room and side == 1) and rng.random() < 0.6:
                wide = rng.uniform(0.8, 1.4)
                start = rng.uniform(0.4, length - wide - 0.4)
                ends = np.array([a + start * along, a + (start + wide) * along])
                gaps[i, j][side].append((start, start + wide, SILL, HEAD))
                floor.openings.append((ends, SILL, HEAD, (number[i, j], -1)))
                normal = np.array([along[1], -along[0]])
                for end in ends:
                    floor.wall(end, end + OUTER * normal, SILL, HEAD)
    for key, corners in inner.items():
        outline = []
        for side in range(4):
            a, b = corners[side], corners[(side + 1) % 4]
            if key == round_room and side == 1:
                way, centre, radius = _arc(a, b, rng.uniform(0.4, 0.9))
                for p, q in zip(way, way[1:]):
                    floor.wall(p, q, 0, floor.height)
                floor.rounds.append((number[key], centre, radius))
                outline += list(way[:-1])
            else:
                _pieces(floor, a, b, gaps[key][side])
                outline.append(a)
        floor.rooms.append(np.array(outline))
        middle = corners.mean(0) + rng.uniform(-0.4, 0.4, 2)
        floor.stations.append((*middle, rng.uniform(1.4, 1.7)))
        for _ in range(int(rng.integers(2, 5)) if furnished else 0):
            _furnish(floor, rng, corners, middle, [g for side in gaps[key] for g in side])
    low, high = knots.reshape(-1, 2).min(0) - 8, knots.reshape(-1, 2).max(0) + 8
    box = [low, [high[0], low[1]], high, [low[0], high[1]]]
    for a, b in zip(box, box[1:] + box[:1]):  # what is seen through windows
        floor.wall(a, b, 0, 6.0)
    return floor


def _furnish(floor, rng, corners, station, gaps):
    """A cupboard, table or shelf along a wall, in front of no opening."""
    side = int(rng.integers(4))
    a, b = corners[side], corners[(side + 1) % 4]
    along, length = (b - a) / np.linalg.norm(b - a), np.linalg.norm(b - a)
    wide, deep, high = rng.uniform(0.5, 1.6), rng.uniform(0.3, 0.6), rng.choice([0.75, 1.2, 1.9, 2.1])
    start = rng.uniform(0.1, max(length - wide - 0.1, 0.11))
    inward = np.array([-along[1], along[0]])
    p = a + start * along + 0.01 * inward
    box = [p, p + wide * along, p + wide * along + deep * inward, p + deep * inward]
    if start + wide > length - 0.05 or np.linalg.norm(np.mean(box, 0) - station) < 1.0:
        return
    for other in floor.openings:
        if min(np.linalg.norm(other[0].mean(0) - q) for q in (*box, np.mean(box, 0))) < 1.3:
            return
    for q, r in zip(box, box[1:] + box[:1]):
        floor.wall(q, r, 0, float(high))


@njit(parallel=True, cache=True)
def _cast(origin, rays, walls, height, extent):
    out = np.full(len(rays), np.inf)
    for k in prange(len(rays)):
        dx, dy, dz = rays[k]
        best = np.inf
        for w in range(len(walls)):
            x1, y1, x2, y2, low, high = walls[w]
            ex, ey = x2 - x1, y2 - y1
            cross = dx * ey - dy * ex
            if abs(cross) < 1e-12:
                continue
            t = ((x1 - origin[0]) * ey - (y1 - origin[1]) * ex) / cross
            s = ((x1 - origin[0]) * dy - (y1 - origin[1]) * dx) / cross
            if t > 0 and t < best and s >= 0 and s <= 1:
                z = origin[2] + t * dz
                if z >= low and z <= high:
                    best = t
        flat = (-origin[2] if dz < 0 else height - origin[2]) / dz if abs(dz) > 1e-9 else np.inf
        if flat < best:
            x, y = origin[0] + flat * dx, origin[1] + flat * dy
            if dz < 0 or (extent[0] < x < extent[2] and extent[1] < y < extent[3]):
                best = flat
        out[k] = best
    return out


def scanned(floor: Floor, station, rng, rows=420, columns=1300, noise=0.002):
    """Points (n, 3) in the floor's frame that one scan from a station sees."""
    el = np.radians(-60 + 150 * (np.arange(rows) + 0.5) / rows)
    az = 2 * np.pi * np.arange(columns) / columns
    el, az = (a.ravel() for a in np.meshgrid(el, az, indexing="ij"))
    rays = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], 1)
    walls = np.array(floor.walls, float)
    everywhere = np.concatenate(floor.rooms)
    extent = np.r_[everywhere.min(0) - 0.3, everywhere.max(0) + 0.3]
    r = _cast(np.array(station, float), rays, walls, floor.height, extent)
    hit = np.isfinite(r) & (r < 40)
    measured = r[hit] + rng.normal(0, noise, int(hit.sum()))
    return np.array(station) + rays[hit] * measured[:, None]
