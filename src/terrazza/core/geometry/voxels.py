"""Cells of a regular grid anchored at zero: keys, thinning, one point a cell."""

import numpy as np
from numba import njit

HALF, WHOLE = 1 << 20, (1 << 21) - 1  # cells to either side of zero, and the bits of one coordinate


@njit(cache=True, nogil=True)
def _keys(xyz: np.ndarray, size: float, out: np.ndarray):
    for i in range(len(xyz)):
        x, y, z = (
            np.int64(np.floor(xyz[i, 0] / size)),
            np.int64(np.floor(xyz[i, 1] / size)),
            np.int64(np.floor(xyz[i, 2] / size)),
        )
        out[i] = (((x + HALF) & WHOLE) << 42) | (((y + HALF) & WHOLE) << 21) | ((z + HALF) & WHOLE)


def keys(xyz: np.ndarray, size: float) -> np.ndarray:
    """One i64 per point (n, 3) that names its cell of edge ``size`` (m).

    Beyond ±2²⁰ cells names begin again, so that two points have one name by chance only where they are 2²¹
    cells apart (105 km for 5 cm): clouds in a grid far from its origin are told apart as well.
    """
    out = np.empty(len(xyz), np.int64)
    _keys(np.ascontiguousarray(xyz, dtype=np.float64), float(size), out)
    return out


@njit(cache=True, nogil=True)
def _keys_of(position: np.ndarray, turn: np.ndarray, shift: np.ndarray, out: np.ndarray):
    for i in range(len(position)):
        x, y, z = position[i, 0], position[i, 1], position[i, 2]
        name = np.int64(0)
        for axis in range(3):
            at = turn[axis, 0] * x + turn[axis, 1] * y + turn[axis, 2] * z + shift[axis]
            name = (name << 21) | ((np.int64(np.floor(at)) + HALF) & WHOLE)
        out[i] = name


def keys_of(
    position: np.ndarray,
    scale: np.ndarray,
    offset: np.ndarray,
    pose: np.ndarray,
    origin: np.ndarray,
    size: float,
) -> np.ndarray:
    """``keys`` of points (n, 3, i32, times ``scale`` plus ``offset``, m) moved by a 4×4 ``pose`` and counted
    from ``origin`` (m), in one pass.
    """
    out = np.empty(len(position), np.int64)
    _keys_of(
        np.ascontiguousarray(position),
        pose[:3, :3] * scale / size,
        (pose[:3, :3] @ offset + pose[:3, 3] - origin) / size,
        out,
    )
    return out


@njit(cache=True, nogil=True)
def _plan_keys(xyz: np.ndarray, size: float, out: np.ndarray):
    for i in range(len(xyz)):
        x, y = np.int64(np.floor(xyz[i, 0] / size)), np.int64(np.floor(xyz[i, 1] / size))
        out[i] = ((x + 1073741824) << 31) | (y + 1073741824)


def plan_keys(xyz: np.ndarray, size: float) -> np.ndarray:
    """One i64 per point (n, 2 or 3) that names its cell of edge ``size`` (m) in plan; coordinates within
    ± 2³⁰ cells.
    """
    out = np.empty(len(xyz), np.int64)
    _plan_keys(np.ascontiguousarray(xyz, dtype=np.float64), float(size), out)
    return out


def plan_filled(xyz: np.ndarray, size: float) -> int:
    """How many cells in plan hold points (n, 2 or 3); sorting is several times faster than hashing here."""
    names = np.sort(plan_keys(xyz, size))
    return int(np.count_nonzero(np.diff(names))) + 1 if len(names) else 0


def plan_cells(names: np.ndarray) -> np.ndarray:
    """The cells (n, 2), i64, that ``plan_keys`` names."""
    return np.stack([names >> 31, names & 2147483647], 1) - 1073741824


def cells(names: np.ndarray) -> np.ndarray:
    """The cells (n, 3), i64, that ``keys`` names, as long as they lie within ±2²⁰ of zero."""
    return np.stack([names >> 42, (names >> 21) & WHOLE, names & WHOLE], 1) - HALF


def one_per_cell(xyz: np.ndarray, size: float) -> np.ndarray:
    """Indices (sorted) of the first point met in each cell of edge ``size`` (m). ``xyz`` (n, 3) m."""
    _, first = np.unique(keys(xyz, size), return_index=True)
    return np.sort(first)


@njit(cache=True, nogil=True)
def _spaced(xyz: np.ndarray, table: np.ndarray, spacing: float, fixed: int, keep: np.ndarray):
    """Greedy thinning: a point stays when no kept one is nearer than ``spacing`` (cells of that edge)."""
    mask = len(table) - 1
    nxt = np.full(len(xyz), -1, np.int64)
    limit = spacing * spacing
    for i in range(len(xyz)):
        cx, cy, cz = (
            np.int64(np.floor(xyz[i, 0] / spacing)),
            np.int64(np.floor(xyz[i, 1] / spacing)),
            np.int64(np.floor(xyz[i, 2] / spacing)),
        )
        free = True
        for a in range(-1, 2):
            for b in range(-1, 2):
                for c in range(-1, 2):
                    h = ((cx + a) * 73856093 ^ (cy + b) * 19349663 ^ (cz + c) * 83492791) & mask
                    j = table[h]
                    while j >= 0 and free and i >= fixed:
                        d = (
                            (xyz[i, 0] - xyz[j, 0]) ** 2
                            + (xyz[i, 1] - xyz[j, 1]) ** 2
                            + (xyz[i, 2] - xyz[j, 2]) ** 2
                        )
                        if d < limit:
                            free = False
                        j = nxt[j]
                    if not free:
                        break
                if not free:
                    break
            if not free:
                break
        if free:
            h = (cx * 73856093 ^ cy * 19349663 ^ cz * 83492791) & mask
            nxt[i] = table[h]
            table[h] = i
            keep[i] = True


def spaced(xyz: np.ndarray, spacing: float, fixed: int = 0) -> np.ndarray:
    """Mask of points kept so that no two are nearer than ``spacing`` (m) and every dropped one has a kept one
    within it.

    Points are considered in order; the first stays. The first ``fixed`` points stay whatever their distances.
    ``xyz`` (n, 3) m, mask (n,).
    """
    keep = np.zeros(len(xyz), np.bool_)
    size = 1 << max(int(np.ceil(np.log2(max(len(xyz), 2)))), 4)
    _spaced(
        np.ascontiguousarray(xyz, dtype=np.float64), np.full(size, -1, np.int64), float(spacing), fixed, keep
    )
    return keep
