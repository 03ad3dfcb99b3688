"""Take out images in mirrors, windows and water."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, FilterParams, strength_field
from terrazza.operations.clean.moved_things import looks_through
from terrazza.operations.pieces import range_pictures
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import mirrors, moved

SLACK, SLOPE = 0.03, 0.004  # m and per m: how near something has to be to be the same
SAMPLE = 400_000  # points of a scan among which mirrors are looked for
REACH = 40.0


class MirrorsParams(FilterParams):
    strength: float = strength_field(
        "How near to something an image has to fall, thrown back, to be one: 2 twice as far."
    )


@operation
class Mirrors(Filter):
    """Finds mirrors, windows and water by itself and takes the images in them; what other scans confirm
    behind the glass stays.
    """

    name, title = "clean.mirrors", "Mirror filter"
    reads = frozenset({"scan", "pose"})
    looks = frozenset({"box", "drawing", "left_out"})
    Params = MirrorsParams

    def judge(self, job: Job, scans: list[Scan], params: MirrorsParams, folder: str, progress: Progress):
        stationed = [s for s in scans if has_station(s)]
        if not stationed:
            raise StateError("Mirrors are found from stations, and no scan has one.", "Choose other scans.")
        others = [s for s in job.scans(placed=True) if has_station(s) and not job.get("left_out", s.id)]
        others += [s for s in stationed if s.id not in {o.id for o in others}]
        paths = looks_through(job, others, folder, Part(progress, 0, 0.3))
        looks = {s.id: self._looks(s, others, paths) for s in stationed}
        pieces = {s.id: CloudPiece.of(job, s) for s in stationed}
        work = [(pieces[s.id], looks[s.id], params.strength) for s in stationed]
        sizes, part = [s.points for s in stationed], Part(progress, 0.3, 0.6)
        found = job.fleet.map(found_in, work, sizes, part, "Looking for mirrors", light=True)
        args = {s.id: range_pictures.scratch_name(folder, s.id, 0, "images") for s in stationed}
        work = [(*of, _for(scan, stationed, found), args[scan.id]) for of, scan in zip(work, stationed)]
        job.fleet.map(judged, work, sizes, Part(progress, 0.6, 1), "Telling images", light=True)
        self.found = sum(map(len, found))
        return in_images, args, None

    @staticmethod
    def _looks(scan: Scan, others: list[Scan], paths: dict) -> list[tuple]:
        """What a scan's points may be compared with: (picture, pixel, pose to it, whether it is its own)."""
        out = [(*paths[scan.id], np.eye(4), True)]
        for other in others:
            if other.id == scan.id or scan.pose is None or other.pose is None:
                continue
            if np.linalg.norm(other.pose[:3, 3] - scan.pose[:3, 3]) < REACH:
                out.append((*paths[other.id], rigid.inverse(other.pose) @ scan.pose, False))
        return out

    def says(self, figures: dict) -> str:
        many = self.found
        where = (
            f"in {many} stretch{'es' * (many != 1)} of mirror, glass or water" if many else "no mirror found"
        )
        return f"{figures['points']:,} of {figures['of']:,} points taken out, {where}"


def _for(scan: Scan, scans: list[Scan], found: list[list]) -> list:
    """The mirrors that any scan found, in the frame of one: its own as they are."""
    out = []
    for other, mine in zip(scans, found):
        if other.id == scan.id:
            out += mine
        elif scan.pose is not None and other.pose is not None:
            out += [m.seen_from(rigid.inverse(scan.pose) @ other.pose) for m in mine]
    return out


class Looks:
    """What scans saw at places of one scan's frame."""

    def __init__(self, looks: list[tuple], strength: float):
        self.pictures = [(np.load(p, mmap_mode="r"), step, pose, own) for p, step, pose, own in looks]
        self.room = SLACK * strength, SLOPE * strength

    def at(self, xyz: np.ndarray, through: "mirrors.Mirror | None" = None) -> tuple[np.ndarray, np.ndarray]:
        """How many looks confirm, and contradict, that something is at some points (n, 3); with a mirror
        ``through`` those of other scans alone that see it otherwise than through the mirror.
        """
        for_it, against = np.zeros(len(xyz), np.int32), np.zeros(len(xyz), np.int32)
        xyz = np.ascontiguousarray(xyz)
        for picture, step, pose, own in self.pictures:
            if through is not None and own:
                continue
            one = tuple(np.zeros(len(xyz), np.int32) for _ in range(3))
            moved.compare(xyz, pose, *picture, step, *self.room, *one, True)
            free = True if through is None else ~through.crossed(rigid.inverse(pose)[:3, 3], xyz)
            against += one[0] * free
            for_it += one[1] * free
        return for_it, against


def found_in(task, progress: Progress) -> list:
    """The mirrors that one scan shows."""
    piece, looks, strength = task
    cloud = piece.open()
    return mirrors.mirrors(cloud.at(cloud.kept_of(cloud.sample(SAMPLE))), Looks(looks, strength).at)


def judged(task, progress: Progress) -> None:
    """Keep (n,) u1 for one scan: 1 where a point is an image in one of the mirrors."""
    piece, looks, strength, found, path = task
    cloud, seen_at = piece.open(), Looks(looks, strength).at
    out = np.lib.format.open_memmap(path, mode="w+", dtype=np.uint8, shape=(cloud.count,))
    for start, stop in cloud.blocks():
        xyz = cloud.xyz(start, stop)
        for mirror in found:
            behind = np.flatnonzero(xyz @ mirror.normal < mirror.distance - mirrors.BEHIND)
            met = behind[mirror.crossed(np.zeros(3), xyz[behind])]
            if not len(met):
                continue
            truly = seen_at(xyz[met], mirror)[0] > 0
            for_it, against = seen_at(mirrors.reflected(xyz[met], mirror.normal, mirror.distance))
            image = (for_it > 0) | (mirror.pure & (against == 0))
            out[start + met[image & ~truly]] = 1
        progress.advance(stop, cloud.count)


def in_images(cloud: Cloud, start: int, stop: int, path, _) -> np.ndarray:
    """Mask of the points of a stretch that are images."""
    if path is None:
        return np.zeros(stop - start, bool)
    return np.load(path, mmap_mode="r")[start:stop] != 0
