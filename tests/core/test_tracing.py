"""Sections followed along a thing: the fit, its prior, what it covers, bridges, and what the data say of a
surface.
"""

import numpy as np
import pytest

from terrazza.core.draw import tracing
from terrazza.core.surfaces.spread import Spread, together
from tests.kerbs import SHAPE


def on_shape(corners, n=600, noise=0.002, seed=0):
    """Points (n, 2) evenly along a shape."""
    rng = np.random.default_rng(seed)
    length = np.linalg.norm(np.diff(corners, axis=0), axis=1)
    piece = rng.choice(len(length), n, p=length / length.sum())
    t = rng.random(n)[:, None]
    return corners[piece] * (1 - t) + corners[piece + 1] * t + rng.normal(0, noise, (n, 2))


@pytest.mark.parametrize("shift", [(0.0, 0.0), (0.02, -0.01), (-0.015, 0.02)])
@pytest.mark.parametrize("lower", [1.0, 0.9])
def test_corners_move_to_the_points(shift, lower):
    true = SHAPE * [1, lower] + shift
    found, rms, points, cover = tracing.fitted(on_shape(true), SHAPE, 0.02, 0.03)
    assert 0.0015 < rms < 0.0025 and points > 500 and cover > 0.9
    assert np.abs(found - true)[1:3].max() < 0.004  # the outer corners may slide along their pieces
    assert np.abs(found[:, 1] - true[:, 1]).max() < 0.004


def test_what_does_not_belong_is_left_out():
    rng = np.random.default_rng(1)
    wheel = rng.uniform([-0.25, 0.05], [-0.02, 0.3], (200, 2))
    found, rms, _, _ = tracing.fitted(np.r_[on_shape(SHAPE), wheel], SHAPE + 0.01, 0.004, 0.03)
    assert rms < 0.004 and np.abs(found - SHAPE)[1:3].max() < 0.005


def test_few_points_leave_the_shape_as_it_was():
    found, rms, points, cover = tracing.fitted(on_shape(SHAPE, 8), SHAPE, 0.004, 0.03)
    assert np.array_equal(found, SHAPE) and np.isinf(rms) and points <= 8 and cover == 0


def test_a_piece_that_nothing_shows_uncovers_the_whole():
    half = on_shape(SHAPE)
    *_, cover = tracing.fitted(half[half[:, 0] > -0.03], SHAPE, 0.004, 0.03)
    assert cover < tracing.COVER
    *_, whole = tracing.fitted(half, SHAPE, 0.004, 0.03)
    assert whole > 0.8


def test_the_prior_moves_all_together_more_easily_than_one():
    information = tracing._prior(4, 0.004, 0.03)
    together_, alone = np.tile([0.01, 0.0], 4), np.r_[0.01, np.zeros(7)]
    assert alone @ information @ alone > 10 * (together_ @ information @ together_)
    assert together_ @ information @ together_ == pytest.approx(0.01**2 / (0.03**2 + 0.004**2 / 4), rel=1e-9)


def place(s, guessed=False, radius=10.0):
    """A place of a circle at arc length s, rising 2 %."""
    a = s / radius
    at = np.array([radius * np.sin(a), radius * (1 - np.cos(a)), 0.02 * s])
    if guessed:
        return tracing.Place(at + 5.0, a + 1.0, SHAPE, 0.002, 0, True)
    return tracing.Place(at, a, SHAPE, 0.002, 50)


def test_gaps_are_bridged_smoothly():
    s = np.arange(0, 10, tracing.ADVANCE)
    hidden = (s > 3.9) & (s < 7.1)
    out = tracing.bridged([place(v, bool(h)) for v, h in zip(s, hidden)])
    for v, p in zip(s, out):
        true = place(v)
        assert np.linalg.norm(p.at - true.at) < (0.03 if p.guessed else 1e-12)
        assert abs(p.heading - true.heading) < 0.02
    open_end = [place(v, v > 5) for v in s]
    assert tracing.bridged(open_end)[-1] is open_end[-1], "what ends in a guess has nothing to go to"


def test_a_straight_thing_is_followed_to_its_end_and_no_farther():
    def section(at, heading, corners):
        if not -5 < at[0] < 8:
            return np.zeros((0, 2))
        seen = on_shape(SHAPE, 400, seed=int(1000 * abs(at[0]))) - [at[1], at[2]]
        return seen * [np.sign(np.cos(heading)), 1]  # looking back, left is right

    start = tracing.begin(section, np.array([0.0, 0.0, 0.0]), 0.0, SHAPE)
    places = tracing.both_ways(section, start, 100.0)
    x = np.array([p.at[0] for p in places])
    assert (np.diff(x) > 0).all() and (x[0], x[-1]) == pytest.approx((-5, 8), abs=0.3)
    assert not any(p.guessed for p in places) and np.abs([p.heading for p in places]).max() < 0.03
    corners = np.array([p.placed() for p in places])
    assert np.abs(corners[:, 1:3, 1] - SHAPE[1:3, 0]).max() < 0.006
    stopped = tracing.follow(section, start, 100.0, lambda p: p.at[0] > 2)
    assert stopped[-1].at[0] == pytest.approx(2.1, abs=0.2)


def test_distances_spread_as_numpy_says():
    rng = np.random.default_rng(3)
    parts = [rng.normal(0.002, 0.004, n) for n in (10, 5000, 333)]
    parts[1][:40] = np.nan
    parts[2][:20] = 0.035  # beyond the reach, and not so far
    found = together([Spread.of(p, 0.02, 0.005) for p in parts])
    every = np.concatenate(parts)
    near = every[np.abs(every) <= 0.02]
    assert found.count == len(near) and found.beyond == 20
    assert found.within == (np.abs(near) <= 0.005).sum() and found.counts.sum() == found.count
    assert found.mean == pytest.approx(near.mean()) and found.sigma == pytest.approx(near.std())
    assert found.rms == pytest.approx(np.sqrt(np.mean(near**2)))
    for share in (0.025, 0.5, 0.9):
        assert found.quantile(share) == pytest.approx(np.quantile(near, share), abs=1.5e-4)
    assert together([]).count == 0
