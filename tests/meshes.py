"""Meshes of triangles, and a scanner with mixed pixels, glass, what returns nothing, noise that grows with
range, and any grid: for simulated places of another kind than those in ``places``.
"""

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numba import njit

from terrazza.core.geometry import rigid

PLAIN, GLASS, DARK = 0.0, 0.85, -0.5  # what a surface lets through, or (below zero) returns nothing of
TALL = 1.8  # m: a person


@dataclass
class Mesh:
    """``faces``: triangles (3, 3), ``sorts`` of them, what is ``loose`` and elsewhere in another scan now and
    then, and ``stations`` (x, y, floor).
    """

    faces: list = field(default_factory=list)
    sorts: list = field(default_factory=list)
    loose: list = field(default_factory=list)
    stations: list = field(default_factory=list)

    def polygon(self, *corners, sort: float = PLAIN) -> None:
        """A convex face."""
        points = np.array(corners, float)
        for k in range(1, len(points) - 1):
            self.faces.append(points[[0, k, k + 1]])
            self.sorts.append(sort)

    def prism(self, plan, low: float, high, sort: float = PLAIN) -> None:
        """A convex plan (n, 2) from ``low`` to ``high`` (m, or one for each corner)."""
        plan, tops = np.array(plan, float), np.broadcast_to(high, len(plan))
        top, foot = np.c_[plan, tops], np.c_[plan, np.full(len(plan), low)]
        self.polygon(*top, sort=sort)
        self.polygon(*foot, sort=sort)
        for k in range(len(plan)):
            j = (k + 1) % len(plan)
            self.polygon(foot[k], foot[j], top[j], top[k], sort=sort)

    def block(self, x, y, low, high, wide, deep, turn=0.0, sort: float = PLAIN) -> None:
        self.prism(corners_of(x, y, wide, deep, turn), low, high, sort)

    def pipe(self, start, stop, radius: float, sides: int = 12, sort: float = PLAIN) -> None:
        """A round thing from one point (3,) to another."""
        start, stop = np.array(start, float), np.array(stop, float)
        axis = (stop - start) / np.linalg.norm(stop - start)
        side = np.cross(axis, [0, 0, 1.0] if abs(axis[2]) < 0.9 else [1.0, 0, 0])
        side /= np.linalg.norm(side)
        t = np.arange(sides) * 2 * np.pi / sides
        ring = radius * (np.cos(t)[:, None] * side + np.sin(t)[:, None] * np.cross(axis, side))
        self.polygon(*(start + ring), sort=sort)
        self.polygon(*(stop + ring), sort=sort)
        for k in range(sides):
            j = (k + 1) % sides
            self.polygon(start + ring[k], start + ring[j], stop + ring[j], stop + ring[k], sort=sort)

    def wall(self, a, b, low, high, gaps=(), thick=0.15, glazed=True) -> None:
        """A wall over the plan from a to b with gaps (from, to, sill, head; m along it): doors, and glazed
        windows.
        """
        a, b = np.array(a, float), np.array(b, float)
        long = np.linalg.norm(b - a)
        along, turn = (b - a) / long, np.arctan2(*(b - a)[::-1])
        cuts = sorted({0.0, long, *(g for gap in gaps for g in gap[:2])})
        for start, stop in zip(cuts, cuts[1:]):
            gap = next((g for g in gaps if g[0] <= start and stop <= g[1]), None)
            middle = a + along * (start + stop) / 2
            for foot, top in [(low, high)] if gap is None else [(low, low + gap[2]), (low + gap[3], high)]:
                if top > foot:
                    self.block(*middle, foot, top, stop - start, thick, turn)
            if gap is not None and gap[2] > 0 and glazed:
                ends = [a + along * start, a + along * stop]
                at = lambda p, z: [*p, low + z]
                self.polygon(
                    at(ends[0], gap[2]),
                    at(ends[1], gap[2]),
                    at(ends[1], gap[3]),
                    at(ends[0], gap[3]),
                    sort=GLASS,
                )

    def things(self, rng, n: int, low, high, floor=0.0) -> None:
        """Furniture that stands anyhow in a rectangle of the plan, off the stations."""
        for _ in range(n):
            x, y = rng.uniform(low, high)
            if all(np.hypot(x - s[0], y - s[1]) > 1.0 for s in self.stations):
                one = Mesh()
                sort = DARK if rng.random() < 0.15 else PLAIN
                if rng.random() < 0.3:
                    one.pipe([x, y, floor], [x, y, floor + rng.uniform(0.4, 1.9)], rng.uniform(0.1, 0.45))
                else:
                    tall, wide, deep = rng.uniform(0.4, 2.0), rng.uniform(0.3, 1.5), rng.uniform(0.3, 0.7)
                    one.block(x, y, floor, floor + tall, wide, deep, rng.uniform(0, 3.1), sort)
                self.loose.append(one)

    def tree(self, rng, x, y, z) -> None:
        tall = rng.uniform(2, 5)
        lean = rng.normal(0, 0.2, 2)
        self.pipe([x, y, z - 0.3], [x + lean[0], y + lean[1], z + tall], rng.uniform(0.06, 0.25), 7)
        for _ in range(3):
            middle = np.array([x, y, z + tall]) + rng.normal(0, 0.5, 3)
            self.ball(rng, middle, rng.uniform(0.6, 1.3))

    def ball(self, rng, middle, radius: float) -> None:
        """A rough lump."""
        rings = [np.array([[0, 0, 1.0]] * 6)]
        for up in (0.5, -0.5):
            t = np.arange(6) * np.pi / 3 + rng.uniform(0, 1)
            flat = np.sqrt(1 - up * up)
            rings.append(np.c_[flat * np.cos(t), flat * np.sin(t), np.full(6, up)])
        rings.append(np.array([[0, 0, -1.0]] * 6))
        rings = [middle + radius * r * rng.uniform(0.8, 1.2, (6, 1)) for r in rings]
        for one, two in zip(rings, rings[1:]):
            for k in range(6):
                j = (k + 1) % 6
                self.polygon(one[k], one[j], two[j], two[k])

    def ground(self, height: Callable[..., np.ndarray], low, high, cell=2.0) -> None:
        xs, ys = (np.arange(low[k], high[k] + cell, cell) for k in (0, 1))
        for x, x1 in zip(xs, xs[1:]):
            for y, y1 in zip(ys, ys[1:]):
                p = [[u, v, float(height(u, v))] for u, v in ((x, y), (x1, y), (x1, y1), (x, y1))]
                self.polygon(*p[:3])
                self.polygon(p[0], p[2], p[3])

    def seen(self, more: "list[Mesh]") -> tuple[np.ndarray, np.ndarray]:
        """All triangles (n, 3, 3) and their sorts (n,), those of ``more`` too."""
        return (
            np.concatenate([np.array(m.faces).reshape(-1, 3, 3) for m in (self, *more)]),
            np.concatenate([np.array(m.sorts, float) for m in (self, *more)]),
        )

    def clear(self) -> Callable[[np.ndarray, np.ndarray], np.ndarray]:
        """What tells from a point (3,) along rays (n, 3) how far (m) the first thing is, infinite where there
        is none, without noise and through all glass.
        """
        faces, sorts = self.seen(self.loose)
        sorts = np.maximum(sorts, PLAIN)
        return lambda origin, rays: cast(origin, rays, faces, sorts, np.zeros(len(rays)))[0]


