"""Registration: cloud fit against a general-purpose library, plan match and network against simulated truth
with known noise.
"""

import numpy as np
import pytest
import small_gicp
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.register import (
    cloud_fit,
    contradiction,
    like_points,
    network,
    patches,
    search,
    surface,
    targets,
)
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import PlanShape, candidates, judge
from terrazza.core.register.sighted import Grid
from terrazza.errors import InputError
from terrazza.formats import e57
from tests import places, scenes


@pytest.fixture(scope="module")
def rooms():
    poses = scenes.room_poses()
    clouds = [scenes.scan_room(p, seed=k)["xyz"] for k, p in enumerate(poses)]
    return poses, clouds, [surface.prepare(c) for c in clouds]


@pytest.fixture(scope="module")
def demo_pair(field):
    import json

    truth = json.loads((field / "truth" / "truth.json").read_text())
    path = str(field / "settegradini-house.e57")
    clouds = [np.concatenate([c["xyz"] for c in e57.read_points(path, k)]) for k in (0, 1)]
    return clouds, rigid.inverse(np.array(truth["poses"][0])) @ np.array(truth["poses"][1])


def test_cloud_fit_is_as_good_as_the_library(demo_pair):
    """Point to plane on the same pair from the same start: equal to a tenth of a millimetre, or nearer to the
    truth.
    """
    clouds, truth = demo_pair
    start = rigid.step(truth, np.radians([0.1, -0.1, 0.8]), np.array([0.08, -0.05, 0.04]), truth[:3, 3])
    mine = cloud_fit.fit(surface.prepare(clouds[0]), surface.prepare(clouds[1]), start)
    target, tree = small_gicp.preprocess_points(clouds[0], downsampling_resolution=0.06)
    source, _ = small_gicp.preprocess_points(clouds[1], downsampling_resolution=0.06)
    pose = start
    for reach in (0.3, 0.1, 0.05):
        pose = small_gicp.align(
            target,
            source,
            tree,
            init_T_target_source=pose,
            registration_type="PLANE_ICP",
            max_correspondence_distance=reach,
        ).T_target_source
    error, theirs = rigid.difference(mine.pose, truth), rigid.difference(pose, truth)
    assert error[0] < theirs[0] + 1e-4, f"ours {error[0] * 1000:.2f} mm, theirs {theirs[0] * 1000:.2f} mm"
    assert error[0] < 0.002 and np.degrees(error[1]) < 0.02
    assert 0.001 < mine.rms < 0.004, "the RMS says what the range noise is"
    assert mine.converged and 0.2 < mine.overlap <= 1


@pytest.mark.parametrize("off", [0.02, 0.15, 0.35])
def test_cloud_fit_finds_back_from_a_wide_start(rooms, off):
    poses, _, faces = rooms
    truth = rigid.inverse(poses[0]) @ poses[1]
    start = rigid.step(truth, np.array([0, 0, off / 10]), np.array([off, -off / 2, off / 3]), truth[:3, 3])
    fit = cloud_fit.fit(faces[0], faces[1], start)
    shift, turn = rigid.difference(fit.pose, truth)
    assert shift < 0.001 and np.degrees(turn) < 0.02
    assert 0.0012 < fit.rms < 0.004
    assert sum(fit.hold()[k] for k in "xyz") == pytest.approx(1.0)


def test_a_corridor_is_said_to_slide():
    """Two walls, a floor and a ceiling hold nothing along the corridor."""
    rng = np.random.default_rng(0)
    x = rng.uniform(-8, 8, 60000)
    side = rng.integers(0, 4, 60000)
    across, up = rng.uniform(-1, 1, 60000), rng.uniform(-1.4, 1.2, 60000)
    y, z = (
        np.select([side == 0, side == 1], [-1.0, 1.0], across),
        np.select([side == 2, side == 3], [-1.4, 1.2], up),
    )
    face = surface.prepare(np.c_[x, y, z] + rng.normal(0, 0.002, (60000, 3)))
    fit = cloud_fit.fit(face, face, np.eye(4))
    direction, share = cloud_fit.weak_direction(fit.information)
    assert abs(direction[0]) > 0.99 and share < 0.01


