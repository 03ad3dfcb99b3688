"""Running operations in tests, and waiting for those that a worker runs."""

import time

from terrazza.db.models import Entry
from terrazza.operations.spine.fieldbook import enter
from terrazza.operations.spine.job import Job
from terrazza.work.runner import run_entry


def perform(workspace: str, row, operation: str, **params):
    """Queue and run one operation; returns its entry."""
    return run_entry(workspace, enter(row, operation, params, "test"))


def must(workspace: str, row, operation: str, **params) -> dict:
    """Run one operation that has to succeed; returns its figures."""
    entry = perform(workspace, row, operation, **params)
    assert entry.state == "done", f"{operation} {entry.state}: {entry.message} {entry.hint}"
    return entry.figures


def ended(entry, timeout: float = 90.0) -> Entry:
    """An entry that a worker runs, once it has ended."""
    until = time.time() + timeout
    while time.time() < until:
        fresh = Entry.get_by_id(entry.id)
        if fresh.state not in {"queued", "running"}:
            return fresh
        time.sleep(0.05)
    raise AssertionError(f"entry {entry.number} is still {fresh.state}")


def opened(workspace: str, row) -> Job:
    return Job(workspace, row)
