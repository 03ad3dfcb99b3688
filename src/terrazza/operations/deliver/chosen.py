"""What a deliverable holds: the chosen points, gathered in pieces, and the end of every delivery."""

import contextlib
import os

from terrazza.core.progress import Part, Progress
from terrazza.operations.pieces.selection import PointParams, Selection
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job


@contextlib.contextmanager
def chosen_of(job: Job, params: PointParams, progress: Progress, placed: bool = True):
    """The selection of a deliverable, thinned, with the progress that is left for writing it."""
    chosen = Selection(job, params, placed)
    thins = bool(params.spacing or params.cell or params.most)
    with job.scratch() as folder:
        if thins:
            chosen.thin(folder, Part(progress, 0, 0.5, chosen.points))
        chosen.need_points()
        yield chosen, Part(progress, 0.5 * thins, 1.0, chosen.points)


def delivered(job: Job, chosen: Selection, path: str, form: str, what: str) -> Figures:
    """Enter a finished file into the deliverables; its figures."""
    job.deliver(path, format=form, points=chosen.points)
    size = os.path.getsize(path)
    return {
        "says": f"{chosen.points:,} {what}, {size / 1e6:.1f} MB",
        "path": path,
        "points": chosen.points,
        "bytes": size,
        "classes": chosen.by_class(),
    }


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
