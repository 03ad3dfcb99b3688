"""Ground by cloth simulation: a cloth falls onto the cloud turned upside down.

Zhang et al. 2016, Remote Sensing 8(6):501.  Heights are negated; particles of a grid fall under gravity, are
pulled towards their neighbours as often as the rigidness says, and stop where they meet the highest
(inverted) point of their cell.  Points near the settled cloth are ground.
"""

import numpy as np
from numba import njit
from scipy import ndimage

from terrazza.core.geometry import voxels
from terrazza.core.progress import QUIET, Progress

GRAVITY = 0.2
MARGIN = 2
REST = 0.003


@njit(cache=True, nogil=True)
def _settle(
    height: np.ndarray,
    movable: np.ndarray,
    floor: np.ndarray,
    rigidness: int,
    step: float,
    rounds: int,
    old: np.ndarray,
):
    """Up to ``rounds`` of falling and pulling together; returns the largest move of the last one."""
    rows, columns = height.shape
    biggest = 0.0
    alone, both = (
        1 - 0.7**rigidness,
        0.5 * (1 - 0.4**rigidness),
    )  # a pull of 0.3, repeated as often as the rigidness says
    for _ in range(rounds):
        biggest = 0.0
        for r in range(rows):
            for c in range(columns):
                if movable[r, c]:
                    before = height[r, c]
                    height[r, c] += (height[r, c] - old[r, c]) * 0.99 - GRAVITY * step * step
                    old[r, c] = before
        for r in range(rows):
            for c in range(columns):
                for reach in (1, 2):
                    for dr in (-reach, 0, reach):
                        for dc in (-reach, 0, reach):
                            rr, cc = r + dr, c + dc
                            if (dr == 0 and dc == 0) or rr < 0 or cc < 0 or rr >= rows or cc >= columns:
                                continue
                            gap = height[rr, cc] - height[r, c]
                            if movable[r, c] and movable[rr, cc]:
                                height[r, c] += gap * both
                                height[rr, cc] -= gap * both
                            elif movable[r, c]:
                                height[r, c] += gap * alone
                            elif movable[rr, cc]:
                                height[rr, cc] -= gap * alone
        for r in range(rows):
            for c in range(columns):
                if movable[r, c]:
                    biggest = max(biggest, abs(height[r, c] - old[r, c]))
                    if height[r, c] < floor[r, c]:
                        height[r, c] = floor[r, c]
                        movable[r, c] = False
        if biggest < REST:
            break
    return biggest


@njit(cache=True, nogil=True)
def _smooth_slopes(height: np.ndarray, movable: np.ndarray, floor: np.ndarray, threshold: float):
    """Particles still hanging beside a settled one come down to the cloud where the step is small (slope
    correction).
    """
    rows, columns = height.shape
    changed = True
    while changed:
        changed = False
        for r in range(rows):
            for c in range(columns):
                if not movable[r, c]:
                    continue
                for dr, dc in ((1, 0), (-1, 0), (0, 1), (0, -1)):
                    rr, cc = r + dr, c + dc
                    if (
                        0 <= rr < rows
                        and 0 <= cc < columns
                        and not movable[rr, cc]
                        and abs(floor[rr, cc] - floor[r, c]) < threshold
                    ):
                        height[r, c] = floor[r, c]
                        movable[r, c] = False
                        changed = True
                        break


def likely_resolution(xyz: np.ndarray, least: float = 0.15, most_particles: float = 4e6) -> float:
    """A cloth cell (m) for points (n, 3): three times their typical spacing in plan, within the particles
    that memory allows.
    """
    extent = np.maximum(xyz[:, :2].max(0) - xyz[:, :2].min(0), 0.1)
    cell = float(np.sqrt(extent.prod() / most_particles))
    for size in (0.25, 1.0, 4.0):  # the coarsest grid that the points still fill tells their spacing
        filled = voxels.plan_filled(xyz, size)
        if len(xyz) / filled > 1.5:
            return max(least, cell, 3 * size / np.sqrt(len(xyz) / filled) if size > 0.25 else least)
    return max(least, cell, float(3 * np.sqrt(extent.prod() / len(xyz))))


class Sheet:
    """Heights of the ground (a, b), m, over particles ``resolution`` m apart in plan, the first at ``low``
    (2,), m; NaN where nothing is known.
    """

    def __init__(self, low: np.ndarray, resolution: float, height: np.ndarray):
        self.low, self.resolution, self.height = low, resolution, height

    def at(self, xy: np.ndarray) -> np.ndarray:
        """Ground height (m) at (n, 2) places, bilinear between particles."""
        return ndimage.map_coordinates(
            self.height, ((xy - self.low) / self.resolution).T, order=1, mode="nearest", output=np.float64
        )


class Cloth(Sheet):
    """The settled cloth over a cloud (n, 3), z up, metres.

    ``resolution`` (m) of its grid, ``rigidness`` 1 (steep) to 3 (flat), ``step`` and ``rounds`` of the
    simulation, ``slope``: correct on slopes.  ``frame`` gives the place of the first particle (2,) and how
    many there are both ways; points beyond are not looked at.
    """

    def __init__(
        self,
        xyz: np.ndarray,
        resolution: float = 0.5,
        rigidness: int = 2,
        step: float = 0.65,
        rounds: int = 500,
        slope: bool = True,
        progress: Progress = QUIET,
        frame: tuple[np.ndarray, tuple[int, int]] | None = None,
    ):
        if frame is None:
            low = xyz[:, :2].min(0) - MARGIN * resolution
            size = np.floor((xyz[:, :2].max(0) - low) / resolution).astype(int) + MARGIN + 2
            frame = low, (int(size[0]), int(size[1]))
        low, shape = frame
        floor = _lowest(np.ascontiguousarray(xyz, np.float64), low[0], low[1], resolution, *shape)
        empty = np.isnan(floor)
        if empty.any():
            nearest = ndimage.distance_transform_edt(empty, return_distances=False, return_indices=True)
            floor = floor[tuple(nearest)]
        start = float(floor.max()) + 0.05
        height, old = np.full(shape, start), np.full(shape, start)
        movable = np.ones(shape, np.bool_)
        for done in range(0, rounds, 50):
            progress.advance(done, rounds, "The cloth settles")
            if _settle(height, movable, floor, rigidness, step, 50, old) < REST:
                break
        if slope:
            _smooth_slopes(height, movable, floor, 0.3)
        super().__init__(low, resolution, -height)


@njit(cache=True, nogil=True)
def _lowest(xyz: np.ndarray, low_x: float, low_y: float, resolution: float, rows: int, columns: int):
    """Inverted height of the lowest point under each particle, NaN where there is none."""
    floor = np.full((rows, columns), np.nan)
    for i in range(len(xyz)):
        r = int(np.rint((xyz[i, 0] - low_x) / resolution))
        c = int(np.rint((xyz[i, 1] - low_y) / resolution))
        if 0 <= r < rows and 0 <= c < columns and not floor[r, c] >= -xyz[i, 2]:
            floor[r, c] = -xyz[i, 2]
    return floor


def ground(xyz: np.ndarray, cloth: Sheet, threshold: float = 0.15) -> np.ndarray:
    """Mask of points within ``threshold`` (m) of the cloth. ``xyz`` (n, 3) m, mask (n,)."""
    return np.abs(xyz[:, 2] - cloth.at(xyz[:, :2])) < threshold
