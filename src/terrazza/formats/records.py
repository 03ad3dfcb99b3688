"""Points in fixed-size binary records or in lines of text: what PLY and PCD have in common once their headers
are read.
"""

import itertools
import os
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from terrazza.formats import naming

CHUNK = 200_000


@dataclass(frozen=True)
class Records:
    """Where the points of a file lie: ``kind`` names their fields and types, ``start`` (bytes) the first,
    ``announced`` how many the header promises, ``text`` whether they are lines.
    """

    path: str
    kind: np.dtype
    start: int
    announced: int
    text: bool = False
    columns: int = 0

    @property
    def there(self) -> int:
        """How many records the file really holds (for text: as announced, since only reading would tell)."""
        return (
            self.announced
            if self.text
            else min(self.announced, max(os.path.getsize(self.path) - self.start, 0) // self.kind.itemsize)
        )

    @property
    def grid(self) -> tuple[int, int] | None:
        """Rows and columns of an organised cloud."""
        return (
            (self.announced // self.columns, self.columns)
            if self.columns > 1 and self.announced > self.columns
            else None
        )


def _named(values: np.ndarray) -> dict[str, np.ndarray]:
    """The fields under our names; packed colour is taken apart."""
    out = {}
    for field in values.dtype.names:
        if field in ("rgb", "rgba"):
            packed = np.ascontiguousarray(values[field])
            packed = packed.view(np.uint32) if packed.dtype.itemsize == 4 else packed.astype(np.uint32)
            out |= {"red": packed >> 16 & 255, "green": packed >> 8 & 255, "blue": packed & 255}
        elif values[field].ndim == 1 and not field.startswith("_"):
            out[naming.meaning(field)] = values[field]
    return out


def _lines(lines: list[bytes], kind: np.dtype) -> tuple[np.ndarray, int]:
    """Structured values of text lines, and how many could not be read."""
    width = sum(int(np.prod(kind[n].shape, dtype=int)) for n in kind.names)
    good = [line.split() for line in lines]
    wanted = [cells for cells in good if len(cells) == width]
    try:
        flat = np.array(wanted, dtype="S40").astype(np.float64)
    except ValueError:
        flat = np.array([row for cells in wanted if (row := _floats(cells))]).reshape(-1, width)
    values, at = np.zeros(len(flat), kind), 0
    for name in kind.names:
        n = int(np.prod(kind[name].shape, dtype=int))
        if name in ("rgb", "rgba") and kind[name].kind == "f":
            values[name] = flat[:, at].astype(kind[name])
        else:
            values[name] = flat[:, at] if n == 1 else flat[:, at : at + n]
        at += n
    return values, len(lines) - len(flat)


def _floats(cells: list[bytes]):
    try:
        return [float(c) for c in cells]
    except ValueError:
        return None


def chunks(records: Records, size: int = CHUNK) -> Iterator[tuple[np.ndarray, int]]:
    """Structured arrays in file order, each with how many of its lines could not be read. Arrays (n,)."""
    if records.text:
        with open(records.path, "rb") as file:
            file.seek(records.start)
            left = records.announced
            while left > 0 and (lines := list(itertools.islice(file, min(size, left)))):
                left -= len(lines)
                yield _lines(lines, records.kind)
        return
    with open(records.path, "rb") as file:
        file.seek(records.start)
        left = records.there
        while left > 0 and len(values := np.fromfile(file, records.kind, min(size, left))):
            left -= len(values)
            yield values, 0


def tones(records: Records) -> naming.Tones:
    """Tones from samples all over the file."""
    if records.text:
        return tones_of(next(chunks(records, naming.SAMPLE), (np.zeros(0, records.kind), 0))[0])
    return tones_of(
        np.memmap(records.path, records.kind, "r", records.start, (records.there,))
        if records.there
        else np.zeros(0, records.kind)
    )


def tones_of(values: np.ndarray) -> naming.Tones:
    """Tones from an even sample of structured values. Values (n,)."""
    return naming.tones(_named(np.array(values[:: max(len(values) // naming.SAMPLE, 1)])))


def read(
    records: Records, arrays: Iterator[tuple[np.ndarray, int]] | None = None, how: naming.Tones | None = None
) -> Iterator[dict[str, Any]]:
    """The points as ``naming.chunk`` gives them; organised clouds with row and column. Columns (n,) or (n,
    3).
    """
    how, done = how or tones(records), 0
    for values, unread in arrays if arrays is not None else chunks(records):
        named = _named(values)
        if records.grid and not unread:
            place = done + np.arange(len(values))
            named["row"], named["column"] = place // records.columns, place % records.columns
        done += len(values) + unread
        out = naming.chunk(named, how, missing=records.grid is not None)
        if unread:
            out["repairs"]["unreadable"] = unread
        yield out
