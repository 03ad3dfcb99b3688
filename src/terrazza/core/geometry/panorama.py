"""The panorama of a station as a grid of point indices: from a scan's own rows and columns, or rendered from
its points.

The grid is as one sees it from the station: the first row is the highest, columns run to the right, that is,
with falling azimuth. ``azimuth`` (of columns, rad, falling, unwrapped) and ``elevation`` (of rows, rad,
falling) tell where in it a direction lies.
"""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

KNOTS = 400
COARSE = 8


@dataclass
class Panorama:
    """``index`` (rows, columns) i32: which point is seen in a pixel, -1 for none; ``azimuth`` (columns,) and
    ``elevation`` (rows,) in rad, falling.
    """

    index: np.ndarray
    azimuth: np.ndarray
    elevation: np.ndarray

    @property
    def whole_turn(self) -> bool:
        """Whether the first column follows on the last."""
        width = len(self.azimuth)
        return (
            abs(self.azimuth[0] - self.azimuth[-1]) * width / max(width - 1, 1)
            > 2 * np.pi - 4 * abs(self.azimuth[0] - self.azimuth[-1]) / width
        )

    def pixel(self, xyz: np.ndarray) -> np.ndarray:
        """(n, 2) column and row (fractions of pixels) in which points of the scan's frame would be seen; nan
        where the grid does not reach.
        """
        azimuth, elevation = directions(xyz)
        middle = (self.azimuth[0] + self.azimuth[-1]) / 2
        azimuth = middle + (azimuth - middle + np.pi) % (2 * np.pi) - np.pi
        ahead = np.interp(-azimuth, -self.azimuth, np.arange(len(self.azimuth)), np.nan, np.nan)
        return np.stack(
            [ahead, np.interp(-elevation, -self.elevation, np.arange(len(self.elevation)), np.nan, np.nan)], 1
        )


