"""Small planes that passes have in common: sums of points by cell and pass, gathered piece by piece, then
planes and pairs of them.
"""

from dataclasses import dataclass, fields

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import voxels

FEWEST = 10  # points of a patch
FLAT = 0.04  # smallest over middle eigenvalue of a plane
WIDE = 0.15  # middle over largest: a patch is no line
CLEAR = 3.0  # thicknesses from a plane to the wall of its cell beside it, which else cuts its noise in two
SHIFT = np.array([0.37, 0.29, 0.41])  # cells: by which they are moved, so that no round height is their wall
ALIKE = np.cos(np.radians(12.0))
PASSES, VISITS = 1 << 10, 8  # numbers in one key: of passes, and of looks at a cell that are told apart
LINE, FARTHEST = (1 << 16) - 1, 1 << 15  # cells in one key, and from the origin
SCATTER = np.uint64(
    0x9E3779B97F4A7C15
)  # by which neighbouring numbers come to lie far apart (Knuth 1998, 6.4)
LOOK = (
    1.0  # s: what a pass saw of a cell at times farther apart is not one patch, since its craft was elsewhere
)


@dataclass
class Sums:
    """By cell, pass and look (``key``, sorted): ``many`` (k,), ``moments`` (k, 10): sums of x y z, of their
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


def sums(
    xyz: np.ndarray, time: np.ndarray, number: np.ndarray, cell: float, first: float, of: int = 1
) -> Sums:
    """Of points (n, 3), less a common origin, with times and the numbers of their passes (-1: none); cells
    beyond ``FARTHEST`` from the origin are left out, and all but one ``of`` so many, the same for all points.
    """
    use = (number >= 0) & (np.abs(xyz).max(axis=1, initial=0) < (FARTHEST - 1) * cell)
    place = voxels.keys(xyz + SHIFT * cell, cell)
    if of > 1:
        use &= (place.astype(np.uint64) * SCATTER >> np.uint64(40)) % np.uint64(of) == 0
    xyz, time, number, place = xyz[use], time[use] - first, number[use], place[use]
    if not len(xyz):
        return Sums.none()
    small = xyz - _middles(voxels.cells(place), cell)
    look = number * VISITS + np.floor(time / LOOK).astype(np.int64) % VISITS
    order = np.lexsort((look, place))
    place, look = place[order], look[order]
    start = np.flatnonzero(np.r_[True, (place[1:] != place[:-1]) | (look[1:] != look[:-1])])
    x, y, z = small[order].T
    parts = np.stack([x, y, z, x * x, x * y, x * z, y * y, y * z, z * z, time[order]], 1)
    moments = np.add.reduceat(parts, start)
    many = np.diff(np.r_[start, len(place)])
    cells = voxels.cells(place[start]) + FARTHEST
    key = (cells[:, 0] << 45) | (cells[:, 1] << 29) | (cells[:, 2] << 13) | look[start]
    rank = np.argsort(key)
    return Sums(key[rank], moments[rank], many[rank])


def _middles(cells: np.ndarray, cell: float) -> np.ndarray:
    """(n, 3) m of cells (n, 3)."""
    return (cells + 0.5 - SHIFT) * cell


@dataclass
class Patches:
    """Planes: ``at`` (k, 3) middles, ``normal`` (k, 3) up, ``sigma`` (k,) of the middle along it (m),
    ``time`` (k,) mean, ``number`` (k,) of the pass, ``lean`` (k,) σ of the normal (rad).
    """

    at: np.ndarray
    normal: np.ndarray
    sigma: np.ndarray
    time: np.ndarray
    number: np.ndarray
    lean: np.ndarray

    def only(self, both: "Pairs") -> tuple["Patches", "Pairs"]:
        """The patches that some pairs name, and the pairs of these."""
        used, back = np.unique(np.r_[both.a, both.b], return_inverse=True)
        a, b = np.split(back, 2)
        return Patches(*(getattr(self, f.name)[used] for f in fields(self))), Pairs(a, b)


def planes(found: Sums, cell: float, first: float) -> Patches:
    """The planes of cells that hold enough points in one."""
    enough = found.many >= FEWEST
    key, n = found.key[enough], found.many[enough][:, None].astype(float)
    mean = found.moments[enough] / n
    cells = np.stack([key >> 45, (key >> 29) & LINE, (key >> 13) & LINE], 1) - FARTHEST
    middle, small = _middles(cells, cell), mean[:, :3]
    outer = small[:, [0, 0, 0, 1, 1, 2]] * small[:, [0, 1, 2, 1, 2, 2]]
    spread = (mean[:, 3:9] - outer)[:, [0, 1, 2, 1, 3, 4, 2, 4, 5]].reshape(-1, 3, 3)
    value, vector = np.linalg.eigh(spread)
    good = (value[:, 0] < FLAT * value[:, 1]) & (value[:, 1] > WIDE * value[:, 2])
    normal = vector[:, :, 0] * np.where(vector[:, 2:, 0] < 0, -1.0, 1.0)
    thick = np.maximum(value[:, 0], 1e-8)
    across = np.abs(normal).argmax(axis=1)[:, None]
    good &= np.abs(np.take_along_axis(small, across, 1)[:, 0]) + CLEAR * np.sqrt(thick) < cell / 2
    free = n[:, 0] - 3  # a plane has taken three
    sigma, lean = np.sqrt(thick / free), np.sqrt(thick / np.maximum(free * value[:, 1], 1e-12))
    number = (key & (PASSES * VISITS - 1)) // VISITS
    return Patches(*(v[good] for v in (middle + small, normal, sigma, mean[:, 9] + first, number, lean)))


def apart_by(found: Patches, both: "Pairs") -> np.ndarray:
    """(k,) σ (m) of how far pairs lie apart along the mean of their normals: of the middles, and of the
    normals over their distance.
    """
    away = np.linalg.norm(found.at[both.a] - found.at[both.b], axis=1) / 2
    lean = np.hypot(found.lean[both.a], found.lean[both.b])
    return np.sqrt(found.sigma[both.a] ** 2 + found.sigma[both.b] ** 2 + (away * lean) ** 2)


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
