"""Volumes between a surface and another, or a height."""

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.spine.base import Figures, Operation, Pair, Params, field, operation
from terrazza.operations.spine.job import Job
from terrazza.operations.surface.ground import surface_of

with later():
    from terrazza.core.surfaces import volume as volumes

MISSING = 0.005  # share of the outline without a surface that is told


class VolumeParams(Params):
    outline: list[Pair] = field(
        "Outline",
        help="[[E, N], …]: its corners in the grid (or job frame).",
        min_length=3,
        max_length=10_000,
    )
    below: str = field(
        "Lower", "", max_length=100, help="A height in m, or a surface; empty: the heap's own rim."
    )
    above: str = field(
        "Upper", "", max_length=100, help="A height in m, or a surface; empty: the last surface."
    )


@operation
class VolumeBetween(Operation):
    """Works out what lies within an outline between two surfaces, a surface and a height, or of a heap over a
    plane through its own rim.
    """

    name, title, step = "surface.volume", "Volume", "Draw"
    reads, writes = frozenset({"surface", "array", "frame"}), frozenset()
    bound_to_place = True
    Params = VolumeParams

    def run(self, job: Job, params: VolumeParams, progress: Progress) -> Figures:
        corners = np.array(params.outline, float)
        upper = _side(job, params.above)
        origin = np.round(corners.mean(0))
        lower = _rim(upper, corners) if not params.below else _side(job, params.below)
        sides = [_about(side, origin) for side in (lower, upper)]
        found = volumes.between(corners - origin, *sides)
        if not found.area:
            raise StateError("The outline lies beside the surface.", "Draw it where the surface is.")
        # heights of a surface are off together over about a cell: as many places as it has vertices there
        sigma = np.sqrt(sum(_sigma(side, corners, found.area) ** 2 for side in (lower, upper)))
        share = found.missing / (found.area + found.missing)
        doubt = [f"{share:.1%} of the outline has no surface and does not count."] if share > MISSING else []
        total = found.above - found.below
        return {
            "says": f"{total:,.3f} m³ ± {sigma:.3f} m³ on {found.area:,.2f} m²: {found.above:,.3f} m³ over, "
            f"{found.below:,.3f} m³ under",
            "volume_m3": total,
            "above_m3": found.above,
            "below_m3": found.below,
            "sigma_m3": float(sigma),
            "area_m2": found.area,
            "mean_height_m": total / found.area,
            "doubt": doubt,
        }


def _side(job: Job, given: str):
    """A height (m), or a surface."""
    try:
        return float(given)
    except ValueError:
        return surface_of(job, given)


def _about(side, origin: np.ndarray):
    return (
        side
        if isinstance(side, float)
        else type(side)(side.vertices - [*origin, 0], side.triangles, side.sigma)
    )


def _rim(surface, corners: np.ndarray):
    """The plane through the heights of a surface along an outline, as a surface of two triangles over it."""
    if isinstance(surface, float):
        raise ParamsError("surface.volume: a height over its own rim is nothing.", "Give “below”.")
    along = np.concatenate(
        [
            a + np.linspace(0, 1, 50, endpoint=False)[:, None] * (b - a)
            for a, b in zip(corners, np.roll(corners, -1, 0))
        ]
    )
    z = volumes.heights(along, surface)
    known = np.isfinite(z)
    if known.sum() < 3:
        raise StateError("The rim of the outline lies beside the surface.", "Draw it where the surface is.")
    middle = along.mean(0)
    design = np.c_[along - middle, np.ones(len(along))]
    fit = np.linalg.lstsq(design[known], z[known], rcond=None)[0]
    low, high = corners.min(0) - 1, corners.max(0) + 1
    box = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
    plane = np.c_[box, np.c_[box - middle, np.ones(4)] @ fit]
    return type(surface)(plane, np.array([[0, 1, 2], [0, 2, 3]]), 0.0)


def _sigma(side, corners: np.ndarray, area: float) -> float:
    if isinstance(side, float) or not side.sigma:
        return 0.0
    within = volumes.outline.inside(side.vertices[:, :2], corners).sum()
    return side.sigma * area / np.sqrt(max(within, 1))
