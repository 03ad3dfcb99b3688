"""Undo, stale entries, sweeping and recovery: what keeps a job whole between operations."""

import os

from terrazza.db import queries
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.db.models import Job as Row
from terrazza.errors import StateError
from terrazza.operations.spine.base import find
from terrazza.operations.spine.facts import KINDS, files_of

KEPT_FOLDERS = ("scans", "photos", "arrays", "scratch")


def blocker(entry: Entry) -> str:
    """Why an entry cannot be undone now, in a sentence; empty where it can."""
    if entry.state != "done":
        return f"Entry {entry.number} is {entry.state}, so there is nothing to undo."
    if entry.operation == "clean.put_back" and entry.figures and entry.figures.get("forgotten"):
        return "This cut was put back for good."
    if is_cut(entry):
        return ""
    mine = list(Change.select().where(Change.entry == entry))
    if not mine:
        return "" if entry.operation.startswith("deliver") else "It changed nothing that could be undone."
    keys, scans = {(c.kind, c.key) for c in mine}, {c.scan for c in mine if c.kind == "scan"}
    for change in queries.later_changes(entry):
        if (change.kind, change.key) in keys or (change.scan is not None and change.scan in scans):
            other = change.entry
            return (
                f"Undo entry {other.number} ({find(other.operation).title}) first: it came later and "
                "changed the same."
            )
    return ""


def is_cut(entry: Entry) -> bool:
    """Whether an entry took points out (cuts come back in any order)."""
    return entry.state == "done" and bool(entry.figures) and "cut" in entry.figures


def undo(entry: Entry) -> None:
    """Move the pointers of an entry back, in one transaction; StateError says what stands in the way.

    Cuts are put back by the operation ``clean.put_back``, which rewrites the column instead.
    """
    with database.atomic("IMMEDIATE"):
        entry = Entry.get_by_id(entry.id)
        reason = blocker(entry)
        if reason:
            raise StateError(reason)
        for change in Change.select().where(Change.entry == entry):
            where = (Fact.job == entry.job_id) & (Fact.kind == change.kind) & (Fact.key == change.key)
            Fact.delete().where(where).execute()
            if change.before is not None:
                Fact.create(
                    job=entry.job_id,
                    kind=change.kind,
                    key=change.key,
                    scan=change.scan,
                    value=change.before,
                    entry=change.before_entry or 0,
                )
        entry.state = "undone"
        entry.save()


def stale(job: Row) -> dict[int, str]:
    """Living entries that read something which a later living entry changed: number → what is newer."""
    writes: dict[str, int] = {}
    for change in (
        Change.select(Change.kind, Entry.number)
        .join(Entry)
        .where((Entry.job == job) & (Entry.state == "done"))
        .distinct()
        .objects()
    ):
        writes[change.kind] = max(writes.get(change.kind, 0), change.number)
    out, seen = {}, set()
    for entry in (
        Entry.select().where((Entry.job == job) & (Entry.state == "done")).order_by(Entry.number.desc())
    ):
        operation = find(entry.operation)
        if entry.operation in seen:
            continue
        seen.add(entry.operation)
        newer = [k for k in operation.reads - operation.writes if writes.get(k, 0) > entry.number]
        if newer:
            out[entry.number] = KINDS[newer[0]].words
    return out


def recover(workspace: str, claim) -> int:
    """After a crash: mark runs that nobody works on as interrupted and sweep what no pointer names; returns
    how many were marked.

    ``claim(job)`` gives a context that says whether the job's lease is ours while it lasts; jobs that
    somebody works on are left alone.
    """
    marked = 0
    for job in Row.select():
        with claim(job) as ours:
            if ours:
                marked += (
                    Entry.update(
                        state="interrupted",
                        message="The work was cut off before it was finished; the job is as it was before.",
                        hint="Start it again.",
                    )
                    .where((Entry.job == job) & (Entry.state == "running"))
                    .execute()
                )
                sweep(workspace, job)
    return marked


def named_files(job: Row) -> set[tuple[str, str]]:
    """(folder, file) of everything that a fact or a living entry's past names."""
    named: set[tuple[str, str]] = set()
    for fact in Fact.select().where(Fact.job == job):
        named.update(files_of(fact.kind, fact.scan, fact.value))
    for change in (
        Change.select()
        .join(Entry)
        .where((Entry.job == job) & (Entry.state == "done") & Change.before.is_null(False))
    ):
        named.update(files_of(change.kind, change.scan, change.before))
    return named


def strays(workspace: str, job: Row, named: set[tuple[str, str]]) -> list[tuple[str, str]]:
    """(folder, file) of column, photo, array and scratch files that nothing names, and of half-written
    deliverables.
    """
    base, found = os.path.join(workspace, "jobs", job.folder), []
    for kept in KEPT_FOLDERS:
        for folder, _, files in os.walk(os.path.join(base, kept)):
            place = os.path.relpath(folder, base)
            found += [(place, name) for name in files if (place, name) not in named]
    path = os.path.join(base, "deliverables")
    return found + [
        ("deliverables", name)
        for name in (os.listdir(path) if os.path.isdir(path) else ())
        if name.endswith(".part")
    ]


def sweep(workspace: str, job: Row) -> int:
    """Delete the strays and the folders they leave empty; returns how many files went.  Only for the holder
    of the job's lease.
    """
    base = os.path.join(workspace, "jobs", job.folder)
    found = strays(workspace, job, named_files(job))
    for folder, name in found:
        os.unlink(os.path.join(base, folder, name))
    for kept in KEPT_FOLDERS:
        for folder, _, _ in os.walk(os.path.join(base, kept), topdown=False):
            if folder != os.path.join(base, kept) and not os.listdir(folder):
                os.rmdir(folder)
    return len(found)
