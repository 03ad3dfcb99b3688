"""What a scan saw, pixel by pixel of 1°: the picture in which points of other scans are looked for."""

from dataclasses import dataclass
from functools import cached_property
from itertools import product

import numpy as np
from scipy import ndimage

from terrazza.core.geometry import voxels
from terrazza.core.register.in_picture import CLOSE, COLUMNS, PIXEL, ROWS, Points

# m, and per metre of range, from the nearest of its eight neighbours: a pixel farther from all of them spans
# an edge, and its range lies anywhere between what is before and behind it
ALONE = (0.03, 0.01)
STRIP = 3  # such neighbours of a pixel in a strip of them, at most: in leaves there are more
EDGES = ((1, 1), (1, -1), (0, 1))  # axis and way to the flanks of a pixel, and over it
FARTHER = (0.12, 0.01)  # m, and per metre of range, by which something beside a pixel lies behind it
UNDER, FLOOR_CELL = 4.0, 0.5  # m about a station in which its floor is looked for, and cells of it
ONE_OF = 8  # at a glance of so many points one is looked for
FLAT = np.cos(np.radians(25))  # within which the corners of what is flat about a pixel face one way
SEEN = 5  # pixels of a column from which a scan saw something that way


@dataclass(frozen=True)
class Picture:
    """The first return of each pixel of 1°: ``xyz`` (n, 3) in the scanner's frame, in single precision and
    coordinate by coordinate in memory as ``points`` need them, with ``row``, ``column``, and ``near`` and
    ``far`` (rows, columns), the least and the greatest range among a pixel and its neighbours (NaN where a
    pixel saw nothing); and where it is flat about a pixel the unit normal ``facing`` (n, 3) the scanner,
    zeros elsewhere.
    """

    xyz: np.ndarray
    row: np.ndarray
    column: np.ndarray
    near: np.ndarray
    far: np.ndarray
    facing: np.ndarray

    @cached_property
    def floor(self) -> float:
        """Height (m, scanner frame) of the floor under the station, −1.6 where none is seen: the median of
        what is lowest in each cell of the plan, since walls and furniture stand on floor that is seen.
        """
        below = self.xyz[(self.xyz[:, 2] < -0.4) & (np.hypot(self.xyz[:, 0], self.xyz[:, 1]) < UNDER)]
        if len(below) <= 50:
            return -1.6
        cells, cell = np.unique(voxels.keys(below * [1, 1, 0], FLOOR_CELL), return_inverse=True)
        return float(np.median(ndimage.minimum(below[:, 2], cell, np.arange(len(cells)))))

    @cached_property
    def around(self) -> float:
        """Share of the horizon in which something was seen, floor and ceiling too: 1 of a scan all around, a
        fifth of a sector of 72°.
        """
        return float((np.bincount(self.column, minlength=COLUMNS) >= SEEN).mean())

    @cached_property
    def points(self) -> Points:
        """All points, to be looked for in other pictures; no copy of them."""
        return Points.of(self.xyz)

    @cached_property
    def few(self) -> Points:
        """One of ``ONE_OF`` of them."""
        return Points.of(self.xyz[::ONE_OF])

    @cached_property
    def jumps(self) -> np.ndarray:
        """(rows, columns) uint8: bit by bit whether something farther, or nothing, was seen next to a pixel
        in the directions of ``EDGES``. All of them where there is no picture.
        """
        if not np.isfinite(self.near).any():
            return np.full((ROWS, COLUMNS), 2 ** len(EDGES) - 1, np.uint8)
        r, out = self._ranges(), np.zeros((ROWS, COLUMNS), np.uint8)
        for bit, (axis, way) in enumerate(EDGES):
            beside = np.maximum(np.roll(r, -way, axis), np.roll(r, -2 * way, axis))
            out |= (beside > r * (1 + FARTHER[1]) + FARTHER[0]).astype(np.uint8) << bit
        return out

    @cached_property
    def alone(self) -> np.ndarray:
        """(n,) bool: pixels of which no neighbour is about as far, in strips as along an edge and not in
        leaves; none where there is no picture.
        """
        r = self._ranges()
        ways = [way for way in product((-1, 0, 1), repeat=2) if any(way)]
        least = np.full((ROWS, COLUMNS), np.inf)
        with np.errstate(invalid="ignore"):  # nothing beside nothing
            for way in ways:
                least = np.fmin(least, np.abs(np.roll(r, way, (0, 1)) - r))
        alone = (least > ALONE[0] + ALONE[1] * r) & np.isfinite(self.near).any()
        like = sum(np.roll(alone, way, (0, 1)).astype(np.uint8) for way in ways)
        return (alone & (like <= STRIP))[self.row, self.column]

    def _ranges(self) -> np.ndarray:
        """(rows, columns) m of each pixel, infinite where nothing was seen."""
        r = np.full((ROWS, COLUMNS), np.inf)
        r[self.row, self.column] = np.linalg.norm(self.xyz, axis=1)
        return r

    @classmethod
    def of(cls, xyz: np.ndarray, station: bool = True) -> "Picture":
        """Of a scan's points (n, 3); without a ``station`` at the origin it has points to be looked for, and
        no picture to look for others in.
        """
        r = np.linalg.norm(xyz, axis=1)
        use = r > CLOSE
        xyz, r = xyz[use], r[use]
        row = np.clip(
            ((np.arcsin(np.clip(xyz[:, 2] / r, -1, 1)) + np.pi / 2) / PIXEL).astype(int), 0, ROWS - 1
        )
        column = ((np.arctan2(xyz[:, 1], xyz[:, 0]) + np.pi) / PIXEL).astype(int) % COLUMNS
        pixel = row * COLUMNS + column
        order = np.lexsort((r, pixel))
        first = order[np.r_[True, pixel[order][1:] != pixel[order][:-1]]]
        near, far = np.full((ROWS, COLUMNS), np.inf), np.full((ROWS, COLUMNS), -np.inf)
        np.minimum.at(near, (row, column), r)
        np.maximum.at(far, (row, column), r)
        empty = ~np.isfinite(near)
        near, far = (
            ndimage.minimum_filter(near, 3, mode=("nearest", "wrap")),
            ndimage.maximum_filter(far, 3, mode=("nearest", "wrap")),
        )
        near[empty] = far[empty] = np.nan
        if not station:
            near[:] = far[:] = np.nan
            first = np.random.default_rng(1).choice(
                len(xyz), min(len(xyz), ROWS * COLUMNS // 2), replace=False
            )
        xyz, row, column = xyz[first], row[first], column[first]
        facing = _facing(xyz, row, column) if station else np.zeros(xyz.shape)
        return cls(
            np.asfortranarray(xyz, np.float32),
            row.astype(np.int16),
            column.astype(np.int16),
            near.astype(np.float32),
            far.astype(np.float32),
            facing.astype(np.float32),
        )


def _facing(xyz: np.ndarray, row: np.ndarray, column: np.ndarray) -> np.ndarray:
    """(n, 3): unit normals of what is flat about each pixel (``xyz`` (n, 3) at ``row`` and ``column``),
    towards the scanner; zeros where the corners of its cross of neighbours do not face one way, or one of
    them saw nothing.
    """
    grid = np.full((ROWS, COLUMNS, 3), np.nan)
    grid[row, column] = xyz
    up, left, down, right = (np.roll(grid, way, axis) - grid for way in (-1, 1) for axis in (0, 1))
    up[-1] = down[0] = np.nan  # zenith and nadir
    ways = (left, up), (up, right), (right, down), (down, left)
    with np.errstate(invalid="ignore", divide="ignore"):  # nothing beside nothing
        corners = np.stack([np.cross(*way) for way in ways])
        corners /= np.linalg.norm(corners, axis=-1, keepdims=True)
        mean = corners.sum(0)
        mean /= np.linalg.norm(mean, axis=-1, keepdims=True)
        flat = ((corners * mean).sum(-1) > FLAT).all(0)
        mean *= -np.sign((mean * grid).sum(-1, keepdims=True))
    mean[~flat] = 0.0
    return mean[row, column]
