"""Pixels of a picture that touch each other, as patches: closed by 3×3, connected by 8, around the circle."""

from dataclasses import dataclass

import numpy as np
from numba import njit

from terrazza.core.register.picture import COLUMNS, EDGES, ROWS


@dataclass(frozen=True)
class Connected:
    """``label`` (rows, columns) int32: the number of the patch from 1 that a pixel belongs to, 0 of none;
    by number how many pixels each has along its ``edges`` (3, n), one for each of ``EDGES``, and of how many
    of these its own scan saw something farther beside it (``jumps``, likewise). Number 0 is of no patch.
    """

    label: np.ndarray
    edges: np.ndarray
    jumps: np.ndarray

    @property
    def loose(self) -> np.ndarray:
        """(n,) how much each patch is a thing by itself: the share of its upper edge, and of that of its
        flanks which shows more of it, over which something farther was seen. A piece of a wall has wall
        beside it and over it.
        """
        shares = self.jumps / np.maximum(self.edges, 1)
        return np.minimum(shares[2], np.maximum(shares[0], shares[1]))


def connected(row: np.ndarray, column: np.ndarray, jumps: np.ndarray) -> Connected:
    """Of some pixels (n,), (n,) of a picture with such ``jumps`` (rows, columns)."""
    closed = _closed(row, column)
    label, count = _labels(closed)
    return Connected(label, *_edges(closed, label, count, jumps))


@njit(cache=True, nogil=True)
def _closed(row: np.ndarray, column: np.ndarray) -> np.ndarray:
    """(rows, columns) uint8: some pixels, with gaps of a pixel or two filled, around the circle too."""
    grown, closed = np.zeros((ROWS + 2, COLUMNS), np.uint8), np.zeros((ROWS, COLUMNS), np.uint8)
    for k in range(len(row)):
        closed[row[k], column[k]] = 1
        for j in range(-1, 2):
            at = (column[k] + j) % COLUMNS
            grown[row[k], at] = grown[row[k] + 1, at] = grown[row[k] + 2, at] = 1
    low, high = row.min(), row.max()
    for i in range(low, high + 1):
        for j in range(COLUMNS):
            if closed[i, j] == 0 and grown[i + 1, j] == 1:
                left, right = (j - 1) % COLUMNS, (j + 1) % COLUMNS
                full = np.uint8(1)
                for r in range(i, i + 3):
                    full &= grown[r, left] & grown[r, j] & grown[r, right]
                closed[i, j] = full
    return closed


@njit(cache=True, nogil=True, inline="always")
def _root(parent: np.ndarray, k: int) -> int:
    while parent[k] != k:
        parent[k] = parent[parent[k]]
        k = parent[k]
    return k


@njit(cache=True, nogil=True)
def _labels(closed: np.ndarray) -> tuple[np.ndarray, int]:
    """(rows, columns) int32 numbers of what touches from 1, and how many there are. By a forest of sets
    (Rosenfeld and Pfaltz 1966).
    """
    label = np.zeros(closed.shape, np.int32)
    parent = np.zeros(closed.size // 2 + 2, np.int32)
    count = 0
    for i in range(ROWS):
        for j in range(COLUMNS):
            if closed[i, j] == 0:
                continue
            own = 0
            if j > 0 and label[i, j - 1] > 0:
                own = _root(parent, label[i, j - 1])
            for u in range(max(j - 1, 0), min(j + 2, COLUMNS)):
                if i > 0 and label[i - 1, u] > 0:
                    other = _root(parent, label[i - 1, u])
                    if own > 0:
                        parent[max(own, other)] = min(own, other)
                        own = min(own, other)
                    else:
                        own = other
            if own == 0:
                count += 1
                own = count
                parent[own] = own
            label[i, j] = own
        if label[i, 0] > 0 and label[i, COLUMNS - 1] > 0:  # the picture closes around
            one, other = _root(parent, label[i, 0]), _root(parent, label[i, COLUMNS - 1])
            parent[max(one, other)] = min(one, other)
    for i in range(ROWS):
        for j in range(COLUMNS):
            if label[i, j] > 0:
                label[i, j] = _root(parent, label[i, j])
    return label, count


@njit(cache=True, nogil=True)
def _edges(
    closed: np.ndarray, label: np.ndarray, count: int, jumps: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """(3, count + 1) each: by patch its pixels on the edges of three sides, and those with a jump there."""
    edges, jumped = np.zeros((len(EDGES), count + 1)), np.zeros((len(EDGES), count + 1))
    for i in range(ROWS):
        for j in range(COLUMNS):
            if closed[i, j] == 0:
                continue
            for bit in range(len(EDGES)):
                axis, way = EDGES[bit]
                u, v = ((i + way) % ROWS, j) if axis == 0 else (i, (j + way) % COLUMNS)
                if closed[u, v] == 0:
                    edges[bit, label[i, j]] += 1
                    jumped[bit, label[i, j]] += (jumps[i, j] >> bit) & 1
    return edges, jumped
