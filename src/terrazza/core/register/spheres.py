"""Sphere targets of any radius in structured scans: found where ranges rise around a place as a ball's do,
and measured by orthogonal least squares.
"""

import numpy as np
from numba import njit, prange
from scipy import ndimage
from scipy.optimize import least_squares

from terrazza.core.register.sighted import Grid, Nearby, Target

RADII = (
    0.035,
    0.045,
    0.057,
    0.073,
    0.093,
    0.12,
    0.15,
    0.19,
)  # m: a ladder of 1.27; the fit finds what lies between
RINGS = (0.45, 0.7)  # of the radius: where ranges are looked at
LEAST_ROWS = 2.2  # grid steps that the inner ring has to be wide
ON = 0.11  # of the radius: by so much a range on a ring may be off
MISSED = 3  # places of the outer ring that may be off: a pole below
SEEN = 0.8  # of the radius: beyond it points are slanted and mixed
FEWEST = 14
SMOOTH = 0.0045  # m: largest RMS of a sphere
STANDS_OUT = 0.7  # share of the places around that have to lie behind
FLOOR = 0.0002  # m


@njit(cache=True, parallel=True, nogil=True)
def _scores(
    ranges: np.ndarray, slope: float, turn: float, lowest: float, radius: float, reach: float, out: np.ndarray
):
    rows, columns = ranges.shape
    angle = 2 * np.pi * np.arange(12) / 12
    up, right = np.sin(angle), np.cos(angle)
    for r in prange(rows):
        flat = max(np.cos(lowest + r * slope), 0.05)
        for c in range(columns):
            near = ranges[r, c]
            if near < 0.5 or near > reach:
                continue
            distance = near + radius
            tall, wide = radius / (distance * abs(slope)), radius / (distance * turn * flat)
            if min(tall, wide) * RINGS[0] < LEAST_ROWS or wide > columns / 8:
                continue
            middle, n = 0.0, 0  # of the nearest nine, against noise
            for i in range(-1, 2):
                for j in range(-1, 2):
                    if 0 <= r + i < rows and abs(ranges[r + i, (c + j) % columns] - near) < 0.3 * radius:
                        middle += ranges[r + i, (c + j) % columns]
                        n += 1
            middle /= n
            misfit, wrong = 0.0, 0
            for ring in range(2):
                share = RINGS[ring]
                rise = radius * (1 - np.sqrt(1 - share * share))
                for k in range(12):
                    rr, cc = (
                        int(np.floor(r + share * tall * up[k] + 0.5)),
                        int(np.floor(c + share * wide * right[k] + 0.5)) % columns,
                    )
                    if rr < 0 or rr >= rows:
                        wrong += 4
                        continue
                    off = abs(ranges[rr, cc] - middle - rise)
                    if off > ON * radius + 0.003:
                        wrong += 1 if ring == 1 else 2
                    else:
                        misfit += off
            if wrong > MISSED:
                continue
            behind = 0
            for k in range(12):
                rr, cc = (
                    int(np.floor(r + 1.3 * tall * up[k] + 0.5)),
                    int(np.floor(c + 1.3 * wide * right[k] + 0.5)) % columns,
                )
                behind += (
                    1
                    if rr < 0
                    or rr >= rows
                    or ranges[rr, cc] == 0
                    or abs(ranges[rr, cc] - distance) > 0.6 * radius
                    else 0
                )
            if behind >= STANDS_OUT * 12:
                out[r, c] = 1.0 / (0.002 + misfit / 24 + 0.002 * wrong)


def spheres(grid: Grid, radius: float | None = None, reach: float = 60.0) -> list[Target]:
    """Find spheres of ``radius`` (m; None: any of 3 to 20 cm) within ``reach`` (m) of the scanner."""
    peaks: list[tuple[float, int, int, float]] = []
    for size in (radius,) if radius else RADII:
        scores = np.zeros(grid.ranges.shape)
        _scores(grid.ranges, grid.slope, grid.turn, grid.lowest, size, reach, scores)
        top = (scores > 0) & (scores == ndimage.maximum_filter(scores, 5))
        peaks += [(scores[r, c], int(r), int(c), size) for r, c in zip(*np.nonzero(top))]
    found: list[Target] = []
    for _, r, c, size in sorted(peaks, reverse=True):
        place = grid.xyz[grid.index[r, c]]
        if any(np.linalg.norm(place - t.centre) < 1.3 * max(size, t.edge / 2) for t in found):
            continue
        target = measure(grid.nearby(r, c, 1.6 * size), place, size, radius)
        if target is not None:
            found.append(target)
    return found


