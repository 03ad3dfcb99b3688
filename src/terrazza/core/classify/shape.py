"""Local shape of a thinned cloud: planes through neighbours, smooth pieces of surface, what stands in
columns.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from terrazza.core.geometry import planes

NEIGHBOURS = 14
FLAT = 0.06  # smallest over middle eigenvalue of a neighbourhood that is a plane
TURN = np.cos(np.radians(14.0))  # that neighbours on one smooth surface may differ by
OFF = 0.45  # cells that a neighbour may lie off the plane
REACH = 2.4  # cells to a neighbour on the same surface


@dataclass
class Shape:
    """Of points (n, 3): unit ``normals`` (n, 3), on the side that is ``facing``; ``spread`` (n, 3)
    eigenvalues of their neighbourhoods, ascending, m²; ``flat`` marks those whose neighbourhood is a plane;
    ``near`` (n, k) their neighbours and ``apart`` (n, k) how far these are (m).
    """

    xyz: np.ndarray
    normals: np.ndarray
    spread: np.ndarray
    flat: np.ndarray
    near: np.ndarray
    apart: np.ndarray
    cell: float

    @property
    def level(self) -> np.ndarray:
        """Mask of flat points whose plane lies within 20° of horizontal. Shape (n,)."""
        return self.flat & (np.abs(self.normals[:, 2]) > 0.94)

    @property
    def upright(self) -> np.ndarray:
        """Mask of flat points whose plane stands within 10° of the plumb line. Shape (n,)."""
        return self.flat & (np.abs(self.normals[:, 2]) < 0.175)


def shape(xyz: np.ndarray, cell: float, facing: np.ndarray | None = None, k: int = NEIGHBOURS) -> Shape:
    """Local planes of points (n, 3), m, one to a cell of ``cell`` m.  ``facing`` (n, 3) points from each to
    its scanner; zero where that is not known, and upwards without it.
    """
    k = min(k, len(xyz))
    apart, near = cKDTree(xyz, balanced_tree=False, compact_nodes=False).query(xyz, k=k, workers=-1)
    apart, near = apart.reshape(len(xyz), k), near.reshape(len(xyz), k)
    spread, normals = planes.through(xyz, near)
    side = normals[:, 2] if facing is None else (normals * facing).sum(1)
    normals = np.where(side[:, None] < 0, -normals, normals)
    flat = (spread[:, 0] < FLAT * spread[:, 1]) & (spread[:, 1] > 0.08 * spread[:, 2])
    return Shape(xyz, normals, spread, flat, near, apart, cell)


@njit(cache=True, nogil=True)
def _links(
    xyz: np.ndarray,
    normals: np.ndarray,
    flat: np.ndarray,
    near: np.ndarray,
    apart: np.ndarray,
    reach: float,
    turn: float,
    off: float,
    out: np.ndarray,
):
    count = 0
    for i in range(len(xyz)):
        if not flat[i]:
            continue
        for j in range(1, near.shape[1]):
            q = near[i, j]
            if q <= i and i in near[q]:
                continue  # met from the other side
            if not flat[q] or apart[i, j] > reach:
                continue
            same, mine, other = 0.0, 0.0, 0.0
            for a in range(3):
                same += normals[i, a] * normals[q, a]
                mine += normals[i, a] * (xyz[q, a] - xyz[i, a])
                other += normals[q, a] * (xyz[q, a] - xyz[i, a])
            if same > turn and abs(mine) < off and abs(other) < off:
                out[count, 0], out[count, 1] = i, q
                count += 1
    return count


def pieces(shape: Shape) -> np.ndarray:
    """(n,) number of the smooth piece of surface that each flat point belongs to, -1 for the others."""
    out = np.empty((shape.near.size, 2), np.int64)
    count = _links(
        shape.xyz,
        shape.normals,
        shape.flat,
        shape.near,
        shape.apart,
        REACH * shape.cell,
        TURN,
        OFF * shape.cell,
        out,
    )
    a, b = out[:count].T
    n = len(shape.xyz)
    _, number = connected_components(
        coo_array((np.ones(count, np.int8), (a, b)), shape=(n, n)), directed=False
    )
    number = number.astype(np.int64)
    number[~shape.flat] = -1
    _, number[shape.flat] = np.unique(number[shape.flat], return_inverse=True)
    return number


def outward(xyz: np.ndarray, level: np.ndarray, wide: float = 0.2, thick: float = 0.15) -> np.ndarray:
    """(m,) which way a level surface at each place of ``level`` (indices) looks, 1 up and -1 down, told from
    what else is level in its column of ``wide`` m: the lowest looks up, the highest down, those between to
    the side with more room; 0 where nothing else is.
    """
    column = np.floor(xyz[level, :2] / wide).astype(np.int64)
    _, column = np.unique(column, axis=0, return_inverse=True)
    order = np.lexsort((xyz[level, 2], column.ravel()))
    column, z = column.ravel()[order], xyz[level[order], 2]
    start = np.r_[True, (column[1:] != column[:-1]) | (z[1:] - z[:-1] > thick)]
    sheet = np.cumsum(start) - 1
    first, last = np.flatnonzero(start), np.r_[np.flatnonzero(start)[1:], len(z)] - 1
    owner = column[first]
    below = np.r_[np.inf, np.where(owner[1:] == owner[:-1], z[first[1:]] - z[last[:-1]], np.inf)]
    above = np.r_[below[1:], np.inf]
    up = np.isinf(below) | (np.isfinite(above) & (above >= below))
    way = np.where(np.isinf(below) & np.isinf(above), 0, np.where(up, 1, -1))
    out = np.empty(len(level), np.int64)
    out[order] = way[sheet]
    return out
