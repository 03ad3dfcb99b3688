"""What registration and levelling need of the job's scans: thinned surfaces and points, prepared over the cores."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.progress import Progress
from terrazza.fleet import few
from terrazza.later import later
from terrazza.operations.job import Job, Scan
from terrazza.store.cloud import Cloud

surface = later("terrazza.core.register.surface")

MOST = 1_500_000


@dataclass(frozen=True)
class CloudPiece:
    """One scan's columns, to be opened in a helper process."""

    folder: str
    pointers: dict
    record: dict

    @classmethod
    def of(cls, job: Job, scan: Scan) -> "CloudPiece":
        return cls(job.scan_folder(scan.id), job.cloud(scan.id).columns.pointers, scan.record)

    def open(self) -> Cloud:
        return Cloud(self.folder, self.pointers, self.record)


def kept_points(cloud: Cloud, most: int = MOST) -> np.ndarray:
    """(n, 3) kept points in the scan's frame; above ``most`` an even share of them (every n-th in octree order)."""
    step, parts = -(-cloud.count // most), []
    for start, stop in cloud.blocks():
        first = -start % step
        kept = cloud.kept(start, stop)[first::step]
        parts.append((cloud.read("position", start, stop)[first::step][kept]) * cloud.scale + cloud.offset)
    return np.concatenate(parts)


def _prepare(piece: CloudPiece, progress: Progress) -> "surface.Surface":
    points = kept_points(piece.open())
    progress.advance(0.2 * len(points), len(points))
    return surface.prepare(points)


def surfaces(job: Job, scans: list[Scan], progress: Progress) -> "list[surface.Surface]":
    """Surfaces of the scans, in order."""
    return job.fleet.map(_prepare, [CloudPiece.of(job, s) for s in scans], [s.points for s in scans], progress, "Finding surfaces", light=few([s.points for s in scans]))
