"""How flat, plumb or level a wall or floor is.

A best-fit plane gives its inclination; deviations from it are means of the points in and around cells, so
that noise hardly counts as unevenness; what it does make of a gap is worked out beside it. A straightedge
laid on the side one sees rests on high points; the largest gap under it, over all places and along both
directions of the surface, is what tolerances of building are written in (common practice, no source).
"""

from dataclasses import dataclass

import numpy as np
from numba import njit
from scipy import ndimage

from terrazza.core.geometry import planes

CELL, COARSEST = 0.05, 0.5  # m: cells of a surface at least and at most
FEWEST, USUAL, NEAR = 3, 6, 0.5  # points that a cell needs and usually has, and m in which these are counted
THICK = 0.04  # m: what is farther from the plane is something else
OUTLIER, ROUNDS = 3.0, 8  # robust σ from the plane, and rounds of its fit
STEEP = np.cos(np.radians(45.0))  # of a normal that is upright: floors and ceilings
MIXED = 2.0  # times the usual spread that a cell may have: more are two things
TIMES = 3.0  # by how much the mean of nine cells has less noise than one
KNOWN = 0.6  # share of the cells under a straightedge that have to be seen


@dataclass(frozen=True)
class Flatness:
    """Of one surface: unit ``normal`` (3,) on the side seen, its ``middle`` (3,) m, the ``grid`` (rows,
    columns) of deviations (m, towards the viewer positive, NaN where nothing shows) and their standard
    deviations ``noise``, in cells of an edge ``cell`` (m), whose first begins at ``corner`` (3,) with its
    rows along ``up`` and its columns along ``across`` (3,); ``sigma`` (m) of the points about the cells,
    ``points`` used, and the standard deviations ``turn`` (2,) rad of the plane about ``across`` and ``up``.
    """

    normal: np.ndarray
    middle: np.ndarray
    grid: np.ndarray
    noise: np.ndarray
    cell: float
    corner: np.ndarray
    across: np.ndarray
    up: np.ndarray
    sigma: float
    points: int
    turn: np.ndarray

    @property
    def kind(self) -> str:
        """wall, floor (seen from above) or ceiling."""
        if abs(self.normal[2]) < STEEP:
            return "wall"
        return "floor" if self.normal[2] > 0 else "ceiling"

    @property
    def lean(self) -> float:
        """Of a wall, m per m that it leans towards the viewer with height; of others, how far they fall."""
        flat = float(np.hypot(*self.normal[:2]))
        if self.kind == "wall":
            return -float(self.normal[2]) / flat
        return flat / abs(float(self.normal[2]))

    @property
    def fall(self) -> float:
        """Direction (rad, counter-clockwise from x) in which a floor or ceiling falls."""
        way = self.normal[:2] * np.sign(self.normal[2])
        return float(np.arctan2(way[1], way[0]))

    @property
    def size(self) -> tuple[float, float]:
        """Across and up (m)."""
        rows, columns = self.grid.shape
        return columns * self.cell, rows * self.cell

    def place(self, row: float, column: float) -> np.ndarray:
        """(3,) m of the middle of a cell."""
        return self.corner + self.cell * ((row + 0.5) * self.up + (column + 0.5) * self.across)

    def gap(self, length: float) -> tuple[float, float, np.ndarray]:
        """The largest gap (m) under a straightedge of a ``length`` (m), what noise alone would make of one,
        and where it is (3,) m.
        """
        found, row, column = gap(self.grid, round(length / self.cell))
        alone = np.random.default_rng(0).normal(size=self.grid.shape)
        alone = _evened(alone, np.isfinite(self.grid)) * TIMES * self.noise
        return found, gap(alone, round(length / self.cell))[0], self.place(row, column)


def measured(points: np.ndarray, at: np.ndarray, normal: np.ndarray, viewer: np.ndarray) -> Flatness | None:
    """The surface through a touched place ``at`` (3,) m, roughly of a ``normal`` (3,), as far as points
    (n, 3) show it without a gap; None where they are too few.  ``viewer`` (3,) m says on which side one
    stands.
    """
    middle, edge = at, _edge(points, at, normal)
    for _ in range(2):  # the second time with the better plane
        near = points[np.abs((points - middle) @ normal) < THICK]
        across, up = planes.along(normal)
        up = up if up[2] > 0 else -up
        cell = np.stack([np.floor((near - at) @ axis / edge).astype(np.int64) for axis in (up, across)], 1)
        mine = _joined(cell)
        near, cell = near[mine], cell[mine]
        if len(near) < 10 * FEWEST:
            return None
        middle, normal, used = _plane(near)
    if (viewer - middle) @ normal < 0:
        normal = -normal
    away = (near[used] - middle) @ normal
    first, cell = cell[used].min(0), cell[used] - cell[used].min(0)
    shape = cell.max(0) + 1
    code = cell @ [shape[1], 1]
    many = np.bincount(code, minlength=shape.prod())
    mean = np.bincount(code, away, shape.prod()) / np.maximum(many, 1)
    square = np.bincount(code, (away - mean[code]) ** 2, shape.prod())
    inner = _inner(many.reshape(shape) >= FEWEST).ravel()
    if not inner.any():
        return None
    spread = np.sqrt(square / np.maximum(many - 1, 1))
    inner &= spread < MIXED * np.median(spread[inner])
    inner = inner.reshape(shape)
    grid = _evened(mean.reshape(shape), inner, many.reshape(shape))
    noise = 1 / np.sqrt(np.maximum(_around(np.where(inner, many.reshape(shape), 0)), 1))
    mine = inner.ravel()
    sigma = float(np.sqrt(square[mine].sum() / (many[mine] - 1).sum()))
    corner = at - ((at - middle) @ normal) * normal + edge * (first[0] * up + first[1] * across)
    wide = np.array([np.std((near[used] - middle) @ axis) for axis in (up, across)])
    turn = np.sqrt(np.nanmean(grid**2) / inner.sum()) / np.maximum(wide, edge)
    return Flatness(
        normal, middle, grid, sigma * noise, edge, corner, across, up, sigma, int(used.sum()), turn
    )


