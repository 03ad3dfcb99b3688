"""Deliverables that are out of date, and those made anew beside them."""

import os

import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.work.runner import run_entry
from tests import scenes
from tests.run import must, opened
from tests.web.conftest import client_on

pytestmark = pytest.mark.usefixtures("alone")


@pytest.fixture
def room(workspace, tmp_path):
    return scenes.room_job(workspace, tmp_path, rows=60, columns=140)


def test_what_is_out_of_date_is_told_and_made_anew_beside(room, monkeypatch):
    workspace, row = room
    client = client_on(workspace, monkeypatch)
    must(*room, "deliver.laz", spacing=0.1)
    must(*room, "deliver.copc", path="all")
    must(*room, "deliver.ply", each="scan", names="{file}-{number}")
    must(*room, "deliver.report")
    assert "anew" not in client.get("/jobs/1/sheet/deliver").text
    must(*room, "pins.put", points=[{"scan": 1, "at": [1, 0, 0]}])
    assert "anew" not in client.get("/jobs/1/sheet/deliver").text, "nothing was made from pins"
    must(*room, "clean.outliers")
    page = client.get("/jobs/1/sheet/deliver").text
    assert page.count("points changed since") >= 2 and "Make them anew" in page
    last = queries.done_entries(row)[-1].number
    assert client.post("/jobs/1/deliverables/anew").status_code == 200
    queued = Entry.select().where(Entry.job == row, Entry.number > last)
    made = {e.operation: run_entry(workspace, e) for e in list(queued)}
    assert {"deliver.laz", "deliver.copc"} <= set(made)
    assert {e.state for e in made.values()} == {"done"}
    assert made["deliver.laz"].params["spacing"] == 0.1
    there = set(os.listdir(opened(*room).subfolder("deliverables")))
    assert {"cloud.laz", "cloud-2.laz", "all.copc.laz", "all-2.copc.laz"} <= there
    assert {"cloud-1.ply", "cloud-2.ply"} <= there and "cloud-4-2.ply" in there, "begun by no file before"
    facts = {os.path.basename(k): v for k, v in opened(*room).facts("deliverable").items()}
    assert facts["cloud-2.laz"]["points"] < facts["cloud.laz"]["points"]