def corners_of(x, y, wide, deep, turn) -> np.ndarray:
    """The plan (4, 2) of a rectangle."""
    half = np.array([[-wide, -deep], [wide, -deep], [wide, deep], [-wide, deep]]) / 2
    c, s = np.cos(turn), np.sin(turn)
    return half @ np.array([[c, s], [-s, c]]) + [x, y]


@njit(cache=True)
def cast(origin, rays, faces, sorts, luck):
    """Range (m) and cosine of the incidence of each ray at what it meets first: infinite where there is
    nothing; ``luck`` (n,) of 0 to 1 decides what glass lets through.
    """
    n = len(faces)
    edge1, edge2, normal, to = np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3)), np.empty((n, 3))
    middle, size = np.empty((n, 3)), np.empty(n)
    for k in range(n):
        edge1[k], edge2[k], to[k] = faces[k, 1] - faces[k, 0], faces[k, 2] - faces[k, 0], origin - faces[k, 0]
        normal[k] = np.cross(edge1[k], edge2[k])
        middle[k] = (faces[k, 0] + faces[k, 1] + faces[k, 2]) / 3 - origin
        size[k] = 0.0
        for c in range(3):
            size[k] = max(size[k], np.sum((faces[k, c] - origin - middle[k]) ** 2))
    out, flat = np.full(len(rays), np.inf), np.ones(len(rays))
    for i in range(len(rays)):
        d = rays[i]
        for k in range(n):
            m = middle[k]
            reach = m[0] * d[0] + m[1] * d[1] + m[2] * d[2]
            if m[0] ** 2 + m[1] ** 2 + m[2] ** 2 - reach * reach > size[k]:
                continue
            if sorts[k] > 0 and luck[i] < sorts[k]:
                continue
            px = d[1] * edge2[k, 2] - d[2] * edge2[k, 1]
            py = d[2] * edge2[k, 0] - d[0] * edge2[k, 2]
            pz = d[0] * edge2[k, 1] - d[1] * edge2[k, 0]
            det = edge1[k, 0] * px + edge1[k, 1] * py + edge1[k, 2] * pz
            if abs(det) < 1e-12:
                continue
            u = (to[k, 0] * px + to[k, 1] * py + to[k, 2] * pz) / det
            if u < 0 or u > 1:
                continue
            qx = to[k, 1] * edge1[k, 2] - to[k, 2] * edge1[k, 1]
            qy = to[k, 2] * edge1[k, 0] - to[k, 0] * edge1[k, 2]
            qz = to[k, 0] * edge1[k, 1] - to[k, 1] * edge1[k, 0]
            v = (d[0] * qx + d[1] * qy + d[2] * qz) / det
            if v < 0 or u + v > 1:
                continue
            t = (edge2[k, 0] * qx + edge2[k, 1] * qy + edge2[k, 2] * qz) / det
            if 0.3 < t < out[i]:
                out[i] = t if sorts[k] >= 0 or luck[i] > -sorts[k] else np.inf
                c = normal[k, 0] * d[0] + normal[k, 1] * d[1] + normal[k, 2] * d[2]
                flat[i] = abs(c) / np.sqrt(np.sum(normal[k] ** 2))
    return out, flat


