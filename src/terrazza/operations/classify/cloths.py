"""The cloth that ground is found by, over all points of a job: at once where they fit into memory, otherwise
in tiles that overlap, over the fleet.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.pieces import neighbours
from terrazza.operations.pieces.counting import thinned
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan

with later():
    from terrazza.core.classify import cloth, laying
    from terrazza.core.geometry import voxels

WHOLE = 20_000_000  # points that one cloth is laid over; more go in tiles
SIDE, MARGIN = 600, 60  # particles of a tile along its edge, and around it
LEAST_SIDE = 50
FINE, COARSEST = 0.05, 0.25  # m: that points are thinned to
PARTICLES = 6e7  # of all tiles together: heights of 4 bytes
WINDOWS, WINDOW = 9, 60.0  # places where the spacing is looked at, m across
HIGHER = 1e5  # m: above and below everything
BARE = 0.5  # share of the area without any ground that is told as a doubt


@dataclass(frozen=True)
class Settled:
    """What was laid, the distance (m) to it that is ground, and what speaks against it."""

    laid: "laying.Laid"
    threshold: float
    doubts: list[str]

    @property
    def sheet(self) -> "cloth.Sheet":
        return self.laid.sheet


@dataclass(frozen=True)
class Tile:
    """What is read for a tile: points of clouds in a box of the job frame, thinned to ``cell`` m."""

    own: "laying.Own"
    cell: float
    low: np.ndarray
    high: np.ndarray


def settled(job: Job, scans: list[Scan], params, progress: Progress, least: float = 0.0) -> Settled:
    """The settled cloth over placed scans, by the parameters of *Ground*.  A cell left to be chosen is
    ``least`` m at least.
    """
    thin = min(params.resolution / 3, COARSEST) or FINE
    manners = (params.rigidness, params.step, params.rounds, params.slope, params.buildings)
    if sum(s.points for s in scans) > WHOLE:
        laid, threshold = _in_tiles(job, scans, params, thin, least, manners, progress)
    else:
        xyz = thinned(job, scans, thin, Part(progress, 0, 0.5))
        resolution, threshold = _chosen(params, least, lambda: cloth.likely_resolution(xyz))
        laid = laying.lay(xyz, laying.How(resolution, threshold, *manners), Part(progress, 0.5, 1.0))
    if laid is None:
        raise StateError(
            "Too few points are left to find the ground in.", "Put cuts back, or choose more scans."
        )
    return Settled(laid, threshold, _doubts(laid))


def _chosen(params, least: float, likely) -> tuple[float, float]:
    """Resolution and threshold (m), what is left open by what ``likely()`` says."""
    usual = params.resolution or likely()
    return params.resolution or max(usual, least), params.threshold or 0.4 * usual


def _in_tiles(job: Job, scans, params, thin: float, least: float, manners, progress: Progress):
    """The same tile by tile; flat memory, whatever the number of points."""
    low, high = _extent(job, scans)
    wide = float(np.sqrt((high - low).prod() / PARTICLES))

    def likely() -> float:
        return max(wide, _spacing(job, scans, Part(progress, 0, 0.05)))

    resolution, threshold = _chosen(params, least, likely)
    how = laying.How(max(resolution, wide), threshold, *manners)
    low = low - cloth.MARGIN * how.resolution
    shape = np.ceil((high - low) / how.resolution).astype(int) + cloth.MARGIN + 1
    clouds = tuple(CloudPiece.of(job, s) for s in scans)
    poses = tuple(s.pose for s in scans)
    tiles, points = _tiles(job, scans, how, low, shape, thin)
    common = (clouds, poses, how, low)
    found = job.fleet.map(
        _one_tile, tiles, points, Part(progress, 0.05, 1.0), "The cloth settles", common=common
    )
    parts = [(tile.own, laid) for tile, laid in zip(tiles, found) if laid is not None]
    return (laying.joined(parts, low, tuple(shape), how.resolution) if parts else None), threshold


def _extent(job: Job, scans) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest places (2,), (2,) in plan of the scans' points."""
    corners = []
    for scan in scans:
        ends = np.stack(job.cloud(scan.id).bounds())
        every = np.stack(np.meshgrid(*ends.T), -1).reshape(-1, 3)
        corners.append(rigid.apply(scan.pose, every)[:, :2])
    every = np.concatenate(corners)
    return every.min(0), every.max(0)


