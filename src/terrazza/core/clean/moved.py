"""Moved things: what one scan saw where another looked through.

A point is contradicted by another scan that saw nothing but farther things in its direction and in those
around it, and confirmed by one that saw something where it lies.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit
from scipy import ndimage

from terrazza.core.clean import specks

CELL = 0.10  # m: neighbourhood in which a thing's points are put together
LEAST_POINTS, LEAST_SIZE = 40, 0.20  # of a thing; the size (m) across and along, so that no edge is one
SHARE = 0.6  # of a thing's judged points that are contradicted
FILLED = 0.2  # of a cell's points that are contradicted at least
CLEAR = 4.0  # as many times as confirmed ones: then these go too
BY_LITTLE = 0.35  # of the distance that counts: what belongs to a thing where it touches the floor
CLOSE = 0.5  # m: nearer to a station nothing is judged


def nearest_around(picture: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Least and greatest range (rows, columns; 0 where unknown) among a pixel of a picture all around and its
    neighbours; unknown where one of them saw nothing.
    """
    empty = picture <= 0
    near = ndimage.minimum_filter(np.where(empty, np.inf, picture), 3, mode=("nearest", "wrap"))
    far = ndimage.maximum_filter(picture, 3, mode=("nearest", "wrap"))
    crowd = ndimage.uniform_filter(empty.astype(np.float32), 3, mode=("nearest", "wrap")) > 0.4
    near[crowd | ~np.isfinite(near)] = 0
    return near.astype(np.float32), far.astype(np.float32)


@njit(cache=True, nogil=True)
def compare(
    xyz: np.ndarray,
    pose: np.ndarray,
    near: Any,
    far: Any,
    step: float,
    slack: float,
    slope: float,
    contradicted: np.ndarray,
    confirmed: np.ndarray,
    before: np.ndarray,
    strict: bool = False,
):
    """Count for each point (n, 3) whether another scan, to whose frame ``pose`` (4×4) brings it, contradicts
    or confirms it, and whether it stands ``before`` what that saw though by little; ``slack`` (m) and
    ``slope`` (per m of range) are how far apart is apart.  With ``strict`` what lies between the near and the
    far side of an edge is not confirmed.
    """
    rows, columns = near.shape
    for i in range(len(xyz)):
        x = pose[0, 0] * xyz[i, 0] + pose[0, 1] * xyz[i, 1] + pose[0, 2] * xyz[i, 2] + pose[0, 3]
        y = pose[1, 0] * xyz[i, 0] + pose[1, 1] * xyz[i, 1] + pose[1, 2] * xyz[i, 2] + pose[1, 3]
        z = pose[2, 0] * xyz[i, 0] + pose[2, 1] * xyz[i, 1] + pose[2, 2] * xyz[i, 2] + pose[2, 3]
        r = np.sqrt(x * x + y * y + z * z)
        if r < CLOSE:
            continue
        row = min(max(int((np.pi / 2 - np.arcsin(min(max(z / r, -1.0), 1.0))) / step), 0), rows - 1)
        column = int((np.pi - np.arctan2(y, x)) / step) % columns
        low, high = near[row, column], far[row, column]
        if low <= 0:
            continue
        room = slack + slope * r
        if r < low - room:
            contradicted[i] += 1
        elif r < low - BY_LITTLE * room:
            before[i] += 1
        elif r <= high + room:
            confirmed[i] += not strict or r < low + room or r > high - room


@dataclass(frozen=True)
class Things:
    """Sorted codes of cells (see ``specks.plain``, edge ``CELL``) that things fill, of those around them, and
    of those in which even confirmed points belong to them.
    """

    whole: np.ndarray
    rim: np.ndarray
    clear: np.ndarray

    def take(self, code: np.ndarray, state: np.ndarray) -> np.ndarray:
        """Mask of the points (by their cells' codes and states: 3 contradicted, 2 before what others saw by
        little, 1 confirmed, 0 not judged) that belong to things. ``code``, ``state`` and mask (n,).
        """
        inside = np.isin(code, self.whole)
        return (inside & ((state != 1) | np.isin(code, self.clear))) | (
            (state >= 2) & np.isin(code, self.rim)
        )


def things(code: np.ndarray, tallies: np.ndarray, strength: float = 1.0) -> Things:
    """Things among cells (sorted codes) with counts (m, 3) of contradicted, confirmed and all points."""
    against = tallies[:, 0] > np.maximum(tallies[:, 1], FILLED * tallies[:, 2])
    mine, counts = code[against], tallies[against]
    if not len(mine):
        return Things(mine, mine, mine)
    cluster, cells = specks.clusters(mine), specks.cells_of(mine)
    most = cluster.max() + 1
    counted = np.stack([np.bincount(cluster, counts[:, k], most) for k in range(2)], 1)
    low, high = np.full((most, 3), np.iinfo(np.int64).max), np.full((most, 3), -1)
    np.minimum.at(low, cluster, cells)
    np.maximum.at(high, cluster, cells)
    wide = np.sort((high - low + 1) * CELL, axis=1)
    thing = (
        (counted[:, 0] >= LEAST_POINTS / strength)
        & (wide[:, 1] >= LEAST_SIZE / strength)
        & (counted[:, 0] >= SHARE * counted.sum(1))
    )[cluster]
    clear = counts[:, 0] > CLEAR * counts[:, 1]
    return Things(mine[thing], np.intersect1d(specks.rim(mine[thing]), code), mine[thing & clear])
