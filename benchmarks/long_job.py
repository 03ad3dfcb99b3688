"""How a long job is to live with: 400 scans, 5,000 entries, 2,000 measures and 100,000 drawn vertices.

python benchmarks/long_job.py [FOLDER]     (the job is made there when it is not)

Times of what pages ask for, each at a revision that nothing has been read of yet, as medians; and beside them
how long the plain reading of the same facts from the database takes.
"""

import json
import os
import shutil
import statistics
import sys
import tempfile
import time

import numpy as np
from fastapi.testclient import TestClient

from terrazza.db import queries
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.operations.spine import fieldbook, files_named
from terrazza.operations.spine.facts import KINDS
from terrazza.operations.spine.job import Job
from terrazza.settings import settings
from terrazza.web.app import create
from terrazza.work.open import open_workspace
from tests.run import must
from tests.scenes import write_room

SCANS, ENTRIES, MEASURES, VERTICES = 400, 5000, 2000, 100_000
COLUMNS = ("position", "intensity", "class", "cut", "nodes", "row", "column", "grid")


def make(workspace: str) -> None:
    """A job of hard-linked copies of one small scan, with a long field book."""
    os.makedirs(workspace, exist_ok=True)
    open_workspace(workspace)
    write_room(f"{workspace}/room.e57", posed=True)
    row = queries.create_job(workspace, "Long")
    must(workspace, row, "import.files", files=[f"{workspace}/room.e57"])
    job, rng = Job(workspace, row), np.random.default_rng(3)
    first, files, pose = job.get("scan", 1), job.columns(1), job.get("pose", 1)
    with database.atomic("IMMEDIATE"):
        for number in range(4, SCANS + 1):
            os.makedirs(job.scan_folder(number), exist_ok=True)
            for name in {n for names in files.values() for n in names}:
                os.link(f"{job.scan_folder(1)}/{name}", f"{job.scan_folder(number)}/{name}")
            matrix = np.array(pose["matrix"])
            matrix[:2, 3] += 12 * np.array([number % 20, number // 20])
            _fact(row, "scan", number, first | {"name": f"Room {number}"}, number)
            _fact(row, "pose", number, pose | {"matrix": matrix.tolist()}, number)
            for name, blocks in files.items():
                _fact(row, "column", f"{number}/{name}", blocks, number)
        for number in range(2, ENTRIES + 1):
            entry = Entry.create(
                job=row,
                number=number,
                operation="measure.take" if number % 3 else "import.edit_scan",
                version=1,
                params={"kind": "distance", "points": []} if number % 3 else {"scan": 1},
                state="done",
                figures={"says": f"Entry {number}", "rows": [{"scan": k, "points": 9} for k in range(20)]},
                created=float(number),
                started=float(number),
                seconds=1.0,
            )
            if number % 3 and number <= 1.5 * MEASURES:
                key = number - number // 3
                touches = [
                    {"scan": int(s), "at": rng.uniform(0, 5, 3).tolist()} for s in rng.integers(1, SCANS, 2)
                ]
                value = {"kind": "distance", "name": f"m{key}", "points": touches, "reach": 0.15}
                _fact(row, "measure", key, value, None, entry)
            elif number % 3 == 0 and number < 1500:
                key = f"{number % SCANS + 1}/intensity"
                _changed(row, "column", key, files["intensity"], entry)
        lines = [
            {
                "name": f"line {k}",
                "closed": False,
                "length": 9.0,
                "layer": "WALLS",
                "rms_mm": 1.0,
                "vertices": rng.uniform(0, 200, (100, 3)).tolist(),
            }
            for k in range(VERTICES // 100)
        ]
        for key in range(20):
            value = {"name": f"drawing {key}", "height": 1.0, "thickness": 0.1, "lines": lines[key::20]}
            _fact(row, "drawing", key + 1, value, None)
        files_named.make_list(row)
        queries.newer_revision(row.id, set(KINDS))


def _fact(row, kind, key, value, scan, entry=None):
    Fact.create(job=row, kind=kind, key=str(key), scan=scan, value=value, entry=entry.number if entry else 1)
    by = entry or Entry.get(job=row, number=1)
    Change.create(entry=by, kind=kind, key=str(key), scan=scan, after=value)


def _changed(row, kind, key, value, entry):
    fact = Fact.get_or_none(job=row, kind=kind, key=key)
    scan = int(key.partition("/")[0])
    before = fact.value if fact else None
    about = dict(entry=entry, kind=kind, key=key, scan=scan, before=before, after=value)
    Change.create(before_entry=fact.entry if fact else None, **about)
    if fact:
        fact.entry = entry.number
        fact.save()
    else:
        Fact.create(job=row, kind=kind, key=key, scan=scan, value=value, entry=entry.number)


def timed(what: str, wanted: float, call, times: int = 5, fresh=None) -> None:
    taken = []
    for _ in range(times):
        if fresh is not None:
            fresh()
        started = time.perf_counter()
        call()
        taken.append(1000 * (time.perf_counter() - started))
    print(f"{what:<44} {statistics.median(taken):7.1f} ms   (wanted: under {wanted:g})", flush=True)


def main(folder: str = "") -> None:
    place = folder or tempfile.mkdtemp()
    if not os.path.isdir(place) or not os.listdir(place):
        make(place)
    open_workspace(place)
    row = queries.job_by(name="Long")
    os.environ["TERRAZZA_WORKSPACE"] = place
    settings.cache_clear()
    client = TestClient(create(), base_url="http://127.0.0.1")
    anew = lambda: queries.newer_revision(row.id, set(KINDS))
    fresh = lambda: queries.newer_revision(row.id, {"measure"})
    get = lambda path: client.get(f"/jobs/{row.id}{path}").raise_for_status()
    scans = get("/scene.json").json()["scans"]
    one = scans[7]
    nodes = f"/scene/nodes/{one['id']}/{one['version']}?n=0"
    timed("plain reading of the scene's facts", 150, lambda: _plain(row))
    timed("the answer to nothing", 0, lambda: client.get("/none"), times=20)
    timed("a node, all facts changed", 5, lambda: get(nodes), fresh=anew)
    timed("a node, after a measure", 5, lambda: get(nodes), fresh=fresh, times=20)
    timed("the scene, all facts changed", 150, lambda: get("/scene.json"), fresh=anew)
    timed("the scene, after a measure", 150, lambda: get("/scene.json"), fresh=fresh)
    for step in ("import", "register", "clean", "draw", "deliver"):
        timed(f"page {step}, after a measure", 100, lambda step=step: get(f"/{step}"), fresh=fresh)
    timed("the field book", 100, lambda: get("/part/fieldbook"), fresh=fresh)
    timed("the table", 100, lambda: get("/table/notes"), fresh=fresh)
    timed("the strip", 100, lambda: get("/part/strip"), fresh=fresh)
    timed("tidying before a run", 50, lambda: fieldbook.tidy(place, row))

    def undo():
        last = (
            Entry.select()
            .where((Entry.job == row) & (Entry.state == "done") & (Entry.operation == "measure.take"))
            .where(Entry.number <= 3000)
            .order_by(Entry.number.desc())
            .first()
        )
        fieldbook.undo(last)

    timed("undo", 50, undo)
    if not folder:
        shutil.rmtree(place)


def _plain(row):
    kinds = "('scan', 'pose', 'column', 'drawing', 'measure')"
    sql = f"SELECT value FROM fact WHERE job_id = ? AND kind IN {kinds}"
    return [json.loads(v) for (v,) in database.execute_sql(sql, (row.id,)).fetchall()]


if __name__ == "__main__":
    main(*sys.argv[1:2])
