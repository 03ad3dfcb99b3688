"""How far points lie from a surface: a plane, a sphere, a cylinder, a vault that bends, or triangles.

Distances are signed: positive on the side of the scanner or the inside, where a side is meant.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.interpolate import make_interp_spline

from terrazza.core.measure import fits

RING, STRETCH = 1.0, 0.3  # m: from one circle of a vault to the next, and how much of it each is fitted to
CLOSE = 0.1  # m: pieces that stand for its axis
FEWEST = 30  # points of a stretch
TOGETHER = 16  # knots of an axis that are looked at as one
LEAF = 4  # triangles of a leaf
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
        starts = np.arange(0, len(self.axis), TOGETHER)
        runs = np.split(self.axis, starts[1:])
        self.middle = np.array([run.mean(0) for run in runs])
        spread = (np.linalg.norm(run - m, axis=1).max() for run, m in zip(runs, self.middle))
        self.spread = np.array(list(spread))

    def foot(self, xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Of the nearest piece of the axis: its number (n,), how far along it (below 0 and above 1 only
        beyond the ends), and the distance from it.
        """
        piece, share, off = np.empty(len(xyz), np.int64), np.empty(len(xyz)), np.empty(len(xyz))
        _foot(np.ascontiguousarray(xyz, float), self.axis, self.middle, self.spread, piece, share, off)
        return piece, share, off

    def away(self, xyz: np.ndarray) -> np.ndarray:
        piece, share, off = self.foot(xyz)
        inner = np.clip(share, 0, 1)
        return (1 - inner) * self.radius[piece] + inner * self.radius[piece + 1] - off

    def along(self, xyz: np.ndarray) -> np.ndarray:
        piece, share, _ = self.foot(xyz)
        return ~(((piece == 0) & (share < 0)) | ((piece == len(self.axis) - 2) & (share > 1)))


@njit(cache=True, nogil=True)
def _foot(
    xyz: np.ndarray,
    axis: np.ndarray,
    middle: np.ndarray,
    spread: np.ndarray,
    pieces: np.ndarray,
    shares: np.ndarray,
    offs: np.ndarray,
):
    """See ``Vault.foot``: the nearest knot of the axis, looked for only in runs of knots (their ``middle``
    and how far they ``spread`` about it) that may hold it, and the two pieces that meet there.
    """
    last = len(axis) - 2
    for i in range(len(xyz)):
        x, y, z = xyz[i]
        knot, best = 0, np.inf
        for turn in range(2):  # the run that is nearest, then those that may hold a nearer knot
            nearest, least = 0, np.inf
            for g in range(len(middle)):
                to = np.sqrt((x - middle[g, 0]) ** 2 + (y - middle[g, 1]) ** 2 + (z - middle[g, 2]) ** 2)
                if turn == 0:
                    if to < least:
                        nearest, least = g, to
                    continue
                if to - spread[g] > best:
                    continue
                for k in range(g * TOGETHER, min((g + 1) * TOGETHER, len(axis))):
                    d = (x - axis[k, 0]) ** 2 + (y - axis[k, 1]) ** 2 + (z - axis[k, 2]) ** 2
                    if d < best * best:
                        knot, best = k, np.sqrt(d)
            if turn == 0:
                best = least + spread[nearest] + 1e-9
        offs[i] = np.inf
        for k in (max(knot - 1, 0), min(knot, last)):
            ux, uy, uz = axis[k + 1, 0] - axis[k, 0], axis[k + 1, 1] - axis[k, 1], axis[k + 1, 2] - axis[k, 2]
            px, py, pz = x - axis[k, 0], y - axis[k, 1], z - axis[k, 2]
            t = (px * ux + py * uy + pz * uz) / (ux * ux + uy * uy + uz * uz)
            if k > 0:
                t = max(t, 0.0)
            if k < last:
                t = min(t, 1.0)
            off = np.sqrt((px - t * ux) ** 2 + (py - t * uy) ** 2 + (pz - t * uz) ** 2)
            if off < offs[i]:
                pieces[i], shares[i], offs[i] = k, t, off


class Triangles:
    """A surface of triangles (vertices (n, 3), indices (m, 3)); positive on the side that its faces are
    counter-clockwise from.  What is farther than ``reach`` (m) has no distance (NaN).

    The triangles lie, along a curve that fills space, in the leaves of a binary tree of boxes.
    """

    def __init__(self, vertices: np.ndarray, triangles: np.ndarray, reach: float):
        corners = np.asarray(vertices[triangles], float)
        self.corners = np.ascontiguousarray(corners[_along_a_curve(corners.mean(1))])
        self.reach = reach
        leaves = 1 << max(int(np.ceil(np.log2(max(len(corners), 1) / LEAF))), 0)
        low, high = np.full((leaves * LEAF, 3), np.inf), np.full((leaves * LEAF, 3), -np.inf)
        low[: len(corners)], high[: len(corners)] = self.corners.min(1), self.corners.max(1)
        low, high = low.reshape(leaves, LEAF, 3).min(1), high.reshape(leaves, LEAF, 3).max(1)
        levels = [(low, high)]
        while len(low) > 1:
            low, high = np.minimum(low[0::2], low[1::2]), np.maximum(high[0::2], high[1::2])
            levels.append((low, high))
        root = np.zeros((1, 3))  # so that the children of box k are 2 k and 2 k + 1
        self.low, self.high = (np.concatenate([root, *(lv[k] for lv in levels[::-1])]) for k in (0, 1))

    def away(self, xyz: np.ndarray) -> np.ndarray:
        return _nearest(np.ascontiguousarray(xyz, float), self.low, self.high, self.corners, self.reach)

    def along(self, xyz: np.ndarray) -> np.ndarray:
        """All points: those beside the surface have no distance. (n,) m."""
        return np.ones(len(xyz), bool)


