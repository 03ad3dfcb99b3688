"""COPC 1.0 (cloud optimized point cloud): a LAZ 1.4 file whose chunks are the nodes of an octree, each node
an even share of what lies in its cube, with a hierarchy of where each lies at the end.
"""

import io
import struct
from dataclasses import dataclass, field

import laspy
import lazrs
import numpy as np
from laspy.vlrs.known import LasZipVlr
from numba import njit
from pyproj import CRS

from terrazza.files import whole
from terrazza.formats.las_writer import Layout

DEEPEST = 12  # levels below the root
FIRST = 6  # at which points are counted; where a cell of it holds more than a leaf, at the deepest
UNDER = 3 * (DEEPEST - FIRST)  # bits of a code below it
NODE, LEAF = 50_000, 100_000  # points that a node keeps of those in it; and at most in one without children
INFO, ENTRY = struct.Struct("<9d"), struct.Struct("<iiiiQii")


@dataclass(frozen=True)
class Cube:
    """The root: its lowest corner (3,) and edge, in the file's unit."""

    low: tuple[float, float, float]
    edge: float

    @classmethod
    def around(cls, low: np.ndarray, high: np.ndarray) -> "Cube":
        """From the lowest corner of the points on, as readers that look at the header alone take it."""
        return cls(tuple(float(v) for v in low), max(float((high - low).max()), 1e-3))

    def codes(self, position: np.ndarray, layout: Layout) -> np.ndarray:
        """(n,) u64: the finest cell of whole-number positions (n, 3), its bits from the root down."""
        xyz = position * layout.scale + np.asarray(layout.offset)
        cell = np.floor((xyz - self.low) / self.edge * 2**DEEPEST).clip(0, 2**DEEPEST - 1).astype(np.int64)
        return _woven(cell)


