"""The rooms of a storey in plan: where a ceiling or a floor is seen and no wall stands under the ceiling.

Under the ceiling there is little furniture, and walls go on over doors and windows, so that rooms close by
themselves.
"""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

CELL = 0.05  # m: of the raster that tells rooms apart
COARSE = 0.5  # m: of the raster of ceiling heights
LOWEST, HIGHEST = 1.9, 6.0  # m over the floor: where ceilings are looked for
UNDER, CLEAR = 0.4, 0.08  # m under the ceiling: from where to where walls are looked for
LAYER = 0.05  # m: a layer of that
HIGH, LOW = 0b00001111, 0b11110000  # layers from the ceiling down: beams fill only the first, walls both
FLAT = 0.1  # m: what is so near to floor or ceiling belongs to it
LEAST = 1.0  # m²: smaller places are none
COVERED = 0.5  # share of a room under a ceiling that is seen, where no station stands in it


@dataclass(frozen=True)
class Storey:
    """Rooms on a raster whose cell (0, 0) begins at ``corner`` (2,), x by row: ``label`` (nx, ny), 0 where
    there is none, numbered to ``count``; ``ceiling`` (nx, ny) height of the ceiling; ``floor`` its height.
    """

    corner: np.ndarray
    label: np.ndarray
    count: int
    ceiling: np.ndarray
    floor: float

    def cells(self, xy: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Rows and columns of places (n, 2), held within the raster."""
        index = np.floor((xy - self.corner) / CELL).astype(int)
        return tuple(np.clip(index, 0, np.array(self.label.shape) - 1).T)


def find(points: np.ndarray, floor: float, stations: np.ndarray) -> Storey:
    """Rooms about ``points`` (n, 3) over a floor at height ``floor``; ``stations`` (k, 3) stand in rooms."""
    corner = points[:, :2].min(0) - 4 * CELL
    shape = tuple(np.ceil((points[:, :2].max(0) + 4 * CELL - corner) / CELL).astype(int))
    row, column = np.floor((points[:, :2] - corner) / CELL).astype(int).T
    ceiling = _ceilings(points, corner, shape, floor)
    under = ceiling[row, column] - points[:, 2]
    low = (under > CLEAR) & (under < UNDER)
    layers = np.zeros(shape, np.uint16)
    level = (under[low] / LAYER).astype(np.uint16)
    np.bitwise_or.at(layers, (row[low], column[low]), np.uint16(1) << level)
    wall = ndimage.binary_dilation((layers & HIGH > 0) & (layers & LOW > 0), np.ones((3, 3)))
    lid, ground = np.zeros(shape, bool), np.zeros(shape, bool)
    above, below = np.abs(under) < FLAT, np.abs(points[:, 2] - floor) < FLAT
    lid[row[above], column[above]] = True
    ground[row[below], column[below]] = True
    inside = ndimage.binary_closing(lid | ground, np.ones((5, 5))) & ~wall
    label, count = ndimage.label(inside)
    area = np.bincount(label.ravel(), minlength=count + 1) * CELL**2
    covered = np.bincount(label[lid & inside], minlength=count + 1) * CELL**2
    standing = np.zeros(count + 1, bool)
    if len(stations):
        at = np.clip(np.floor((stations[:, :2] - corner) / CELL).astype(int), 0, np.array(shape) - 1)
        standing[label[at[:, 0], at[:, 1]]] = True
    keep = (area >= LEAST) & (covered > COVERED * area) | (area >= LEAST) & standing & (covered > 0.1 * area)
    keep[0] = False
    number = np.where(keep, np.cumsum(keep), 0)
    filled = _filled(number[label], int(keep.sum()))
    return Storey(corner, filled, int(keep.sum()), ceiling, floor)


def _filled(label: np.ndarray, count: int) -> np.ndarray:
    """Rooms without the small holes that lamps and shadows leave in them."""
    out = label.copy()
    for k in range(1, count + 1):
        box = ndimage.find_objects(label)[k - 1]
        mine = label[box] == k
        holes, n = ndimage.label(ndimage.binary_fill_holes(mine) & ~mine)
        sizes = np.bincount(holes.ravel(), minlength=n + 1) * CELL**2
        small = (sizes < 0.04)[holes] & (holes > 0)
        out[box][small] = k
    return out


def _ceilings(points: np.ndarray, corner: np.ndarray, shape: tuple[int, int], floor: float) -> np.ndarray:
    """Height of the ceiling over each cell: the fullest 5 cm of height over each half metre, evened out."""
    high = points[(points[:, 2] > floor + LOWEST) & (points[:, 2] < floor + HIGHEST)]
    size = tuple(-(-n // int(COARSE / CELL)) for n in shape)
    if not len(high):
        return np.full(shape, floor + 2.5)
    at = np.floor((high[:, :2] - corner) / COARSE).astype(int)
    layer = ((high[:, 2] - floor - LOWEST) / LAYER).astype(int)
    layers = int((HIGHEST - LOWEST) / LAYER) + 1
    counts = np.zeros((*size, layers))
    np.add.at(counts, (at[:, 0], at[:, 1], layer), 1)
    best = counts.argmax(2)
    usual = np.bincount(best[counts.max(2) > 0]).argmax()
    near = np.abs(layer - best[at[:, 0], at[:, 1]]) <= 1
    sums, n = np.zeros(size), np.zeros(size)
    np.add.at(sums, (at[near, 0], at[near, 1]), high[near, 2])
    np.add.at(n, (at[near, 0], at[near, 1]), 1)
    height = np.where(n > 0, sums / np.maximum(n, 1), floor + LOWEST + (usual + 0.5) * LAYER)
    height = ndimage.median_filter(height, 3)
    wide = np.repeat(np.repeat(height, int(COARSE / CELL), 0), int(COARSE / CELL), 1)
    return wide[: shape[0], : shape[1]]


def loops(mask: np.ndarray) -> list[np.ndarray]:
    """The borders of a mask (nx, ny) as closed ways over corners of cells (n, 2), counter-clockwise about
    what is inside, so holes clockwise; the longest first.
    """
    padded = np.pad(mask, 1)
    inside, steps = padded.astype(bool), {}
    for (di, dj), (a, b) in {
        (0, -1): ((0, 0), (1, 0)),
        (1, 0): ((1, 0), (1, 1)),
        (0, 1): ((1, 1), (0, 1)),
        (-1, 0): ((0, 1), (0, 0)),
    }.items():
        beside = np.roll(inside, (-di, -dj), (0, 1))
        for i, j in np.argwhere(inside & ~beside) - 1:
            steps.setdefault((i + a[0], j + a[1]), []).append((i + b[0], j + b[1]))
    out = []
    while steps:
        start = next(iter(steps))
        way, here, came = [start], start, (0, 0)
        while True:
            ends = steps[here]
            # where two cells touch by a corner, turn left: each keeps its own way
            left = (-came[1], came[0])
            step = next((e for e in ends if (e[0] - here[0], e[1] - here[1]) == left), ends[0])
            ends.remove(step)
            if not ends:
                del steps[here]
            came, here = (step[0] - here[0], step[1] - here[1]), step
            if here == start:
                break
            way.append(here)
        out.append(np.array(way))
    return sorted(out, key=len, reverse=True)
