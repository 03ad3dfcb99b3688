"""Kerbs that bend, rise, drop at crossings and hide behind parked cars: simulated truth for break lines."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.draw import tracing

SHAPE = np.array([[0.15, 0.123], [0.0, 0.12], [0.0, 0.0], [-0.3, 0.018]])  # back, top, flow line, pan edge


@dataclass
class Kerb:
    """``way`` (n, 3) its flow line every centimetre, ``heading`` (n,) rad, ``drop`` (n,) share of its height
    that is left, ``points`` (m, 3) scanned.
    """

    way: np.ndarray
    heading: np.ndarray
    drop: np.ndarray
    points: np.ndarray

    def corners(self, k: int) -> np.ndarray:
        """True corners (4, 3) at a place of the way."""
        left = np.array([-np.sin(self.heading[k]), np.cos(self.heading[k])])
        up = np.where(SHAPE[:, 1] > 0.05, SHAPE[:, 1] * self.drop[k], SHAPE[:, 1])
        return np.c_[self.way[k, :2] + SHAPE[:, :1] * left, self.way[k, 2] + up]

    def nearest(self, at: np.ndarray) -> int:
        return int(np.linalg.norm(self.way[:, :2] - at[:2], axis=1).argmin())


def kerb(rng, density: float = 2500.0, noise: float = 0.003, cars: int = 2) -> Kerb:
    """A kerb of about 100 m with bends of 6 m radius, one crossing and some parked cars."""
    step, turn = 0.01, []
    for length, radius in (
        (rng.uniform(15, 25), 0),
        (6 * np.pi / 2, 6),
        (rng.uniform(15, 20), 0),
        (6 * np.pi / 3, -6),
        (rng.uniform(20, 30), 0),
    ):
        turn += [step / radius if radius else 0.0] * int(length / step)
    heading = rng.uniform(-np.pi, np.pi) + np.cumsum(turn)
    n = len(heading)
    rise = 0.03 * np.sin(np.arange(n) * step / 30)
    way = np.cumsum(np.c_[np.cos(heading), np.sin(heading), rise] * step, axis=0) + [600.0, 200.0, 50.0]
    drop, s = np.ones(n), np.arange(n) * step
    middle = 0.75 * n * step
    drop = np.clip((np.abs(s - middle) - 1.5) / 1.5, 0.15, 1.0)
    count = int(density * n * step * 2.2)
    k = rng.integers(0, n, count)
    across = rng.uniform(-1.2, 1.0, count)
    up = np.where(
        across > 0, 0.12 * drop[k] + 0.02 * np.minimum(across, 0.15), -0.06 * np.maximum(across, -0.3)
    )
    up += np.where(across < -0.3, 0.02 * (-0.3 - across), 0.0) + np.where(
        across > 0.15, 0.02 * (across - 0.15), 0
    )
    face = rng.integers(0, n, int(density * n * step * 0.12))
    across = np.r_[across, np.zeros(len(face))]
    up = np.r_[up, rng.uniform(0, 1, len(face)) * 0.12 * drop[face]]
    k = np.r_[k, face]
    hidden = np.zeros(n, bool)
    for car in range(cars):
        begin = int((0.12 + 0.35 * car + rng.uniform(0, 0.05)) * n)
        hidden[begin : begin + int(rng.uniform(2.0, 3.4) / step)] = True
    seen = ~(hidden[k] & (across < 0.02) & (across > -1.0)) | (rng.random(len(k)) < 0.02)
    left = np.stack([-np.sin(heading), np.cos(heading)], 1)
    xyz = np.c_[way[k, :2] + across[:, None] * left[k], way[k, 2] + up][seen]
    return Kerb(way, heading, drop, xyz + rng.normal(0, noise, xyz.shape))


def sections(points: np.ndarray, thick: float = 0.3):
    """Sections of points as the tracing asks for them."""
    from scipy.spatial import cKDTree

    tree = cKDTree(points[:, :2])

    def section(at, heading, corners):
        reach = np.abs(corners).max() + tracing.REACH
        near = points[tree.query_ball_point(at[:2], np.hypot(reach, thick))] - at
        along = near[:, 0] * np.cos(heading) + near[:, 1] * np.sin(heading)
        across = -near[:, 0] * np.sin(heading) + near[:, 1] * np.cos(heading)
        keep = (np.abs(along) < thick / 2) & (np.abs(across) < reach) & (np.abs(near[:, 2]) < reach)
        return np.c_[across, near[:, 2]][keep]

    return section
