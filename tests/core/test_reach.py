"""The nearest point within a reach, against a k-d tree; and how long what is worked out is kept."""

import gc

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.geometry.reach import Reach
from terrazza.core.register import surface


@pytest.mark.parametrize("far", [0.0, 4e5])
@pytest.mark.parametrize(("n", "spread"), [(0, 1.0), (1, 1.0), (3000, 1.0), (3000, 0.05), (500, 300.0)])
def test_the_nearest_is_that_of_a_tree(n, spread, far):
    """Crowded, sparse, far from the origin, over so wide a room that cells are numbered beyond 2³¹."""
    rng = np.random.default_rng(n)
    points = rng.normal(0, spread, (n, 3)) * [1, 1, 0.3] + far
    near = points[rng.integers(0, max(n, 1), 400 * (n > 0))] + rng.normal(0, 0.1, (400 * (n > 0), 3))
    query = np.r_[near, rng.normal(0, 1.5 * spread, (400, 3)) + far]
    found = Reach(points, 0.2)
    for reach in (0.2, 0.07):
        away, index = found.nearest(query, reach)
        expected = cKDTree(points).query(query, distance_upper_bound=reach)
        assert np.array_equal(index, expected[1])
        assert np.allclose(away, expected[0], rtol=1e-9)
    assert n < 500 or 0 < np.isfinite(away).sum() < len(query)


def test_what_was_worked_out_goes_with_its_object_and_with_its_turn():
    class Thing:
        pass

    lately, things, made = surface.Lately(2), [Thing() for _ in range(3)], []
    for k in (0, 1, 0, 2, 0, 1):  # the one not asked for longest goes first
        lately.of(things[k], lambda k=k: made.append(k))
    assert made == [0, 1, 2, 1]
    for _ in range(3):
        assert lately.of(Thing(), lambda: "anew") == "anew"
    things.clear()
    gc.collect()
    assert len(lately._kept) == 0
