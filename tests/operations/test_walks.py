"""A walk through a known room: its path, its stops, and the view from each, judged by where the
scanner was.
"""

from dataclasses import replace

import laspy
import numpy as np
import pytest
from plyfile import PlyData, PlyElement
from scipy.interpolate import BSpline
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from terrazza.core.geometry import panorama, rigid
from terrazza.core.strips import patches
from terrazza.core.walks import bending
from terrazza.core.walks import path as paths
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.formats import e57_writer, las_writer, trajectory
from terrazza.operations.pieces import stations
from terrazza.operations.spine import fieldbook, health
from terrazza.web.contexts import scene, station
from tests import places, walked
from tests.run import must, opened, perform
from tests.scenes import scan_room

HOME = rigid.make(rigid.about_z(0.4), np.array([1.2, 1.5, 1.6]))


@pytest.fixture(scope="module")
def walk(tmp_path_factory):
    """Files of a walk straight through the room at 1 m/s, in a frame of its own: (cloud,
    trajectory, places).
    """
    folder = tmp_path_factory.mktemp("walk")
    times = np.arange(0, 5.01, 0.25)
    places = np.stack([1.2 + times, np.full(len(times), 1.5), np.full(len(times), 1.6)], 1)
    back, parts = rigid.inverse(HOME), []
    for k, (t, p) in enumerate(zip(times, places)):
        pose = rigid.make(rigid.about_z(0.1 * k), p)
        data = scan_room(pose, 60, 90, noise=0.005, seed=k)
        parts.append(
            {
                "xyz": rigid.apply(back @ pose, data["xyz"]),
                "intensity": data["intensity"],
                "time": t + data["column"] / 90 * 0.2,
            }
        )
    chunk = {name: np.concatenate([p[name] for p in parts]) for name in parts[0]}
    with las_writer.Writer(str(folder / "walk.laz"), 1e-4, np.zeros(3), time=True) as out:
        out.write(chunk)
    own = rigid.apply(back, places)
    trajectory.write(str(folder / "walk.txt"), times, own, np.full(len(times), -0.4))
    return folder, own


@pytest.fixture
def brought(workspace, walk):
    row = queries.create_job(workspace, "Walk")
    must(workspace, row, "import.files", files=[str(walk[0] / "walk.laz")])
    return workspace, row


@pytest.mark.parametrize(("every", "count"), [(2.5, 3), (1.0, 6), (0.5, 11)])
def test_stops_and_points(brought, walk, every, count):
    workspace, row = brought
    figures = must(workspace, row, "import.walk", scan=1, trajectory="walk.txt", every=every)
    job = opened(workspace, row)
    stops = job.get("walk", 1)["stops"]
    assert figures["stops"] == len(stops) == count and abs(figures["length"] - 5) < 1e-3
    assert (
        np.allclose(
            np.diff([s["at"] for s in stops], axis=0), (walk[1][-1] - walk[1][0]) / 5 * every, atol=1e-3
        )
        and sum(s["points"] for s in stops) == job.scan(1).points
    )
    shown = scene.build(job)["walks"][0]
    assert len(shown["stops"]) == count and np.allclose(
        np.add(shown["at"], scene.origin_of(job)), walk[1], atol=1e-2
    )


