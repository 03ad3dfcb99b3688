"""Control fit, matching, levelling and the uncertainty of georeferenced poses."""

import numpy as np
import pytest
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.georef import fit, layout, level, match
from terrazza.core.georef.uncertainty import grid_covariances
from terrazza.core.register import surface
from terrazza.errors import ParamsError, StateError
from terrazza.units import metres_per
from tests import scenes

NAMES = ["P1", "P2", "P3", "P4", "P5"]
PLACES = np.array([[0, 0, 0], [20, 1, 0.4], [18, 14, 2.5], [-3, 12, 1.2], [9, 6, -0.5]], float)
POSE = rigid.make(rigid.about_z(0.7), np.array([4200.0, 8800.0, 310.0]))


def measured(sigma, seed):
    return PLACES + np.random.default_rng(seed).normal(0, sigma, PLACES.shape)


def test_units():
    """NIST SP 811, appendix B, and the 1959 notice: 1200/3937 m and 0.3048 m, 2 ppm apart."""
    assert metres_per("US survey foot") == 1200 / 3937
    assert metres_per("international foot") == 0.3048
    assert metres_per("US survey foot") / metres_per("international foot") - 1 == pytest.approx(
        2e-6, rel=0.01
    )
    assert metres_per("inch") == 0.0254 and metres_per("millimetre") == 0.001


@pytest.mark.parametrize("word", ["foot", "feet", "ft", "Ft "])
def test_a_bare_foot_is_asked_for(word):
    with pytest.raises(ParamsError, match="US survey foot"):
        metres_per(word)


def test_residuals_of_the_fit_follow_their_noise():
    values = []
    for seed in range(200):
        found = fit.fit(measured(0.002, seed), rigid.apply(POSE, PLACES), NAMES)
        values.append((found.residuals**2).sum() / 0.002**2)
        assert np.allclose(found.pose[:3, :3] @ found.pose[:3, :3].T, np.eye(3), atol=1e-12)
    low, high = stats.chi2.ppf([0.001, 0.999], 200 * (15 - 6))
    assert low < sum(values) < high


def test_left_out_residual_is_that_of_a_fit_without_the_point():
    targets, control = measured(0.003, 1), rigid.apply(POSE, PLACES)
    found = fit.fit(targets, control, NAMES)
    for i in range(5):
        rest = np.arange(5) != i
        pose, _ = rigid.fit(targets[rest], control[rest])
        assert np.allclose(found.left_out[i], rigid.apply(pose, targets[i : i + 1])[0] - control[i])
    assert (np.linalg.norm(found.left_out, axis=1) > np.linalg.norm(found.residuals, axis=1)).all()


@pytest.mark.parametrize("count", [0, 1, 2])
def test_fewer_than_three_are_refused(count):
    with pytest.raises(StateError, match="at least three"):
        fit.fit(PLACES[:count], PLACES[:count], NAMES[:count])


def test_points_in_a_line_are_refused():
    line = np.outer(np.arange(4.0), [3.0, 1.0, 0.1])
    with pytest.raises(StateError, match="one line"):
        fit.fit(line, line, NAMES[:4])


@pytest.mark.parametrize(
    ("scale", "words"),
    [
        (0.3048, "feet taken for metres"),
        (3.28084, "metres taken for feet"),
        (1000.0, "millimetres"),
        (1.0004, "ppm"),
    ],
)
def test_a_scale_other_than_one_is_loud(scale, words):
    found = fit.fit(PLACES, rigid.apply(POSE, PLACES * scale), NAMES)
    assert any(words in w for w in found.warnings)
    assert np.allclose(np.linalg.det(found.pose[:3, :3]), 1)


def test_no_warning_where_the_scale_is_one():
    assert fit.fit(measured(0.001, 5), rigid.apply(POSE, PLACES), NAMES).warnings == []


@pytest.mark.parametrize("seed", range(5))
def test_matching_by_geometry(seed):
    rng = np.random.default_rng(seed)
    order = rng.permutation(5)
    targets = np.concatenate([measured(0.002, seed)[order], rng.uniform(-10, 25, (6, 3))])
    found = match.match(rigid.apply(POSE, PLACES), targets)
    assert [(c, int(np.flatnonzero(order == c)[0])) for c in range(5)] == found.pairs
    assert found.rms < 0.006


@pytest.mark.parametrize("order", [(0, 1, 2), (1, 0, 2), (2, 1, 0), (1, 2, 0)])
def test_column_order_is_found_from_the_data(order):
    """A mirrored reading never fits, so the order that matches is the right one."""
    control = rigid.apply(POSE, PLACES)
    file = np.empty_like(control)
    file[:, list(order)] = control
    found = match.match_any_order(file, np.zeros(5), PLACES)
    assert found.order == order and len(found.pairs) == 5


