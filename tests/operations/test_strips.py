"""Strips of simulated flights: the turn that was put in comes out, as sure as it says, however the trajectory
is written; what the passes do not hold is said.
"""

from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET
from terrazza.core.strips import conventions, flight, patches, under
from terrazza.db import queries
from terrazza.operations.register.strips_told import strips_told
from terrazza.operations.spine import fieldbook, health
from terrazza.operations.spine.fieldbook import undo
from terrazza.work import trying
from tests import driven, flown
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


@pytest.mark.parametrize(("seed", "routes"), [(0, driven.BOTH), (3, driven.THREE)])
def test_a_street_driven_up_and_down(workspace, tmp_path, seed, routes):
    """To 0.002° and within σ, from a trajectory without a header whose headings lie east and west alone: how
    they are counted, and which column is roll, the strips have to tell.  The road is one level, places are
    seen by two rings seconds apart.
    """
    rng = np.random.default_rng(seed)
    turn = np.radians(rng.normal(0, 0.4, 3))
    made = driven.drive(rng, turn, routes, shift=0.01 * (seed % 2), dense=1500)
    job, path = imported(workspace, tmp_path, made)
    before, when = grid(job)
    figures = must(*job, "register.strips", trajectory=path)
    off = np.array(figures["angles_mdeg"]) - np.degrees(turn) * 1000
    assert np.abs(off).max() < 2.0 and (np.abs(off) < 4 * np.array(figures["sigma_mdeg"]) + 0.1).all(), off
    assert "counter-clockwise from east" in " ".join(figures["read"])
    true = made.true[np.argsort(made.when, kind="stable")] + [500_000, 4_600_000, 0]
    order = np.argsort(when, kind="stable")
    error = lambda xyz: np.median(np.linalg.norm(xyz[order] - true, axis=1))
    assert error(grid(job)[0]) < 0.6 * error(before)


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


def test_passes_are_told_apart_and_what_the_path_does_not_cover(workspace, tmp_path):
    """A path with a gap of 6 s in its second pass, and times that come twice."""
    made = flown.fly(np.random.default_rng(2), "parallel", TURN, dense=3.0)
    second = made.time[np.argmax(np.diff(made.time) > 10)] if (np.diff(made.time) > 10).any() else 1060.0
    gap = (second + 3.0, second + 9.0)
    keep = ~((made.time > gap[0]) & (made.time < gap[1]))
    keep = np.sort(np.r_[np.flatnonzero(keep), np.flatnonzero(keep)[100:105]])
    for name in ("time", "place", "angles"):
        setattr(made, name, getattr(made, name)[keep])
    job, path = imported(workspace, tmp_path, made)
    before, when = grid(job)
    figures = must(*job, "register.passes", trajectory=path, turns="Turns")
    cover, lost = figures["cover"], ((when > gap[0]) & (when < gap[1])).mean()
    assert cover["times_twice"] == 5 and len(cover["gaps"]) == 1
    assert cover["in_gaps"] == pytest.approx(lost, abs=0.003) and "stay as they are" in figures["doubt"][0]
    at = opened(*job)
    number = np.asarray(at.cloud(1).read("extra.pass"))
    for told in figures["passes"]:
        mine = (when >= told["start"]) & (when <= told["end"])
        assert np.array_equal(number == told["number"], mine) and told["points"] == mine.sum()
    assert figures["turns"] == (number == 0).sum() == len(number) - at.cloud(1).kept().sum()
    drawing = at.get("drawing", figures["drawing"])
    assert {line["layer"] for line in drawing["lines"]} >= {"PASS 1", "CRAFT"}
    hull = next(line for line in drawing["lines"] if line["name"].startswith("Craft"))
    nose = np.array(hull["vertices"][0]) - np.mean(hull["vertices"], axis=0)
    course = np.degrees(np.arctan2(nose[1], nose[0])) - figures["passes"][0]["course_deg"]
    assert abs((course + 180) % 360 - 180) < 10, "the craft flies nose first"
    must(*job, "clean.off_shelf", shelf="Turns")
    aligned = must(*job, "register.strips", trajectory=path)
    gone = (when > gap[0] + 0.1) & (when < gap[1] - 0.1)
    assert np.array_equal(grid(job)[0][gone], before[gone]) and aligned["cover"] == cover
    fieldbook.tidy(*job)
    assert health.check(opened(*job)) == []


