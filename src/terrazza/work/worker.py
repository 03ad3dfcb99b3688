"""The worker: takes entries off the queue one after another and has a child process run them, which it can
end.
"""

import contextlib
import multiprocessing
import os
import signal
import sys
import threading
import time

from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.errors import BusyError
from terrazza.operations.spine import course, fieldbook, following
from terrazza.operations.spine.reach import PAGE
from terrazza.work import child
from terrazza.work.lease import lease
from terrazza.work.open import open_workspace
from terrazza.work.queue import entry_task, queue_of
from terrazza.work.runner import free, run_light

PATIENCE = 2.0
LOOK = 0.2
AGAIN = 1.0
AT_ONCE = 0.1
TRIES = 3


class Worker:
    """Keeps one warm child; ends a child that does not answer a cancel within two seconds.

    The field book is the queue: what is queued there is run, whatever became of the message that said so, of
    the child, or of this process before.
    """

    def __init__(self, workspace: str):
        self.workspace = workspace
        self.context = multiprocessing.get_context("spawn")
        self.child = None
        self.lock, self.light = threading.Lock(), threading.Lock()

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

    def drain(self) -> None:
        """Run what is queued, oldest first, until nothing is."""
        with self.lock:
            while True:
                for row in course.waiting(PAGE):
                    course.advance(row)
                waiting = Entry.select().where(Entry.state == "queued").order_by(Entry.id)
                entry = next((e for e in waiting if not free(e)), None)
                if entry is None:
                    break
                self.run(entry.id)
                following.follow(entry.job)
            self.warm()

    def drain_light(self) -> None:
        """Run the light entries that need not wait, here and now."""
        with self.light:
            for entry in list(Entry.select().where(Entry.state == "queued").order_by(Entry.id)):
                if free(entry) and run_light(self.workspace, entry):
                    following.follow(entry.job)

    def run(self, entry_id: int) -> None:
        """Run one entry to its end, whatever happens to the child: one that was not begun is given to a fresh
        child, a few times over.
        """
        for _ in range(TRIES):
            entry = Entry.get_or_none(Entry.id == entry_id)
            if entry is None or entry.state != "queued":
                return
            if entry.cancel:
                self._end(entry_id, "cancelled", "Cancelled before it began.")
                return
            asked = self._order(entry_id)
            entry = Entry.get_by_id(entry_id)
            if asked or entry.state != "queued":
                break
        if entry.state in {"queued", "running"}:
            self._end(
                entry_id,
                *(
                    ("cancelled", "Cancelled; the job is as it was before.")
                    if asked
                    else (
                        "interrupted",
                        "The process that did the work ended before it was finished; the job is as it "
                        "was before.",
                        "The machine may be out of memory. Start it again.",
                    )
                ),
            )
            row = Row.get_by_id(entry.job_id)
            with (
                contextlib.suppress(BusyError, OSError),
                lease(self.workspace, row.folder, "the sweep after a broken run"),
            ):  # the next run sweeps too
                fieldbook.sweep(self.workspace, row)

    def _order(self, entry_id: int) -> bool:
        """Have the child run an entry until it says so or is gone; returns whether it was ended because of a
        cancel.
        """
        self.warm()
        process, orders = self.child
        asked, said = None, None
        with contextlib.suppress(BrokenPipeError, EOFError, ConnectionResetError):
            orders.send(entry_id)
            while said is None and (process.is_alive() or orders.poll()):
                if orders.poll(LOOK):
                    said = orders.recv()
                elif asked is None and Entry.select(Entry.cancel).where(Entry.id == entry_id).scalar():
                    asked = time.monotonic()
                elif asked is not None and time.monotonic() - asked > PATIENCE:
                    self._kill(process)
                    break
        if said != child.ENDED:
            self._drop(process, orders)
        return asked is not None and said is None

    def _drop(self, process, orders) -> None:
        """Part from a child that is gone, is going, or does not answer."""
        orders.close()
        self.child = None
        process.join(PATIENCE)
        if process.is_alive():
            self._kill(process)

    @staticmethod
    def _kill(process) -> None:
        """End a child with its helpers; one that has only begun to start is not yet the head of a group of
        its own.
        """
        with contextlib.suppress(ProcessLookupError, PermissionError):
            if os.getpgid(process.pid) == process.pid:
                os.killpg(process.pid, signal.SIGKILL)
        process.kill()
        process.join(PATIENCE)

    @staticmethod
    def _end(entry_id, state, message, hint=""):
        Entry.update(state=state, message=message, hint=hint).where(Entry.id == entry_id).execute()


def _look(drain, again: float) -> None:
    """Run what is queued and was not told of: from before this process, or where a message was lost."""
    while True:
        try:
            drain()
        except Exception as error:  # a locked or full disk must not end the worker; it looks again
            print(f"terrazza worker: {type(error).__name__}: {error}", file=sys.stderr, flush=True)
        time.sleep(again)


def main(workspace: str) -> None:
    """Recover, queue again what was waiting, and work until told to stop."""
    from terrazza.fleet.lifeline import die_with_parent

    die_with_parent()
    open_workspace(workspace)
    huey = queue_of(workspace)
    worker = Worker(workspace)

    entry_task(huey, lambda _: worker.drain())
    huey.flush()
    for name, drain, again in (
        ("looking after the queue", worker.drain, AGAIN),
        ("light lane", worker.drain_light, AT_ONCE),
    ):
        threading.Thread(target=_look, args=(drain, again), name=name, daemon=True).start()
    consumer = huey.create_consumer(
        workers=1,
        worker_type="thread",
        periodic=False,
        initial_delay=0.05,
        backoff=1.15,
        max_delay=0.3,
        check_worker_health=True,
    )
    try:
        consumer.run()
    finally:
        worker.close()


if __name__ == "__main__":
    main(sys.argv[1])
