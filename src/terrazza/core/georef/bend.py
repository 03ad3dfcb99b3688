"""A network bent to control: the adjusted scans, with the covariance that they have among each other, and
control points as observations, adjusted together.

The rigid place of all scans is free; what the control says beyond it is shared out by least squares in the
form of an update (Mikhail & Ackermann 1976, *Observations and Least Squares*, sequential adjustment).
"""

from dataclasses import dataclass

import numpy as np
from scipy import stats

from terrazza.core.geometry import rigid

FREE = (0.05, 1.0)  # rad and m: how little is known of where all scans together stand
LEVEL = 0.05


@dataclass(frozen=True)
class Seen:
    """A control point as one scan saw it: index of the ``scan``, ``centre`` (3, m, scan frame), ``sigma``
    (m), and the index of the control ``point``.
    """

    scan: int
    centre: np.ndarray
    sigma: float
    point: int


@dataclass(frozen=True)
class Bent:
    """``poses`` after it; ``joint`` (6k, 6k) covariance of (rotation about its own place, shift), frame of
    the control; ``moved`` (k, m): each scan beyond what all share; ``residuals`` (n, 3, m) of what was seen,
    after it; ``test``: the weighted square sum over its redundancy with its two-sided bounds (None without
    redundancy).
    """

    poses: list[np.ndarray]
    joint: np.ndarray
    moved: np.ndarray
    residuals: np.ndarray
    test: tuple[float, float, float] | None


def bend(
    poses: list[np.ndarray], joint: np.ndarray, seen: list[Seen], control: np.ndarray, survey: float
) -> Bent:
    """``poses`` near the frame of ``control`` ((p, 3), m, standard deviation ``survey``, m) and their
    ``joint`` covariance (6k, 6k) among each other.
    """
    k, n = len(poses), len(seen)
    place = np.array([p[:3, 3] for p in poses])
    middle = place.mean(0)
    all_alike = np.concatenate(
        [np.block([[np.eye(3), np.zeros((3, 3))], [-rigid.skew(p - middle), np.eye(3)]]) for p in place]
    )
    prior = joint + all_alike @ np.diag(np.repeat(np.square(FREE), 3)) @ all_alike.T
    at = np.array([rigid.apply(poses[s.scan], s.centre[None])[0] for s in seen])
    design = np.zeros((3 * n, 6 * k))
    for i, s in enumerate(seen):
        design[3 * i : 3 * i + 3, 6 * s.scan : 6 * s.scan + 6] = rigid.motion_of(
            (at[i] - place[s.scan])[None]
        )
    point = np.array([s.point for s in seen])
    noise = np.kron(
        np.diag([s.sigma**2 for s in seen]) + survey**2 * (point[:, None] == point[None]), np.eye(3)
    )
    off = (control[point] - at).ravel()
    system = design @ prior @ design.T + noise
    gain = np.linalg.solve(system, design @ prior).T
    step = gain @ off
    after = prior - gain @ design @ prior
    bent = [
        rigid.step(p, step[6 * i : 6 * i + 3], step[6 * i + 3 : 6 * i + 6], p[:3, 3])
        for i, p in enumerate(poses)
    ]
    together = np.linalg.lstsq(all_alike, step, rcond=None)[0]
    moved = np.linalg.norm((step - all_alike @ together).reshape(k, 6)[:, 3:], axis=1)
    residuals = np.array([rigid.apply(bent[s.scan], s.centre[None])[0] for s in seen]) - control[point]
    redundancy = 3 * n - 6
    square = float(off @ np.linalg.solve(system, off))
    test = (
        (square / redundancy, *(stats.chi2.ppf([LEVEL / 2, 1 - LEVEL / 2], redundancy) / redundancy))
        if redundancy > 0
        else None
    )
    return Bent(bent, (after + after.T) / 2, moved, residuals, test)
