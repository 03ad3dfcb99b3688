"""Doors: which files pages reach, what other sites may ask, what addresses may hold, and files that would
take a page with them.
"""

import json
import os
import random
import stat
import struct
import zipfile

import laspy
import numpy as np
import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.deliver.listing import unformulated
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import all_operations, describe
from terrazza.operations.spine.reach import PAGE
from terrazza.work.runner import run_entry
from tests.run import opened
from tests.scenes import write_room

ROLES = [
    (o, row["name"], row["role"]) for o in all_operations() for row in describe(o)["params"] if row["role"]
]
OTHERS = {
    "classify.by_place": {"to": 64},
    "draw.section": {"line": [[0, 0], [1, 0]]},
    "draw.break_lines": {"at": [[0, 0, 0]], "heading_deg": 0, "corners": [[0, 0], [1, 0]]},
    "draw.plane_slab": {"line": [[0, 0], [1, 0]]},
    "draw.sections": {"line": [[0, 0], [1, 0]]},
    "surface.deviation_sections": {"line": [[0, 0], [1, 0]]},
    "surface.flatness": {"at": [[0, 0, 0]]},
    "draw.paint": {"at": [0, 0, 0]},
    "georeference.control": {},
    "import.walk": {"scan": 1},
    "import.add_photo": {"scan": 1},
    "register.strip_differences": {"trajectory": "none.txt"},
    "pins.put": {"points": [{"scan": 1, "at": [0, 0, 0]}]},
}


def test_every_parameter_that_names_a_file_has_a_role():
    named = {
        (o.name, r["name"])
        for o in all_operations()
        for r in describe(o)["params"]
        if r["type"] in {"string", "array"}
        and (
            r["widget"] in {"file", "files"}
            or r["name"] in {"path", "picture", "trajectory", "files", "control"}
            and "Name of" not in r["title"]
        )
    }
    assert named <= {(o.name, name) for o, name, _ in ROLES}


@pytest.mark.parametrize(("operation", "name", "role"), ROLES, ids=lambda v: getattr(v, "name", v))
@pytest.mark.parametrize("way", ["absolute", "up", "link"])
def test_pages_reach_no_file_outside(copied, tmp_path, operation, name, role, way):
    """Neither read nor written, nor quoted in an error: by a whole path, by going up, by a link in the inbox
    or the deliverables.
    """
    secret = tmp_path / "secret.txt"
    secret.write_text("s3cret 1 2 3\n")
    row = queries.job_by(name="Whole")
    job = opened(copied, row)
    home = job.subfolder("deliverables" if role == "write" else "inbox")
    path = {"absolute": str(secret), "up": os.path.relpath(secret, home), "link": "way"}[way]
    if way == "link":
        os.symlink(tmp_path if role == "write" else secret, os.path.join(home, "way"))
        path = "way/secret.txt" if role == "write" else "way"
    params = OTHERS.get(operation.name, {}) | {name: [path] if name == "files" else path}
    entry = run_entry(
        copied, queries.add_entry(row, operation.name, 1, operation.check(params).model_dump(), PAGE)
    )
    assert (
        entry.state == "failed"
        and "s3cret" not in entry.message + entry.hint
        and secret.read_text() == "s3cret 1 2 3\n"
    )
    assert sorted(p.name for p in tmp_path.iterdir()) == ["secret.txt", "ws"]


@pytest.mark.parametrize(
    ("headers", "status"),
    [
        ({}, 303),
        ({"origin": "http://127.0.0.1"}, 303),
        ({"origin": "http://evil.test"}, 403),
        ({"origin": "null"}, 403),
        ({"sec-fetch-site": "cross-site"}, 403),
        ({"sec-fetch-site": "same-site"}, 403),
        ({"sec-fetch-site": "same-origin"}, 303),
        ({"referer": "http://evil.test/x"}, 403),
        ({"host": "evil.test"}, 400),
        ({"host": "testserver"}, 400),
    ],
)
def test_changes_come_from_our_own_pages(empty, headers, status):
    assert (
        empty.post("/jobs", data={"name": "N"}, headers=headers, follow_redirects=False).status_code == status
    )


