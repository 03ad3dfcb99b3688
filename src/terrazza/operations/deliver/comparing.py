"""Every value of a delivered file is compared with what it was to hold: point by point in the order in which
it was written, or where a format has an order of its own by sums over all points.
"""

import os
from collections.abc import Iterable, Iterator

import numpy as np

from terrazza.errors import StateError
from terrazza.operations.deliver.verifying import AGAIN, read

LINES = 100_000  # of text that are read at once
NAMES = {"intensity": "intensity", "class": "class", "rgb": "native_rgb"}  # ours, and as readers say
SPARE = 1e-9  # m: of sums of doubles
MIX = np.array([0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9], np.uint64)

Chunks = Iterable[dict[str, np.ndarray]]


def compare(path: str, form: str, wanted: Chunks, step: float, columns=(), eight: bool = False) -> int:
    """Compare a file with its points, in the order of the file; how many there were.  StateError where one
    differs by more than half a ``step`` (m) or in another value; the file is taken away then.  ``columns``
    are those that text holds after the coordinates; ``eight`` says that LAS holds colours of 8 bits.
    """
    name, done = os.path.basename(path), 0
    there = READ[form](path, columns) if form in READ else _read(path)
    try:
        for mine, theirs in _aligned(wanted, there):
            if mine is None or theirs is None:
                raise StateError(f"“{name}” holds another number of points than it should.", AGAIN)
            wrong = _wrong(mine, theirs, step, eight)
            if wrong.any():
                first = done + int(np.flatnonzero(wrong)[0]) + 1
                raise StateError(
                    f"Of “{name}” {int(wrong.sum()):,} points from number {first:,} on are not as they were "
                    "written.",
                    AGAIN,
                )
            done += len(wrong)
    except Exception:
        os.unlink(path)
        raise
    return done


def _wrong(mine: dict, theirs: dict, step: float, eight: bool) -> np.ndarray:
    """Mask of points that differ."""
    large = float(np.abs(mine["xyz"]).max(initial=1.0))
    wrong = np.abs(mine["xyz"] - theirs["xyz"]).max(axis=1) > step * 0.505 + SPARE + 4e-15 * large
    for ours, other in NAMES.items():
        if ours in mine and other in theirs:
            value, other_value = mine[ours].astype(np.int64), theirs[other].astype(np.int64)
            if ours == "rgb" and mine[ours].dtype == np.uint8 and theirs[other].dtype == np.uint16:
                value *= 1 if eight else 257
            elif ours == "rgb" and mine[ours].dtype == np.uint16 and theirs[other].dtype == np.uint8:
                value = np.rint(value / 257).astype(np.int64)  # readers that keep 8 bits
            wrong |= (value != other_value).any(1) if value.ndim > 1 else value != other_value
    return wrong


def digest(position: np.ndarray, *columns: np.ndarray) -> int:
    """A sum over points that no order changes: (n, 3) whole numbers and columns (n,) or (n, k) of others."""
    mixed = np.zeros(len(position), np.uint64)
    for values in (position, *columns):
        for part in np.atleast_2d(np.asarray(values).T):
            mixed = (mixed ^ part.astype(np.int64).astype(np.uint64)) * MIX[0]
            mixed ^= mixed >> np.uint64(29)
    return int((mixed * MIX[1]).sum(dtype=np.uint64))


def need_same(path: str, mine: int, theirs: int) -> None:
    """StateError, and the file taken away, where two sums differ."""
    if mine != theirs:
        os.unlink(path)
        raise StateError(f"“{os.path.basename(path)}” does not hold what was written.", AGAIN)


def _aligned(a: Chunks, b: Chunks) -> Iterator[tuple]:
    """Pairs of chunks of the same length; None beside what one side has too many."""
    left, right = (c for c in a if len(c["xyz"])), (c for c in b if len(c["xyz"]))
    mine, theirs = next(left, None), next(right, None)
    while mine is not None and theirs is not None:
        n = min(len(mine["xyz"]), len(theirs["xyz"]))
        yield {k: v[:n] for k, v in mine.items()}, {k: v[:n] for k, v in theirs.items()}
        mine = _rest(mine, n) or next(left, None)
        theirs = _rest(theirs, n) or next(right, None)
    if mine is not None or theirs is not None:
        yield mine, theirs


def _rest(chunk: dict, n: int) -> dict:
    return {k: v[n:] for k, v in chunk.items()} if n < len(chunk["xyz"]) else {}


def _read(path: str) -> Iterator[dict]:
    """Points by the reader that import uses, in metres."""
    for _, xyz, chunk in read(path):
        yield {"xyz": xyz} | {k: v for k, v in chunk.items() if k in NAMES.values()}


def _texts(path: str) -> Iterator[np.ndarray]:
    """Numbers (n, m) of lines with equally many, as they follow each other."""
    rows: list[list[float]] = []
    with open(path, encoding="ascii") as lines:
        for line in lines:
            if line.startswith("#"):
                continue
            cells = line.replace(",", " ").replace(";", " ").split()
            if rows and (len(cells) != len(rows[0]) or len(rows) == LINES):
                yield np.array(rows)
                rows = []
            rows.append([float(c) for c in cells])
    if rows:
        yield np.array(rows)


def _read_text(path: str, columns: tuple[str, ...]) -> Iterator[dict]:
    """Lines of text: coordinates, then the columns."""
    for values in _texts(path):
        if values.shape[1] > 1:  # else the number of points
            yield _columns(values, columns)


def _columns(values: np.ndarray, columns: tuple[str, ...]) -> dict:
    out, at = {"xyz": values[:, :3]}, 3
    for name in columns:
        wide = 3 if name == "rgb" else 1
        out[NAMES[name]] = np.rint(values[:, at : at + wide] if wide > 1 else values[:, at]).astype(np.int64)
        at += wide
    return out


def _read_grid(path: str, columns: tuple[str, ...]) -> Iterator[dict]:
    """Lines of PTX that hold a point; before a scan stand two lines of one number and eight of three and
    four.
    """
    heading = 0
    for values in _texts(path):
        if values.shape[1] == 1:
            heading = 8
            continue
        values, heading = values[heading:], heading - min(heading, len(values))
        values = values[(values[:, :3] != 0).any(1)]
        if len(values):
            values[:, 3] *= 65535
            yield _columns(values, columns)


READ = {"XYZ": _read_text, "PTS": _read_text, "PTX": _read_grid}
