"""Deaths: of helpers that read files of others, and of the worker's child at every point of its life; the
work goes on within seconds.
"""

import os
import signal
import subprocess
import sys
import threading
import time

import pytest

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.errors import InputError
from terrazza.fleet.guard import Guard
from terrazza.work import child, worker
from terrazza.work.queue import Queue
from tests import scenes
from tests.run import ended, must


def abort():
    os.abort()


def sleep():
    time.sleep(60)


def greedy():
    return len(bytearray(4 << 30))


def wrong():
    raise ZeroDivisionError("by nought")


@pytest.fixture(scope="module")
def guarded():
    guard = Guard()
    yield guard
    guard.close()


@pytest.mark.parametrize(
    ("function", "words"),
    [
        (abort, "took its reader down"),
        (sleep, "came to no end"),
        (greedy, "more than 1.5 GB"),
        (wrong, "ZeroDivisionError"),
    ],
)
def test_whatever_a_reader_does_is_a_sentence_about_the_file(guarded, function, words):
    with pytest.raises(InputError, match=words) as error:
        guarded.call(function, about="scan ä.las", seconds=5)
    assert "scan ä.las" in str(error.value) and error.value.hint
    assert guarded.call(len, "four", about="x") == 4, "the next one is answered"


def test_calls_from_many_threads_are_all_answered(guarded):
    answers: list = []
    threads = [
        threading.Thread(target=lambda n=n: answers.append(guarded.call(len, "x" * n, about="x")))
        for n in range(12)
    ]
    [t.start() for t in threads]
    [t.join(20) for t in threads]
    assert sorted(answers) == list(range(12))


@pytest.fixture
def job(workspace, tmp_path):
    scenes.write_room(tmp_path / "w.e57", posed=True, rows=60, columns=120)
    row = queries.create_job(workspace, "Deaths")
    must(workspace, row, "import.files", files=[str(tmp_path / "w.e57")])
    return workspace, row


@pytest.fixture
def process(job):
    started = subprocess.Popen([sys.executable, "-m", "terrazza.work.worker", job[0]], start_new_session=True)
    yield started
    started.terminate()
    started.wait(10)


def children_of(pid: int) -> list[int]:
    found = []
    for name in filter(str.isdigit, os.listdir("/proc")):
        try:
            with open(f"/proc/{name}/stat") as f:
                if int(f.read().rsplit(")", 1)[1].split()[1]) == pid:
                    found.append(int(name))
        except (OSError, IndexError):
            continue
    return found


@pytest.mark.parametrize("after", [0.0, 0.4, 1.0, 2.5])
def test_a_child_killed_or_cancelled_at_any_moment_holds_nothing_up(job, process, after):
    """From its first moment on, while it starts, waits, runs and ends."""
    workspace, row = job
    queue = Queue(workspace)
    first = queue.add(row, "clean.outliers", {})
    time.sleep(after)
    for pid in children_of(process.pid):
        os.kill(pid, signal.SIGKILL)
    second = queue.add(row, "draw.plan_slab", {})
    Entry.update(cancel=True).where(Entry.id == second.id).execute()
    third = queue.add(row, "clean.outliers", {"deviations": 3.0})
    assert (
        ended(third).state == "done"
        and ended(first).state in {"done", "interrupted"}
        and ended(second).state in {"done", "cancelled"}
    )


def test_a_cancel_while_the_child_starts_blocks_nothing(job, process):
    workspace, row = job
    queue = Queue(workspace)
    entries = [queue.add(row, "clean.outliers", {"deviations": 2 + n / 10}) for n in range(3)]
    for entry in entries[:2]:
        Entry.update(cancel=True).where(Entry.id == entry.id).execute()
    assert [ended(e).state for e in entries][-1] == "done"


@pytest.mark.parametrize("memory", ["200000000", "600000000"])
def test_every_operation_runs_however_little_memory_is_allowed(job, memory):
    workspace, row = job
    process = subprocess.Popen(
        [sys.executable, "-m", "terrazza.work.worker", workspace],
        env=os.environ | {"TERRAZZA_MEMORY": memory},
    )
    queue = Queue(workspace)
    entries = [queue.add(row, "clean.outliers", {"deviations": 2 + n / 10}) for n in range(3)] + [
        queue.add(row, "draw.plan_slab", {"height": 99.0}) for _ in range(2)
    ]
    states = [ended(e).state for e in entries]
    process.terminate()
    process.wait(10)
    assert states == ["done"] * 3 + ["failed"] * 2


def test_the_queue_outlives_the_worker(job):
    """What was queued while no worker ran, and while one was killed, is run by the next."""
    workspace, row = job
    queue = Queue(workspace)
    first = queue.add(row, "clean.outliers", {})
    for last in (False, True):
        started = subprocess.Popen([sys.executable, "-m", "terrazza.work.worker", workspace])
        if last:
            second = queue.add(row, "clean.outliers", {"deviations": 3.0})
            assert ended(second).state == "done" and ended(first).state in {"done", "interrupted"}
        time.sleep(0 if last else 1.5)
        started.kill()
        started.wait()


def test_an_order_that_a_leaving_child_never_read_is_given_to_the_next(job, monkeypatch):
    """The child ends itself between two orders: the second is run by a fresh one."""
    workspace, row = job
    kept = worker.Worker(workspace)
    first = queries.add_entry(row, "table.notation", 1, {"unit": "metre"})
    kept.run(first.id)
    process, _ = kept.child
    os.kill(process.pid, signal.SIGKILL)
    second = queries.add_entry(row, "table.notation", 1, {"unit": "inch"})
    kept.run(second.id)
    assert [Entry.get_by_id(e.id).state for e in (first, second)] == [
        "done",
        "done",
    ] and child.ENDED != child.LEAVING
    kept.close()
