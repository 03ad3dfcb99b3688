"""The nearest of many points within a reach, for many queries: by cells as wide as the reach is at most.

A k-d tree looks as long where nothing is near as where something is; where surfaces are laid over each other
on trial, most queries find nothing.
"""

import numpy as np
from numba import njit

NONE = np.int64(-1)
# its own cell and those about it, nearer ones first
STEPS = np.array(sorted(np.ndindex(3, 3, 3), key=lambda s: sum(abs(n - 1) for n in s))) - 1
GOLDEN = np.uint64(0x9E3779B97F4A7C15)  # multiplies a key so that its upper bits are spread (Knuth 1973)


class Reach:
    """Finds the nearest of some points (n, 3), m, within ``most`` m at most."""

    def __init__(self, points: np.ndarray, most: float):
        self.most = most
        points = np.asarray(points, float)
        cell = np.floor(points / most).astype(np.int64)
        self._low = cell.min(0) - 1 if len(cell) else np.zeros(3, np.int64)
        self._wide = (cell.max(0) - self._low + 2) if len(cell) else np.ones(3, np.int64)
        keys = _keys(cell - self._low, self._wide)
        self._order = np.argsort(keys, kind="stable")
        self._points = np.ascontiguousarray(points[self._order])
        filled, starts = np.unique(keys[self._order], return_index=True)
        self._starts = np.r_[starts, len(keys)]
        beside = np.unique((filled[:, None] + _keys(STEPS, self._wide)).ravel())
        table = np.full((1 << max(4, int(2 * len(beside)).bit_length()), 2), NONE)
        small = np.prod(self._wide.astype(float)) < 2**31  # then half as much memory is gone through
        self._table = _fill(table.astype(np.int32) if small else table, filled, beside)

    def nearest(self, query: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
        """Distances (m,) from queries (m, 3) to the nearest points nearer than ``reach`` m (at most
        ``most``), and which these are (m,); infinite and the number of points where there is none.
        """
        away, index = np.full(len(query), np.inf), np.full(len(query), len(self._points), np.int64)
        if len(self._points):
            found = (self._table, self._starts, self._points, self._low, self._wide)
            _search(*found, self.most, np.ascontiguousarray(query, np.float64), reach, away, index)
            index = np.r_[self._order, len(self._points)][index]
        return away, index


def _keys(cell: np.ndarray, wide: np.ndarray) -> np.ndarray:
    """(n,) one number for each cell (n, 3), of so many each way (3,)."""
    return (cell[:, 0] * wide[1] + cell[:, 1]) * wide[2] + cell[:, 2]


@njit(cache=True, nogil=True)
def _fill(table: np.ndarray, filled: np.ndarray, beside: np.ndarray) -> np.ndarray:
    """A hash table (n, 2) of the keys of cells that are ``filled`` or ``beside`` such, and of the filled
    their number.
    """
    for key in beside:
        table[_slot(table, key), 0] = key
    for k in range(len(filled)):
        table[_slot(table, filled[k]), 1] = k
    return table


@njit(cache=True, nogil=True, inline="always")
def _slot(table: np.ndarray, key: int) -> int:
    """Where a key is in a table, or would be put."""
    mask = len(table) - 1
    at = np.int64((np.uint64(key) * GOLDEN) >> np.uint64(32)) & mask
    while table[at, 0] != key and table[at, 0] != NONE:
        at = (at + 1) & mask
    return at


@njit(cache=True, nogil=True)
def _search(
    table: np.ndarray,
    starts: np.ndarray,
    points: np.ndarray,
    low: np.ndarray,
    wide: np.ndarray,
    size: float,
    query: np.ndarray,
    reach: float,
    away: np.ndarray,
    index: np.ndarray,
):
    for q in range(len(query)):
        x, y, z = query[q, 0], query[q, 1], query[q, 2]
        i, j, k = np.int64(np.floor(x / size)), np.int64(np.floor(y / size)), np.int64(np.floor(z / size))
        u, v, w = x - i * size, y - j * size, z - k * size  # from the low sides of its cell
        i, j, k = i - low[0], j - low[1], k - low[2]
        if i < 0 or j < 0 or k < 0 or i >= wide[0] or j >= wide[1] or k >= wide[2]:
            continue
        home = (i * wide[1] + j) * wide[2] + k
        if table[_slot(table, home), 0] == NONE:
            continue
        best, found = reach * reach, NONE
        for step in range(27):
            a, b, c = STEPS[step, 0], STEPS[step, 1], STEPS[step, 2]
            da = 0.0 if a == 0 else (u if a < 0 else size - u)
            db = 0.0 if b == 0 else (v if b < 0 else size - v)
            dc = 0.0 if c == 0 else (w if c < 0 else size - w)
            if da * da + db * db + dc * dc >= best:
                continue
            cell = home + (a * wide[1] + b) * wide[2] + c
            number = table[_slot(table, cell), 1]  # none of an empty cell, and none of an empty slot
            if number == NONE:
                continue
            for p in range(starts[number], starts[number + 1]):
                d = (points[p, 0] - x) ** 2 + (points[p, 1] - y) ** 2 + (points[p, 2] - z) ** 2
                if d < best:
                    best, found = d, p
        if found != NONE:
            away[q], index[q] = np.sqrt(best), found
