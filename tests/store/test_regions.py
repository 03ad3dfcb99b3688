"""Regions: exactly the points inside where they fit the budget, an even share of them where they do not;
brute force is the oracle.
"""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.store import regions
from tests.run import must, opened


@pytest.fixture
def clouds(workspace, tmp_path):
    """Two scans of a hall of 90,000 points, posed at an angle."""
    from terrazza.formats import e57_writer

    rng = np.random.default_rng(3)
    poses = [
        rigid.make(rigid.about_z(0.4), np.array([3.0, -2, 1])),
        rigid.make(rigid.rotation_from(np.array([0.02, -0.03, 2.0])), np.array([-6.0, 4, 1.2])),
    ]
    with e57_writer.Writer(str(tmp_path / "h.e57")) as out:
        for k, pose in enumerate(poses):
            xyz = np.r_[rng.uniform(-20, 20, (60_000, 3)) * [1, 1, 0.1], rng.normal(0, 3, (30_000, 3))]
            out.add_scan(
                f"h{k}",
                [{"xyz": xyz, "intensity": np.arange(90_000) % 65536}],
                ["xyz", "intensity"],
                pose=pose,
            )
    row = queries.create_job(workspace, "Regions")
    must(workspace, row, "import.files", files=[str(tmp_path / "h.e57")])
    must(workspace, row, "clean.outliers", deviations=2.0)
    job = opened(workspace, row)
    return [(job.cloud(s.id), s.pose) for s in job.scans()], job


SLAB = np.array([[0, 0, 1, 1.1], [0, 0, -1, -0.9]], float)
WALL = np.array([[0.6, 0.8, 0, 1.3], [-0.6, -0.8, 0, -1.1], [0.8, -0.6, 0, 9], [-0.8, 0.6, 0, 7]], float)
BOX = np.array([[1, 0, 0, 4], [-1, 0, 0, 2], [0, 1, 0, 3], [0, -1, 0, 3], [0, 0, 1, 4], [0, 0, -1, 4]], float)
CASES = {
    "slab": regions.Region((SLAB,)),
    "wall": regions.Region((WALL,)),
    "bent": regions.Region((WALL, np.r_[SLAB, BOX])),
    "less a box": regions.Region((SLAB,), BOX),
    "nothing": regions.Region((np.array([[0, 0, 1.0, -500]]),)),
}


def inside(region, xyz):
    good = np.zeros(len(xyz), bool)
    for planes in region.pieces:
        good |= (xyz @ planes[:, :3].T <= planes[:, 3]).all(1)
    return good & ~(
        (xyz @ region.but[:, :3].T <= region.but[:, 3]).all(1)
        if len(region.but)
        else np.zeros(len(xyz), bool)
    )


@pytest.mark.parametrize("case", CASES)
def test_a_region_holds_the_points_that_brute_force_finds(clouds, case):
    found, whole = regions.points(clouds[0], CASES[case], 10**6)
    assert whole
    for (cloud, pose), index in zip(clouds[0], found):
        want = np.flatnonzero(inside(CASES[case], rigid.apply(pose, cloud.xyz())) & cloud.kept())
        assert np.array_equal(index, want)


@pytest.mark.parametrize("budget", [200, 1500, 4000])
def test_more_points_than_are_wanted_are_thinned_evenly(clouds, budget):
    """As many as the budget, all inside, and spread like all of them: no cell of a metre of the slab that
    holds many stays empty.
    """
    found, whole = regions.points(clouds[0], CASES["slab"], budget)
    assert not whole and sum(map(len, found)) == pytest.approx(budget, abs=2)
    places = lambda picked: np.concatenate(
        [rigid.apply(pose, cloud.at(index))[:, :2] for (cloud, pose), index in zip(clouds[0], picked)]
    )
    some, every = places(found), places(regions.points(clouds[0], CASES["slab"], 10**6)[0])
    cell = 2.5
    counts = [np.unique(np.floor(xy / cell).astype(int), axis=0, return_counts=True) for xy in (some, every)]
    got = {tuple(k): n for k, n in zip(*counts[0])}
    share = len(some) / len(every)
    full = [(tuple(k), n) for k, n in zip(*counts[1]) if n * share > 6]
    assert (budget < 500 or len(full) > 20) and all(0.2 < got.get(k, 0) / (n * share) < 3 for k, n in full)


def test_hidden_classes_are_left_out_before_thinning(clouds):
    cloud_pairs, _ = clouds
    region = regions.Region((SLAB,), hidden=(0,))
    found, whole = regions.points(cloud_pairs, region, 1000)
    assert whole and sum(map(len, found)) == 0, "never classified is class 0"
    assert sum(
        map(len, regions.points(cloud_pairs, regions.Region((SLAB,), hidden=(2,)), 1000)[0])
    ) == pytest.approx(1000, abs=2)


def test_the_answer_to_a_view_gives_the_points_back(clouds):
    """Header, scans and planes as documented; places within a tenth of a millimetre."""
    from terrazza.web.contexts import regions as context
    from terrazza.web.contexts.scene import origin_of

    _, job = clouds
    origin = origin_of(job)
    wanted = context.Wanted(
        pieces=[(SLAB - np.c_[np.zeros((2, 3)), SLAB[:, :3] @ origin]).tolist()], scans=[1, 2], budget=10**6
    )
    data, at, total = context.pack(job, wanted), 16, 0
    count, whole = np.frombuffer(data, "<u4", 2)
    assert count == 2 and whole == 1
    for k, (cloud, pose) in enumerate(clouds[0]):
        number, n = np.frombuffer(data, "<u4", 2, at)
        middle, planes = (
            np.frombuffer(data, "<f8", 3, at + 8),
            np.frombuffer(data, "<f4", 4 * n, at + 32).reshape(-1, 4),
        )
        want = np.flatnonzero(inside(CASES["slab"], rigid.apply(pose, cloud.xyz())) & cloud.kept())
        assert (
            number == k + 1
            and n == len(want)
            and np.abs(planes[:, :3] + middle - cloud.at(want)).max() < 1e-5
        )
        assert np.abs(planes[:, 3] * 65535 - cloud.pick("intensity", want)).max() < 0.01
        at, total = at + 32 + 24 * int(n), total + int(n)
    assert at == len(data) and total > 1000
