"""Classify by height over ground."""

import numpy as np
from pydantic import Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams
from terrazza.operations.classify.gathering import gathered_open
from terrazza.operations.classify.ground import GROUND
from terrazza.operations.pieces.counting import thinned
from terrazza.operations.spine.base import Figures, Params, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.classify import bands
    from terrazza.core.classify import open_air as shapes_in_air


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


class BandParams(RuleParams):
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
    buildings: bool = field(
        "Leave buildings out",
        True,
        help="What lies on roofs and walls becomes building (6) and no vegetation, however high it is.",
    )


@operation
class HeightBands(Rule):
    """Classes by height above the ground points, for points of chosen classes."""

    name, title = "classify.height_bands", "Height bands"
    codes: list[int]  # of the bands
    reads = frozenset({"scan", "pose", "cut", "walk"})
    Params = BandParams

    def judge(self, job: Job, scans: list[Scan], params: BandParams, folder: str, progress: Progress):
        for band in params.bands:
            if band.high <= band.low:
                raise ParamsError(
                    "classify.height_bands: a band from "
                    f"{Notation.of(job).number(band.low / Notation.of(job).metres)} to "
                    f"{Notation.of(job).length(band.high)} is empty.",
                    "Its upper end must lie above its lower one.",
                )
        floor = thinned(job, job.scans(placed=True), 0.1, Part(progress, 0, 0.5), GROUND)
        if len(floor) < 10:
            raise StateError(
                "No ground is classified yet, so there is no height above it.",
                "Run the ground classification first.",
            )
        model = bands.GroundModel(floor)
        limits = [(b.low, b.high, b.code) for b in params.bands]
        built = _built(job, scans, model, Part(progress, 0.5, 1)) if params.buildings else None
        self.codes = sorted({b.code for b in params.bands})
        return by_height, {s.id: s.pose for s in scans}, (model, limits, params.from_classes, built)

    def said(self, counts: np.ndarray) -> Figures:
        """How many points have a class by their height now."""
        points = int(counts[self.codes].sum())
        return {"says": f"{points:,} points classified by their height", "points": points}


def _built(job: Job, scans: list[Scan], model: "bands.GroundModel", progress: Progress):
    """What stands over the ground, with a tree to look it up in; None where nothing does."""
    some, least = gathered_open(job, scans, Part(progress, 0, 0.5)), shapes_in_air.BANDS[0][0]
    height = some.xyz[:, 2] - model.at(some.xyz[:, :2])
    over = height > least / 2
    if over.sum() < 20:
        return None
    found = shapes_in_air.classify(some.xyz[over], height[over], some.cell)
    return found, spatial.cKDTree(found.xyz)


def by_height(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """The new codes of a stretch."""
    model, limits, from_classes, built = common
    codes = cloud.values("class", 0, start, stop).astype(np.uint8)
    index = np.flatnonzero(np.isin(codes, from_classes))
    xyz = rigid.apply(pose, cloud.xyz(start, stop)[index])
    new = bands.by_height(xyz[:, 2] - model.at(xyz[:, :2]), limits) if len(xyz) else np.zeros(0, np.uint8)
    over = np.flatnonzero(new > 0)
    if built is not None and len(over):
        found, tree = built
        new[over[found.at(xyz[over], tree)[0] == shapes_in_air.BUILDING]] = shapes_in_air.BUILDING
    codes[index[new > 0]] = new[new > 0]
    return codes
