"""Doors: which files pages reach, what other sites may ask, what addresses may hold, and files that would
take a page with them.
"""

import json
import os
import random
import stat
import struct
import tarfile
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
from terrazza.work import archive
from terrazza.work.runner import run_entry
from tests.run import must, opened
from tests.scenes import write_room
from tests.web.test_pages import client, client_on, empty  # noqa: F401

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
def test_changes_come_from_our_own_pages(empty, headers, status):  # noqa: F811
    assert (
        empty.post("/jobs", data={"name": "N"}, headers=headers, follow_redirects=False).status_code == status
    )


@pytest.mark.parametrize(
    "path", ["/", "/jobs/1/import", "/jobs/1/scene.json", "/static/css/base.css", "/nowhere"]
)
def test_every_answer_carries_the_headers(client, path):  # noqa: F811
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


def test_no_address_and_no_body_is_a_five_hundred(client):  # noqa: F811
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


def test_unreadable_files_are_sentences_beside_the_others(empty, workspace, tmp_path):  # noqa: F811
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
def test_odd_zips(empty, workspace, content, words):  # noqa: F811
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


def test_two_uploads_of_one_name_do_not_mix(empty, workspace):  # noqa: F811
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


def doctored(source, target, change):
    """A copy of an archive with its record changed and its sums put right again."""
    import hashlib
    import io

    with tarfile.open(source) as old, tarfile.open(target, "w") as new:
        members = [(m.name, old.extractfile(m).read()) for m in old.getmembers()]
        record, sums = json.loads(members[0][1]), json.loads(members[-1][1])
        change(record)
        text = json.dumps(record).encode()
        sums["job.json"] = hashlib.sha256(text).hexdigest()
        for name, data in [("job.json", text), *members[1:-1], ("sums.json", json.dumps(sums).encode())]:
            head = tarfile.TarInfo(name)
            head.size = len(data)
            new.addfile(head, io.BytesIO(data))


def small_backup(workspace, tmp_path, name="B"):
    write_room(tmp_path / "r.e57", rows=30, columns=60)
    row = queries.create_job(workspace, name)
    must(workspace, row, "import.files", files=[str(tmp_path / "r.e57")])
    inbox = opened(workspace, row).subfolder("inbox")
    os.symlink(tmp_path / "r.e57", os.path.join(inbox, "linked.e57"))
    must(workspace, row, "deliver.xyz", path="one", scans=[1]) if opened(workspace, row).scans(
        placed=True
    ) else must(workspace, row, "deliver.e57", path="one")
    return row, archive.backup(workspace, row, str(tmp_path / "b.tar"))


def test_a_backup_with_linked_files_comes_back(workspace, tmp_path):
    row, (_, linked) = small_backup(workspace, tmp_path)
    assert linked == ["linked.e57"]
    back = archive.restore(workspace, str(tmp_path / "b.tar"), "Back")
    assert [s.points for s in opened(workspace, back).scans()] == [
        s.points for s in opened(workspace, row).scans()
    ]


CHANGES = {
    "a path up": lambda r: [
        f["value"].__setitem__(0, "../../../../etc/hostname") for f in r["facts"] if f["kind"] == "column"
    ][:1],
    "a file that is missing": lambda r: [
        f["value"].__setitem__(0, "column.0.e1.00000000.npy") for f in r["facts"] if f["kind"] == "column"
    ][:1],
    "another type": lambda r: r["entries"][0].__setitem__("number", "one"),
    "a strange field": lambda r: r.__setitem__("more", 1),
    "no facts": lambda r: r.pop("facts"),
    "changes of nobody": lambda r: r["changes"][0].__setitem__("entry", 10**6),
}


@pytest.mark.parametrize("what", CHANGES)
def test_a_doctored_record_is_refused_and_leaves_nothing(workspace, tmp_path, what):
    small_backup(workspace, tmp_path)
    doctored(tmp_path / "b.tar", tmp_path / "d.tar", CHANGES[what])
    before = sorted(os.listdir(os.path.join(workspace, "jobs")))
    with pytest.raises(Exception, match="“d.tar”|field book"):
        archive.restore(workspace, str(tmp_path / "d.tar"), "D")
    assert sorted(os.listdir(os.path.join(workspace, "jobs"))) == before and [
        j.name for j in queries.Job.select()
    ] == ["B"]


@pytest.mark.parametrize("seed", range(12))
def test_a_backup_that_changed_is_refused(workspace, tmp_path, seed):
    """One flipped bit, or a cut, anywhere in the content of its members."""
    small_backup(workspace, tmp_path)
    rng, data = random.Random(seed), bytearray((tmp_path / "b.tar").read_bytes())
    with tarfile.open(tmp_path / "b.tar") as tar:
        members = [m for m in tar.getmembers() if m.size]
    member = rng.choice(members)
    if seed % 4 == 3:
        data = data[: member.offset_data + member.size // 2]
    else:
        data[member.offset_data + rng.randrange(member.size)] ^= 1 << rng.randrange(8)
    (tmp_path / "c.tar").write_bytes(data)
    with pytest.raises(Exception, match="c.tar"):
        archive.restore(workspace, str(tmp_path / "c.tar"), "C")
    assert [j.name for j in queries.Job.select()] == ["B"]


def test_a_restored_record_makes_the_page_serve_no_file_of_the_machine(client, copied, tmp_path):  # noqa: F811
    row = queries.job_by(name="Whole")
    archive.backup(copied, row, str(tmp_path / "w.tar"))

    def change(record):
        for fact in record["facts"]:
            if fact["kind"] == "deliverable":
                fact["value"]["path"] = fact["key"] = "/etc/hostname"
                break

    doctored(tmp_path / "w.tar", tmp_path / "d.tar", change)
    back = archive.restore(copied, str(tmp_path / "d.tar"), "Back")
    for number in range(1, len(opened(copied, back).facts("deliverable")) + 1):
        assert (
            open("/etc/hostname").read().strip()
            not in client.get(f"/jobs/{back.id}/deliverables/file/{number}").text[:200]
        )


def test_remains_of_killed_restores_and_backups_go_at_the_next_start(workspace):
    from terrazza.work.open import open_workspace

    left = [
        os.path.join(workspace, "jobs", "restore-1.part"),
        os.path.join(workspace, "backup-2"),
        os.path.join(workspace, "jobs", "9-halfway"),
    ]
    for folder in left:
        os.makedirs(folder)
        open(os.path.join(folder, archive.MARK), "w").close()
    with archive._claimed(workspace, os.path.join(workspace, "jobs", "restore-3.part")):
        open_workspace(workspace)
        assert not any(map(os.path.exists, left)) and os.path.exists(
            os.path.join(workspace, "jobs", "restore-3.part")
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