def _sliding_pair(family, seed, pair):
    """Points of two scans, the true pose of the second in the first one's frame, and the way it slides."""
    rng = np.random.default_rng([seed, sum(map(ord, family))])
    place = places.WORLDS[family](rng)
    swept = [places.scanned(place, family, station, rng) for station in place.places]
    clouds = [swept[k][2] for k in pair]
    truth = rigid.inverse(swept[pair[0]][0]) @ swept[pair[1]][0]
    fit = cloud_fit.fit(*map(surface.prepare, clouds), truth, (0.12, 0.06, 0.03))
    return clouds, truth, cloud_fit.weak_direction(fit.information)[0]


@pytest.mark.parametrize(
    ("family", "seed", "pair", "found"),
    [
        ("street", 9202, (0, 1), True),
        ("street", 9211, (1, 2), True),
        ("corridor", 9209, (3, 5), True),
        ("corridor", 9209, (1, 4), False),
        ("rooms", 9003, (1, 4), False),
    ],
)
@pytest.mark.parametrize("off", [-0.23, 0.17])
def test_what_slides_is_caught_where_sides_of_things_hold_it(family, seed, pair, found, off):
    """Pairs that slide along a street or a corridor, begun a hand and more off along it: jambs and the sides
    of things bring them back; without them nothing is said.
    """
    (cloud, other), truth, way = _sliding_pair(family, seed, pair)
    a, b = surface.prepare(cloud), surface.prepare(other)
    loose = cloud_fit.fit(a, b, rigid.make(np.eye(3), off * way) @ truth, (0.2, 0.08))
    assert loose.free and rigid.difference(loose.pose, truth)[0] > abs(off) - 0.05
    caught = cloud_fit.caught(a, b, loose)
    assert (caught is not None) == found
    assert caught is None or rigid.within(caught.pose, truth, (0.005, np.radians(0.05)))


def test_a_scan_placed_by_hand_in_a_street_stands_where_jambs_hold_it():
    clouds, truth, way = _sliding_pair("street", 9202, (0, 1))
    stays, moves = (like_points.Side.of([np.eye(4)], [surface.prepare(c)], [Picture.of(c)]) for c in clouds)
    found = like_points.place(stays, moves, [rigid.make(np.eye(3), 0.2 * way) @ truth])
    assert not found.failed and not found.rivals and not found.fit.free
    assert rigid.within(found.pose, truth, (0.005, np.radians(0.05)))


def test_cloud_fit_without_overlap_says_so(rooms):
    _, _, faces = rooms
    with pytest.raises(InputError, match="too little in common"):
        cloud_fit.fit(faces[0], faces[1], rigid.make(np.eye(3), np.array([60.0, 0, 0])))


@pytest.mark.parametrize("pair", [(0, 1), (0, 2), (1, 2)])
def test_plan_match_finds_the_true_pose_first(rooms, pair):
    poses, _, faces = rooms
    a, b = (PlanShape(faces[k]) for k in pair)
    truth = rigid.inverse(poses[pair[0]]) @ poses[pair[1]]
    best = candidates(a, b)[0]
    shift, turn = rigid.difference(best.pose, truth)
    assert shift < 0.3 and np.degrees(turn) < 2.5
    assert (
        judge(a, b, truth, 0.12).against
        < 0.01
        < judge(a, b, rigid.step(truth, np.zeros(3), np.array([1.5, 0, 0]), truth[:3, 3]), 0.12).against
    )


