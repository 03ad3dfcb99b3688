"""Classify the ground by a cloth."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams
from terrazza.operations.pieces.counting import thinned
from terrazza.operations.spine.base import Figures, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

cloth = later("terrazza.core.classify.cloth")
ndimage = later("scipy.ndimage")
lows = later("terrazza.core.classify.lows")
roofs = later("terrazza.core.classify.roofs")

GROUND, UNCLASSIFIED = 2, 1
SAMPLE = 600_000
COARSE, CLIMBED, WIDE = 0.5, 1.0, 5  # m, m, cells: of the cloth that a fine one is compared with
LITTLE, BARE = 0.01, 0.5  # share of ground points, and of the area without any, that are told as doubts
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
        sheet, threshold, thin, late = settled(job, scans, params, progress)
        self.more = {"resolution_m": sheet.resolution, "threshold_m": threshold, "late": late}
        out = None
        if params.buildings:
            lying = thin[cloth.ground(thin, sheet, threshold)]
            out = roofs.find(lying) if len(lying) else None
            self.more["buildings_m2"] = out.area if out else 0.0
        self.doubts += _hangs(thin, sheet, threshold) + _climbed(thin, sheet, params, out)
        return by_cloth, {s.id: s.pose for s in scans}, (sheet, threshold, out)

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


def settled(job: Job, scans: list[Scan], params: GroundParams, progress: Progress, least: float = 0.0):
    """The settled cloth, the distance (m) to it that is ground, the thinned points (n, 3) it fell on, and how
    many isolated ones below were left out.  A cell left to be chosen is ``least`` m at least.
    """
    thin = thinned(job, scans, min(params.resolution / 3, 0.25) or 0.05, Part(progress, 0, 0.5))
    if len(thin) < 10:
        raise StateError(
            "Too few points are left to find the ground in.", "Put cuts back, or choose more scans."
        )
    late = lows.isolated_below(thin)
    thin = thin[~late]
    likely = params.resolution or cloth.likely_resolution(thin)
    resolution = params.resolution or max(likely, least)
    sheet = cloth.Cloth(
        thin,
        resolution,
        params.rigidness,
        params.step,
        params.rounds,
        params.slope,
        Part(progress, 0.5, 1.0),
    )
    return sheet, params.threshold or 0.4 * likely, thin, int(late.sum())


def _climbed(thin: np.ndarray, sheet, params: GroundParams, out) -> list[str]:
    """A fine cloth climbs onto houses under which no point is ground: told where a coarse one stays below it
    over areas as wide as a room that are not kept out already.
    """
    if sheet.resolution >= COARSE:
        return []
    coarse = cloth.Cloth(thin, COARSE, params.rigidness, params.step, params.rounds, params.slope)
    lying = thin[cloth.ground(thin, sheet, 0.4 * sheet.resolution)]
    if out is not None:
        lying = lying[~out.holds(lying)]
    if not len(lying):
        return []
    high = sheet.at(lying[:, :2]) - coarse.at(lying[:, :2]) > CLIMBED
    cells = np.floor((lying[:, :2] - lying[:, :2].min(0)) / COARSE).astype(np.int64)
    over = np.zeros(cells.max(0) + 1, bool)
    over[tuple(cells[high].T)] = True
    area = ndimage.binary_opening(over, np.ones((WIDE, WIDE))).sum() * COARSE**2
    if not area:
        return []
    return [
        f"On {area:.0f} m² the cloth may lie on houses or other things without ground under them: with "
        f"cells of {COARSE:g} m it is over {CLIMBED:g} m lower there. Look at the heights, or take those."
    ]


def _hangs(thin: np.ndarray, sheet, threshold: float) -> list[str]:
    """What speaks against a cloth: that it hangs below the lowest points of most of its cells."""
    cells = np.floor(thin[:, :2] / (4 * sheet.resolution)).astype(np.int64)
    _, back = np.unique(cells, axis=0, return_inverse=True)
    lowest = np.full(back.max() + 1, np.inf)
    np.minimum.at(lowest, back.ravel(), thin[:, 2])
    on = np.zeros(len(lowest), bool)
    np.logical_or.at(on, back.ravel(), cloth.ground(thin, sheet, threshold))
    bare = 1 - on.mean()
    if bare > BARE:
        return [
            f"In {bare:.0%} of the area no point lies on the ground that was found: look whether it hangs "
            "below or cuts through."
        ]
    return []


def by_cloth(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """The new codes of a stretch."""
    sheet, threshold, out = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    codes = cloud.values("class", 0, start, stop).astype(np.uint8)
    near = cloth.ground(xyz, sheet, threshold)
    if out is not None:
        near &= ~out.holds(xyz)
    codes[~near & np.isin(codes, (GROUND, 0))] = UNCLASSIFIED
    codes[near] = GROUND
    return codes
