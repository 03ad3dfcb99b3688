"""Rigid motions, planes and cells, against SciPy and published test values (PCL 1.15, test/features and
test/filters).
"""

import numpy as np
import pytest
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from terrazza.core.geometry import planes, rigid, voxels
from tests.conftest import REFERENCES


@pytest.fixture(scope="module")
def bunny():
    return np.loadtxt(REFERENCES / "pcl" / "bun0.xyz")


def random_pose(rng):
    return rigid.make(Rotation.random(rng=rng).as_matrix(), rng.normal(0, 10, 3))


@pytest.mark.parametrize("seed", range(8))
def test_rigid_fit_is_that_of_scipy(seed):
    rng = np.random.default_rng(seed)
    a, weights = rng.normal(0, 5, (30, 3)), rng.uniform(0.2, 3, 30)
    b = rigid.apply(random_pose(rng), a) + rng.normal(0, 0.01, a.shape)
    mine, scale = rigid.fit(a, b, weights)
    wa, wb = (np.average(x, axis=0, weights=weights) for x in (a, b))
    theirs, _ = Rotation.align_vectors(b - wb, a - wa, weights)
    assert np.allclose(mine[:3, :3], theirs.as_matrix(), atol=1e-12)
    assert np.allclose(mine[:3, 3], wb - theirs.as_matrix() @ wa, atol=1e-11)
    assert scale == 1.0


@pytest.mark.parametrize("scale", [0.3048, 1.0, 1.0004])
def test_rigid_fit_with_scale(scale):
    rng = np.random.default_rng(3)
    a, pose = rng.normal(0, 20, (12, 3)), random_pose(rng)
    found, k = rigid.fit(a, scale * a @ pose[:3, :3].T + pose[:3, 3], scale=True)
    assert k == pytest.approx(scale, rel=1e-12)
    assert np.allclose(found[:3, :3], pose[:3, :3], atol=1e-12)


def test_level_fit_turns_about_z_only():
    rng = np.random.default_rng(4)
    a = rng.normal(0, 5, (20, 3))
    pose = rigid.make(rigid.about_z(1.1), np.array([3.0, -2.0, 7.0]))
    found, _ = rigid.fit(a, rigid.apply(pose, a), level=True)
    assert np.allclose(found, pose, atol=1e-12)
    assert found[2, 2] == 1.0


@pytest.mark.parametrize("seed", range(6))
def test_quaternions_turn_and_vectors_are_those_of_scipy(seed):
    rng = np.random.default_rng(seed)
    rotation, v = Rotation.random(rng=rng), rng.normal(size=3)
    w, *u = q = rigid.to_quaternion(rotation.as_matrix())
    turned = v + 2 * w * np.cross(u, v) + 2 * np.cross(u, np.cross(u, v))  # q v q*, Hamilton's product
    assert np.allclose(turned, rotation.apply(v), atol=1e-12) and np.linalg.norm(q) == pytest.approx(1)
    assert np.allclose(rigid.from_quaternion(2.5 * q), rotation.as_matrix(), atol=1e-12)
    assert np.allclose(rigid.vector_from(rotation.as_matrix()), rotation.as_rotvec(), atol=1e-9)
    assert np.allclose(rigid.rotation_from(rotation.as_rotvec()), rotation.as_matrix(), atol=1e-12)


@pytest.mark.parametrize("off", [0.0, 1e-9, 1e-7, 1e-5, 1e-3, 0.1, np.pi / 2, np.pi - 1e-4, np.pi])
def test_a_rotation_vector_comes_back_at_every_angle(off):
    rng = np.random.default_rng(3)
    for axis in [*np.eye(3), *rng.normal(size=(8, 3))]:
        matrix = Rotation.from_rotvec(axis / np.linalg.norm(axis) * (np.pi - off)).as_matrix()
        back = rigid.vector_from(matrix)
        assert np.allclose(Rotation.from_rotvec(back).as_matrix(), matrix, atol=1e-14)
        assert np.linalg.norm(back) == pytest.approx(np.pi - off, abs=1e-12)


