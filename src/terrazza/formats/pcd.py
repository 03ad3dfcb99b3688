"""PCD, point cloud data 0.7: ascii, binary and compressed (LZF, field by field); organised clouds keep row
and column.
"""

import os
from collections.abc import Iterator
from typing import Any

import numpy as np
from numba import njit

from terrazza.core.geometry import rigid
from terrazza.errors import InputError
from terrazza.formats import naming, records
from terrazza.formats.contents import Contents, Repair, ScanInside
from terrazza.formats.protocol import Format
from terrazza.formats.records import Records

LINES = 200


def _header(path: str) -> tuple[dict[str, list[str]], int]:
    values: dict[str, list[str]] = {}
    with open(path, "rb") as file:
        for _ in range(LINES):
            words = file.readline(4096).decode("ascii", errors="replace").split()
            if words and not words[0].startswith("#"):
                values[words[0].upper()] = words[1:]
                if words[0].upper() == "DATA":
                    return values, file.tell()
    raise InputError(f"“{os.path.basename(path)}” ends within its header.", "Copy it again.")


def _records(path: str) -> tuple[Records, str, dict[str, Any]]:
    shown = os.path.basename(path)
    head, start = _header(path)
    try:
        names, sizes, kinds = head["FIELDS"], [int(v) for v in head["SIZE"]], head["TYPE"]
        counts = [int(v) for v in head.get("COUNT", ["1"] * len(names))]
        if not len(names) == len(sizes) == len(kinds) == len(counts):
            raise ValueError
        plain = [f"_{k}" if n == "_" else n for k, n in enumerate(names)]
        fields = [
            (n, f"<{ {'F': 'f', 'I': 'i', 'U': 'u'}[t] }{s}", (c,))
            if c != 1
            else (n, f"<{ {'F': 'f', 'I': 'i', 'U': 'u'}[t] }{s}")
            for n, s, t, c in zip(plain, sizes, kinds, counts)
        ]
        width, height = int(head["WIDTH"][0]), int(head["HEIGHT"][0])
        points = int(head.get("POINTS", [width * height])[0])
        data = head["DATA"][0].lower()
        kind = np.dtype(fields)
    except (KeyError, ValueError, IndexError, TypeError) as error:
        raise InputError(f"“{shown}” has a damaged header.", "Export it again.") from error
    if not {"x", "y", "z"} <= {naming.meaning(n) for n in plain}:
        raise InputError(f"“{shown}” has no x, y and z.", "Export it again.")
    if data not in {"ascii", "binary", "binary_compressed"}:
        raise InputError(
            f"“{shown}” holds data of the unknown form “{data}”.",
            "Known are ascii, binary and binary_compressed.",
        )
    return Records(path, kind, start, points, data == "ascii", width if height > 1 else 0), data, head


def look(path: str) -> Contents:
    """One scan, with its grid where the cloud is organised.  A viewpoint away from the origin is told and not
    applied, since the format leaves open in which frame it is.
    """
    cloud, data, head = _records(str(path))
    found = Contents(path=str(path), format="PCD", size=os.path.getsize(path), unit="unknown")
    there = cloud.announced if data == "binary_compressed" else cloud.there
    found.scans.append(
        ScanInside(
            index=0,
            name=os.path.splitext(os.path.basename(path))[0],
            points=there,
            pose=None if cloud.grid else np.eye(4),
            grid=cloud.grid,
            columns=[naming.meaning(n) for n in cloud.kind.names],
            intensity_as=None if data == "binary_compressed" else records.tones(cloud).back,
        )
    )
    if there < cloud.announced:
        found.repairs.append(
            Repair(
                "count",
                0,
                cloud.announced - there,
                f"Cut off: {there:,} of {cloud.announced:,} points are there and can be taken.",
            )
        )
    try:
        view = [float(v) for v in head.get("VIEWPOINT", "0 0 0 1 0 0 0".split())]
        moved = not np.allclose(
            rigid.make(rigid.from_quaternion(np.array(view[3:7])), view[:3]), np.eye(4), rtol=0, atol=1e-9
        )
    except ValueError:
        moved = False
    if moved:
        found.notes.append(
            f"It was seen from {view[0]:g}, {view[1]:g}, {view[2]:g}; the points are taken as they are."
        )
    return found


def read_points(path: str, index: int = 0, raw: bool = False) -> Iterator[dict[str, Any]]:
    """The points in file order, as ``naming.chunk`` gives them; fields that are none of ours as
    ``extra.NAME``.
    """
    cloud, data, _ = _records(str(path))
    if data != "binary_compressed":
        return records.read(cloud)
    values = _unpacked(cloud)
    return records.read(
        cloud,
        ((values[k : k + records.CHUNK], 0) for k in range(0, len(values), records.CHUNK)),
        records.tones_of(values),
    )


def _unpacked(cloud: Records) -> np.ndarray:
    """The compressed body, which holds one field after the other, as records."""
    shown = os.path.basename(cloud.path)
    again = InputError(
        f"“{shown}” is cut off or damaged: its compressed points cannot be unpacked.", "Copy it again."
    )
    with open(cloud.path, "rb") as file:
        file.seek(cloud.start)
        sizes = np.fromfile(file, "<u4", 2)
        if len(sizes) < 2 or int(sizes[1]) != cloud.announced * cloud.kind.itemsize:
            raise again
        packed = np.fromfile(file, np.uint8, int(sizes[0]))
    flat = np.empty(int(sizes[1]), np.uint8)
    if len(packed) < sizes[0] or lzf(packed, flat) != len(flat):
        raise again
    values, at = np.empty(cloud.announced, cloud.kind), 0
    for name in cloud.kind.names:
        size = cloud.kind[name].itemsize * cloud.announced
        values[name] = flat[at : at + size].view(cloud.kind[name].base).reshape(values[name].shape)
        at += size
    return values


@njit(cache=True)
def lzf(packed: np.ndarray, out: np.ndarray) -> int:
    """Unpack LZF data (u8) into ``out``; returns the bytes written, or -1 where the data do not fit.

    A control byte below 32 is followed by that many literal bytes and one more; else its top three bits (7:
    and a further byte) give a length less 2, and its low five with the next byte how far back to copy from,
    less 1. Both (n,) u8.
    """
    i = o = 0
    while i < len(packed):
        control = packed[i]
        i += 1
        if control < 32:
            n = control + 1
            if i + n > len(packed) or o + n > len(out):
                return -1
            for k in range(n):
                out[o + k] = packed[i + k]
            i += n
            o += n
        else:
            n = np.int64(control >> 5)
            if n == 7:
                if i >= len(packed):
                    return -1
                n += packed[i]
                i += 1
            if i >= len(packed):
                return -1
            back = o - ((np.int64(control & 31) << 8) | packed[i]) - 1
            i += 1
            n += 2
            if back < 0 or o + n > len(out):
                return -1
            for k in range(n):
                out[o + k] = out[back + k]
            o += n
    return o


FORMAT = Format(
    names=("PCD",),
    look=look,
    signatures=(b"# .PCD", b"VERSION .7", b"VERSION 0.7"),
    read_points=read_points,
    stationed=lambda inside: inside.grid is not None,
)
