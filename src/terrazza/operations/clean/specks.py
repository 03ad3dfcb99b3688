"""Take out specks."""

from itertools import groupby

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import specks

AT_ONCE = 2_000_000  # points of a piece
PIXELS = 3.0  # steps from point to point that a cell is wide


class SpecksParams(FilterParams):
    strength: float = strength_field("Multiplies both numbers: 2 takes clusters twice as large.")
    fewest: int = field("Fewer than", 10, unit="points", ge=2, le=100_000, help="Smaller clusters go.")
    smallest: float = field("Smaller than", 0.05, unit="m", ge=0, le=100, help="Across; 0: of any size.")


@operation
class Specks(Filter):
    """Takes small clusters of points with nothing around them: dust, rain, drips, birds."""

    name, title = "clean.specks", "Speck filter"
    reads = frozenset({"scan", "walk"})
    Params = SpecksParams

    def judge(self, job: Job, scans: list[Scan], params: SpecksParams, folder: str, progress: Progress):
        limits = params.fewest * params.strength, params.smallest * params.strength
        tasks, scan_of, args = [], [], {}
        for scan in scans:
            step, seen = _step(job, scan)
            path = range_pictures.scratch_name(folder, scan.id, 0, "specks")
            args[scan.id] = (step, seen, path)
            for run in _runs(job.cloud(scan.id)):
                tasks.append((CloudPiece.of(job, scan), step, seen, run))
                scan_of.append(scan.id)
        sizes = [sum(b - a for a, b in run) for *_, run in tasks]
        held = job.fleet.each(cells_of_run, tasks, sizes, progress, "Putting clusters together", light=True)
        for scan, parts in groupby(zip(scan_of, held), key=lambda pair: pair[0]):
            all_of = specks.Held.together(part for _, part in parts)
            np.save(args[scan][2], all_of.code[specks.small(all_of, *limits)])
        return in_specks, args, None


def _runs(cloud: Cloud) -> list[list[tuple[int, int]]]:
    """Stretches of a cloud, some at a time."""
    out, many = [[]], 0
    for start, stop in cloud.blocks():
        if many and many + stop - start > AT_ONCE:
            out, many = [*out, []], 0
        out[-1].append((start, stop))
        many += stop - start
    return out


def _step(job: Job, scan: Scan) -> tuple[float, bool]:
    """How wide cells are, and whether they are counted in directions from the station (rad) or in m."""
    frames = range_pictures.frames(job, scan)
    if len(frames) == 1:
        return PIXELS * range_pictures.spacing(job, scan, frames[0]), True
    cloud = job.cloud(scan.id)
    finest = cloud.nodes["spacing"][cloud.nodes["level"] == cloud.nodes["level"].max()]
    return max(PIXELS * float(np.median(finest)), 0.02), False


def _cells(cloud: Cloud, start: int, stop: int, step: float, seen: bool) -> np.ndarray:
    xyz = cloud.xyz(start, stop)
    return specks.codes(specks.spherical(xyz, step) if seen else specks.plain(xyz, step, cloud.bounds()[0]))


def cells_of_run(task, progress: Progress) -> "specks.Held":
    """The cells of some stretches of a scan, with their points."""
    piece, step, seen, run = task
    cloud, parts, done = piece.open(), [], 0
    for start, stop in run:
        kept = np.flatnonzero(cloud.kept(start, stop))
        code, xyz = _cells(cloud, start, stop, step, seen)[kept], cloud.xyz(start, stop)[kept]
        parts.append(specks.Held.of(code, xyz - cloud.bounds()[0]))
        done += stop - start
        progress.advance(done, done)
    return specks.Held.together(parts)


def in_specks(cloud: Cloud, start: int, stop: int, args, _) -> np.ndarray:
    """Mask of the points of a stretch that lie in cells of specks."""
    step, seen, path = args
    bad, code = np.load(path, mmap_mode="r"), _cells(cloud, start, stop, step, seen)
    if not len(bad):
        return np.zeros(stop - start, bool)
    at = np.searchsorted(bad, code)
    at[at == len(bad)] = 0
    return bad[at] == code
