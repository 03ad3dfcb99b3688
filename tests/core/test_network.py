"""The network of ties: its graph, its reliability numbers, instrument errors in its σ, and double walls; on
simulated places and ties whose truth is known.
"""

from dataclasses import replace

import numpy as np
import pytest
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.measure.fits import circle
from terrazza.core.register import cloud_fit, double_walls, graph, linking, network, offers, quality, surface
from terrazza.core.register.linking import Tie
from tests.places import WORLDS, scanned

TIGHT = np.diag([1e8] * 3 + [1e6] * 3) * graph.LEAST_RMS**2 * graph.ALIKE_POINTS  # σ 0.1 mrad and 1 mm


def seen_from(family, seed, index=0.0, most=6):
    """True poses and clouds of some stations of a simulated place, each with a vertical index error of ±
    ``index`` (rad).
    """
    rng = np.random.default_rng([seed, 7])
    place = WORLDS[family](rng)
    got = [
        scanned(place, family, station, rng, index * rng.choice([-1, 0, 1]))
        for station in list(place.places)[-most:]
    ]
    return [g[0] for g in got], [g[2] for g in got], rng


@pytest.mark.parametrize(("family", "seed"), [("hotel", 5), ("crowd", 4), ("floors", 6)])
def test_double_walls_name_the_one_scan_that_is_4_mm_off(family, seed):
    poses, clouds, rng = seen_from(family, seed, np.radians(15 / 3600))
    poses = [rigid.step(p, rng.normal(0, 1e-5, 3), rng.normal(0, 0.0003, 3), p[:3, 3]) for p in poses]
    assert double_walls.find(clouds, poses) == []
    for k in (0, len(poses) - 1):
        off = list(poses)
        off[k] = rigid.step(poses[k], np.zeros(3), np.array([0.0023, -0.0023, 0.0023]), poses[k][:3, 3])
        found = double_walls.find(clouds, off)
        assert found and all(
            0.002 < abs(d.offset) < 0.006 and d.sigma < 0.001 and d.area > 0.5 for d in found
        )
        partners = {k: {d.a + d.b - k for d in found if k in (d.a, d.b)} for d in found for k in (d.a, d.b)}
        assert k in double_walls.standing_off(found)[: 1 if len(partners[k]) > 1 else 2]


@pytest.mark.parametrize(("off", "told"), [(0.002, False), (0.010, True)])
def test_a_column_shows_twice_by_its_centres(off, told):
    rng = np.random.default_rng(2)

    def column(side, shift):
        turn, z = rng.uniform(-1.2, 1.2, 4000) + side, rng.uniform(-1.4, 1.0, 4000)
        floor = np.c_[rng.uniform(-2, 2, (4000, 2)), np.full(4000, -1.4)]
        return np.r_[np.c_[0.2 * np.cos(turn) + shift, 0.2 * np.sin(turn), z], floor] + rng.normal(
            0, 0.001, (8000, 3)
        )

    found = [
        d
        for d in double_walls.find([column(0, 0), column(np.pi, off)], [np.eye(4)] * 2)
        if d.what == "column"
    ]
    assert bool(found) == told and (not told or abs(found[0].offset - off) < 0.001)


def test_a_circle_has_an_honest_sigma():
    rng, off = np.random.default_rng(4), []
    for _ in range(200):
        turn = rng.uniform(-0.8, 0.8, 60)
        centre, radius, rms, sigma = circle(
            np.c_[3 + 0.3 * np.cos(turn), 0.3 * np.sin(turn)] + rng.normal(0, 0.002, (60, 2))
        )
        off.append((centre[0] - 3) / sigma)
    assert 0.8 < np.std(off) < 1.25 and circle(np.c_[np.arange(9.0), np.zeros(9)]) is None


