"""Step 4, Clean: filters and outlines take points out as cuts; each cut can be put back by itself."""

from typing import Annotated

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import NotFound, ParamsError
from terrazza.later import later
from terrazza.operations import blocks
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job, Scan
from terrazza.operations.surfaces import CloudPiece
from terrazza.operations.table import working_box
from terrazza.store.cloud import Cloud

neighbours = later("terrazza.operations.neighbours")
outline = later("terrazza.core.clean.outline")
outliers = later("terrazza.core.clean.outliers")


def take_out(
    job: Job, scans: list[Scan], choose, args: dict, progress: Progress, label: str, common=None
) -> dict:
    """Write the cut of this entry: ``choose(cloud, start, stop, args, common)`` gives a mask of what goes,
    and a tally of its own.  Points already cut stay with their cut.

    Returns the common figures: ``cut`` (its number), ``points`` taken, ``of`` kept before, per-scan ``rows``;
    and ``tallies`` (of ``choose``).
    """
    number = job.entry.number
    if number > 65535:
        raise ParamsError("This field book has more than 65,535 entries.", "Start a new job from a backup.")
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
    job.put("cut", number, {"points": points, "of": of, "scans": [r["scan"] for r in rows if r["points"]]})
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


def _spread(args, progress: Progress) -> "outliers.Spread":
    """What is usual among the measured distances of one stretch of a scan."""
    piece, start, stop, path = args
    cloud, distance = piece.open(), np.load(path, mmap_mode="r")[start:stop]
    known = ~np.isnan(distance)
    return outliers.Spread().add(
        np.asarray(distance)[known], np.linalg.norm(cloud.xyz(start, stop)[known], axis=1)
    )


def _lonely(cloud: Cloud, start: int, stop: int, args, limits):
    """Mask of points whose neighbours are too far, and the loss by range; ``limits`` by scan, or
    one for all.
    """
    path, key = args
    limits = limits[key]
    distance = np.asarray(np.load(path, mmap_mode="r")[start:stop])
    known = ~np.isnan(distance)
    ranges = np.linalg.norm(cloud.xyz(start, stop), axis=1)
    with np.errstate(invalid="ignore"):
        gone = outliers.beyond(distance, ranges, limits) if isinstance(limits, dict) else distance > limits
    gone &= known
    return gone, outliers.loss_by_range(ranges[known], gone[known])


class OutlierParams(Params):
    scans: list[int] = scans_field()
    neighbours: int = field("Neighbours", 4, help="How many nearest neighbours are measured.", ge=1, le=200)
    deviations: float = field(
        "Strength",
        2.2,
        unit="σ",
        help="A point goes when its mean neighbour distance is beyond this many standard deviations; smaller "
        "takes more.",
        ge=0.1,
        le=20,
    )
    by_range: bool = field(
        "Judge by range",
        True,
        help="Compare each point with what is usual at its range, so that far points, sparse by nature, "
        "stay; at most 1.2 % of any range band goes.",
    )
    over_all: bool = field(
        "Neighbours over all scans",
        False,
        help="Off: each scan for itself, so that a person seen once is no outlier merely by being seen once.",
    )


@operation
class Outliers(Operation):
    """Statistical outlier filter: takes points whose nearest neighbours are unusually far."""

    name, title, step = "clean.outliers", "Outlier filter", "Clean"
    reads, writes = frozenset({"scan"}), frozenset({"column", "cut"})
    Params = OutlierParams

    def run(self, job: Job, params: OutlierParams, progress: Progress) -> Figures:
        scans = job.need_scans(
            params.scans, placed=params.over_all, why=", and neighbours over all scans need places"
        )
        limits_of: dict = {}
        with job.scratch() as folder:
            paths = neighbours.distances(
                job, scans, params.neighbours, params.over_all, folder, Part(progress, 0, 0.8)
            )
            pieces = [
                (CloudPiece.of(job, s), start, stop, paths[s.id])
                for s in scans
                for start, stop in job.cloud(s.id).blocks()
            ]
            found = job.fleet.map(
                _spread,
                pieces,
                [p[2] - p[1] for p in pieces],
                Part(progress, 0.8, 0.85),
                "What is usual",
                light=True,
            )
            for piece, one in zip(pieces, found):
                key = "" if params.over_all else piece[3]
                limits_of[key] = limits_of[key].merge(one) if key in limits_of else one
            args = {s.id: (paths[s.id], "" if params.over_all else paths[s.id]) for s in scans}
            limits = {
                k: v.limits_by_range(params.deviations) if params.by_range else v.limit(params.deviations)
                for k, v in limits_of.items()
            }
            figures = take_out(job, scans, _lonely, args, Part(progress, 0.85, 1), "Taking out", limits)
        by_range: dict[float, dict] = {}
        for row in (row for rows in figures.pop("tallies") for row in rows):
            band = by_range.setdefault(row["from_m"], row | {"points": 0, "taken": 0})
            band["points"], band["taken"] = band["points"] + row["points"], band["taken"] + row["taken"]
        return figures | {
            "says": f"{figures['points']:,} of {figures['of']:,} points taken out ({figures['share']:.2%})",
            "by_range": [by_range[k] for k in sorted(by_range)],
        }