@pytest.mark.parametrize("bad", [[0, 0, 0, 0], [np.nan, 0, 0, 1]])
def test_quaternion_without_length_is_refused(bad):
    with pytest.raises(ValueError):
        rigid.from_quaternion(bad)


def test_inverse_and_difference():
    rng = np.random.default_rng(1)
    pose = random_pose(rng)
    assert np.allclose(pose @ rigid.inverse(pose), np.eye(4), atol=1e-12)
    moved = rigid.step(pose, np.array([0, 0, 0.01]), np.array([0.0, 0.003, 0.004]), pose[:3, 3])
    shift, turn = rigid.difference(pose, moved)
    assert shift == pytest.approx(0.005, abs=1e-12) and turn == pytest.approx(0.01, abs=1e-12)


def test_plane_fit_of_the_bunny(bunny):
    plane = planes.fit(bunny)
    sign = np.sign(plane.normal[2])
    assert np.allclose(sign * plane.normal, [0.035592, 0.369596, 0.928511], atol=1e-4)
    assert sign * plane.distance == pytest.approx(0.0622552, abs=1e-4)
    assert plane.curvature == pytest.approx(0.0693136, abs=1e-4)


def test_plane_noise_is_its_rms():
    rng = np.random.default_rng(2)
    xy = rng.uniform(-5, 5, (20000, 2))
    plane = planes.fit(np.c_[xy, 0.3 * xy[:, 0] + rng.normal(0, 0.004, 20000)])
    assert 0.97 < plane.rms / (0.004 / np.sqrt(1.09)) < 1.03


def test_local_planes_face_the_scanner():
    rng = np.random.default_rng(0)
    wall = np.c_[np.full(4000, 5.0), rng.uniform(-4, 4, 4000), rng.uniform(-2, 2, 4000)]
    normals, shape = planes.local_planes(wall)
    assert np.allclose(normals, [-1, 0, 0], atol=1e-6)
    assert (np.diff(shape, axis=1) >= 0).all()


def test_voxel_thinning_of_the_bunny(bunny):
    assert len(voxels.one_per_cell(bunny, 0.02)) == 103


@pytest.mark.parametrize("pose", [np.eye(4), rigid.make(rigid.about_z(0.7), np.array([50.0, -3.0, 2.0]))])
def test_cells_of_stored_points_are_those_of_their_coordinates(pose):
    position, scale, offset, origin = (
        np.random.default_rng(6).integers(-(10**6), 10**6, (5000, 3)).astype(np.int32),
        np.array([1e-4, 2e-4, 1e-3]),
        np.array([1.0, -700.0, 0.05]),
        np.array([-3.3, 4.1, 0.7]),
    )
    xyz = rigid.apply(pose, position * scale + offset) - origin
    got = voxels.keys_of(position, scale, offset, pose, origin, 0.0371234)
    assert (
        np.mean(got == voxels.keys(xyz, 0.0371234)) > 0.999
        and np.abs((voxels.cells(got) + 0.5) * 0.0371234 - xyz).max() < 0.0371234 / 2 + 1e-8
    )


@pytest.mark.parametrize("size", [0.007, 0.05, 0.3])
def test_one_per_cell_is_what_brute_force_says(size):
    xyz = np.random.default_rng(5).normal(0, 1, (3000, 3))
    seen, first = set(), []
    for i, cell in enumerate(map(tuple, np.floor(xyz / size).astype(int))):
        if cell not in seen:
            seen.add(cell)
            first.append(i)
    assert voxels.one_per_cell(xyz, size).tolist() == first


@pytest.mark.parametrize("spacing", [0.02, 0.1, 0.5])
@pytest.mark.parametrize("seed", [0, 1])
def test_spacing_holds_by_its_definition(spacing, seed):
    xyz = np.random.default_rng(seed).uniform(-1, 1, (4000, 3)) + 5000
    keep = voxels.spaced(xyz, spacing)
    tree = cKDTree(xyz[keep])
    assert not tree.query_pairs(spacing * (1 - 1e-9)), "two kept points are nearer than the spacing"
    distance, _ = tree.query(xyz[~keep])
    assert (distance < spacing).all(), "a dropped point has no kept one within the spacing"
    assert keep[0]
