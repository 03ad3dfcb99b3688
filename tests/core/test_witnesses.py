"""Targets and upright instruments as ties: placements from constellations, and adjusted poses whose σ tells
how far off they are.
"""

import numpy as np
import pytest
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.register import graph, network, witnesses
from terrazza.core.register.witnesses import Sighting


def constellation(rng, scans=4, targets=7, sigma=0.001, tilt=0.02):
    """True poses, and what each scan saw of targets on the walls of a hall."""
    at = np.c_[rng.uniform(0, 20, targets), rng.choice([0.0, 14.0], targets), rng.uniform(0.5, 5, targets)]
    poses = [
        rigid.make(
            rigid.rotation_from(np.r_[rng.normal(0, tilt, 2), rng.uniform(-3, 3)]),
            np.r_[rng.uniform(3, 17), rng.uniform(3, 11), 1.6],
        )
        for _ in range(scans)
    ]
    seen = [
        Sighting(k, rigid.apply(rigid.inverse(p), t[None])[0] + rng.normal(0, sigma, 3), sigma, "sphere")
        for k, p in enumerate(poses)
        for t in at
    ]
    return poses, seen


@pytest.mark.parametrize("seed", range(6))
def test_three_targets_or_more_place_a_scan(seed):
    rng = np.random.default_rng(seed)
    poses, seen = constellation(rng, scans=2, targets=4 + seed % 3)
    found = witnesses.placement([s for s in seen if s.scan == 0], [s for s in seen if s.scan == 1])
    assert rigid.difference(found, rigid.inverse(poses[0]) @ poses[1])[0] < 0.01


def test_targets_in_a_line_in_symmetry_or_of_other_kinds_place_nothing():
    line = [np.array([x, 2.0, 1.0]) for x in (0.0, 1.0, 2.5, 4.0)]
    square = [np.array(p) for p in ([0, 0, 0.0], [3, 0, 0], [3, 3, 0], [0, 3, 0])]
    some = [np.array(p) for p in ([0, 0, 0.0], [3, 0.5, 0.2], [1, 4, 1.0])]
    for points, kinds in (
        (line, ("a", "a")),
        (square, ("a", "a")),
        (some, ("a", "b")),
        (some[:2], ("a", "a")),
    ):
        assert (
            witnesses.placement(
                *([Sighting(k, p, 0.001, kind) for p in points] for k, kind in enumerate(kinds))
            )
            is None
        )


def test_scans_tied_by_targets_stand_where_their_standard_deviations_say():
    squares, misfits = [], []
    for seed in range(40):
        rng = np.random.default_rng(100 + seed)
        poses, seen = constellation(rng)
        start = [
            poses[0],
            *(
                rigid.make(rigid.rotation_from(rng.normal(0, 0.001, 3)), rng.normal(0, 0.01, 3)) @ p
                for p in poses[1:]
            ),
        ]
        groups = witnesses.grouped(seen, start)
        assert sorted(len(g) for g in groups) == [4] * 7
        solved = graph.relax(start, [], {0}, groups)
        adjusted = network.by_ties(solved.poses, solved.known, {0})
        for k in (1, 2, 3):
            off = np.r_[
                rigid.vector_from(solved.poses[k][:3, :3] @ poses[k][:3, :3].T),
                solved.poses[k][:3, 3] - poses[k][:3, 3],
            ]
            squares.append(off @ np.linalg.solve(adjusted.covariance[k], off))
        misfits += witnesses.of_targets(groups, solved.poses)[2]
    low, high = stats.chi2.ppf([0.0005, 0.9995], 6 * len(squares)) / (6 * len(squares))
    assert low < np.mean(squares) / 6 < high * 1.15  # Huber's weights take a little
    assert (
        0.6 < np.sqrt(np.mean(np.square(misfits))) < 1.0
    )  # residuals are smaller than errors by the redundancy


@pytest.mark.parametrize("tilt, level", [(5e-5, True), (2e-3, False)])
def test_upright_instruments_hold_each_others_tilt_where_they_stood_level(tilt, level):
    rng = np.random.default_rng(5)
    poses = [
        rigid.make(
            rigid.rotation_from(np.r_[rng.normal(0, tilt, 2), rng.uniform(-3, 3)]), rng.normal(0, 5, 3)
        )
        for _ in range(8)
    ]
    told = witnesses.of_levels(poses)
    assert (told is not None) == level
    if level:
        normal, gradient = told
        free = [6 * k + i for k in range(1, 8) for i in (0, 1)]
        step = np.linalg.lstsq(normal[np.ix_(free, free)], gradient[free], rcond=None)[0].reshape(-1, 2)
        for k in range(1, 8):
            axis = rigid.rotation_from(np.append(step[k - 1], 0)) @ poses[k][:3, 2]
            assert np.linalg.norm(axis - poses[0][:3, 2]) < 1e-6
        assert np.degrees(np.sqrt(1 / normal[6, 6])) * 3600 == pytest.approx(15 * np.sqrt(8 / 7), rel=0.25)