def measure(nearby: Nearby, place: np.ndarray, size: float, told: float | None = None) -> Target | None:
    """The sphere of a radius about ``size`` (m; ``told``: exactly so) that was hit at ``place`` (3,); None
    where there is none.  ``nearby`` reaches 1.6 radii, in depth as far as the scanner saw.
    """
    ray = place / np.linalg.norm(place)
    around = nearby.xyz
    values = np.r_[place + ray * size, size]
    fixed = told is not None
    for _ in range(6):
        use = _on(around, values)
        if use.sum() < FEWEST:
            return None
        points = around[use]
        away = lambda v: np.linalg.norm(points - v[:3], axis=1) - (told if fixed else v[3])
        result = least_squares(away, values[:3] if fixed else values, loss="soft_l1", f_scale=0.002)
        before, values = values, np.r_[result.x[:3], told if fixed else result.x[3]]
        if np.linalg.norm(values - before) < 1e-5:
            break
    if not 0.6 * size < values[3] < 1.5 * size or np.linalg.norm(values[:3] - place - ray * size) > size:
        return None
    residual = np.linalg.norm(points - values[:3], axis=1) - values[3]
    rms = float(np.sqrt(np.mean(residual**2)))
    jac = (values[:3] - points) / np.linalg.norm(points - values[:3], axis=1)[:, None]
    design = jac if fixed else np.c_[jac, -np.ones(len(jac))]
    covariance = (
        np.linalg.pinv(design.T @ design) * rms**2 * len(points) / max(len(points) - design.shape[1], 1)
    )
    share = _round(around, values, rms)
    if (
        rms > min(SMOOTH, 0.06 * values[3])
        or share < 0.85
        or _even(points, values, residual) > max(2.5 * rms / np.sqrt(len(points) / 8), 0.0012)
    ):
        return None
    if not fixed and np.sqrt(covariance[3, 3]) > 0.1 * values[3]:
        return None
    away = float(np.linalg.norm(values[:3]))
    sigma = float(np.hypot(np.sqrt(np.trace(covariance[:3, :3]) / 3), FLOOR))
    return Target(
        "sphere", values[:3], sigma, -values[:3] / away, away, 0.0, share, len(points), 2 * float(values[3])
    )


def _on(points: np.ndarray, values: np.ndarray) -> np.ndarray:
    """Points on the side of a ball that the scanner sees, where it is not too slanted."""
    centre, radius = values[:3], values[3]
    ray = centre / np.linalg.norm(centre)
    away = points - centre
    along = away @ ray
    across = np.sqrt(np.maximum((away**2).sum(1) - along**2, 0.0))
    return (
        (across < SEEN * radius)
        & (along < 0)
        & (np.abs(np.linalg.norm(away, axis=1) - radius) < 0.2 * radius + 0.003)
    )


def _round(points: np.ndarray, values: np.ndarray, rms: float) -> float:
    """Share of the points that the scanner sees within the ball's outline which lie on it: nothing else is
    there.
    """
    centre, radius = values[:3], values[3]
    ray = centre / np.linalg.norm(centre)
    direction = points / np.linalg.norm(points, axis=1)[:, None]
    across = np.linalg.norm(np.cross(direction, centre), axis=1)
    inside = across < SEEN * radius
    on = np.abs(np.linalg.norm(points - centre, axis=1) - radius) < max(4 * rms, 0.004)
    return float((on & inside & ((points - centre) @ ray < 0)).sum() / max(inside.sum(), 1))


def _even(points: np.ndarray, values: np.ndarray, residual: np.ndarray) -> float:
    """The largest mean residual (m) of eight sectors around the line of sight: heads and jugs are
    not round.
    """
    ray = values[:3] / np.linalg.norm(values[:3])
    e1 = np.cross(ray, [0.0, 0.0, 1.0] if abs(ray[2]) < 0.9 else [1.0, 0.0, 0.0])
    e1 /= np.linalg.norm(e1)
    away = points - values[:3]
    sector = ((np.arctan2(away @ np.cross(ray, e1), away @ e1) + np.pi) * 4 / np.pi).astype(int) % 8
    n = np.bincount(sector, minlength=8)
    mean = np.bincount(sector, residual, 8) / np.maximum(n, 1)
    return float(np.abs(mean[n > 2]).max(initial=0.0))
