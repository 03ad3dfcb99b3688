"""Whole-number coordinates moved from one frame, scale and offset to another in one pass."""

from typing import Any

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def _moved(position: Any, turn: np.ndarray, shift: np.ndarray, out: np.ndarray):
    for i in range(len(position)):
        x, y, z = position[i, 0], position[i, 1], position[i, 2]
        for axis in range(3):
            out[i, axis] = np.int32(
                np.rint(turn[axis, 0] * x + turn[axis, 1] * y + turn[axis, 2] * z + shift[axis])
            )


def moved(
    position: np.ndarray,
    scale: np.ndarray,
    offset: np.ndarray,
    pose: np.ndarray,
    new_scale: np.ndarray,
    new_offset: np.ndarray,
) -> np.ndarray:
    """(n, 3) i32 in ``new_scale`` and ``new_offset`` of points (n, 3) i32 in ``scale`` and ``offset``, under
    a 4×4 ``pose``; all in metres.
    """
    turn = pose[:3, :3] * scale / np.asarray(new_scale)[:, None]
    shift = (pose[:3, :3] @ offset + pose[:3, 3] - new_offset) / new_scale
    out = np.empty((len(position), 3), np.int32)
    _moved(np.ascontiguousarray(position), turn, shift, out)
    return out
