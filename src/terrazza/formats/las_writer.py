"""ASPRS LAS 1.4 and LAZ: points encoded piece by piece, by whichever process, and put into a file one after
another.
"""

import io
import unicodedata
from dataclasses import dataclass
from typing import Any

import laspy
import lazrs
import numpy as np
from laspy.vlrs.known import ClassificationLookupVlr, LasZipVlr
from pyproj import CRS

from terrazza.files import whole

CHUNK = 50_000


@dataclass(frozen=True)
class Layout:
    """What all pieces of a file have in common: the step of a coordinate and their origin (3,) in the file's
    unit, the columns, and whether it is compressed.
    """

    scale: float
    offset: tuple[float, float, float]
    colour: bool = False
    time: bool = False
    packed: bool = True
    classes: tuple[tuple[int, str], ...] = ()  # names of classes that are not standard ones
    eight: bool = False  # colours from 0 to 255, against the standard, as some programs want them

    def header(self, wkt: str = "") -> laspy.LasHeader:
        """The header of a file that holds nothing yet, with a coordinate system where one is given."""
        header = laspy.LasHeader(point_format=7 if self.colour else 6, version="1.4")
        header.scales, header.offsets = np.full(3, self.scale), np.asarray(self.offset, float)
        header.generating_software = "Terrazza"
        header.global_encoding.wkt = True  # as point formats from 6 on must (LAS 1.4 R15, table 3)
        header.partial_reset()
        if self.packed:
            header.are_points_compressed = True
            header.vlrs.append(LasZipVlr(self.vlr.record_data()))
        if self.classes:
            header.vlrs.append(self.class_names())
        if wkt:
            header.add_crs(CRS.from_wkt(wkt))
        return header

    @property
    def record(self) -> int:
        """Bytes of a point, not compressed."""
        return self.header().point_format.size

    def class_names(self) -> ClassificationLookupVlr:
        """LAS 1.4 R15, Classification Lookup: names of 15 ASCII letters at most."""
        names = ClassificationLookupVlr()
        for code, name in self.classes:
            plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode()
            names[code] = plain[:15]
        return names

    @property
    def vlr(self) -> lazrs.LazVlr:
        return lazrs.LazVlr.new_for_compression(7 if self.colour else 6, 0)

    def encoded(self, chunks: list[dict[str, np.ndarray]], threads: bool = False) -> "Encoded":
        """Points as they stand in a file, one after another.

        A chunk has ``xyz`` (n, 3) float64 in the file's unit and frame, or ``position`` (n, 3) i32 in its
        scale and offset, and where there ``intensity``, ``class``, ``rgb`` (u8, or u16 over its full
        scale), ``time``, ``returns``, ``source`` (u16).
        """
        sizes = [len(c["position"] if "position" in c else c["xyz"]) for c in chunks]
        header = self.header()
        record = laspy.ScaleAwarePointRecord.zeros(sum(sizes), header=header)
        ends = np.cumsum([0, *sizes])
        for chunk, start, stop in zip(chunks, ends, ends[1:]):
            self._fill(record.array[start:stop], chunk)
        if not len(record):
            return Encoded(b"", [], header)
        header.grow(record)
        raw = np.frombuffer(record.array, np.uint8)
        if not self.packed:
            return Encoded(raw.tobytes(), [], header)
        data = bytes(lazrs.compress_points(self.vlr, raw, threads))
        chunks = [tuple(c) for c in lazrs.read_chunk_table(io.BytesIO(data), self.vlr)]
        return Encoded(data[8 : 8 + sum(size for _, size in chunks)], chunks, header)

    def _fill(self, plain: np.ndarray, chunk: dict[str, Any]) -> None:
        whole_numbers = (
            chunk["position"]
            if "position" in chunk
            else np.rint((chunk["xyz"] - np.asarray(self.offset)) / self.scale)
        )
        for k, name in enumerate("XYZ"):
            plain[name] = whole_numbers[:, k]
        for ours, theirs in (
            ("intensity", "intensity"),
            ("class", "classification"),
            ("source", "point_source_id"),
        ):
            if ours in chunk:
                plain[theirs] = chunk[ours]
        returns = chunk.get("returns")
        plain["bit_fields"] = (
            0x11 if returns is None else np.maximum(returns & 15, 1) | np.maximum(returns >> 4, 1) << 4
        )
        if self.colour and "rgb" in chunk:
            for k, name in enumerate(("red", "green", "blue")):
                value = chunk["rgb"][:, k].astype(np.uint16)
                plain[name] = value if self.eight or chunk["rgb"].dtype == np.uint16 else value * 257
        if self.time and "time" in chunk:
            plain["gps_time"] = chunk["time"]


