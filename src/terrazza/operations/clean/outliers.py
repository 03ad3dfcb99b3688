"""Take out lonely points."""

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.clean.filtering import Filter, within_field
from terrazza.operations.clean.taking import spread
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import outliers
    from terrazza.operations.pieces import neighbours


def _lonely(cloud: Cloud, start: int, stop: int, args, limits):
    """Mask of points whose neighbours are too far, and the loss by range; ``limits`` by scan, or
    one for all.
    """
    path, key = args
    limits = limits[key]
    distance = np.asarray(np.load(path, mmap_mode="r")[start:stop])
    known = ~np.isnan(distance)
    ranges = np.linalg.norm(cloud.xyz(start, stop), axis=1)
    with np.errstate(invalid="ignore"):
        gone = outliers.beyond(distance, ranges, limits) if isinstance(limits, dict) else distance > limits
    return gone & known


class OutlierParams(Params):
    scans: list[int] = scans_field()
    within: str = within_field()
    neighbours: int = field("Neighbours", 4, help="How many nearest neighbours are measured.", ge=1, le=200)
    deviations: float = field(
        "Strength",
        2.2,
        unit="σ",
        help="A point goes when its mean neighbour distance is beyond this many standard deviations; smaller "
        "takes more.",
        ge=0.1,
        le=20,
    )
    by_range: bool = field(
        "Judge by range",
        True,
        help="Compare each point with what is usual at its range, so that far points, sparse by nature, "
        "stay; at most 1.2 % of any range band goes.",
    )
    over_all: bool = field(
        "Neighbours over all scans",
        False,
        help="Off: each scan for itself, so that a person seen once is no outlier merely by being seen once.",
    )


@operation
class Outliers(Filter):
    """Statistical outlier filter: takes points whose nearest neighbours are unusually far."""

    name, title = "clean.outliers", "Outlier filter"
    reads = frozenset({"scan"})
    Params = OutlierParams

    def scans_of(self, job: Job, params: OutlierParams) -> list[Scan]:
        return job.need_scans(
            params.scans,
            placed=params.over_all or bool(params.within),
            why=", and neighbours over all scans need places",
        )

    def judge(self, job: Job, scans: list[Scan], params: OutlierParams, folder: str, progress: Progress):
        paths = neighbours.distances(
            job, scans, params.neighbours, params.over_all, folder, Part(progress, 0, 0.94)
        )
        pieces = [
            (CloudPiece.of(job, s), start, stop, paths[s.id])
            for s in scans
            for start, stop in job.cloud(s.id).blocks()
        ]
        sizes, part = [p[2] - p[1] for p in pieces], Part(progress, 0.94, 1)
        found = job.fleet.map(spread, pieces, sizes, part, "What is usual", light=True)
        usual: dict = {}
        for piece, one in zip(pieces, found):
            key = "" if params.over_all else piece[3]
            usual[key] = usual[key].merge(one) if key in usual else one
        limits = {
            k: v.limits_by_range(params.deviations) if params.by_range else v.limit(params.deviations)
            for k, v in usual.items()
        }
        return _lonely, {s.id: (paths[s.id], "" if params.over_all else paths[s.id]) for s in scans}, limits
