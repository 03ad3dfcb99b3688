"""Specks: small clusters of points with nothing around them (dust, rain, drips, birds).

Points are put into cells whose size grows with the range as the spacing of the points does; cells that touch
(by a face, an edge or a corner) belong to one cluster.
"""

from collections.abc import Iterable
from dataclasses import dataclass, fields

import numpy as np
from numba import njit

NEAREST = 0.05  # m: nothing is measured nearer
HALF = [(a, b, c) for a in (-1, 0, 1) for b in (-1, 0, 1) for c in (-1, 0, 1) if (a, b, c) > (0, 0, 0)]
BITS = 21


def spherical(xyz: np.ndarray, step: float) -> np.ndarray:
    """(n, 3) cells of points (m, seen from the origin): azimuth, elevation and the logarithm of the range, in
    steps of ``step`` (rad, and as a share of the range).
    """
    r = np.maximum(np.linalg.norm(xyz, axis=1), NEAREST)
    up = np.arcsin(np.clip(xyz[:, 2] / r, -1, 1))
    turn = np.arctan2(xyz[:, 1], xyz[:, 0]) * np.cos(up)  # so that cells are as wide near the zenith
    return np.floor(np.stack([turn + np.pi, up + np.pi / 2, np.log(r / NEAREST) / 2], 1) / step).astype(
        np.int64
    )


def plain(xyz: np.ndarray, step: float, low: np.ndarray) -> np.ndarray:
    """(n, 3) cells of edge ``step`` (m) counted from ``low``."""
    return np.floor((xyz - low) / step).astype(np.int64)


def cells_of(code: np.ndarray) -> np.ndarray:
    """The cells (n, 3) of codes."""
    mask = (1 << BITS) - 1
    return np.stack([code >> (2 * BITS), (code >> BITS) & mask, code & mask], 1) - 1


def rim(code: np.ndarray) -> np.ndarray:
    """Codes of the cells that touch some, sorted, without those themselves. Codes (n,), and (m,) of those
    about them.
    """
    steps = np.array([(a << (2 * BITS)) + (b << BITS) + c for a, b, c in HALF])
    return np.setdiff1d(np.concatenate([code[:, None] + steps, code[:, None] - steps], 1), code)


def codes(cells: np.ndarray) -> np.ndarray:
    """One number (n,) int64 a cell; cells are moved by one so that neighbours of the first have one too."""
    cells = np.clip(cells + 1, 0, (1 << BITS) - 2)
    return (cells[:, 0] << (2 * BITS)) | (cells[:, 1] << BITS) | cells[:, 2]


@dataclass
class Held:
    """Cells with points: sorted ``code`` (m,), how many each, ``count`` (m,), and between what they lie,
    ``low`` and ``high`` (m, 3) float32 (m).
    """

    code: np.ndarray
    count: np.ndarray
    low: np.ndarray
    high: np.ndarray

    @classmethod
    def of(cls, code: np.ndarray, xyz: np.ndarray) -> "Held":
        """Of points (n, 3) and the codes of their cells."""
        xyz = xyz.astype(np.float32)
        return cls._summed(code, np.ones(len(code), np.int32), xyz, xyz)

    @classmethod
    def _summed(cls, code: np.ndarray, count: np.ndarray, low: np.ndarray, high: np.ndarray) -> "Held":
        if not len(code):
            return cls(code, count, low, high)
        order = np.argsort(code, kind="stable")
        code = code[order]
        start = np.flatnonzero(np.r_[True, code[1:] != code[:-1]])
        return cls(
            code[start],
            np.add.reduceat(count[order], start),
            np.minimum.reduceat(low[order], start),
            np.maximum.reduceat(high[order], start),
        )

    @classmethod
    def together(cls, parts: Iterable["Held"]) -> "Held":
        """All of them: like sizes put together first, so that no cell is sorted more often than it must."""
        stack: list[Held] = [
            cls(np.zeros(0, np.int64), np.zeros(0, np.int32), *np.zeros((2, 0, 3), np.float32))
        ]
        for part in parts:
            stack.append(part)
            while len(stack) > 1 and len(stack[-2].code) < 2 * len(stack[-1].code):
                stack.append(cls._joined(stack.pop(), stack.pop()))
        while len(stack) > 1:
            stack.append(cls._joined(stack.pop(), stack.pop()))
        return stack[0]

    @classmethod
    def _joined(cls, one: "Held", two: "Held") -> "Held":
        both = ((getattr(one, f.name), getattr(two, f.name)) for f in fields(cls))
        return cls._summed(*(np.concatenate(pair) for pair in both))


@njit(cache=True, nogil=True)
def _root(above: np.ndarray, i: int):
    while above[i] != i:
        above[i] = above[above[i]]
        i = above[i]
    return i


@njit(cache=True, nogil=True)
def _clustered(code: np.ndarray, steps: np.ndarray):
    above = np.arange(len(code))
    for step in steps:
        j = 0
        for i in range(len(code)):
            other = code[i] + step
            while j < len(code) and code[j] < other:
                j += 1
            if j == len(code):
                break
            if code[j] == other:
                a, b = _root(above, i), _root(above, j)
                if a != b:
                    above[max(a, b)] = min(a, b)
    out, many = np.zeros(len(code), np.int64), 0
    for i in range(len(code)):
        root = _root(above, i)  # the first of its cells
        if root == i:
            out[i] = many
            many += 1
        else:
            out[i] = out[root]
    return out


def clusters(code: np.ndarray) -> np.ndarray:
    """The cluster (m,), from 0, of each of some distinct cells (m,) sorted codes."""
    return _clustered(code, np.array([(a << (2 * BITS)) + (b << BITS) + c for a, b, c in HALF]))


def small(held: Held, fewest: float, smallest: float) -> np.ndarray:
    """Mask of the cells whose cluster has fewer than ``fewest`` points or is smaller across than ``smallest``
    (m). Mask (n,) of n cells.
    """
    if not len(held.code):
        return np.zeros(0, bool)
    cluster = clusters(held.code)
    many = int(cluster.max()) + 1
    points = np.bincount(cluster, held.count, many)
    lowest, highest = np.full((many, 3), np.inf, np.float32), np.full((many, 3), -np.inf, np.float32)
    np.minimum.at(lowest, cluster, held.low)
    np.maximum.at(highest, cluster, held.high)
    across = np.linalg.norm(highest - lowest, axis=1)
    return ((points < fewest) | (across < smallest))[cluster]