Row4 = Annotated[list[float], Field(min_length=4, max_length=4)]
Pair = Annotated[list[float], Field(min_length=2, max_length=2)]


class OutlineParams(Params):
    view: list[Row4] = field(
        "View",
        help="4×4, row by row: job frame to the screen the outline was drawn on.",
        min_length=4,
        max_length=4,
    )
    polygon: list[Pair] = field(
        "Outline",
        help="Its corners in screen units (−1 to 1), at least three.",
        min_length=3,
        max_length=5000,
    )
    outside: bool = field("Take the outside", False, help="Off: what lies inside goes.")
    slab: list[float] = field(
        "Slab",
        list,
        unit="m",
        help="Lowest and highest height (in the grid where there is one) that may be touched; empty: all.",
        max_length=2,
    )
    within: str = field(
        "Working box",
        "",
        max_length=100,
        help="Name of a box of the table: only what it shows may be touched; empty: everything.",
    )
    scans: list[int] = scans_field("Empty: all placed scans.")
    classes: list[int] = field("Classes", list, help="Only points of these classes; empty: all.")


@operation
class Outline(Operation):
    """Takes what lies inside (or outside) an outline drawn on a view, limited by the slab when
    one is shown.
    """

    name, title, step = "clean.outline", "Outline", "Clean"
    reads, writes = frozenset({"scan", "pose"}), frozenset({"column", "cut"})
    bound_to_place = True
    Params = OutlineParams

    def run(self, job: Job, params: OutlineParams, progress: Progress) -> Figures:
        view, polygon = np.array(params.view), np.array(params.polygon)
        slab = tuple(sorted(params.slab)) if len(params.slab) == 2 else None
        scans = job.need_scans(params.scans, placed=True)
        figures = take_out(
            job,
            scans,
            outlined,
            {s.id: s.pose for s in scans},
            progress,
            "Looking through the points",
            (view, polygon, slab, job.frame, params.outside, params.classes, working_box(job, params.within)),
        )
        figures.pop("tallies")
        return figures | {
            "says": f"{figures['points']:,} points {'outside' if params.outside else 'inside'} the outline "
            "taken out"
        }


def outlined(cloud: Cloud, start: int, stop: int, pose, common):
    """Mask of a stretch of points that an outline takes, and no tally; ``common`` is (view, polygon, slab,
    frame, outside, classes, working box).
    """
    view, polygon, slab, frame, outside, classes, box = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    mask = outline.select(xyz, view, polygon, None, outside)
    if slab is not None:
        height = rigid.apply(frame, xyz)[:, 2]
        mask &= (height >= slab[0]) & (height <= slab[1])
    if box is not None:
        mask &= box.holds(rigid.apply(frame, xyz))
    if classes:
        mask &= np.isin(cloud.values("class", 0, start, stop), classes)
    return mask, None


class PutBackParams(Params):
    cut: int = field(
        "Cut", help="Its number, which is the number of the field-book entry that took the points.", ge=1
    )


@operation
class PutBack(Operation):
    """Puts the points of one cut back, alone; later cuts stay as they are."""

    name, title, step = "clean.put_back", "Put a cut back", "Clean"
    writes = frozenset({"column", "cut"})
    bound_to_place = True
    Params = PutBackParams

    def run(self, job: Job, params: PutBackParams, progress: Progress) -> Figures:
        if job.get("cut", params.cut) is None:
            raise NotFound(
                f"There is no cut {params.cut}, or it is back already.",
                f"Cuts are {', '.join(job.facts('cut')) or 'none'}.",
            )
        scans = [s for s in job.scans() if job.cloud(s.id).has("cut")]
        found = blocks.rewrite(
            job, scans, "cut", _uncut, {s.id: params.cut for s in scans}, progress, "Putting points back"
        )
        points = sum(sum(tally) for tally in found.values())
        job.put("cut", params.cut, None)
        job.mark(params.cut, "undone")
        return {"says": f"Cut {params.cut} put back: {points:,} points", "points": points, "forgotten": True}


def _uncut(cloud: Cloud, start: int, stop: int, number: int, _):
    cut = np.array(cloud.read("cut", start, stop))
    mine = cut == number
    cut[mine] = 0
    return (cut if mine.any() else None), int(mine.sum())
