"""Large roofs among what a cloth took for ground: what ends in a drop nearly all around."""

from dataclasses import dataclass

import numpy as np
from scipy import sparse
from scipy.sparse.csgraph import connected_components

from terrazza.core.geometry import voxels

CELL = 0.5  # m
GOES_ON = 0.75  # m: what differs by less from one cell to the next is one surface
DROP = 1.5  # m: from a roof to what lies beside it, at least
AROUND = 0.8  # share of its rim that drops
REACH = 4  # cells across which the rim looks for what lies beside it: walls leave cells empty
LEAST = 9.0  # m²: of a roof; what is smaller is no large building


@dataclass(frozen=True)
class Roofs:
    """Cells of the plan that are roof: sorted names (m,) after ``voxels.plan_keys``, and heights (m,), m."""

    cell: np.ndarray
    height: np.ndarray

    @property
    def area(self) -> float:
        """m²."""
        return len(self.cell) * CELL**2

    def holds(self, xyz: np.ndarray) -> np.ndarray:
        """Mask of points (n, 3) on a roof."""
        if not len(self.cell):
            return np.zeros(len(xyz), bool)
        mine = voxels.plan_keys(xyz, CELL)
        at = np.minimum(np.searchsorted(self.cell, mine), len(self.cell) - 1)
        return (self.cell[at] == mine) & (xyz[:, 2] > self.height[at] - GOES_ON)


def find(xyz: np.ndarray) -> Roofs:
    """Roofs among ground points (n, 3): surfaces that go on without a step, as large as a house, and at
    whose rim nearly everywhere something lower lies beside them.

    A terrace is no roof, since the next one rises beside it; a mound without walls neither.  A platform with
    walls all around looks like one.
    """
    cell = np.floor(xyz[:, :2] / CELL).astype(np.int64)
    low = cell.min(0)
    cell -= low
    height = np.full(cell.max(0) + 1, np.inf)
    np.minimum.at(height, tuple(cell.T), xyz[:, 2])
    there = np.isfinite(height)
    number = surfaces(height, there)
    drops, rises = np.zeros(number.max() + 1), np.zeros(number.max() + 1)
    for axis in (0, 1):
        for way in (1, -1):
            beside = _beside(height, there, number, axis, way)
            rim = there & ~np.isnan(beside)
            gap = height[rim] - beside[rim]  # beside an open rim nothing is known, and nothing is lower
            drops += np.bincount(number[rim], gap > DROP, len(drops))
            rises += np.bincount(number[rim], gap <= DROP, len(rises))
    area = np.bincount(number[there], minlength=len(drops)) * CELL**2
    high = (area >= LEAST) & (drops >= AROUND * (drops + rises)) & (drops > 0)
    if len(area):
        high[area.argmax()] = False  # the largest surface is the ground
    roof = np.argwhere(there & high[number])
    names = voxels.plan_keys((roof + low + 0.5) * CELL, CELL)
    order = np.argsort(names)
    return Roofs(names[order], height[tuple(roof[order].T)])


def surfaces(height: np.ndarray, there: np.ndarray, goes_on: float = GOES_ON) -> np.ndarray:
    """Numbers of the surfaces that cells (rows, columns) with heights (m) belong to, where they are there:
    neighbours that differ by less than ``goes_on`` (m) are on one.
    """
    index = np.arange(height.size).reshape(height.shape)
    pairs = []
    ahead, behind, whole = slice(1, None), slice(None, -1), slice(None)
    for a, b in (((ahead, whole), (behind, whole)), ((whole, ahead), (whole, behind))):
        with np.errstate(invalid="ignore"):
            one = there[a] & there[b] & (np.abs(height[a] - height[b]) < goes_on)
        pairs.append(np.stack([index[a][one], index[b][one]]))
    first, second = np.concatenate(pairs, axis=1)
    graph = sparse.coo_array((np.ones(len(first), bool), (first, second)), shape=(height.size, height.size))
    return connected_components(graph, directed=False)[1].reshape(height.shape)


def _beside(height: np.ndarray, there: np.ndarray, number: np.ndarray, axis: int, way: int) -> np.ndarray:
    """The height of the next surface one way, within reach, for cells at the rim of theirs; infinite where
    none is, NaN for cells whose own surface goes on.
    """
    out, open_ = np.full(height.shape, np.inf), there.copy()
    for step in range(1, REACH + 1):
        other, level = (np.roll(a, -way * step, axis) for a in (number, height))
        edge = [slice(None), slice(None)]
        edge[axis] = slice(-step, None) if way > 0 else slice(None, step)
        level[tuple(edge)] = np.inf
        met = open_ & np.isfinite(level)
        out[met] = np.where(other[met] == number[met], np.nan, level[met])
        open_ &= ~met
    return out
