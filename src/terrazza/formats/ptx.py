"""PTX: gridded scans in text, several in one file.

Each scan is a header (columns, rows; scanner position; three axes; a 4×4 matrix whose last row is the shift,
for row vectors) and then columns · rows lines, column by column: x y z intensity, or x y z intensity red
green blue.  A place without an echo has coordinates 0 0 0.
"""

import itertools
import os
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any, BinaryIO

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.errors import InputError
from terrazza.formats import is_text, naming
from terrazza.formats.contents import Contents, Repair, ScanInside
from terrazza.formats.protocol import Format

if TYPE_CHECKING:
    from terrazza.formats.naming import Tones


CHUNK = 100_000
HEADER = 10
BUFFER = 1 << 24
NAMES = {
    4: ("x", "y", "z", "intensity"),
    7: ("x", "y", "z", "intensity", "red", "green", "blue"),
    3: ("x", "y", "z"),
    6: ("x", "y", "z", "red", "green", "blue"),
}


@dataclass(frozen=True)
class Grid:
    """One scan in the file: where its points begin (bytes), its size, its pose (None: not a rigid motion),
    and the lines that are there.
    """

    start: int
    columns: int
    rows: int
    pose: tuple[Any, ...] | None
    lines: int
    cells: int

    @property
    def announced(self) -> int:
        return self.columns * self.rows


def looks_like(start: bytes) -> bool:
    """Whether the first bytes are those of a PTX file: two whole numbers on lines of their own, then lines of
    three and four.
    """
    lines = start.decode("ascii", errors="replace").splitlines()[:HEADER]
    try:
        counts = [len(line.split()) for line in lines]
        return (
            counts[: len(lines)] == [1, 1, 3, 3, 3, 3, 4, 4, 4, 4][: len(lines)]
            and len(lines) >= 8
            and int(lines[0]) >= 0
            and int(lines[1]) >= 0
        )
    except ValueError:
        return False


def _header(file: BinaryIO, shown: str, number: int) -> tuple[int, int, np.ndarray | None] | None:
    lines = [file.readline() for _ in range(HEADER)]
    if not lines[0].strip():
        return None
    try:
        columns, rows = int(lines[0]), int(lines[1])
        matrix = np.array([[float(v) for v in line.split()] for line in lines[6:10]])
        if matrix.shape != (4, 4) or columns < 0 or rows < 0:
            raise ValueError
    except ValueError as error:
        raise InputError(
            f"“{shown}”: the header of scan {number} is damaged.", "Export the file again."
        ) from error
    pose = matrix.T
    rigid_motion = (
        np.isfinite(pose).all()
        and np.allclose(pose[:3, :3] @ pose[:3, :3].T, np.eye(3), rtol=0, atol=1e-4)
        and np.linalg.det(pose[:3, :3]) > 0
    )
    return columns, rows, pose if rigid_motion else None


def _skip(file: BinaryIO, lines: int) -> int:
    """Move past so many lines; returns how many were there."""
    passed = 0
    while passed < lines:
        block = file.read(BUFFER)
        if not block:
            break
        ends = np.flatnonzero(np.frombuffer(block, np.uint8) == 10)
        if passed + len(ends) >= lines:
            file.seek(int(ends[lines - passed - 1]) + 1 - len(block), os.SEEK_CUR)
            return lines
        passed += len(ends)
        if len(block) < BUFFER and block[-1:] != b"\n":
            passed += 1
    return passed


@lru_cache(maxsize=16)
def _grids(path: str, size: int, mtime: int) -> tuple[tuple[Grid, ...], naming.Tones, str]:
    shown, grids, parts, damage = os.path.basename(path), [], [], ""
    with open(path, "rb") as file:
        while True:
            try:
                head = _header(file, shown, len(grids) + 1)
            except InputError as error:
                if not grids:
                    raise
                damage = str(error)
                break
            if head is None:
                break
            columns, rows, pose = head
            start, some = file.tell(), []
            for line in itertools.islice(file, 2000):
                some.append(line)
            some = some[: columns * rows]
            cells = len(some[0].split()) if some else 4
            if cells not in NAMES:
                raise InputError(
                    f"“{shown}”, scan {len(grids) + 1}: its lines hold {cells} numbers.",
                    "PTX has x y z intensity, or x y z intensity red green blue.",
                )
            values = _numbers(some, cells)[0]
            parts.append({n: values[:, k] for k, n in enumerate(NAMES[cells])})
            file.seek(start)
            there = _skip(file, columns * rows)
            grids.append(
                Grid(start, columns, rows, None if pose is None else tuple(map(tuple, pose)), there, cells)
            )
    merged = {n: np.concatenate([p[n] for p in parts if n in p]) for n in {k for p in parts for k in p}}
    return tuple(grids), naming.tones(merged), damage


