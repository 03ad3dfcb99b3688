"""A cloth laid over points, all at once or tile by tile, with what speaks against it."""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from terrazza.core.classify import cloth, lows, roofs
from terrazza.core.geometry import voxels
from terrazza.core.progress import QUIET, Progress

COARSE, CLIMBED, WIDE = 0.5, 1.0, 5  # m, m, cells: of the cloth that a fine one is compared with
SEEN = 4  # particles along the edge of the cells that are looked through for ground
FEWEST = 10  # points that a cloth is laid over
EDGE = 2  # particles around a tile's own that it gives too, for where its neighbour is empty


@dataclass(frozen=True)
class How:
    """Resolution (m) and threshold (m) of the cloth, its rigidness, step, rounds and slope correction (see
    ``cloth.Cloth``), and whether large roofs are looked for.
    """

    resolution: float
    threshold: float
    rigidness: int = 1
    step: float = 0.65
    rounds: int = 500
    slope: bool = True
    buildings: bool = False

    def cloth(
        self,
        xyz: np.ndarray,
        resolution: float,
        progress: Progress = QUIET,
        frame: tuple[np.ndarray, tuple[int, int]] | None = None,
    ) -> cloth.Cloth:
        """A cloth with these manners. ``xyz`` (n, 3) m."""
        return cloth.Cloth(
            xyz, resolution, self.rigidness, self.step, self.rounds, self.slope, progress, frame
        )


@dataclass(frozen=True)
class Laid:
    """The settled sheet, how many isolated points below were left out, how many cells hold points and how
    many of them ground, the area (m²) over which the cloth seems to lie on something, and the roofs.
    """

    sheet: cloth.Sheet
    late: int
    cells: int
    with_ground: int
    climbed: float
    roofs: roofs.Roofs


@dataclass(frozen=True)
class Own:
    """The particles [first, last) (2,), (2,) of a common grid that are a tile's own; those for ``margin``
    around them help to settle it.
    """

    first: np.ndarray
    last: np.ndarray
    margin: int

    def holds(self, xy: np.ndarray, low: np.ndarray, resolution: float) -> np.ndarray:
        """Mask of places (n, 2) that are its own; ``low`` is the place of the common grid's first."""
        node = np.rint((xy - low) / resolution)
        return ((node >= self.first) & (node < self.last)).all(1)


NO_ROOFS = roofs.Roofs(np.zeros(0, np.int64), np.zeros(0))


def lay(
    xyz: np.ndarray,
    how: How,
    progress: Progress = QUIET,
    low: np.ndarray | None = None,
    own: Own | None = None,
) -> Laid | None:
    """The cloth over thinned points (n, 3), m, z up, without the isolated ones below; with ``own`` only what
    belongs to a tile of the grid that begins at ``low`` (2,).  None where there are hardly any points.
    """
    late = lows.isolated_below(xyz)
    xyz, below = xyz[~late], xyz[late]
    if len(xyz) < FEWEST:
        return None
    frame = None
    if own is not None:
        first, last = own.first - own.margin, own.last + own.margin
        frame = low + first * how.resolution, tuple((last - first).tolist())
        below = below[own.holds(below[:, :2], low, how.resolution)]
    sheet = how.cloth(xyz, how.resolution, progress, frame)
    on = cloth.ground(xyz, sheet, how.threshold)
    found = roofs.find(xyz[on]) if how.buildings and on.any() else NO_ROOFS
    climbed = _climbed(xyz, sheet, how, found)
    cells, where = np.unique(voxels.plan_keys(xyz, SEEN * how.resolution), return_inverse=True)
    lowest = np.zeros(len(cells), bool)
    lowest[where[on]] = True
    if own is not None:
        keep = slice(own.margin - EDGE, EDGE - own.margin)
        sheet = cloth.Sheet(
            low + (own.first - EDGE) * how.resolution,
            how.resolution,
            sheet.height[keep, keep].astype(np.float32),
        )
        found = _of(found, low, how.resolution, own)
        mine = own.holds(climbed, low, how.resolution)
        climbed = climbed[mine]
        middle = np.zeros((len(cells), 2))
        middle[where] = xyz[:, :2]  # any point of the cell says where it is
        lowest = lowest[own.holds(middle, low, how.resolution)]
    return Laid(sheet, len(below), len(lowest), int(lowest.sum()), float(len(climbed) * COARSE**2), found)


def joined(parts: list[tuple[Own, Laid]], low: np.ndarray, shape: tuple[int, int], resolution: float) -> Laid:
    """One of the tiles of a grid of ``shape`` particles from ``low`` (2,): each has its own particles, and
    beside an empty one those at its edge.
    """
    height = np.full(shape, np.nan, np.float32)
    for edge in (EDGE, 0):
        for own, laid in parts:
            first, last = np.maximum(own.first - edge, 0), np.minimum(own.last + edge, shape)
            inner = first - (own.first - EDGE)
            rows, columns = inner + (last - first)
            height[first[0] : last[0], first[1] : last[1]] = laid.sheet.height[
                inner[0] : rows, inner[1] : columns
            ]
    cell = np.concatenate([laid.roofs.cell for _, laid in parts])
    order = np.argsort(cell)
    return Laid(
        cloth.Sheet(low, resolution, height),
        sum(laid.late for _, laid in parts),
        sum(laid.cells for _, laid in parts),
        sum(laid.with_ground for _, laid in parts),
        sum(laid.climbed for _, laid in parts),
        roofs.Roofs(cell[order], np.concatenate([laid.roofs.height for _, laid in parts])[order]),
    )


def _of(found: roofs.Roofs, low: np.ndarray, resolution: float, own: Own) -> roofs.Roofs:
    """The roof cells that are a tile's own."""
    mine = own.holds((voxels.plan_cells(found.cell) + 0.5) * roofs.CELL, low, resolution)
    return roofs.Roofs(found.cell[mine], found.height[mine])


def _climbed(xyz: np.ndarray, sheet: cloth.Cloth, how: How, found: roofs.Roofs) -> np.ndarray:
    """A fine cloth climbs onto houses under which no point is ground: the middles (n, 2) of cells, areas as
    wide as a room together, where a coarse one stays far below it, roofs that were found apart.
    """
    if sheet.resolution >= COARSE:
        return np.zeros((0, 2))
    coarse = how.cloth(xyz, COARSE)
    lying = xyz[cloth.ground(xyz, sheet, 0.4 * sheet.resolution)]
    lying = lying[~found.holds(lying)]
    if not len(lying):
        return np.zeros((0, 2))
    high = sheet.at(lying[:, :2]) - coarse.at(lying[:, :2]) > CLIMBED
    corner = lying[:, :2].min(0)
    cells = np.floor((lying[:, :2] - corner) / COARSE).astype(np.int64)
    over = np.zeros(cells.max(0) + 1, bool)
    over[tuple(cells[high].T)] = True
    return (np.argwhere(ndimage.binary_opening(over, np.ones((WIDE, WIDE)))) + 0.5) * COARSE + corner
