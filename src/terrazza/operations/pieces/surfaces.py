"""What registration and levelling need of the job's scans: thinned surfaces and points, prepared over the
cores.
"""

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from terrazza.core.progress import Progress
from terrazza.fleet import few
from terrazza.later import later
from terrazza.operations.pieces.stations import has_station
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.register import picture, plan_match, surface

MOST, ALTOGETHER = (
    1_500_000,
    40_000_000,
)  # points of a scan, and of all together, that an adjustment holds in memory
BEFORE = ("LAS", "LAZ", "COPC")  # formats of scans in a shared frame, of imports that did not note it


@dataclass(frozen=True)
class CloudPiece:
    """One scan's columns, to be opened in a helper process."""

    folder: str
    pointers: dict
    record: dict
    apart: tuple[int, ...] = ()

    @classmethod
    def of(cls, job: Job, scan: Scan, delivering: bool = False) -> "CloudPiece":
        return cls(job.scan_folder(scan.id), job.columns(scan.id), scan.record, job.apart(delivering))

    def open(self) -> Cloud:
        return Cloud(self.folder, self.pointers, self.record, self.apart)


def shares_frame(scan: Scan) -> bool:
    """Whether a scan's file gave coordinates in a frame that files share, such as a national grid."""
    told = scan.record.get("shared")
    return scan.record["format"] in BEFORE if told is None else told


def kept_points(cloud: Cloud, most: int = MOST) -> np.ndarray:
    """(n, 3) kept points in the scan's frame; above ``most`` an even share of them (every n-th in octree
    order).
    """
    step, parts = -(-cloud.count // most), []
    for start, stop in cloud.blocks():
        first = -start % step
        kept = cloud.kept(start, stop)[first::step]
        parts.append((cloud.read("position", start, stop)[first::step][kept]) * cloud.scale + cloud.offset)
    return np.concatenate(parts)


def _prepared(args, progress: Progress) -> "tuple[surface.Surface, plan_match.PlanShape, picture.Picture]":
    piece, station = args
    points = kept_points(piece.open())
    progress.advance(0.2 * len(points), len(points))
    face = surface.prepare(points)
    return face, plan_match.PlanShape(face), picture.Picture.of(points, station)


def prepared(job: Job, scans: list[Scan], progress: Progress) -> Iterator[tuple]:
    """Surface, shape in plan and picture (see ``pictures``) of one scan after another."""
    sizes = [s.points for s in scans]
    pieces = _with_stations(job, scans)
    return job.fleet.each(_prepared, pieces, sizes, progress, "Finding surfaces", light=few(sizes))


def _with_stations(job: Job, scans: list[Scan]) -> list[tuple[CloudPiece, bool]]:
    """Each scan with whether it has one station, from which it looked around."""
    return [(CloudPiece.of(job, s), has_station(s) or not shares_frame(s)) for s in scans]


def _prepare(piece: CloudPiece, progress: Progress) -> "surface.Surface":
    points = kept_points(piece.open())
    progress.advance(0.2 * len(points), len(points))
    return surface.prepare(points)


def _picture(args, progress: Progress) -> "picture.Picture":
    piece, station = args
    return picture.Picture.of(kept_points(piece.open()), station)


def pictures(job: Job, scans: list[Scan], progress: Progress) -> "list[picture.Picture]":
    """What each scan saw, for judging placements; of walks, which have no one station, their points alone."""
    sizes = [s.points for s in scans]
    return job.fleet.map(
        _picture,
        _with_stations(job, scans),
        sizes,
        progress,
        "Looking around",
        light=few(sizes),
    )


def surfaces(job: Job, scans: list[Scan], progress: Progress) -> "list[surface.Surface]":
    """Surfaces of the scans, in order."""
    return job.fleet.map(
        _prepare,
        [CloudPiece.of(job, s) for s in scans],
        [s.points for s in scans],
        progress,
        "Finding surfaces",
        light=few([s.points for s in scans]),
    )