@dataclass
class Encoded:
    """A piece of a file: its bytes, where compressed its chunks as (points, bytes), and a header that counts
    its points.
    """

    data: bytes
    chunks: list[tuple[int, int]]
    header: laspy.LasHeader


class Writer:
    """Puts points into a LAS or LAZ 1.4 file (by its name), as encoded pieces or in chunks; appears under its
    name only when whole.
    """

    def __init__(
        self,
        path: str,
        scale: float,
        offset: np.ndarray | tuple[float, float, float],
        colour: bool = False,
        time: bool = False,
        wkt: str = "",
        classes: tuple[tuple[int, str], ...] = (),
        eight: bool = False,
    ):
        self.path = str(path)
        packed = self.path.lower().endswith(".laz")
        self.layout = Layout(scale, tuple(map(float, offset)), colour, time, packed, classes, eight)
        self.header = self.layout.header(wkt)
        self._held, self._table = [], []

    def __enter__(self) -> "Writer":
        self._file = whole(self.path)
        self.stream = open(self._file.__enter__(), "wb")
        self.header.write_to(self.stream)
        if self.layout.packed:
            self._start = self.stream.tell()
            self.stream.write(bytes(8))
        return self

    def write(self, chunk: dict[str, np.ndarray]) -> None:
        """Some points, as ``Layout.encoded`` takes them."""
        self._held.append(chunk)
        if sum(len(next(iter(c.values()))) for c in self._held) >= 20 * CHUNK:
            self._settle(keep=True)

    def _settle(self, keep: bool = False) -> None:
        """Encode what is held; with ``keep`` whole chunks only, the rest stays held."""
        sizes = [len(next(iter(c.values()))) for c in self._held]
        rest = sum(sizes) % CHUNK if keep else 0
        take, left, held = [], sum(sizes) - rest, []
        for chunk, size in zip(self._held, sizes):
            n = min(size, left)
            left -= n
            take += [{k: v[:n] for k, v in chunk.items()}] * (n > 0)
            held += [{k: v[n:] for k, v in chunk.items()}] * (n < size)
        self._held = held
        if take:
            self.put(self.layout.encoded(take, threads=True))

    def put(self, piece: Encoded) -> None:
        """The next piece; of a compressed file all but the last hold whole chunks."""
        mine, its = self.header, piece.header
        if self.layout.packed and mine.point_count % CHUNK and piece.chunks:
            raise ValueError("a compressed piece before the last must hold whole chunks")
        self.stream.write(piece.data)
        self._table += piece.chunks
        mine.mins, mine.maxs = np.minimum(mine.mins, its.mins), np.maximum(mine.maxs, its.maxs)
        mine.number_of_points_by_return = mine.number_of_points_by_return + its.number_of_points_by_return
        mine.point_count += its.point_count

    def __exit__(self, kind: type | None, error: Any, trace: Any) -> None:
        try:
            if kind is None:
                self._settle()
                if self.layout.packed:
                    end = self.stream.tell()
                    lazrs.write_chunk_table(self.stream, self._table, self.layout.vlr)
                    self.stream.seek(self._start)
                    self.stream.write(end.to_bytes(8, "little"))
                if not self.header.point_count:
                    self.header.mins = self.header.maxs = np.zeros(3)
                self.stream.seek(0)
                self.header.write_to(self.stream, ensure_same_size=True)
        finally:
            self.stream.close()
        self._file.__exit__(kind, error, trace)
