"""How long writing will take, from what it took before in this job, or from what was measured once."""

import statistics

from terrazza.db.models import Entry
from terrazza.operations.spine.job import Job

START = 2.0  # s: processes and compiled code
FEWEST = 20_000  # points from which a run tells a rate
LAST = 5  # runs that are looked at
# µs a point on two cores, with reading back; see docs/performance.md
FIRST = {
    "deliver.laz": 0.6,
    "deliver.las": 0.4,
    "deliver.copc": 1.4,
    "deliver.ply": 0.5,
    "deliver.e57": 0.8,
    "deliver.xyz": 2.5,
    "deliver.pts": 2.5,
    "deliver.ptx": 3.0,
    "deliver.handover": 2.0,
}


def seconds(job: Job, operation: str, points: int) -> float | None:
    """Seconds that writing so many points will take, about; None where nothing is known."""
    past = (
        Entry.select()
        .where((Entry.job == job.row) & (Entry.operation == operation) & (Entry.state == "done"))
        .order_by(Entry.number.desc())
        .limit(LAST)
    )
    rates = [
        max(e.seconds - START, 0.05) / e.figures["points"]
        for e in past
        if e.seconds and (e.figures or {}).get("points", 0) >= FEWEST
    ]
    rate = statistics.median(rates) if rates else FIRST.get(operation, 0) * 1e-6
    return START + rate * points if rate else None
