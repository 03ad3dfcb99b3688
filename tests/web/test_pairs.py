"""How far two scans lie apart, in pictures and under the hand, against what was put between them."""

import io

import numpy as np
import pytest
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.core.register import apart
from tests import scenes
from tests.run import must
from tests.web.conftest import client_on

SHIFT = np.array([0.008, 0.0, 0.003])


@pytest.fixture
def room(workspace, tmp_path, monkeypatch):
    """A room whose third scan is set a little off."""
    made = scenes.room_job(workspace, tmp_path)
    pose = scenes.room_poses()[2]
    x, y, z = pose[:3, 3] + SHIFT
    turn = float(np.degrees(np.arctan2(pose[1, 0], pose[0, 0])))
    must(*made, "register.set_pose", scan=3, x=x, y=y, z=z, heading_deg=turn)
    return (*made, client_on(workspace, monkeypatch))


def test_what_lies_apart_is_told_in_its_direction_from_the_other_scanner():
    rng = np.random.default_rng(2)
    wall = lambda x, n: np.c_[rng.normal(x, 0.001, n), rng.uniform(0, 4, n), rng.uniform(0, 2.5, n)]
    floor = lambda z, n: np.c_[rng.uniform(0, 4, (n, 2)), rng.normal(z, 0.001, n)]
    own = np.concatenate([wall(3.996, 8000), floor(0.002, 8000), [[2, 2, 1.0]]])
    other = np.concatenate([wall(4.0, 20_000), floor(0.0, 20_000)])
    for eye, sign in (([1, 2, 1.5], 1), ([9, 2, -5.0], -1)):
        found = apart.measured(own, other, np.array(eye, float))
        assert 0.9 * 16_000 < len(found.off) <= 16_000
        assert np.median(found.off[found.wall]) == pytest.approx(sign * 0.004, abs=3e-4)
        assert np.median(found.off[~found.wall]) == pytest.approx(sign * 0.002, abs=3e-4)
    assert len(apart.measured(own, other[:5], np.zeros(3)).off) == 0


def test_the_register_sheet_shows_a_pair_in_pictures(room):
    workspace, row, client = room
    part = client.get(f"/jobs/{row.id}/part/pair/3/1").text
    assert part.count("<figure>") == 2 and "Flur" in part and "Küche" in part
    shown = [
        np.array(Image.open(io.BytesIO(client.get(f"/jobs/{row.id}/pictures/pair/3-1/{k}.png").content)))
        for k in ("walls", "floors")
    ]
    walls, floors = (s[s[..., 3] > 0].astype(int) for s in shown)
    assert len(walls) > 200 and len(floors) > 2000
    red = lambda pixels: (pixels[:, 0] > pixels[:, 2] + 30).mean()
    blue = lambda pixels: (pixels[:, 2] > pixels[:, 0] + 30).mean()
    # of walls that face each other one lies before what the other scan saw, one behind it; floors lie higher
    assert red(walls) > 0.1 and blue(walls) > 0.1 and red(floors) > 0.2
    for address in ("pictures/pair/3-1/roofs.png", "part/pair/3/9", "pictures/pair/1-77/walls.png"):
        assert client.get(f"/jobs/{row.id}/{address}").status_code == 404


def test_a_scan_in_hand_is_told_how_it_lies_beside_the_others(room):
    workspace, row, client = room
    true = scenes.room_poses()[2]
    told = []
    for off in ([0.0, 0, 0], [0.04, 0, 0], [0.25, 0.2, 0.1], [90, 0, 0]):
        pose = rigid.make(true[:3, :3], true[:3, 3] + off).ravel().tolist()
        told.append(client.post(f"/jobs/{row.id}/table/beside", json={"scan": 3, "pose": pose}).json())
    overlap, far = ([t[k] for t in told] for k in ("overlap", "within_mm"))
    assert overlap[0] > 0.9 and overlap[0] >= overlap[2] and overlap[3] == 0 and far[3] is None
    assert 0.3 < far[0] < 8 < far[1] < 45 < far[2]
    assert "beside the others" in told[0]["says"] and "most of it within" in told[0]["says"]
    assert client.post(f"/jobs/{row.id}/table/beside", json={"scan": 9, "pose": pose}).status_code == 404
