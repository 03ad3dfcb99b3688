"""Ground, buildings, vegetation, wires, vehicles and poles in the open."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams
from terrazza.operations.classify.cloths import settled
from terrazza.operations.classify.gathering import RETURNS, cell_field, gathered_open
from terrazza.operations.classify.ground import GroundParams
from terrazza.operations.spine.base import operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.classify import open_air as kinds

CLOTH = 0.5  # m: least cell of the cloth; a finer one climbs onto houses under which no point is ground
UNSURE, MANY = 0.35, 0.3  # what is less sure than this is counted, and told where it is more than this share


class OpenAirParams(RuleParams):
    cell: float = cell_field()


@operation
class OpenAir(Rule):
    """Gives points in the open the classes ground (2), building (6), low, medium and high vegetation (3 to
    5), wires (14), vehicles (68), poles (69), and unclassified (1) for the rest.
    """

    name, title = "classify.open_air", "Open air"
    reads = frozenset({"scan", "pose", "walk"})
    sure = True
    Params = OpenAirParams

    def judge(self, job: Job, scans: list[Scan], params: OpenAirParams, folder: str, progress: Progress):
        lies = settled(job, scans, GroundParams(), Part(progress, 0, 0.3), CLOTH)
        sheet, threshold = lies.sheet, lies.threshold
        some = gathered_open(job, scans, Part(progress, 0.3, 0.4), params.cell, (RETURNS,))
        height = some.xyz[:, 2] - sheet.at(some.xyz[:, :2])
        over = height > threshold
        many = some.own[RETURNS][over] >> 4 > 1 if RETURNS in some.own else None
        progress.advance(0.45, 1, "Looking at shapes")
        found = kinds.classify(some.xyz[over], height[over], some.cell, many)
        unsure = float(np.mean(found.sure < UNSURE)) if len(found.sure) else 0.0
        if unsure > MANY:
            self.doubts.append(f"{unsure:.0%} of what is over the ground is of no clear kind: look at it.")
        if over.mean() > 0.98:
            self.doubts.append("Hardly any point is ground: rooms are classified by “Rooms”.")
        args = {s.id: s.pose for s in scans}
        return by_kind, args, (found, spatial.cKDTree(found.xyz), sheet, threshold)


def by_kind(cloud: Cloud, start: int, stop: int, pose, common) -> tuple[np.ndarray, np.ndarray]:
    """The new codes of a stretch, and how sure the kinds over the ground are."""
    found, tree, sheet, threshold = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    height = xyz[:, 2] - sheet.at(xyz[:, :2])
    codes = np.full(len(xyz), kinds.OTHER, np.uint8)
    codes[np.abs(height) <= threshold] = kinds.GROUND
    sure = np.full(len(xyz), np.nan, np.float32)
    over = np.flatnonzero(height > threshold)
    if len(over) and len(found.xyz):
        codes[over], sure[over] = found.at(xyz[over], tree)
    return codes, sure
