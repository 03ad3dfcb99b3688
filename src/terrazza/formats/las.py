"""ASPRS LAS 1.0 to 1.4 and its compressed form LAZ: look inside, read in chunks."""

import contextlib
import os
import struct
from collections.abc import Iterator
from typing import Any

import laspy
import lazrs
import numpy as np
from laspy.point.dims import SubFieldView
from pyproj import CRS
from pyproj.exceptions import CRSError

from terrazza.errors import InputError
from terrazza.formats.contents import Contents, Repair, ScanInside
from terrazza.formats.protocol import Format
from terrazza.formats.systems import metres_per_unit

CHUNK = 500_000
OURS = {"X", "Y", "Z", "intensity", "classification", "red", "green", "blue", "gps_time"}
RECORD_HEAD = 54  # bytes before the data of a variable length record (LAS 1.4 R15, table 8)
SMALLEST, LARGEST, FARTHEST = 1e-12, 1e3, 1e9  # of a header's scale and offset, in the file's unit
AGAIN = "Copy it again, or export it again from where it came."


@contextlib.contextmanager
def _opened(path: str, alone: bool = True) -> Iterator[Any]:
    name = os.path.basename(path)
    if not os.path.exists(path):
        raise InputError(f"“{name}” is not there.", "Choose the file again.")
    _need_room(path)
    try:
        with laspy.open(str(path), laz_backend=None if alone else laspy.LazBackend.Lazrs) as reader:
            yield reader
    except InputError:
        raise
    except Exception as error:  # the libraries below raise errors of many kinds on damaged files
        first = (str(error).strip() or type(error).__name__).splitlines()[0]
        raise InputError(f"“{name}” cannot be read as LAS or LAZ ({first}).", AGAIN) from error


def _crs(header: Any) -> CRS | None:
    try:
        return header.parse_crs()
    except (CRSError, ValueError, KeyError, IndexError):
        return None


def _need_sound(header: Any, path: str) -> None:
    """InputError where the header's numbers cannot be those of coordinates on Earth."""
    scales, offsets = np.asarray(header.scales, float), np.asarray(header.offsets, float)
    if not (
        np.isfinite(scales).all()
        and np.isfinite(offsets).all()
        and (scales > SMALLEST).all()
        and (scales < LARGEST).all()
        and (np.abs(offsets) < FARTHEST).all()
    ):
        raise InputError(
            f"“{os.path.basename(path)}” has impossible numbers in its header: scale "
            f"{', '.join(f'{v:g}' for v in scales)}, offset {', '.join(f'{v:g}' for v in offsets)}.",
            AGAIN,
        )


def _need_room(path: str) -> None:
    """InputError where the header promises more records before the points than there is room for: reading
    them would take for ever.
    """
    with open(path, "rb") as file:
        head = file.read(104)
    if len(head) == 104 and head[:4] == b"LASF":
        start, records = struct.unpack("<II", head[96:104])
        if records * RECORD_HEAD > start:
            raise InputError(
                f"“{os.path.basename(path)}” promises {records:,} records before its points, and has no room "
                "for them: its header is damaged.",
                AGAIN,
            )


def look(path: str) -> Contents:
    """What the header says; the cloud counts as posed, since LAS coordinates are in a frame of their own."""
    found = Contents(path=str(path), format="LAS", size=os.path.getsize(path) if os.path.exists(path) else 0)
    with _opened(path) as reader:
        header = reader.header
        _need_sound(header, path)
        crs = _crs(header)
        found.crs_wkt = crs.to_wkt() if crs is not None else ""
        factor = found.metres = metres_per_unit(found.crs_wkt)
        if abs(factor - 1) > 1e-9:
            found.unit = next(
                (
                    u
                    for u, f in (("international foot", 0.3048), ("US survey foot", 1200 / 3937))
                    if abs(factor - f) < 1e-9
                ),
                "metre",
            )
            found.notes.append(f"Its coordinate system counts in {found.unit}: {factor:.10g} m.")
        columns = ["xyz", *(d for d in header.point_format.dimension_names)]
        found.format = (
            "COPC"
            if any(v.user_id == "copc" for v in header.vlrs)
            else "LAZ"
            if header.are_points_compressed
            else "LAS"
        )
        _count(found, header, path)
        found.scans.append(
            ScanInside(
                index=0,
                name=os.path.splitext(os.path.basename(path))[0],
                points=_there(header, path),
                pose=np.eye(4),
                columns=columns,
                bounds=(header.mins, header.maxs) if np.isfinite([header.mins, header.maxs]).all() else None,
                instrument=str(header.generating_software).strip("\0 "),
                captured=str(header.creation_date or ""),
            )
        )
    return found


