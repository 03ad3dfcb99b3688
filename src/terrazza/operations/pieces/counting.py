"""Points by class before and after, and thinned points to classify by."""

from collections.abc import Callable

import numpy as np

from terrazza.core.classify import classes
from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job

with later():
    from terrazza.core.geometry import voxels

_tallies: dict[tuple, np.ndarray] = {}


def class_counts(job: Job) -> dict[int, int]:
    """Kept points by class over all scans."""
    return dict(job.once("class counts", lambda: _counted(job), ("scan", "column")))


def _counted(job: Job) -> dict[int, int]:
    counts = np.zeros(256, np.int64)
    for scan in job.scans():
        counts += _tally(CloudPiece.of(job, scan))
    return {c: int(n) for c, n in enumerate(counts) if n}


def _tally(piece: CloudPiece) -> np.ndarray:
    """Kept points of one scan by class (256,); remembered as long as its classes and cuts are the same."""
    cloud = piece.open()
    key = (
        piece.folder,
        *(tuple(piece.pointers.get(c, ())) for c in ("position", "class", "cut")),
        str(cloud.columns.constants.get("class")),
    )
    if key not in _tallies:
        if len(_tallies) > 5000:
            _tallies.clear()
        _tallies[key] = sum(
            (
                np.bincount(cloud.values("class", 0, *b)[cloud.kept(*b)], minlength=256)
                for b in cloud.blocks()
            ),
            np.zeros(256, np.int64),
        )
    return _tallies[key]


def class_namer(job: Job) -> Callable[[int], str]:
    """What the job calls a class: its own names of codes from 64 on, standard ones otherwise."""
    own = own_names(job)
    return lambda code: own.get(code) or classes.name(code)


def own_names(job: Job) -> dict[int, str]:
    """The names that the job has for codes of its own."""
    return {int(code): value["name"] for code, value in job.facts("class_name").items()}


def named_classes(job: Job) -> tuple[tuple[int, str], ...]:
    """Codes with names that are not standard ones, as LAS keeps them: the job's own and those by kind that
    it has.
    """
    own, there = own_names(job), class_counts(job)
    by_kind = {c: n for c, n in classes.NAMES.items() if c >= classes.OWN and c in there}
    return tuple(sorted((by_kind | own).items()))


def choosable(job: Job) -> list[int]:
    """Codes that stand for something: standard ones and the job's own, in order."""
    standard = (code for code, name in classes.NAMES.items() if name != "Reserved")
    return sorted({*standard, *own_names(job)})


def before_after(job: Job, before: dict[int, int]) -> dict:
    after, name = class_counts(job), class_namer(job)
    rows = [
        {
            "code": c,
            "name": name(c),
            "before": before.get(c, 0),
            "after": after.get(c, 0),
            "share": after.get(c, 0) / max(sum(after.values()), 1),
        }
        for c in sorted(set(before) | set(after))
    ]
    return {"classes": rows}


def _thin(args, progress: Progress) -> np.ndarray:
    """Kept points of one scan (of one class, where given) in the job frame, one a cell, gathered block by
    block.
    """
    piece, pose, cell, code = args
    cloud, parts = piece.open(), [np.zeros((0, 3))]
    for start, stop in cloud.blocks():
        use = cloud.kept(start, stop)
        if code is not None:
            use &= cloud.values("class", 0, start, stop) == code
        xyz = rigid.apply(pose, cloud.xyz(start, stop)[use])
        parts.append(xyz[voxels.one_per_cell(xyz, cell)] if len(xyz) else xyz)
        progress.advance(stop, cloud.count)
    merged = np.concatenate(parts)
    return merged[voxels.one_per_cell(merged, cell)] if len(merged) else merged


def thinned(job: Job, scans, cell: float, progress: Progress, code: int | None = None) -> np.ndarray:
    """Kept points of placed scans (of one class, where ``code`` is given) in the job frame, one a cell of
    ``cell`` metres.
    """
    merged = np.concatenate(
        job.fleet.map(
            _thin,
            [(CloudPiece.of(job, s), s.pose, cell, code) for s in scans],
            [s.points for s in scans],
            progress,
            "Thinning",
            light=True,
        )
    )
    return merged[voxels.one_per_cell(merged, cell)] if len(merged) else merged