@dataclass(frozen=True)
class Scanner:
    """Of one job: ``columns`` of its grid, whether they go ``clockwise``, how far it sees (m), noise (m, and
    a metre of range), the share of edges that come out mixed, and up to what lean (rad) it stands.
    """

    columns: int
    clockwise: bool
    farthest: float
    noise: tuple[float, float]
    mixed: float
    lean: float

    @classmethod
    def any(cls, rng) -> "Scanner":
        return cls(
            int(rng.choice([480, 600, 720, 900])),
            bool(rng.random() < 0.5),
            rng.uniform(30, 80),
            (rng.uniform(0.0005, 0.002), rng.uniform(0, 0.0001)),
            rng.uniform(0.2, 0.8),
            np.radians(rng.choice([0.01, 0.01, 1.5])),
        )

    def grid(self) -> tuple[int, int]:
        return int(self.columns * 152 / 360), self.columns

    def scan(self, place: Mesh, moved: "list[Mesh]", station, rng):
        """One sweep from a station: its true pose (4, 4), the rows and columns that returned, points (n, 3)
        in its own frame.
        """
        rows, columns = self.grid()
        row, column = (a.ravel() for a in np.meshgrid(np.arange(rows), np.arange(columns), indexing="ij"))
        step = 2 * np.pi / columns
        up, way = np.pi / 2 - (row + 0.5) * step, column * step * (-1 if self.clockwise else 1)
        rays = np.stack([np.cos(up) * np.cos(way), np.cos(up) * np.sin(way), np.sin(up)], 1)
        tilt = rng.normal(0, self.lean / 2, 2).clip(-self.lean, self.lean)
        x, y, floor = station
        pose = rigid.make(
            rigid.rotation_from(np.append(tilt, 0)) @ rigid.about_z(rng.uniform(-np.pi, np.pi)),
            np.array([x, y, floor + rng.uniform(1.2, 1.9)]),
        )
        people = Mesh()
        for _ in range(int(rng.integers(0, 3))):
            t, r = rng.uniform(0, 6.3), rng.uniform(1.0, 3.5)
            people.pipe(
                [x + r * np.cos(t), y + r * np.sin(t), floor],
                [x + r * np.cos(t), y + r * np.sin(t), floor + TALL],
                0.22,
                8,
            )
        faces, sorts = place.seen([*moved, people])
        r, cosine = cast(pose[:3, 3], rays @ pose[:3, :3].T, faces, sorts, rng.random(len(rays)))
        r[(r > self.farthest) | (rng.random(len(r)) < 0.01) | (cosine < 0.02)] = np.inf
        r += rng.normal(0, 1, len(r)) * (self.noise[0] + self.noise[1] * np.where(np.isfinite(r), r, 0))
        r = self._mixed(r.reshape(rows, columns), rng).ravel()
        hit = np.isfinite(r)
        return pose, row[hit], column[hit], rays[hit] * r[hit, None]

    def _mixed(self, r: np.ndarray, rng) -> np.ndarray:
        """Ranges (rows, columns) in which the beam spans two things at some edges."""
        beside = np.roll(r, 1, 1)
        edge = np.isfinite(r) & np.isfinite(beside) & (rng.random(r.shape) < self.mixed)
        edge &= np.abs(np.where(edge, r - np.where(edge, beside, 0), 0)) > 0.05
        return np.where(
            edge, beside + rng.random(r.shape) * np.where(edge, r - np.where(edge, beside, 0), 0), r
        )
