"""Planes through points: one fit, and local planes of a whole cloud by its nearest neighbours."""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy.spatial import cKDTree


@dataclass(frozen=True)
class Plane:
    """``normal · p = distance``; ``rms`` (m) of the points about it; ``curvature`` λ0 / Σλ of their
    covariance.
    """

    normal: np.ndarray
    distance: float
    rms: float
    curvature: float


def fit(points: np.ndarray) -> Plane:
    """Total least squares plane through points (n, 3), n ≥ 3."""
    centre = points.mean(0)
    values, vectors = np.linalg.eigh(np.cov((points - centre).T, bias=True))
    normal = vectors[:, 0]
    return Plane(
        normal,
        float(normal @ centre),
        float(np.sqrt(max(values[0], 0))),
        float(values[0] / max(values.sum(), 1e-30)),
    )


@njit(cache=True, nogil=True)
def _spreads(xyz: np.ndarray, neighbours: np.ndarray, out: np.ndarray):
    """Covariances (upper triangle, n × 6) of each point's neighbours; those past the last point do
    not count.
    """
    n, k = neighbours.shape
    for i in range(n):
        used, mx, my, mz = 0, 0.0, 0.0, 0.0
        for j in range(k):
            q = neighbours[i, j]
            if q < len(xyz):
                mx += xyz[q, 0]
                my += xyz[q, 1]
                mz += xyz[q, 2]
                used += 1
        least = max(used, 1)
        mx, my, mz = mx / least, my / least, mz / least
        for j in range(k):
            q = neighbours[i, j]
            if q < len(xyz):
                x, y, z = xyz[q, 0] - mx, xyz[q, 1] - my, xyz[q, 2] - mz
                out[i, 0] += x * x / least
                out[i, 1] += x * y / least
                out[i, 2] += x * z / least
                out[i, 3] += y * y / least
                out[i, 4] += y * z / least
                out[i, 5] += z * z / least


def local_planes(xyz: np.ndarray, k: int = 12, tree: cKDTree | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Normals (n, 3), turned towards the frame's origin (the scanner), and eigenvalues (n, 3),
    ascending, m².
    """
    tree = tree or cKDTree(xyz, balanced_tree=False, compact_nodes=False)
    _, neighbours = tree.query(xyz, k=min(k, len(xyz)), workers=-1)
    shape, normals = through(xyz, np.atleast_2d(neighbours))
    return np.where((normals * xyz).sum(1, keepdims=True) > 0, -normals, normals), shape


def through(xyz: np.ndarray, neighbours: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Eigenvalues (m, 3), ascending, m², and unit normals (m, 3) of either sign, of the planes through groups
    (m, k) of points; indices past the last point do not count.
    """
    spreads = np.zeros((len(neighbours), 6))
    _spreads(np.ascontiguousarray(xyz), neighbours.astype(np.int64), spreads)
    shape, vectors = np.linalg.eigh(spreads[:, [0, 1, 2, 1, 3, 4, 2, 4, 5]].reshape(-1, 3, 3))
    return shape, vectors[:, :, 0]


def along(normal: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Two unit directions (3,) in a plane with this unit ``normal``, right-handed with it; the first is level
    where the plane is upright.
    """
    first = np.cross([0.0, 0.0, 1.0] if abs(normal[2]) < 0.9 else [1.0, 0.0, 0.0], normal)
    first /= np.linalg.norm(first)
    return first, np.cross(normal, first)
