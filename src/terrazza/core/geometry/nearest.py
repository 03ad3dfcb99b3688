"""Nearest neighbours among points that stay, for many queries in one process."""

import numpy as np
import small_gicp


class Nearest:
    """Finds the nearest of some points (n, 3), by a k-d tree of a general-purpose library; both points and
    queries best come in spatial order.
    """

    def __init__(self, points: np.ndarray):
        self.count = len(points)
        self._tree = small_gicp.KdTree(np.ascontiguousarray(points, np.float64)) if self.count else None

    def distances(self, query: np.ndarray, k: int) -> np.ndarray:
        """Distances (m, k), ascending, from queries (m, 3) to their nearest points, themselves included where
        they are among them; infinite where there are fewer than ``k``.
        """
        out, there = np.full((len(query), k), np.inf), min(k, self.count)
        if there and len(query):
            out[:, :there] = np.sqrt(
                np.asarray(
                    self._tree.batch_knn_search(np.ascontiguousarray(query, np.float64), there)[1]
                ).reshape(len(query), -1)
            )
        return out
