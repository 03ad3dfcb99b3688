"""Planes through points: one fit, and local planes of a whole cloud by its nearest neighbours."""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy.spatial import cKDTree


@dataclass(frozen=True)
class Plane:
    """``normal · p = distance``; ``rms`` (m) of the points about it; ``curvature`` λ0 / Σλ of their covariance."""

    normal: np.ndarray
    distance: float
    rms: float
    curvature: float


def fit(points: np.ndarray) -> Plane:
    """Total least squares plane through (n ≥ 3, 3) points."""
    centre = points.mean(0)
    values, vectors = np.linalg.eigh(np.cov((points - centre).T, bias=True))
    normal = vectors[:, 0]
    return Plane(normal, float(normal @ centre), float(np.sqrt(max(values[0], 0))), float(values[0] / max(values.sum(), 1e-30)))


@njit(cache=True, parallel=True, nogil=True)
def _local(xyz, neighbours, normals, shape):
    n, k = neighbours.shape
    for i in prange(n):
        m = np.zeros(3)
        used = 0
        for j in range(k):
            q = neighbours[i, j]
            if q < len(xyz):
                m += xyz[q]
                used += 1
        m /= max(used, 1)
        c = np.zeros((3, 3))
        for j in range(k):
            q = neighbours[i, j]
            if q < len(xyz):
                d = xyz[q] - m
                for a in range(3):
                    for b in range(3):
                        c[a, b] += d[a] * d[b]
        values, vectors = np.linalg.eigh(c / max(used, 1))
        normals[i] = vectors[:, 0]
        shape[i] = values
        if normals[i] @ xyz[i] > 0:
            normals[i] = -normals[i]


def local_planes(xyz: np.ndarray, k: int = 12, tree: cKDTree | None = None) -> tuple[np.ndarray, np.ndarray]:
    """Normals (n, 3), turned towards the frame's origin (the scanner), and eigenvalues (n, 3), ascending, m²."""
    tree = tree or cKDTree(xyz, balanced_tree=False, compact_nodes=False)
    _, neighbours = tree.query(xyz, k=min(k, len(xyz)), workers=-1)
    normals, shape = np.empty((len(xyz), 3)), np.empty((len(xyz), 3))
    _local(np.ascontiguousarray(xyz), np.atleast_2d(neighbours).astype(np.int64), normals, shape)
    return normals, shape
