"""COPC 1.0 (cloud optimized point cloud): a LAZ 1.4 file whose chunks are the nodes of an octree, each node
an even share of what lies in its cube, with a hierarchy of where each lies at the end.
"""

import io
import struct
from dataclasses import dataclass, field
from typing import Any

import laspy
import lazrs
import numpy as np
from laspy.vlrs.known import LasZipVlr
from pyproj import CRS

from terrazza.files import whole
from terrazza.formats.copc_tree import Cube, place_of
from terrazza.formats.las_writer import Layout

OFFSET = 8  # bytes before packed points, which say where their table is
INFO, ENTRY = struct.Struct("<9d"), struct.Struct("<iiiiQii")


@dataclass
class Writer:
    """Puts nodes into a file, in any order; appears under its name only when whole."""

    path: str
    layout: Layout
    cube: Cube
    wkt: str = ""
    entries: list[Any] = field(default_factory=list[Any])

    @staticmethod
    def packing(colour: bool) -> lazrs.LazVlr:
        return lazrs.LazVlr.new_for_compression(7 if colour else 6, 0, True)

    def __enter__(self) -> "Writer":
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

    def put(self, nodes: list[tuple[int, int, bytes]]) -> None:
        """Some nodes, (name in ``Tree.names``, points, records), packed on all cores at once."""
        out, packing = io.BytesIO(), self.packing(self.layout.colour)
        compressor = lazrs.ParLasZipCompressor(out, packing)
        compressor.compress_chunks([np.frombuffer(records, np.uint8) for *_, records in nodes])
        compressor.done()
        data, sizes = out.getbuffer(), lazrs.read_chunk_table(io.BytesIO(out.getbuffer()), packing)
        at = OFFSET
        for (node, points, _), (_, size) in zip(nodes, sizes, strict=True):
            level = (int(node).bit_length() - 1) // 3
            place = place_of(int(node) ^ (1 << (3 * level)), level)
            self.entries.append((level, *place, self.stream.tell(), size, points))
            self._table.append((points, size))
            self.stream.write(data[at : at + size])
            at += size

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

    def _with_parents(self) -> list[tuple[Any, ...]]:
        """The entries, and empty ones for what lies above them without points of its own."""
        there = {e[:4] for e in self.entries}
        missing = set()
        for level, x, y, z in there:
            while level and (up := (level - 1, x >> 1, y >> 1, z >> 1)) not in there | missing:
                missing.add(up)
                level, x, y, z = up
        return sorted([*self.entries, *((*m, 0, 0, 0) for m in missing)])

    def __exit__(self, kind: object, error: object, trace: object) -> None:
        self.stream.close()
        self._file.__exit__(kind, error, trace)


def _bits(*values: int) -> tuple[float, ...]:
    """Whole numbers (u64) as the doubles of the same bits, to stand in one structure of doubles."""
    return struct.unpack(f"<{len(values)}d", struct.pack(f"<{len(values)}Q", *values))
