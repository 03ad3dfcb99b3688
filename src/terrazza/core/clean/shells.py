"""How far points lie from a surface: a plane, a sphere, a cylinder, a vault that bends, or triangles.

Distances are signed: positive on the side of the scanner or the inside, where a side is meant.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.interpolate import make_interp_spline
from scipy.spatial import cKDTree

from terrazza.core.measure import fits

RING, STRETCH = 1.0, 0.3  # m: from one circle of a vault to the next, and how much of it each is fitted to
CLOSE = 0.1  # m: pieces that stand for its axis
FEWEST = 30  # points of a stretch
NEAR = 24  # triangles about a point that are looked at
SOME, TRIALS = 2000, 80  # points and circles among which a first one is looked for
STEPS = 3  # rounds of the fit, each with what is near to the one before


@dataclass(frozen=True)
class Plane:
    """``normal · p - distance`` (m)."""

    normal: np.ndarray
    distance: float

    def away(self, xyz: np.ndarray) -> np.ndarray:
        return xyz @ self.normal - self.distance

    def along(self, xyz: np.ndarray) -> np.ndarray:
        """Mask of the points beside the surface at all (n,)."""
        return np.ones(len(xyz), bool)


@dataclass(frozen=True)
class Sphere:
    """``radius - |p - centre|`` (m): positive inside."""

    centre: np.ndarray
    radius: float

    def away(self, xyz: np.ndarray) -> np.ndarray:
        return self.radius - np.linalg.norm(xyz - self.centre, axis=1)

    def along(self, xyz: np.ndarray) -> np.ndarray:
        return np.ones(len(xyz), bool)


class Vault:
    """A round thing about an axis that may bend: ``axis`` (k, 3) and ``radius`` (k,) of circles close
    together along it; positive inside.  A cylinder has two.
    """

    def __init__(self, axis: np.ndarray, radius: np.ndarray):
        self.axis, self.radius = np.asarray(axis, float), np.asarray(radius, float)
        self.tree = cKDTree(self.axis)

    def _foot(self, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Of the nearest piece of the axis: its number (n,), how far along it (below 0 and above 1 only
        beyond the ends), and the distance from it.
        """
        last = len(self.axis) - 2
        knot = self.tree.query(xyz)[1]
        best = np.full(len(xyz), np.inf)
        piece, share = np.zeros(len(xyz), int), np.zeros(len(xyz))
        for k in (np.maximum(knot - 1, 0), np.minimum(knot, last)):
            start, run = self.axis[k], self.axis[k + 1] - self.axis[k]
            t = ((xyz - start) * run).sum(1) / (run * run).sum(1)
            t = np.where(k > 0, np.maximum(t, 0), t)
            t = np.where(k < last, np.minimum(t, 1), t)
            off = np.linalg.norm(xyz - start - t[:, None] * run, axis=1)
            nearer = off < best
            best, piece = np.where(nearer, off, best), np.where(nearer, k, piece)
            share = np.where(nearer, t, share)
        return piece, share, best

    def away(self, xyz: np.ndarray) -> np.ndarray:
        piece, share, off = self._foot(xyz)
        inner = np.clip(share, 0, 1)
        return (1 - inner) * self.radius[piece] + inner * self.radius[piece + 1] - off

    def along(self, xyz: np.ndarray) -> np.ndarray:
        piece, share, _ = self._foot(xyz)
        return ~(((piece == 0) & (share < 0)) | ((piece == len(self.axis) - 2) & (share > 1)))


class Triangles:
    """A surface of triangles (vertices (n, 3), indices (m, 3)); positive on the side that its faces are
    counter-clockwise from.  What is farther than ``reach`` (m) has no distance (NaN).
    """

    def __init__(self, vertices: np.ndarray, triangles: np.ndarray, reach: float):
        self.corners = _parted(np.ascontiguousarray(vertices[triangles], float), 2 * reach)
        self.reach = reach
        edges = np.linalg.norm(self.corners - np.roll(self.corners, 1, axis=1), axis=2).max(1)
        self.middle, self.size = self.corners.mean(1), edges
        self.tree = cKDTree(self.middle)

    def away(self, xyz: np.ndarray) -> np.ndarray:
        out = np.full(len(xyz), np.nan)
        usual = float(np.quantile(self.size, 0.98))
        for start in range(0, len(xyz), 100_000):
            some = np.ascontiguousarray(xyz[start : start + 100_000])
            most = min(NEAR, len(self.middle))
            _, near = self.tree.query(some, k=most, distance_upper_bound=self.reach + usual)
            near = near.reshape(len(some), -1)
            out[start : start + len(some)] = _nearest(some, near.astype(np.int64), self.corners, self.reach)
        return out

    def along(self, xyz: np.ndarray) -> np.ndarray:
        return ~np.isnan(self.away(xyz))


def _parted(corners: np.ndarray, longest: float) -> np.ndarray:
    """Triangles (m, 3, 3), the long ones halved until no edge is longer, or they are a million."""
    while len(corners) < 1_000_000:
        edges = np.linalg.norm(corners - np.roll(corners, -1, axis=1), axis=2)
        large = edges.max(1) > longest
        if not large.any():
            break
        turned = np.stack([np.roll(c, -k, axis=0) for c, k in zip(corners[large], edges[large].argmax(1))])
        middle = (turned[:, 0] + turned[:, 1]) / 2
        halves = [
            np.stack([turned[:, 0], middle, turned[:, 2]], 1),
            np.stack([middle, turned[:, 1], turned[:, 2]], 1),
        ]
        corners = np.concatenate([corners[~large], *halves])
    return corners


