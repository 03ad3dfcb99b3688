"""Height over ground, and classes by height bands."""

import numpy as np
from scipy.spatial import cKDTree

CELL = 0.25


class GroundModel:
    """Ground height by cell means of the ground points, the nearest three cells weighed by distance."""

    def __init__(self, ground: np.ndarray):
        cell = np.floor(ground[:, :2] / CELL).astype(np.int64)
        key = (cell[:, 0] + 2**30) << 32 | (cell[:, 1] + 2**30)
        order = np.argsort(key, kind="stable")
        edges = np.flatnonzero(np.r_[True, key[order][1:] != key[order][:-1]])
        n = np.diff(np.r_[edges, len(order)])
        self.places = np.add.reduceat(ground[order], edges) / n[:, None]
        self.tree = cKDTree(self.places[:, :2])

    def at(self, xy: np.ndarray) -> np.ndarray:
        """Ground height (m) under (n, 2) places."""
        d, i = self.tree.query(xy, k=min(3, len(self.places)), workers=-1)
        d, i = d.reshape(len(xy), -1), i.reshape(len(xy), -1)
        w = 1 / np.maximum(d, 0.02) ** 2
        return (w * self.places[i, 2]).sum(1) / w.sum(1)


def by_height(height: np.ndarray, bands: list[tuple[float, float, int]]) -> np.ndarray:
    """Class code per height over ground (m); 0 where no band [low, high) holds it. ``height`` (n,), codes
    (n,) u8.
    """
    out = np.zeros(len(height), np.uint8)
    for low, high, code in bands:
        out[(height >= low) & (height < high)] = code
    return out
