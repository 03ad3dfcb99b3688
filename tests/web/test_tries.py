"""Try-outs over the wire: what comes back is what the run would take, nothing is written, successors win."""

import json
import threading

import numpy as np
import pytest
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import TerrazzaError
from terrazza.web.contexts.scene import origin_of
from terrazza.work.trying import Lane
from tests.run import must, opened
from tests.web.conftest import client_on


def box(low, high):
    """Planes of an upright box, as a view sends them."""
    eye = np.eye(3)
    rows = [[*eye[k], high[k]] for k in range(3)] + [[*-eye[k], -low[k]] for k in range(3)]
    return [[float(v) for v in row] for row in rows]


@pytest.fixture
def lane(copied, monkeypatch):
    client = client_on(copied, monkeypatch)
    yield client, copied
    client.app.state.trying.close()


def test_what_would_go_is_what_goes(lane):
    client, workspace = lane
    row = queries.job_by(name="Whole")
    at = opened(workspace, row)
    origin, middle = origin_of(at), at.grid_pose(at.scan(1))[:3, 3]
    low, high = middle - origin - 4, middle - origin + 4
    region = {"pieces": [box(low, high)], "scans": [1], "budget": 1}
    before = queries.revision(row.id), Entry.select().count()
    body = {"values": [["deviations", "1.5"], ["scans", "1"]], "region": region}
    answer = client.post("/jobs/1/try/clean.outliers", json=body)
    assert answer.status_code == 200, answer.text
    size = int.from_bytes(answer.content[:4], "little")
    told, points = json.loads(answer.content[4 : 4 + size]), np.frombuffer(answer.content[4 + size :], "<f4")
    assert (queries.revision(row.id), Entry.select().count()) == before and told["whole"]
    figures = must(workspace, row, "clean.outliers", deviations=1.5, scans=[1])
    cloud = opened(workspace, row).cloud(1)
    xyz = rigid.apply(at.grid_pose(at.scan(1)), cloud.xyz()) - origin
    gone = (np.asarray(cloud.read("cut")) == figures["cut"]) & ((xyz >= low) & (xyz <= high)).all(1)
    assert told["figures"]["points"] == gone.sum() > 20 and f"{gone.sum():,} of" in told["says"]
    apart, same = cKDTree(xyz[gone]).query(points.reshape(-1, 3).astype(float))
    assert apart.max() < 2e-5 and len(np.unique(same)) == gone.sum()


WRONG = (
    ("deliver.e57", [], "no try-out"),
    ("clean.outliers", [["deviations", "many"]], "needs a number"),
    ("clean.outliers", [["deviations", "-1"]], "greater than or equal"),
    ("clean.nothing", [], "no operation"),
    ("clean.surface", [], "needs 1 touched point"),
    ("clean.outliers", [["within", "No box"]], "no box “No box”"),
)


def test_what_cannot_be_tried_is_said(lane):
    region = {"pieces": [box([-500] * 3, [500] * 3)], "scans": [1], "budget": 1}
    for operation, values, words in WRONG:
        answer = lane[0].post(f"/jobs/1/try/{operation}", json={"values": values, "region": region})
        assert answer.status_code >= 400 and words in answer.json()["message"] + answer.json()["hint"]


def test_a_successor_takes_the_place(copied):
    """Of several asked at once the last is answered; those before it are told that they are overtaken."""
    lane = Lane(copied)
    region = {
        "pieces": [box([-500] * 3, [500] * 3)],
        "but": [],
        "hidden": [],
        "scans": [],
        "origin": [0, 0, 0],
    }
    at = opened(copied, queries.job_by(name="Whole"))
    region["origin"] = origin_of(at).tolist()
    answers = {}

    def ask(k):
        try:
            answers[k] = lane.ask(1, "clean.outliers", {"neighbours": 4 + k, "scans": [1]}, region)
        except TerrazzaError as error:
            answers[k] = error

    try:
        lane.ask(1, "clean.outliers", {"scans": [1]}, region)
        threads = []
        for k in range(3):
            threads.append(threading.Thread(target=ask, args=(k,)))
            threads[-1].start()
            while lane.latest < k + 2:
                pass
        for thread in threads:
            thread.join(120)
    finally:
        lane.close()
    assert answers[2]["figures"]["of"] > 1000 and answers[0] is None and answers[1] is None
