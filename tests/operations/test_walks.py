"""A walk through a known room: its path, its stops, and the view from each, judged by where the
scanner was.
"""

import numpy as np
import pytest
from plyfile import PlyData, PlyElement

from terrazza.core.geometry import panorama, rigid
from terrazza.db import queries
from terrazza.formats import las_writer, trajectory
from terrazza.operations.pieces import stations
from terrazza.web.contexts import scene, station
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