@pytest.mark.parametrize("start", ["nothing", "one fixed", "one far off"])
def test_all_are_placed_and_none_is_doubted(rooms, start):
    """From nothing, beside a fixed scan, from given poses that are a little or, in one scan, far off: right
    to centimetres before the adjustment.
    """
    poses, clouds, faces = rooms
    shapes, seen, rng = (
        [PlanShape(f) for f in faces],
        [Picture.of(c) for c in clouds],
        np.random.default_rng(2),
    )
    off = [rigid.step(p, rng.normal(0, 0.008, 3), rng.normal(0, 0.1, 3), p[:3, 3]) for p in poses]
    far = [rigid.step(off[2], np.array([0, 0, 1.2]), np.array([4.0, -3, 0]), off[2][:3, 3])]
    given = {
        "nothing": {},
        "one fixed": {1: poses[1]},
        "one far off": dict(enumerate(off[:2] + far)),
    }[start]
    found = search.place(faces, shapes, seen, given, {1} if start == "one fixed" else set())
    assert found.island == [1, 1, 1] and (start == "one far off" or found.doubt == ["", "", ""])
    for k in (1, 2):
        assert (
            rigid.difference(
                rigid.inverse(found.poses[0]) @ found.poses[k], rigid.inverse(poses[0]) @ poses[k]
            )[0]
            < 0.02
        )
    if start == "one fixed":
        assert np.allclose(found.poses[1], poses[1])


@pytest.mark.parametrize(
    ("shift", "low", "high"), [(0.0, 0.0, 0.3), (0.02, 0.0, 0.4), (0.5, 1.2, 60), (1.5, 1.2, 60)]
)
def test_contradiction_counts_compact_patches(rooms, shift, low, high):
    """Next to nothing at the truth and near it, square metres where a scan stands wrong; a person who walked
    along is weighed down.
    """
    poses, clouds, _ = rooms
    seen = [Picture.of(c) for c in clouds]
    truth = rigid.inverse(poses[0]) @ poses[1]
    wrong = truth.copy()
    wrong[:3, 3] += poses[0][:3, :3].T @ np.array([shift, 0, 0])
    verdict = contradiction.judge(seen[0], seen[1], wrong)
    assert low <= verdict.area <= high and (shift > 0.1 or min(verdict.agree) > 0.6)
    somebody = np.random.default_rng(1).uniform([-0.2, -0.2, -1.4], [0.2, 0.2, 0.3], (8000, 3)) + [
        1.3,
        0.4,
        0,
    ]
    direction = np.linalg.norm(somebody, axis=1)
    shade = Picture.of(np.r_[clouds[1], somebody[direction > 0.6]])
    alone = contradiction.judge(seen[0], shade, truth)
    assert alone.area < 1.2, "a person does not refuse a true placement"


def test_the_same_scan_twice_is_laid_upon_itself():
    pose = scenes.room_poses()[0]
    first, turned = scenes.scan_room(pose, seed=1)["xyz"], rigid.make(rigid.about_z(0.3), np.zeros(3))
    clouds = [first, rigid.apply(turned, scenes.scan_room(pose, seed=9)["xyz"])]
    faces = [surface.prepare(c) for c in clouds]
    found = search.place(faces, [PlanShape(f) for f in faces], [Picture.of(c) for c in clouds])
    assert (
        found.island == [1, 1]
        and rigid.difference(rigid.inverse(found.poses[0]) @ found.poses[1], rigid.inverse(turned))[0] < 0.02
    )


def test_a_scan_of_another_room_stays_an_island(rooms):
    _, clouds, faces = rooms
    rng = np.random.default_rng(3)
    elsewhere = rng.normal(0, 1, (40000, 3))
    elsewhere *= (4 + rng.uniform(0, 3, 40000) / 3)[:, None] / np.linalg.norm(elsewhere, axis=1)[:, None]
    faces = [faces[0], faces[1], surface.prepare(elsewhere)]
    found = search.place(
        faces, [PlanShape(f) for f in faces], [Picture.of(c) for c in (*clouds[:2], elsewhere)]
    )
    assert found.poses[2] is None and found.island == [1, 1, 0]


