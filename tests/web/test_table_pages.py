"""What is set down on the table, through the application without a browser: lists, try-outs, pictures, and
the answers to what is not there.
"""

import json
import re

import laspy
import numpy as np
import pytest
from PIL import Image

from terrazza.db import queries
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.web.contexts import nodes, scene
from tests.run import must, opened
from tests.scenes import room_poses, write_room
from tests.web.conftest import client_on


@pytest.fixture
def room(workspace, tmp_path, monkeypatch):
    """A posed room with a measure, a pin with a picture, a box and a view; (client, job)."""
    write_room(tmp_path / "r.e57", posed=True, rows=60, columns=140)
    row = queries.create_job(workspace, "Room")
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    job = Job(workspace, row)
    Image.new("RGB", (9, 9), "green").save(f"{job.subfolder('inbox')}/p.png")
    must(workspace, row, "measure.take", points=[touch((0, 3, 1)), touch((8, 3, 1))], name="across <b>")
    must(
        workspace,
        row,
        "pins.put",
        points=[touch((0, 3, 1))],
        text="<script>alert(1)</script>",
        link="https://example.org/?a=1&b=2",
        picture="p.png",
    )
    must(workspace, row, "boxes.put", name="half", centre=[4, 3, 1.5], size=[4, 6, 3], heading_deg=10)
    must(workspace, row, "table.keep_view", name="north", address="plan=1,2,0.05;colour=scan")
    return client_on(workspace, monkeypatch), Job(workspace, row)


def touch(at, scan=1):
    pose = room_poses()[scan - 1]
    return {"scan": scan, "at": (pose[:3, :3].T @ (np.array(at, float) - pose[:3, 3])).tolist()}


def test_lists_show_everything_and_hide_nothing_in_markup(room):
    client, _ = room
    page = client.get("/jobs/1/table/notes").text
    assert (
        "1 measure · 1 pin · 1 box · 1 view" in page
        and "8.000 m" in page
        and "#plan=1,2,0.05;colour=scan" in page
    )
    assert (
        "<script>alert" not in page
        and "&lt;script&gt;" in page
        and "across &lt;b&gt;" in page
        and 'href="https://example.org/?a=1&amp;b=2"' in page
    )
    at = re.search(r'data-jump="\[([^\]]+)\]"', page).group(1)
    assert np.allclose([float(v) for v in at.split(",")], [0, 3, 1], atol=1e-6)


def test_pictures_of_pins_are_served(room):
    client, _ = room
    assert client.get("/jobs/1/table/pin/1/picture").headers["content-type"] == "image/png"
    assert client.get("/jobs/1/table/pin/2/picture").status_code == 404


@pytest.mark.parametrize(
    ("body", "status", "words"),
    [
        ({"kind": "distance", "points": [touch((0, 3, 1)), touch((0, 3, 3))]}, 200, "2.000 m"),
        ({"kind": "plane", "points": [touch((0, 2, 1.5))], "reach": 0.4}, 200, "RMS"),
        ({"kind": "distance", "points": [touch((0, 3, 1))]}, 422, "takes 2 points"),
        ({"kind": "magic", "points": [touch((0, 3, 1))]}, 422, "kind"),
        ({"kind": "point", "points": []}, 422, "points"),
        ({"kind": "point", "points": [{"scan": 77, "at": [0, 0, 0]}]}, 404, "no scan 77"),
        ({"kind": "sphere", "points": [touch((4, 3, 1.5))]}, 422, "needs 4 points"),
        ({"kind": "plane", "points": [touch((0, 3, 1))], "reach": 500}, 422, "reach"),
        ({"kind": "point", "points": [{"scan": 1, "at": [0, 0, "x"]}]}, 422, "number"),
    ],
)
def test_measures_are_tried_out_and_leave_nothing(room, body, status, words):
    client, job = room
    answer = client.post("/jobs/1/table/try", json=body)
    assert (
        answer.status_code == status
        and words in answer.text
        and len(Job(job.workspace, job.row).facts("measure")) == 1
    )


