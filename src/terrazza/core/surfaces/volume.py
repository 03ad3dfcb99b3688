"""What lies between two surfaces, or between one and a height, within an outline."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.classify import meshes
from terrazza.core.clean import outline
from terrazza.core.surfaces.ground import Surface

SAMPLES = 2_000_000  # places that heights are asked at


@dataclass(frozen=True)
class Volume:
    """``above`` and ``below`` m³ of the upper over and under the lower one, ``area`` m² in which both are,
    and ``missing`` m² of the outline where one of them is not.
    """

    above: float
    below: float
    area: float
    missing: float


def between(corners: np.ndarray, lower: Surface | float, upper: Surface | float) -> Volume:
    """Within an outline (n, 2), by heights at the middles of even cells."""
    low, high = corners.min(0), corners.max(0)
    cell = float(np.sqrt(np.prod(np.maximum(high - low, 1e-6)) / SAMPLES))
    sides = [np.arange(a + cell / 2, b, cell) for a, b in zip(low, high)]
    above = below = area = missing = 0.0
    rows = max(200_000 // max(len(sides[0]), 1), 1)
    for start in range(0, len(sides[1]), rows):
        xy = np.stack(np.meshgrid(sides[0], sides[1][start : start + rows]), -1).reshape(-1, 2)
        xy = xy[outline.inside(xy, corners)]
        gap = heights(xy, upper) - heights(xy, lower)
        known = np.isfinite(gap)
        above += float(gap[known & (gap > 0)].sum())
        below -= float(gap[known & (gap < 0)].sum())
        area += float(known.sum())
        missing += float((~known).sum())
    # the even cells hold the outline's area but for the rim: scaled to it exactly
    whole = plan_area(corners)
    scale = whole / max((area + missing) * cell**2, 1e-12) * cell**2
    return Volume(above * scale, below * scale, area * scale, missing * scale)


def heights(xy: np.ndarray, of: Surface | float) -> np.ndarray:
    """(n,) of a surface at places (n, 2), NaN beside it; or the one height everywhere."""
    if isinstance(of, Surface):
        return meshes.heights(xy, of.vertices, of.triangles)
    return np.full(len(xy), float(of))


def plan_area(corners: np.ndarray) -> float:
    """Of a polygon (n, 2), m²."""
    x, y = (corners - corners[0]).T
    return float(abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2)
