"""The octree of a COPC file: which node each point goes to, told piece by piece by whichever process."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numba import njit

from terrazza.formats.las_writer import Layout

DEEPEST = 12  # levels below the root
FIRST = 6  # at which points are counted; where a cell of it holds more than a leaf, at the deepest
UNDER = 3 * (DEEPEST - FIRST)  # bits of a code below it
NODE, LEAF = 50_000, 100_000  # points that a node keeps of those in it; and at most in one without children


@dataclass(frozen=True)
class Cube:
    """The root: its lowest corner (3,) and edge, in the file's unit."""

    low: tuple[float, float, float]
    edge: float

    @classmethod
    def around(cls, low: np.ndarray, high: np.ndarray) -> "Cube":
        """From the lowest corner of the points on, as readers that look at the header alone take it. Corners
        (3,), m.
        """
        return cls(tuple(float(v) for v in low), max(float((high - low).max()), 1e-3))

    def codes(self, position: np.ndarray, layout: Layout) -> np.ndarray:
        """(n,) i64: the finest cell of whole-number positions (n, 3) i32, its bits from the root down."""
        low, offset = np.asarray(self.low), np.asarray(layout.offset, float)
        return _codes(position, layout.scale, offset, low, 2**DEEPEST / self.edge)


@njit(cache=True, nogil=True)
def _codes(position: np.ndarray, scale: float, offset: np.ndarray, low: np.ndarray, cells: float):
    out = np.zeros(len(position), np.int64)
    for i in range(len(position)):
        code = 0
        for axis in range(3):
            place = int(np.floor((position[i, axis] * scale + offset[axis] - low[axis]) * cells))
            code |= _spread(min(max(place, 0), 2**DEEPEST - 1)) << axis
        out[i] = code
    return out


@njit(cache=True, nogil=True)
def _spread(v: int):
    """A number of at most 21 bits with two empty ones after each."""
    v = (v | v << 32) & 0x1F00000000FFFF
    v = (v | v << 16) & 0x1F0000FF0000FF
    v = (v | v << 8) & 0x100F00F00F00F00F
    v = (v | v << 4) & 0x10C30C30C30C30C3
    return (v | v << 2) & 0x1249249249249249


def place_of(code: int, level: int) -> tuple[int, int, int]:
    """Cell (x, y, z) of a node, from the code of its level."""
    out = [0, 0, 0]
    for k in range(level):
        octant = (int(code) >> (3 * (level - 1 - k))) & 7
        for axis in range(3):
            out[axis] = out[axis] << 1 | (octant >> axis & 1)
    return out[0], out[1], out[2]


@dataclass
class Tree:
    """Which node the points of each cell go to: sorted ``codes`` (k,) of the cells, each the lowest of the
    finest cells in it, and ``limits`` (k, levels): a point with an even random number u goes to the first
    level whose limit is above u. ``names`` (m,) are the nodes: 1, then the bits of their octants;
    ``numbers`` (k, levels) say which of them a cell's points go to.
    """

    codes: np.ndarray
    limits: np.ndarray

    def __post_init__(self) -> None:
        names, numbers, so_far = [], np.zeros(self.limits.shape, np.int32), 0
        for level in range(self.limits.shape[1]):
            above = self.codes >> (3 * (DEEPEST - level))
            new = np.r_[True, above[1:] != above[:-1]]
            numbers[:, level] = so_far + np.cumsum(new) - 1
            names.append(above[new] | 1 << 3 * level)
            so_far += len(names[-1])
        self.names, self.numbers = np.concatenate(names), numbers
        self._first = np.searchsorted(self.codes >> UNDER, np.arange(8**FIRST + 1)).astype(np.int32)

    @classmethod
    def of(cls, codes: np.ndarray, counts: np.ndarray) -> "Tree":
        """From sorted ``codes`` of the cells and the points in each; those above ``LEAF`` are finest ones.
        Both (k,).
        """
        limits = np.ones((len(codes), DEEPEST + 1), np.float32)
        left, ended = np.ones(len(codes)), np.zeros(len(codes), bool)
        for level in range(DEEPEST + 1):
            above = codes >> (3 * (DEEPEST - level))
            start = np.flatnonzero(np.r_[True, above[1:] != above[:-1]])
            there = np.add.reduceat(counts * left, start)
            size = np.diff(np.r_[start, len(codes)])
            share = np.repeat(np.minimum(NODE / np.maximum(there, 1e-9), 1.0), size)
            share[np.repeat(there, size) <= LEAF] = 1.0
            if level == DEEPEST:
                share[:] = 1.0
            left = left * (1 - share)
            limits[:, level] = np.where(ended, 1.0, 1 - left)
            ended |= share >= 1.0
            if ended.all():
                return cls(codes, np.ascontiguousarray(limits[:, : level + 1]))
        return cls(codes, limits)

    def grouped(self, codes: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
        """An order (n,) that brings the points of each node together, and how many each of ``names`` has."""
        chance = rng.random(len(codes), np.float32)
        return _grouped(codes, chance, self._first, self.codes, self.limits, self.numbers, len(self.names))


@njit(cache=True, nogil=True)
def _grouped(
    codes: np.ndarray,
    chance: np.ndarray,
    first: np.ndarray,
    cells: np.ndarray,
    limits: np.ndarray,
    numbers: np.ndarray,
    nodes: int,
):
    node, many = np.zeros(len(codes), np.int32), np.zeros(nodes, np.int64)
    for i in range(len(codes)):
        low, high = first[codes[i] >> UNDER], first[(codes[i] >> UNDER) + 1]
        while high - low > 1:
            middle = (low + high) // 2
            if cells[middle] <= codes[i]:
                low = middle
            else:
                high = middle
        level = 0
        while level < limits.shape[1] - 1 and chance[i] >= limits[low, level]:
            level += 1
        node[i] = numbers[low, level]
        many[node[i]] += 1
    free, order = np.cumsum(many) - many, np.zeros(len(codes), np.int64)
    for i in range(len(codes)):
        order[free[node[i]]] = i
        free[node[i]] += 1
    return order, many


class Cells:
    """Counts points by cells of one level, and by the finest where one would hold more than a leaf."""

    def __init__(self):
        self.counts = np.zeros(8**FIRST, np.int64)

    @staticmethod
    def of(codes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The cells that hold points, and how many each."""
        many = np.bincount(codes >> UNDER, minlength=8**FIRST)
        there = np.flatnonzero(many)
        return there, many[there]

    def add(self, cells: np.ndarray, many: np.ndarray) -> None:
        """Count points of cells (k,), each met once: (k,) more in them."""
        self.counts[cells] += many

    @property
    def full(self) -> np.ndarray:
        """(8**FIRST,) bool: where points are to be counted once more, by the finest cells."""
        return self.counts > LEAF

    def tree(self, again: Iterable[Any]) -> Tree:
        """The tree; ``again`` yields sorted finest cells of the full ones, with how many each holds."""
        full = self.full
        cells = np.flatnonzero((self.counts > 0) & ~full) << UNDER
        counts = self.counts[(self.counts > 0) & ~full]
        finest, many = np.zeros(0, np.int64), np.zeros(0, np.int64)
        for found, how_many in again:
            finest, back = np.unique(np.r_[finest, found], return_inverse=True)
            many = np.bincount(back, np.r_[many, how_many], len(finest)).astype(np.int64)
        order = np.argsort(np.r_[cells, finest])
        return Tree.of(np.r_[cells, finest][order], np.r_[counts, many][order])
