"""Compiled part of asking for the points in a box: straight from the stored whole numbers."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _mask(position, scale, offset, turn, move, low, high, out):
    for i in range(len(position)):
        x = position[i, 0] * scale[0] + offset[0]
        y = position[i, 1] * scale[1] + offset[1]
        z = position[i, 2] * scale[2] + offset[2]
        inside = True
        for a in range(3):
            v = x * turn[a, 0] + y * turn[a, 1] + z * turn[a, 2] + move[a]
            inside &= low[a] <= v <= high[a]
        out[i] = inside


def mask(position: np.ndarray, scale, offset, pose: np.ndarray, low, high) -> np.ndarray:
    """Which points (n, 3, i32, times ``scale`` plus ``offset``, m) lie in an axis-aligned box (its faces included) of the frame that ``pose`` maps to."""
    out = np.empty(len(position), np.bool_)
    _mask(position, scale, offset, np.ascontiguousarray(pose[:3, :3]), np.ascontiguousarray(pose[:3, 3]), np.asarray(low, float), np.asarray(high, float), out)
    return out
