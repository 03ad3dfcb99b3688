"""Floor and ceiling of a room as heights over its plan, sloped and stepped ones too, and what lies between.

In each cell of the plan the lowest points are floor and the highest ceiling; what stands up from the one or
hangs down from the other, a jump away and narrower than a walkable width (furniture, lamps), is passed over;
what nothing shows is taken from the nearest that is seen.
"""

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from terrazza.core.classify.roofs import surfaces
from terrazza.core.clean import outline
from terrazza.core.surfaces import volume

FINEST, COARSEST = 0.05, 0.25  # m: of a cell
EACH = 6.0  # points that a cell holds, or so
WIDE = 1.4  # m: what is narrower is furniture or a lamp
JUMP, STEEP = 0.06, 1.0  # m from cell to cell beyond which a surface ends, and what a slope adds
BAND = 0.04  # m about the lowest points of a surface within which its others lie
LEVEL = 0.02  # of slope below which a floor is level, so that what stands off it is a step
STANDS = 0.15  # m over the lowest level from which on a level counts as a step, which is told
NEAR, FULL = 0.5, 0.3  # m from a height to floor and ceiling at least; share of points that makes a level
CORRELATED = 1.0  # m²: heights are off together over about that


@dataclass(frozen=True)
class Level:
    """A floor or a ceiling: heights (rows, columns) m over cells inside the outline, NaN outside; the share
    of it that is ``seen``, ``sigma`` (m) of a height, its ``area`` (m²) on the slope, and the area of what
    stands off its lowest (a floor's) or highest level by more than a step.
    """

    height: np.ndarray
    seen: float
    sigma: float
    area: float
    stepped: float


@dataclass(frozen=True)
class Room:
    """Floor and ceiling over cells of ``cell`` m from ``low`` (2,), in plan ``area`` (m²)."""

    floor: Level
    ceiling: Level
    low: np.ndarray
    cell: float
    area: float

    @property
    def volume(self) -> float:
        """m³."""
        return float(np.nanmean(self.ceiling.height - self.floor.height) * self.area)

    @property
    def sigma(self) -> float:
        """m³, of the noise of both levels."""
        alike = max(self.area / CORRELATED, 1.0)
        return float(self.area * np.hypot(self.floor.sigma, self.ceiling.sigma) / np.sqrt(alike))


def find(xyz: np.ndarray, corners: np.ndarray, height: float | None = None) -> Room | None:
    """The room within an outline (m, 2), from points (n, 3), z up; None where hardly any lie in it.  Of
    several storeys it is the one that ``height`` (m) runs through.
    """
    own = xyz[outline.inside(xyz[:, :2], corners)]
    area = volume.plan_area(corners)
    if len(own) < 50 or area <= 0:
        return None
    cell = float(np.clip(np.sqrt(EACH * area / len(own)), FINEST, COARSEST))
    low = corners.min(0) - cell
    shape = tuple((np.ceil((corners.max(0) - low) / cell).astype(int) + 1).tolist())
    rows, columns = np.meshgrid(*(np.arange(n) for n in shape), indexing="ij")
    middles = low + (np.stack([rows, columns], -1).reshape(-1, 2) + 0.5) * cell
    inside = outline.inside(middles, corners).reshape(shape)
    place = np.floor((own[:, :2] - low) / cell).astype(int)
    levels = []
    for sign in (1.0, -1.0):
        z = sign * own[:, 2]
        mine = _of_storey(place, z, sign * height) if height is not None else slice(None)
        level = _level(place[mine], z[mine], inside, cell)
        if level is None:
            return None
        levels.append(level)
    floor, ceiling = levels
    turned = Level(-ceiling.height, ceiling.seen, ceiling.sigma, ceiling.area, ceiling.stepped)
    return Room(floor, turned, low, cell, area)


