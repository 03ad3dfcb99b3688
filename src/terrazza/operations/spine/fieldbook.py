"""Undo, stale entries, sweeping and recovery: what keeps a job whole between operations."""

import os

from terrazza.db import queries
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.db.models import Job as Row
from terrazza.errors import StateError
from terrazza.operations.spine import files_named
from terrazza.operations.spine.base import find, known, title
from terrazza.operations.spine.facts import words_of

KEPT_FOLDERS = ("scans", "photos", "arrays", "scratch")


def enter(row: Row, operation: str, params: dict, who: str = "") -> Entry:
    """A new entry in state queued; ParamsError where the parameters are wrong, and then there is none."""
    kind = find(operation)
    return queries.add_entry(row, kind.name, kind.version, kind.check(params).model_dump(), who)


def blocker(entry: Entry) -> str:
    """Why an entry cannot be undone now, in a sentence; empty where it can."""
    if entry.state != "done":
        return f"Entry {entry.number} is {entry.state}, so there is nothing to undo."
    if entry.operation == "clean.put_back" and entry.figures and entry.figures.get("forgotten"):
        return "This cut was put back for good."
    if is_cut(entry):
        return ""
    if not Change.select().where(Change.entry == entry).exists():
        return "" if entry.operation.startswith("deliver") else "It changed nothing that could be undone."
    other = queries.later_writer(entry)
    if other is None:
        return ""
    return f"Undo entry {other.number} ({title(other.operation)}) first: it came later and changed the same."


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
        kinds = set()
        for change in Change.select().where(Change.entry == entry):
            kinds.add(change.kind)
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
            files_named.taken_back(entry.job_id, entry.number, change)
        entry.state = "undone"
        entry.save()
        queries.newer_revision(entry.job_id, kinds)


def stale(job: Row) -> dict[int, str]:
    """Living entries that read something which a later living entry changed: number → what is newer."""
    writes = queries.last_writers(job.id)
    out = {entry.number: _newer(entry, writes) for entry in queries.last_entries(job.id).values()}
    return {number: words for number, words in out.items() if words}


def stale_files(job: Row, deliverables: dict[str, dict]) -> dict[str, str]:
    """Deliverables that were made from something that has changed since: path → what is newer."""
    writes = queries.last_writers(job.id)
    made = {d["entry"]: "" for d in deliverables.values() if "entry" in d}
    made = {e.number: _newer(e, writes) for e in queries.entries_of(job.id, list(made))}
    return {path: words for path, d in deliverables.items() if (words := made.get(d.get("entry"), ""))}


def _newer(entry: Entry, writes: dict[str, int]) -> str:
    """What of that which an entry read was changed later, in words; empty for nothing."""
    operation = known(entry.operation)
    if operation is None:
        return ""
    read = operation.reads - operation.writes
    alone = operation.read_alone(entry.params, entry.figures or {})
    for kind in sorted(read | ({"dimension"} if operation.dimensions and "column" in read else set())):
        newer = queries.last_writer(entry.job_id, kind, alone[kind]) if kind in alone else writes.get(kind, 0)
        if newer > entry.number and words_of(kind):
            return words_of(kind)
    return ""


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
                died = (
                    Entry.update(
                        state="interrupted",
                        message="The work was cut off before it was finished; the job is as it was before.",
                        hint="Start it again.",
                    )
                    .where((Entry.job == job) & (Entry.state == "running"))
                    .execute()
                )
                (sweep if died else tidy)(workspace, job)
                marked += died
    return marked


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


def tidy(workspace: str, job: Row) -> int:
    """Delete what undo let go of; after a run that was broken off, which may have left anything, all that
    nothing names.  Returns how many files went.  Only for the holder of the job's lease.
    """
    if Row.select(Row.unswept).where(Row.id == job.id).scalar():
        return sweep(workspace, job)
    return files_named.clear_loose(os.path.join(workspace, "jobs", job.folder), job)


def sweep(workspace: str, job: Row) -> int:
    """Delete the strays and the folders they leave empty; returns how many files went.  Only for the holder
    of the job's lease.
    """
    base = os.path.join(workspace, "jobs", job.folder)
    found = strays(workspace, job, files_named.all_named(job))
    for folder, name in found:
        os.unlink(os.path.join(base, folder, name))
    for kept in KEPT_FOLDERS:
        for folder, _, _ in os.walk(os.path.join(base, kept), topdown=False):
            if folder != os.path.join(base, kept) and not os.listdir(folder):
                os.rmdir(folder)
    files_named.clear_loose(base, job)
    Row.update(unswept=False).where(Row.id == job.id).execute()
    return len(found)
