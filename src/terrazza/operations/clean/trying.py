"""Try-outs: what a rule would take of a piece of the points, found without changing anything."""

from dataclasses import dataclass, field, replace

import numpy as np

from terrazza.core.progress import Progress
from terrazza.operations.clean.taking import tally
from terrazza.operations.spine.job import Job, Scan


@dataclass(frozen=True)
class Piece:
    """Points that are looked at: sorted indices (n,) by scan, and whether that is all there are in view."""

    points: dict[int, np.ndarray]
    whole: bool = True


@dataclass(frozen=True)
class Tried:
    """What would go: sorted indices by scan, counts by range and class, and figures; ``places`` (n, 3) in the
    grid (or job frame) by scan, where the points of these indices would lie, of what moves.
    """

    gone: dict[int, np.ndarray]
    tallies: list = field(default_factory=list)
    figures: dict = field(default_factory=dict)
    places: dict[int, np.ndarray] = field(default_factory=dict)

    def with_figures(self, figures: dict, doubts: list[str]) -> "Tried":
        return replace(self, figures=figures | {"doubt": doubts + figures["doubt"]})


def try_on(
    job: Job, scans: list[Scan], piece: Piece, choose, args: dict, common, progress: Progress
) -> Tried:
    """Ask a rule about the points of a piece, stretch by stretch, as the run would."""
    gone, tallies, done, total = {}, [], 0, sum(map(len, piece.points.values()))
    for scan in scans:
        cloud, index, found = job.cloud(scan.id), piece.points[scan.id], [np.zeros(0, np.int64)]
        for start, stop in cloud.blocks():
            mine = index[np.searchsorted(index, start) : np.searchsorted(index, stop)]
            if not len(mine):
                continue
            free = np.isin(mine, cloud.kept_of(mine), assume_unique=True)
            taken = choose(cloud, start, stop, args.get(scan.id), common)[mine - start] & free
            found.append(mine[taken])
            tallies.append(tally(cloud, start, stop, free, taken, mine))
            done += len(mine)
            progress.advance(done, total, "Trying")
        gone[scan.id] = np.concatenate(found)
    return Tried(gone, tallies)
