"""The field book: the strip with the last and the running entry, and the whole list."""

import time

from terrazza.db import queries
from terrazza.db.models import Entry
from terrazza.operations.spine import fieldbook
from terrazza.operations.spine.base import find
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation
from terrazza.web.contexts.forms import told

BUSY = ("queued", "running")


def _row(entry: Entry, stale: dict, notation: Notation | None = None) -> dict:
    operation = find(entry.operation)
    figures = entry.figures or {}
    return {
        "number": entry.number,
        "operation": entry.operation,
        "title": operation.title,
        "step": operation.step.lower(),
        "state": entry.state,
        "says": figures.get("says", "") or entry.message,
        "hint": entry.hint,
        "seconds": entry.seconds,
        "created": entry.created,
        "who": entry.who,
        "stale": stale.get(entry.number, ""),
        "params": told(operation, entry.params, notation) if notation else [],
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
    with every change.
    """
    entries = Entry.select().where(Entry.job == job.row)
    busy = [_row(e, {}) for e in entries.where(Entry.state << BUSY).order_by(Entry.number)]
    last = entries.where(Entry.state.not_in(BUSY)).order_by(Entry.number.desc()).first()
    return {
        "job": job.row,
        "count": entries.count(),
        "busy": busy,
        "last": _row(last, {}) if last else None,
        "state": queries.state_version(job.row.id),
    }


def book(job: Job) -> dict:
    """Every entry, newest first."""
    stale, notation = fieldbook.stale(job.row), Notation.of(job)
    return {
        "job": job.row,
        "entries": [
            _row(e, stale, notation)
            for e in Entry.select().where(Entry.job == job.row).order_by(Entry.number.desc())
        ],
    }
