"""Where a camera's picture shows a direction, compiled; see ``cameras``."""

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def shown(x: float, y: float, z: float, lens: np.ndarray):
    """(column, row, inside) of one direction (camera frame); ``lens`` is ``Camera.numbers``."""
    if lens[0] == 2:
        if -z <= 1e-9:
            return -0.5, -0.5, False
        a, b = -x / z, y / z  # to the right and down, in units of the focal length
        s = a * a + b * b
        if s > lens[14] * lens[14]:
            return -0.5, -0.5, False
        k1, k2, p1, p2, k3 = lens[9], lens[10], lens[11], lens[12], lens[13]
        radial = 1 + s * (k1 + s * (k2 + s * k3))
        u = a * radial + 2 * p1 * a * b + p2 * (s + 2 * a * a)
        v = b * radial + p1 * (s + 2 * b * b) + 2 * p2 * a * b
        column, row = lens[5] + u * lens[7] / lens[3], lens[6] + v * lens[7] / lens[4]
    else:
        flat = np.sqrt(x * x + y * y)
        column = lens[1] / 2 - np.arctan2(y, x) / lens[3]
        if lens[0] == 0:
            row = lens[2] / 2 - np.arctan2(z, flat) / lens[4]
        elif flat > 0:
            row = lens[6] - z / flat * lens[8] / lens[4]
        else:
            return -0.5, -0.5, False
    inside = 0 <= column <= lens[1] and 0 <= row <= lens[2]
    return (column if inside else 0.0) - 0.5, (row if inside else 0.0) - 0.5, inside


@njit(cache=True, nogil=True)
def all_shown(xyz: np.ndarray, lens: np.ndarray):
    """The same of directions (n, 3)."""
    column, row, inside = np.empty(len(xyz)), np.empty(len(xyz)), np.empty(len(xyz), np.bool_)
    for i in range(len(xyz)):
        column[i], row[i], inside[i] = shown(xyz[i, 0], xyz[i, 1], xyz[i, 2], lens)
    return column, row, inside
