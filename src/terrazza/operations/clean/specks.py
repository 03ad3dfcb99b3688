"""Take out specks."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

specks = later("terrazza.core.clean.specks")

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
        tasks, args = [], {}
        for scan in scans:
            step, seen = _step(job, scan)
            path = range_pictures.scratch_name(folder, scan.id, 0, "specks")
            tasks.append((CloudPiece.of(job, scan), step, seen, path, limits))
            args[scan.id] = (step, seen, path)
        sizes = [s.points for s in scans]
        job.fleet.map(found, tasks, sizes, progress, "Putting clusters together", light=True)
        return in_specks, args, None


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


def found(task, progress: Progress) -> None:
    """Keep the codes of the cells of one scan that are specks, sorted."""
    piece, step, seen, path, (fewest, smallest) = task
    cloud = piece.open()
    code = np.zeros(0, np.int64)
    count, low, high = np.zeros(0), np.zeros((0, 3)), np.zeros((0, 3))
    for start, stop in cloud.blocks():
        kept = np.flatnonzero(cloud.kept(start, stop))
        mine, xyz = _cells(cloud, start, stop, step, seen)[kept], cloud.xyz(start, stop)[kept]
        code, back = np.unique(np.concatenate([code, mine]), return_inverse=True)
        count = np.bincount(back, np.concatenate([count, np.ones(len(mine))]), len(code))
        bounds = [np.full((len(code), 3), np.inf), np.full((len(code), 3), -np.inf)]
        np.minimum.at(bounds[0], back, np.concatenate([low, xyz]))
        np.maximum.at(bounds[1], back, np.concatenate([high, xyz]))
        low, high = bounds
        progress.advance(stop, cloud.count)
    np.save(path, code[specks.small(code, count, low, high, fewest, smallest)])


def in_specks(cloud: Cloud, start: int, stop: int, args, _) -> np.ndarray:
    """Mask of the points of a stretch that lie in cells of specks."""
    step, seen, path = args
    bad, code = np.load(path, mmap_mode="r"), _cells(cloud, start, stop, step, seen)
    if not len(bad):
        return np.zeros(stop - start, bool)
    at = np.searchsorted(bad, code)
    at[at == len(bad)] = 0
    return bad[at] == code
