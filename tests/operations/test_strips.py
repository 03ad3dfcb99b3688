"""Strips of simulated flights: the turn that was put in comes out, as sure as it says, however the trajectory
is written; what the passes do not hold is said.
"""

import numpy as np
import pytest

from terrazza.core.geometry import rigid
from terrazza.core.strips import conventions, flight
from terrazza.db import queries
from terrazza.operations.spine import fieldbook, health
from terrazza.operations.spine.fieldbook import undo
from tests import flown
from tests.run import must, opened, perform

pytestmark = pytest.mark.usefixtures("alone")
TURN = np.radians([0.35, -0.42, 0.28])


def imported(workspace, tmp_path, made, **how):
    made.write(tmp_path, **how)
    row = queries.create_job(workspace, "Flight")
    must(workspace, row, "import.files", files=[str(tmp_path / "strip.las")])
    return (workspace, row), str(tmp_path / "path.txt")


def grid(job):
    at = opened(*job)
    cloud = at.cloud(1)
    order = np.argsort(np.asarray(cloud.read("extra.order"))) if cloud.has("extra.order") else slice(None)
    return rigid.apply(at.grid_pose(at.scan(1)), cloud.xyz())[order], np.asarray(cloud.read("time"))[order]


@pytest.mark.parametrize(
    "how",
    [
        {"order": "tyxzrPH", "head": "GPSTime,Y,X,Z,Roll(deg),Pitch(deg),Heading(deg)", "sep": ","},
        {"order": "hprzyxt", "degrees": False, "sep": ";", "clock": 1e9},
    ],
)
def test_the_turn_comes_out_however_the_path_is_written(workspace, tmp_path, how):
    made = flown.fly(np.random.default_rng(3), "cross", TURN, dense=4.5)
    job, path = imported(workspace, tmp_path, made, **how)
    before, when = grid(job)
    figures = must(*job, "register.strips", trajectory=path)
    off = np.array(figures["angles_mdeg"]) - np.degrees(TURN) * 1000
    assert np.abs(off).max() < 8.0, off
    assert (np.abs(off) < 4 * np.array(figures["sigma_mdeg"]) + 0.3).all(), (off, figures)
    assert len(figures["after_mm"]) >= 4 and max(figures["after_mm"].values()) < 0.5 * max(
        figures["before_mm"].values()
    )
    assert figures["doubt"] == [] and len(figures["passes"]) >= 4
    after, still = grid(job)
    true = made.true[np.argsort(made.when, kind="stable")] + [500_000, 4_600_000, 0]
    order = np.argsort(when, kind="stable")
    assert np.array_equal(when, still), "the order of the points stays"
    error = lambda xyz: np.sqrt(((xyz[order] - true) ** 2).sum(1).mean())
    assert error(after) < 0.04 < 0.3 < error(before), "noise is what is left"
    fieldbook.tidy(*job)
    assert health.check(opened(*job)) == []
    undo(queries.done_entries(job[1])[-1])
    assert np.array_equal(grid(job)[0], before)


def test_what_the_passes_do_not_hold_is_said(workspace, tmp_path):
    made = flown.fly(np.random.default_rng(5), "one way", TURN, shift=0.02, dense=3.0)
    job, path = imported(workspace, tmp_path, made)
    before = grid(job)[0]
    figures = must(*job, "register.strips", trajectory=path, apply=False)
    assert any("opposite directions" in d for d in figures["doubt"]), figures
    assert np.array_equal(grid(job)[0], before), "nothing was applied"


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"trajectory": "none.txt"}, "none.txt"),
        ({"columns": "time x y"}, "were named"),
        ({"lever": [1, 2]}, "three numbers"),
        ({"crs": "EPSG:25832"}, "no coordinate system"),
    ],
)
def test_what_cannot_be_aligned_is_said(workspace, tmp_path, params, words):
    made = flown.fly(np.random.default_rng(1), "parallel", TURN, dense=0.5)
    job, path = imported(workspace, tmp_path, made)
    entry = perform(*job, "register.strips", **({"trajectory": path} | params))
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message


def test_rotations_are_scipys():
    angles = np.random.default_rng(0).uniform(-3, 3, (50, 3))
    assert np.allclose(flight.rotation(angles), flown.attitude(angles), atol=1e-12)


def test_times_of_other_counts_meet():
    week = 2300 * 604_800.0
    gps = week + np.array([1000.0, 2000.0])
    assert conventions.shifted(gps, tuple(gps + 5)) == ("", 0.0)
    assert conventions.shifted(gps, tuple(gps - 1e9))[1] == 1e9
    assert conventions.shifted(gps - week, tuple(gps - 1e9))[1] == 1e9 - week
    assert conventions.shifted(gps, (5e7, 5.1e7)) is None


def test_sigma_is_what_the_errors_are():
    """Mean of e²/σ² over flights with passes that are off as a whole: from both sides."""
    squares = []
    for seed in range(4):
        pattern = ("cross", "parallel")[seed % 2]
        made = flown.fly(np.random.default_rng(seed), pattern, TURN / 20, shift=0.01 * (seed % 3), dense=3.0)
        angles, covariance = flown.solved(made)
        squares.append((angles - TURN / 20) ** 2 / np.diag(covariance))
    assert 0.2 < np.mean(squares) < 3.0, np.round(squares, 2)