@njit(cache=True, nogil=True)
def _nearest(xyz, near, corners, reach):
    """Signed distance to the nearest of some triangles (Ericson 2005, Real-Time Collision Detection,
    5.1.5).
    """
    out = np.full(len(xyz), np.nan)
    for i in range(len(xyz)):
        p, best = xyz[i], reach * reach
        for k in near[i]:
            if k >= len(corners):
                break
            a, b, c = corners[k, 0], corners[k, 1], corners[k, 2]
            ab, ac, ap = b - a, c - a, p - a
            d1, d2 = np.dot(ab, ap), np.dot(ac, ap)
            bp = p - b
            d3, d4 = np.dot(ab, bp), np.dot(ac, bp)
            cp = p - c
            d5, d6 = np.dot(ab, cp), np.dot(ac, cp)
            vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
            if d1 <= 0 and d2 <= 0:
                q = a
            elif d3 >= 0 and d4 <= d3:
                q = b
            elif d6 >= 0 and d5 <= d6:
                q = c
            elif vc <= 0 and d1 >= 0 and d3 <= 0:
                q = a + ab * (d1 / (d1 - d3))
            elif vb <= 0 and d2 >= 0 and d6 <= 0:
                q = a + ac * (d2 / (d2 - d6))
            elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
                q = b + (c - b) * ((d4 - d3) / ((d4 - d3) + (d5 - d6)))
            else:
                q = a + ab * (vb / (va + vb + vc)) + ac * (vc / (va + vb + vc))
            off = p - q
            square = np.dot(off, off)
            if square <= best:
                best = square
                side = np.dot(off, np.cross(ab, ac))
                out[i] = np.sqrt(square) if side >= 0 else -np.sqrt(square)
    return out


def vault(points: np.ndarray, line: np.ndarray, rough: float) -> Vault:
    """A vault along a line (k, 3): circles are fitted across it to thin stretches of the points (n, 3), ends
    included, robustly against what stands before or behind, twice over: first across the line, then across
    the axis that came of it.  ``rough`` (m) is how far the line may be off; ValueError where nothing round
    runs along it.
    """
    for _ in range(2):
        along = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
        at = np.linspace(0, along[-1], max(int(along[-1] / RING), 2) + 1)
        smooth = make_interp_spline(along, line, k=min(3, len(line) - 1))
        centres, ways = smooth(at), smooth.derivative()(at)
        found = [_across(points, c, w / np.linalg.norm(w), rough) for c, w in zip(centres, ways)]
        there = [k for k, f in enumerate(found) if f is not None]
        if len(there) < 2:
            raise ValueError("too few points along the line")
        line, radius = np.array([found[k][0] for k in there]), np.array([found[k][1] for k in there])
    along = np.r_[0, np.cumsum(np.linalg.norm(np.diff(line, axis=0), axis=1))]
    close = np.linspace(0, along[-1], max(int(along[-1] / CLOSE), 1) + 1)
    k = min(3, len(line) - 1)
    return Vault(make_interp_spline(along, line, k=k)(close), make_interp_spline(along, radius, k=k)(close))


def _across(points, centre, way, rough) -> tuple[np.ndarray, float] | None:
    """Centre (3,) and radius of the circle across a direction at a place."""
    u, v = across(way)
    off = points - centre
    near = np.abs(off @ way) < STRETCH / 2
    found = ring(np.stack([off[near] @ u, off[near] @ v], 1), rough)
    return None if found is None else (centre + found[0][0] * u + found[0][1] * v, found[1])


def across(way: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit directions (3,) across a unit one."""
    u = np.cross(way, [0.0, 0.0, 1.0]) if abs(way[2]) < 0.9 else np.cross(way, [1.0, 0.0, 0.0])
    u = u / np.linalg.norm(u)
    return u, np.cross(way, u)


def ring(flat: np.ndarray, rough: float) -> tuple[np.ndarray, float] | None:
    """Centre (2,) and radius of the circle that most points (n, 2) lie on."""
    if len(flat) < FEWEST:
        return None
    rng, best = np.random.default_rng(len(flat)), None
    some = flat[rng.choice(len(flat), min(len(flat), SOME), replace=False)]
    for a, b, c in some[rng.integers(0, len(some), (TRIALS, 3))]:
        middle = _through(a, b, c)
        if middle is None:
            continue
        radius = float(np.linalg.norm(a - middle))
        on = int((np.abs(np.linalg.norm(some - middle, axis=1) - radius) < rough).sum())
        if best is None or on > best[0]:
            best = on, middle, radius
    if best is None or best[0] < FEWEST // 2:
        return None
    best = np.abs(np.linalg.norm(flat - best[1], axis=1) - best[2]) < rough
    for _ in range(STEPS):
        found = fits.circle(flat[best])
        if found is None:
            return None
        away = np.abs(np.linalg.norm(flat - found[0], axis=1) - found[1])
        best = away < max(3 * 1.4826 * np.median(away[best]), 0.002)
    return np.asarray(found[0]), float(found[1])


def _through(a: np.ndarray, b: np.ndarray, c: np.ndarray) -> np.ndarray | None:
    """The middle (2,) of the circle through three points; None where they lie in a line."""
    p, q = b - a, c - a
    twice = 2 * (p[0] * q[1] - p[1] * q[0])
    if abs(twice) < 1e-4 * (p @ p + q @ q):
        return None
    return a + np.array([q[1] * (p @ p) - p[1] * (q @ q), p[0] * (q @ q) - q[0] * (p @ p)]) / twice
