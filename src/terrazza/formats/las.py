"""ASPRS LAS 1.0 to 1.4 and its compressed form LAZ: look inside, read in chunks."""

import contextlib
import os
from collections.abc import Iterator

import laspy
import numpy as np
from laspy.point.dims import SubFieldView
from pyproj import CRS
from pyproj.exceptions import CRSError

from terrazza.errors import InputError
from terrazza.formats.contents import Contents, Repair, ScanInside

CHUNK = 500_000
SEEKS = True
OURS = {"X", "Y", "Z", "intensity", "classification", "red", "green", "blue", "gps_time"}
AGAIN = "Copy it again, or export it again from where it came."


@contextlib.contextmanager
def _opened(path, alone: bool = True):
    name = os.path.basename(path)
    if not os.path.exists(path):
        raise InputError(f"“{name}” is not there.", "Choose the file again.")
    try:
        with laspy.open(str(path), laz_backend=None if alone else laspy.LazBackend.Lazrs) as reader:
            yield reader
    except InputError:
        raise
    except Exception as error:  # the libraries below raise errors of many kinds on damaged files
        first = (str(error).strip() or type(error).__name__).splitlines()[0]
        raise InputError(f"“{name}” cannot be read as LAS or LAZ ({first}).", AGAIN) from error


def _crs(header) -> CRS | None:
    try:
        return header.parse_crs()
    except (CRSError, ValueError, KeyError, IndexError):
        return None


def metres_per_unit(wkt: str) -> float:
    """Metres in one horizontal unit of a projected system; 1 where the text says nothing of lengths."""
    try:
        crs = CRS.from_wkt(wkt) if wkt else None
    except CRSError:
        return 1.0
    axis = crs.axis_info[0] if crs is not None and crs.axis_info else None
    return float(axis.unit_conversion_factor) if axis is not None and axis.unit_name not in {"degree", "radian"} else 1.0


def look(path: str) -> Contents:
    """What the header says; the cloud counts as posed, since LAS coordinates are in a frame of their own."""
    found = Contents(path=str(path), format="LAS", size=os.path.getsize(path) if os.path.exists(path) else 0)
    with _opened(path) as reader:
        header = reader.header
        crs = _crs(header)
        found.crs_wkt = crs.to_wkt() if crs is not None else ""
        factor = metres_per_unit(found.crs_wkt)
        if abs(factor - 1) > 1e-9:
            found.unit = next((u for u, f in (("international foot", 0.3048), ("US survey foot", 1200 / 3937)) if abs(factor - f) < 1e-9), "metre")
            found.notes.append(f"Its coordinate system counts in {found.unit}: {factor:.10g} m.")
        columns = ["xyz", *(d for d in header.point_format.dimension_names)]
        found.format = "COPC" if any(v.user_id == "copc" for v in header.vlrs) else "LAZ" if header.are_points_compressed else "LAS"
        _count(found, header, path)
        found.scans.append(ScanInside(
            index=0, name=os.path.splitext(os.path.basename(path))[0], points=_there(header, path), pose=np.eye(4), columns=columns,
            bounds=(header.mins, header.maxs), instrument=str(header.generating_software).strip("\0 "), captured=str(header.creation_date or ""),
        ))
        if header.point_count == 0:
            raise InputError(f"“{os.path.basename(path)}” holds no points.", "Export it again.")
    return found


def _there(header, path: str) -> int:
    """How many points the file holds: what the header says, or of an uncompressed file what its length has room for."""
    said = int(header.point_count)
    if header.are_points_compressed or not said:
        return said
    return min(said, max(os.path.getsize(path) - header.offset_to_point_data, 0) // header.point_format.size)


def _count(found: Contents, header, path: str) -> None:
    said, there = int(header.point_count), _there(header, path)
    if there < said:
        found.repairs.append(Repair("count", 0, said - there, f"Cut off: {there:,} of {said:,} points are there and can be taken."))


def coordinates(path: str, index: int = 0) -> tuple[np.ndarray, np.ndarray]:
    """Scale and offset (3,) of the file's integer coordinates, in its unit."""
    with _opened(path) as reader:
        return np.array(reader.header.scales, float), np.array(reader.header.offsets, float)


def read_points(path: str, index: int = 0, start: int = 0, stop: int | None = None, chunk: int = CHUNK) -> Iterator[dict[str, np.ndarray]]:
    """Points ``start`` to ``stop`` (all of them) in file order; InputError where fewer are there than the header says.

    Columns: ``position`` i32 (n, 3) as stored; ``intensity``, ``class``, ``returns`` (return number in the low, number of returns in the
    high four bits), ``native_rgb`` u16 and ``time`` where there; every other dimension as ``extra.NAME``.
    """
    with _opened(path, alone=stop is None) as reader:
        names = set(reader.header.point_format.dimension_names)
        rest = sorted(names - OURS - {"return_number", "number_of_returns"})
        got, left = 0, _there(reader.header, path) - start if stop is None else stop - start
        if start:
            reader.seek(start)
        while got < left:
            points = reader.read_points(min(chunk, left - got))
            if not len(points):
                raise InputError(f"“{os.path.basename(path)}” is cut off: {start + got:,} of {reader.header.point_count:,} points are there.", AGAIN)
            same: dict[int, bool] = {}
            out = {"position": _three(points, "X", np.int32), "intensity": np.asarray(points.intensity, np.uint16), "class": _field(points, "classification", same).astype(np.uint8),
                   "returns": (_field(points, "return_number", same).astype(np.uint8) | (_field(points, "number_of_returns", same).astype(np.uint8) << 4))}
            if "gps_time" in names:
                out["time"] = np.asarray(points.gps_time, np.float64)
            if "red" in names:
                out["native_rgb"] = _three(points, "red", np.uint16)
            for name in rest:
                out[f"extra.{name}"] = _field(points, name, same)
            got += len(points)
            yield out


def _three(points, first: str, kind) -> np.ndarray:
    """Three fields that follow each other in a point record, as one column (n, 3)."""
    record = points.array
    return np.ndarray((len(record), 3), kind, record, record.dtype.fields[first][1], (record.dtype.itemsize, np.dtype(kind).itemsize)).copy()


def _field(points, name: str, same: dict[int, bool]) -> np.ndarray:
    """One dimension; bits of a byte that is the same in all points (flags are, as a rule) are not picked out point by point.

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


def eight_bit(rgb16: np.ndarray, deep: bool) -> np.ndarray:
    """16-bit colour as 8-bit; files that only fill the low byte (against the standard; not ``deep``) are taken as they are."""
    return rgb16.astype("<u2", copy=False).view(np.uint8).reshape(*rgb16.shape, 2)[..., int(deep)]
