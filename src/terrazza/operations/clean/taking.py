"""Taking points out: a cut of chosen points over scans, and the loss by range."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.pieces import blocks
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

outliers = later("terrazza.core.clean.outliers")

MOST_CUTS = 65_535  # numbers that the column of cuts can hold


def take_out(
    job: Job, scans: list[Scan], choose, args: dict, progress: Progress, label: str, common=None
) -> dict:
    """Write the cut of this entry: ``choose(cloud, start, stop, args, common)`` gives a mask of what goes,
    and a tally of its own.  Points already cut stay with their cut.

    Returns the common figures: ``cut`` (its number), ``points`` taken, ``of`` kept before, per-scan ``rows``;
    and ``tallies`` (of ``choose``).
    """
    number = job.next_number("cut")
    if number > MOST_CUTS:
        raise ParamsError(f"This job has had {MOST_CUTS:,} cuts.", "Start a new job from what is left of it.")
    found = blocks.rewrite(
        job,
        scans,
        "cut",
        _cut,
        {s.id: (number, choose, args.get(s.id)) for s in scans},
        progress,
        label,
        common,
    )
    rows = [
        {
            "scan": s.id,
            "name": s.name,
            "of": sum(t[0] for t in found[s.id]),
            "points": sum(t[1] for t in found[s.id]),
        }
        for s in scans
    ]
    points, of = sum(r["points"] for r in rows), sum(r["of"] for r in rows)
    about = {"points": points, "of": of, "scans": [r["scan"] for r in rows if r["points"]]}
    job.put("cut", number, about | {"entry": job.entry.number})
    return {
        "cut": number,
        "points": points,
        "of": of,
        "share": points / of if of else 0.0,
        "rows": rows,
        "tallies": [t[2] for s in scans for t in found[s.id]],
    }


def _cut(cloud: Cloud, start: int, stop: int, args, common):
    number, choose, own = args
    cut = cloud.values("cut", 0, start, stop).astype(np.uint16)
    free = cut == 0
    gone, tally = choose(cloud, start, stop, own, common)
    gone &= free
    cut[gone] = number
    return (cut if gone.any() else None), (int(free.sum()), int(gone.sum()), tally)


def spread(args, progress: Progress) -> "outliers.Spread":
    """What is usual among the measured distances of one stretch of a scan."""
    piece, start, stop, path = args
    cloud, distance = piece.open(), np.load(path, mmap_mode="r")[start:stop]
    known = ~np.isnan(distance)
    return outliers.Spread().add(
        np.asarray(distance)[known], np.linalg.norm(cloud.xyz(start, stop)[known], axis=1)
    )