def test_target_heights_are_added():
    control = rigid.apply(POSE, PLACES)
    heights = np.array([0, 1.45, 0, 0.2, 0])
    found = match.match_any_order(control - np.c_[np.zeros((5, 2)), heights], heights, PLACES, [(0, 1, 2)])
    assert len(found.pairs) == 5 and found.rms < 1e-9
    assert (
        len(
            match.match_any_order(
                control - np.c_[np.zeros((5, 2)), heights], np.zeros(5), PLACES, [(0, 1, 2)]
            ).pairs
        )
        == 3
    )


def test_likely_scale_names_the_unit():
    assert match.likely_scale(rigid.apply(POSE, PLACES) / 0.3048, PLACES) == pytest.approx(3.28084)
    assert match.likely_scale(np.random.default_rng(0).uniform(0, 50, (5, 3)), PLACES) is None


@pytest.mark.parametrize("heading", [0.0, 0.4, 1.2])
def test_level_and_turn(heading):
    tilt = rigid.rotation_from(np.array([0.01, -0.02, 0.0]))
    pose = rigid.make(tilt @ rigid.about_z(heading), np.zeros(3))
    face = surface.prepare(scenes.scan_room(scenes.room_poses()[0])["xyz"])
    level_frame = scenes.room_poses()[0]
    xyz, normals = rigid.apply(level_frame, face.xyz), face.normals @ level_frame[:3, :3].T
    xyz, normals = xyz @ pose[:3, :3].T, normals @ pose[:3, :3].T
    up = level.level(level.floor_normal(xyz, normals, face.flat))
    assert np.degrees(np.arccos(np.clip((up @ tilt)[2, 2], -1, 1))) < 0.05
    turned = level.wall_heading(xyz @ up.T, normals @ up.T, face.flat)
    off = (turned - heading + np.pi / 4) % (np.pi / 2) - np.pi / 4
    assert abs(np.degrees(off)) < 0.1


def test_level_without_a_floor_is_refused():
    with pytest.raises(StateError, match="No floor"):
        level.floor_normal(np.zeros((10, 3)), np.zeros((10, 3)), np.ones(10, bool))


def test_grid_covariances_are_those_of_a_simulation():
    """Errors of georeferenced poses over 3,000 simulated networks against the propagated covariance, ratio by
    ratio.
    """
    rng = np.random.default_rng(0)
    poses = [
        rigid.make(rigid.about_z(a), np.array(p, float))
        for a, p in ((0.2, (2, 3, 1)), (1.5, (12, 5, 1)), (-2, (15, 12, 2)))
    ]
    owners = np.array([0, 1, 2, 0, 1, 2])
    point = np.array([0, 1, 2, 3, 4, 4])
    weights = np.array([1, 1, 1, 1, 0.6, 0.4])
    centres = np.concatenate([PLACES, PLACES[4:]])
    root = rng.normal(0, 1, (12, 12)) * np.tile([4e-5] * 3 + [1e-3] * 3, 2)[:, None]
    joint = np.zeros((18, 18))
    joint[6:, 6:] = root @ root.T / 4
    noise = np.full((5, 3), 0.001**2)
    predicted = grid_covariances(POSE, centres, weights, owners, noise, point, poses, joint)
    chol = np.linalg.cholesky(joint[6:, 6:] + 1e-18 * np.eye(12))
    errors = np.empty((3000, 3, 6))
    for run in range(3000):
        delta = np.r_[np.zeros(6), chol @ rng.normal(size=12)]
        moved = [
            rigid.step(p, delta[6 * s : 6 * s + 3], delta[6 * s + 3 : 6 * s + 6], p[:3, 3])
            for s, p in enumerate(poses)
        ]
        seen = np.array(
            [rigid.apply(moved[s] @ rigid.inverse(poses[s]), c[None])[0] for s, c in zip(owners, centres)]
        )
        mean = np.zeros((5, 3))
        np.add.at(mean, point, seen * weights[:, None])
        frame, _ = rigid.fit(mean + rng.normal(0, 0.001, (5, 3)), rigid.apply(POSE, PLACES))
        for s in range(3):
            got, true = frame @ moved[s], POSE @ poses[s]
            errors[run, s] = np.r_[rigid.vector_from(got[:3, :3] @ true[:3, :3].T), got[:3, 3] - true[:3, 3]]
    for s in range(3):
        ratio = errors[:, s].var(0) / np.diag(predicted[s])
        assert (0.85 < ratio).all() and (ratio < 1.15).all(), ratio