def _numbers(lines: list[bytes], cells: int) -> tuple[np.ndarray, np.ndarray, int]:
    """(n, cells) values, which of the lines they are, and how many could not be read."""
    try:
        values = np.array(b" ".join(lines).split(), dtype="S32").astype(np.float64).reshape(-1, cells)
        if len(values) == len(lines):
            return values, np.arange(len(lines)), 0
    except ValueError:
        pass
    good, places = [], []
    for k, line in enumerate(lines):
        try:
            row = [float(v) for v in line.split()]
        except ValueError:
            continue
        if len(row) == cells:
            good.append(row)
            places.append(k)
    return np.array(good).reshape(-1, cells), np.array(places, int), len(lines) - len(good)


def _known(path: str) -> "tuple[tuple[Grid, ...], Tones, str]":
    about = os.stat(path)
    return _grids(path, about.st_size, about.st_mtime_ns)


def look(path: str) -> Contents:
    """The scans of the file, from their headers; a last scan that is cut off is offered with what is there.

    The same matrix in every one of several scans, or the identity in a single one, counts as no pose.
    """
    grids, tones, damage = _known(path)
    found = Contents(path=str(path), format="PTX", size=os.path.getsize(path), unit="unknown")
    stem = os.path.splitext(os.path.basename(path))[0]
    same = len({g.pose for g in grids}) == 1 and (
        len(grids) > 1 or grids[0].pose is None or np.allclose(grids[0].pose, np.eye(4), rtol=0, atol=1e-12)
    )
    for k, grid in enumerate(grids):
        pose = None if same or grid.pose is None else rigid.nearest(np.array(grid.pose))
        found.scans.append(
            ScanInside(
                index=k,
                name=stem if len(grids) == 1 else f"{stem} {k + 1}",
                points=grid.lines,
                pose=pose,
                columns=list(NAMES[grid.cells]),
                grid=(grid.rows, grid.columns) if min(grid.rows, grid.columns) > 1 else None,
                intensity_as=tones.back,
            )
        )
        if grid.lines < grid.announced:
            found.repairs.append(
                Repair(
                    "count",
                    k,
                    grid.announced - grid.lines,
                    f"Cut off: {grid.lines:,} of {grid.announced:,} grid places are there and can be taken.",
                )
            )
        if grid.pose is None:
            found.repairs.append(Repair("pose", k, 1, "Its matrix is no rigid motion and is put aside."))
    if damage:
        found.repairs.append(Repair("scan", None, 1, damage))
    if same and len(grids) > 1:
        found.notes.append("Every scan carries the same matrix: none of them counts as posed.")
    return found


def read_points(path: str, index: int = 0, raw: bool = False, chunk: int = CHUNK) -> Iterator[dict[str, Any]]:
    """Points of one scan in its own frame, as ``naming.chunk`` gives them, with row and column (from 0; rows
    count along a column as the file does).
    """
    grids, tones, _ = _known(path)
    grid, done = grids[index], 0
    with open(path, "rb") as file:
        file.seek(grid.start)
        while done < grid.lines:
            lines = list(itertools.islice(file, min(chunk, grid.lines - done)))
            values, places, unread = _numbers(lines, grid.cells)
            named = {n: values[:, k] for k, n in enumerate(NAMES[grid.cells])}
            named["row"], named["column"] = (
                (done + places) % max(grid.rows, 1),
                (done + places) // max(grid.rows, 1),
            )
            out = naming.chunk(named, tones, missing=True)
            if unread:
                out["repairs"]["unreadable"] = unread
            yield out
            done += len(lines)


FORMAT = Format(
    names=("PTX",),
    look=look,
    claims=lambda start, name: is_text(start) and looks_like(start),
    turn=8,
    read_points=read_points,
    stationed=lambda inside: True,
)