def test_the_view_from_a_stop_shows_what_is_there(brought, walk):
    workspace, row = brought
    must(workspace, row, "import.walk", scan=1, trajectory=str(walk[0] / "walk.txt"))
    job = opened(workspace, row)
    assert station.places(job) == ["1-1", "1-2", "1-3"]
    view, eye = stations.view(job, 1, 2), np.array(job.get("walk", 1)["stops"][1]["at"])
    r, c = np.nonzero(view.index >= 0)
    seen = job.cloud(1).xyz(0, job.scan(1).points)[view.index[r, c]] - eye
    azimuth, elevation = panorama.directions(seen)
    assert np.abs(elevation - view.elevation[r]).max() < 2 * np.pi / 2048 and len(r) > 20_000
    # what is seen is the room's nearest surface in that direction, as a scanner standing there would measure
    # it
    pose = HOME @ rigid.make(np.eye(3), eye)
    truth = scan_room(pose, 300, 720, noise=0.0)
    far = np.full((180, 360), np.nan)
    a, e = panorama.directions(truth["xyz"])
    far[
        ((np.pi / 2 - e) * 180 / np.pi).astype(int).clip(0, 179),
        ((np.pi - a) * 180 / np.pi).astype(int).clip(0, 359),
    ] = np.linalg.norm(truth["xyz"], axis=1)
    wanted = far[
        ((np.pi / 2 - elevation) * 180 / np.pi).astype(int).clip(0, 179),
        ((np.pi - azimuth) * 180 / np.pi).astype(int).clip(0, 359),
    ]
    off = np.linalg.norm(seen, axis=1) - wanted
    assert np.mean(np.abs(off[np.isfinite(off)]) < 0.25) > 0.93, "walls are not seen through"
    told = station.pick(job, 1, 2, int(r[50]), int(c[50]), [])
    assert told["index"] == view.index[r[50], c[50]]
    about = station.build(job, 1, 2)
    assert (
        about["key"] == "1-2"
        and [m["scan"] for m in about["marks"]] == ["1-1", "1-3"]
        and np.allclose([m["range"] for m in about["marks"]], [2.5, 2.5], atol=0.01)
    )


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"trajectory": "none.txt"}, "not there"),
        ({"every": 0}, "need a distance or a turn"),
        ({"trajectory": "late.txt"}, "do not meet"),
        ({"trajectory": "plain.laz"}, "have no times"),
    ],
)
def test_walks_that_cannot_be(brought, walk, params, words):
    workspace, row = brought
    folder, scan = opened(workspace, row).subfolder("inbox"), 1
    trajectory.write(f"{folder}/late.txt", np.arange(9000.0, 9010), walk[1][:10], np.zeros(10))
    if params.get("trajectory") == "plain.laz":
        with las_writer.Writer(f"{folder}/plain.laz", 1e-4, np.zeros(3)) as out:
            out.write({"xyz": walk[1]})
        must(workspace, row, "import.files", files=[f"{folder}/plain.laz"])
        scan, params = 2, {}
    entry = perform(workspace, row, "import.walk", **({"scan": scan, "trajectory": "walk.txt"} | params))
    assert entry.state == "failed" and words in entry.message + entry.hint


@pytest.mark.parametrize("text", [False, True])
def test_the_trajectory_may_be_in_the_file(workspace, walk, tmp_path, text):
    """A PLY with an element of its own for the way gives the same stops as the text beside a LAZ."""
    time, xyz, heading = trajectory.read(str(walk[0] / "walk.txt"))
    rng = np.random.default_rng(0)
    when = rng.uniform(0, 5, 2000)
    points = np.array(
        list(zip(*rng.uniform(-3, 3, (3, 2000)), when)), [(n, "f8") for n in ("x", "y", "z", "time")]
    )
    way = np.array(
        list(zip(time, *xyz.T, np.degrees(heading))), [(n, "f8") for n in ("time", "x", "y", "z", "heading")]
    )
    PlyData([PlyElement.describe(points, "vertex"), PlyElement.describe(way, "trajectory")], text=text).write(
        tmp_path / "walk.ply"
    )
    row = queries.create_job(workspace, "Ply")
    must(workspace, row, "import.files", files=[str(tmp_path / "walk.ply")])
    must(workspace, row, "import.walk", scan=1)
    job = opened(workspace, row)
    assert np.allclose(
        [s["at"] for s in job.get("walk", 1)["stops"]],
        walk[1][0] + (walk[1][-1] - walk[1][0]) * np.array([0, 0.5, 1])[:, None],
        atol=2e-3,
    )
    PlyData([PlyElement.describe(points, "vertex")]).write(tmp_path / "bare.ply")
    must(workspace, row, "import.files", files=[str(tmp_path / "bare.ply")])
    assert "holds no trajectory" in perform(workspace, row, "import.walk", scan=2).message


