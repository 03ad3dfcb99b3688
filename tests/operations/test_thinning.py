"""Thinning in tiles against its definition and against thinning everything at once."""

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid, voxels
from terrazza.operations.pieces import thinning
from tests.operations.test_large import hall
from tests.store.test_store import cloud_of


@pytest.fixture(params=[0, 1])
def scene(request, tmp_path):
    """Two clouds of one hall with their poses, far from zero for the second seed; and all points in the
    common frame.
    """
    shift = np.array([500_000.0, 4_900_000.0, 300.0]) * request.param
    clouds, poses = {}, {}
    for scan in (1, 2):
        clouds[scan], _ = cloud_of(tmp_path / str(scan), hall(60_000, seed=scan + 10 * request.param), 30_000)
        poses[scan] = rigid.make(rigid.about_z(0.7 * scan), shift + [0.1 * scan, 0, 0])
    return clouds, poses, {scan: rigid.apply(poses[scan], cloud.xyz()) for scan, cloud in clouds.items()}


def every(_, index):
    return np.ones(len(index), bool)


def third(_, index):
    return index % 3 == 0


@pytest.mark.parametrize(("most", "step"), [(3_000, 0.7), (20_000, 0.05)])
def test_tiles_part_the_points(scene, most, step):
    """Every point lies in exactly one tile, and tile edges lie on multiples of the step."""
    clouds, poses, places = scene
    tiles = thinning._tiles(clouds, poses, most, step)
    everything, times = np.concatenate(list(places.values())), 0
    for low, high in tiles:
        times = times + ((everything >= low) & (everything < high)).all(1)
        assert np.abs(np.r_[low[:2], high[:2]] / step - np.rint(np.r_[low[:2], high[:2]] / step)).max() < 1e-4
    assert (times == 1).all() and len(tiles) > 8


@pytest.mark.parametrize(("spacing", "allowed"), [(0.1, third), (0.4, every)])
def test_spacing_holds_over_tiles_and_scans(scene, tmp_path, spacing, allowed):
    clouds, poses, places = scene
    paths = thinning.thin(clouds, poses, allowed, spacing, 0.0, 4_000, str(tmp_path))
    masks = {scan: np.load(path) for scan, path in paths.items()}
    assert all(not masks[scan][~allowed(scan, np.arange(clouds[scan].count))].any() for scan in clouds)
    kept = np.concatenate([places[scan][masks[scan]] for scan in clouds])
    could = np.concatenate([places[scan][allowed(scan, np.arange(clouds[scan].count))] for scan in clouds])
    tree = cKDTree(kept)
    assert tree.query(kept, k=2)[0][:, 1].min() >= spacing and tree.query(could)[0].max() < spacing
    assert len(kept) == pytest.approx(int(voxels.spaced(could - could.min(0), spacing).sum()), rel=0.03), (
        "tiles keep about as many as one pass over all would"
    )


@pytest.mark.parametrize("cell", [0.25, 1.0])
def test_cells_keep_one_point_each(scene, tmp_path, cell):
    clouds, poses, places = scene
    paths = thinning.thin(clouds, poses, every, 0.0, cell, 4_000, str(tmp_path))
    kept = np.concatenate([places[scan][np.load(path)] for scan, path in paths.items()])
    cells = lambda xyz: np.unique(np.floor(xyz / cell).astype(np.int64), axis=0)
    there = cells(np.concatenate(list(places.values())))
    assert len(kept) == len(cells(kept)) == len(there)


@pytest.mark.parametrize("wanted", [1, 777, 59_999, 119_000])
def test_a_number_is_met_exactly_and_evenly(tmp_path, wanted):
    sizes = {1: 60_000, 2: 60_000}
    indices = (
        (scan, np.arange(start, start + 10_000)) for scan in sizes for start in range(0, 60_000, 10_000)
    )
    masks = {
        scan: np.load(path)
        for scan, path in thinning.to_number(indices, sizes, wanted, 120_000, str(tmp_path)).items()
    }
    together = np.concatenate([masks[1], masks[2]])
    assert together.sum() == wanted
    gaps = np.diff(np.flatnonzero(together))
    assert len(gaps) == 0 or gaps.max() - gaps.min() <= 1


@pytest.mark.parametrize(("spacing", "cell"), [(0.3, 0.0), (0.0, 0.2)])
@pytest.mark.parametrize("even", [20_000, 200_000])
def test_the_estimate_is_within_two_percent(scene, tmp_path, monkeypatch, spacing, cell, even):
    """From some cubes of space, and, where there are few points, from all of them."""
    monkeypatch.setattr(thinning, "FEW", even)
    clouds, poses, places = scene
    paths = thinning.thin(clouds, poses, third, spacing, cell, 30_000, str(tmp_path))
    truth = sum(int(np.load(path).sum()) for path in paths.values())
    found, examples = thinning.likely(clouds, poses, third, spacing, cell)
    assert found == pytest.approx(truth, rel=0.02)
    assert all((index % 3 == 0).all() and (np.diff(index) > 0).all() for index in examples.values())
