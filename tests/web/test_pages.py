"""Pages, partials and the binary scene, through the application without a browser."""

import numpy as np
import pytest
from starlette.datastructures import FormData

from terrazza.core.geometry import rigid
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.spine.base import all_operations, find
from terrazza.operations.spine.notation import Notation
from terrazza.web.contexts import forms, scene
from tests.web.conftest import STEPS


@pytest.mark.parametrize("step", STEPS)
def test_every_step_answers_full_and_empty(client, empty, step):
    page = client.get(f"/jobs/1/{step}")
    assert page.status_code == 200 and f'data-step="{step}"' in page.text
    assert client.get(f"/jobs/1/sheet/{step}").status_code == 200
    assert client.get(f"/jobs/1/part/terraces/{step}").text.count('class="step') == 8


def test_an_empty_workspace_teaches(empty):
    assert "make demo" in empty.get("/").text
    made = empty.post("/jobs", data={"name": "Vigna, Größe <b>"}, follow_redirects=False)
    assert made.status_code == 303 and made.headers["location"] == "/jobs/1/import"
    for step in STEPS:
        page = empty.get(f"/jobs/1/{step}")
        assert page.status_code == 200 and "Größe &lt;b&gt;" in page.text
    assert empty.get("/jobs/1", follow_redirects=False).headers["location"] == "/jobs/1/import"
    assert (
        "exists already"
        in empty.post("/jobs", data={"name": "Vigna, Größe <b>"}, headers={"accept": "text/html"}).text
    )


@pytest.mark.parametrize(
    ("path", "status"),
    [
        ("/nowhere", 404),
        ("/jobs/77/import", 404),
        ("/jobs/1/fly", 404),
        ("/jobs/1/scene/nodes/1/old?n=0", 404),
        ("/jobs/1/scene/tree/1/old", 404),
        ("/jobs/1/scene/tree/99/old", 404),
        ("/jobs/1/pictures/target/999.png", 404),
        ("/jobs/x/import", 422),
        ("/jobs/1/deliverables/file/99", 404),
    ],
)
def test_errors_are_pages_partials_or_json(client, path, status):
    page = client.get(path, headers={"accept": "text/html"})
    assert page.status_code == status and "<h1>" in page.text and "Traceback" not in page.text
    assert client.get(path).json()["message"]
    part = client.get(path, headers={"hx-request": "true"})
    assert 'alert-danger notice"' in part.text and part.headers["hx-retarget"] == "#notices"


def test_other_sites_cannot_post(client):
    assert (
        client.post("/jobs", data={"name": "x"}, headers={"origin": "http://evil.example"}).status_code == 403
    )
    assert client.get("/", headers={"host": "evil.example"}).status_code == 400


def test_a_form_becomes_a_queued_entry(client):
    answer = client.post(
        "/jobs/1/do/clean.outliers", data={"neighbours": "6", "by_range.there": "1", "scans": "1, 3"}
    )
    assert answer.status_code == 200 and answer.headers["hx-trigger"] == "queued" and "waiting" in answer.text
    entry = Entry.select().order_by(Entry.number.desc()).first()
    assert (
        entry.state == "queued"
        and entry.params["neighbours"] == 6
        and entry.params["by_range"] is False
        and entry.params["scans"] == [1, 3]
    )
    client.post(f"/jobs/1/cancel/{entry.number}")
    assert Entry.get_by_id(entry.id).state == "cancelled"


@pytest.mark.parametrize(
    ("operation", "data", "words"),
    [
        ("clean.outliers", {"neighbours": "0"}, "greater than or equal"),
        ("clean.outliers", {"neighbours": "many"}, "needs a number"),
        ("no.such", {}, "no operation"),
        ("register.set_pose", {"scan": "1"}, "Field required"),
        ("deliver.laz", {"path": "/etc/passwd"}, "stay in the job"),
        ("deliver.laz", {"path": "../../x.laz"}, "stay in the job"),
    ],
)
def test_bad_forms_are_refused_in_words_and_queue_nothing(client, operation, data, words):
    before = Entry.select().count()
    answer = client.post(f"/jobs/1/do/{operation}", data=data, headers={"hx-request": "true"})
    assert answer.status_code >= 400 and words in answer.text
    assert Entry.select().count() == before


