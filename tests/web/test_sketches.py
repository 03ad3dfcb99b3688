"""Sketches as pages show them: their pictures, where they lie in the scene, scans where they are drawn."""

import numpy as np
import pytest
from PIL import Image

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.web.contexts import scene
from tests.run import must, opened, perform
from tests.scenes import write_room
from tests.web.conftest import client_on

GRID = rigid.make(rigid.about_z(np.radians(30.0)), np.array([500_000.0, 4_600_000.0, 120.0]))


@pytest.fixture
def drawn(workspace, tmp_path, monkeypatch):
    """A job in a turned grid with one scan placed, one drawn on a sketch of 5 cm a pixel, and one lost."""
    write_room(tmp_path / "room.e57")
    row = queries.create_job(workspace, "Drawn")
    must(workspace, row, "import.files", files=[str(tmp_path / "room.e57")])
    must(workspace, row, "register.set_pose", scan=1, x=4, y=3, z=1.6, heading_deg=0)
    names = {"A": (0, 0, 0), "B": (8, 0, 0), "C": (0, 6, 0), "D": (8, 6, 2)}
    for name, place in names.items():
        x, y, z = np.array(place) - [4, 3, 1.6]
        must(workspace, row, "georeference.pick_target", scan=1, x=x, y=y, z=z, name=name, refine=False)
    at = rigid.apply(GRID, np.array(list(names.values()), float))
    lines = [f"{n},{e:.4f},{north:.4f},{h:.4f}" for n, (e, north, h) in zip(names, at)]
    (tmp_path / "control.csv").write_text("\n".join(["name,easting,northing,height", *lines]))
    must(workspace, row, "georeference.control", control=str(tmp_path / "control.csv"))
    Image.new("RGB", (400, 200), "white").save(tmp_path / "plan.png")
    known = [[0, 200], [400, 0]]  # the corners (-6, -2) and (14, 8) of the job
    corners = rigid.apply(GRID, np.array([[-6.0, -2, 0], [14, 8, 0]]))[:, :2]
    must(
        workspace,
        row,
        "register.sketch",
        picture=str(tmp_path / "plan.png"),
        known=[[*p, *c] for p, c in zip(known, corners.tolist())],
        stations=[[2, 300, 60]],
        off=0.05,
    )
    return client_on(workspace, monkeypatch), workspace, row


def test_a_sketch_lies_in_the_grid_and_scans_where_it_has_them(drawn):
    client, workspace, row = drawn
    job, answer = opened(workspace, row), client.get(f"/jobs/{row.id}/scene.json").json()
    (sketch,) = answer["sketches"]
    matrix, origin = np.array(sketch["matrix"]).reshape(2, 3), np.array(answer["origin"])
    places = np.array([[0, 200], [400, 0], [300, 60]]) @ matrix[:, :2].T + matrix[:, 2] + origin[:2]
    wanted = rigid.apply(GRID, np.array([[-6.0, -2, 0], [14, 8, 0], [9, 5, 0]]))[:, :2]
    assert np.abs(places - wanted).max() < 0.002
    shown = {s["id"]: np.array(s["pose"]).reshape(4, 4)[:3, 3] + origin for s in answer["scans"]}
    assert np.abs(shown[2][:2] - wanted[2]).max() < 0.002 and job.scan(2).pose is None
    assert np.hypot(*(shown[3][:2] - wanted[2])) > scene.GALLERY / 2, "what no sketch has stands aside"
    picture = client.get(sketch["url"])
    assert picture.status_code == 200 and picture.headers["content-type"] == "image/png"
    assert client.get(f"/jobs/{row.id}/pictures/sketch/9").status_code == 404


def test_the_sheet_lists_sketches_and_takes_them_away(drawn):
    client, workspace, row = drawn
    sheet = client.get(f"/jobs/{row.id}/sheet/register").text
    assert 'data-name="sketches"' in sheet and "1 scan marked" in sheet
    must(workspace, row, "table.take_away", kind="sketch", number=1)
    sheet = client.get(f"/jobs/{row.id}/sheet/register").text
    assert 'data-name="sketches"' not in sheet
    assert client.get(f"/jobs/{row.id}/scene.json").json()["sketches"] == []


def test_what_is_drawn_is_checked_against_where_scans_stand(drawn):
    _, workspace, row = drawn
    again = must(workspace, row, "register.sketch", sketch=1, stations=[[1, 200, 100]], off=0.5)
    (one, two) = again["stations"]
    assert one["placed"] and one["off_m"] < 0.01 and not one["doubt"]  # (4, 3) is where scan 1 stands
    assert not two["placed"] and "Scan 2" in again["doubt"][0]
    wrong = must(workspace, row, "register.sketch", sketch=1, stations=[[1, 300, 100]], off=0.5)
    assert "stands" in wrong["doubt"][0] and "5.00" in wrong["doubt"][0]
    held = perform(workspace, row, "register.sketch", sketch=1, stations=[[1, 500, 100]])
    assert held.state == "failed" and "outside the picture" in held.message


@pytest.mark.parametrize("name", ["sketch.png", "Foto é.JPG", "map.jpeg"])
def test_pictures_in_the_inbox_are_no_broken_scans(drawn, name):
    client, workspace, row = drawn
    kind = "PNG" if name.lower().endswith("png") else "JPEG"
    Image.new("RGB", (8, 8)).save(f"{opened(workspace, row).subfolder('inbox')}/{name}", kind)
    sheet = client.get(f"/jobs/{row.id}/sheet/import").text
    assert name in sheet and "photo of a scan, or a sketch?" in sheet and "is neither" not in sheet
    assert f'<option value="{name}">' in client.get(f"/jobs/{row.id}/sheet/register").text
