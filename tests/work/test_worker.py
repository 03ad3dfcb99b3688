"""The worker with real processes: running, cancel within two seconds, kill -9 of child, worker and command
line at many moments.
"""

import os
import random
import signal
import subprocess
import sys
import time

import numpy as np
import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import ParamsError
from terrazza.operations.spine import fieldbook
from terrazza.work.open import open_workspace
from terrazza.work.queue import Queue
from tests import scenes
from tests.run import ended, must, opened


@pytest.fixture
def job(workspace, tmp_path):
    scenes.write_room(tmp_path / "w.e57", posed=True, rows=120, columns=300)
    row = queries.create_job(workspace, "Work")
    must(workspace, row, "import.files", files=[str(tmp_path / "w.e57")])
    return workspace, row


@pytest.fixture
def worker(job):
    process = subprocess.Popen([sys.executable, "-m", "terrazza.work.worker", job[0]])
    yield process
    process.terminate()
    process.wait(10)


def started(entry, timeout=60):
    until = time.time() + timeout
    while time.time() < until and Entry.get_by_id(entry.id).state == "queued":
        time.sleep(0.02)


def state_of(workspace, row):
    """All that a job holds, down to the values of every column."""
    job = opened(workspace, row)
    return {
        "poses": {s.id: None if s.pose is None else s.pose.tolist() for s in job.scans()},
        "cuts": sorted(job.facts("cut")),
        "columns": {
            k: int(np.asarray(job.cloud(int(k.split("/")[0])).read(k.split("/")[1])).astype(np.float64).sum())
            if k.split("/")[1] != "nodes"
            else len(job.cloud(int(k.split("/")[0])).nodes)
            for k in job.facts("column")
        },
    }


def strays(workspace, row):
    return fieldbook.sweep(workspace, row)


def test_the_worker_runs_entries_in_order_and_leases_the_job(job, worker):
    workspace, row = job
    queue = Queue(workspace)
    first, second = queue.add(row, "clean.outliers", {}), queue.add(row, "draw.plan_slab", {})
    assert ended(second).state == "done" and Entry.get_by_id(first.id).state == "done"
    assert Entry.get_by_id(first.id).seconds > 0
    with pytest.raises(ParamsError):
        queue.add(row, "clean.outliers", {"neighbours": -1})
    assert Entry.select().count() == 3


def test_cancel_ends_the_work_within_two_seconds(job, worker):
    workspace, row = job
    before = state_of(workspace, row)
    entry = Queue(workspace).add(row, "register.automatic", {"poses": "forget"})
    started(entry)
    asked = time.time()
    Entry.update(cancel=True).where(Entry.id == entry.id).execute()
    done = ended(entry)
    assert done.state == "cancelled" and time.time() - asked < 3.5
    assert state_of(workspace, row) == before and strays(workspace, row) == 0


def test_a_killed_child_is_said_and_leaves_nothing(job, worker):
    workspace, row = job
    before = state_of(workspace, row)
    entry = Queue(workspace).add(row, "register.automatic", {"poses": "forget"})
    started(entry)
    time.sleep(0.3)
    children = [int(p) for p in open(f"/proc/{worker.pid}/task/{worker.pid}/children").read().split()]
    for task in os.listdir(f"/proc/{worker.pid}/task"):
        children += [int(p) for p in open(f"/proc/{worker.pid}/task/{task}/children").read().split()]
    for child in set(children):
        if b"spawn_main" in open(f"/proc/{child}/cmdline", "rb").read():
            os.kill(child, signal.SIGKILL)
    done = ended(entry)
    assert done.state == "interrupted" and "as it was before" in done.message
    assert state_of(workspace, row) == before
    assert ended(Queue(workspace).add(row, "clean.outliers", {})).state == "done", "the worker goes on"


OPERATIONS = [
    "clean.outliers",
    "draw.plan_slab",
    "classify.ground",
    "deliver.laz",
    "register.adjust",
    "import.edit_scan name=X scan=1",
]


@pytest.mark.parametrize("seed", range(2))
def test_kill_nine_at_any_moment(job, seed):
    """The command line killed with all its helpers at a random moment: the job is as before or as after, and
    no orphan bytes stay.
    """
    workspace, row = job
    rng = random.Random(seed)
    words = OPERATIONS[seed % len(OPERATIONS)].split()
    before = state_of(workspace, row)
    for delay in [rng.uniform(0.6, 4.0) for _ in range(2)]:
        process = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "terrazza.cli.main",
                "do",
                words[0],
                *words[1:],
                "--job",
                "Work",
                "--workspace",
                workspace,
            ],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(delay)
        process.kill()
        process.wait()
        open_workspace(workspace)
        assert strays(workspace, row) == 0, "recovery has swept already"
        last = Entry.select().where(Entry.job == row).order_by(Entry.number.desc()).get()
        assert last.state in {"done", "interrupted", "queued"}
        if last.state != "done":
            assert state_of(workspace, row) == before
        else:
            for s in opened(workspace, row).scans():
                assert opened(workspace, row).cloud(s.id).kept().sum() <= s.points
            before = state_of(workspace, row)


def test_a_workspace_of_the_future_is_refused(workspace):
    from terrazza.db.models import database
    from terrazza.errors import InputError

    database.execute_sql("PRAGMA user_version = 99")
    with pytest.raises(InputError, match="newer Terrazza"):
        open_workspace(workspace)