def _inner(filled: np.ndarray) -> np.ndarray:
    """The filled cells (rows, columns) that are not at a rim, where other surfaces begin; single cells
    without points make no rim.
    """
    whole = ndimage.binary_closing(np.pad(filled, 2), np.ones((3, 3)))
    return filled & ndimage.binary_erosion(whole, np.ones((3, 3)))[2:-2, 2:-2]


def _edge(points: np.ndarray, at: np.ndarray, normal: np.ndarray) -> float:
    """Edge (m) of cells that usually hold enough of the points about a place."""
    near = (np.abs((points - at) @ normal) < THICK) & (np.linalg.norm(points - at, axis=1) < NEAR)
    return float(np.clip(NEAR * np.sqrt(np.pi * USUAL / max(near.sum(), 1)), CELL, COARSEST))


def _around(grid: np.ndarray) -> np.ndarray:
    """Sums over each cell and the eight around it."""
    return ndimage.convolve(np.asarray(grid, float), np.ones((3, 3)), mode="constant")


def _evened(mean: np.ndarray, there: np.ndarray, many: np.ndarray | float = 1.0) -> np.ndarray:
    """Weighted means over each cell that is there and the eight around it; NaN elsewhere."""
    weight = np.where(there, many, 0.0)
    return np.where(
        there, _around(weight * np.where(there, mean, 0)) / np.maximum(_around(weight), 1e-9), np.nan
    )


def _joined(cell: np.ndarray) -> np.ndarray:
    """Mask of the points whose cells (n, 2), filled ones only, hang together with the one nearest to the
    touched place (0, 0).
    """
    if not len(cell):
        return np.zeros(0, bool)
    first = cell.min(0)
    shape = np.ptp(cell, axis=0) + 1
    code = (cell - first) @ [shape[1], 1]
    counts = np.bincount(code, minlength=shape.prod()).reshape(shape)
    labels, _ = ndimage.label(counts >= FEWEST, np.ones((3, 3)))
    filled = np.argwhere(labels)
    if not len(filled):
        return np.zeros(len(cell), bool)
    nearest = filled[np.abs(filled + first).sum(1).argmin()]
    return labels.ravel()[code] == labels[tuple(nearest)]


def _plane(points: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Middle and normal (3,) of the plane through points (n, 3), and which (n,) lie near it; those beyond
    three robust deviations are left out of its fit.
    """
    used = np.ones(len(points), bool)
    for _ in range(ROUNDS):
        middle = points[used].mean(0)
        left = points[used] - middle
        normal = np.linalg.eigh(left.T @ left)[1][:, 0]
        away = np.abs((points - middle) @ normal)
        now = away < max(OUTLIER * 1.4826 * float(np.median(away[used])), 1e-4)
        if np.array_equal(now, used):
            break
        used = now
    return middle, normal, away < THICK


def gap(grid: np.ndarray, cells: int) -> tuple[float, float, float]:
    """The largest gap (m) under a straightedge of so many ``cells`` laid on a grid (rows, columns) of heights
    (m, NaN where none are known) along its rows or columns, and the row and column where it is.
    """
    cells = max(cells, 2)
    along = _gap(np.ascontiguousarray(grid, float), cells, KNOWN)
    down = _gap(np.ascontiguousarray(grid.T, float), cells, KNOWN)
    return tuple(along) if along[0] >= down[0] else (down[0], down[2], down[1])


@njit(cache=True, nogil=True)
def _gap(grid: np.ndarray, cells: int, known: float):
    """Upper hulls (Andrew 1979) of the stretches of each row."""
    rows, columns = grid.shape
    best = (0.0, 0.0, 0.0)
    hull = np.empty(cells + 1, np.int64)
    cells = min(cells, columns - 1)
    for i in range(rows):
        for start in range(columns - cells):
            top, there = 0, 0
            for j in range(start, start + cells + 1):
                h = grid[i, j]
                if np.isnan(h):
                    continue
                there += 1
                while top > 1:
                    a, b = hull[top - 2], hull[top - 1]
                    if (grid[i, b] - grid[i, a]) * (j - a) > (h - grid[i, a]) * (b - a):
                        break
                    top -= 1
                hull[top] = j
                top += 1
            if there < known * (cells + 1):
                continue
            for k in range(top - 1):
                a, b = hull[k], hull[k + 1]
                for j in range(a + 1, b):
                    under = grid[i, a] + (grid[i, b] - grid[i, a]) * (j - a) / (b - a) - grid[i, j]
                    if under > best[0]:
                        best = (under, float(i), float(j))
    return best
