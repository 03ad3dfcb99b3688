"""What filters have in common: their parameters, how they run on all points and are tried on a piece."""

from typing import Any, ClassVar

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.operations.clean.taking import take_out, told
from terrazza.operations.clean.trying import Piece, Tried, try_on
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.base import Figures, Operation, Params, field, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.boxes import limit_of
from terrazza.store.cloud import Cloud


def within_field() -> Any:
    """The usual limit to a part of the job."""
    return field(
        "Within",
        "",
        max_length=100,
        help="Name of a box of the table or of a drawn area, or heights as “1.2 to 1.4” (m): only what lies "
        "there may be touched; empty: everything.",
    )


def strength_field(help: str) -> Any:
    """The one number of a filter that works by itself."""
    return field("Strength", 1.0, ge=0.5, le=2.0, help=help)


class FilterParams(Params):
    scans: list[int] = scans_field()
    within: str = within_field()
    strength: float = strength_field("0.5 takes least, 2 takes most.")


class Filter(Operation):
    """A rule that says of every point of some scans whether it goes.

    ``judge`` prepares whatever the rule needs and returns ``(choose, args, common)``:
    ``choose(cloud, start, stop, args of the scan, common)`` is a module-level function that masks what goes.
    """

    step: ClassVar[str] = "Clean"
    writes: ClassVar[frozenset[str]] = frozenset({"column", "cut"})
    looks: ClassVar[frozenset[str]] = frozenset({"box", "drawing"})
    placed: ClassVar[bool] = False  # whether scans must have places
    tries = True

    def judge(self, job: Job, scans: list[Scan], params, folder: str, progress: Progress) -> tuple:
        """See the class; ``folder`` takes what is too large for memory."""
        raise NotImplementedError

    def says(self, figures: dict) -> str:
        """The sentence for the field book."""
        return f"{figures['points']:,} of {figures['of']:,} points taken out ({figures['share']:.2%})"

    def scans_of(self, job: Job, params) -> list[Scan]:
        """The scans that the filter works on."""
        placed = self.placed or bool(params.within)
        return job.need_scans(params.scans, placed=placed, why=", and this filter needs their places")

    def run(self, job: Job, params, progress: Progress) -> Figures:
        scans = self.scans_of(job, params)
        box = limit_of(job, params.within)
        with job.scratch() as folder:
            choose, args, common = self.judge(job, scans, params, folder, Part(progress, 0, 0.85))
            doubts = self.doubts
            limits = {s.id: job.grid_pose(s) for s in scans} if box is not None else {}
            own = {s.id: (args.get(s.id), limits.get(s.id)) for s in scans}
            figures = take_out(
                job, scans, limited, own, Part(progress, 0.85, 1), "Taking out", (choose, common, box)
            )
        figures["doubt"] = doubts + figures["doubt"]
        return figures | {"says": self.says(figures)}

    def preview(self, job: Job, params, piece: Piece, progress: Progress) -> Tried:
        """What the filter would take of a piece: judged by whole scans, shown and counted on the piece."""
        scans = [s for s in self.scans_of(job, params) if s.id in piece.points]
        box = limit_of(job, params.within)
        with job.scratch() as folder:
            choose, args, common = self.judge(job, scans, params, folder, Part(progress, 0, 0.8))
            limits = {s.id: job.grid_pose(s) for s in scans} if box is not None else {}
            own = {s.id: (args.get(s.id), limits.get(s.id)) for s in scans}
            tried = try_on(job, scans, piece, limited, own, (choose, common, box), Part(progress, 0.8, 1))
        return tried.with_figures(told(tried.tallies, class_namer(job)), self.doubts)

    def __init__(self):
        self.doubts: list[str] = []


def limited(cloud: Cloud, start: int, stop: int, args, common) -> np.ndarray:
    """Mask of what a rule takes of a stretch within the working box."""
    (own, pose), (choose, rest, box) = args, common
    mask = choose(cloud, start, stop, own, rest)
    if box is not None:
        xyz = cloud.xyz(start, stop)
        mask &= box.holds(xyz @ pose[:3, :3].T + pose[:3, 3])
    return mask
