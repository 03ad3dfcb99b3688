"""Questions and small writes that several layers share."""

import os
import re
import time
import unicodedata

from peewee import IntegrityError, fn

from terrazza.db.models import Change, Entry, Fact, Job, database
from terrazza.errors import InputError, NotFound

LIVING = ("done",)


def plain_name(name: str) -> str:
    """A job's name without needless spaces; InputError where it is empty or too long."""
    name = " ".join(name.split())
    if not name:
        raise InputError("A job needs a name.", "Type one, for example the place and the year.")
    if len(name) > 120:
        raise InputError(f"The job name has {len(name)} characters; 120 are allowed.", "Shorten it.")
    return name


def create_job(workspace: str, name: str) -> Job:
    """A new, empty job with a folder of its own; InputError where the name is empty or taken."""
    name = plain_name(name)
    plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
    try:
        with database.atomic("IMMEDIATE"):
            job = Job.create(name=name, folder="", created=time.time())
            job.folder = f"{job.id}-{re.sub(r'[^a-z0-9]+', '-', plain).strip('-')[:40] or 'job'}"
            job.save()
    except IntegrityError as error:
        raise InputError(
            f"A job “{name}” exists already.",
            "Choose another name, or go on in that job (--append on the command line).",
        ) from error
    os.makedirs(os.path.join(workspace, "jobs", job.folder), exist_ok=True)
    return job


def job_by(**where) -> Job:
    """The job with this id or name; NotFound says which are there."""
    job = Job.get_or_none(**where)
    if job is None:
        there = ", ".join(f"“{j.name}”" for j in Job.select().limit(8)) or "none yet"
        raise NotFound(
            f"There is no job “{next(iter(where.values()))}” here.", f"Jobs in this workspace: {there}."
        )
    return job


def last_number(job_id: int) -> int:
    """The number of the newest entry, 0 where there is none."""
    return int(Entry.select(fn.MAX(Entry.number)).where(Entry.job == job_id).scalar() or 0)


def add_entry(
    job: Job, operation: str, version: int, params: dict, who: str = "", state: str = "queued"
) -> Entry:
    """Append a line to the field book under the next number."""
    with database.atomic("IMMEDIATE"):
        last = last_number(job.id)
        return Entry.create(
            job=job,
            number=last + 1,
            operation=operation,
            version=version,
            params=params,
            who=who,
            state=state,
            created=time.time(),
        )


def entry_of(job: Job, number: int) -> Entry:
    entry = Entry.get_or_none(job=job, number=number)
    if entry is None:
        raise NotFound(f"The field book of “{job.name}” has no entry {number}.", "Reload the page.")
    return entry


def later_writer(entry: Entry) -> Entry | None:
    """The first living entry after ``entry`` that changed one of the facts that it changed, or anything of a
    scan that it brought.
    """
    mine = Change.select(Change.kind, Change.key).where(Change.entry == entry)
    brought = Change.select(Change.scan).where((Change.entry == entry) & (Change.kind == "scan"))
    later = (Entry.job == entry.job_id) & (Entry.number > entry.number) & (Entry.state << LIVING)
    same = mine.alias("mine")
    first = [
        Change.select(fn.MIN(Entry.number))
        .join(same, on=(Change.kind == same.c.kind) & (Change.key == same.c.key))
        .switch(Change)
        .join(Entry)
        .where(later)
        .scalar(),
        Change.select(fn.MIN(Entry.number)).join(Entry).where(later & (Change.scan << brought)).scalar(),
    ]
    numbers = [n for n in first if n is not None]
    return Entry.get((Entry.job == entry.job_id) & (Entry.number == min(numbers))) if numbers else None


def fact_keys(job_id: int, kind: str) -> dict[str, int]:
    """By key the number of the entry that wrote a fact of a kind: what has the same is the same."""
    rows = Fact.select(Fact.key, Fact.entry).where((Fact.job == job_id) & (Fact.kind == kind))
    return dict(rows.tuples())


def fact_values(job_id: int, kind: str, keys: list[str] | None = None) -> dict[str, object]:
    """Values of a kind of fact by key, all or some."""
    rows = Fact.select(Fact.key, Fact.value).where((Fact.job == job_id) & (Fact.kind == kind))
    if keys is None:
        return dict(rows.tuples())
    found: dict[str, object] = {}
    for start in range(0, len(keys), 500):
        found |= dict(rows.where(Fact.key << keys[start : start + 500]).tuples())
    return found


def next_number(job_id: int, kind: str) -> int:
    """A number for a new fact of a kind, above every one that the job ever gave to one: undone, removed or
    living, none comes again.
    """
    of_all = (
        Change.select(fn.MAX(Change.key.cast("INTEGER")))
        .join(Entry)
        .where((Entry.job == job_id) & (Change.kind == kind))
        .scalar()
    )
    living = (
        Fact.select(fn.MAX(Fact.key.cast("INTEGER")))
        .where((Fact.job == job_id) & (Fact.kind == kind))
        .scalar()
    )
    return max(int(of_all or 0), int(living or 0)) + 1


