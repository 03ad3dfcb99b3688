"""Taking points out: a cut of chosen points over scans, and what it cost by range and class."""

from collections.abc import Callable

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import outliers

MOST_CUTS = 65_535  # numbers that the column of cuts can hold
FAR, NEAR = 10.0, 5.0  # m: a filter that takes more beyond the one than within the other is told of
TIMES, WORTH = 3.0, 0.01  # as how many times as large a share, and of which share on


def take_out(
    job: Job, scans: list[Scan], choose, args: dict, progress: Progress, label: str, common=None
) -> dict:
    """Write the cut of this entry: ``choose(cloud, start, stop, args, common)`` gives a mask of what goes.
    Points already cut, or on a shelf that is apart, stay as they are.

    Returns the common figures: ``cut`` (its number), ``points`` taken, ``of`` kept before, ``share``,
    per-scan ``rows``, ``by_range``, ``by_class`` and ``doubt``.
    """
    number = job.next_number("cut")
    if number > MOST_CUTS:
        raise ParamsError(f"This job has had {MOST_CUTS:,} cuts.", "Start a new job from what is left of it.")
    own = {s.id: (number, choose, args.get(s.id)) for s in scans}
    found = portions.rewrite(job, scans, "cut", _cut, own, progress, label, common)
    tallies = {s.id: sum_up(found[s.id]) for s in scans}
    rows = [
        {"scan": s.id, "name": s.name, "of": int(of), "points": int(points)}
        for s in scans
        for of, points in [tallies[s.id][0].sum(0)]
    ]
    figures = told([tallies[s.id] for s in scans], class_namer(job))
    job.put(
        "cut",
        number,
        {
            "points": figures["points"],
            "of": figures["of"],
            "scans": [r["scan"] for r in rows if r["points"]],
            "entry": job.entry.number,
        },
    )
    return {"cut": number, "rows": rows, **figures}


def _cut(cloud: Cloud, start: int, stop: int, args, common):
    number, choose, own = args
    cut = np.array(cloud.values("cut", 0, start, stop), np.uint16)
    free = cloud.kept(start, stop)
    gone = choose(cloud, start, stop, own, common) & free
    cut[gone] = number
    return (cut if gone.any() else None), tally(cloud, start, stop, free, gone)


def tally(cloud: Cloud, start: int, stop: int, free: np.ndarray, gone: np.ndarray, index=None):
    """Counts of points (column 0) and of those taken (1): by band of range (bands, 2), by class (256, 2).
    With ``index`` the points are those, not a stretch.
    """
    xyz = cloud.xyz(start, stop) if index is None else cloud.at(index)
    band = np.searchsorted(outliers.BANDS[1:-1], np.linalg.norm(xyz, axis=1), side="right")
    if not cloud.has("class"):
        code = np.zeros(len(xyz), np.uint8)
    else:
        code = np.asarray(cloud.read("class", start, stop) if index is None else cloud.pick("class", index))
    count = lambda what, use, most: np.bincount(what[use], minlength=most)
    bands, most = len(outliers.BANDS) - 1, 256
    return (
        np.stack([count(band, free, bands), count(band, gone, bands)], 1),
        np.stack([count(code, free, most), count(code, gone, most)], 1),
    )


def sum_up(tallies: list) -> tuple[np.ndarray, np.ndarray]:
    """The tallies of several stretches together."""
    if not tallies:
        return np.zeros((len(outliers.BANDS) - 1, 2), np.int64), np.zeros((256, 2), np.int64)
    return sum(t[0] for t in tallies), sum(t[1] for t in tallies)


def told(tallies: list, name: Callable[[int], str]) -> dict:
    """Figures of what a rule takes: ``points``, ``taken`` (the same), ``of``, ``share``, ``by_range``,
    ``by_class`` and ``doubt``, sentences where it takes more of what is far than of what is near.
    """
    by_band, by_code = sum_up(tallies)
    of, points = (int(v) for v in by_band.sum(0))
    edges = outliers.BANDS
    by_range = [
        {
            "from_m": float(low),
            "to_m": None if high > 1e8 else float(high),
            "points": int(n),
            "taken": int(k),
        }
        for low, high, (n, k) in zip(edges[:-1], edges[1:], by_band.tolist())
        if n
    ]
    kinds = [
        {"code": code, "name": name(code), "points": int(n), "taken": int(k)}
        for code, (n, k) in enumerate(by_code.tolist())
        if n
    ]
    return {
        "points": points,
        "taken": points,
        "of": of,
        "share": points / of if of else 0.0,
        "by_range": by_range,
        "by_class": kinds,
        "doubt": _doubts(by_range, kinds),
    }


def _doubts(by_range: list[dict], kinds: list[dict]) -> list[str]:
    share = lambda rows: sum(r["taken"] for r in rows) / max(sum(r["points"] for r in rows), 1)
    near = [r for r in by_range if r["from_m"] < NEAR]
    out = []
    for row in by_range:
        if row["from_m"] >= FAR and row["points"] > 500 and near:
            if share([row]) > max(TIMES * share(near), WORTH):
                out.append(
                    f"From {row['from_m']:g} m on it takes {share([row]):.1%}, of what is near "
                    f"{share(near):.1%}: look whether far surfaces thin out."
                )
                break
    whole = share(kinds)
    for row in kinds:
        if row["code"] > 1 and row["points"] > 500 and share([row]) > max(4 * TIMES * whole, 10 * WORTH):
            out.append(f"Of {row['name']} it takes {share([row]):.1%}, of all {whole:.1%}.")
    return out


def spread(args, progress: Progress) -> "outliers.Spread":
    """What is usual among the measured distances of one stretch of a scan."""
    piece, start, stop, path = args
    cloud, distance = piece.open(), np.load(path, mmap_mode="r")[start:stop]
    known = ~np.isnan(distance)
    return outliers.Spread().add(
        np.asarray(distance)[known], np.linalg.norm(cloud.xyz(start, stop)[known], axis=1)
    )