@pytest.mark.parametrize(
    ("places", "normals", "words"),
    [
        ([[0, 0, 1], [9, 0, 2]], [[1, 0, 0]] * 2, ["Only 2 targets were found"]),
        ([[0, 0, 1], [9, 0.05, 1], [18, 0, 1.05]], [[1, 0, 0]] * 3, ["lie in a line"]),
        ([[0, 0, 1], [1, 2, 2], [2, 0, 1]], [[1, 0, 0]] * 3, ["lie within 2.8 m of each other"]),
        ([[0, 0, 0], [12, 9, 0], [18, 0, 0.5]], [[0, 0, 1]] * 3, ["on the floor or the ceiling"]),
        ([[0, 0, 1], [12, 9, 2], [18, 0, 1]], [[1, 0, 0]] * 3, []),
    ],
)
def test_where_targets_hang_is_warned_of(places, normals, words):
    said = layout.warnings(
        np.array(places, float), np.array(normals, float), np.array([[0, 0, 1.5], [20, 5, 1.5]])
    )
    assert len(said) == len(words) and all(w in s for w, s in zip(words, said))


def test_poor_sightings_come_first():
    assert layout.poor(12, 30) == "" and "45 m" in layout.poor(45, 10) and "72°" in layout.poor(8, 72)
    assert (
        layout.doubt(0.001, 1, 5, 70) > layout.doubt(0.001, 1, 5, 10)
        and layout.doubt(0.003, 1, 5, 10) > layout.doubt(0.001, 1, 5, 10)
        and layout.doubt(0.001, 0.6, 5, 10) > layout.doubt(0.001, 1, 5, 10)
    )


def test_a_network_bent_to_control_errs_as_its_standard_deviations_say():
    """A chain of scans that drifts: control at both ends takes most of the drift out, and what is left is as
    large as the covariance says.
    """
    from scipy import stats

    from terrazza.core.georef import bend

    squares, gained, tests = [], [], []
    for seed in range(30):
        rng = np.random.default_rng(seed)
        true = [
            rigid.make(rigid.about_z(rng.uniform(-3, 3)), np.array([8.0 * k, rng.normal(), 1.5]))
            for k in range(6)
        ]
        carry = [np.block([[np.eye(3), np.zeros((3, 3))], [-rigid.skew([8.0, 0, 0]), np.eye(3)]])] * 5
        step = np.diag(np.repeat([2e-4, 0.002], 3) ** 2)
        design = np.zeros((36, 30))  # errors of the ties add up along the chain
        for k in range(1, 6):
            design[6 * k : 6 * k + 6] = carry[0] @ design[6 * k - 6 : 6 * k]
            design[6 * k : 6 * k + 6, 6 * k - 6 : 6 * k] += np.eye(6)
        joint = design @ np.kron(np.eye(5), step) @ design.T
        error = design @ (rng.normal(0, 1, 30) * np.tile(np.sqrt(np.diag(step)), 5))
        poses = [
            rigid.step(p, error[6 * k : 6 * k + 3], error[6 * k + 3 : 6 * k + 6], p[:3, 3])
            for k, p in enumerate(true)
        ]
        control = np.array([[0, 4, 1], [1, -4, 3], [40, 5, 0], [38, -4, 2.5], [42, 0, 4.0]]) + rng.normal(
            0, 0.2, (5, 3)
        )
        measured = control + rng.normal(0, 0.001, control.shape)
        seen = [
            bend.Seen(
                k, rigid.apply(rigid.inverse(true[k]), c[None])[0] + rng.normal(0, 0.0007, 3), 0.0007, i
            )
            for i, c in enumerate(control)
            for k in ((0,) if i < 2 else (5, 4))
        ]
        bent = bend.bend(poses, joint, seen, measured, 0.001)
        for k in range(6):
            off = np.r_[
                rigid.vector_from(bent.poses[k][:3, :3] @ true[k][:3, :3].T),
                bent.poses[k][:3, 3] - true[k][:3, 3],
            ]
            squares.append(off @ np.linalg.solve(bent.joint[6 * k : 6 * k + 6, 6 * k : 6 * k + 6], off))
        gained.append(np.linalg.norm(bent.poses[5][:3, 3] - true[5][:3, 3]) / np.linalg.norm(error[33:]))
        tests.append(bent.test[1] < bent.test[0] < bent.test[2])
    low, high = stats.chi2.ppf([0.0005, 0.9995], 6 * 30) / (6 * 30)  # one scan in each is independent
    assert low < np.mean(squares) / 6 < high and np.median(gained) < 0.4 and 0.8 < np.mean(tests)
