"""Step 6, Classify: ground by cloth simulation, then height bands over it."""

import numpy as np
from pydantic import Field

from terrazza.core.classify import classes
from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations import blocks
from terrazza.operations.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.job import Job
from terrazza.operations.notation import Notation
from terrazza.operations.surfaces import CloudPiece
from terrazza.store.cloud import Cloud

bands = later("terrazza.core.classify.bands")
cloth = later("terrazza.core.classify.cloth")
voxels = later("terrazza.core.geometry.voxels")

GROUND, UNCLASSIFIED = 2, 1


def class_counts(job: Job) -> dict[int, int]:
    """Kept points by class over all scans."""
    counts = np.zeros(256, np.int64)
    for scan in job.scans():
        counts += _tally(CloudPiece.of(job, scan))
    return {c: int(n) for c, n in enumerate(counts) if n}


_tallies: dict[tuple, np.ndarray] = {}


def _tally(piece: CloudPiece) -> np.ndarray:
    """Kept points of one scan by class (256,); remembered as long as its classes and cuts are the same."""
    cloud = piece.open()
    key = (
        piece.folder,
        *(tuple(piece.pointers.get(c, ())) for c in ("position", "class", "cut")),
        str(cloud.columns.constants.get("class")),
    )
    if key not in _tallies:
        if len(_tallies) > 5000:
            _tallies.clear()
        _tallies[key] = sum(
            (
                np.bincount(cloud.values("class", 0, *b)[cloud.kept(*b)], minlength=256)
                for b in cloud.blocks()
            ),
            np.zeros(256, np.int64),
        )
    return _tallies[key]


def _before_after(job: Job, before: dict[int, int]) -> dict:
    after = class_counts(job)
    rows = [
        {
            "code": c,
            "name": classes.name(c),
            "before": before.get(c, 0),
            "after": after.get(c, 0),
            "share": after.get(c, 0) / max(sum(after.values()), 1),
        }
        for c in sorted(set(before) | set(after))
    ]
    return {"classes": rows}


def _thin(args, progress: Progress) -> np.ndarray:
    """Kept points of one scan (of one class, where given) in the job frame, one a cell, gathered block by
    block.
    """
    piece, pose, cell, code = args
    cloud, parts = piece.open(), [np.zeros((0, 3))]
    for start, stop in cloud.blocks():
        use = cloud.kept(start, stop)
        if code is not None:
            use &= cloud.values("class", 0, start, stop) == code
        xyz = rigid.apply(pose, cloud.xyz(start, stop)[use])
        parts.append(xyz[voxels.one_per_cell(xyz, cell)] if len(xyz) else xyz)
        progress.advance(stop, cloud.count)
    merged = np.concatenate(parts)
    return merged[voxels.one_per_cell(merged, cell)] if len(merged) else merged


def _thinned(job: Job, scans, cell: float, progress: Progress, code: int | None = None) -> np.ndarray:
    """Kept points of placed scans (of one class, where ``code`` is given) in the job frame, one a cell of
    ``cell`` metres.
    """
    merged = np.concatenate(
        job.fleet.map(
            _thin,
            [(CloudPiece.of(job, s), s.pose, cell, code) for s in scans],
            [s.points for s in scans],
            progress,
            "Thinning",
            light=True,
        )
    )
    return merged[voxels.one_per_cell(merged, cell)] if len(merged) else merged


SAMPLE = 600_000
_likely: dict[tuple, float] = {}


class GroundParams(Params):
    scans: list[int] = scans_field("Empty: all placed scans.")
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
    step: float = field("Time step", 0.65, help="Of the simulation.", ge=0.1, le=2)
    rounds: int = field("Rounds at most", 500, help="Of the simulation.", ge=10, le=5000)
    slope: bool = field(
        "Correct on slopes", True, help="Lets the cloth come down where it hangs beside a step."
    )


