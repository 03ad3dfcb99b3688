"""Floors, ceilings, walls and furniture of rooms."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams
from terrazza.operations.classify.gathering import gathered
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.classify import rooms as kinds

LITTLE = 0.05  # share of points that are floor, or wall, under which the result is doubted


class RoomsParams(RuleParams):
    cell: float = field(
        "Fineness",
        0.05,
        unit="m",
        gt=0.005,
        le=0.5,
        help="Surfaces are found among points this far apart; each point then goes to the nearest.",
    )


@operation
class Rooms(Rule):
    """Gives the points of rooms the classes floor (64), ceiling (65), wall (66) and furniture (67), on any
    number of storeys.
    """

    name, title = "classify.rooms", "Rooms"
    reads = frozenset({"scan", "pose", "walk"})
    sure = True
    Params = RoomsParams

    def judge(self, job: Job, scans: list[Scan], params: RoomsParams, folder: str, progress: Progress):
        some = gathered(job, scans, params.cell, Part(progress, 0, 0.2))
        progress.advance(0.25, 1, "Finding floors and walls")
        found = kinds.classify(some.xyz, some.cell, some.facing)
        share = np.bincount(found.code, minlength=256) / len(found.code)
        if not share[kinds.FLOOR]:
            raise StateError(
                "No floor was found: no level surface that looks up has room above it.",
                "Choose scans of rooms, and level them first.",
            )
        if not share[kinds.CEILING]:
            self.doubts.append("There is no ceiling: walls are what stands 1.8 m high.")
        for code, what in ((kinds.FLOOR, "floor"), (kinds.WALL, "wall")):
            if share[code] < LITTLE:
                self.doubts.append(
                    f"Only {share[code]:.1%} of the surfaces are {what}: look whether it is so."
                )
        tree = spatial.cKDTree(found.xyz)
        return by_kind, {s.id: s.pose for s in scans}, (found, tree)


def by_kind(cloud: Cloud, start: int, stop: int, pose, common) -> tuple[np.ndarray, np.ndarray]:
    """The new codes of a stretch, and how sure they are."""
    found, tree = common
    return found.at(rigid.apply(pose, cloud.xyz(start, stop)), tree)
