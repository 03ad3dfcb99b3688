"""Deviations from planes, spheres, surfaces and files, against distances worked out here."""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from tests.run import must, opened, perform
from tests.scenes import room_job


@pytest.fixture
def room(workspace, tmp_path):
    return (*room_job(workspace, tmp_path), tmp_path)


def world(job, scan=1):
    """A scan's points in the job frame."""
    return rigid.apply(job.scan(scan).pose, job.cloud(scan).xyz())


def test_a_wall_deviates_by_its_noise(room):
    workspace, row, _ = room
    touched = [[8.0, 2.0, 1.5], [8.0, 1.0, 2.5], [8.0, 3.0, 2.0]]
    asked = {"against": "plane", "patches": touched, "reach": 0.05, "tolerance": 0.004}
    figures = must(workspace, row, "surface.deviation", **asked, scans=[1])
    job = opened(workspace, row)
    away = job.cloud(1).read("extra.deviation")
    off = world(job)[:, 0] - 8.0
    near = np.isfinite(away)
    assert np.array_equal(near, np.abs(off) < 0.05) or (near ^ (np.abs(off) < 0.05)).mean() < 1e-3
    side = np.sign(np.sum(away[near] * off[near]))
    assert np.abs(side * away[near] - off[near]).max() < 0.002
    assert figures["points"] == near.sum() and 1.0 < figures["rms_mm"] < 5.0
    assert figures["rms_mm"] == pytest.approx(
        1000 * np.sqrt(np.mean(away[near].astype(float) ** 2)), rel=1e-3
    )
    assert figures["within"] == pytest.approx((np.abs(away[near]) <= 0.004).mean(), abs=1e-4)
    assert sum(figures["histogram"]["counts"]) == figures["points"]
    assert figures["median_mm"] == pytest.approx(1000 * np.median(away[near]), abs=0.3)


def test_a_file_and_a_surface_of_the_job_are_compared_with(room):
    workspace, row, folder = room
    (folder / "ceiling.obj").write_text(
        "v -1 -1 2.99\nv 9 -1 2.99\nv 9 7 2.99\nv -1 7 2.99\nf 1 2 3\nf 1 3 4\n"
    )
    figures = must(workspace, row, "surface.deviation", against=str(folder / "ceiling.obj"), reach=0.03)
    assert abs(abs(figures["mean_mm"]) - 10) < 0.5 and 1 < figures["sigma_mm"] < 4
    must(workspace, row, "surface.ground", classes=[0], cell=0.5, scans=[1])
    figures = must(workspace, row, "surface.deviation", reach=0.02, scans=[1])
    assert abs(figures["mean_mm"]) < 4 and figures["within"] > 0.7
    moved = must(
        workspace, row, "classify.by_itself", what="deviation", low=-0.02, high=0.02, to=64, scans=[1]
    )
    assert moved["moved"][0]["count"] == figures["points"]


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        ({}, "no surface yet"),
        ({"against": "plane"}, "needs touched points"),
        ({"against": "nothing.obj"}, "nothing.obj"),
        ({"against": "plane", "patches": [[8.0, 2.0, 1.5]], "reach": 1e-9}, "No point lies within"),
    ],
)
def test_what_cannot_be_compared_is_said(room, asked, says):
    entry = perform(room[0], room[1], "surface.deviation", **asked)
    assert entry.state == "failed" and says in entry.message
