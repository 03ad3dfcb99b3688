"""Take out mixed pixels."""

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.clean import mixed_walks
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import mixed

SAME = 1e-4  # share of its range that a point may be off its pixel's, where several share one


class MixedParams(FilterParams):
    strength: float = strength_field(
        "How sure it has to be: 2 takes points half as far from a surface as 1, 0.5 only those twice as far."
    )


@operation
class MixedPixels(Filter):
    """Takes points that a beam measured between two surfaces because it met the edge of the nearer one; thin
    things and true edges stay.  Points of walks are judged by rays to where the scanner was, and by
    what was seen there again from elsewhere.
    """

    name, title = "clean.mixed_pixels", "Mixed-pixel filter"
    reads = frozenset({"scan", "walk", "array"})
    Params = MixedParams

    def judge(self, job: Job, scans: list[Scan], params: MixedParams, folder: str, progress: Progress):
        ways = {s.id: way for s in scans if (way := mixed_walks.way_of(job, s)) is not None}
        pictures = {
            s.id: [
                (frame, range_pictures.scratch_name(folder, s.id, k, "mixed"))
                for k, frame in enumerate(range_pictures.frames(job, s))
            ]
            for s in scans
            if s.id not in ways
        }
        self.doubts += [
            f"“{s.name}” was not taken from one place: its mixed pixels were not judged."
            for s in scans
            if s.id not in ways and not pictures[s.id]
        ]
        tasks = [
            (CloudPiece.of(job, job.scan(k)), *one, params.strength)
            for k, of in pictures.items()
            for one in of
        ]
        sizes = [job.scan(k).points / len(of) for k, of in pictures.items() for _ in of]
        walked = sum(s.points for s in scans if s.id in ways) / max(sum(s.points for s in scans), 1)
        job.fleet.map(judged, tasks, sizes, Part(progress, 0, 1 - walked), "Looking for edges", light=True)
        of_walks = mixed_walks.judge(job, ways, params.strength, folder, Part(progress, 1 - walked, 1))
        return between, pictures | of_walks, None


def judged(task, progress: Progress) -> None:
    """Judge the pixels of one picture and keep the ranges of the mixed ones, 0 elsewhere, beside it."""
    piece, frame, path, strength = task
    picture = range_pictures.fill(piece, frame, path, progress)
    state = mixed.judge(picture, frame.wrap, strength)
    picture[state != mixed.MIXED] = 0
    picture.flush()


def between(cloud: Cloud, start: int, stop: int, args, _) -> np.ndarray:
    """Mask of the points of a stretch whose pixels are mixed."""
    if isinstance(args, tuple):
        return mixed_walks.between(cloud, start, stop, args)
    gone = np.zeros(stop - start, bool)
    for frame, path in args or ():
        ranges = np.load(path, mmap_mode="r").reshape(-1)
        pixel, r, there = frame.place(cloud, start, stop)
        gone |= there & (np.abs(ranges[pixel] - r) <= np.maximum(SAME * r, 1e-6))
    return gone