def _simulated(seed):
    """One room field work: errors of the free poses and their reported joint covariance."""
    poses = scenes.room_poses(seed)
    rng = np.random.default_rng(seed + 500)
    clouds = []
    for k, p in enumerate(poses):
        xyz = scenes.scan_room(p, rows=200, columns=480, seed=1000 * seed + k)["xyz"]
        clouds.append(xyz * (1 + rng.normal(0, 0.0003) / np.linalg.norm(xyz, axis=1))[:, None])
    start = [
        rigid.step(p, rng.normal(0, 0.0005, 3), rng.normal(0, 0.004, 3), p[:3, 3]) if k else p
        for k, p in enumerate(poses)
    ]
    adjusted = network.solve(clouds, start, {0})
    errors = [
        np.r_[rigid.vector_from(a[:3, :3] @ t[:3, :3].T), a[:3, 3] - t[:3, 3]]
        for a, t in zip(adjusted.poses[1:], poses[1:])
    ]
    return np.concatenate(errors), adjusted


def test_network_covariance_agrees_with_the_errors_made():
    """Four simulated rooms, range biases included: the squared errors in units of their covariance follow
    chi-square, from both sides.
    """
    values, worst = [], 0.0
    for seed in range(4):
        errors, adjusted = _simulated(seed)
        joint = adjusted.joint[6:, 6:]
        values.append(errors @ np.linalg.solve(joint, errors))
        worst = max(worst, np.abs(errors[[3, 4, 5, 9, 10, 11]]).max())
        assert adjusted.redundancy > 100 and 0.9 < adjusted.variance_factor < 3
    low, high = stats.chi2.ppf([0.0005, 0.9995], 12 * len(values))
    assert low < sum(values) < high, f"sum {sum(values):.0f}, expected {12 * len(values)}"
    assert worst < 0.003


def test_standard_deviations_are_told_from_any_scan_alike(rooms):
    """An adjustment with another scan held gives what the S-transformation says of it (Baarda 1973)."""
    poses, clouds, _ = rooms
    found = patches.collect(clouds[:3], poses[:3])
    first, other = (network.adjust(found, poses[:3], {k}) for k in (0, 1))
    told = network.told_from(first, 1)
    assert np.abs(told.covariance[1]).max() < 1e-18
    np.testing.assert_allclose(np.diag(told.joint), np.diag(other.joint), rtol=0.02, atol=1e-18)
    np.testing.assert_allclose(network.told_from(told, 0).joint, first.joint, atol=1e-15)


def test_network_refuses_a_scan_that_nothing_holds(rooms):
    poses, clouds, _ = rooms
    far = [*poses[:2], rigid.make(np.eye(3), np.array([500.0, 0, 0]))]
    found = patches.collect(clouds, far)
    with pytest.raises(InputError, match="do not hold every scan"):
        network.adjust(found, far, {0})


def test_network_survives_a_moved_thing(rooms):
    """A big box that only one scan saw does not pull the poses."""
    poses, clouds, _ = rooms
    rng = np.random.default_rng(1)
    box = np.c_[np.full(4000, 1.1), rng.uniform(-1, 1, 4000), rng.uniform(-1, 0.5, 4000)]
    adjusted = network.adjust(
        patches.collect([clouds[0], np.concatenate([clouds[1], box]), clouds[2]], poses), poses, {0}
    )
    for a, t in zip(adjusted.poses, poses):
        assert rigid.difference(a, t)[0] < 0.0015


def test_no_checkerboards_in_a_plain_room():
    data = scenes.scan_room(scenes.room_poses()[0])
    assert (
        targets.checkerboards(
            Grid.of(
                data["row"].astype(np.int64),
                data["column"].astype(np.int64),
                data["xyz"],
                np.full(len(data["xyz"]), 20000),
            )
        )
        == []
    )
