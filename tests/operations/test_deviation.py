"""Deviations from planes, spheres, surfaces and files, against distances worked out here."""

import ezdxf
import laspy
import numpy as np
import pytest
from PIL import Image
from scipy.spatial import ConvexHull

from terrazza.core.clean import shells
from terrazza.core.geometry import rigid
from terrazza.core.surfaces import flatness
from terrazza.db import queries
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


@pytest.fixture
def culvert(workspace, tmp_path):
    """A LAS of a half pipe of 1.5 m about a sloping axis, bulged by a known function, and that."""
    rng = np.random.default_rng(12)
    start, way = np.array([500_010.0, 4_600_020.0, 100.0]), np.array([3.0, 4.0, 0.25])
    length = 12.0
    way = way / np.linalg.norm(way)
    right = np.cross(way, [0, 0, 1.0])
    right /= np.linalg.norm(right)
    up = np.cross(right, way)
    s, turn = rng.uniform(0, length, 60_000), rng.uniform(-1.5, 1.5, 60_000)
    bulge = 0.012 * np.sin(s) * np.cos(3 * turn)
    r = 1.5 - bulge
    xyz = start + s[:, None] * way + r[:, None] * (np.sin(turn)[:, None] * right + np.cos(turn)[:, None] * up)
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [1e-5] * 3, np.round(start)
    las = laspy.LasData(header)
    las.xyz = xyz
    las.write(str(tmp_path / "culvert.las"))
    row = queries.create_job(workspace, "Culvert")
    must(workspace, row, "import.files", files=[str(tmp_path / "culvert.las")])
    axis = [(start - 0.5 * way).tolist(), (start + 4 * way).tolist(), (start + (length + 0.5) * way).tolist()]
    return workspace, row, axis, s + 0.5, turn, bulge


