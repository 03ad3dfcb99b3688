"""A job that is whole is found whole; every kind of damage is found and said; backups bring a job
over whole.
"""

import os
import shutil
import tarfile

import numpy as np
import pytest

from terrazza.db import queries
from terrazza.db.models import Entry, Fact
from terrazza.errors import InputError
from terrazza.operations.spine import health
from terrazza.work import archive
from terrazza.work.open import open_workspace
from tests.run import must, opened
from tests.work.test_crash import holdings


def first_file(job, key):
    number, name = key.split("/")
    return os.path.join(job.scan_folder(int(number)), job.get("column", key)[0])


def changed(path, change):
    """Rewrite an array in a file of its own (the shared original stays)."""
    values = np.load(path)
    os.unlink(path)
    np.save(path, change(values))


def flip(values):
    out = values.copy()
    out.reshape(-1).view(np.uint8)[7] ^= 1
    return out


def wrong_node(values):
    out = values.copy()
    out["count"][0] += 1
    return out


def set_fact(job, kind, key, change):
    fact = Fact.get((Fact.job == job.row) & (Fact.kind == kind) & (Fact.key == key))
    fact.value = change(fact.value)
    fact.save()


DAMAGE = {
    "missing": (lambda job: os.unlink(first_file(job, "2/intensity")), "column “intensity” is missing"),
    "bit": (lambda job: changed(first_file(job, "3/photo_rgb"), flip), "has changed since it was written"),
    "short": (lambda job: changed(first_file(job, "1/class"), lambda v: v[:-5]), "values instead of"),
    "kind": (lambda job: changed(first_file(job, "1/cut"), lambda v: v.astype(float)), "of another kind"),
    "torn": (
        lambda job: (
            shutil.copy(p := first_file(job, "4/position"), p + "x"),
            os.replace(p + "x", p),
            os.truncate(p, 4000),
        ),
        "cut off or damaged",
    ),
    "index": (lambda job: changed(first_file(job, "5/nodes"), wrong_node), "changed since"),
    "photo": (
        lambda job: os.unlink(
            os.path.join(job.folder, "photos", next(iter(job.facts("photo").values()))["file"])
        ),
        "photos/photo.",
    ),
    "pose": (
        lambda job: set_fact(
            job, "pose", "6", lambda v: v | {"matrix": (np.array(v["matrix"]) * 1.01).tolist()}
        ),
        "no rotation and shift",
    ),
    "count": (lambda job: set_fact(job, "scan", "2", lambda v: v | {"points": v["points"] + 1}), "counts"),
    "cut": (lambda job: Fact.delete().where(Fact.kind == "cut").execute(), "which is no living cut"),
    "entry": (
        lambda job: Entry.update(state="undone").where(Entry.operation == "register.automatic").execute(),
        "which is not living",
    ),
    "stray": (
        lambda job: np.save(os.path.join(job.scan_folder(1), "cut.0.e99.npy"), np.zeros(3)),
        "belongs to nothing",
    ),
    "tie": (
        lambda job: set_fact(job, "tie", next(iter(job.facts("tie"))), lambda v: v | {"b": 77}),
        "belongs to scan 77, which the job does not have",
    ),
}


def test_the_whole_job_is_whole(reading):
    assert health.check(reading) == []


@pytest.mark.parametrize("damage", DAMAGE)
def test_damage_is_found_and_said(copied, damage):
    do, words = DAMAGE[damage]
    do(opened(copied, queries.job_by(id=1)))
    found = health.check(opened(copied, queries.job_by(id=1)))
    assert any(words in sentence for sentence in found), found


def test_a_backup_is_the_job_at_one_moment(copied, tmp_path):
    """Written while another run goes on changing the job, brought into another workspace, checked, and worked
    on.
    """
    row = queries.job_by(id=1)
    before, count = holdings(row), Entry.select().count()
    size, _ = archive.backup(copied, row, str(tmp_path / "Übergabe 1.tar"))
    must(copied, row, "clean.outliers", scans=[1], deviations=1.0)
    assert size == os.path.getsize(tmp_path / "Übergabe 1.tar") and not [
        n for n in os.listdir(copied) if n.startswith("backup-")
    ]
    shutil.rmtree(os.path.join(copied, "jobs"))
    other = str(tmp_path / "elsewhere")
    open_workspace(other)
    restored = archive.restore(other, str(tmp_path / "Übergabe 1.tar"))
    after = holdings(restored)
    kinds = lambda h: {k: v for k, v in h.items() if k[0] != "deliverable"}
    assert kinds(after) == kinds(before) and Entry.select().count() == count and restored.name == "Whole"
    job = opened(other, restored)
    assert health.check(job) == []
    assert all(
        os.path.exists(d["path"]) or "deliverables" not in d["path"]
        for d in job.facts("deliverable").values()
    )
    last = list(queries.done_entries(restored))[-1]
    assert (
        must(other, restored, "classify.height_bands")["points"] > 1000
        and queries.entry_of(restored, last.number + 1).state == "done"
    )
    with pytest.raises(InputError, match="exists already"):
        archive.restore(other, str(tmp_path / "Übergabe 1.tar"))
    assert archive.restore(other, str(tmp_path / "Übergabe 1.tar"), "Second").name == "Second"
    assert not [n for n in os.listdir(os.path.join(other, "jobs")) if n.endswith(".part")]


@pytest.mark.parametrize("spoil", ["cut off", "no tar", "other", "missing", "outside"])
def test_a_bad_backup_is_refused_whole(copied, tmp_path, spoil):
    path, jobs = tmp_path / "b.tar", Fact.select().count()
    archive.backup(copied, queries.job_by(id=1), str(path))
    if spoil == "cut off":
        os.truncate(path, os.path.getsize(path) // 2)
    elif spoil == "no tar":
        path.write_bytes(b"points" * 1000)
    elif spoil == "missing":
        path.unlink()
    else:
        inside = tmp_path / "x.txt"
        inside.write_text("{}")
        with tarfile.open(path, "w" if spoil == "other" else "a") as tar:
            tar.add(inside, "../../evil" if spoil == "outside" else "hello.txt")
    with pytest.raises(InputError):
        archive.restore(copied, str(path), "New")
    assert Fact.select().count() == jobs and len(os.listdir(os.path.join(copied, "jobs"))) == 1
