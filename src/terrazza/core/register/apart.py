"""How far two scans of a pair lie apart, point by point, where both saw a surface."""

from dataclasses import dataclass

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import planes

NEAR = 0.05  # m off the other scan's surface, at most: what is farther is something else
AROUND = 0.15  # m within which half of the points of a local plane lie
AMONG = 12  # points of a local plane
FLAT = 0.06  # of its smallest to its middle eigenvalue, at most
UPRIGHT = 0.5  # of a normal upwards: below it is a wall


@dataclass(frozen=True)
class Apart:
    """Of points of one scan: the places ``xyz`` (m, 3) m where the other shows a surface, the distances
    ``off`` (m,) m from it, positive towards the other's scanner, and whether that is a ``wall`` (m,).
    """

    xyz: np.ndarray
    off: np.ndarray
    wall: np.ndarray


def measured(own: np.ndarray, other: np.ndarray, eye: np.ndarray) -> Apart:
    """Points ``own`` (n, 3) against the surface that ``other`` (m, 3) show around each, seen from ``eye``
    (3,); all in one frame, heights upright, m.
    """
    if len(own) == 0 or len(other) < AMONG:
        return Apart(np.zeros((0, 3)), np.zeros(0), np.zeros(0, bool))
    tree = cKDTree(other, balanced_tree=False, compact_nodes=False)
    far, near = tree.query(own, k=AMONG, workers=-1)
    there = far[:, AMONG // 2] < AROUND
    own, near = own[there], near[there]
    shape, normal = planes.through(other, near)
    middle = other[near].mean(1)
    normal = np.where(((eye - middle) * normal).sum(1, keepdims=True) < 0, -normal, normal)
    off = ((own - middle) * normal).sum(1)
    good = (shape[:, 0] < FLAT * shape[:, 1]) & (np.abs(off) < NEAR)
    return Apart(own[good], off[good], np.abs(normal[good, 2]) < UPRIGHT)
