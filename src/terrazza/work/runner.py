"""Runs one field-book entry from start to commit, in whichever process it is called."""

import contextlib
import os
import time
from functools import lru_cache

from terrazza.core.progress import Progress
from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.errors import Cancelled, TerrazzaError, understood
from terrazza.fleet import Local
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.settings import settings
from terrazza.work.lease import lease

EVERY = 0.25


@lru_cache
def fleet(workspace: str):
    """Where this process has the pieces of work of a workspace done: on the cluster that the settings name,
    else here.
    """
    if settings().cluster:
        from terrazza.fleet.cluster import Cluster

        return Cluster(settings().cluster, os.path.abspath(workspace), settings().memory)
    return Local(memory=settings().memory)


class EntryProgress:
    """Writes progress to the entry at most four times a second, passes it to ``also``, and raises Cancelled
    when asked to.
    """

    def __init__(self, entry: Entry, also: Progress | None = None):
        self.entry, self.also, self.last = entry, also, 0.0

    def advance(self, done: float, total: float, label: str = "") -> None:
        now = time.monotonic()
        if now - self.last < EVERY:
            return
        self.last = now
        if self.also is not None:
            self.also.advance(done, total, label)
        Entry.update(done=float(done), total=float(total), label=label[:200]).where(
            Entry.id == self.entry.id
        ).execute()
        if Entry.select(Entry.cancel).where(Entry.id == self.entry.id).scalar():
            raise Cancelled()


def run_entry(
    workspace: str,
    entry: Entry,
    also: Progress | None = None,
    inputs: list[str] | None = None,
    out: str = "",
    search: list[str] | None = None,
) -> Entry:
    """Run a queued entry under the job's lease; its state, figures or message say how it ended.

    Errors made for the surveyor end in the entry as failed or cancelled; others do too, and are raised again.
    """
    row = Row.get_by_id(entry.job_id)
    operation = find(entry.operation)
    try:
        with lease(workspace, row.folder, f"entry {entry.number}, {operation.title} (process {os.getpid()})"):
            started = time.time()
            if (
                not Entry.update(state="running", started=started)
                .where((Entry.id == entry.id) & (Entry.state == "queued"))
                .execute()
            ):
                return Entry.get_by_id(entry.id)
            fieldbook.sweep(workspace, row)
            entry = Entry.get_by_id(entry.id)
            job = Job(workspace, row, entry, fleet=fleet(workspace), inputs=inputs, out=out)
            job.search, job.may_read = search or [], list(map(str, settings().allowed_folders()))
            try:
                figures = operation().run(job, operation.check(entry.params), EntryProgress(entry, also))
                job.commit(figures, time.time() - started)
            except BaseException:
                with contextlib.suppress(
                    Exception
                ):  # the next run sweeps too; what went wrong is to be told, not that this did
                    fieldbook.sweep(workspace, row)
                raise
    except Cancelled:
        _end(entry, "cancelled", "Cancelled; the job is as it was before.")
    except TerrazzaError as error:
        _end(entry, "failed", error.message, error.hint)
    except Exception as error:
        known = understood(error)
        if known is not None:
            _end(entry, "failed", known.message, f"{known.hint} The job is as it was before.")
            return Entry.get_by_id(entry.id)
        _end(
            entry,
            "failed",
            f"{operation.title} stopped on an error of its own: {type(error).__name__}: {error}",
            "The job is as it was before. Please report this.",
        )
        raise
    return Entry.get_by_id(entry.id)


def _end(entry, state, message, hint=""):
    seconds = time.time() - entry.started if entry.started else None
    Entry.update(state=state, message=message, hint=hint, seconds=seconds).where(
        Entry.id == entry.id
    ).execute()