def test_passes_by_areas(workspace, tmp_path):
    """Two areas across three passes: six pieces, each over its area."""
    made = flown.fly(np.random.default_rng(2), "parallel", TURN, dense=1.0)
    job, path = imported(workspace, tmp_path, made)
    east = lambda x: [[500_000 + v, 4_600_000 + w] for v, w in ((x, 0), (x + 60, 0), (x + 60, 220), (x, 220))]
    areas = [east(40), east(180)]
    figures = must(*job, "register.passes", trajectory=path, areas=areas, draw=False, shelves=True)
    assert [s["points"] for s in opened(*job).facts("shelf").values()] == list(figures["shelves"].values())
    assert list(figures["shelves"].values()) == [p["points"] for p in figures["passes"]]
    must(*job, "clean.shelf", shelf="Pass 2", delivered=False)
    kept = must(*job, "deliver.laz", path="five.laz")["points"]
    assert kept == opened(*job).scan(1).points - figures["passes"][1]["points"]
    assert len(figures["passes"]) == 6 and all(50 < p["length"] < 62 for p in figures["passes"])
    number, (_, when) = np.asarray(opened(*job).cloud(1).read("extra.pass")), grid(job)
    at = np.interp(when, made.time, made.place[:, 0])
    inside = ((at > 41) & (at < 99)) | ((at > 181) & (at < 239))
    assert (number[inside] > 0).mean() > 0.99 and ((at < 38) | (at > 242))[number > 0].sum() == 0
    entry = perform(*job, "register.passes", trajectory=path, areas=[east(900)])
    assert entry.state == "failed" and "within the areas" in entry.message


def test_a_turn_by_number_and_shifts_on_request(workspace, tmp_path):
    made = flown.fly(np.random.default_rng(7), "cross", TURN, shift=0.04, dense=4.0)
    job, path = imported(workspace, tmp_path, made)
    known = (np.degrees(TURN) * 1000).tolist()
    given = must(*job, "register.strips", trajectory=path, turn_mdeg=known, apply=False)
    assert np.allclose(given["angles_mdeg"], known) and given["sigma_mdeg"] == [None] * 3
    over = must(*job, "register.strips", trajectory=path, turn_mdeg=known, frame=[180, 0, 90], apply=False)
    mounted = Rotation.from_euler("ZYX", [90, 0, 180], degrees=True)
    about = mounted.inv() * Rotation.from_euler("ZYX", TURN[::-1]) * mounted
    assert np.allclose(over["scanner_angles_mdeg"], about.as_euler("ZYX", degrees=True)[::-1] * 1000)
    solved = must(*job, "register.strips", trajectory=path, apply=False)
    assert max(given["after_mm"].values()) < 1.5 * max(solved["after_mm"].values())
    assert np.array(solved["shifts_mm"]).any() == 0
    shifted = must(*job, "register.strips", trajectory=path, solve="angles and shifts")
    usual = lambda f: np.median(list(f["after_mm"].values()))
    assert usual(shifted) < 0.5 * usual(solved) and np.abs(shifted["shifts_mm"]).max() > 15
    told = shifted["after_apart_mm"]["1-2"]
    assert told["height"] < shifted["before_apart_mm"]["1-2"]["height"] and told["plan"] is not None
    counts = shifted["histograms"]["counts"]
    assert set(counts) == set(shifted["after_mm"]) and sum(map(sum, counts.values())) > 0.9 * shifted["pairs"]
    found = strips_told(opened(*job))
    assert [u[0] for u in found.unknowns][:3] == ["Roll", "Pitch", "Heading"] and len(found.pairs) == 6
    assert found.unknowns[-1][0] == "Largest shift of a pass" and set(found.bars) == set(counts)
    text = Path(must(*job, "deliver.report", path="strips.html")["path"]).read_text()
    assert "<h2" in text and "Misfits of passes" in text and found.unknowns[0][1] in text
    figures = must(*job, "register.strip_differences", trajectory=path, path="map.tif")
    with Image.open(figures["path"]) as picture:
        height = np.asarray(picture)
    there = np.abs(height[np.isfinite(height)])
    assert np.median(there) * 1000 == pytest.approx(figures["median_mm"], rel=0.7) and len(there) > 1000
    assert figures["most_mm"] < 120 and set(figures["apart_mm"]) == set(counts)


