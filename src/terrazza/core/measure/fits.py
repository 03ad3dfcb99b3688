"""Best-fit plane, sphere and cylinder through a patch of points: orthogonal least squares, with what does not
belong left out.

The distances minimised are orthogonal to the shape (Ahn et al. 2001, *Pattern Recognition* 34(12)); the start
of a sphere is the consensus of four-point spheres (Fischler and Bolles 1981), that of a cylinder the best of
many axes.  Points beyond three robust deviations (1.4826 · median absolute residual) are left out until the
choice no longer changes.
"""

from dataclasses import dataclass

import numpy as np
from scipy.optimize import least_squares

from terrazza.core.geometry import planes
from terrazza.errors import InputError

FEWEST = {"plane": 3, "sphere": 4, "cylinder": 6}
ROUNDS = 12
MOST = 20_000
AXES = 240


@dataclass(frozen=True)
class Fit:
    """``centre`` (3,): a point of the plane, the middle of the sphere, or the point of the axis nearest to
    the patch's middle; ``direction`` (3,): normal or axis (None for a sphere); ``radius`` (m, 0 for a plane)
    with its standard deviation ``sigma``; ``rms`` (m) of the ``used`` points (mask).
    """

    kind: str
    centre: np.ndarray
    direction: np.ndarray | None
    radius: float
    sigma: float
    rms: float
    used: np.ndarray

    def away(self, points: np.ndarray) -> np.ndarray:
        """Signed distances (m) of points (n, 3) from the shape, outside positive."""
        to = points - self.centre
        if self.kind == "plane":
            return to @ self.direction
        if self.kind == "cylinder":
            to = to - np.outer(to @ self.direction, self.direction)
        return np.linalg.norm(to, axis=1) - self.radius


def fit(kind: str, points: np.ndarray, tolerance: float = 1e-4) -> Fit:
    """The shape through (n, 3) points; InputError where they are too few or do not bend enough to tell.
    ``tolerance`` (m): nothing nearer is ever left out.
    """
    if len(points) < FEWEST[kind]:
        raise InputError(
            f"A {kind} needs {FEWEST[kind]} points; the patch holds {len(points)}.", "Take a larger patch."
        )
    middle = points.mean(0)
    local, used = points - middle, np.ones(len(points), bool)
    values = {"plane": _plane, "sphere": _sphere_start, "cylinder": _cylinder_start}[kind](local)
    for _ in range(ROUNDS):
        away = np.abs(_away(kind, values, local))
        now = away <= max(3 * 1.4826 * np.median(away[used]), tolerance)
        if now.sum() < FEWEST[kind]:
            break
        settled, used = bool((now == used).all()), now
        values = _solved(kind, values, local[used])
        if settled:
            break
    away = _away(kind, values, local[used])
    rms = float(np.sqrt(np.mean(away**2)))
    centre, direction, radius = _told(kind, values)
    if radius > 100 * np.ptp(local, axis=0).max():
        raise InputError(
            f"The patch is too flat to tell a {kind}: its radius comes out at {radius:.0f} m.",
            "Take a larger patch, or fit a plane.",
        )
    return Fit(kind, centre + middle, direction, radius, _sigma(kind, values, local[used], rms), rms, used)


# The values of a shape: a plane has its normal and distance, a sphere its middle and radius, a cylinder its
# axis, a point of it, and its radius.


def _plane(points: np.ndarray) -> np.ndarray:
    found = planes.fit(points)
    return np.append(found.normal, found.distance)


