"""Fit of job targets to control: 1:1 rigid motion, residuals, leave-one-out, and the scale the data would
like.
"""

from dataclasses import dataclass, field

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import StateError

KNOWN_FACTORS = {
    0.3048: "feet taken for metres",
    3.280840: "metres taken for feet",
    1000.0: "millimetres",
    0.001: "millimetres taken for metres",
    0.0254: "inches taken for metres",
}


@dataclass
class ControlFit:
    """A 1:1 fit: ``pose`` (job to grid, 4×4); ``residuals`` (n, 3) m, fit minus control; ``left_out`` (n, 3):
    the same for each point had it not been used (NaN where fewer than three remain); ``rms`` (m) over the
    points, 3D; ``sigma`` (m) a coordinate, a posteriori; ``covariance`` (6, 6) of (rotation about ``centre``,
    shift); ``scale`` and ``scale_sigma``: of a fit with a free scale; ``warnings``.
    """

    pose: np.ndarray
    residuals: np.ndarray
    left_out: np.ndarray
    rms: float
    sigma: float
    covariance: np.ndarray
    centre: np.ndarray
    scale: float
    scale_sigma: float
    warnings: list[str] = field(default_factory=list)


def fit(targets: np.ndarray, control: np.ndarray, names: list[str], prior_sigma: float = 0.001) -> ControlFit:
    """Least squares without scale; StateError where fewer than three points, or all in a line. ``targets``
    and ``control`` (n, 3) m, job frame and grid.
    """
    n = len(targets)
    if n < 3:
        raise StateError(
            f"Georeferencing needs at least three control points, {n} {'is' if n == 1 else 'are'} matched.",
            "Match more points, or level the job without control.",
        )
    spread = np.sqrt(np.maximum(np.linalg.eigvalsh(np.cov((control - control.mean(0)).T, bias=True)), 0))
    if spread[1] < 0.02 * spread[2] or spread[1] < 0.05:
        raise StateError(
            "The matched control points lie in one line, so the tilt about it stays open.",
            "Match a point away from that line.",
        )
    pose, _ = rigid.fit(targets, control)
    residuals = rigid.apply(pose, targets) - control
    free = max(3 * n - 6, 1)
    sigma = float(np.sqrt((residuals**2).sum() / free))
    left_out = np.full((n, 3), np.nan)
    for i in range(n if n > 3 else 0):
        rest = np.arange(n) != i
        other, _ = rigid.fit(targets[rest], control[rest])
        left_out[i] = rigid.apply(other, targets[i : i + 1])[0] - control[i]
    centre = control.mean(0)
    jacobian = rigid.motion_of(rigid.apply(pose, targets) - centre)
    covariance = np.linalg.inv(jacobian.T @ jacobian) * max(sigma, prior_sigma) ** 2
    similar, scale = rigid.fit(targets, control, scale=True)
    left = scale * targets @ similar[:3, :3].T + similar[:3, 3] - control
    scale_sigma = max(float(np.sqrt((left**2).sum() / max(3 * n - 7, 1))), prior_sigma) / float(
        np.sqrt(((targets - targets.mean(0)) ** 2).sum())
    )
    result = ControlFit(
        pose,
        residuals,
        left_out,
        float(np.sqrt((residuals**2).sum(1).mean())),
        sigma,
        covariance,
        centre,
        float(scale),
        scale_sigma,
    )
    result.warnings = scale_warnings(scale, scale_sigma)
    return result


def scale_warnings(scale: float, sigma: float) -> list[str]:
    """Loud words where the data would like a scale other than 1."""
    for factor, words in KNOWN_FACTORS.items():
        if abs(scale / factor - 1) < 0.01:
            return [
                f"The control would fit with a scale of {scale:.4f}, which looks like {words}. Set the unit "
                "of the control file."
            ]
    off = scale - 1
    if abs(off) > max(4 * sigma, 30e-6):
        return [
            f"The control would like a scale of {scale:.6f} ({off * 1e6:+.0f} ppm, ±{sigma * 1e6:.0f}); the "
            "fit keeps 1:1. Projected coordinates, or a unit?"
        ]
    return []