def _along_a_curve(xyz: np.ndarray) -> np.ndarray:
    """Order (n,) of places (n, 3) along a curve that fills space (Morton 1966)."""
    if not len(xyz):
        return np.zeros(0, int)
    low, wide = xyz.min(0), max(float(np.ptp(xyz, axis=0).max()), 1e-9)
    cells = ((xyz - low) / wide * (2**16 - 1)).astype(np.uint64)
    code = np.zeros(len(xyz), np.uint64)
    for bit in range(16):
        for axis in range(3):
            code |= ((cells[:, axis] >> np.uint64(bit)) & np.uint64(1)) << np.uint64(3 * bit + axis)
    return np.argsort(code)


@njit(cache=True, nogil=True)
def _to_box(p: np.ndarray, low: np.ndarray, high: np.ndarray):
    """Square of the distance to a box, infinite where it is empty."""
    square = 0.0
    for d in range(3):
        off = max(low[d] - p[d], p[d] - high[d], 0.0)
        square += off * off
    return square


@njit(cache=True, nogil=True)
def _nearest(xyz: np.ndarray, low: np.ndarray, high: np.ndarray, corners: np.ndarray, reach: float):
    """Signed distance (n,) to the nearest triangle; NaN beyond the reach."""
    out = np.full(len(xyz), np.nan)
    boxes, stack = len(low) // 2, np.empty(128, np.int64)
    for i in range(len(xyz)):
        p, best, signed = xyz[i], reach * reach, np.nan
        stack[0], waiting = 1, 1
        while waiting:
            waiting -= 1
            k = stack[waiting]
            if _to_box(p, low[k], high[k]) > best:
                continue
            if k >= boxes:
                first = (k - boxes) * LEAF
                for m in range(first, min(first + LEAF, len(corners))):
                    square, side = _to_triangle(p, corners[m])
                    if square <= best:
                        best, signed = square, np.sqrt(square) if side >= 0 else -np.sqrt(square)
                continue
            a, b = 2 * k, 2 * k + 1
            if _to_box(p, low[a], high[a]) < _to_box(p, low[b], high[b]):
                a, b = b, a
            stack[waiting], stack[waiting + 1] = a, b  # the nearer one is looked at first
            waiting += 2
        out[i] = signed
    return out


@njit(cache=True, nogil=True, error_model="numpy")  # a triangle without area has no distance
def _to_triangle(p: np.ndarray, corners: np.ndarray):
    """Square of the distance to a triangle (3, 3), and on which side of it (Ericson 2005, Real-Time Collision
    Detection, 5.1.5); in plain numbers, for arrays of three would take most of the time.
    """
    ax, ay, az = corners[0, 0], corners[0, 1], corners[0, 2]
    ux, uy, uz = corners[1, 0] - ax, corners[1, 1] - ay, corners[1, 2] - az
    vx, vy, vz = corners[2, 0] - ax, corners[2, 1] - ay, corners[2, 2] - az
    x, y, z = p[0] - ax, p[1] - ay, p[2] - az
    uu, uv, vv = ux * ux + uy * uy + uz * uz, ux * vx + uy * vy + uz * vz, vx * vx + vy * vy + vz * vz
    d1, d2 = ux * x + uy * y + uz * z, vx * x + vy * y + vz * z
    d3, d4, d5, d6 = d1 - uu, d2 - uv, d1 - uv, d2 - vv
    of_c, of_b, of_a = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    if d1 <= 0 and d2 <= 0:
        s, t = 0.0, 0.0
    elif d3 >= 0 and d4 <= d3:
        s, t = 1.0, 0.0
    elif d6 >= 0 and d5 <= d6:
        s, t = 0.0, 1.0
    elif of_c <= 0 and d1 >= 0 and d3 <= 0:
        s, t = d1 / (d1 - d3), 0.0
    elif of_b <= 0 and d2 >= 0 and d6 <= 0:
        s, t = 0.0, d2 / (d2 - d6)
    elif of_a <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        t = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        s = 1 - t
    else:
        s, t = of_b / (of_a + of_b + of_c), of_c / (of_a + of_b + of_c)
    x, y, z = x - s * ux - t * vx, y - s * uy - t * vy, z - s * uz - t * vz
    side = x * (uy * vz - uz * vy) + y * (uz * vx - ux * vz) + z * (ux * vy - uy * vx)
    return x * x + y * y + z * z, side


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


def _across(
    points: np.ndarray, centre: np.ndarray, way: np.ndarray, rough: float
) -> tuple[np.ndarray, float] | None:
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
