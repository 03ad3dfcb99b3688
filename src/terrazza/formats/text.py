"""Points in text: XYZ, CSV and ASC with any order of columns, and PTS (a count, then X Y Z intensity R G B).

What the columns mean is found from a header or from the numbers themselves, and can be said by the surveyor
(``Layout.columns``).
"""

import csv
import io
import itertools
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np

from terrazza.errors import InputError
from terrazza.formats import is_text, naming
from terrazza.formats.contents import Contents, Repair, ScanInside
from terrazza.formats.protocol import Format

if TYPE_CHECKING:
    from terrazza.formats.naming import Tones


CHUNK = 100_000
HEAD = 65536
COMMENTS = ("#", "//", "%", "!")
PREVIEW = 6
NUMBER = re.compile(r"^[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?$|^[+-]?(nan|inf)$", re.I)


@dataclass(frozen=True)
class Layout:
    """How a text file is to be read: ``columns`` names each column (x, y, z, intensity, red, green, blue,
    class, time, a name of its own, or “-” to pass it by), ``mark`` parts them (None: blanks), ``decimal`` is
    the decimal mark, ``skip`` the lines before the first point, ``count`` the number of points the file
    announces (0: none).
    """

    columns: tuple[str, ...]
    mark: str | None = None
    decimal: str = "."
    skip: int = 0
    count: int = 0
    headed: bool = False

    @property
    def cells(self) -> int:
        return len(self.columns)


def _numeric(cell: str, decimal: str) -> bool:
    return bool(NUMBER.match(cell.strip().replace(decimal, ".")))


def _cells(line: str, mark: str | None) -> list[str]:
    return (
        line.split()
        if mark is None
        else [c.strip() for c in next(csv.reader(io.StringIO(line), delimiter=mark), [])]
    )


def _head(path: str) -> list[str]:
    with open(path, "rb") as f:
        start = f.read(HEAD)
    lines = start.decode("utf-8-sig", errors="replace").splitlines()
    return lines[:-1] if len(start) == HEAD else lines


def sniff(path: str, columns: tuple[str, ...] = ()) -> Layout:
    """The layout of a text file; InputError where its lines hold no three numbers.  ``columns`` overrides
    what they are taken for.
    """
    shown, lines = os.path.basename(path), _head(path)
    there = [
        (n, line) for n, line in enumerate(lines) if line.strip() and not line.lstrip().startswith(COMMENTS)
    ]
    if not there:
        raise InputError(f"“{shown}” holds no points.", "It needs a line a point with X, Y and Z.")
    sample = [line for _, line in there[-200:]]
    mark, decimal = _marks(sample)
    rows = [(n, _cells(line, mark)) for n, line in there]
    first = next(
        (
            k
            for k, (_, cells) in enumerate(rows)
            if len(cells) >= 3 and sum(_numeric(c, decimal) for c in cells[:3]) == 3
        ),
        None,
    )
    if first is None:
        raise InputError(
            f"“{shown}”, line {there[-1][0] + 1}: “{there[-1][1][:60]}” does not begin with three numbers.",
            "It needs a line a point with X, Y and Z.",
        )
    before = [cells for _, cells in rows[:first]]
    count = next((int(c[0]) for c in before if len(c) == 1 and c[0].isdigit()), 0)
    width = len(rows[first][1])
    heading = next(
        (c for c in reversed(before) if len(c) == width and not any(_numeric(x, decimal) for x in c)), None
    ) or _commented_heading(lines[: rows[first][0]], mark, width)
    names = (
        tuple(_named(heading))
        if heading
        else _guessed(
            np.array(
                [
                    [float(c.replace(decimal, ".")) if _numeric(c, decimal) else np.nan for c in cells]
                    for _, cells in rows[first : first + 500]
                    if len(cells) == width
                ]
            )
        )
    )
    if columns:
        if len(columns) != width:
            raise InputError(
                f"“{shown}” has {width} columns; {len(columns)} were named.",
                f"Name each of them, “-” for one to pass by: {' '.join(names)}.",
            )
        names = tuple("-" if c == "-" else naming.meaning(c) for c in columns)
    return Layout(names, mark, decimal, rows[first][0], count, heading is not None)


def _marks(sample: list[str]) -> tuple[str | None, str]:
    """What parts the columns (None: blanks), and the decimal mark."""
    mark = next((m for m in (";", "\t") if sum(m in line for line in sample) > len(sample) / 2), None)
    decimal = (
        ","
        if "." not in "".join(sample)
        and any("," in line for line in sample)
        and (mark or _commas_are_decimal(sample))
        else "."
    )
    if mark is None and decimal == "." and sum("," in line for line in sample) > len(sample) / 2:
        mark = ","
    return mark, decimal


def _commas_are_decimal(lines: list[str]) -> bool:
    """Whether blanks part the columns and commas are decimal marks, as in “1,25 3,50 0,75”."""
    return all(len(line.split()) >= 3 and all(_numeric(c, ",") for c in line.split()[:3]) for line in lines)


def _commented_heading(lines: list[str], mark: str | None, width: int) -> list[str] | None:
    for line in reversed(lines):
        bare = line.lstrip().lstrip("#/%! ")
        cells = _cells(bare, mark)
        if (
            line.lstrip().startswith(COMMENTS)
            and len(cells) == width
            and {"x", "y", "z"} <= {naming.meaning(c) for c in cells}
        ):
            return cells
    return None


def _named(heading: list[str]) -> list[str]:
    names = [naming.meaning(h) or f"column_{k + 1}" for k, h in enumerate(heading)]
    return [n if n not in names[:k] else f"{n}_{k + 1}" for k, n in enumerate(names)]