def _there(header: Any, path: str) -> int:
    """How many points the file holds and lets be read: of an uncompressed file what its length has room for,
    of a compressed one what its header says, or its chunks where that is more.
    """
    said = int(header.point_count)
    if header.are_points_compressed:
        return max(said, _in_chunks(header, path)[0])
    end = os.path.getsize(path)
    for start in (
        header.start_of_first_evlr if header.number_of_evlrs else 0,
        header.start_of_waveform_data_packet_record,
    ):
        end = min(end, start) if start > header.offset_to_point_data else end
    room = max(end - header.offset_to_point_data, 0) // header.point_format.size
    if room > said:  # bytes of nothing behind the points are none
        with open(path, "rb") as file:
            file.seek(header.offset_to_point_data + said * header.point_format.size)
            room = room if any(file.read(header.point_format.size)) else said
    return room


def _in_chunks(header: Any, path: str) -> tuple[int, int]:
    """Of a compressed file, how many points its chunks hold at least, and how many more may be in the last
    one; zeros where it does not say.
    """
    try:
        packing = lazrs.LazVlr(header.vlrs.get("LasZipVlr")[0].record_data)
        with open(path, "rb") as file:
            file.seek(header.offset_to_point_data)
            chunks = lazrs.read_chunk_table(file, packing)
    except (lazrs.LazrsError, OSError, IndexError, ValueError):
        return 0, 0
    counts = [c[0] for c in chunks]
    if not counts or packing.uses_variable_size_chunks():
        return sum(counts), 0
    return sum(counts[:-1]), counts[-1]


def _count(found: Contents, header: Any, path: str) -> None:
    said, there = int(header.point_count), _there(header, path)
    more = _in_chunks(header, path)[1] if header.are_points_compressed and there > said else 0
    if there > said:
        found.repairs.append(
            Repair(
                "count",
                0,
                there - said,
                f"Its header counts {said:,} points; {there:,} are there and are taken"
                + (
                    f", but not up to {more:,} of its last chunk, whose number nothing tells."
                    if more
                    else "."
                ),
            )
        )
    if there < said:
        found.repairs.append(
            Repair(
                "count", 0, said - there, f"Cut off: {there:,} of {said:,} points are there and can be taken."
            )
        )


def coordinates(path: str, index: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Scale and offset (3,) of the file's integer coordinates, in its unit."""
    with _opened(path) as reader:
        return np.array(reader.header.scales, float), np.array(reader.header.offsets, float)


def read_points(
    path: str, index: int = 0, start: int = 0, stop: int | None = None, chunk: int = CHUNK
) -> Iterator[dict[str, np.ndarray]]:
    """Points ``start`` to ``stop`` (all of them) in file order; InputError where fewer are there than the
    header says.

    Columns: ``position`` i32 (n, 3) as stored; ``intensity``, ``class``, ``returns`` (return number in the
    low, number of returns in the high four bits), ``native_rgb`` u16 and ``time`` where there; every other
    dimension as ``extra.NAME``.
    """
    with _opened(path, alone=stop is None) as reader:
        names = set(reader.header.point_format.dimension_names)
        rest = sorted(names - OURS - {"return_number", "number_of_returns"})
        got, left = 0, _there(reader.header, path) - start if stop is None else stop - start
        reader.header.point_count = max(int(reader.header.point_count), start + left)
        if start:
            reader.seek(start)
        while got < left:
            points = reader.read_points(min(chunk, left - got))
            if not len(points):
                raise InputError(
                    f"“{os.path.basename(path)}” is cut off: {start + got:,} of "
                    f"{reader.header.point_count:,} points are there.",
                    AGAIN,
                )
            same: dict[int, bool] = {}
            out = {
                "position": _three(points, "X", np.int32),
                "intensity": np.asarray(points.intensity, np.uint16),
                "class": _field(points, "classification", same).astype(np.uint8),
                "returns": (
                    _field(points, "return_number", same).astype(np.uint8)
                    | (_field(points, "number_of_returns", same).astype(np.uint8) << 4)
                ),
            }
            if "gps_time" in names:
                out["time"] = np.asarray(points.gps_time, np.float64)
            if "red" in names:
                out["native_rgb"] = _three(points, "red", np.uint16)
            for name in rest:
                out[f"extra.{name}"] = _field(points, name, same)
            got += len(points)
            yield out


def _three(points: Any, first: str, kind: type) -> np.ndarray:
    """Three fields that follow each other in a point record, as one column (n, 3)."""
    record = points.array
    return np.ndarray(
        (len(record), 3),
        kind,
        record,
        record.dtype.fields[first][1],
        (record.dtype.itemsize, np.dtype(kind).itemsize),
    ).copy()


def _field(points: Any, name: str, same: dict[int, bool]) -> np.ndarray:
    """One dimension; bits of a byte that is the same in all points (flags are, as a rule) are not picked out
    point by point.

    ``same`` remembers, for one read, of which bytes (by address) that is known.
    """
    values = points[name]
    if isinstance(values, SubFieldView) and len(values):
        byte = values.array
        if (at := byte.ctypes.data) not in same:
            same[at] = bool((byte == byte[0]).all())
        if same[at]:
            return np.full(len(values), np.asarray(values[:1])[0])
    return np.asarray(values)


FORMAT = Format(
    names=("LAS", "LAZ", "COPC"),
    look=look,
    signatures=(b"LASF",),
    read_points=read_points,
    coordinates=coordinates,
    seeks=True,
    shared=True,
)
