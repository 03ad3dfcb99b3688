"""Isolated points below the ground (late echoes), which a cloth that falls from below must not meet."""

import numpy as np

from terrazza.core.clean import specks
from terrazza.core.geometry import voxels

FEWEST = 9  # points of a cluster that may hang below all else
CELL = 2.5  # usual distances from point to point that a cell is wide
BELOW = 0.4  # cells under what lies around that a cluster has to be
AROUND = 3  # cells to either side in which it is looked for


def usual_distance(xyz: np.ndarray) -> float:
    """Usual distance (m) from point to point in plan, from the area that (n, 3) points cover."""
    low, high = np.quantile(xyz[:, :2], [0.005, 0.995], axis=0)
    step = max(float(np.sqrt(np.prod(np.maximum(high - low, 1e-3)) / len(xyz))) * 3, 1e-3)
    return float(np.sqrt(voxels.plan_filled(xyz[:, :2] - low, step) * step**2 / len(xyz)))


def isolated_below(xyz: np.ndarray) -> np.ndarray:
    """Mask (n,) of the points of small clusters that hang below everything around them.

    Every real ground belongs to a cluster of many points; late echoes come alone or a few together.
    """
    if len(xyz) < 100:
        return np.zeros(len(xyz), bool)
    edge = max(CELL * usual_distance(xyz), 0.2)
    low = xyz.min(0) - edge
    cells = specks.plain(xyz, edge, low)
    code, back = np.unique(specks.codes(cells), return_inverse=True)
    cluster = specks.clusters(code)
    small = np.bincount(cluster[back])[cluster[back]] < FEWEST
    if not small.any():
        return small
    columns = cells[:, :2].max(0) + 1 + 2 * AROUND
    floor = np.full(columns, np.inf)  # lowest of what belongs to large clusters, by cell in plan
    np.minimum.at(floor, tuple((cells[~small, :2] + AROUND).T), xyz[~small, 2])
    out, mine = np.zeros(len(xyz), bool), np.flatnonzero(small)
    around = np.full(len(mine), np.inf)
    for dx in range(-AROUND, AROUND + 1):
        for dy in range(-AROUND, AROUND + 1):
            around = np.minimum(around, floor[tuple((cells[mine, :2] + AROUND + [dx, dy]).T)])
    out[mine] = np.isfinite(around) & (xyz[mine, 2] < around - BELOW * edge)
    return out
