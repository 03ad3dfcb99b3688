"""Take out mixed pixels."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

mixed = later("terrazza.core.clean.mixed")

SAME = 1e-4  # share of its range that a point may be off its pixel's, where several share one


class MixedParams(FilterParams):
    strength: float = strength_field(
        "How sure it has to be: 2 takes points half as far from a surface as 1, 0.5 only those twice as far."
    )


@operation
class MixedPixels(Filter):
    """Takes points that a beam measured between two surfaces because it met the edge of the nearer one; thin
    things and true edges stay.
    """

    name, title = "clean.mixed_pixels", "Mixed-pixel filter"
    reads = frozenset({"scan", "walk"})
    Params = MixedParams

    def judge(self, job: Job, scans: list[Scan], params: MixedParams, folder: str, progress: Progress):
        args = {
            s.id: [
                (frame, range_pictures.scratch_name(folder, s.id, k, "mixed"))
                for k, frame in enumerate(range_pictures.frames(job, s))
                if not frame.times
            ]
            for s in scans
        }
        self.doubts += [
            f"“{s.name}” was not taken from one place: its mixed pixels were not judged."
            for s in scans
            if not args[s.id]
        ]
        tasks = [(CloudPiece.of(job, s), *of, params.strength) for s in scans for of in args[s.id]]
        sizes = [s.points / len(args[s.id]) for s in scans for _ in args[s.id]]
        job.fleet.map(judged, tasks, sizes, progress, "Looking for edges", light=True)
        return between, args, None


def judged(task, progress: Progress) -> None:
    """Judge the pixels of one picture and keep the ranges of the mixed ones, 0 elsewhere, beside it."""
    piece, frame, path, strength = task
    picture = range_pictures.fill(piece, frame, path, progress)
    state = mixed.judge(picture, frame.wrap, strength)
    picture[state != mixed.MIXED] = 0
    picture.flush()


def between(cloud: Cloud, start: int, stop: int, args, _) -> np.ndarray:
    """Mask of the points of a stretch whose pixels are mixed."""
    gone = np.zeros(stop - start, bool)
    for frame, path in args or ():
        ranges = np.load(path, mmap_mode="r").reshape(-1)
        pixel, r, there = frame.place(cloud, start, stop)
        gone |= there & (np.abs(ranges[pixel] - r) <= np.maximum(SAME * r, 1e-6))
    return gone