def _tiles(job: Job, scans, how, low, shape, thin: float) -> tuple[list[Tile], list[float]]:
    """Tiles with about how many points each holds, halved where there are more than memory allows."""
    clouds, poses = [job.cloud(s.id) for s in scans], [s.pose for s in scans]
    most, tiles, points = job.fleet.points_at_once, [], []
    starts = [range(0, n, SIDE) for n in shape]
    todo = [(np.array([r, c]), np.minimum([r + SIDE, c + SIDE], shape)) for r in starts[0] for c in starts[1]]
    while todo:
        first, last = todo.pop()
        margin = MARGIN * how.resolution
        lowest, highest = low + (first - 0.5) * how.resolution, low + (last - 0.5) * how.resolution
        box = [*(lowest - margin), -HIGHER], [*(highest + margin), HIGHER]
        count = neighbours.crowd(clouds, poses, *box, thin / 2)
        if count > most and (last - first).max() > LEAST_SIDE:
            axis = int((last - first).argmax())
            middle = (first[axis] + last[axis]) // 2
            for a, b in ((first[axis], middle), (middle, last[axis])):
                one, other = first.copy(), last.copy()
                one[axis], other[axis] = a, b
                todo.append((one, other))
        elif count:
            tiles.append(Tile(laying.Own(first, last, MARGIN), thin, np.array(box[0]), np.array(box[1])))
            points.append(float(count))
    return tiles, points


def _one_tile(tile: Tile, common, progress: Progress) -> "laying.Laid | None":
    pieces, poses, how, low = common
    clouds = [p.open() for p in pieces]
    xyz = neighbours.within(clouds, poses, tile.low, tile.high, tile.cell / 2)
    xyz = xyz[voxels.one_per_cell(xyz, tile.cell)] if len(xyz) else xyz
    return laying.lay(xyz, how, progress, low, tile.own)


def _spacing(job: Job, scans, progress: Progress) -> float:
    """The cell that the points ask for: the middle one of those of a few windows."""
    rng = np.random.default_rng(3)
    clouds, poses = [job.cloud(s.id) for s in scans], [s.pose for s in scans]
    asked = []
    for number in range(WINDOWS):
        progress.advance(number, WINDOWS, "Looking at the spacing")
        which = int(
            rng.choice(len(scans), p=np.array([s.points for s in scans]) / sum(s.points for s in scans))
        )
        sample = clouds[which].sample(5000)
        place = rigid.apply(poses[which], clouds[which].at(sample[rng.integers(len(sample)), None]))[0, :2]
        box = [*(place - WINDOW / 2), -HIGHER], [*(place + WINDOW / 2), HIGHER]
        xyz = neighbours.within(clouds, poses, *box, FINE / 2)
        if len(xyz):
            asked.append(cloth.likely_resolution(xyz[voxels.one_per_cell(xyz, FINE)]))
    return float(np.median(asked)) if asked else COARSEST


def _doubts(laid) -> list[str]:
    """What speaks against a cloth: that it hangs below the lowest points of most of its cells, or that it may
    lie on houses.
    """
    out, bare = [], 1 - laid.with_ground / max(laid.cells, 1)
    if bare > BARE:
        out.append(
            f"In {bare:.0%} of the area no point lies on the ground that was found: look whether it hangs "
            "below or cuts through."
        )
    if laid.climbed:
        out.append(
            f"On {laid.climbed:.0f} m² the cloth may lie on houses or other things without ground under "
            f"them: with cells of {laying.COARSE:g} m it is over {laying.CLIMBED:g} m lower there. Look at "
            "the heights, or take those."
        )
    return out