def test_a_try_out_shows_where_points_would_lie(workspace, tmp_path):
    """The places in a box that a try-out shows are those that the run gives them; nothing is written."""
    made = flown.fly(np.random.default_rng(7), "cross", TURN, dense=2.0)
    job, path = imported(workspace, tmp_path, made)
    known, before = (np.degrees(TURN) * 1000).tolist(), queries.revision(job[1].id)
    box = [[1.0, 0, 0, 170], [-1.0, 0, 0, -130], [0, 1.0, 0, 150], [0, -1.0, 0, -110]]
    origin = [500_000.0, 4_600_000.0, 0.0]
    region = {"pieces": [box], "but": [], "scans": [], "hidden": [], "origin": origin}
    params = {"trajectory": path, "turn_mdeg": known, "signs": "+ +"}
    told = trying.tried(workspace, job[1].id, "register.strips", params, region, QUIET)
    xyz, when = grid(job)
    mine = (np.abs(xyz[:, 0] - 500_150) <= 20) & (np.abs(xyz[:, 1] - 4_600_130) <= 20)
    assert queries.revision(job[1].id) == before and told["figures"]["points"] == mine.sum() > 1000
    must(*job, "register.strips", **params)
    after, later = grid(job)
    chosen = after[np.isin(later, when[mine])] - origin
    apart, same = cKDTree(chosen).query(told["points"].astype(float))
    assert apart.max() < 5e-4 and len(np.unique(same)) == len(chosen)


def test_a_slow_drift_of_passes_comes_out_on_request(workspace, tmp_path):
    """A path that wanders by 4 cm along its passes: its passes agree again as the noise of patches lets them,
    the points lie nearer the truth, and the turn lies within what is said of it.
    """
    made = flown.fly(np.random.default_rng(12), "cross", TURN, wander=0.04, dense=4.0, houses=60)
    job, path = imported(workspace, tmp_path, made)
    solved = must(*job, "register.strips", trajectory=path, solve="angles and shifts", apply=False)
    figures = must(*job, "register.strips", trajectory=path, solve="angles and drift")
    usual = lambda f: np.median(list(f["after_mm"].values()))
    assert 4 < usual(figures) < 0.4 * usual(solved)
    xyz, when = grid(job)
    order = np.argsort(made.when)
    off = lambda z: np.abs(z - made.true[order, 2])
    assert np.mean(off(xyz[np.argsort(when), 2])) < 0.85 * np.mean(off(made.xyz[order, 2]))
    turn = np.array(figures["angles_mdeg"]) - np.degrees(TURN) * 1000
    assert (np.abs(turn) < 4 * np.array(figures["sigma_mdeg"])).all() and max(figures["sigma_mdeg"]) < 10
    assert len(figures["drift"]) > 20 and {d["pass"] for d in figures["drift"]} == {1, 2, 3, 4}


