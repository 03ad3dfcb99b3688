"""Outlier filters against PCL's published values, outlines against plain definitions."""

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.clean import outliers, outline
from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.errors import Cancelled
from tests.conftest import REFERENCES


@pytest.fixture(scope="module")
def bunny():
    return np.loadtxt(REFERENCES / "pcl" / "bun0.xyz")


def test_statistical_filter_keeps_what_pcl_keeps(bunny):
    """PCL 1.15, test/filters: K = 50, mean + 1.0 σ keeps 352 of 397."""
    gone = outliers.statistical(outliers.mean_neighbour_distance(bunny, 50), 1.0)
    assert len(bunny) == 397 and (~gone).sum() == 352


def test_radius_filter_keeps_what_pcl_keeps(bunny):
    """PCL 1.15, test/filters: r = 0.02, at least 14 others keeps 307."""
    assert (~outliers.radius(bunny, 0.02, 14)).sum() == 307


@pytest.mark.parametrize("k", [1, 4, 20])
def test_neighbour_distance_is_that_of_brute_force(k):
    xyz = np.random.default_rng(k).normal(0, 1, (500, 3))
    whole = np.sort(np.linalg.norm(xyz[:, None] - xyz[None], axis=2), axis=1)
    assert np.allclose(outliers.mean_neighbour_distance(xyz, k), whole[:, 1 : k + 1].mean(1))


@pytest.mark.parametrize("n", [0, 1, 2])
def test_few_points_are_no_reason_to_fail(n):
    distance = outliers.mean_neighbour_distance(np.zeros((n, 3)), 8)
    assert len(distance) == n and not outliers.statistical(distance, 2.0).any()


def test_by_range_spares_far_points():
    """A scan thins out with range: judged over all, the far ring goes; judged by range, only the
    strays do.
    """
    rng = np.random.default_rng(1)
    near, far = (
        np.c_[rng.uniform(-3, 3, (40000, 2)), np.zeros(40000)],
        np.c_[rng.uniform(20, 40, (4000, 1)), rng.uniform(-10, 10, (4000, 1)), np.zeros(4000)],
    )
    strays = np.c_[rng.uniform(-2, 2, (60, 2)), rng.uniform(0.3, 2, 60)]
    xyz = np.concatenate([near, far, strays])
    distance, ranges = outliers.mean_neighbour_distance(xyz, 4), np.linalg.norm(xyz, axis=1)
    plain, judged = outliers.statistical(distance, 1.0), outliers.statistical_by_range(distance, ranges, 2.2)
    assert plain[40000:44000].mean() > 0.8
    assert judged[40000:44000].mean() < 0.02
    assert judged[-60:].mean() > 0.8


def test_cancel_stops_the_filter():
    class Stop:
        def advance(self, *_):
            raise Cancelled()

    with pytest.raises(Cancelled):
        outliers.mean_neighbour_distance(np.random.default_rng(0).normal(size=(100, 3)), 4, Stop())
    assert QUIET.advance(1, 2) is None


STAR = np.array([[0, 1], [0.2, 0.2], [1, 0], [0.2, -0.2], [0, -1], [-0.2, -0.2], [-1, 0], [-0.2, 0.2]])


def test_inside_a_star_shaped_outline():
    xy = np.random.default_rng(0).uniform(-1, 1, (5000, 2))
    radius, angle = np.hypot(*xy.T), np.arctan2(xy[:, 1], xy[:, 0])
    corner_r, corner_a = np.hypot(*STAR.T), np.arctan2(STAR[:, 1], STAR[:, 0])
    order = np.argsort(corner_a)
    a, r = np.r_[corner_a[order], corner_a[order][0] + 2 * np.pi], np.r_[corner_r[order], corner_r[order][0]]
    angle = np.where(angle < a[0], angle + 2 * np.pi, angle)
    k = np.searchsorted(a, angle, "right") - 1
    edge = (
        r[k]
        * r[k + 1]
        * np.sin(a[k + 1] - a[k])
        / (r[k] * np.sin(angle - a[k]) + r[k + 1] * np.sin(a[k + 1] - angle))
    )
    clear = np.abs(radius - edge) > 1e-9
    assert (outline.inside(xy, STAR) == (radius < edge))[clear].all()


SQUARE = np.array([[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]])


@pytest.mark.parametrize("outside", [False, True])
@pytest.mark.parametrize("slab", [None, (0.0, 1.0)])
def test_select_respects_side_and_slab(outside, slab):
    xyz = np.random.default_rng(2).uniform(-2, 2, (4000, 3))
    taken = outline.select(xyz, np.eye(4), SQUARE, slab, outside)
    expected = (np.abs(xyz[:, :2]) < 0.5).all(1) ^ outside
    if slab:
        expected &= (xyz[:, 2] >= slab[0]) & (xyz[:, 2] <= slab[1])
    assert (taken == expected).all()


def test_points_behind_the_eye_are_never_inside():
    view = np.array([[1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 1, 0]])  # looks along +z
    xyz = np.array([[0.1, 0.1, 1.0], [0.1, 0.1, -1.0]])
    assert outline.select(xyz, view, SQUARE).tolist() == [True, False]


def test_outlines_from_a_station_are_cones():
    rng = np.random.default_rng(4)
    xyz, eye = rng.uniform(-6, 6, (5000, 3)), np.array([1.0, -2, 0.5])
    way = np.array([np.cos(2.8), np.sin(2.8), 0.3])  # towards the seam of azimuths, which the pose turns away
    pose = rigid.inverse(rigid.make(rigid.about_z(2.8), eye))
    off = np.degrees(np.arccos((xyz - eye) @ way / np.linalg.norm(xyz - eye, axis=1) / np.linalg.norm(way)))
    turn, up = np.linspace(0, 2 * np.pi, 200), np.arctan(0.3)
    ring = np.radians(8) * np.c_[np.cos(turn) / np.cos(up), np.sin(turn)] + [0, up]
    taken = outline.select(xyz, pose, ring / [np.pi, np.pi / 2], around=True)
    assert taken[off < 7.7].all() and not taken[off > 8.4].any() and 10 < taken.sum() < 200
    near = outline.seen(xyz, pose, outline.depths(xyz[:1], pose, True), True)
    first = np.linalg.norm(xyz - eye, axis=1) <= np.linalg.norm(xyz[0] - eye) * 1.02 + 0.05
    beside = np.degrees(
        np.arccos(
            np.clip(
                (xyz - eye)
                @ (xyz[0] - eye)
                / np.linalg.norm(xyz - eye, axis=1)
                / np.linalg.norm(xyz[0] - eye),
                -1,
                1,
            )
        )
    )
    assert near[first | (beside > 1)].all() and not near[~first & (beside < 0.1)].any()


def test_an_outline_may_keep_to_a_depth():
    xyz = np.random.default_rng(2).uniform(-1, 1, (4000, 3))
    taken = outline.select(xyz, np.eye(4), SQUARE, depth=(-0.25, 0.5))
    assert (taken == ((np.abs(xyz[:, :2]) < 0.5).all(1) & (xyz[:, 2] >= -0.25) & (xyz[:, 2] <= 0.5))).all()


def test_neighbours_are_those_of_the_tree():
    xyz = np.random.default_rng(9).normal(0, 1, (3000, 3))
    d, _ = cKDTree(xyz).query(xyz, k=9)
    assert np.allclose(outliers.mean_neighbour_distance(xyz, 8), d[:, 1:].mean(1))
