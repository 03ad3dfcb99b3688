"""Fits against published test shapes and scipy, with chi-square bounds on both sides; measures worked by
hand.
"""

import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.stats import chi2

from terrazza.core.geometry import planes, rigid
from terrazza.core.measure import fits, measures
from terrazza.errors import InputError
from tests.conftest import REFERENCES

NOISE = 0.002


def load(name):
    return np.loadtxt(REFERENCES / "pcl" / name)[:, :3]


def test_published_sphere():
    """PCL 1.15, test/sample_consensus: centre (2, 2, 2), radius 1, 9 of 10 inliers."""
    found = fits.fit("sphere", load("fit_sphere.xyz"), 0.03)
    assert np.allclose(found.centre, 2, atol=2e-2) and abs(found.radius - 1) < 2e-2 and found.used.sum() == 9


def test_published_cylinder():
    """The same: an axis along z through (-0.5, 1.7), radius 0.5."""
    found = fits.fit("cylinder", load("fit_cylinder.xyz"), 0.01)
    at = found.centre - found.direction * (found.centre[2] / found.direction[2])
    assert (
        abs(found.direction[2]) > 0.999
        and np.allclose(at[:2], [-0.5, 1.7], atol=2e-2)
        and abs(found.radius - 0.5) < 1e-2
    )


def test_published_planes():
    """PCL 1.15: features on bun0 (normal up to sign, distance, curvature at 1e-4), and the robust plane of
    test/sample_consensus (coefficients at 1e-2).
    """
    plane = planes.fit(load("bun0.xyz"))
    normal = plane.normal * np.sign(plane.normal[2])
    assert (
        np.allclose(normal, [0.035592, 0.369596, 0.928511], atol=1e-4)
        and abs(abs(plane.distance) - 0.0622552) < 1e-4
        and abs(plane.curvature - 0.0693136) < 1e-4
    )
    robust = fits.fit("plane", load("sac_plane_test.xyz"), 0.03)
    d = -robust.direction @ robust.centre
    assert np.allclose(robust.direction / d, [-0.8964, -0.5868, -1.208], atol=1e-2)


def shape(kind, n, rng, turn):
    """Points of a shape of radius 0.35 m, a third of the way round, with noise; its axis or normal along z
    before the turn.
    """
    a, h = rng.uniform(0, 2.2, n), rng.uniform(-1, 1, n)
    away = 0.35 + rng.normal(0, NOISE, n)
    local = {
        "cylinder": np.stack([away * np.cos(a), away * np.sin(a), h], 1),
        "sphere": (
            lambda t: np.stack(
                [away * np.cos(a) * np.cos(t), away * np.sin(a) * np.cos(t), away * np.sin(t)], 1
            )
        )(h * 1.1),
        "plane": np.stack([a, h, rng.normal(0, NOISE, n)], 1),
    }[kind]
    return local @ turn.T + [312.0, -45.0, 8.0]


@pytest.mark.parametrize("kind", ["plane", "sphere", "cylinder"])
def test_residuals_and_radii_are_as_uncertain_as_they_say(kind):
    rng, scores, squares = np.random.default_rng(3), [], 0.0
    runs, n = 7, 160
    for _ in range(runs):
        turn = rigid.rotation_from(rng.normal(0, 1.5, 3))
        points = shape(kind, n, rng, turn)
        points[:12] += rng.normal(0, 0.3, (12, 3))
        found = fits.fit(kind, points, 1e-4)
        assert found.used[12:].mean() > 0.97 and not found.used[:12].any() or found.used[:12].sum() <= 2
        squares += (found.rms / NOISE) ** 2
        if kind != "plane":
            scores.append((found.radius - 0.35) / found.sigma)
        if kind != "sphere":
            assert abs(abs(found.direction @ turn[:, 2]) - 1) < 2e-5
    assert 0.9 < squares / runs < 1.05
    if scores:
        low, high = chi2.ppf([0.001, 0.999], runs)
        assert low < np.sum(np.square(scores)) < high


