"""Compiled part of asking for the points in a box or a cone: straight from the stored whole numbers."""

from typing import Any

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _inside(
    position: Any,
    first: int,
    starts: np.ndarray,
    stops: np.ndarray,
    whole: np.ndarray,
    scale: np.ndarray,
    offset: np.ndarray,
    turn: np.ndarray,
    move: np.ndarray,
    low: Any,
    high: Any,
    out: np.ndarray,
):
    n = 0
    for k in range(len(starts)):
        for i in range(starts[k], stops[k]):
            good = True
            if not whole[k]:
                x = position[i, 0] * scale[0] + offset[0]
                y = position[i, 1] * scale[1] + offset[1]
                z = position[i, 2] * scale[2] + offset[2]
                for a in range(3):
                    v = x * turn[a, 0] + y * turn[a, 1] + z * turn[a, 2] + move[a]
                    good &= low[a] <= v <= high[a]
            out[n] = first + i
            n += good
    return n


def inside(
    position: np.ndarray,
    starts: np.ndarray,
    stops: np.ndarray,
    whole: np.ndarray,
    scale: np.ndarray,
    offset: np.ndarray,
    pose: np.ndarray,
    low: np.ndarray,
    high: np.ndarray,
    first: int = 0,
) -> np.ndarray:
    """Which of the points (n, 3, i32, times ``scale`` plus ``offset``, m) of some stretches lie in an
    axis-aligned box (its faces included) of the frame that ``pose`` maps to.

    All points of a stretch that is known to lie inside as a ``whole``.  Returns indices, counted from
    ``first``, in the order of the stretches.
    """
    out = np.empty(int((stops - starts).sum()), np.int64)
    n = _inside(
        position,
        first,
        starts,
        stops,
        whole,
        scale,
        offset,
        np.ascontiguousarray(pose[:3, :3]),
        np.ascontiguousarray(pose[:3, 3]),
        np.asarray(low, float),
        np.asarray(high, float),
        out,
    )
    return out[:n]


@njit(cache=True, nogil=True)
def _in_cone(
    position: Any,
    scale: np.ndarray,
    offset: np.ndarray,
    origin: np.ndarray,
    direction: np.ndarray,
    width: float,
    slope: float,
    index: np.ndarray,
    along: np.ndarray,
    away: np.ndarray,
):
    n = 0
    for i in range(len(position)):
        x = position[i, 0] * scale[0] + offset[0] - origin[0]
        y = position[i, 1] * scale[1] + offset[1] - origin[1]
        z = position[i, 2] * scale[2] + offset[2] - origin[2]
        t = x * direction[0] + y * direction[1] + z * direction[2]
        radius = max(width + slope * t, 1e-9)
        off = x * x + y * y + z * z - t * t
        if t > 0 and off <= radius * radius:
            index[n], along[n], away[n] = i, t, np.sqrt(max(off, 0.0))
            n += 1
    return n


def in_cone(
    position: np.ndarray,
    scale: np.ndarray,
    offset: np.ndarray,
    origin: np.ndarray,
    direction: np.ndarray,
    width: float,
    slope: float,
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Of points (n, 3, i32, times ``scale`` plus ``offset``, m) those within ``width`` + ``slope`` · t of a
    ray (unit ``direction``) at t m along it, t > 0: indices, t, distances from it (m).
    """
    index, along, away = np.empty(len(position), np.int64), np.empty(len(position)), np.empty(len(position))
    n = _in_cone(
        position,
        scale,
        offset,
        np.asarray(origin, float),
        np.asarray(direction, float),
        float(width),
        float(slope),
        index,
        along,
        away,
    )
    return index[:n], along[:n], away[:n]


def load() -> None:
    """Have the compiled parts ready before they are needed."""
    position = np.zeros((1, 3), np.int32)
    position.flags.writeable = False  # as stored columns are: another kind of array is compiled anew
    in_cone(position, np.ones(3), np.zeros(3), np.zeros(3), np.ones(3), 1.0, 1.0)