@pytest.mark.parametrize("unit", ["metre", "US survey foot"])
@pytest.mark.parametrize("operation", all_operations(), ids=lambda o: o.name)
def test_forms_carry_every_default_there_and_back(operation, unit):
    about, pairs = forms.controls(operation, Notation(unit)), []
    for p in about["params"]:
        assert unit == "metre" or p["unit"] not in {"m", "mm"}
        pairs += [(f"{p['name']}.unit", p["written_in"])] if p["written_in"] else []
        if p["required"]:
            continue
        if p["type"] == "boolean":
            pairs += [(f"{p['name']}.there", "1")] + ([(p["name"], "on")] if p["value"] else [])
        elif p["widget"] == "bands":
            pairs += [(f"{p['name']}.{k}", str(b[k])) for b in p["value"] for k in ("low", "high", "code")]
        elif p["type"] == "array":
            pairs.append((p["name"], ", ".join(map(str, p["value"]))))
        else:
            pairs.append((p["name"], "" if p["value"] is None else str(p["value"])))
    got = forms.values(operation, FormData(pairs))
    for p in about["params"]:
        if not p["required"] and p["name"] in got:
            assert got[p["name"]] == p["default"] or (p["default"] in (None, "") and p["name"] not in got), p[
                "name"
            ]


@pytest.mark.parametrize(
    ("operation", "form", "meant"),
    [
        (
            "draw.plan_slab",
            [
                ("height.unit", "international foot"),
                ("height", "10"),
                ("thickness.unit", "inch"),
                ("thickness", "2"),
            ],
            {"height": 3.048, "thickness": 0.0508},
        ),
        (
            "register.adjust",
            [("bias_sigma_mm.unit", "inch"), ("bias_sigma_mm", "0.01")],
            {"bias_sigma_mm": 0.254},
        ),
        (
            "deliver.laz",
            [("box.unit", "millimetre"), ("box", "0, 0, 0, 1500, 2500, 3500")],
            {"box": [0, 0, 0, 1.5, 2.5, 3.5]},
        ),
        (
            "georeference.level",
            [("origin.unit", "US survey foot"), ("origin", "3937, 0, -3.937")],
            {"origin": [1200, 0, -1.2]},
        ),
        (
            "classify.height_bands",
            [
                ("bands.unit", "international foot"),
                *((f"bands.{k}", v) for k, v in (("low", "1"), ("high", "10"), ("code", "4"))),
            ],
            {"bands": [{"low": 0.3048, "high": 3.048, "code": 4}]},
        ),
        ("draw.plan_slab", [("height", "10")], {"height": 10.0}),
    ],
)
def test_lengths_are_taken_in_the_unit_that_the_form_names(operation, form, meant):
    got = forms.values(find(operation), FormData(form))
    assert {k: got[k] for k in meant} == meant


@pytest.mark.parametrize(
    ("order", "names"), [("E N H", ["scan", "x", "y", "z"]), ("N E H", ["scan", "y", "x", "z"])]
)
def test_easting_and_northing_are_asked_for_in_the_jobs_order(order, names):
    assert [p["name"] for p in forms.controls(find("register.set_pose"), Notation(order=order))["params"]][
        :4
    ] == names


def test_a_job_in_feet_is_asked_and_told_in_feet(client, copied):
    from tests.run import must

    row = queries.job_by(id=1)
    must(copied, row, "table.notation", unit="international foot")
    sheet = client.get("/jobs/1/sheet/draw").text
    assert (
        '<input type="hidden" name="thickness.unit" value="international foot">' in sheet
        and 'value="0.164"' in sheet
        and "<small>m</small>" not in sheet
    )
    height = must(copied, row, "draw.plan_slab", thickness=0.3048)["height_m"]
    book = client.get("/jobs/1/part/fieldbook").text
    assert (
        "ft, from" in book
        and f"at {height / 0.3048:.3f} ft" in book
        and '<i>Thickness</i> <span class="fig">1.0&nbsp;ft</span>' in book
    )