@operation
class Ground(Operation):
    """Ground by cloth simulation (Zhang et al. 2016): a cloth falls onto the cloud turned upside down."""

    name, title, step = "classify.ground", "Ground", "Classify"
    reads, writes = frozenset({"scan", "pose", "cut"}), frozenset({"column"})
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

    def run(self, job: Job, params: GroundParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no common ground")
        before = class_counts(job)
        thin = _thinned(job, scans, min(params.resolution / 3, 0.25) or 0.05, Part(progress, 0, 0.3))
        if len(thin) < 10:
            raise StateError(
                "Too few points are left to find the ground in.", "Put cuts back, or choose more scans."
            )
        resolution = params.resolution or cloth.likely_resolution(thin)
        threshold = params.threshold or 0.4 * resolution
        sheet = cloth.Cloth(
            thin,
            resolution,
            params.rigidness,
            params.step,
            params.rounds,
            params.slope,
            Part(progress, 0.3, 0.6),
        )
        found = blocks.rewrite(
            job,
            scans,
            "class",
            _grounded,
            {s.id: s.pose for s in scans},
            Part(progress, 0.6, 1.0),
            "Classifying",
            (sheet, threshold),
        )
        ground, taken = (int(n) for n in np.sum([t for tallies in found.values() for t in tallies], axis=0))
        return {
            "says": f"{ground:,} of {taken:,} points are ground ({ground / max(taken, 1):.1%})",
            "ground": ground,
            "points": taken,
            "share": ground / max(taken, 1),
            "resolution_m": resolution,
            "threshold_m": threshold,
        } | _before_after(job, before)


def _grounded(cloud: Cloud, start: int, stop: int, pose, common):
    sheet, threshold = common
    codes, kept = cloud.values("class", 0, start, stop).astype(np.uint8), cloud.kept(start, stop)
    near = cloth.ground(rigid.apply(pose, cloud.xyz(start, stop)), sheet, threshold) & kept
    codes[kept & (codes == GROUND) & ~near] = UNCLASSIFIED
    codes[near] = GROUND
    codes[kept & ~near & (codes == 0)] = UNCLASSIFIED
    return codes, (int(near.sum()), int(kept.sum()))


class Band(Params):
    low: float = Field(title="From", ge=-1000, le=10000, json_schema_extra={"unit": "m"})
    high: float = Field(title="To", ge=-1000, le=10000, json_schema_extra={"unit": "m"})
    code: int = Field(title="Class", ge=0, le=255)


def _default_bands() -> list[Band]:
    return [
        Band(low=0.15, high=0.5, code=3),
        Band(low=0.5, high=2.0, code=4),
        Band(low=2.0, high=40.0, code=5),
    ]


class BandParams(Params):
    bands: list[Band] = field(
        "Bands",
        _default_bands,
        unit="m",
        help="Heights above ground and the class that points in them get.",
        widget="bands",
    )
    from_classes: list[int] = field(
        "From classes",
        lambda: [0, 1, 3, 4, 5],
        help="Only points of these classes are moved.",
        widget="classes",
    )
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class HeightBands(Operation):
    """Classes by height above the ground points, for points of chosen classes."""

    name, title, step = "classify.height_bands", "Height bands", "Classify"
    reads, writes = frozenset({"scan", "pose", "cut"}), frozenset({"column"})
    Params = BandParams

    def run(self, job: Job, params: BandParams, progress: Progress) -> Figures:
        for band in params.bands:
            if band.high <= band.low:
                raise ParamsError(
                    "classify.height_bands: a band from "
                    f"{Notation.of(job).number(band.low / Notation.of(job).metres)} to "
                    f"{Notation.of(job).length(band.high)} is empty.",
                    "Its upper end must lie above its lower one.",
                )
        scans = job.need_scans(params.scans, placed=True)
        before = class_counts(job)
        floor = _thinned(job, job.scans(placed=True), 0.1, Part(progress, 0, 0.3), GROUND)
        if len(floor) < 10:
            raise StateError(
                "No ground is classified yet, so there is no height above it.",
                "Run the ground classification first.",
            )
        model = bands.GroundModel(floor)
        limits = [(b.low, b.high, b.code) for b in params.bands]
        found = blocks.rewrite(
            job,
            scans,
            "class",
            _banded,
            {s.id: s.pose for s in scans},
            Part(progress, 0.3, 1.0),
            "Classifying",
            (model, limits, params.from_classes),
        )
        moved = sum(sum(tallies) for tallies in found.values())
        return {"says": f"{moved:,} points classified by their height", "points": moved} | _before_after(
            job, before
        )


def _banded(cloud: Cloud, start: int, stop: int, pose, common):
    model, limits, from_classes = common
    codes = cloud.values("class", 0, start, stop).astype(np.uint8)
    index = np.flatnonzero(cloud.kept(start, stop) & np.isin(codes, from_classes))
    xyz = rigid.apply(pose, cloud.xyz(start, stop)[index])
    new = bands.by_height(xyz[:, 2] - model.at(xyz[:, :2]), limits) if len(xyz) else np.zeros(0, np.uint8)
    codes[index[new > 0]] = new[new > 0]
    return codes, int((new > 0).sum())