def keys_ever(job_id: int, kind: str, start: str) -> set[str]:
    """Keys beginning with ``start`` that facts of a kind have or ever had."""
    changed = (
        Change.select(Change.key)
        .join(Entry)
        .where((Entry.job == job_id) & (Change.kind == kind) & Change.key.startswith(start))
    )
    return {c.key for c in changed} | {k for k in fact_keys(job_id, kind) if k.startswith(start)}


def revision(job_id: int) -> int:
    """Grows with every change of the job's facts, undo included."""
    return int(Job.select(Job.revision).where(Job.id == job_id).scalar() or 0)


def revisions(job_id: int) -> tuple[int, dict[str, int]]:
    """The job's revision, and the one at which a fact of each kind last changed."""
    row = Job.select(Job.revision, Job.revisions).where(Job.id == job_id).get()
    return row.revision, row.revisions


def newer_revision(job_id: int, kinds: set[str], **also) -> None:
    """Say, within the transaction that changes facts of a job, of which kinds; ``also`` sets other columns of
    the job.
    """
    revision, by_kind = revisions(job_id)
    by_kind |= dict.fromkeys(sorted(kinds), revision + 1)
    Job.update(revision=revision + 1, revisions=by_kind, **also).where(Job.id == job_id).execute()


def last_entries(job_id: int) -> dict[str, Entry]:
    """The last living entry of each operation, by name."""
    newest = (
        Entry.select(fn.MAX(Entry.number))
        .where((Entry.job == job_id) & (Entry.state << LIVING))
        .group_by(Entry.operation)
    )
    rows = Entry.select().where((Entry.job == job_id) & (Entry.number << newest))
    return {e.operation: e for e in rows.order_by(Entry.number)}


def entries_of(job_id: int, numbers: list[int]) -> list[Entry]:
    """The entries of these numbers."""
    return list(Entry.select().where((Entry.job == job_id) & (Entry.number << numbers)))


def running(job_id: int, but: int) -> list[str]:
    """Operations that are running on a job, without the entry of the id ``but``."""
    rows = Entry.select(Entry.operation).where((Entry.job == job_id) & (Entry.state == "running"))
    return [name for (name,) in rows.where(Entry.id != but).tuples()]


def queued(job_id: int, before: int) -> list[str]:
    """Operations that are queued on a job before the entry of that number."""
    rows = Entry.select(Entry.operation).where((Entry.job == job_id) & (Entry.state == "queued"))
    return [name for (name,) in rows.where(Entry.number < before).tuples()]


def operations_of(job_id: int, numbers: list[int]) -> list[tuple[str, int]]:
    """(operation, number) of the entries with these numbers."""
    rows = Entry.select(Entry.operation, Entry.number)
    return list(rows.where((Entry.job == job_id) & (Entry.number << numbers)).tuples())


def last_writers(job_id: int) -> dict[str, int]:
    """By kind of fact the number of the last living entry that changed one; dimensions of the points beside
    their usual columns are a kind of their own, “dimension”.
    """
    beside = (Change.kind == "column") & Change.key.contains("/extra.")
    rows = (
        Change.select(Change.kind, beside, fn.MAX(Entry.number))
        .join(Entry)
        .where((Entry.job == job_id) & (Entry.state << LIVING))
        .group_by(Change.kind, beside)
    )
    return {"dimension" if apart else kind: number for kind, apart, number in rows.tuples()}


def last_writer(job_id: int, kind: str, keys: list[str]) -> int:
    """The number of the last living entry that changed one of these facts; 0 for none."""
    rows = Change.select(fn.MAX(Entry.number)).join(Entry)
    mine = (Change.kind == kind) & (Change.key << keys)
    return rows.where((Entry.job == job_id) & (Entry.state << LIVING) & mine).scalar() or 0


def begun(job_id: int, kind: str, key: str) -> int | None:
    """The number of the living entry that last made a fact that was not there before."""
    rows = Change.select(fn.MAX(Entry.number)).join(Entry)
    made = (Change.kind == kind) & (Change.key == key) & Change.before_entry.is_null()
    return rows.where((Entry.job == job_id) & (Entry.state << LIVING) & made).scalar()


def values_before(job_id: int, kind: str, number: int) -> dict[str, object]:
    """By key the values of a kind as they were after the entry of that number, of those changed since."""
    rows = Change.select(Change.key, Change.before).join(Entry)
    since = (Entry.job == job_id) & (Entry.state << LIVING) & (Entry.number > number) & (Change.kind == kind)
    out: dict[str, object] = {}
    for key, before in rows.where(since).order_by(Entry.number).tuples():
        out.setdefault(key, before)
    return out


def done_entries(job: Job, operation: str = "") -> list[Entry]:
    """Living entries of a job, oldest first, all or those of one operation."""
    found = Entry.select().where((Entry.job == job) & (Entry.state << LIVING)).order_by(Entry.number)
    return list(found.where(Entry.operation == operation) if operation else found)
