"""Runs one field-book entry from start to commit, in whichever process it is called."""

import contextlib
import os
import time
from functools import lru_cache

from terrazza.core.progress import Progress
from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.errors import Cancelled, TerrazzaError, understood
from terrazza.fleet import Local
from terrazza.operations.spine import course, fieldbook
from terrazza.operations.spine.base import checked, find, known, title
from terrazza.operations.spine.commit import Overtaken
from terrazza.operations.spine.job import Job
from terrazza.settings import settings
from terrazza.work.lease import lease

EVERY = 0.25
TRIES = 5  # of a light run that is overtaken


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


def free(entry: Entry) -> bool:
    """Whether a queued entry is a light one that need not wait: nothing that runs writes what it writes, and
    nothing queued before it reads or writes that.
    """
    operation = known(entry.operation)
    if operation is None or not operation.is_light(entry.params):
        return False
    running = [known(name) for name in queries.running(entry.job_id, entry.id)]
    before = [known(name) for name in queries.queued(entry.job_id, entry.number)]
    if None in running or None in before:
        return False
    return not any(operation.writes & o.writes for o in running) and not any(
        operation.writes & (o.reads | o.writes) for o in before
    )


def run_entry(workspace: str, entry: Entry, also: Progress | None = None) -> Entry:
    """Run a queued entry, a heavy one under the job's lease; its state, figures or message say how it ended.

    Errors made for the surveyor end in the entry as failed or cancelled; others do too, and are raised again.
    """
    if free(entry) and run_light(workspace, entry, also):
        return Entry.get_by_id(entry.id)
    row, operation = Row.get_by_id(entry.job_id), find(entry.operation)
    with _ending(entry):
        with lease(workspace, row.folder, f"entry {entry.number}, {operation.title} (process {os.getpid()})"):
            if not _begun(entry):
                return Entry.get_by_id(entry.id)
            fieldbook.tidy(workspace, row)
            Row.update(unswept=True).where(Row.id == row.id).execute()
            try:
                _perform(workspace, row, entry, also, light=False)
            except BaseException:
                with contextlib.suppress(
                    Exception
                ):  # the next run sweeps too; what went wrong is to be told, not that this did
                    fieldbook.sweep(workspace, row)
                raise
    return Entry.get_by_id(entry.id)


def run_light(workspace: str, entry: Entry, also: Progress | None = None) -> bool:
    """Run a light entry beside whatever is running; False where that got into its way, and it waits again."""
    for _ in range(TRIES):
        if not _begun(entry):
            return True
        with _ending(entry):
            try:
                _perform(workspace, Row.get_by_id(entry.job_id), entry, also, light=True)
                return True
            except Overtaken:
                Entry.update(state="queued").where(Entry.id == entry.id).execute()
                if not free(entry):
                    return False
                continue
        return True
    return False


def _begun(entry: Entry) -> bool:
    """Take a queued entry; False where somebody else has."""
    queued = (Entry.id == entry.id) & (Entry.state == "queued")
    return bool(Entry.update(state="running", started=time.time()).where(queued).execute())


def _perform(workspace: str, row: Row, entry: Entry, also: Progress | None, light: bool) -> None:
    entry, operation = Entry.get_by_id(entry.id), find(entry.operation)
    given = course.given(row, entry.number)
    job = Job(workspace, row, entry, fleet(workspace), given.get("inputs"), given.get("out", ""))
    job.search, job.may_read = given.get("search", []), list(map(str, settings().allowed_folders()))
    job.settle()
    params = checked(entry.operation, entry.params, entry.version)
    figures = operation().run(job, params, EntryProgress(entry, also))
    job.commit(figures, time.time() - entry.started, light)


@contextlib.contextmanager
def _ending(entry: Entry):
    """Errors in the run of an entry become its end; those that are no sentence of ours are raised again."""
    try:
        yield
    except Cancelled:
        _end(entry, "cancelled", "Cancelled; the job is as it was before.")
    except Overtaken:
        raise
    except TerrazzaError as error:
        _end(entry, "failed", error.message, error.hint)
    except Exception as error:
        ours = understood(error)
        if ours is not None:
            _end(entry, "failed", ours.message, f"{ours.hint} The job is as it was before.")
            return
        _end(
            entry,
            "failed",
            f"{title(entry.operation)} stopped on an error of its own: {type(error).__name__}: {error}",
            "The job is as it was before. Please report this.",
        )
        raise


def _end(entry, state, message, hint=""):
    started = Entry.get_by_id(entry.id).started
    seconds = time.time() - started if started else None
    Entry.update(state=state, message=message, hint=hint, seconds=seconds).where(
        Entry.id == entry.id
    ).execute()