@pytest.mark.parametrize("family", ["street"])
def test_sigma_holds_what_a_vertical_index_error_does(family):
    """Mean of e²/σ² of all shifts and turns over places, with index errors of 12″: from both sides."""
    squares = []
    for seed in (40, 41):
        poses, clouds, rng = seen_from(family, seed, np.radians(12 / 3600))
        start = [
            poses[0],
            *(rigid.step(p, rng.normal(0, 3e-4, 3), rng.normal(0, 0.005, 3), p[:3, 3]) for p in poses[1:]),
        ]
        adjusted = network.solve(clouds, start, {0}, known=np.zeros((6 * len(poses),) * 2))
        for a, t, c in list(zip(adjusted.poses, poses, adjusted.covariance))[1:]:
            error = np.r_[rigid.vector_from(t[:3, :3] @ a[:3, :3].T), (t - a)[:3, 3]]
            squares += (error**2 / np.diag(c)).tolist()
    assert 0.15 < np.mean(squares) < 4 and np.mean(np.array(squares) < 2.5**2) > 0.85


def test_a_block_that_nothing_holds_has_the_sigma_of_where_it_began():
    """Two pairs of scans in one bare corridor, each pair held by a box of its own: along it the pairs are
    free against each other, and within themselves they are not.
    """
    rng = np.random.default_rng(5)

    def bare(box):
        x, side = rng.uniform(-6, 6, 40000), rng.integers(0, 4, 40000)
        across, up = rng.uniform(-1, 1, 40000), rng.uniform(-1.4, 1.2, 40000)
        walls = np.c_[
            x,
            np.select([side == 0, side == 1], [-1.0, 1.0], across),
            np.select([side == 2, side == 3], [-1.4, 1.2], up),
        ]
        return np.r_[
            walls, np.c_[np.full(4000, box), rng.uniform(-1, 1, 4000), rng.uniform(-1.4, 1.2, 4000)]
        ] + rng.normal(0, 0.002, (44000, 3))

    adjusted = network.solve([bare(-3.1), bare(-3.1), bare(3.1), bare(3.1)], [np.eye(4)] * 4, {0})
    along = np.sqrt([adjusted.joint[6 * k + 3, 6 * k + 3] for k in range(4)])
    both = adjusted.joint[15, 15] + adjusted.joint[21, 21] - 2 * adjusted.joint[15, 21]
    assert along[1] < 0.001 and along[2:].min() > 0.03 and np.sqrt(max(both, 0)) < 0.002


def tie(a, b, pose, information=TIGHT, free=()):
    return Tie(
        a,
        b,
        cloud_fit.Fit(pose, graph.LEAST_RMS, 0.001, 0.5, 5000, information, np.zeros(3), True, free),
        0.5,
        0.0,
    )


def ring(rng, noise=1.0, count=5):
    """True poses around a circle, and ties between neighbours and across with noise in units of TIGHT."""
    poses = [
        rigid.make(rigid.about_z(0.7 * k), np.array([6 * np.cos(k), 6 * np.sin(k), 0.1 * k]))
        for k in range(count)
    ]
    ties = []
    for a in range(count):
        for b in sorted({(a + 1) % count, (a + 2) % count} - {a}):
            ties.append(
                tie(
                    a,
                    b,
                    rigid.step(
                        rigid.inverse(poses[a]) @ poses[b],
                        noise * rng.normal(0, 1e-4, 3),
                        noise * rng.normal(0, 1e-3, 3),
                        np.zeros(3),
                    ),
                )
            )
    return poses, ties


def test_ties_around_are_balanced_and_their_covariance_is_true():
    """Poses from ties with known noise follow chi-square, from both sides; a wrong tie is weighed down and
    shows.
    """
    rng, total = np.random.default_rng(6), 0.0
    for _ in range(12):
        poses, ties = ring(rng)
        found = graph.relax(
            [
                rigid.step(p, rng.normal(0, 1e-3, 3), rng.normal(0, 0.02, 3), p[:3, 3]) if k else p
                for k, p in enumerate(poses)
            ],
            ties,
            {0},
        )
        joint = network.by_ties(found.poses, found.information, {0}).joint
        error = np.concatenate(
            [
                np.r_[rigid.vector_from(t[:3, :3] @ a[:3, :3].T), (t - a)[:3, 3]]
                for a, t in zip(found.poses, poses)
            ]
        )[6:]
        total += error @ np.linalg.solve(joint[6:, 6:], error)
    low, high = stats.chi2.ppf([0.0005, 0.9995], 24 * 12)
    assert low < total < high
    wrong = [
        *ties[:-1],
        replace(
            ties[-1],
            fit=replace(
                ties[-1].fit,
                pose=rigid.step(ties[-1].fit.pose, np.zeros(3), np.array([0.3, 0, 0]), np.zeros(3)),
            ),
        ),
    ]
    found = graph.relax(poses, wrong, {0})
    assert (
        int(np.argmax(found.misfit)) == len(ties) - 1
        and max(rigid.difference(a, t)[0] for a, t in zip(found.poses, poses)) < 0.01
    )