@pytest.fixture(scope="module", params=[(0.0, 0.0, 0.0)])
def drifted(request, tmp_path_factory):
    """Files of two posed stations in two rooms and of a walk through both that drifts by 5 cm; the walk with
    where its points truly are, and where the frame's origin lies.
    """
    origin = np.array(request.param)
    folder, rng = tmp_path_factory.mktemp("drifted"), np.random.default_rng(21)
    place, corners = walked.rooms(rng)
    row, column, _ = places.rays()
    with e57_writer.Writer(str(folder / "stations.e57")) as out:
        for k, station in enumerate(place.places):
            pose, hit, xyz = places.scanned(place, "rooms", station, rng)
            pose = rigid.make(pose[:3, :3], pose[:3, 3] + origin)
            chunk = {"xyz": xyz, "row": row[hit].astype(np.uint32), "column": column[hit].astype(np.uint32)}
            shape = (places.ROWS, places.COLUMNS)
            out.add_scan(f"s{k}", [chunk], ["xyz", "row", "column"], pose=pose, grid=shape)
    made = walked.walk(place, corners, rng)
    off = rigid.make(rigid.about_z(0.01), np.array([0.06, -0.04, 0.02]))
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [1e-4] * 3, origin
    header.add_extra_dim(laspy.ExtraBytesParams(name="order", type=np.uint32))
    las = laspy.LasData(header)
    las.xyz, las.gps_time, las.order = (
        rigid.apply(off, made.xyz) + origin,
        made.time,
        np.arange(len(made.xyz)),
    )
    las.write(str(folder / "walk.laz"))
    heading = np.zeros(len(made.path_time))
    trajectory.write(
        str(folder / "walk.txt"), made.path_time, rigid.apply(off, made.path_xyz) + origin, heading
    )
    return folder, made, origin


@pytest.fixture
def beside_stations(workspace, drifted):
    row = queries.create_job(workspace, "Walk")
    files = [str(drifted[0] / name) for name in ("stations.e57", "walk.laz")]
    must(workspace, row, "import.files", files=files)
    must(workspace, row, "import.walk", scan=3, trajectory="walk.txt")
    return workspace, row


def strayed(job, drifted) -> np.ndarray:
    """(n,) m from where the points of the walk truly are."""
    _, made, origin = drifted
    cloud = job.cloud(3)
    order = np.asarray(cloud.read("extra.order")).astype(np.int64)
    return np.linalg.norm(rigid.apply(job.scan(3).pose, cloud.xyz()) - origin - made.truth[order], axis=1)


@pytest.mark.parametrize("drifted", [(0.0, 0.0, 0.0), (600_000.0, 5_100_000.0, 300.0)], indirect=True)
def test_a_walk_that_drifts_is_bent_back(beside_stations, drifted):
    workspace, row = beside_stations
    must(
        workspace,
        row,
        "clean.outline",
        view=rigid.make(np.eye(3), -drifted[2]).tolist(),
        polygon=[[0, 0], [2, 0], [2, 2]],
    )
    job = opened(workspace, row)
    before, cut, walk = job.cloud(3).xyz(), np.array(job.cloud(3).read("cut")), job.get("walk", 3)
    assert np.median(strayed(job, drifted)) > 0.03 and cut.any()
    figures = must(workspace, row, "register.walk")
    after, told = opened(workspace, row), figures["walks"][0]
    off = strayed(after, drifted)
    assert np.quantile(off, 0.95) < 0.008 and np.median(off) < 0.003
    assert told["bent"] and 20 < told["largest_mm"] < 150 and figures["doubt"] == []
    assert told["after_mm"][0] < 3 < 5 < told["before_mm"][0] and told["after_mm"][1] < told["before_mm"][1]
    assert np.array_equal(after.cloud(3).read("cut"), cut)
    stops = rigid.apply(after.scan(3).pose, np.array([s["at"] for s in after.get("walk", 3)["stops"]]))
    assert cKDTree(drifted[1].path_true + drifted[2]).query(stops)[0].max() < 0.1, "stops go along"
    if not drifted[2].any():  # once is enough
        again = must(workspace, row, "register.walk")["walks"][0]
        assert not again["bent"] and again["largest_mm"] == 0.0, "what fits is left alone"
    for entry in (
        Entry.select().where(Entry.job == row, Entry.operation == "register.walk").order_by(-Entry.id)
    ):
        fieldbook.undo(entry)
    fieldbook.tidy(workspace, row)
    back = opened(workspace, row)
    assert np.array_equal(back.cloud(3).xyz(), before) and health.check(back) == []
    assert back.get("walk", 3) == walk


@pytest.mark.parametrize(
    ("params", "words"),
    [
        ({"scans": [1]}, "no path"),
        ({"to": [3]}, "Place the stations first"),
        ({}, "too few surfaces"),
    ],
)
def test_what_cannot_be_fitted_is_said(beside_stations, params, words):
    must(*beside_stations, "register.set_pose", scan=3, x=0, y=0, z=70, heading_deg=0)
    entry = perform(*beside_stations, "register.walk", **params)
    assert entry.state == "failed" and words in f"{entry.message} {entry.hint}", entry.message


