"""Classify the ground by a cloth."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams
from terrazza.operations.classify.cloths import settled
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.classify import cloth

GROUND, UNCLASSIFIED = 2, 1
SAMPLE = 600_000
LITTLE = 0.01  # share of ground points that is told as a doubt
_likely: dict[tuple, float] = {}


class GroundParams(RuleParams):
    resolution: float = field(
        "Cloth cell",
        0.0,
        unit="m",
        blank="auto",
        help="Distance between the particles of the cloth; 0: by the spacing of the points and the size of "
        "the job, 0.15 at least.",
        ge=0,
        le=20,
    )
    rigidness: int = field(
        "Rigidness", 1, help="1: steep and stepped ground, 2: terraced, 3: flat.", ge=1, le=3
    )
    threshold: float = field(
        "Distance to the cloth",
        0.0,
        unit="m",
        blank="auto",
        help="Points nearer to the settled cloth than this are ground; 0: 0.4 of the cloth cell.",
        ge=0,
        le=5,
    )
    buildings: bool = field(
        "Keep large buildings out",
        False,
        help="What ends in a drop nearly all around is no ground, though the cloth lies on it: flat roofs, "
        "but also platforms with walls on every side.",
    )
    step: float = field("Time step", 0.65, help="Of the simulation.", ge=0.1, le=2)
    rounds: int = field("Rounds at most", 500, help="Of the simulation.", ge=10, le=5000)
    slope: bool = field(
        "Correct on slopes", True, help="Lets the cloth come down where it hangs beside a step."
    )


@operation
class Ground(Rule):
    """Ground by cloth simulation (Zhang et al. 2016): a cloth falls onto the cloud turned upside down."""

    name, title = "classify.ground", "Ground"
    reads = frozenset({"scan", "pose", "cut"})
    Params = GroundParams

    @classmethod
    def automatic(cls, job: Job) -> dict[str, float]:
        """About what they will be, from an even sample of the points."""
        scans = job.scans(placed=True)
        if not scans:
            return {}
        key = tuple((s.id, job.get("column", f"{s.id}/position")[0], s.pose.tobytes()) for s in scans)
        if key not in _likely:
            _likely.clear()
            sample = np.concatenate(
                [
                    rigid.apply(s.pose, job.cloud(s.id).at(job.cloud(s.id).sample(SAMPLE // len(scans))))
                    for s in scans
                ]
            )
            _likely[key] = cloth.likely_resolution(sample)
        return {"resolution": _likely[key], "threshold": 0.4 * _likely[key]}

    def judge(self, job: Job, scans: list[Scan], params: GroundParams, folder: str, progress: Progress):
        found = settled(job, scans, params, progress)
        laid = found.laid
        self.more = {
            "resolution_m": found.sheet.resolution,
            "threshold_m": found.threshold,
            "late": laid.late,
        }
        if params.buildings:
            self.more["buildings_m2"] = laid.roofs.area
        self.doubts += found.doubts
        return by_cloth, {s.id: s.pose for s in scans}, (found.sheet, found.threshold, laid.roofs)

    def said(self, counts: np.ndarray) -> Figures:
        """How much is ground, with a doubt where it is hardly any."""
        ground, points = int(counts[GROUND]), int(counts.sum())
        share = ground / max(points, 1)
        if share < LITTLE:
            self.doubts[:0] = [
                f"Only {share:.2%} of the points are ground: look at the heights; points far below the "
                "ground, or a cell that is too small, do this."
            ]
        says = f"{ground:,} of {points:,} points are ground ({share:.1%})"
        return {"says": says, "ground": ground, "points": points, "share": share}


def by_cloth(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """The new codes of a stretch."""
    sheet, threshold, roofs = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    codes = cloud.values("class", 0, start, stop).astype(np.uint8)
    near = cloth.ground(xyz, sheet, threshold) & ~roofs.holds(xyz)
    codes[~near & np.isin(codes, (GROUND, 0))] = UNCLASSIFIED
    codes[near] = GROUND
    return codes
