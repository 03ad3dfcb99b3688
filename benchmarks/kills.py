"""Kills and cancels at random moments of every operation, by page and by command line: nothing damaged,
nothing stuck.

python benchmarks/kills.py FOLDER [MINUTES] [SEED]

FOLDER keeps the finished job that copies are made of.  Prints what came of the runs by way and by kind of
death, and every failure with its number.  Exits 1 where a job does not check whole, bytes are left over, or
an entry does not end.
"""

import collections
import os
import pathlib
import random
import shutil
import signal
import subprocess
import sys
import time

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent))
from terrazza.db import queries
from terrazza.db.models import Entry, database
from terrazza.operations.spine import (
    fieldbook,
    files_named,
    health,
)
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.work.open import open_workspace
from terrazza.work.queue import Queue
from tests.conftest import like, make_field, make_whole
from tests.work.cases import CASES, params_of
from tests.work.test_deaths import children_of

AGAIN, LONGEST = 8, 180.0
DEATHS = ("child", "worker", "cancel", "cancel and child", "nothing")


class Desk:
    """A copy of the finished job, with a worker that is started again when it died."""

    def __init__(self, source, folder):
        shutil.rmtree(folder, ignore_errors=True)
        os.makedirs(folder)
        self.workspace, self.worker = str(like(source, folder / "ws")), None
        open_workspace(self.workspace)
        self.row = queries.job_by(id=1)
        self.keep()

    def keep(self):
        if self.worker is None or self.worker.poll() is not None:
            self.worker = subprocess.Popen(
                [sys.executable, "-m", "terrazza.work.worker", self.workspace], stderr=subprocess.DEVNULL
            )

    def close(self):
        self.worker.terminate()
        self.worker.wait(20)
        database.close()

    def ended(self, entry) -> str:
        until = time.monotonic() + LONGEST
        while time.monotonic() < until:
            self.keep()
            state = Entry.get_by_id(entry.id).state
            if state not in {"queued", "running"}:
                return state
            time.sleep(0.1)
        return "stuck"


def by_page(desk, operation, params, death, delay) -> str:
    entry = Queue(desk.workspace).add(desk.row, operation, params, "kills")
    time.sleep(delay)
    if "cancel" in death:
        Entry.update(cancel=True).where(Entry.id == entry.id).execute()
    if "child" in death:
        for pid in children_of(desk.worker.pid):
            os.kill(pid, signal.SIGKILL)
    if death == "worker":
        desk.worker.kill()
        desk.worker.wait()
    return desk.ended(entry)


def by_command(desk, operation, params, death, delay) -> str:
    import json

    words = [f"{k}={json.dumps(v)}" for k, v in params.items() if v is not None]
    process = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "terrazza.cli.main",
            "do",
            operation,
            *words,
            "--job",
            "Whole",
            "--workspace",
            desk.workspace,
        ],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    time.sleep(1.0 + delay)
    if death == "cancel":
        process.send_signal(signal.SIGINT)
    elif death != "nothing":
        process.kill()
    try:
        process.wait(LONGEST)
    except subprocess.TimeoutExpired:
        process.kill()
        return "stuck"
    return "ended"


def main(folder: pathlib.Path, minutes: float, seed: int) -> None:
    source, rng = make_whole(folder, make_field(folder)) / "ws", random.Random(seed)
    results, failures, runs, until = collections.Counter(), [], 0, time.monotonic() + 60 * minutes
    order, desk = [], None
    while time.monotonic() < until:
        if runs % AGAIN == 0:
            if desk:
                desk.close()
            desk = Desk(source, folder / "copy")
        order = order or rng.sample(sorted(CASES), len(CASES))
        operation, death, delay, way = (
            order.pop(),
            rng.choice(DEATHS),
            rng.uniform(0, 3) ** 1.5 / 1.7,
            rng.choice(["page", "command"]),
        )
        runs += 1
        try:
            params = params_of(operation, Job(desk.workspace, desk.row), folder / "field", folder / "copy")
            state = (by_page if way == "page" else by_command)(
                desk, operation, find(operation).check(params).model_dump(), death, delay
            )
        except Exception as error:
            state = f"{type(error).__name__}: {error}"[:120]
        open_workspace(desk.workspace)
        job = Job(desk.workspace, desk.row)
        if way == "page":
            time.sleep(0.3)
        wrong = [w for w in health.check(job) if "the next run clears" not in w]
        left = (
            []
            if state in {"failed"}
            else fieldbook.strays(desk.workspace, desk.row, files_named.all_named(desk.row))
        )
        results[way, death, state] += 1
        if wrong or state == "stuck" or ":" in state:
            failures.append(
                f"run {runs}, {operation} by {way}, {death} after {delay:.2f} s: {state} {wrong[:2]}"
            )
        if left and state not in {"queued"}:
            fieldbook.sweep(desk.workspace, desk.row)
        print(f"\r{runs} runs, {len(failures)} failures", end="", file=sys.stderr, flush=True)
    desk.close()
    print(file=sys.stderr)
    for key in sorted(results):
        print(f"{key[0]:8} {key[1]:17} {key[2]:12} {results[key]:4}")
    print(f"{runs} runs in {minutes:g} minutes, {len(failures)} failures")
    print("\n".join(failures[:40]))
    sys.exit(bool(failures))


if __name__ == "__main__":
    main(
        pathlib.Path(sys.argv[1]).resolve(),
        float(sys.argv[2]) if len(sys.argv) > 2 else 45,
        int(sys.argv[3]) if len(sys.argv) > 3 else 0,
    )
