"""Jobs that earlier versions made: they open, are whole, and what was done in them can be undone.

``workspace-1`` is a room of three scans: entry 1 imports, 2 and 3 cut with outlines (numbered as their
entries), 4 classifies the ground, 5 keeps a view, 6 (undone) renamed a scan.
"""

import tarfile

import numpy as np
import pytest

from terrazza.db import queries
from terrazza.db.models import Entry, NamedFile, database
from terrazza.db.schema import MIGRATIONS
from terrazza.operations.spine import fieldbook, files_named, health
from terrazza.work.open import open_workspace
from tests.conftest import REFERENCES
from tests.run import must, opened


@pytest.fixture
def older(tmp_path):
    with tarfile.open(REFERENCES / "terrazza" / "workspace-1.tar.xz") as archive:
        archive.extractall(tmp_path, filter="data")
    return str(tmp_path / "ws")


def test_a_job_of_the_version_before(older):
    open_workspace(older)
    row = queries.job_by(name="Old room")
    assert database.execute_sql("PRAGMA user_version").fetchone()[0] == len(MIGRATIONS)
    assert row.listed and NamedFile.select().count() > 20
    job = opened(older, row)
    assert health.check(job) == [] and sorted(job.facts("cut")) == ["2", "3"]
    taken = {n: sum(int((job.cloud(s.id).values("cut", 0) == n).sum()) for s in job.scans()) for n in (2, 3)}
    assert [job.get("cut", n)["points"] for n in (2, 3)] == list(taken.values()) and min(taken.values()) > 50
    must(older, row, "clean.put_back", cut=2)
    assert Entry.get(job=row, number=2).state == "undone"
    view = [[0, 0, 0, 0], [0, 0, 1, -2.5], [0, 0, 0, 0], [0, 0, 0, 1]]
    new = must(older, row, "clean.outline", view=view, polygon=[[-1, 0], [1, 0], [1, 9], [-1, 9]])
    assert new["cut"] == 4, "no number comes twice, whoever counted them"
    must(older, row, "clean.put_back", cut=new["cut"])
    for number in (5, 4):
        fieldbook.undo(Entry.get(job=row, number=number))
    must(older, row, "clean.put_back", cut=3)
    job = opened(older, row)
    assert all((np.asarray(job.cloud(s.id).values("cut", 0)) == 0).all() for s in job.scans())
    assert not job.facts("cut") and not job.facts("view")
    fieldbook.tidy(older, row)
    assert health.check(job) == [] and fieldbook.strays(older, row, files_named.all_named(row)) == []
