"""Running operations in tests without a worker."""

from terrazza.db import queries
from terrazza.operations.base import find
from terrazza.operations.job import Job
from terrazza.work.runner import run_entry


def perform(workspace: str, row, operation: str, **params):
    """Queue and run one operation; returns its entry."""
    kind = find(operation)
    return run_entry(workspace, queries.add_entry(row, operation, kind.version, kind.check(params).model_dump(), "test"))


def must(workspace: str, row, operation: str, **params) -> dict:
    """Run one operation that has to succeed; returns its figures."""
    entry = perform(workspace, row, operation, **params)
    assert entry.state == "done", f"{operation} {entry.state}: {entry.message} {entry.hint}"
    return entry.figures


def opened(workspace: str, row) -> Job:
    return Job(workspace, row)