@pytest.mark.parametrize("kind", ["sphere", "cylinder"])
def test_fits_are_those_of_scipy_from_the_truth(kind):
    rng = np.random.default_rng(9)
    points = shape(kind, 400, rng, np.eye(3)) - [312.0, -45.0, 8.0]
    if kind == "sphere":
        other = least_squares(lambda v: np.linalg.norm(points - v[:3], axis=1) - v[3], [0, 0, 0, 0.35]).x[3]
    else:

        def residual(v):
            axis = np.array([v[0], v[1], 1.0]) / np.sqrt(v[0] ** 2 + v[1] ** 2 + 1)
            return np.linalg.norm(np.cross(points - [v[2], v[3], 0], axis), axis=1) - v[4]

        other = least_squares(residual, [0, 0, 0, 0, 0.35]).x[4]
    assert abs(fits.fit(kind, points, 1.0).radius - other) < 1e-6


@pytest.mark.parametrize(("kind", "points"), [("plane", 2), ("sphere", 3), ("cylinder", 5)])
def test_too_few_points(kind, points):
    with pytest.raises(InputError, match="needs"):
        fits.fit(kind, np.eye(3)[[0, 1, 2, 0, 1, 2]][:points])


@pytest.mark.parametrize("kind", ["sphere", "cylinder"])
def test_flat_patches_are_told(kind):
    rng = np.random.default_rng(1)
    with pytest.raises(InputError, match="flat|radius"):
        fits.fit(kind, np.c_[rng.uniform(0, 1, (300, 2)), np.zeros(300)])


@pytest.mark.parametrize(
    ("what", "points", "wanted"),
    [
        (
            "distance",
            [[1, 2, 3], [4, 6, 15]],
            {"distance": 13, "level": 5, "height": 12, "slope_deg": 67.380135},
        ),
        ("distance", [[0, 0, 5], [0, 0, 2]], {"distance": 3, "level": 0, "height": -3, "slope_deg": -90}),
        ("length", [[0, 0, 0], [3, 4, 0], [3, 4, 2]], {"length": 7, "level": 5, "height": 2}),
        (
            "area",
            [[0, 0, 0], [4, 0, 0], [4, 3, 0], [0, 3, 0]],
            {"area": 12, "level_area": 12, "perimeter": 14},
        ),
        ("area", [[0, 0, 0], [4, 0, 0], [4, 0, 3]], {"area": 6, "level_area": 0, "perimeter": 12}),
        (
            "area",
            [[0, 0, 0], [4, 0, 3], [4, 5, 3], [0, 5, 0]],
            {"area": 25, "level_area": 20, "perimeter": 20},
        ),
        ("angle", [[1, 0, 0], [0, 0, 0], [0, 2, 2]], {"angle_deg": 90, "level_angle_deg": 90}),
        ("angle", [[1, 0, 0], [0, 0, 0], [1, 0, 1]], {"angle_deg": 45, "level_angle_deg": 0}),
    ],
)
def test_measures_by_hand(what, points, wanted):
    points = np.array(points, float) + [400_000.0, 5_000_000.0, 300.0]
    found = measures.distance(*points) if what == "distance" else getattr(measures, what)(points)
    assert found.keys() == wanted.keys() and all(abs(found[k] - wanted[k]) < 1e-6 for k in wanted)


def test_height_above_sloping_ground():
    rng = np.random.default_rng(0)
    ground = rng.uniform(-0.5, 0.5, (200, 3))
    ground[:, 2] = 0.2 * ground[:, 0] + 1
    assert abs(measures.above(np.array([0.3, 0, 3.0]), ground)["height_above_ground"] - 1.94) < 1e-9
    assert measures.above(np.array([0, 0, 3.0]), ground[:2])["ground_points"] == 2


def test_wall_to_wall_by_normal():
    rng = np.random.default_rng(0)
    near, far = rng.uniform(-0.1, 0.1, (60, 3)), rng.uniform(-0.1, 0.1, (60, 3))
    near[:, 0], far[:, 0] = 0.0, 2.5 + 0.05 * far[:, 1]
    found = measures.between_walls(near, far)
    assert (
        abs(found["distance"] - 2.5) < 0.006
        and abs(found["not_parallel_deg"] - np.degrees(np.arctan(0.05))) < 1e-6
    )
