"""The queue between pages and worker: huey on SQLite beside the workspace's database."""

import os

from huey import SqliteHuey

from terrazza.db.models import Entry
from terrazza.db.models import Job as Row
from terrazza.operations.spine import course
from terrazza.operations.spine.fieldbook import enter


def queue_of(workspace: str) -> SqliteHuey:
    """The workspace's queue; only entry numbers travel through it."""
    return SqliteHuey(
        "terrazza", filename=os.path.join(workspace, "queue.sqlite"), results=False, fsync=True, timeout=30
    )


def entry_task(huey: SqliteHuey, handle=None):
    """The one kind of task, known under the same name on both sides; ``handle(entry_id)`` runs it in the
    worker.
    """

    @huey.task(name="run_entry")
    def run_entry(entry_id: int) -> None:
        handle(entry_id)

    return run_entry


class Queue:
    """Puts operations into a job's field book and hands them to the worker."""

    def __init__(self, workspace: str):
        self.task = entry_task(queue_of(workspace))

    def add(self, row: Row, operation: str, params: dict, who: str = "") -> Entry:
        """A queued entry; ParamsError where the parameters are wrong, and then nothing is queued."""
        entry = enter(row, operation, params, who)
        self.task(entry.id)
        return entry

    def go_on(self, row: Row) -> None:
        """Hand the next step of the job's recipe to the worker."""
        entry = course.advance(row)
        if entry is not None:
            self.task(entry.id)
