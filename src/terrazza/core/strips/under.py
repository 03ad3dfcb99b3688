"""Strips over measured heights and planes: how far the cloud lies above them."""

from dataclasses import dataclass

import numpy as np

FEWEST = 6  # points about a place
TURNS = 10  # of the robust mean
LIMIT = 3.29  # σ (of the spread of all) beyond which a place is left out: one of a thousand


@dataclass(frozen=True)
class Above:
    """How far the cloud lies above one place (m), its σ, and from how many points; NaN for too few."""

    off: float
    sigma: float
    points: int


def above(xyz: np.ndarray, place: np.ndarray) -> Above:
    """Of points (n, 3) about a place (3,) of a level or leaning surface: along the vertical, by a plane
    through the points that leaves out what stands apart (Huber's weights, then Tukey's biweight).
    """
    if len(xyz) < FEWEST:
        return Above(np.nan, np.nan, len(xyz))
    xy, z = xyz[:, :2] - place[:2], xyz[:, 2] - place[2]
    design, weight = np.c_[np.ones(len(xy)), xy], np.ones(len(xy))
    for turn in range(TURNS):
        root = np.sqrt(weight)
        solution = np.linalg.lstsq(design * root[:, None], z * root, rcond=None)[0]
        left = np.abs(z - design @ solution)
        spread = max(1.4826 * float(np.median(left)), 1e-4)
        if turn < TURNS // 3:
            weight = np.minimum(1.0, 1.5 * spread / np.maximum(left, 1e-12))
        else:
            weight = np.maximum(1 - (left / (4.685 * spread)) ** 2, 0.0) ** 2
    inverse = np.linalg.pinv((design * weight[:, None]).T @ design)
    return Above(float(solution[0]), float(spread * np.sqrt(inverse[0, 0])), int((weight > 0.5).sum()))


@dataclass(frozen=True)
class Shift:
    """What heights need added (m), its σ, the spread (m) of single places, and a mask of those that count."""

    by: float
    sigma: float
    spread: float
    used: np.ndarray


def shift(off: np.ndarray, sigma: np.ndarray) -> Shift:
    """From how far the cloud lies above places (n,), with σ (n,): a weighted mean without what lies apart."""
    used = np.isfinite(off)
    for _ in range(TURNS):
        middle = float(np.median(off[used]))
        scatter = 1.4826 * float(np.median(np.abs(off[used] - middle)))
        wide = np.hypot(max(scatter, 1e-4), sigma)
        now = np.isfinite(off) & (np.abs(off - middle) <= LIMIT * np.maximum(wide, 1e-4))
        if (now == used).all():
            break
        used = now
    weight = 1 / np.hypot(max(scatter, 1e-4), sigma[used]) ** 2
    mean = float((weight * off[used]).sum() / weight.sum())
    spread = float(np.sqrt((weight * (off[used] - mean) ** 2).sum() / weight.sum()))
    few = max(int(used.sum()) - 1, 1)
    own = np.sqrt(1 / weight.sum())
    return Shift(-mean, float(max(own, spread / np.sqrt(few))), spread, used)