def test_the_scene_tells_what_is_drawn(room):
    client, job = room
    told, origin = client.get("/jobs/1/scene.json").json(), scene.origin_of(job)
    assert told["measures"][0]["label"] == "8.000 m" and np.allclose(
        np.add(told["measures"][0]["at"], origin), [[0, 3, 1], [8, 3, 1]], atol=1e-6
    )
    box = told["boxes"][0]
    assert (
        np.allclose(np.add(box["centre"], origin), [4, 3, 1.5])
        and box["size"] == [4, 6, 3]
        and np.degrees(box["heading"]) == pytest.approx(10)
    )
    assert (
        np.allclose(np.add(told["pins"][0]["at"], origin), [0, 3, 1], atol=1e-6)
        and told["notation"]["unit"] == "m"
        and all(s["station"] for s in told["scans"])
    )


def test_roots_come_in_one_answer(room):
    client, job = room
    data, at, seen = client.get("/jobs/1/scene/roots").content, 0, []
    while at < len(data):
        scan, size = np.frombuffer(data, "<u4", 2, at)
        assert data[at + 8 : at + 8 + size] == nodes.pack(job, int(scan), [0], spread=True)
        plain = nodes.pack(job, int(scan), [0])
        positions = lambda node: np.frombuffer(
            node, "<u2", 4 * int(np.frombuffer(node, "<u4", 2)[1]), 16
        ).reshape(-1, 4)
        spread, all_ = positions(data[at + 8 : at + 8 + size]), positions(plain)
        assert sorted(map(tuple, spread)) == sorted(map(tuple, all_)), "the same points in another order"
        first = spread[: len(spread) // 8, :3].astype(float)
        assert np.abs(first.mean(0) - all_[:, :3].mean(0)).max() < 0.05 * 65535, (
            "whose first part is an even sample"
        )
        seen.append(int(scan))
        at += 8 + int(size)
    assert seen == [1, 2, 3]


@pytest.mark.parametrize(
    "address",
    [
        "station/99.json",
        "station/x.json",
        "station/1-4.json",
        "station/1-x.json",
        "station/1/v/nonsense/0/0-0.png",
        "station/1/v/intensity/0/99-99.png",
    ],
)
def test_what_is_not_there_is_said(room, address):
    answer = room[0].get(f"/jobs/1/{address}")
    assert answer.status_code == 404 and answer.json()["message"]


def test_stations_are_described_and_tiled(room):
    client, _ = room
    about = client.get("/jobs/1/station/2.json").json()
    assert (
        (about["rows"], about["columns"], about["others"]) == (60, 140, ["1", "2", "3"])
        and about["turn"]
        and len(about["azimuth"]) == 140
    )
    tile = client.get(f"/jobs/1/station/2/{about['version']}/range/0/0-0.png")
    assert tile.headers["content-type"] == "image/png" and "immutable" in tile.headers["cache-control"]
    assert (
        client.get("/jobs/1/station/2/pick?row=30&column=70").json()["scan"] == 2
        and client.get("/jobs/1/station/2/pick?row=-40&column=70").json() is None
    )


@pytest.mark.parametrize(
    ("operation", "form"),
    [
        ("table.take_away", {"kind": "pin", "number": 1}),
        ("boxes.put", {"centre": "[1, 2, 3]", "size": "[1, 1, 1]", "name": "small"}),
        ("table.notation", {"unit": "inch", "decimals": 2}),
    ],
)
def test_forms_of_the_table_are_queued(room, operation, form):
    client, job = room
    assert client.post(f"/jobs/1/do/{operation}", data=form).headers["hx-trigger"] == "queued"
    entry = max(queries.done_entries(job.row) + [queries.entry_of(job.row, 6)], key=lambda e: e.number)
    assert (
        entry.operation == operation
        and entry.state == "queued"
        and all(entry.params[k] == (json.loads(v) if str(v).startswith("[") else v) for k, v in form.items())
    )


def test_the_sheets_write_figures_as_the_job_does(room, workspace):
    client, job = room
    must(workspace, job.row, "draw.plan_slab", height=1.0)
    must(workspace, job.row, "table.notation", unit="international foot", decimals=2, decimal_mark="comma")
    total = sum(
        line["length"] for d in Job(workspace, job.row).facts("drawing").values() for line in d["lines"]
    )
    sheet = client.get("/jobs/1/draw").text
    assert f"{total / 0.3048:.1f}".replace(".", ",") + " ft" in sheet and '<th class="n">ft</th>' in sheet
    assert "13,12 × 19,69 × 9,84 ft" in client.get("/jobs/1/table/notes").text
    must(workspace, job.row, "deliver.report", path="report")
    page = open(f"{Job(workspace, job.row).subfolder('deliverables')}/report.html").read()
    east = Job(workspace, job.row).grid_pose(job.scan(1))[0, 3]
    rms = Notation.of(Job(workspace, job.row)).small(
        max(line["rms_mm"] for d in Job(workspace, job.row).facts("drawing").values() for line in d["lines"])
    )
    assert (
        f'<td class="n">{rms}</td>' in sheet
        and "RMS ft" in sheet
        and "international feet" in client.get("/jobs/1/draw").text
    )
    assert "lengths in ft" in page and f"{east / 0.3048:.3f}".replace(".", ",") in page


def test_dimensions_and_returns_come_with_the_nodes(workspace, tmp_path, monkeypatch):
    """Another plane of a node says where a dimension lies on its scale, flags which return it is."""
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales = [0.001] * 3
    header.add_extra_dim(laspy.ExtraBytesParams(name="warmth", type=np.float32))
    las, rng, n = laspy.LasData(header), np.random.default_rng(3), 3000
    las.xyz = np.c_[np.linspace(0, 30, n), rng.uniform(0, 5, (n, 2))]
    of = rng.integers(1, 4, n)
    las.return_number, las.number_of_returns = np.minimum(rng.integers(1, 4, n), of), of
    las.warmth = np.where(rng.random(n) < 0.1, np.nan, las.x / 2 - 5).astype(np.float32)
    las.write(str(tmp_path / "warm.las"))
    row = queries.create_job(workspace, "Warm")
    must(workspace, row, "import.files", files=[str(tmp_path / "warm.las")])
    client = client_on(workspace, monkeypatch)
    scene = client.get("/jobs/1/scene.json").json()
    layout, shade = scene["layout"], next(s for s in scene["shades"] if s["name"] == "warmth")
    assert scene["returns"] and shade["about_zero"]
    assert shade["low"] == -shade["high"] == pytest.approx(-10, abs=0.5)
    url = f"/jobs/1/scene/nodes/1/{scene['scans'][0]['version']}?n=0"
    raw = client.get(f"{url}&shade={shade['key']}").content
    _, count, stride, _ = np.frombuffer(raw[:16], "<u4")
    assert stride == layout["stride"] + 4 and len(raw) == 16 + stride * count
    share = np.frombuffer(raw, "u1", 4 * count, 16 + layout["stride"] * count)[::4]
    cloud = opened(workspace, row).cloud(1)
    warm = np.asarray(cloud.read("extra.warmth", 0, count))
    told = shade["low"] + (share[share > 0] - 1.0) / 254 * (shade["high"] - shade["low"])
    assert ((share == 0) == np.isnan(warm)).all()
    assert np.abs(told - np.clip(warm[share > 0], shade["low"], shade["high"])).max() < 0.05
    flags = np.frombuffer(raw, "u1", 4 * count, 16 + 12 * count)[3::4]
    back = np.asarray(cloud.read("returns", 0, count))
    assert ((flags & layout["not_first"] > 0) == ((back & 15) > 1)).all()
    assert ((flags & layout["not_last"] > 0) == ((back & 15) < back >> 4)).all() and not (flags & 3).any()
    assert client.get(f"{url}&shade=older").status_code == 404
