"""The worker: takes entries off the queue one after another and has a child process run them, which it can end."""

import contextlib
import multiprocessing
import os
import signal
import sys
import time

from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.operations import fieldbook
from terrazza.work import child
from terrazza.work.lease import lease
from terrazza.work.open import open_workspace
from terrazza.work.queue import entry_task, queue_of

PATIENCE = 2.0
LOOK = 0.2


class Worker:
    """Keeps one warm child; ends a child that does not answer a cancel within two seconds."""

    def __init__(self, workspace: str):
        self.workspace = workspace
        self.context = multiprocessing.get_context("spawn")
        self.child = None

    def warm(self) -> None:
        """See that a child is there that can take an entry at once."""
        if self.child is None or not self.child[0].is_alive():
            mine, theirs = self.context.Pipe()
            process = self.context.Process(target=child.serve, args=(self.workspace, theirs))
            process.start()
            theirs.close()
            self.child = (process, mine)

    def close(self) -> None:
        """Let the child go; it ends when its orders can no longer come."""
        if self.child is not None:
            self.child[1].close()
            self.child = None

    def run(self, entry_id: int) -> None:
        """Run one entry to its end, whatever happens to the child."""
        entry = Entry.get_or_none(Entry.id == entry_id)
        if entry is None or entry.state != "queued":
            return
        if entry.cancel:
            self._end(entry_id, "cancelled", "Cancelled before it began.")
            return
        self.warm()
        process, orders = self.child
        orders.send(entry_id)
        asked = None
        while process.is_alive() and not orders.poll(LOOK):
            if asked is None and Entry.select(Entry.cancel).where(Entry.id == entry_id).scalar():
                asked = time.monotonic()
            if asked is not None and time.monotonic() - asked > PATIENCE:
                with contextlib.suppress(ProcessLookupError):
                    os.killpg(process.pid, signal.SIGKILL)
                process.join()
        if process.is_alive():
            with contextlib.suppress(EOFError):
                orders.recv()
        entry = Entry.get_by_id(entry_id)
        if entry.state in {"queued", "running"}:
            self._end(entry_id, *(("cancelled", "Cancelled; the job is as it was before.") if asked is not None else
                                  ("interrupted", "The process that did the work ended before it was finished; the job is as it was before.", "The machine may be out of memory. Start it again.")))
            row = Row.get_by_id(entry.job_id)
            with lease(self.workspace, row.folder, "the sweep after a broken run"):
                fieldbook.sweep(self.workspace, row)

    @staticmethod
    def _end(entry_id, state, message, hint=""):
        Entry.update(state=state, message=message, hint=hint).where(Entry.id == entry_id).execute()


def main(workspace: str) -> None:
    """Recover, queue again what was waiting, and work until told to stop."""
    from terrazza.fleet.lifeline import die_with_parent

    die_with_parent()
    open_workspace(workspace)
    huey = queue_of(workspace)
    worker = Worker(workspace)

    def handle(entry_id: int) -> None:
        try:
            worker.run(entry_id)
        finally:
            worker.warm()

    run_entry = entry_task(huey, handle)
    huey.flush()
    for entry in Entry.select(Entry.id).where(Entry.state == "queued").order_by(Entry.id):
        run_entry(entry.id)
    consumer = huey.create_consumer(workers=1, worker_type="thread", periodic=False, initial_delay=0.05, backoff=1.15, max_delay=0.3, check_worker_health=True)
    try:
        consumer.run()
    finally:
        worker.close()


if __name__ == "__main__":
    main(sys.argv[1])
