"""How well a scan that is being moved lies on the others: quick enough to follow a hand."""

import numpy as np
from scipy.spatial import cKDTree

from terrazza.core.geometry import planes, rigid

NEAR = 0.3  # m: a point with nothing of the others so near has no partner
AMONG = 10  # points of a local plane
MOST = 0.84  # share of the points: a shift along a room shows on its end walls alone


class Others:
    """Points (n, 3) m of the scans that stay, with the planes around them."""

    def __init__(self, points: np.ndarray):
        self.points = points
        self.tree = (
            cKDTree(points, balanced_tree=False, compact_nodes=False) if len(points) >= AMONG else None
        )
        if self.tree:
            _, near = self.tree.query(points, k=AMONG, workers=-1)
            _, self.normals = planes.through(points, near)

    def judge(self, own: np.ndarray, pose: np.ndarray) -> tuple[float, float | None]:
        """Share of the points (m, 3) of a scan at a ``pose`` (4×4) that lie beside the others, and how far
        (m) most of these lie from the others' planes at most; None where there are none.
        """
        if self.tree is None or not len(own):
            return 0.0, None
        xyz = rigid.apply(pose, own)
        far, near = self.tree.query(xyz, distance_upper_bound=NEAR, workers=-1)
        there = np.isfinite(far)
        if not there.any():
            return 0.0, None
        near, xyz = near[there], xyz[there]
        off = np.abs(((xyz - self.points[near]) * self.normals[near]).sum(1))
        return float(there.mean()), float(np.quantile(off, MOST))