def test_the_scene_gives_back_every_point(client, copied):
    from tests.run import opened

    job = opened(copied, queries.job_by(id=1))
    data = client.get("/jobs/1/scene.json").json()
    assert (
        data["georeferenced"]
        and len(data["scans"]) == 8
        and len(data["ties"]) > 7
        and len(data["control"]) == 6
    )
    record = data["scans"][4]
    tree = client.get(f"/jobs/1/scene/tree/{record['id']}/{record['version']}").content
    nodes = job.cloud(record["id"]).nodes
    assert (
        len(tree) == 13 * len(nodes)
        and (np.frombuffer(tree, "<u4", len(nodes), 4 * len(nodes)) == nodes["count"]).all()
        and record["root"] == nodes[0]["count"]
    )
    raw = client.get(f"/jobs/1/scene/nodes/{record['id']}/{record['version']}?n=0,1,2")
    assert "immutable" in raw.headers["cache-control"]
    cloud, at, met = job.cloud(record["id"]), 0, 0
    for _ in range(3):
        number, count = np.frombuffer(raw.content, "<u4", 2, at)
        at += 16
        first = np.frombuffer(raw.content, "<u2", 4 * count, at).reshape(-1, 4)
        second = np.frombuffer(raw.content, "u1", 4 * count, at + 8 * count).reshape(-1, 4)
        third = np.frombuffer(raw.content, "u1", 4 * count, at + 12 * count).reshape(-1, 4)
        at += 16 * count
        node = cloud.nodes[number]
        edge = cloud.size / 2.0 ** int(node["level"])
        corner = cloud.low + np.array([node["x"], node["y"], node["z"]]) * edge
        place, pose = np.array(record["pose"]).reshape(4, 4), job.grid_pose(job.scan(record["id"]))
        for k in np.flatnonzero(third[:, 3] == 0)[[0, 100, -1]]:
            target = rigid.apply(place, (corner + first[k, :3] * (edge / 65535))[None])[0]
            ray = {
                "origin": place[:3, 3].tolist(),
                "direction": (target - place[:3, 3]).tolist(),
                "slope": 1e-4,
                "width": 0,
                "scans": [record["id"]],
            }
            pick = client.post("/jobs/1/scene/pick", json=ray).json()
            own = cloud.xyz(pick["index"], pick["index"] + 1)
            assert (
                pick["own"] == own[0].tolist()
                and np.allclose(pick["at"], rigid.apply(pose, own)[0], atol=1e-9)
                and pick["cut"] in (0, None)
            )
            if np.linalg.norm(pick["own"] - (corner + first[k, :3] * (edge / 65535))) < edge / 30000:
                met += 1
                assert (
                    first[k, 3] == pick["intensity"]
                    and second[k, 3] == pick["class"]
                    and third[k, :3].tolist() == pick["photo"]
                )
    assert at == len(raw.content) and met >= 4, "seen from its own station nothing stands before a point"
    pose = np.array(record["pose"]).reshape(4, 4)
    pose[:3, 3] += data["origin"]
    assert np.allclose(pose, job.grid_pose(job.scan(record["id"])), atol=1e-9)


def test_a_new_version_of_a_column_changes_the_address_of_its_scan_alone(copied):
    from tests.run import must, opened

    row = queries.job_by(id=1)
    before = {k: scene.version_of(opened(copied, row), k) for k in (1, 2)}
    must(copied, row, "clean.outliers", scans=[1], deviations=1.0)
    after = {k: scene.version_of(opened(copied, row), k) for k in (1, 2)}
    assert before[1] != after[1] and before[2] == after[2]
    must(copied, row, "register.set_pose", scan=2, x=0, y=0, z=0, heading_deg=0)
    assert scene.version_of(opened(copied, row), 2) == after[2], "moving a scan uploads nothing again"


def test_undo_from_the_page(client, copied):
    row = queries.job_by(id=1)
    last = max(e.number for e in queries.done_entries(row))
    answer = client.post(f"/jobs/1/undo/{last}")
    assert answer.status_code == 200 and f'data-state="{queries.revision(1)}"' in answer.text
    assert queries.entry_of(row, last).state == "undone"
    cut = next(e for e in queries.done_entries(row) if e.operation == "clean.outliers")
    client.post(f"/jobs/1/undo/{cut.number}")
    assert Entry.select().order_by(Entry.number.desc()).first().operation == "clean.put_back"


@pytest.mark.parametrize("form", ["e57", "laz", "xyz"])
def test_statement_before_writing(client, form):
    answer = client.post(f"/jobs/1/deliverables/statement/{form}", data={"classes": "2"})
    assert answer.status_code == 200 and "points in 8 scans" in answer.text and "MB" in answer.text


def test_deliverables_are_downloaded(client, copied):
    from tests.run import must, opened

    row = queries.job_by(id=1)
    must(copied, row, "deliver.laz", spacing=0.2)
    must(copied, row, "deliver.report")
    page = client.get("/jobs/1/deliver").text
    assert "cloud.laz" in page and "report.pdf" in page and "gone from the disk" in page
    bodies = [
        client.get(f"/jobs/1/deliverables/file/{n}").content[:4]
        for n in range(1, len(opened(copied, row).facts("deliverable")) + 1)
    ]
    assert b"LASF" in bodies and b"%PDF" in bodies


def test_pictures(client):
    for url in ("/jobs/1/pictures/scan/1.png", "/jobs/1/pictures/target/1.png"):
        answer = client.get(url)
        assert answer.status_code == 200 and answer.content[:4] == b"\x89PNG"


def test_the_book_tells_all(client):
    text = client.get("/jobs/1/part/fieldbook").text
    assert "Register automatically" in text and "put back" in text and "no undo" in text
    recipe = client.get("/jobs/1/part/recipe.toml").text
    assert recipe.count("[[step]]") == 11 and find("import.files").name in recipe
