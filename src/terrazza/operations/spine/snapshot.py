"""The facts of a job at one revision, read once and shared by everything that looks at them."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from typing import Any

from terrazza.db import queries
from terrazza.db.models import Job as Row
from terrazza.db.models import database

KEPT = 400  # kinds of facts, and things made from them, that stay in memory
_kept: "OrderedDict[tuple, Any]" = OrderedDict()
_latest: "OrderedDict[tuple, tuple[dict, dict]]" = OrderedDict()
_lock = threading.Lock()


class Snapshot:
    """Facts by kind and what was made from them; whoever gets something from here must not change it.

    What did not change between two revisions is shared by both.
    """

    def __init__(self, row: Row):
        self.job_id, self._job = row.id, (database.database, row.id, row.created)
        self.revision, self._kinds = queries.revisions(row.id)

    def facts(self, kind: str) -> dict:
        """Values of a kind by key, in the order of their keys."""
        return self.once("facts", lambda: self._read(kind), (kind,))

    def _read(self, kind: str) -> dict:
        """Values of a kind, those that an earlier revision had too from there."""
        before, writers = _latest.get((*self._job, kind), ({}, {}))
        with database.atomic():
            now = queries.fact_keys(self.job_id, kind)
            new = [k for k, entry in now.items() if writers.get(k) != entry or k not in before]
            some = len(new) < len(now) / 2
            values = queries.fact_values(self.job_id, kind, new if some else None)
        values = {k: values[k] if k in values else before[k] for k in sorted(now, key=_natural)}
        with _lock:
            _latest[(*self._job, kind)] = values, now
            while len(_latest) > KEPT:
                _latest.popitem(last=False)
        return values

    def once(self, what: Any, make: Callable[[], Any], of: tuple[str, ...] = ()) -> Any:
        """What ``make`` gives, made once for as long as the facts of the kinds ``of`` stay as they are, or
        (without kinds) once a revision; ``what`` names it.
        """
        at = tuple((kind, self._kinds.get(kind, 0)) for kind in of) or self.revision
        key = (*self._job, what, at)
        with _lock:
            if key in _kept:
                _kept.move_to_end(key)
                return _kept[key]
        value = make()
        if queries.revision(self.job_id) == self.revision:  # else it may have been made of newer facts
            with _lock:
                _kept[key] = value
                while len(_kept) > KEPT:
                    _kept.popitem(last=False)
        return value


def read(job_id: int, kind: str) -> dict:
    """Values of one kind by key from the database, in the order of their keys (numbers as numbers)."""
    values = queries.fact_values(job_id, kind)
    return {k: values[k] for k in sorted(values, key=_natural)}


def _natural(key: str):
    return [(0, int(p), "") if p.isdecimal() else (1, 0, p) for p in key.replace("-", "/").split("/")]