@njit(cache=True, nogil=True)
def _woven(cell):
    out = np.zeros(len(cell), np.uint64)
    for i in range(len(cell)):
        code = 0
        for level in range(DEEPEST):
            bit = DEEPEST - 1 - level
            code = (code << 3) | (
                ((cell[i, 0] >> bit) & 1)
                | (((cell[i, 1] >> bit) & 1) << 1)
                | (((cell[i, 2] >> bit) & 1) << 2)
            )
        out[i] = code
    return out


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
    level whose limit is above u.
    """

    codes: np.ndarray
    limits: np.ndarray

    @classmethod
    def of(cls, codes: np.ndarray, counts: np.ndarray) -> "Tree":
        """From sorted ``codes`` of the cells and the points in each; those above ``LEAF`` are finest ones."""
        limits = np.ones((len(codes), DEEPEST + 1), np.float32)
        left, ended = np.ones(len(codes)), np.zeros(len(codes), bool)
        for level in range(DEEPEST + 1):
            shift = np.uint64(3 * (DEEPEST - level))
            start = np.flatnonzero(np.r_[True, (codes[1:] >> shift) != (codes[:-1] >> shift)])
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

    def nodes(self, codes: np.ndarray, rng) -> np.ndarray:
        """(n,) u64 node of each point: 1, then the bits of its octants."""
        cell = np.searchsorted(self.codes, codes, side="right") - 1
        chance, level = rng.random(len(codes), np.float32), np.zeros(len(codes), np.uint64)
        for limit in np.ascontiguousarray(self.limits.T):
            level += chance >= limit[cell]
        level = np.minimum(level, np.uint64(DEEPEST))
        return (np.uint64(1) << (np.uint64(3) * level)) | (
            codes >> (np.uint64(3) * (np.uint64(DEEPEST) - level))
        )


class Cells:
    """Counts points by cells of one level, and by the finest where one would hold more than a leaf."""

    def __init__(self):
        self.counts = np.zeros(8**FIRST, np.int64)

    def add(self, codes: np.ndarray) -> None:
        self.counts += np.bincount(codes >> np.uint64(UNDER), minlength=8**FIRST)

    def tree(self, again) -> Tree:
        """The tree; ``again`` yields all codes once more, chunk by chunk."""
        full = self.counts > LEAF
        cells = np.flatnonzero((self.counts > 0) & ~full).astype(np.uint64) << np.uint64(UNDER)
        counts = self.counts[(self.counts > 0) & ~full]
        finest, many = np.zeros(0, np.uint64), np.zeros(0, np.int64)
        for codes in again if full.any() else ():
            found, how_many = np.unique(codes[full[codes >> np.uint64(UNDER)]], return_counts=True)
            finest, back = np.unique(np.r_[finest, found], return_inverse=True)
            many = np.bincount(back, np.r_[many, how_many], len(finest)).astype(np.int64)
        order = np.argsort(np.r_[cells, finest])
        return Tree.of(np.r_[cells, finest][order], np.r_[counts, many][order])


@dataclass
class Writer:
    """Puts compressed nodes into a file, in any order; appears under its name only when whole."""

    path: str
    layout: Layout
    cube: Cube
    wkt: str = ""
    entries: list = field(default_factory=list)

    @staticmethod
    def packing(colour: bool) -> lazrs.LazVlr:
        return lazrs.LazVlr.new_for_compression(7 if colour else 6, 0, True)

    @staticmethod
    def packed(records: bytes, colour: bool) -> bytes:
        """The bytes of one node."""
        data = bytes(lazrs.compress_points(Writer.packing(colour), np.frombuffer(records, np.uint8), False))
        chunks = lazrs.read_chunk_table(io.BytesIO(data), Writer.packing(colour))
        return data[8 : 8 + sum(size for _, size in chunks)]

    def __enter__(self):
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "wb")
        plain = Layout(self.layout.scale, self.layout.offset, self.layout.colour, self.layout.time, False)
        self.header = plain.header()
        self.header.are_points_compressed = True
        self.header.vlrs.append(laspy.VLR("copc", 1, "COPC info", bytes(160)))
        self.header.vlrs.append(LasZipVlr(self.packing(self.layout.colour).record_data()))
        if self.layout.classes:
            self.header.vlrs.append(self.layout.class_names())
        if self.wkt:
            self.header.add_crs(CRS.from_wkt(self.wkt))
        self.header.write_to(self.stream)
        self._start = self.stream.tell()
        self.stream.write(bytes(8))
        self._table: list[tuple[int, int]] = []
        return self

    def put(self, node: int, points: int, data: bytes) -> None:
        """One node, by its number of ``Tree.nodes``."""
        level = (int(node).bit_length() - 1) // 3
        place = place_of(int(node) ^ (1 << (3 * level)), level)
        self.entries.append((level, *place, self.stream.tell(), len(data), points))
        self._table.append((points, len(data)))
        self.stream.write(data)

    def finish(self, header: laspy.LasHeader, times: tuple[float, float]) -> None:
        """Chunk table, hierarchy and header; ``header`` counts and bounds the points."""
        end = self.stream.tell()
        lazrs.write_chunk_table(self.stream, self._table, self.packing(self.layout.colour))
        hierarchy = self.stream.tell()
        pages = b"".join(ENTRY.pack(*e) for e in self._with_parents())
        self.stream.write(struct.pack("<H16sHQ32s", 0, b"copc", 1000, len(pages), b"COPC hierarchy"))
        root = self.stream.tell()
        self.stream.write(pages)
        mine = self.header
        mine.mins, mine.maxs, mine.point_count = header.mins, header.maxs, header.point_count
        mine.number_of_points_by_return = header.number_of_points_by_return
        mine.start_of_first_evlr, mine.number_of_evlrs = hierarchy, 1
        middle = np.asarray(self.cube.low) + self.cube.edge / 2
        info = INFO.pack(*middle, self.cube.edge / 2, self.cube.edge / 128, *_bits(root, len(pages)), *times)
        mine.vlrs[0].record_data = info + bytes(160 - len(info))
        self.stream.seek(self._start)
        self.stream.write(end.to_bytes(8, "little"))
        self.stream.seek(0)
        mine.write_to(self.stream, ensure_same_size=True)

    def _with_parents(self) -> list[tuple]:
        """The entries, and empty ones for what lies above them without points of its own."""
        there = {e[:4] for e in self.entries}
        missing = set()
        for level, x, y, z in there:
            while level and (up := (level - 1, x >> 1, y >> 1, z >> 1)) not in there | missing:
                missing.add(up)
                level, x, y, z = up
        return sorted([*self.entries, *((*m, 0, 0, 0) for m in missing)])

    def __exit__(self, kind, error, trace):
        self.stream.close()
        self._file.__exit__(kind, error, trace)


def _bits(*values: int) -> tuple[float, ...]:
    """Whole numbers (u64) as the doubles of the same bits, to stand in one structure of doubles."""
    return struct.unpack(f"<{len(values)}d", struct.pack(f"<{len(values)}Q", *values))
