"""What runs by itself after what somebody asked for, as long as it is known to be short."""

from terrazza.db import queries
from terrazza.db.models import Change, Entry, database
from terrazza.db.models import Job as Row
from terrazza.operations.spine import course
from terrazza.operations.spine.base import find, known
from terrazza.operations.spine.fieldbook import enter
from terrazza.operations.spine.reach import PAGE

SHORT = 10.0  # s: what takes longer is asked for by hand
ITSELF = "by itself"


def follow(row: Row) -> Entry | None:
    """The entry, queued, of what follows the last entry of a job by itself; None where nothing does, it is
    not known to be short, the last changed nothing, or other work waits.

    What was undone is not run again: the last entry is then another one.
    """
    with database.atomic("IMMEDIATE"):
        last = Entry.select().where(Entry.job == row).order_by(Entry.number.desc()).first()
        if last is None or last.state != "done" or last.who != PAGE or not known(last.operation):
            return None
        name = find(last.operation).then
        if not name or not Change.select().where(Change.entry == last).exists():
            return None
        if course.under_way(row):  # its steps say what is adjusted, and when
            return None
        busy = Entry.select().where(Entry.job == row, Entry.state.in_(["queued", "running"])).exists()
        if busy or find(name).expected(queries.last_entries(row.id)) > SHORT:
            return None
        return enter(row, name, {}, ITSELF)
