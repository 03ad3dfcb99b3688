"""Jobs as things one keeps: renamed, put away, deleted and brought back, removed for good."""

import os
import shutil
import time

from peewee import IntegrityError, fn

from terrazza.db.models import Entry, database
from terrazza.db.models import Job as Row
from terrazza.db.queries import plain_name
from terrazza.errors import InputError, StateError
from terrazza.work.archive import MARK
from terrazza.work.lease import lease

KEY = "kept"
HERE, AWAY, DELETED = "", "away", "deleted"
DEMO = "Settegradini, lemon terraces"  # the job to look around in


def state(row: Row) -> str:
    """Where a job is: here, put away, or deleted and still to be brought back."""
    return row.settings.get(KEY, {}).get("state", HERE)


def since(row: Row) -> float | None:
    """When it was put away or deleted (s since the epoch)."""
    return row.settings.get(KEY, {}).get("since")


def rename(row: Row, name: str) -> Row:
    """Give a job another name; InputError where it is empty, too long or taken."""
    name = plain_name(name)
    try:
        with database.atomic("IMMEDIATE"):
            Row.update(name=name).where(Row.id == row.id).execute()
    except IntegrityError as error:
        raise InputError(
            f"A job “{name}” exists already.", "Choose another name; it may be put away or deleted."
        ) from error
    return Row.get_by_id(row.id)


def put(row: Row, where: str) -> None:
    """Put a job away, delete it, or bring it back; StateError while something runs on it."""
    if where not in {HERE, AWAY, DELETED}:
        raise InputError(f"Jobs are not kept “{where}”.", "They are here, put away, or deleted.")
    with database.atomic("IMMEDIATE"):
        busy = Entry.select().where(Entry.job == row, Entry.state.in_(("queued", "running"))).count()
        if busy and where != HERE:
            raise StateError(
                f"{busy} entries of “{row.name}” are not done.", "Wait for them, or cancel them."
            )
        fresh = Row.get_by_id(row.id)
        settings = {k: v for k, v in fresh.settings.items() if k != KEY}
        if where != HERE:
            settings[KEY] = {"state": where, "since": time.time()}
        Row.update(settings=settings).where(Row.id == row.id).execute()


def remove(workspace: str, row: Row) -> None:
    """Remove a deleted job for good: its rows, then its folder (of which a kill leaves what the next start
    clears away).
    """
    if state(row) != DELETED:
        raise StateError(f"“{row.name}” is not deleted.", "Delete it first; until then nothing is lost.")
    folder = os.path.join(workspace, "jobs", row.folder)
    with lease(workspace, row.folder, "removal"):
        open(os.path.join(folder, MARK), "ab").close()
        Row.delete().where(Row.id == row.id).execute()
    shutil.rmtree(folder, ignore_errors=True)


def size(workspace: str, row: Row) -> int:
    """Bytes of a job's folder; files that it only links to are not its own."""
    total = 0
    for base, _, names in os.walk(os.path.join(workspace, "jobs", row.folder)):
        for name in names:
            try:
                total += os.lstat(os.path.join(base, name)).st_size
            except OSError:  # it went meanwhile
                continue
    return total


def touched() -> dict[int, float]:
    """When each job was last worked on (s since the epoch), by its id."""
    rows = Entry.select(Entry.job, fn.MAX(Entry.created)).group_by(Entry.job).tuples()
    return dict(rows)