def _of_storey(place: np.ndarray, z: np.ndarray, height: float) -> np.ndarray:
    """Mask of the points that may be of the storey at a height, z towards its ceiling (or, turned, its
    floor): where a cell shows the fullest level below the height, or what stands on
    it, nothing below counts.
    """
    below = z[z < height - NEAR]
    if len(below) < 50:
        return np.ones(len(z), bool)
    counts, edges = np.histogram(below, np.arange(below.min(), height, 0.05))
    if not len(counts):
        return np.ones(len(z), bool)
    fullest = np.flatnonzero(counts > FULL * counts.max()).max()
    level = (edges[fullest] + edges[fullest + 1]) / 2
    shows = np.zeros(place.max(0) + 1, bool)
    at = (z > level - 2 * BAND - 0.025) & (z < height - NEAR)
    shows[tuple(place[at].T)] = True
    return ~shows[tuple(place.T)] | (z > level - 2 * BAND - 0.025)


def _level(place: np.ndarray, z: np.ndarray, inside: np.ndarray, cell: float) -> Level | None:
    """The lowest surface of points with heights ``z`` (n,) in cells ``place`` (n, 2)."""
    lowest = np.full(inside.shape, np.inf)
    np.minimum.at(lowest, tuple(place.T), z)
    there = np.isfinite(lowest) & inside
    if there.sum() < 10:
        return None
    bottom = _without_furniture(lowest, there, cell)
    near = np.abs(z - bottom[tuple(place.T)]) < BAND
    many = np.zeros(inside.shape)
    total, squares = np.zeros(inside.shape), np.zeros(inside.shape)
    mine = tuple(place[near].T)
    np.add.at(many, mine, 1.0)
    np.add.at(total, mine, z[near])
    np.add.at(squares, mine, (z[near] - bottom[mine]) ** 2)
    seen = (many > 0) & inside
    if seen.sum() < 10:
        return None
    mean = total / np.maximum(many, 1)
    height = _filled(mean, seen)
    spread = squares[seen] / many[seen] - (mean - bottom)[seen] ** 2
    height[~inside] = np.nan
    across = [np.gradient(height, cell, axis=a)[inside] for a in (0, 1)]
    slope = float(np.nanmedian(np.hypot(*across)))
    base = float(np.nanquantile(height, 0.05))
    stepped = float((height[inside] > base + STANDS).sum() * cell**2) if slope < LEVEL else 0.0
    sigma = float(np.sqrt(max(np.median(spread), 1e-8)))
    area = float(np.sqrt(1 + slope**2) * inside.sum() * cell**2)
    return Level(height, float(seen.sum() / inside.sum()), sigma, area, stepped)


def _without_furniture(lowest: np.ndarray, there: np.ndarray, cell: float) -> np.ndarray:
    """Heights everywhere, of the surfaces on which one could walk and of what goes on at their height."""
    number = surfaces(np.where(there, lowest, 0.0), there, JUMP + STEEP * cell)
    wide = np.ones((max(int(round(WIDE / cell)), 2),) * 2)
    own = np.where(there, number, -1)
    names, many = np.unique(own[there], return_counts=True)
    large = [k for k, n in zip(names, many) if n >= wide.size]
    keep = [k for k in large if ndimage.binary_opening(_closed(own == k), wide).any()]
    known = np.isin(own, keep or [names[many.argmax()]])
    base = _filled(lowest, known)
    off = ndimage.median(np.where(there, lowest - base, 0.0), own, index=names)
    return _filled(lowest, known | np.isin(own, names[np.abs(off) < JUMP]))


def _closed(mask: np.ndarray) -> np.ndarray:
    """With the small holes closed that few points leave."""
    return ndimage.binary_closing(np.pad(mask, 3), np.ones((3, 3)), 2)[3:-3, 3:-3]


def _filled(values: np.ndarray, known: np.ndarray) -> np.ndarray:
    """With what is nearest where nothing is known."""
    nearest = ndimage.distance_transform_edt(~known, return_distances=False, return_indices=True)
    return values[tuple(nearest)]
