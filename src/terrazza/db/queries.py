"""Questions and small writes that several layers share."""

import os
import re
import time
import unicodedata

from peewee import IntegrityError, fn

from terrazza.db.models import Change, Entry, Fact, Job, database
from terrazza.errors import InputError, NotFound

LIVING = ("done",)


def create_job(workspace: str, name: str) -> Job:
    """A new, empty job with a folder of its own; InputError where the name is empty or taken."""
    name = " ".join(name.split())
    if not name:
        raise InputError("A job needs a name.", "Type one, for example the place and the year.")
    if len(name) > 120:
        raise InputError(f"The job name has {len(name)} characters; 120 are allowed.", "Shorten it.")
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


def add_entry(
    job: Job, operation: str, version: int, params: dict, who: str = "", state: str = "queued"
) -> Entry:
    """Append a line to the field book under the next number."""
    with database.atomic("IMMEDIATE"):
        last = Entry.select(fn.MAX(Entry.number)).where(Entry.job == job).scalar() or 0
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


def later_changes(entry: Entry):
    """Changes of living entries after ``entry`` in the same job."""
    return (
        Change.select(Change, Entry)
        .join(Entry)
        .where((Entry.job == entry.job_id) & (Entry.number > entry.number) & (Entry.state << LIVING))
    )


def facts(job_id: int, kind: str) -> dict[str, Fact]:
    return {f.key: f for f in Fact.select().where((Fact.job == job_id) & (Fact.kind == kind))}


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
    return {c.key for c in changed} | {k for k in facts(job_id, kind) if k.startswith(start)}


def state_version(job_id: int) -> int:
    """Grows with every change of the job's state, undo included."""
    changed = (
        Entry.select(fn.COUNT(Entry.id))
        .where((Entry.job == job_id) & (Entry.state << ("done", "undone")))
        .scalar()
    )
    undone = (
        Entry.select(fn.COUNT(Entry.id)).where((Entry.job == job_id) & (Entry.state == "undone")).scalar()
    )
    return int(changed or 0) + 100000 * int(undone or 0)


def done_entries(job: Job) -> list[Entry]:
    """Living entries of a job, oldest first."""
    return list(Entry.select().where((Entry.job == job) & (Entry.state << LIVING)).order_by(Entry.number))
