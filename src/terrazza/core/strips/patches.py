"""Small planes that passes have in common: sums of points by cell and pass, gathered piece by piece, then
planes and pairs of them.
"""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import voxels

FEWEST = 10  # points of a patch
FLAT = 0.04  # smallest over middle eigenvalue of a plane
WIDE = 0.15  # middle over largest: a patch is no line
ALIKE = np.cos(np.radians(12.0))
PASSES, LINE, FARTHEST = 1 << 10, (1 << 17) - 1, 1 << 16  # numbers of passes and cells in one key


@dataclass
class Sums:
    """By cell and pass (``key``, sorted): ``many`` (k,), ``moments`` (k, 10): sums of x y z, of their
    products xx xy xz yy yz zz, and of the time, all less the place of the cell or a first time, so that they
    stay small.
    """

    key: np.ndarray
    moments: np.ndarray
    many: np.ndarray

    @classmethod
    def none(cls) -> "Sums":
        return cls(np.zeros(0, np.int64), np.zeros((0, 10)), np.zeros(0, np.int64))

    def with_(self, other: "Sums") -> "Sums":
        key, back = np.unique(np.r_[self.key, other.key], return_inverse=True)
        moments, many = np.zeros((len(key), 10)), np.bincount(back, np.r_[self.many, other.many], len(key))
        np.add.at(moments, back, np.concatenate([self.moments, other.moments]))
        return Sums(key, moments, many.astype(np.int64))


def sums(xyz: np.ndarray, time: np.ndarray, number: np.ndarray, cell: float, first: float) -> Sums:
    """Of points (n, 3), less a common origin, with times and the numbers of their passes (-1: none)."""
    use = number >= 0
    xyz, time, number = xyz[use], time[use] - first, number[use]
    if not len(xyz):
        return Sums.none()
    place = voxels.keys(xyz, cell)
    middle = (voxels.cells(place) + 0.5) * cell
    small = xyz - middle
    order = np.lexsort((number, place))
    place, number = place[order], number[order]
    start = np.flatnonzero(np.r_[True, (place[1:] != place[:-1]) | (number[1:] != number[:-1])])
    x, y, z = small[order].T
    parts = np.stack([x, y, z, x * x, x * y, x * z, y * y, y * z, z * z, time[order]], 1)
    moments = np.add.reduceat(parts, start)
    many = np.diff(np.r_[start, len(place)])
    cells = voxels.cells(place[start]) + FARTHEST
    key = (cells[:, 0] << 44) | (cells[:, 1] << 27) | (cells[:, 2] << 10) | number[start]
    rank = np.argsort(key)
    return Sums(key[rank], moments[rank], many[rank])


@dataclass
class Patches:
    """Planes: ``at`` (k, 3) middles, ``normal`` (k, 3) up, ``sigma`` (k,) of the middle along it (m),
    ``time`` (k,) mean, ``number`` (k,) of the pass.
    """

    at: np.ndarray
    normal: np.ndarray
    sigma: np.ndarray
    time: np.ndarray
    number: np.ndarray


def planes(found: Sums, cell: float, first: float) -> Patches:
    """The planes of cells that hold enough points in one."""
    enough = found.many >= FEWEST
    key, n = found.key[enough], found.many[enough][:, None].astype(float)
    mean = found.moments[enough] / n
    cells = np.stack([key >> 44, (key >> 27) & LINE, (key >> 10) & LINE], 1) - FARTHEST
    middle, small = (cells + 0.5) * cell, mean[:, :3]
    outer = small[:, [0, 0, 0, 1, 1, 2]] * small[:, [0, 1, 2, 1, 2, 2]]
    spread = (mean[:, 3:9] - outer)[:, [0, 1, 2, 1, 3, 4, 2, 4, 5]].reshape(-1, 3, 3)
    value, vector = np.linalg.eigh(spread)
    good = (value[:, 0] < FLAT * value[:, 1]) & (value[:, 1] > WIDE * value[:, 2])
    normal = vector[:, :, 0] * np.where(vector[:, 2:, 0] < 0, -1.0, 1.0)
    sigma = np.sqrt(np.maximum(value[:, 0], 1e-8) / n[:, 0])
    number = (key & (PASSES - 1)).astype(np.int64)
    return Patches(*(v[good] for v in (middle + small, normal, sigma, mean[:, 9] + first, number)))


@dataclass
class Pairs:
    """Patches of two passes on one surface: indices ``a`` and ``b`` (k,), the first of the pass with the
    lower number.
    """

    a: np.ndarray
    b: np.ndarray


def pairs(found: Patches, reach: float) -> Pairs:
    """Each patch with the nearest of every other pass, nearer than ``reach`` (m) and facing alike."""
    left, right = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)]
    by = [
        np.flatnonzero(found.number == k)
        for k in range(int(found.number.max()) + 1 if len(found.number) else 0)
    ]
    trees = [cKDTree(found.at[i]) if len(i) else None for i in by]
    for a, mine in enumerate(by):
        for b in range(a + 1, len(by)):
            if trees[a] is None or trees[b] is None:
                continue
            apart, near = trees[b].query(found.at[mine], distance_upper_bound=reach, workers=-1)
            there = np.isfinite(apart)
            i, j = mine[there], by[b][near[there]]
            alike = (found.normal[i] * found.normal[j]).sum(1) > ALIKE
            left.append(i[alike])
            right.append(j[alike])
    return Pairs(np.concatenate(left), np.concatenate(right))
