"""Whole-number coordinates moved in one pass, against the plain way in floating point."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.geometry.quantised import moved


@pytest.mark.parametrize("seed", range(5))
@pytest.mark.parametrize("scale", [1e-5, 1e-4, 0.001])
def test_moved_integers_are_the_rounded_coordinates(seed, scale):
    rng = np.random.default_rng(seed)
    position = rng.integers(-4_000_000, 4_000_000, (5000, 3)).astype(np.int32)
    own, offset = np.full(3, 1e-5), rng.normal(0, 5, 3)
    pose = rigid.make(rigid.rotation_from(rng.normal(0, 1, 3)), [523_000.0, 4_981_000.0, 310.0])
    place = np.round(pose[:3, 3])
    plain = (rigid.apply(pose, position * own + offset) - place) / scale
    got = moved(position, own, offset, pose, np.full(3, scale), place)
    assert got.dtype == np.int32 and np.abs(got - plain).max() <= 0.5 + 1e-3
    assert (
        np.abs((got * scale + place) - rigid.apply(pose, position * own + offset)).max() <= scale / 2 + 2e-9
    )


def test_no_points_are_moved_to_none():
    assert moved(
        np.zeros((0, 3), np.int32), np.ones(3), np.zeros(3), np.eye(4), np.ones(3), np.zeros(3)
    ).shape == (0, 3)
