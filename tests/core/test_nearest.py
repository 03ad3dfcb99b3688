"""Nearest neighbours against another tree, and where there are fewer points than asked for."""

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.geometry.nearest import Nearest


@pytest.mark.parametrize("k", [1, 4, 9])
@pytest.mark.parametrize("n", [0, 1, 5, 4000])
def test_distances_are_those_of_another_tree(n, k):
    rng = np.random.default_rng(n)
    points, query = (
        rng.normal(0, 3, (n, 3)) + [4200, 8800, 300],
        rng.normal(0, 3, (300, 3)) + [4200, 8800, 300],
    )
    found = Nearest(points).distances(query, k)
    assert found.shape == (300, k) and (np.isinf(found).sum(1) == max(k - n, 0)).all()
    if n:
        assert np.allclose(
            found, cKDTree(points).query(query, k=k)[0].reshape(300, k), rtol=1e-12, atol=1e-12
        )


def test_points_that_lie_together_are_neighbours_of_each_other():
    points = np.repeat([[1.0, 2, 3], [1.0, 2, 4]], 3, axis=0)
    assert np.allclose(Nearest(points).distances(points, 4), [[0, 0, 0, 1]] * 6)
    assert Nearest(points).distances(np.zeros((0, 3)), 2).shape == (0, 2)