def test_ties_that_contradict_each_other_send_no_scan_away():
    """Two ties that slide along nearly one line, and put a scan on either side of another: they cross
    kilometres off.
    """
    line = lambda turn: (np.array([np.cos(turn), np.sin(turn), 0.0]),)
    poses = [np.eye(4)] * 3
    apart = rigid.make(np.eye(3), np.array([0.0, 12.0, 0.0]))
    ties = [tie(0, 1, np.eye(4)), tie(0, 2, np.eye(4), free=line(0.0)), tie(1, 2, apart, free=line(0.004))]
    found = graph.relax(poses, ties, {0})
    assert rigid.difference(found.poses[2], poses[2])[0] < graph.ASTRAY[0] and max(found.misfit) > 100


def test_shifts_that_no_surface_faces_are_not_held_by_a_tie():
    held = graph.relax([np.eye(4)] * 2, [tie(0, 1, np.eye(4))], {0}).information
    free = graph.relax(
        [np.eye(4)] * 2, [tie(0, 1, np.eye(4), free=(np.array([1.0, 0, 0]),))], {0}
    ).information
    assert free[9, 9] < 1e-5 * held[9, 9] and free[10, 10] == pytest.approx(held[10, 10])


def test_what_nothing_holds_is_not_carried_off_by_rounding():
    """A shift of which a tie keeps next to no information, but for what rounding leaves beside it."""
    uneven = TIGHT.copy()
    uneven[3, 3], uneven[0, 3], uneven[3, 0] = 0.0, 1e-7 * TIGHT[0, 0], 1e-7 * TIGHT[0, 0]
    even, along = np.diag([1.0, 1, 1, 0, 1, 1]) * TIGHT, (np.array([1.0, 0, 0]),)
    off = rigid.make(rigid.rotation_from(np.array([2e-4, 0, 0])), np.zeros(3))
    ties = [tie(0, 1, off, uneven, along), tie(0, 1, np.eye(4), even, along)]
    found = graph.relax([np.eye(4)] * 2, ties, {0}).poses[1]
    assert abs(found[0, 3]) < 0.001
    assert rigid.vector_from(found[:3, :3])[0] == pytest.approx(1e-4, rel=0.05)


def test_a_fit_that_wanders_off_is_no_tie(monkeypatch):
    for shift, failed in [(0.3, False), (0.7, True)]:
        away = rigid.make(np.eye(3), np.array([shift, 0, 0]))
        monkeypatch.setattr(linking, "fit_pair", lambda *_, away=away: tie(0, 1, away))
        assert bool(linking.fit_near([], [], 0, 1, np.eye(4)).failed) == failed