@pytest.mark.parametrize("wrong", [0, 2])
def test_heights_under_strips_shift_them(workspace, tmp_path, wrong):
    """Ten measured places, some of them 0.4 m off; the strips lie 6 cm too low."""
    made = flown.fly(np.random.default_rng(4), "parallel", np.zeros(3), dense=4.0)
    rng, places = np.random.default_rng(wrong), made.true[np.linspace(0, len(made.true) - 1, 10).astype(int)]
    made.xyz[:, 2] -= 0.06
    job, _ = imported(workspace, tmp_path, made)
    heights = places + [500_000, 4_600_000, 0] + rng.normal(0, 0.003, (10, 3)) * [0, 0, 1]
    heights[:wrong, 2] += 0.4
    rows = "".join(f"H{k},{e:.4f},{n:.4f},{h:.4f}\n" for k, (e, n, h) in enumerate(heights, 1))
    (tmp_path / "h.csv").write_text("name,easting,northing,height\n" + rows + "H99,0,0,0\n")
    before = grid(job)[0]
    figures = must(*job, "register.strip_control", control=str(tmp_path / "h.csv"), radius=1.5)
    assert abs(figures["by"] - 0.06) < 4 * figures["sigma_mm"] / 1000 < 0.05
    left = [r["name"] for r in figures["rows"] if not r["used"]]
    assert left == [*(f"H{k}" for k in range(1, wrong + 1)), "H99"]
    assert any("H99" in d for d in figures["doubt"]) and any("H1" in d for d in figures["doubt"]) == bool(
        wrong
    )
    assert np.allclose(grid(job)[0] - before, [0, 0, figures["by"]], atol=1e-6)
    undo(queries.done_entries(job[1])[-1])
    assert np.array_equal(grid(job)[0], before)
    entry = perform(*job, "register.strip_control", control=str(tmp_path / "h.csv"), radius=0.05)
    assert entry.state == "failed" and "are needed" in entry.message


@pytest.mark.parametrize("seed", range(3))
def test_the_plane_under_a_place_is_the_robust_one(seed):
    """Sloping ground with a bush on it: off and σ by chi-square over many places."""
    rng, squares = np.random.default_rng(seed), []
    for _ in range(200):
        xy = rng.uniform(-1, 1, (80, 2))
        z = 0.05 + xy @ [0.3, -0.1] + rng.normal(0, 0.02, 80)
        z[:8] += rng.uniform(0.2, 1, 8)
        found = under.above(np.c_[xy, z] + [10, 20, 5], np.array([10.0, 20, 5]))
        squares.append(((found.off - 0.05) / found.sigma) ** 2)
    assert 0.6 < np.mean(squares) < 1.8


@pytest.mark.parametrize("level", [0.0, 0.37, 5.0])
def test_patches_of_a_level_are_as_sure_as_they_say(level):
    """Also where the level is a wall of cells, which would cut its noise in two: mean e²/σ² of middles."""
    rng = np.random.default_rng(9)
    xyz = np.c_[rng.uniform(0, 60, (90_000, 2)), level + rng.normal(0, 0.01, 90_000)]
    for cell in (0.8, 1.6, 3.2):
        found = patches.sums(xyz, np.zeros(len(xyz)), np.zeros(len(xyz), np.int64), cell, 0.0)
        made = patches.planes(found, cell, 0.0)
        if len(made.at):  # or the next size has them
            assert 0.8 < np.mean(((made.at[:, 2] - level) / made.sigma) ** 2) < 1.25 and len(made.at) > 200
        assert len(made.at) or cell == 0.8


def test_what_one_pass_sees_twice_is_two_patches():
    rng = np.random.default_rng(3)
    xyz, number = np.c_[rng.uniform(0, 2, (900, 2)), rng.normal(0.3, 0.01, 900)], np.zeros(900, np.int64)
    time = np.where(np.arange(900) < 450, 10.2, 13.4) + rng.uniform(0, 0.3, 900)
    made = patches.planes(patches.sums(xyz, time, number, 4.0, 0.0), 4.0, 0.0)
    assert len(made.at) == 2 and np.allclose(np.sort(made.time), [10.35, 13.55], atol=0.03)
    far = np.r_[xyz, [[4e6, 0, 0]]]
    sums = patches.sums(far, np.r_[time, 1], np.r_[number, 0], 4.0, 0.0)
    assert sums.many.sum() == 900, "cells have numbers up to some hundred kilometres"


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
