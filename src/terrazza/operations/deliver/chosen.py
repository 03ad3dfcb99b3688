"""What a deliverable holds: the chosen points, gathered in pieces, and the end of every delivery."""

import contextlib
import os

from terrazza.core.progress import Part, Progress
from terrazza.operations.deliver import verifying
from terrazza.operations.pieces.selection import PointParams, Selection
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job


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
        yield chosen, Part(progress, 0.5 * thins, 1.0, chosen.points)


def delivered(job: Job, chosen: Selection, path: str, form: str, what: str, step: float) -> Figures:
    """Read a finished file back where that is wanted, and enter it into the deliverables; its figures.
    ``step`` (m) is its smallest step of a coordinate.
    """
    figures: Figures = {}
    if chosen.witnesses:
        figures["verified"] = verifying.verify(path, chosen.points, chosen.witnesses, form, step)
    job.deliver(path, format=form, points=chosen.points, read_back=bool(chosen.witnesses))
    size = os.path.getsize(path)
    told = ", read back" if chosen.witnesses else ", not read back"
    return figures | {
        "says": f"{chosen.points:,} {what}, {size / 1e6:.1f} MB{told}",
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