def test_unrolled_it_is_what_the_formula_says(culvert):
    """Pixel by pixel the mean of the bulge put in, to 0.1 mm; the crown is the middle row."""
    *job, axis, s, turn, bulge = culvert
    figures = must(*job, "surface.unrolled", axis=axis, radius=1.5, pixel=0.1, path="culvert.tif")
    with Image.open(figures["path"]) as opened_:
        made = np.array(opened_)
    rows, columns = int(np.ceil(2 * np.pi * 1.5 / 0.1)), 130
    assert made.shape == (rows, columns) == (figures["height"], figures["width"])
    row = np.floor((np.pi * 1.5 - 1.5 * turn) / 0.1).astype(int)
    name = row * columns + np.floor(s / 0.1).astype(int)
    many = np.bincount(name, minlength=rows * columns)
    wanted = np.bincount(name, bulge, rows * columns) / np.maximum(many, 1)
    flat = made.ravel()
    sure = many > 0
    assert np.quantile(np.abs(flat[sure] - wanted[sure]), 0.99) < 1e-4, "few points lie on a pixel's edge"
    assert np.isnan(flat[~sure]).mean() > 0.99 and figures["seen"] == pytest.approx(sure.mean(), abs=0.002)
    assert figures["rms_mm"] == pytest.approx(1000 * np.sqrt((wanted[sure] ** 2).mean()), rel=0.01)
    png = must(*job, "surface.unrolled", axis=axis, radius=1.5, pixel=0.1, path="culvert.png", scale=0.012)
    with Image.open(png["path"]) as opened_:
        colours = np.array(opened_).astype(int)
    high, low = np.nanargmax(made), np.nanargmin(made)
    red, blue = colours.reshape(-1, 4)[[high, low]]
    assert red[0] > red[2] + 80 and blue[2] > blue[0] + 80 and len(png["paths"]) == 2
    at = opened(*job)
    xyz = rigid.apply(at.grid_pose(at.scan(1)), at.cloud(1).xyz())
    along = (xyz - axis[0]) @ (np.subtract(axis[2], axis[0]) / 13.0)
    touched = xyz[[np.abs(along - s).argmin() for s in (1.0, 5.0, 9.0, 12.0)]]
    by_touch = must(*job, "surface.unrolled", patches=touched.tolist(), pixel=0.1, path="t.tif")
    assert by_touch["radius_m"] == pytest.approx(1.5, abs=0.01) and by_touch["rms_mm"] < 12


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({}, "touched points, or an axis"),
        ({"axis": [[0, 0, 0], [1, 0, 0]]}, "a radius"),
        ({"axis": [[0, 0, 0], [0, 0, 0]], "radius": 1.0}, "the same"),
        ({"axis": [[0, 0, 0], [9, 0, 0]], "radius": 1.0}, "No point lies"),
        ({"axis": [[0, 0, 0], [9e4, 0, 0]], "radius": 10.0, "pixel": 0.001}, "larger pixels"),
    ],
)
def test_what_cannot_be_unrolled_is_said(culvert, params, words):
    entry = perform(*culvert[:2], "surface.unrolled", **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message


@pytest.mark.parametrize(("lean", "wave"), [(0.004, 0.0), (-0.002, 0.003), (0.0, 0.001)])
def test_a_wall_leans_and_waves_as_it_was_made(lean, wave):
    """Crests a metre apart: a straightedge rests on two of them."""
    rng = np.random.default_rng(4)
    along, up = rng.uniform(0, 4, 60_000), rng.uniform(0, 2.5, 60_000)
    off = lean * up + wave * np.cos(2 * np.pi * along) + rng.normal(0, 0.002, 60_000)
    turn = rigid.about_z(0.7)
    far, viewer = np.array([600_000.0, 5e6, 250.0]), np.array([2.0, -3.0, 1.5])
    there = lambda p: np.asarray(p) @ turn.T + far
    wall = there(np.c_[along, -off, up])  # out of the wall is towards the viewer
    floor = there(np.c_[rng.uniform(0, 4, 9000), rng.uniform(-1, 0, 9000), rng.normal(0, 0.002, 9000)])
    normal = turn @ np.array([0.02, 1.0, 0.01])
    found = flatness.measured(np.concatenate([wall, floor]), there([2, 0, 1.0]), normal, there(viewer))
    assert found.kind == "wall" and found.size == pytest.approx((4.0, 2.5), abs=0.11)
    assert abs(found.lean - lean) < max(4 * found.turn[0], 2e-5) and found.turn[0] < 4e-4
    assert found.sigma == pytest.approx(0.002, rel=0.1)
    gap, alone, place = found.gap(2.0)
    assert 1.9 * wave < gap < 2 * wave + 1.2 * alone and 2e-4 < alone < 1.2e-3
    if wave > 0.002:
        assert abs(((place - far) @ turn)[0] % 1 - 0.5) < 0.2


def test_a_straightedge_is_the_hull_of_what_lies_under_it():
    grid, best = np.random.default_rng(1).normal(0, 0.003, (6, 30)), 0.0
    for line in [*grid, *grid.T]:
        m = min(10, len(line) - 1)
        for a in range(len(line) - m):
            part, x = line[a : a + m + 1], np.arange(m + 1)
            sides = ConvexHull(np.r_[np.c_[x, part], [[0, -9], [m, -9]]]).equations
            upper = sides[sides[:, 1] > 1e-9]
            over = (-(upper[:, :1] * x + upper[:, 2:]) / upper[:, 1:2]).min(0) - part
            best = max(best, over.max())
    assert flatness.gap(grid, 10)[0] == pytest.approx(best, abs=1e-12)


def test_surfaces_of_a_room_are_plumb_and_level(room):
    workspace, row, _ = room
    at = [[8.0, 3.0, 1.6], [3.0, 3.0, 0.0], [4.0, 2.0, 3.0]]
    figures = must(workspace, row, "surface.flatness", at=at, path="flat.csv")
    assert [r["kind"] for r in figures["rows"]] == ["wall", "floor", "ceiling"]
    for r in figures["rows"]:
        assert abs(r["lean_mm_m"]) < max(4 * r["lean_sigma_mm_m"], 0.1) and r["noise_mm"] > 1
        assert 0.1 < r["gap_mm"] < 6 and r["width_m"] > 2.5
    with open(figures["path"], encoding="utf-8-sig") as file:
        text = file.read().splitlines()
    assert len(text) == 4 and text[1].startswith("1,wall,")
    entry = perform(workspace, row, "surface.flatness", at=[[4.0, 3.0, 1.5]])
    assert entry.state == "failed" and "nothing within" in entry.message


def pipe_of(path, axis, radius):
    """An OBJ of three fifths of a pipe about an axis."""
    way = np.subtract(axis[-1], axis[0])
    right = np.cross(way, [0, 0, 1]) / np.linalg.norm(np.cross(way, [0, 0, 1]))
    up = np.cross(right, way) / np.linalg.norm(way)
    turn = np.radians(np.arange(-100, 101, 1.0))
    ring = radius * (np.outer(np.sin(turn), right) + np.outer(np.cos(turn), up))
    corners, k = np.concatenate([axis[0] + ring, axis[-1] + ring]), np.arange(1, 201)
    faces = np.concatenate([np.c_[k, k + 1, k + 201], np.c_[k + 1, k + 202, k + 201]])
    lines = ["v {:.4f} {:.4f} {:.4f}\n".format(*v) for v in corners]
    path.write_text("".join(lines + ["f {} {} {}\n".format(*f) for f in faces]))
    return str(path)


def test_deviations_are_drawn_out_in_sections(culvert, tmp_path):
    """Each place moved across the design by twenty times the bulge put in there."""
    *job, axis, s, turn, bulge = culvert
    pipe = shells.Vault(np.array(axis), np.full(3, 1.5))
    asked = {"line": [axis[0][:2], axis[2][:2]], "every": 3.0, "across": 3.0, "thickness": 0.3}
    against = pipe_of(tmp_path / "pipe.obj", axis, 1.5)
    figures = must(*job, "surface.deviation_sections", against=against, path="out.dxf", **asked)
    at = opened(*job)
    assert [r["chainage_m"] for r in figures["sections"]] == pytest.approx([3.0, 6.0, 9.0, 12.0])
    for r in figures["sections"]:
        lines = at.get("drawing", r["drawing"])["lines"]
        design, scanned = (
            rigid.apply(at.frame, np.array(next(x["vertices"] for x in lines if x["layer"] == name)))
            for name in ("DESIGN", "SCANNED")
        )
        assert np.abs(pipe.away(design)).max() < 0.01 and len(design) > 30
        assert np.linalg.norm(np.diff(design, axis=0), axis=1).max() < 0.3  # in order along it
        along = (pipe.away(scanned) - pipe.away(design)) / 20
        assert np.ptp(along) == pytest.approx(0.024 * abs(np.sin(r["chainage_m"] - 0.5)), rel=0.1)
        assert 1000 * np.ptp(along) == pytest.approx(r["high_mm"] - r["low_mm"], rel=0.05)
    texts = list(ezdxf.readfile(figures["path"]).layouts.get("Model").query("TEXT MTEXT"))
    assert len(texts) == 8
    entry = perform(*job, "surface.deviation_sections", against=against, **asked | {"line": [[0, 0], [9, 0]]})
    assert entry.state == "failed" and "in any of the sections" in entry.message
