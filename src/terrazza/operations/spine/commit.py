"""The one moment in which a run changes a job."""

from typing import TYPE_CHECKING

from terrazza.db import queries
from terrazza.db.models import Change, Entry, Fact, database
from terrazza.operations.spine import files_named
from terrazza.operations.spine.base import known

if TYPE_CHECKING:
    from terrazza.operations.spine.job import Job


class Overtaken(Exception):
    """What a light run was about to change has changed, or is being changed: it begins again."""


def commit(job: "Job", figures: dict, seconds: float, light: bool = False) -> None:
    """All that a run has put and marked, and its entry's state, in one transaction: before it the job is as
    before, after it as after.

    Overtaken where the run is ``light``, without the job's lease, and a fact of a kind that it puts has
    changed meanwhile, or another run that writes such facts is under way.
    """
    entry, kinds = job.entry, {kind for kind, _ in job.puts}
    with database.atomic("IMMEDIATE"):
        if light:
            _need_alone(job, kinds)
        for (kind, key), (value, scan) in job.puts.items():
            _change(entry, kind, key, value, scan)
        for number, state in job.marks:
            Entry.update(state=state).where((Entry.job == job.row) & (Entry.number == number)).execute()
            files_named.forgotten(job.row, number)
        queries.newer_revision(job.row.id, kinds, **({} if light else {"unswept": False}))
        entry.state, entry.figures, entry.seconds = "done", figures, seconds
        entry.save()


def _need_alone(job: "Job", kinds: set[str]) -> None:
    by_kind, others = queries.revisions(job.row.id)[1], queries.running(job.row.id, job.entry.id)
    if any(by_kind.get(k, 0) > job.revision for k in kinds) or any(
        kinds & (o.writes if (o := known(name)) else kinds) for name in others
    ):
        raise Overtaken()


def _change(entry: Entry, kind: str, key: str, value, scan: int | None) -> None:
    """Set one fact, or remove it (None), and note what it was before."""
    where = dict(job=entry.job_id, kind=kind, key=key)
    fact = Fact.get_or_none(**where)
    if fact is None and value is None:
        return
    owner = scan if scan is not None else fact.scan if fact else None
    change = Change.create(
        entry=entry,
        kind=kind,
        key=key,
        scan=owner,
        before=fact.value if fact else None,
        before_entry=fact.entry if fact else None,
        after=value,
    )
    if value is None:
        fact.delete_instance()
    elif fact is None:
        Fact.create(**where, scan=scan, value=value, entry=entry.number)
    else:
        fact.value, fact.entry, fact.scan = value, entry.number, owner
        fact.save()
    files_named.changed(entry.job_id, entry.number, change)
