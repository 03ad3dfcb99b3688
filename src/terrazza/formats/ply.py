"""PLY, the polygon file format (Turk 1994): the vertices of ascii and both binary forms as points, its faces
as a surface.
"""

import itertools
import os
from collections.abc import Iterator
from typing import Any

import numpy as np

from terrazza.errors import InputError
from terrazza.formats import meshes, naming, records
from terrazza.formats.contents import Contents, Repair, ScanInside
from terrazza.formats.protocol import Format, Shapes
from terrazza.formats.records import Records

TYPES = {
    "char": "i1",
    "int8": "i1",
    "uchar": "u1",
    "uint8": "u1",
    "short": "i2",
    "int16": "i2",
    "ushort": "u2",
    "uint16": "u2",
    "int": "i4",
    "int32": "i4",
    "uint": "u4",
    "uint32": "u4",
    "float": "f4",
    "float32": "f4",
    "double": "f8",
    "float64": "f8",
}
ORDERS = {"ascii": "<", "binary_little_endian": "<", "binary_big_endian": ">"}
LONGEST = 100_000
WAYS = {"trajectory", "path", "poses"}


def _header(path: str) -> tuple[str, list[tuple[str, int, list[tuple[str, str]]]], int]:
    """Form, elements (name, count, properties as (name, type)) and where the data begin."""
    shown, form, elements = os.path.basename(path), "", []
    with open(path, "rb") as file:
        for _ in range(1000):
            line = file.readline(LONGEST)
            words = line.decode("ascii", errors="replace").split()
            if not line:
                raise InputError(f"“{shown}” ends within its header.", "Copy it again.")
            if words[:1] == ["format"]:
                form = words[1] if len(words) > 1 else ""
            elif words[:1] == ["element"] and len(words) == 3 and words[2].isdigit():
                elements.append((words[1], int(words[2]), []))
            elif words[:1] == ["property"] and elements:
                elements[-1][2].append((words[-1], words[1]))
            elif words == ["end_header"]:
                break
        if form not in ORDERS:
            raise InputError(
                f"“{shown}” is a PLY of the unknown form “{form}”.", f"Known are {', '.join(ORDERS)}."
            )
        return form, elements, file.tell()


def trajectory(path: str) -> dict[str, np.ndarray] | None:
    """The columns of an element named trajectory, path or poses that follows the vertices, under our names;
    None where the file has none. Columns (n,).
    """
    form, elements, start = _header(path)
    with open(path, "rb") as file:
        file.seek(start)
        for name, count, properties in elements:
            if any(kind not in TYPES for _, kind in properties):
                return None
            kind = np.dtype([(naming.meaning(n), ORDERS[form] + TYPES[t]) for n, t in properties])
            if name not in WAYS:
                list(itertools.islice(file, count)) if form == "ascii" else file.seek(
                    count * kind.itemsize, os.SEEK_CUR
                )
                continue
            values = (
                np.loadtxt(itertools.islice(file, count), ndmin=2).astype(float)
                if form == "ascii"
                else np.fromfile(file, kind, count)
            )
            return {
                n: values[:, k] if form == "ascii" else values[n].astype(float)
                for k, n in enumerate(kind.names)
            }
    return None


def _records(path: str) -> Records:
    shown = os.path.basename(path)
    form, elements, start = _header(path)
    skipped = 0
    for name, count, properties in elements:
        if any(kind != "list" and kind not in TYPES for _, kind in properties):
            raise InputError(f"“{shown}” has properties of unknown type in “{name}”.", "Export it again.")
        if any(kind == "list" for _, kind in properties):
            raise InputError(
                f"“{shown}” has lists {'among its vertices' if name == 'vertex' else 'before its vertices'}, "
                "which cannot be read.",
                "Export the points alone.",
            )
        kind = np.dtype([(n, ORDERS[form] + TYPES[t]) for n, t in properties])
        if name == "vertex":
            if not {"x", "y", "z"} <= {naming.meaning(n) for n, _ in properties}:
                raise InputError(f"“{shown}”: its vertices have no x, y and z.", "Export it again.")
            if form == "ascii" and skipped:
                raise InputError(
                    f"“{shown}” lists other things before its vertices.", "Export the points alone."
                )
            return Records(path, kind, start + skipped, count, form == "ascii")
        skipped += count * kind.itemsize
    raise InputError(f"“{shown}” has no vertices.", "Export the points.")


def look(path: str) -> Contents:
    """One scan: the vertices, as many as are there."""
    cloud = _records(str(path))
    found = Contents(path=str(path), format="PLY", size=os.path.getsize(path), unit="unknown")
    found.scans.append(
        ScanInside(
            index=0,
            name=os.path.splitext(os.path.basename(path))[0],
            points=cloud.there,
            pose=np.eye(4),
            columns=[naming.meaning(n) for n in cloud.kind.names],
            intensity_as=records.tones(cloud).back,
        )
    )
    faces = next((count for name, count, _ in _header(str(path))[1] if name == "face"), 0)
    if faces:
        found.shapes = {"surfaces": 1, "triangles": faces}
    if cloud.there < cloud.announced:
        found.repairs.append(
            Repair(
                "count",
                0,
                cloud.announced - cloud.there,
                f"Cut off: {cloud.there:,} of {cloud.announced:,} points are there and can be taken.",
            )
        )
    return found


def read_points(path: str, index: int = 0, raw: bool = False) -> Iterator[dict[str, Any]]:
    """The vertices in file order, as ``naming.chunk`` gives them; properties that are none of ours as
    ``extra.NAME``.
    """
    return records.read(_records(str(path)))


def read_shapes(path: str) -> Shapes:
    """The faces as one surface."""
    return Shapes(meshes=meshes.read(path, "ply"))


FORMAT = Format(
    names=("PLY",),
    look=look,
    signatures=(b"ply\n", b"ply\r"),
    read_points=read_points,
    read_shapes=read_shapes,
)
