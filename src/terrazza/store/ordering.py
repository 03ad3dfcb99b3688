"""Compiled parts of building an octree: Morton keys, their order, and each point's level (see
``store.octree``).
"""

from typing import Any

import numpy as np
from numba import njit

from terrazza.store.octree import CELL_BITS, DEEPEST, DEPTH


@njit(cache=True, nogil=True, inline="always")
def _spread(v: int):
    v &= np.uint64(0x1FFFFF)
    v = (v | (v << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
    v = (v | (v << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
    v = (v | (v << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
    v = (v | (v << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
    return (v | (v << np.uint64(2))) & np.uint64(0x1249249249249249)


@njit(cache=True, nogil=True, inline="always")
def _key(position: np.ndarray, i: int, scale: np.ndarray, offset: np.ndarray, low: np.ndarray, fine: float):
    key = np.uint64(0)
    for axis in range(3):
        v = (position[i, axis] * scale[axis] + offset[axis] - low[axis]) * fine
        key |= _spread(np.uint64(min(max(v, 0.0), 2097151.0))) << np.uint64(axis)
    return key


@njit(cache=True, nogil=True)
def _keys(
    position: np.ndarray, scale: np.ndarray, offset: np.ndarray, low: np.ndarray, fine: float, out: np.ndarray
):
    for i in range(len(position)):
        out[i] = _key(position, i, scale, offset, low, fine)


def keys(
    position: np.ndarray, scale: np.ndarray, offset: np.ndarray, low: np.ndarray, size: float
) -> np.ndarray:
    """Morton keys (u64, 63 bits, x lowest) of points (n, 3, i32, times ``scale`` plus ``offset``, m) in the
    cube at ``low`` with edge ``size``.
    """
    out = np.empty(len(position), np.uint64)
    _keys(position, scale, offset, low, 2.0**DEPTH / size, out)
    return out


@njit(cache=True, nogil=True)
def first_at(position: Any, scale: np.ndarray, offset: np.ndarray, low: np.ndarray, size: float, key: int):
    """Index of the first of the points (n, 3) i32, which are in key order, whose key is not below ``key``."""
    a, b, fine = 0, len(position), 2.0**DEPTH / size
    while a < b:
        middle = (a + b) // 2
        if _key(position, middle, scale, offset, low, fine) < key:
            a = middle + 1
        else:
            b = middle
    return a


@njit(cache=True, nogil=True)
def _limits(position: np.ndarray, low: np.ndarray, high: np.ndarray):
    for axis in range(3):
        low[axis] = high[axis] = position[0, axis]
    for i in range(len(position)):
        for axis in range(3):
            v = position[i, axis]
            if v < low[axis]:
                low[axis] = v
            elif v > high[axis]:
                high[axis] = v


def limits(position: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest values (3, i64) of at least one position (n, 3)."""
    low, high = np.empty(3, np.int64), np.empty(3, np.int64)
    _limits(position, low, high)
    return low, high


@njit(cache=True, nogil=True)
def order(key: np.ndarray, first_digit: int):
    """Stable order (n,) u32 of keys (n,) u64, by radix: with ``first_digit`` 0 whole, with 3 only by their
    upper 30 bits.
    """
    n = len(key)
    a, b, ia, ib = key.copy(), np.empty_like(key), np.arange(n).astype(np.uint32), np.empty(n, np.uint32)
    for step in range(first_digit, 6):
        shift = np.uint64(11 * step)
        count = np.zeros(2049, np.int64)
        for i in range(n):
            count[((a[i] >> shift) & np.uint64(2047)) + np.uint64(1)] += 1
        if count.max() == n:
            continue
        for k in range(2048):
            count[k + 1] += count[k]
        for i in range(n):
            digit = (a[i] >> shift) & np.uint64(2047)
            j = count[digit]
            count[digit] += 1
            b[j] = a[i]
            ib[j] = ia[i]
        a, b, ia, ib = b, a, ib, ia
    return ia


@njit(cache=True, nogil=True, inline="always")
def scrambled(key: int):
    """A number that looks random, from a key."""
    v = key + np.uint64(0x9E3779B97F4A7C15)
    v = (v ^ (v >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    v = (v ^ (v >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    return v ^ (v >> np.uint64(31))


@njit(cache=True, nogil=True)
def _champions(key: np.ndarray, start: int, stop: int, depth: int, mark: np.ndarray, level: np.ndarray):
    """Give ``mark`` to the champion of each cell of ``depth`` among start … stop that has no level yet;
    returns how many got it.
    """
    shift, taken, i = np.uint64(3 * (DEPTH - depth)), 0, start
    while i < stop:
        cell, best, least = key[i] >> shift, i, scrambled(key[i])
        i += 1
        while i < stop and key[i] >> shift == cell:
            v = scrambled(key[i])
            if v < least:
                best, least = i, v
            i += 1
        if level[best] == 255:
            level[best] = mark
            taken += 1
    return taken


@njit(cache=True, nogil=True)
def play_off(key: np.ndarray, mark: int, level: np.ndarray):
    """Lower the level (n,) of the champion of each cell of level ``mark`` to it; points in key order (n,), of
    which each cell's champion is one.
    """
    shift, i = np.uint64(3 * (DEPTH - mark - CELL_BITS)), 0
    while i < len(key):
        cell, best, least = key[i] >> shift, i, scrambled(key[i])
        while i < len(key) and key[i] >> shift == cell:
            v = scrambled(key[i])
            if v < least:
                best, least = i, v
            i += 1
        level[best] = min(level[best], mark)


@njit(cache=True, nogil=True)
def assign(key: np.ndarray, top: int, full: int):
    """Levels of the points of one node of level ``top``, all of it, in key order.

    Returns ``level`` (n, u8), in which values below ``top`` mean that a point belongs to a node above (levels
    whose cells are larger than this node are left to the caller), and the nodes from ``top`` down as rows
    (level, first key, points).
    """
    n = len(key)
    level = np.full(n, 255, np.uint8)
    for upper in range(max(top - CELL_BITS, 0), top):
        _champions(key, 0, n, upper + CELL_BITS, upper, level)
    rows = [(np.uint64(top), np.uint64(0), np.uint64(0)) for _ in range(0)]
    stack = [(0, n, top)]
    while len(stack):
        start, stop, depth = stack.pop()
        left = 0
        for i in range(start, stop):
            left += level[i] == 255
        if left == 0:
            continue
        shift = np.uint64(3 * (DEPTH - depth))
        first = (key[start] >> shift) << shift
        if left <= full or depth == DEEPEST:
            for i in range(start, stop):
                if level[i] == 255:
                    level[i] = depth
            rows.append((np.uint64(depth), first, np.uint64(left)))
            continue
        rows.append(
            (
                np.uint64(depth),
                first,
                np.uint64(_champions(key, start, stop, depth + CELL_BITS, depth, level)),
            )
        )
        finer = shift - np.uint64(3)
        i = start
        while i < stop:
            child, j = key[i] >> finer, i
            while j < stop and key[j] >> finer == child:
                j += 1
            stack.append((i, j, depth + 1))
            i = j
    return level, rows
