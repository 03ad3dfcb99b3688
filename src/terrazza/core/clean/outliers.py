"""Outlier filters by neighbours: statistical (mean neighbour distance) and radius (neighbour count).

The statistical rule follows Rusu et al. 2008 (Robotics and Autonomous Systems
56:927): a point goes when its mean distance to k neighbours exceeds mean + n·σ.  ``by_range`` judges
each point against what is usual at its range, so that far points, sparse by nature, stay.
"""

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.progress import QUIET, Progress

BAND = 1.35
CHUNK = 200_000
STEPS, FLOOR, BINS = 500, float(np.log(1e-6)), 12_000
BANDS = np.array([0.0, 2.0, 5.0, 10.0, 20.0, 40.0, 1e9])  # m: bands of range in which losses are told


def mean_neighbour_distance(xyz: np.ndarray, k: int, progress: Progress = QUIET) -> np.ndarray:
    """(n,) mean distance (m) of each point to its ``k`` nearest others; infinite where there are none."""
    if len(xyz) < 2:
        return np.full(len(xyz), np.inf)
    tree = cKDTree(xyz, balanced_tree=False, compact_nodes=False)
    out = np.empty(len(xyz))
    k = min(k, len(xyz) - 1)
    for start in range(0, len(xyz), CHUNK):
        progress.advance(start, len(xyz), "Measuring neighbours")
        d, _ = tree.query(xyz[start : start + CHUNK], k=k + 1, workers=-1)
        out[start : start + CHUNK] = d[:, 1:].mean(1)
    return out


class Spread:
    """What is usual among neighbour distances, gathered piece by piece: mean and deviation of all, and their
    distribution by range.

    Pieces may come in any order and number; sums are kept per piece and added in the order of ``merge``.
    """

    def __init__(self):
        self.count, self.total, self.squares = 0, 0.0, 0.0
        self.bands: dict[int, np.ndarray] = {}

    def add(self, distance: np.ndarray, ranges: np.ndarray) -> "Spread":
        """Take distances (n,) and the ranges (n,) of their points from the instrument (m)."""
        finite = distance[np.isfinite(distance)].astype(np.float64)
        self.count, self.total, self.squares = (
            self.count + len(finite),
            self.total + float(finite.sum()),
            self.squares + float((finite**2).sum()),
        )
        band, bin_ = _band(ranges), _bin(distance)
        for b in np.unique(band):
            self.bands[int(b)] = self.bands.get(int(b), 0) + np.bincount(bin_[band == b], minlength=BINS)
        return self

    def merge(self, other: "Spread") -> "Spread":
        self.count, self.total, self.squares = (
            self.count + other.count,
            self.total + other.total,
            self.squares + other.squares,
        )
        for b, counts in other.bands.items():
            self.bands[b] = self.bands.get(b, 0) + counts
        return self

    def limit(self, deviations: float) -> float:
        """Mean + ``deviations`` · sample standard deviation (m); infinite where fewer than two points were
        seen.
        """
        if self.count < 2:
            return np.inf
        mean = self.total / self.count
        return mean + deviations * np.sqrt(max(self.squares - self.count * mean**2, 0.0) / (self.count - 1))

    def limits_by_range(self, deviations: float, most: float = 0.012) -> dict[int, float]:
        """Limit (m) in each band of range (each 1.35 times the last).

        In every band the distances, on a logarithmic scale, are compared with the band's
        median and its upper spread; never more than the share ``most`` of a band goes.
        """
        out = {}
        for band, counts in self.bands.items():
            below = np.cumsum(counts)
            if below[-1] < 50:
                continue
            low, high, last = (
                (np.searchsorted(below, share * below[-1]) + 0.5) / STEPS + FLOOR
                for share in (0.5, 0.8413, 1 - most)
            )
            out[band] = float(np.exp(max(low + deviations * max(high - low, 0.15), last)))
        return out


def beyond(distance: np.ndarray, ranges: np.ndarray, limits: dict[int, float]) -> np.ndarray:
    """Mask of points whose neighbour distance is beyond the limit of their band of range. ``distance``,
    ``ranges`` (n,) m, mask (n,).
    """
    table = np.full(256, np.inf)
    for band, limit in limits.items():
        table[band + 128] = limit
    return distance > table[_band(ranges) + 128]


def _band(ranges: np.ndarray) -> np.ndarray:
    return np.clip(np.floor(np.log(np.maximum(ranges, 0.3)) / np.log(BAND)), -128, 127).astype(np.int64)


def _bin(distance: np.ndarray) -> np.ndarray:
    return np.clip((np.log(np.maximum(distance, 1e-6)) - FLOOR) * STEPS, 0, BINS - 1).astype(np.int64)


def statistical(distance: np.ndarray, deviations: float) -> np.ndarray:
    """Mask of outliers: distance beyond mean + ``deviations`` · sample standard deviation of all.
    ``distance`` (n,) m, mask (n,).
    """
    return distance > Spread().add(distance, np.ones(len(distance))).limit(deviations)


def statistical_by_range(distance: np.ndarray, ranges: np.ndarray, deviations: float) -> np.ndarray:
    """Mask of outliers judged within bands of range (see ``Spread.limits_by_range``). ``distance``,
    ``ranges`` (n,) m, mask (n,).
    """
    return beyond(distance, ranges, Spread().add(distance, ranges).limits_by_range(deviations))


def radius(xyz: np.ndarray, reach: float, least: int) -> np.ndarray:
    """Mask of points with fewer than ``least`` others within ``reach`` (m). ``xyz`` (n, 3) m, mask (n,)."""
    tree = cKDTree(xyz)
    counts = tree.query_ball_point(xyz, reach, workers=-1, return_length=True)
    return counts - 1 < least
