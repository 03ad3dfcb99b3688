"""Take out what moved between scans."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import moved, specks

STEP, APART = np.radians(0.2), 1.6  # of the pictures that others look through: at least, and in spacings
SLACK, SLOPE = 0.035, 0.003  # m and per m: how far before what another saw a point has to stand
REACH = 40.0  # m: stations farther apart say nothing about each other's things


class MovedParams(FilterParams):
    strength: float = strength_field(
        "2 takes things half as large, and half as far before what others saw; 0.5 only larger ones."
    )


@operation
class MovedThings(Filter):
    """Takes what one scan saw where another looked through: people, cars, carts, doors.  What all see
    stays.
    """

    name, title = "clean.moved_things", "Moved-things filter"
    reads = frozenset({"scan", "pose"})
    looks = frozenset({"box", "drawing", "left_out"})
    placed = True
    Params = MovedParams

    def judge(self, job: Job, scans: list[Scan], params: MovedParams, folder: str, progress: Progress):
        others = [s for s in job.scans(placed=True) if has_station(s) and not job.get("left_out", s.id)]
        if len(others) < 2:
            raise StateError(
                "What moved is told by other scans, and there are no two with a station.",
                "Register more scans.",
            )
        paths = looks_through(job, others, folder, Part(progress, 0, 0.35))
        work, args, sizes = [], {}, [s.points for s in scans]
        for scan in scans:
            about = [
                (*paths[o.id], rigid.inverse(o.pose) @ scan.pose)
                for o in others
                if o.id != scan.id and np.linalg.norm(o.pose[:3, 3] - scan.pose[:3, 3]) < REACH
            ]
            args[scan.id] = range_pictures.scratch_name(folder, scan.id, 0, "moved")
            work.append((CloudPiece.of(job, scan), about, args[scan.id], params.strength))
        job.fleet.map(judged, work, sizes, Part(progress, 0.35, 1), "Comparing what was seen", light=True)
        return in_things, args, None


def looks_through(job: Job, scans: list[Scan], folder: str, progress: Progress) -> dict[int, tuple]:
    """Pictures of what scans with stations saw all around: (path, pixel in rad) by scan; see ``seen``."""
    paths = {s.id: (range_pictures.scratch_name(folder, s.id, 0, "seen"), _step(job, s)) for s in scans}
    tasks, sizes = [(CloudPiece.of(job, s), *paths[s.id]) for s in scans], [s.points for s in scans]
    job.fleet.map(seen, tasks, sizes, progress, "Looking through", light=True)
    return paths


def _step(job: Job, scan: Scan) -> float:
    """A pixel (rad) of the picture of what a scan saw, wide enough that hardly any is empty."""
    frame = range_pictures.frames(job, scan)[0]
    return max(STEP, APART * range_pictures.spacing(job, scan, frame))


def seen(task, progress: Progress) -> None:
    """Keep what a scan saw in every direction, the nearest and farthest around it."""
    piece, path, step = task
    frame = range_pictures.around((0.0, 0.0, 0.0), step)
    near, far = moved.nearest_around(np.array(range_pictures.fill(piece, frame, path, progress)))
    np.save(path, np.stack([near, far]))


def judged(task, progress: Progress) -> None:
    """Keep (n,) u1 for one scan: 1 where a point belongs to a thing that moved."""
    piece, others, path, strength = task
    cloud = piece.open()
    out = np.lib.format.open_memmap(path, mode="w+", dtype=np.uint8, shape=(cloud.count,))
    pictures = [(np.load(p, mmap_mode="r"), step, pose) for p, step, pose in others]
    for start, stop in cloud.blocks():
        xyz = cloud.xyz(start, stop)
        against, for_it, before = (np.zeros(len(xyz), np.int32) for _ in range(3))
        for picture, step, pose in pictures:
            moved.compare(
                xyz, pose, *picture, step, SLACK / strength, SLOPE / strength, against, for_it, before
            )
        kept = cloud.kept(start, stop)
        # what is seen there and looked through elsewhere is in doubt; most of those who can tell decide
        state = np.where(against > 0, np.where(against >= for_it, 3, 1), np.where(for_it > 0, 1, 0))
        state[(before > 0) & (state < 3) & (before >= for_it)] = 2
        out[start:stop] = np.where(kept, state, 0)
        progress.advance(0.7 * stop, cloud.count)
    low = cloud.bounds()[0] - moved.CELL
    cells = lambda start, stop: specks.codes(specks.plain(cloud.xyz(start, stop), moved.CELL, low))
    code, tallies = np.zeros(0, np.int64), np.zeros((0, 3))
    for start, stop in cloud.blocks():
        one = np.asarray(out[start:stop])
        code, back = np.unique(np.concatenate([code, cells(start, stop)]), return_inverse=True)
        both = np.concatenate([tallies, np.stack([one == 3, one == 1, np.ones(len(one))], 1)])
        tallies = np.stack([np.bincount(back, both[:, k], len(code)) for k in range(3)], 1)
    things = moved.things(code, tallies, strength)
    for start, stop in cloud.blocks():
        out[start:stop] = things.take(cells(start, stop), np.asarray(out[start:stop]))
    progress.advance(cloud.count, cloud.count)


def in_things(cloud: Cloud, start: int, stop: int, path, _) -> np.ndarray:
    """Mask of the points of a stretch that belong to things that moved."""
    return np.load(path, mmap_mode="r")[start:stop] != 0