@pytest.mark.parametrize(
    "path", ["/", "/jobs/1/import", "/jobs/1/scene.json", "/static/css/base.css", "/nowhere"]
)
def test_every_answer_carries_the_headers(client, path):
    headers = client.get(path).headers
    assert (
        "script-src 'self';" in headers["content-security-policy"]
        and "frame-ancestors 'none'" in headers["content-security-policy"]
    )
    assert headers["x-content-type-options"] == "nosniff" and headers["referrer-policy"] == "same-origin"


@pytest.mark.parametrize(
    ("cell", "written"),
    [
        ("=1+1", "'=1+1"),
        ("@x", "'@x"),
        ("-1.25", "-1.25"),
        ("+3 445,2", "+3 445,2"),
        ("-2+3", "'-2+3"),
        ("Wand", "Wand"),
        (-4.5, -4.5),
        ("\t=x", "'\t=x"),
    ],
)
def test_cells_are_no_formulas(cell, written):
    assert unformulated(cell) == written


WORDS = [
    "1",
    "0",
    "-1",
    "99999999999999999999",
    "9" * 400,
    "%00",
    "a%00b",
    "..",
    "%2e%2e%2fx",
    "é",
    "😀",
    "nan",
    "1e999",
    "'",
    "x" * 3000,
    "%ff",
]


def test_no_address_and_no_body_is_a_five_hundred(client):
    """Seeded words in every part of every route's address, query, form and JSON."""
    rng, app = random.Random(11), client.app
    bodies = [
        b"",
        b"[" * 5000,
        b'{"a":1e999}',
        b"\xff\xfe",
        json.dumps({"pieces": [[[1e308] * 4]], "scans": [2**70], "budget": 1}).encode(),
        json.dumps({"kind": "distance", "points": [{"scan": 2**66, "at": [0, 0, 0]}]}).encode(),
        b'{"name":"\\ud800"}',
    ]
    paths = sorted(
        {(m, r.path) for r in app.routes if getattr(r, "methods", None) for m in r.methods}
        | {
            (m, s.path)
            for r in app.routes
            for s in getattr(getattr(r, "original_router", None), "routes", [])
            for m in getattr(s, "methods", [])
        }
    )
    assert len(paths) > 30
    for method, path in paths:
        for _ in range(12):
            parts = [
                ("1" if rng.random() < 0.5 else rng.choice(WORDS)) if p.startswith("{") else p
                for p in path.replace(".json", "/.json").split("/")
            ]
            address = (
                "/".join(parts).replace("/.json", ".json")
                + f"?offset={rng.choice(WORDS)}&total={rng.choice(WORDS)}&n={rng.choice(WORDS)}&"
                f"file={rng.choice(WORDS)}&row={rng.choice(WORDS)}&column=1&"
                f"scans={rng.choice(WORDS)}&seen={rng.choice(WORDS)}"
            )
            more = (
                {}
                if method in {"GET", "HEAD", "DELETE"}
                else {
                    "content": rng.choice(bodies),
                    "headers": {
                        "content-type": rng.choice(["application/json", "application/x-www-form-urlencoded"])
                    },
                }
            )
            answer = client.request(method, address, **more)
            assert answer.status_code < 500, (
                f"{method} {address[:200]}: {answer.status_code} {answer.text[:300]}"
            )


