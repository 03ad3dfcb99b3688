"""What a deliverable holds: the chosen points, gathered in pieces, and the end of every delivery."""

import contextlib
import os

from terrazza.core.progress import QUIET, Part, Progress
from terrazza.operations.deliver import comparing, verifying
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Portion, Selection
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job

COMPARED = 200_000  # points that are compared at once


@contextlib.contextmanager
def chosen_of(job: Job, params: PointParams, progress: Progress, placed: bool = True, own: bool = False):
    """The selection of a deliverable, thinned, with the progress that is left for writing it; it remembers a
    sample of its points (with ``own`` in the frames of their scans) for the file to be read back.
    """
    chosen = Selection(job, params, placed)
    thins = bool(params.spacing or params.cell or params.most)
    with job.scratch() as folder:
        if thins:
            chosen.thin(folder, Part(progress, 0, 0.5, chosen.points))
        chosen.need_points()
        chosen.witnesses = verifying.witnesses(job, chosen, own) if params.verify else []
        chosen.own = own
        yield chosen, Part(progress, 0.5 * thins, 1.0, chosen.points)


def delivered(
    job: Job, chosen: Selection, path: str, form: str, what: str, step: float, columns=(), compared=None
) -> Figures:
    """Read a finished file back where that is wanted, and enter it into the deliverables; its figures.
    ``step`` (m) is its smallest step of a coordinate, ``columns`` those of text.  ``compared(path)`` compares
    every value in forms that have an order of their own.
    """
    figures: Figures = {}
    if chosen.witnesses:
        figures["verified"] = verifying.verify(path, chosen.points, chosen.witnesses, form, step)
    if chosen.params.verify_all:
        if compared is None:
            wanted = _all(job, chosen)
            eight = chosen.params.depth == "8 bit"
            figures["compared"] = comparing.compare(path, form, wanted, step, columns, eight)
        else:
            figures["compared"] = compared(path)
    job.deliver(
        path, format=form, points=chosen.points, read_back=bool(chosen.witnesses or chosen.params.verify_all)
    )
    size = os.path.getsize(path)
    told = ", read back" if chosen.witnesses else ", not read back"
    told = ", every value read back" if chosen.params.verify_all else told
    return figures | {
        "says": f"{chosen.points:,} {what}, {size / 1e6:.1f} MB{told}",
        "path": path,
        "points": chosen.points,
        "bytes": size,
        "classes": chosen.by_class(),
        "system": "job" if chosen.target.local else (chosen.target.crs or {}).get("name", ""),
        "doubt": list(chosen.target.doubts),
    }


def _all(job: Job, chosen: Selection):
    """All points as they leave, in the order in which they were written."""
    for scan in chosen.scans if chosen.own else [None]:
        scans = None if scan is None else [scan]
        for chunks in pieces_of(job, chosen, _plain, chosen.own, QUIET, COMPARED, scans):
            yield from chunks


def _plain(portion: Portion, own: bool, progress: Progress) -> list[dict]:
    return portion.chunks(progress, own)


def pieces_of(job: Job, chosen: Selection, encode, common, progress: Progress, size: int, scans=None):
    """What ``encode(portion, common, progress)`` makes of the chosen points, portion after portion, by the
    fleet.
    """
    portions = chosen.portions(size, scans)
    name = (
        chosen.scans[0].name
        if len(chosen.scans) == 1
        else f"{len(chosen.scans)} scans"
        if scans is None
        else scans[0].name
    )
    return job.fleet.each(
        encode, portions, [p.points for p in portions], progress, f"Writing {name}", common, light=True
    )
