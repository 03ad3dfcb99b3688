"""The plan's tiles, floors and blocks, against the stored points."""

import io
import os

import numpy as np
import pytest
from PIL import Image

from terrazza.core.draw.from_above import Sheet
from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.errors import NotFound
from terrazza.formats import e57_writer
from terrazza.operations.pieces import sights
from terrazza.operations.pieces.floors import floor_under, floors, together
from terrazza.web.contexts import plan, scene
from tests.run import must, opened
from tests.scenes import room_poses, scan_room
from tests.web.conftest import client_on


@pytest.fixture
def house(workspace, tmp_path):
    """Two floors, 3.2 m apart, of three scans each; the upper ones belong to two nested blocks."""
    with e57_writer.Writer(str(tmp_path / "house.e57")) as out:
        for k in range(6):
            pose = room_poses()[k % 3]
            data = scan_room(pose, 90, 200, seed=k)
            pose[2, 3] += 3.2 * (k // 3)
            out.add_scan(
                f"S{k + 1}", [data], ["xyz", "intensity", "row", "column"], pose=pose, grid=(90, 200)
            )
    row = queries.create_job(workspace, "House")
    must(workspace, row, "import.files", files=[str(tmp_path / "house.e57")])
    for k, block in ((4, "house/upper"), (5, "house/upper"), (1, "house")):
        must(workspace, row, "import.edit_scan", scan=k, block=block)
    return workspace, row


def picture(job, *where, **seen):
    return np.array(Image.open(io.BytesIO(plan.tile(job, *where, plan.Seen(**seen)))))


def test_a_tile_shows_every_stored_point_and_what_is_switched_off_goes(house):
    workspace, row = house
    job = opened(workspace, row)
    level, pixel = 6, 2.0**-6
    for seen, mask in (
        ({}, lambda s, z: z > -9),
        ({"scans": [2, 5]}, lambda s, z: np.full(len(z), s in (2, 5))),
        ({"low": 3.0, "high": 4.5}, lambda s, z: (z >= 3.0) & (z <= 4.5)),
    ):
        wanted = np.zeros((512, 512), bool)
        for scan in job.scans():
            q = rigid.apply(job.grid_pose(scan), job.cloud(scan.id).xyz())
            q = q[mask(scan.id, q[:, 2])]
            x, y = np.floor(q[:, 0] / pixel).astype(int), np.floor((8 - q[:, 1]) / pixel).astype(int)
            inside = (x >= 0) & (y >= 0) & (x < 512) & (y < 512)
            wanted[y[inside], x[inside]] = True
        drawn = picture(job, "density", level, 0, 0, **seen)[..., 3] > 0
        # coarse nodes may hold one point for several in a pixel, and rounding moves points at its edges
        assert (drawn & ~wanted).mean() < 1e-3 and (wanted & ~drawn).mean() < 0.02 and wanted.mean() > 0.01
    assert picture(job, "walls", level, 40, 40).shape == (1, 1, 4)


@pytest.mark.parametrize("scan", [1, 6])
def test_the_density_does_not_depend_on_the_zoom(reading, scan):
    """Coarse tiles are drawn from few points that stand for many; what they stand for adds up."""
    cloud, pose = reading.cloud(scan), reading.grid_pose(reading.scan(scan))
    for spacing, most in ((0.001, 1), (0.1, 0.8), (5.0, 0.01)):
        runs = cloud.even(np.full(3, -1e6), np.full(3, 1e6), pose, spacing)
        kept = np.concatenate([np.arange(a, b) for a, b, _ in runs])
        assert sum(w.sum() for _, _, w in runs) == pytest.approx(cloud.count, rel=1e-5)
        assert len(np.unique(kept)) == len(kept) <= most * cloud.count and (
            spacing > 0.001 or len(kept) == cloud.count
        )
    sheet = Sheet(tuple(pose[:2, 3] + [-100, 100]), 0.5, 400, 400)
    sights.add(
        sheet, cloud, reading.scan(scan).record, pose, np.full(3, -1e6), np.full(3, 1e6), (-1e6, 1e6), []
    )
    assert sheet.weight.sum() == pytest.approx(
        sum(
            w[cloud.kept(a, b)].sum() for a, b, w in cloud.even(np.full(3, -1e6), np.full(3, 1e6), pose, 0.5)
        ),
        rel=1e-4,
    )


def test_tiles_are_kept_until_what_they_show_changes(house, monkeypatch):
    workspace, row = house
    client = client_on(workspace, monkeypatch)
    about = client.get("/jobs/1/plan.json").json()
    url = f"/jobs/1/plan/{about['version']}/walls/5/0_0.png"
    first = client.get(url)
    assert (
        first.status_code == 200
        and "immutable" in first.headers["cache-control"]
        and client.get(f"/jobs/1/plan/{about['version']}/loud/5/0_0.png").status_code == 404
    )
    monkeypatch.setattr(plan, "_made", lambda *a: pytest.fail("drawn anew"))
    assert client.get(url).content == first.content
    monkeypatch.undo()
    client = client_on(workspace, monkeypatch)
    must(workspace, row, "register.set_pose", scan=2, x=1.0, y=2.0, z=1.5, heading_deg=0)
    assert client.get("/jobs/1/plan.json").json()["version"] != about["version"]
    with pytest.raises(NotFound, match="no such picture"):
        plan.tile(opened(workspace, row), "walls", 30, 0, 0, plan.Seen())
    monkeypatch.setattr(plan, "KEPT", 4)
    for x in range(9):
        client.get(f"/jobs/1/plan/v/density/7/{x}_0.png")
    folder = opened(workspace, row).subfolder("pictures")
    assert len([n for n in os.listdir(folder) if n.startswith("plan-")]) <= 5


def test_floors_are_found_under_the_stations_and_blocks_go_around_them(house):
    workspace, row = house
    job = opened(workspace, row)
    found = floors(job)
    assert [f["stations"] for f in found] == [3, 3] and np.allclose(
        [f["level"] for f in found], [0.0, 3.2], atol=0.02
    )
    assert (
        found[0]["low"] is None
        and found[0]["high"] == found[1]["low"] == pytest.approx(2.8, abs=0.03)
        and found[1]["high"] is None
    )
    blocks = scene.build(job)["blocks"]
    origin = scene.origin_of(job)
    assert [b["name"] for b in blocks] == ["house", "upper"]
    for block, members in zip(blocks, ([1, 4, 5], [4, 5])):
        ring = np.array(block["at"]) + origin[:2]
        turn = np.roll(ring, -1, 0) - ring
        for scan in job.scans():
            to = job.grid_pose(scan)[:2, 3] - ring
            inside = (turn[:, 0] * to[:, 1] - turn[:, 1] * to[:, 0] > 0).all()
            assert inside or scan.id not in members


@pytest.mark.parametrize(
    ("levels", "groups"),
    [([], []), ([1.0], 1), ([3.2, 0.0, 0.1], 2), ([0, 1.0, 2.0], 1), ([0, 3, 6, 6.1], 3)],
)
def test_levels_go_together(levels, groups):
    assert len(together(levels)) == (groups or 0)
    assert floor_under(np.zeros((10, 3)), np.zeros(3)) is None