def _guessed(values: np.ndarray) -> tuple[str, ...]:
    """Names for columns without a heading, from their number and their values."""
    width = values.shape[1]
    rest = values[:, 3:]
    colour = [k for k in range(max(width - 5, 0)) if _looks_like_colour(rest[:, k : k + 3])]
    at = colour[-1] if colour else None
    names = ["x", "y", "z"]
    for k in range(width - 3):
        if at is not None and at <= k < at + 3:
            names.append(("red", "green", "blue")[k - at])
        elif "intensity" not in names and (k == 0 or at == 0):
            names.append("intensity")
        else:
            names.append(f"column_{k + 4}")
    return tuple(names)


def _looks_like_colour(block: np.ndarray) -> bool:
    return (
        block.shape[1] == 3
        and bool(np.isfinite(block).all())
        and bool((block % 1 == 0).all())
        and block.min() >= 0
        and block.max() <= 65535
    )


def preview(path: str, layout: Layout) -> list[list[str]]:
    """The first lines as they will be understood: a row of cells each."""
    lines = [line for line in _head(path)[layout.skip :] if line.strip()]
    return [[c.replace(layout.decimal, ".") for c in _cells(line, layout.mark)] for line in lines[:PREVIEW]]


@lru_cache(maxsize=64)
def _known(path: str, size: int, mtime: int, columns: tuple[str, ...]) -> tuple[Layout, naming.Tones, float]:
    """Layout, tones from samples all over the file, and mean bytes a line."""
    layout = sniff(path, columns)
    if not {"x", "y", "z"} <= set(layout.columns):
        raise InputError(
            f"“{os.path.basename(path)}”: the columns {', '.join(layout.columns)} do not hold x, y and z.",
            "Say which columns they are.",
        )
    step, parts, length, lines = max((size - HEAD) // 8, 1), [], 0, 0
    with open(path, "rb") as f:
        for k in range(8 if size > HEAD else 1):
            f.seek(k * step)
            text = f.read(HEAD)
            some = text.decode("utf-8", errors="replace").splitlines()[
                layout.skip if k == 0 else 1 : -1 if size > HEAD else None
            ]
            values = numbers(some, layout)[0]
            length, lines = length + sum(len(s) + 1 for s in some), lines + len(some)
            parts.append(values)
    values = np.concatenate(parts)
    return layout, naming.tones(_by_name(values, layout)), length / max(lines, 1)


def _look_up(path: str, columns: tuple[str, ...] = ()) -> "tuple[Layout, Tones, float] | None":
    about = os.stat(path)
    return _known(path, about.st_size, about.st_mtime_ns, tuple(columns))


def _by_name(values: np.ndarray, layout: Layout) -> dict[str, np.ndarray]:
    return {n: values[:, k] for k, n in enumerate(layout.columns) if n != "-"}


def numbers(lines: list[str], layout: Layout) -> tuple[np.ndarray, int]:
    """(n, cells) numbers of the lines, and how many lines could not be read."""
    if layout.decimal != ".":
        lines = [line.replace(layout.decimal, ".") for line in lines]
    lines = [line for line in lines if line.strip()]
    if not lines:
        return np.zeros((0, layout.cells)), 0
    try:
        values = np.loadtxt(lines, delimiter=layout.mark, ndmin=2, comments=None)
        if values.shape[1] == layout.cells:
            return values, 0
    except ValueError:
        pass
    good = []
    for line in lines:
        cells = _cells(line, layout.mark)
        try:
            row = [float(c) for c in cells]
        except ValueError:
            continue
        if len(row) == layout.cells:
            good.append(row)
    comments = sum(line.lstrip().startswith(COMMENTS) for line in lines)
    return np.array(good).reshape(-1, layout.cells), len(lines) - len(good) - comments


def look(path: str, columns: tuple[str, ...] = ()) -> Contents:
    """One scan; its points are counted from the mean length of a line where the file announces no number."""
    size = os.path.getsize(path)
    layout, tones, length = _look_up(path, columns)
    found = Contents(path=str(path), format="PTS" if layout.count else "text", size=size, unit="unknown")
    about = max(int(round(size / max(length, 1))), 1)
    points = about
    if layout.count:
        points = layout.count
        if size < HEAD or abs(points - about) > 0.25 * about:
            there = (
                sum(1 for line in open(path, "rb") if line.strip()) - layout.skip
                if size < 50_000_000
                else about
            )
            if there != points:
                found.repairs.append(
                    Repair(
                        "count",
                        0,
                        abs(points - there),
                        f"The file announces {points:,} points; {there:,} lines are there and are taken.",
                    )
                )
                points = there
    elif size < HEAD:
        points = len([line for line in _head(path)[layout.skip :] if line.strip()])
    found.scans.append(
        ScanInside(
            index=0,
            name=os.path.splitext(os.path.basename(path))[0],
            points=points,
            columns=list(layout.columns),
            pose=np.eye(4),
            intensity_as=tones.back,
        )
    )
    return found


def read_points(
    path: str, index: int = 0, raw: bool = False, columns: tuple[str, ...] = (), chunk: int = CHUNK
) -> Iterator[dict[str, Any]]:
    """Points in file order, as ``naming.chunk`` gives them; lines that do not hold the right number of
    numbers are left out and counted.
    """
    layout, tones, _ = _look_up(path, columns)
    with open(path, encoding="utf-8-sig", errors="replace") as lines:
        for _ in itertools.islice(lines, layout.skip):
            pass
        while some := list(itertools.islice(lines, chunk)):
            values, unread = numbers(some, layout)
            out = naming.chunk(_by_name(values, layout), tones)
            if unread:
                out["repairs"]["unreadable"] = unread
            yield out


FORMAT = Format(
    names=("PTS", "text"),
    look=look,
    claims=lambda start, name: is_text(start),
    turn=9,
    read_points=read_points,
    mapped=True,
)