def directions(xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Azimuth (-π to π, from x towards y) and elevation (rad) of points seen from the origin."""
    return np.arctan2(xyz[:, 1], xyz[:, 0]), np.arctan2(xyz[:, 2], np.hypot(xyz[:, 0], xyz[:, 1]))


def from_grid(
    pieces: Iterable[tuple[int, np.ndarray, np.ndarray]],
    rows: int,
    columns: int,
    sample: tuple[np.ndarray, np.ndarray, np.ndarray],
) -> Panorama:
    """From a structured scan: ``pieces`` yields (first index, row, column) of stretches of points; ``sample``
    is (xyz, row, column) of some points all over it.
    """
    index = np.full((rows, columns), -1, np.int32)
    for first, row, column in pieces:
        _enter(index, np.asarray(row, np.int64), np.asarray(column, np.int64), first)
    xyz, row, column = sample
    azimuth, elevation = directions(xyz)
    level = np.abs(elevation) < np.radians(75)
    elevations = _along(row[level], elevation[level], rows)
    azimuths = _along(column[level], _unwrapped(column[level], azimuth[level]), columns)
    if elevations[0] < elevations[-1]:
        index, elevations = index[::-1], elevations[::-1]
    if azimuths[0] < azimuths[-1]:
        index, azimuths = index[:, ::-1], azimuths[::-1]
    return Panorama(np.ascontiguousarray(index), azimuths, elevations)


@njit(cache=True)
def _enter(index: np.ndarray, row: np.ndarray, column: np.ndarray, first: int):
    rows, columns = index.shape
    for k in range(len(row)):
        if 0 <= row[k] < rows and 0 <= column[k] < columns:
            index[row[k], column[k]] = first + k


def _unwrapped(column: np.ndarray, azimuth: np.ndarray) -> np.ndarray:
    """Azimuths without the jump at π: each taken near a straight line through the columns, whose slope and
    start the data choose.
    """
    turn = 2 * np.pi / max(float(np.ptp(column)), 1.0)
    best = None
    for slope in (turn, -turn, turn / 2, -turn / 2):
        off = np.exp(1j * (azimuth - slope * column))
        mean = off.mean()
        if best is None or abs(mean) > best[0]:
            best = (abs(mean), slope, np.angle(mean))
    line = best[1] * column + best[2]
    return line + (azimuth - line + np.pi) % (2 * np.pi) - np.pi


def _along(place: np.ndarray, angle: np.ndarray, count: int) -> np.ndarray:
    """An angle for every row or column: medians over groups of places, joined by straight lines and kept
    monotonous.
    """
    groups = (
        np.minimum(place.astype(np.int64) * KNOTS // max(count, 1), KNOTS - 1)
        if count > KNOTS
        else place.astype(np.int64)
    )
    order = np.argsort(groups, kind="stable")
    edges = np.flatnonzero(np.diff(groups[order])) + 1
    at = np.array([np.median(place[part]) for part in np.split(order, edges)])
    value = np.array([np.median(angle[part]) for part in np.split(order, edges)])
    if len(at) < 2:
        return np.linspace(1e-3, 0, count)
    slope, start = np.polyfit(at, value, 1)
    away = value - (slope * at + start)
    steady = np.abs(away - np.median(away)) < 6 * np.median(np.abs(away - np.median(away))) + 1e-3
    at, value = at[steady], value[steady]
    value = np.maximum.accumulate(value) if slope > 0 else np.minimum.accumulate(value)
    full = np.interp(np.arange(count), at, value)
    ends = np.arange(count)
    full[ends < at[0]] = value[0] + slope * (ends[ends < at[0]] - at[0])
    full[ends > at[-1]] = value[-1] + slope * (ends[ends > at[-1]] - at[-1])
    return full + np.sign(slope) * 1e-9 * ends


def rendered(pieces: Callable[..., Any], width: int) -> Panorama:
    """From points alone: ``pieces()`` yields (first index, xyz (n, 3) seen from the origin), twice; the
    nearest point in a pixel of equal angles is the one seen.

    What a coarser picture shows to lie clearly behind something is left out, so that a wall is not seen
    through between its points.
    """
    width = max(width // (2 * COARSE), 4) * 2 * COARSE
    height = width // 2
    coarse = np.full((height // COARSE, width // COARSE), np.inf, np.float32)
    none, open_ = np.full(coarse.shape, -1, np.int32), np.full((1, 1), np.inf, np.float32)
    for first, xyz in pieces():
        _render(none, coarse, open_, np.ascontiguousarray(xyz, np.float64), first)
    index, near = np.full((height, width), -1, np.int32), np.full((height, width), np.inf, np.float32)
    for first, xyz in pieces():
        _render(index, near, coarse, np.ascontiguousarray(xyz, np.float64), first)
    step = 2 * np.pi / width
    return Panorama(
        index, np.pi - step * (np.arange(width) + 0.5), np.pi / 2 - step * (np.arange(height) + 0.5)
    )


@njit(cache=True)
def _render(index: np.ndarray, near: np.ndarray, before: np.ndarray, xyz: np.ndarray, first: int):
    height, width = index.shape
    across, down = width // before.shape[1], height // before.shape[0]
    step = 2 * np.pi / width
    for k in range(len(xyz)):
        x, y, z = xyz[k, 0], xyz[k, 1], xyz[k, 2]
        flat = np.sqrt(x * x + y * y)
        away = np.sqrt(flat * flat + z * z)
        if away < 1e-6:
            continue
        c = min(max(int((np.pi - np.arctan2(y, x)) / step), 0), width - 1)
        r = min(max(int((np.pi / 2 - np.arctan2(z, flat)) / step), 0), height - 1)
        if (
            away < near[r, c]
            and away
            <= before[min(r // down, before.shape[0] - 1), min(c // across, before.shape[1] - 1)] * 1.25 + 0.1
        ):
            near[r, c] = away
            index[r, c] = first + k
