"""Handover folders that are put in place whole, certificates, and notes that come back as pins."""

import json
import os

import numpy as np
import pypdf
import pytest

from terrazza.core.geometry import rigid
from terrazza.formats import notes
from tests.run import must, opened, perform
from tests.scenes import room_job

pytestmark = pytest.mark.usefixtures("alone")


@pytest.fixture
def room(workspace, tmp_path):
    job = room_job(workspace, tmp_path)
    must(*job, "draw.plan_slab")
    must(*job, "pins.put", points=[{"scan": 1, "at": [1, 2, 0]}], name="Crack <b>", text="wide & long")
    return job


def test_another_folder_is_not_overwritten_and_ours_is(room, tmp_path):
    mine = tmp_path / "mine"
    mine.mkdir()
    (mine / "precious.txt").write_text("keep")
    entry = perform(*room, "deliver.handover", path=str(mine))
    assert entry.state == "failed" and os.listdir(mine) == ["precious.txt"]
    for most in (3000, 2000):
        figures = must(*room, "deliver.handover", path=str(tmp_path / "ours"), most=most, views=False)
        assert figures["points"] == most
    size = sum(f.stat().st_size for f in (tmp_path / "ours").rglob("*") if f.is_file())
    assert abs(figures["bytes"] - size) < 2000 and not (tmp_path / "ours.before").exists()


def test_notes_come_back_as_pins(room, tmp_path):
    point = {"type": "Point", "coordinates": [1, 2, 0.5]}
    told = {"text": "damp", "author": "Ada", "time": "2026-11-27"}
    feature = {"type": "Feature", "properties": told, "geometry": point}
    saved = {"type": "FeatureCollection", "features": [feature]}
    (tmp_path / "notes.geojson").write_text(json.dumps(saved))
    (tmp_path / "crew.csv").write_text("Easting;Northing;Height;Note\n2,5;3;1;socket\n900;900;0;far\n")
    assert must(*room, "pins.bring", path=str(tmp_path / "notes.geojson"))["pins"] == 1
    figures = must(*room, "pins.bring", path=str(tmp_path / "crew.csv"))
    assert figures["pins"] == 2 and "far from all scans" in figures["doubt"][0]
    job = opened(*room)
    pins = list(job.facts("pin").values())[1:]
    assert pins[0]["text"] == "damp\nAda · 2026-11-27" and pins[1]["text"] == "socket"
    for pin, at in zip(pins, ([1, 2, 0.5], [2.5, 3, 1], [900, 900, 0])):
        scan = job.scan(pin["point"]["scan"])
        assert np.allclose(rigid.apply(job.grid_pose(scan), np.array([pin["point"]["at"]]))[0], at)


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.csv", "x,y,text\n1,2,3\n", "no column z"),
        ("a.csv", "x,y,z,text\n1,two,3,t\n", "line 2"),
        ("a.csv", "x,y,z,text\n", "no note"),
        ("a.geojson", '{"features": [{"geometry": {"type": "Point", "coordinates": [1]}}]}', "no GeoJSON"),
        ("a.geojson", '{"features": 7', "no GeoJSON"),
        ("a.csv", "", "no note"),
    ],
)
def test_notes_that_are_none_are_said(tmp_path, name, content, says):
    (tmp_path / name).write_text(content)
    with pytest.raises(Exception, match=says):
        notes.read(str(tmp_path / name))


def test_the_certificate_is_one_page_with_the_same_figures(room, tmp_path):
    must(*room, "deliver.laz", path=str(tmp_path / "cloud.laz"), most=2000)
    figures = must(
        *room, "deliver.certificate", path=str(tmp_path / "c"), surveyor="A. Surveyor", client="Them"
    )
    pages = pypdf.PdfReader(figures["paths"][1]).pages
    assert len(pages) == 1
    text, html = pages[0].extract_text(), open(figures["paths"][0], encoding="utf-8").read()
    for told in ("A. Surveyor", "Them", "cloud.laz", "3 of 3 placed", figures["job_sha256"][:16]):
        assert told in html and told in text.replace("\n", ""), told
    again = must(*room, "deliver.certificate", path=str(tmp_path / "c"))
    assert again["job_sha256"] == figures["job_sha256"]
    must(*room, "register.set_pose", scan=1, x=1, y=0, z=0, heading_deg=0)
    assert must(*room, "deliver.certificate", path=str(tmp_path / "c"))["job_sha256"] != figures["job_sha256"]
