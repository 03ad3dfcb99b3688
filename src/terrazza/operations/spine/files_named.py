"""Which files of a job its facts name, kept in a table with the facts, and the files that nothing names any
more.

A file is named by a fact, or by the past of a living entry, which undo brings back.  All that changes facts
says so here in the same transaction, so that undo and sweeping are indexed look-ups.
"""

import os

from terrazza.db.models import Change, Entry, Fact, LooseFile, NamedFile
from terrazza.db.models import Job as Row
from terrazza.operations.spine.facts import KINDS, files_of, names_files

File = tuple[str, str]
MANY = 400  # rows that one statement writes


def _enter(job: Row, kind: str, key: str, entry: int, files: list[File]) -> None:
    rows = [dict(job=job, folder=f, name=n, kind=kind, key=key, entry=entry) for f, n in files]
    for start in range(0, len(rows), MANY):
        NamedFile.insert_many(rows[start : start + MANY]).execute()


def _leave(job: Row, kind: str, key: str, entries: tuple[int, ...]) -> None:
    NamedFile.delete().where(
        (NamedFile.job == job)
        & (NamedFile.kind == kind)
        & (NamedFile.key == key)
        & (NamedFile.entry << entries)
    ).execute()


def named(job: Row, file: File) -> bool:
    """Whether anything names a (folder, file)."""
    return (
        NamedFile.select()
        .where((NamedFile.job == job) & (NamedFile.folder == file[0]) & (NamedFile.name == file[1]))
        .exists()
    )


def _loosen(job: Row, files: list[File]) -> None:
    for file in files:
        if not named(job, file):
            LooseFile.create(job=job, folder=file[0], name=file[1])


def changed(job: Row, number: int, change: Change) -> None:
    """An entry changed a fact: its files are named by it now, those before by the entry's past."""
    if not names_files(change.kind):
        return
    _leave(job, change.kind, change.key, (0,))
    _enter(job, change.kind, change.key, number, files_of(change.kind, change.scan, change.before))
    _enter(job, change.kind, change.key, 0, files_of(change.kind, change.scan, change.after))


def taken_back(job: Row, number: int, change: Change) -> None:
    """A change of an entry was undone."""
    if not names_files(change.kind):
        return
    _leave(job, change.kind, change.key, (0, number))
    _enter(job, change.kind, change.key, 0, files_of(change.kind, change.scan, change.before))
    _loosen(job, files_of(change.kind, change.scan, change.after))


def forgotten(job: Row, number: int) -> None:
    """An entry is no longer living, without its changes being taken back (a cut put back): its past names
    nothing more.
    """
    mine = (NamedFile.job == job) & (NamedFile.entry == number)
    files = list(NamedFile.select(NamedFile.folder, NamedFile.name).where(mine).tuples())
    NamedFile.delete().where(mine).execute()
    _loosen(job, files)


def all_named(job: Row) -> set[File]:
    """(folder, file) of everything that is named, from the table."""
    return set(NamedFile.select(NamedFile.folder, NamedFile.name).where(NamedFile.job == job).tuples())


def derived(job: Row) -> set[tuple]:
    """(folder, file, kind, key, entry) of everything that is named, from facts and changes themselves."""
    found = set()
    with_files = [k for k in KINDS if names_files(k)]
    for fact in Fact.select().where((Fact.job == job) & (Fact.kind << with_files)):
        found |= {(*f, fact.kind, fact.key, 0) for f in files_of(fact.kind, fact.scan, fact.value)}
    for change in (
        Change.select(Change, Entry)
        .join(Entry)
        .where(
            (Entry.job == job)
            & (Entry.state == "done")
            & (Change.kind << with_files)
            & Change.before.is_null(False)
        )
    ):
        files = files_of(change.kind, change.scan, change.before)
        found |= {(*f, change.kind, change.key, change.entry.number) for f in files}
    return found


def listed(job: Row) -> set[tuple]:
    """What the table holds, in the form of ``derived``."""
    columns = (NamedFile.folder, NamedFile.name, NamedFile.kind, NamedFile.key, NamedFile.entry)
    return set(NamedFile.select(*columns).where(NamedFile.job == job).tuples())


def make_list(job: Row) -> None:
    """Fill the table of a job that came without it, within the caller's transaction."""
    NamedFile.delete().where(NamedFile.job == job).execute()
    rows = [
        dict(zip(("folder", "name", "kind", "key", "entry"), row, strict=True)) | {"job": job}
        for row in sorted(derived(job))
    ]
    for start in range(0, len(rows), MANY):
        NamedFile.insert_many(rows[start : start + MANY]).execute()
    Row.update(listed=True).where(Row.id == job.id).execute()


def clear_loose(base: str, job: Row) -> int:
    """Delete the files below ``base`` that undo let go of; returns how many went.  Only for the holder of the
    job's lease.
    """
    gone = 0
    for row in LooseFile.select().where(LooseFile.job == job):
        path = os.path.join(base, row.folder, row.name)
        if not named(job, (row.folder, row.name)) and os.path.lexists(path):
            os.unlink(path)
            gone += 1
        row.delete_instance()
    return gone