def test_reliability_of_ties():
    """Redundancy sums to what is observed more than needed, the global test keeps its bounds, a loop tells
    its misclosure, and what nothing controls goes unnoticed.
    """
    rng = np.random.default_rng(7)
    values = []
    for _ in range(30):
        poses, ties = ring(rng)
        found = graph.relax(poses, ties, {0})
        judged = quality.of_ties(
            ties, found.poses, network.by_ties(found.poses, found.information, {0}).joint
        )
        values.append(quality.global_test(judged, 4))
    assert sum(6 * q.redundancy for q in judged) == pytest.approx(6 * (len(ties) - 4), abs=0.1)
    assert (
        np.mean([low < value < high for value, low, high in values]) > 0.8
        and 0.8 < np.mean([v[0] for v in values]) < 1.2
    )
    assert all(0.004 < q.unnoticed < 0.02 for q in judged)
    alone = quality.of_ties(
        ties[:1],
        [poses[ties[0].a], poses[ties[0].b]],
        network.by_ties(
            [poses[0]] * 2,
            graph.relax([poses[0], poses[1]], [replace(ties[0], a=0, b=1)], {0}).information,
            {0},
        ).joint,
    )
    assert (
        alone[0].redundancy < 0.01 and alone[0].unnoticed == np.inf and quality.global_test(alone, 1) is None
    )
    exact = [tie(a, b, rigid.inverse(poses[a]) @ poses[b]) for a, b in ((0, 1), (1, 2), (0, 2))]
    exact[0] = replace(
        exact[0],
        fit=replace(
            exact[0].fit, pose=rigid.make(np.eye(3), np.array([0.005, 0, 0])) @ exact[0].fit.pose, overlap=0.1
        ),
    )
    assert (
        quality.loops(exact, 3)[0].shift == pytest.approx(0.005, abs=1e-9)
        and set(quality.loops(exact, 3)[0].scans) == {0, 1, 2}
        and quality.loops(exact[:2], 3) == []
    )


def test_advice_names_the_loosest_scan_and_a_tie_that_would_hold_it():
    poses = [rigid.make(np.eye(3), np.array([5.0 * k, 0, 0])) for k in range(3)]
    loose = TIGHT.copy()
    loose[3, 3] *= 1e-4
    ties = [
        tie(0, 1, rigid.inverse(poses[0]) @ poses[1]),
        tie(1, 2, rigid.inverse(poses[1]) @ poses[2], loose),
    ]
    found = graph.relax(poses, ties, {0})
    told = quality.advice(poses, network.by_ties(poses, found.information, {0}).joint, ties)
    assert (
        (told.scan, told.to) == (2, 0)
        and abs(told.direction[0]) > 0.99
        and 0.05 < told.sigma < 0.1
        and told.then < 0.002
    )


@pytest.mark.parametrize(("apart", "low", "high"), [(0.0, 0.001, 0.004), (0.03, 0.015, 0.03)])
def test_distances_are_judged_where_scans_stand(apart, low, high):
    """RMS of a room laid upon itself with its walls doubled by 3 cm is rough, however well a fit would do."""
    rng = np.random.default_rng(8)

    def room():
        box = rng.uniform(-3, 3, (60000, 3)) * [1, 1, 0.4]
        axis, side = rng.integers(0, 3, 60000), rng.choice([-1, 1], 60000)
        box[np.arange(60000), axis] = side * np.array([3, 3, 1.2])[axis]
        return surface.prepare(box + rng.normal(0, 0.002, box.shape))

    rms, median, used, unmatched = cloud_fit.compare(room(), room(), rigid.make(np.eye(3), np.full(3, apart)))
    assert low < rms < high and median <= rms and used > 1000 and 0 <= unmatched < 0.3


@pytest.mark.parametrize(("moved", "quiet"), [([0.0, 1.0], 1.0), ([2.0, 2.0], 0.5), ([8.0, 8.0, 8.0], 0.125)])
def test_what_may_have_been_moved_counts_less_where_much_is(moved, quiet):
    from terrazza.core.register.contradiction import Verdict

    found = [
        offers.Offer(
            k,
            k + 1,
            tie(0, 1, rigid.make(np.eye(3), np.full(3, 3.0))).fit,
            Verdict((0.9, 0.9), 0.9, 0.9, 0.4, 1.0 + m, [], m, 0.3),
        )
        for k, m in enumerate(moved)
    ]
    upon = Verdict((0.9, 0.9), 0.9, 0.9, 1.0, 20.0, [], 20.0, 1.0)  # like rooms in one place
    found.insert(0, offers.Offer(8, 9, tie(0, 1, np.eye(4)).fit, upon))
    assert offers.quietness(found) == pytest.approx(quiet)
    weighed = offers.weighed(found[-1].verdict, quiet)
    assert weighed.cost == pytest.approx(1.0 + quiet * moved[-1])
    assert weighed.area == pytest.approx(0.1 + quiet * 0.3)
