"""The field book: the strip with the last and the running entry, and the whole list."""

import time

from terrazza.db import queries
from terrazza.db.models import Entry, database
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import known, title
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.web.contexts import recipes
from terrazza.web.contexts.forms import told

BUSY = ("queued", "running")
PAGE = 60  # entries that are shown at once


def _row(entry: Entry, stale: dict, notation: Notation | None = None) -> dict:
    operation = known(entry.operation)
    figures = entry.figures or {}
    return {
        "number": entry.number,
        "operation": entry.operation,
        "title": title(entry.operation),
        "step": operation.step.lower() if operation else "",
        "state": entry.state,
        "says": figures.get("says", "") or entry.message,
        "hint": entry.hint,
        "seconds": entry.seconds,
        "created": entry.created,
        "who": entry.who,
        "stale": stale.get(entry.number, ""),
        "params": told(operation, entry.params, notation) if notation and operation else [],
        "cut": "cut" in figures,
        "blocked": fieldbook.blocker(entry) if entry.state == "done" else "",
        **_progress(entry),
    }


def _progress(entry: Entry) -> dict:
    """Share done, rate and time left, from the work reported so far."""
    elapsed = time.time() - entry.started if entry.started else 0.0
    share = entry.done / entry.total if entry.total else 0.0
    left = elapsed * (1 - share) / share if share > 0.02 and elapsed > 0.5 else None
    rate = f"{entry.done / elapsed / 1e6:.1f} M points/s" if entry.total > 1000 and elapsed > 0.5 else ""
    return {"share": share, "left": left, "rate": rate, "label": entry.label}


def strip(job: Job) -> dict:
    """``last`` finished and ``busy`` entries, how many there are, and the job's ``state`` number, which moves
    with every change, as they were at one moment.
    """
    with database.atomic():
        return _strip(job)


def _strip(job: Job) -> dict:
    entries = Entry.select().where(Entry.job == job.row)
    waiting = {e.id for e in Entry.select(Entry.id).where((Entry.state << BUSY) & (Entry.job == job.row))}
    busy = [_row(e, {}) for e in entries.where(Entry.id << waiting).order_by(Entry.number)]
    last = entries.where(Entry.id.not_in(waiting)).order_by(Entry.number.desc()).first()
    return {
        "job": job.row,
        "count": queries.last_number(job.row.id),
        "busy": busy,
        "last": _row(last, {}) if last else None,
        "state": queries.revision(job.row.id),
    }


def book(job: Job, before: int = 0) -> dict:
    """The newest entries, or those below number ``before``, newest first; ``older`` is where more begin."""
    stale, notation = job.once("stale", lambda: fieldbook.stale(job.row)), Notation.of(job)
    found = Entry.select().where(Entry.job == job.row).order_by(Entry.number.desc())
    rows = list((found.where(Entry.number < before) if before else found).limit(PAGE + 1))
    return {
        "job": job.row,
        "entries": [_row(e, stale, notation) for e in rows[:PAGE]],
        **recipes.build(job),
        "older": rows[PAGE - 1].number if len(rows) > PAGE else 0,
    }