def broken_files(folder):
    header = laspy.LasHeader(point_format=0, version="1.2")
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.random.default_rng(1).uniform(0, 50, (3, 500))
    cloud.write(str(folder / "good.las"))
    cloud.write(str(folder / "good.laz"))
    good, packed = (folder / "good.las").read_bytes(), (folder / "good.laz").read_bytes()
    nan = bytearray(good)
    nan[131:139] = struct.pack("<d", float("nan"))
    many = bytearray(good)
    many[100:104] = b"\xff\xff\xff\x7f"
    damaged = bytearray(packed)
    damaged[len(packed) // 2 :] = bytes(
        np.random.default_rng(2).integers(0, 256, len(packed) - len(packed) // 2, dtype=np.uint8)
    )
    (folder / "nan.las").write_bytes(nan)
    (folder / "vlrs.las").write_bytes(many)
    (folder / "damaged.laz").write_bytes(damaged)
    (folder / "lineless.pcd").write_bytes(b"# .PCD v.7" + b"y" * 3_000_000)
    (folder / "ascii.ply").write_bytes(
        b"ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty double x\nproperty double y\nproperty "
        b"double z\nend_header\n" + b"1" * 2_000_000
    )
    (folder / "text.xyz").write_bytes(b"1 2 3\n1e400 nan inf\n" * 300)
    return [
        "nan.las",
        "vlrs.las",
        "damaged.laz",
        "lineless.pcd",
        "ascii.ply",
        "text.xyz",
    ]


def test_unreadable_files_are_sentences_beside_the_others(empty, workspace, tmp_path):
    """The import page stands, names each, and shows the good one; the look inside comes to an end."""
    empty.post("/jobs", data={"name": "N"})
    job = opened(workspace, queries.job_by(name="N"))
    names = broken_files(tmp_path)
    for name in [*names, "good.las", "good.laz"]:
        os.link(tmp_path / name, os.path.join(job.subfolder("inbox"), name))
    os.symlink(tmp_path / "not there", os.path.join(job.subfolder("inbox"), "dangling.las"))
    os.mkfifo(os.path.join(job.subfolder("inbox"), "pipe.las"), stat.S_IRUSR | stat.S_IWUSR)
    page = empty.get("/jobs/1/sheet/import")
    assert (
        page.status_code == 200
        and page.text.count("verdict bad") >= 6
        and "no file but a pipe" in page.text
        and "good" in page.text
    )
    entry = run_entry(
        workspace,
        queries.add_entry(
            job.row,
            "import.files",
            1,
            {
                "files": [str(tmp_path / n) for n in [*names, "good.las"]],
                "broken": "leave out",
                "losses": "take the rest",
            },
        ),
    )
    assert entry.state == "done" and entry.figures["scans"] >= 1, entry.message


@pytest.mark.parametrize(
    ("content", "words"), [("names", None), ("equal", None), ("bomb", "swells"), ("many", "are the most")]
)
def test_odd_zips(empty, workspace, content, words):
    empty.post("/jobs", data={"name": "N"})
    path = os.path.join(workspace, "odd.zip")
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as out:
        if content == "names":
            out.writestr("a" * 300 + ".xyz", "1 2 3\n")
        for k in range({"equal": 3000, "many": 10_001}.get(content, 0)):
            out.writestr("same.xyz" if content == "equal" else f"{k}.xyz", "")
        if content == "bomb":
            out.writestr("zeros.las", bytes(300_000_000))
    with open(path, "rb") as f:
        data = f.read()
    answer = empty.put(f"/jobs/1/inbox/odd.zip?offset=0&total={len(data)}", content=data)
    inbox = os.listdir(opened(workspace, queries.job_by(name="N")).subfolder("inbox"))
    assert (answer.status_code, len(inbox)) == (
        (200, {"names": 1, "equal": 3000}[content]) if words is None else (422, 0)
    ) and (words or "") in answer.text


def test_two_uploads_of_one_name_do_not_mix(empty, workspace):
    from terrazza.web.routes import inbox

    empty.post("/jobs", data={"name": "N"})
    path = os.path.join(opened(workspace, queries.job_by(name="N")).subfolder("inbox"), "a.las.upload")
    with inbox._alone(path, "a.las"):
        assert empty.put("/jobs/1/inbox/a.las?offset=0&total=3", content=b"abc").status_code == 409
    os.unlink(path)
    os.symlink("/etc/hostname", path)
    before = open("/etc/hostname", "rb").read()
    assert (
        empty.put("/jobs/1/inbox/a.las?offset=0&total=3", content=b"abc").status_code >= 400
        and open("/etc/hostname", "rb").read() == before
    )


def test_nothing_of_a_page_is_an_inline_script():
    from pathlib import Path

    import terrazza.web.pages as pages

    for path in (Path(pages.HERE) / "templates").glob("*.html"):
        text = path.read_text()
        assert (
            all("src=" in part.split(">")[0] for part in text.split("<script")[1:])
            and " onclick=" not in text
            and "javascript:" not in text
        ), path.name


def test_a_look_is_remembered_as_long_as_the_file_is_the_same(tmp_path, monkeypatch):
    write_room(tmp_path / "r.e57", rows=20, columns=40)
    first = reading.look(str(tmp_path / "r.e57"))
    monkeypatch.setattr(reading, "guard", None)
    assert reading.look(str(tmp_path / "r.e57")) is first and Entry is not None