def _solved(kind: str, values: np.ndarray, points: np.ndarray) -> np.ndarray:
    """The values that least squares reaches from ``values``."""
    if kind == "plane":
        return _plane(points)
    some = points[:: max(len(points) // MOST, 1)]
    found = least_squares(
        lambda step: _away(kind, _moved(kind, values, step), some),
        np.zeros(5 if kind == "cylinder" else 4),
        method="lm",
        xtol=1e-12,
        ftol=1e-12,
        gtol=1e-12,
    )
    return _moved(kind, values, found.x)


def _moved(kind: str, values: np.ndarray, step: np.ndarray) -> np.ndarray:
    """Values after a small step: of a cylinder two tilts of the axis, two shifts across it, and
    its radius.
    """
    if kind == "sphere":
        return values + step
    axis, e1, e2 = _across(values[:3])
    tilted = axis + step[0] * e1 + step[1] * e2
    return np.r_[
        tilted / np.linalg.norm(tilted), values[3:6] + step[2] * e1 + step[3] * e2, values[6] + step[4]
    ]


def _across(axis: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A unit axis and two unit directions across it."""
    axis = np.asarray(axis, float) / np.linalg.norm(axis)
    e1 = np.cross(axis, np.eye(3)[np.argmin(np.abs(axis))])
    e1 /= np.linalg.norm(e1)
    return axis, e1, np.cross(axis, e1)


def _away(kind: str, v: np.ndarray, points: np.ndarray) -> np.ndarray:
    if kind == "plane":
        return points @ v[:3] - v[3]
    if kind == "sphere":
        return np.linalg.norm(points - v[:3], axis=1) - v[3]
    return np.linalg.norm(np.cross(points - v[3:6], v[:3]), axis=1) - v[6]


def _told(kind: str, v: np.ndarray) -> tuple[np.ndarray, np.ndarray | None, float]:
    if kind == "plane":
        return v[:3] * v[3], v[:3], 0.0
    if kind == "sphere":
        return v[:3], None, float(abs(v[3]))
    return v[3:6] - v[:3] * (v[:3] @ v[3:6]), v[:3], float(abs(v[6]))


def _sigma(kind: str, values: np.ndarray, points: np.ndarray, rms: float) -> float:
    """Standard deviation of the radius, from the residuals and how well the patch holds it."""
    if kind == "plane":
        return 0.0
    small, count = 1e-6, 5 if kind == "cylinder" else 4
    jacobian = np.stack(
        [
            (
                _away(kind, _moved(kind, values, small * d), points)
                - _away(kind, _moved(kind, values, -small * d), points)
            )
            / (2 * small)
            for d in np.eye(count)
        ],
        1,
    )
    free = max(len(points) - count, 1)
    return float(
        np.sqrt(max(np.linalg.pinv(jacobian.T @ jacobian)[-1, -1], 0)) * rms * np.sqrt(len(points) / free)
    )


def _sphere_start(points: np.ndarray) -> np.ndarray | None:
    rng, best = np.random.default_rng(0), None
    some = points if len(points) <= 2000 else points[rng.choice(len(points), 2000, replace=False)]
    for _ in range(200):
        four = some[rng.choice(len(some), 4, replace=False)]
        v = _algebraic(four)
        if v is None:
            continue
        score = np.median(np.abs(_away("sphere", v, some)))
        if best is None or score < best[0]:
            best = (score, v)
    if best is None:
        raise InputError(
            "The patch is flat: no sphere runs through it.", "Take a larger patch, or fit a plane."
        )
    return best[1]


def _algebraic(points: np.ndarray) -> np.ndarray | None:
    """Centre and radius from |p|² = 2 c·p + (r² - |c|²), linear in its unknowns; works for circles in two
    dimensions too.
    """
    matrix = np.c_[2 * points, np.ones(len(points))]
    if np.linalg.cond(matrix) > 1e10:
        return None
    x = np.linalg.lstsq(matrix, (points**2).sum(1), rcond=None)[0]
    square = x[-1] + (x[:-1] ** 2).sum()
    return np.append(x[:-1], np.sqrt(square)) if square > 0 else None


def circle(points: np.ndarray, rounds: int = 8) -> tuple[np.ndarray, float, float, float] | None:
    """Centre (2,), radius, RMS and the standard deviation of the centre in its weakest direction (m) of the
    circle through (n, 2) points by least squares of the distances; None where they lie in a line.
    """
    middle = points.mean(0)
    local, values = points - middle, _algebraic(points - middle)
    if values is None:
        return None
    for _ in range(rounds):
        to = local - values[:2]
        reach = np.maximum(np.linalg.norm(to, axis=1), 1e-9)
        jacobian = np.c_[-to / reach[:, None], -np.ones(len(points))]
        values = values - np.linalg.lstsq(jacobian, reach - values[2], rcond=None)[0]
    away = np.linalg.norm(local - values[:2], axis=1) - values[2]
    rms = float(np.sqrt(np.mean(away**2)))
    sigma = rms * np.sqrt(np.linalg.eigvalsh(np.linalg.pinv(jacobian.T @ jacobian)[:2, :2])[-1])
    return values[:2] + middle, float(values[2]), rms, float(sigma)


def _cylinder_start(points: np.ndarray) -> np.ndarray:
    rng = np.random.default_rng(0)
    some = points if len(points) <= 600 else points[rng.choice(len(points), 600, replace=False)]
    k = np.arange(AXES) + 0.5
    found = []
    for angles in np.stack(
        [k * np.pi * (1 + np.sqrt(5)), np.arccos(1 - k / AXES)], 1
    ):  # evenly over half a sphere
        axis, e1, e2 = _across(_unit(*angles))
        flat = np.stack([some @ e1, some @ e2], 1)
        v = _algebraic(flat)
        if v is not None:
            found.append(
                (
                    np.median(np.abs(np.hypot(flat[:, 0] - v[0], flat[:, 1] - v[1]) - v[2])),
                    np.r_[axis, e1 * v[0] + e2 * v[1], v[2]],
                )
            )
    if not found:
        raise InputError("No cylinder runs through this patch.", "Take a larger patch, or fit a plane.")
    found.sort(key=lambda f: f[0])
    solved = [_solved("cylinder", v, some) for _, v in found[:6]]
    return min(solved, key=lambda v: np.median(np.abs(_away("cylinder", v, some))))


def _unit(azimuth: float, polar: float) -> np.ndarray:
    return np.array([np.sin(polar) * np.cos(azimuth), np.sin(polar) * np.sin(azimuth), np.cos(polar)])
