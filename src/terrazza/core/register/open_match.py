"""Open match: rough placements of a scan in a map by what both saw occupied and what both saw through.

Walls alone bring a scan that shares little with the rest, through a door, to where most wall lies over wall,
which is somewhere else.  Here cells of the plan at a few heights over the floor are occupied, open (a ray
went through) or not seen; a placement is worth the cells that are occupied in both, less those that one saw
occupied and the other through.  All shifts under a turn are scored at once by correlation (FFT).  After
Moravec and Elfes 1985 (occupancy from ranges) and Olson 2009 (placements by exhaustive correlation).
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy import fft, ndimage

from terrazza.core.geometry import rigid
from terrazza.core.register.picture import Picture
from terrazza.core.register.plan_match import (
    REACH,
    PlanShape,
    heights,
    likely_turns,
    shifted,
    slid,
    tops,
    walls_to_slide,
)
from terrazza.core.register.surface import Surface

CELL, SIDE = 0.20, 512  # m, and cells each way: twice the reach of both, so that no shift wraps around
HALF = SIDE // 2
# m over the floor: sills and furniture, over furniture, over doors' handles
BANDS = ((0.3, 1.0), (1.0, 1.7), (1.7, 2.3))
UPRIGHT = 0.5  # height of a unit normal from which a point belongs to a floor, a table or a ceiling
BEHIND = 0.35  # m before what a ray met in which it opens nothing: edges must not look open
STEP = 0.1  # m along a ray
PEAKS = 12  # kept under a turn, each the best within 0.6 m
AGAINST = 3.0  # what a cell occupied here and open there costs, in cells occupied in both
STOREY = 1.2  # m between floors that are not one storey
ONE_FLOOR = 0.6  # m from floor to floor that levels may say otherwise
GRID = np.ones((3, 3), bool)


@dataclass(frozen=True)
class OpenShape:
    """What a scan saw in plan, stood upright: for each band the places (n, 2) m of ``occupied`` points and
    the centres (n, 2) m of ``open`` cells; ``floor`` is the height (m) of the floor under it.
    """

    upright: np.ndarray
    floor: float
    occupied: tuple[np.ndarray, ...]
    open: tuple[np.ndarray, ...]

    @classmethod
    def of(cls, surface: Surface, shape: PlanShape, picture: Picture) -> "OpenShape":
        up = shape.upright
        xyz, level = rigid.apply(up, surface.xyz), surface.normals @ up[2, :3]
        use = (np.abs(level) < UPRIGHT) & (np.hypot(xyz[:, 0], xyz[:, 1]) < REACH)
        xyz, floor = xyz[use], picture.floor
        low, high = (np.array([band[k] for band in BANDS]) + floor for k in (0, 1))
        passed = np.zeros((len(BANDS), SIDE, SIDE), np.bool_)
        _sweep(rigid.apply(up, picture.xyz), low, high, REACH, passed)
        occupied = tuple(xyz[(xyz[:, 2] > lo) & (xyz[:, 2] < hi), :2] for lo, hi in zip(low, high))
        clear = [
            ndimage.binary_erosion(through & ~ndimage.binary_dilation(_cells(at, 2), GRID), GRID)
            for through, at in zip(passed, occupied)
        ]
        return cls(up, floor, occupied, tuple((np.argwhere(c) - HALF + 0.5) * CELL for c in clear))


@dataclass(frozen=True)
class OpenMap:
    """Scans put together: spectra of what is ``occupied`` and ``open``, both (bands, …), about the origin."""

    occupied: np.ndarray
    open: np.ndarray

    @classmethod
    def of(cls, shapes: list[OpenShape], poses: list[np.ndarray]) -> "OpenMap":
        """``poses`` (4, 4): of the scans in a frame that is upright. What some saw through and others saw
        occupied has moved, and says nothing.
        """
        ways = [pose @ rigid.inverse(s.upright) for s, pose in zip(shapes, poses)]
        told = [(w[:2, :2].T, w[:2, 3]) for w in ways]
        occupied, clear = np.zeros((2, len(BANDS), SIDE, SIDE), bool)
        for k in range(len(BANDS)):
            occupied[k] = _cells(
                np.concatenate([s.occupied[k] @ r + t for s, (r, t) in zip(shapes, told)]), 2
            )
            for s, (r, t) in zip(shapes, told):  # a turned grid leaves holes between its cells
                clear[k] |= ndimage.binary_closing(_cells(s.open[k] @ r + t), GRID)
        still = occupied & ~clear
        beside = ndimage.binary_dilation(still, GRID[None])
        return cls(_spectrum(beside if len(shapes) == 1 else still), _spectrum(clear & ~beside))

    def peaks(self, shape: OpenShape, turn: float) -> list[tuple[float, float, float]]:
        """(score, dx, dy) of the best shifts (m) of a scan turned by ``turn`` (rad)."""
        r = rigid.about_z(turn)[:2, :2].T
        occupied = np.conj(_spectrum([_cells(p @ r, 2) for p in shape.occupied]))
        clear = np.conj(_spectrum([_cells(p @ r) for p in shape.open]))
        both = (self.occupied * occupied).sum(0)
        against = (self.open * occupied).sum(0) + (self.occupied * clear).sum(0)
        score, out = fft.irfft2(both - AGAINST * against, (SIDE, SIDE)), []
        for at in tops(score, PEAKS):
            dx, dy = shifted(np.array(at), SIDE) * CELL
            out.append((float(score[at]), float(dx), float(dy)))
        return out


def _cells(xy: np.ndarray, least: int = 1) -> np.ndarray:
    """(SIDE, SIDE) bool: cells that hold ``least`` of the points (n, 2) m or more."""
    ij = np.floor(xy / CELL).astype(np.int64) + HALF
    ij = ij[((ij >= 0) & (ij < SIDE)).all(1)]
    return np.bincount(ij[:, 0] * SIDE + ij[:, 1], minlength=SIDE * SIDE).reshape(SIDE, SIDE) >= least


def _spectrum(grids: "np.ndarray | list[np.ndarray]") -> np.ndarray:
    return fft.rfft2(np.asarray(grids, np.float32))


@njit(cache=True, nogil=True)
def _sweep(xyz: np.ndarray, low: np.ndarray, high: np.ndarray, reach: float, passed: np.ndarray):
    """Mark the cells that rays from the origin to points went through, by the band of their height there."""
    side = passed.shape[1]
    for i in range(len(xyz)):
        flat = np.hypot(xyz[i, 0], xyz[i, 1])
        if flat < BEHIND:
            continue
        for k in range(1, int((min(flat, reach) - BEHIND) / STEP)):
            t = k * STEP / flat
            for band in range(len(low)):
                if low[band] < t * xyz[i, 2] < high[band]:
                    u = int(np.floor(t * xyz[i, 0] / CELL)) + side // 2
                    v = int(np.floor(t * xyz[i, 1] / CELL)) + side // 2
                    passed[band, u, v] = True
                    break


def storeys(floors: np.ndarray) -> list[list[int]]:
    """Indices of ``floors`` (n,) m that are one storey each, the fullest first."""
    order = np.argsort(floors, kind="stable")
    breaks = np.flatnonzero(np.diff(floors[order]) > STOREY) + 1
    return sorted((part.tolist() for part in np.split(order, breaks)), key=lambda p: -len(p))


def candidates(
    shapes: list[OpenShape],
    poses: list[np.ndarray],
    plan: PlanShape,
    scan: OpenShape,
    scan_plan: PlanShape,
    keep: int,
) -> list[list[np.ndarray]]:
    """By storey the best rough poses (4, 4) of a scan among others that have ``poses`` (4, 4) in the frame of
    ``plan``, the shape of them all, so many on each; ``scan_plan`` is the scan's own. Best first.
    """
    if min(len(plan.xy), len(scan_plan.xy)) < 100:
        return []
    standing = [plan.upright @ p for p in poses]
    floors = np.array([p[2, 3] + s.floor for s, p in zip(shapes, standing)])
    places = np.array([p[:2, 3] for p in standing])
    turns = likely_turns(plan, scan_plan)
    walls, back, turned, out = plan.walls(), rigid.inverse(plan.upright), {}, []
    for part in storeys(floors):
        whole, found = OpenMap.of([shapes[k] for k in part], [standing[k] for k in part]), []
        out.append([])
        for turn in turns:
            found += [(score, turn, dx, dy) for score, dx, dy in whole.peaks(scan, turn)]
        for _, turn, dx, dy in sorted(found, key=lambda f: -f[0])[:keep]:
            if turn not in turned:
                turned[turn] = walls_to_slide(scan_plan, turn)
            nearest = part[int(np.argmin(np.hypot(*(places[part] - [dx, dy]).T)))]
            on = float(floors[nearest]) - scan.floor
            up = [z for z in heights(plan, scan_plan, turn, dx, dy) if abs(z - on) < ONE_FLOOR] or [on]
            for x, y in [(dx, dy), *slid(walls, *turned[turn], np.array([dx, dy]))]:
                out[-1].append(back @ rigid.make(rigid.about_z(turn), np.array([x, y, up[0]])) @ scan.upright)
    return out