def test_what_nothing_holds_is_doubted(beside_stations, drifted):
    figures = must(*beside_stations, "register.walk", to=[1])
    off, doubt = strayed(opened(*beside_stations), drifted), " ".join(figures["doubt"])
    assert np.quantile(off, 0.9) < 0.008 or "of its way" in doubt


@pytest.mark.parametrize("seed", range(3))
def test_the_spline_is_scipys(seed):
    """Uniform cubic B-splines, against scipy's."""
    rng = np.random.default_rng(seed)
    path = paths.Path.of(np.arange(40.0), rng.normal(size=(40, 3)).cumsum(0))
    bend = bending.Bend.none(path, 3.0)
    bend = replace(bend, knots=rng.normal(size=bend.knots.shape))
    time = np.sort(rng.uniform(0, 39, 200))
    u = bending.way(path, time) / 3.0
    wanted = BSpline(np.arange(len(bend.knots) + 4) - 3.0, bend.knots, 3)(u)
    assert np.allclose(bend.at(time), wanted, atol=1e-9)
    turned = rng.normal(0, 0.5, (200, 3))
    wanted = Rotation.from_rotvec(turned).apply(path.xyz[:1].repeat(200, 0))
    assert np.allclose(bending._turned(turned, path.xyz[:1].repeat(200, 0)), wanted, atol=1e-12)


def test_a_fit_that_lies_on_nothing_moves_nothing(beside_stations, monkeypatch):
    """What the planes say against a fit, here that half of them lie beside what stays."""
    before = opened(*beside_stations)
    pose, xyz = before.scan(3).pose, before.cloud(3).xyz()
    monkeypatch.setattr("terrazza.core.walks.bending.beside", lambda *_: 0.5)
    figures = must(*beside_stations, "register.walk")
    after = opened(*beside_stations)
    assert "50%" in figures["doubt"][0] and not figures["walks"][0]["bent"]
    assert np.array_equal(after.scan(3).pose, pose) and np.array_equal(after.cloud(3).xyz(), xyz)


def test_what_lies_beside_in_one_direction_only_is_told():
    """A floor that fits and walls 6 cm off: the share is that of the walls, not of all."""
    rng = np.random.default_rng(4)
    normal = np.repeat(np.eye(3)[[2, 0, 1]], [400, 60, 200], axis=0)
    at = rng.uniform(0, 20, (660, 3))
    still, none = patches.Patches(at, normal, *(np.full(660, v) for v in (1e-3, 0.0, 0, 0.0))), np.zeros(3)
    for off, least, most in ((none, 0.99, 1.0), (np.array([0.06, 0, 0]), 0.0, 0.05)):
        share = bending.beside(replace(still, at=at + off), still, 0.4)
        assert least <= share <= most


def test_mixed_pixels_of_walks_go_by_rays_to_where_the_scanner_was(workspace, tmp_path):
    """… and what is there stays, a rail too."""
    rng = np.random.default_rng(5)
    place, corners = walked.rooms(rng)
    place.boxes.append(([3.0, 3.0, 1.0], [3.03, 4.5, 1.03]))  # a rail
    seen = walked.walk(place, corners[:3], rng, 0.0, 0.0, 360, (0.008, 0.003))
    with las_writer.Writer(str(tmp_path / "walk.laz"), 1e-4, np.zeros(3), time=True) as out:
        out.write({"xyz": seen.xyz, "time": seen.time})
    trajectory.write(str(tmp_path / "walk.txt"), seen.path_time, seen.path_xyz, np.zeros(len(seen.path_time)))
    row = queries.create_job(workspace, "Walked")
    must(workspace, row, "import.files", files=[str(tmp_path / "walk.laz")])
    must(workspace, row, "import.walk", scan=1, trajectory=str(tmp_path / "walk.txt"), every=0.5)
    job = opened(workspace, row)
    away = place.away(job.cloud(1).xyz(0, job.cloud(1).count))
    figures = must(workspace, row, "clean.mixed_pixels")
    gone = np.asarray(opened(workspace, row).cloud(1).read("cut", 0, len(away))) == figures["cut"]
    assert figures["taken"] == gone.sum() and not figures["doubt"]
    assert (away > 0.06).sum() > 250 and gone[away > 0.06].mean() > 0.85
    assert gone[away < 0.03].mean() < 0.003  # some of these are mixed too
