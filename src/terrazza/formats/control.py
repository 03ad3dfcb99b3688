"""Control files: names and coordinates in text, any column order, with a header or without."""

import csv
import io
import os
from dataclasses import dataclass

import numpy as np

from terrazza.errors import InputError

HEADINGS = {
    "name": {"name", "point", "id", "pt", "number", "no", "mark", "point_id", "station"},
    "easting": {"easting", "east", "e", "x", "rechtswert", "est"},
    "northing": {"northing", "north", "n", "y", "hochwert", "nord"},
    "height": {"height", "h", "z", "elevation", "elev", "level", "quota"},
    "target_height": {"target_height", "th", "hi", "height_of_target", "target"},
    "role": {"role", "use", "type", "kind"},
}
CHECK_WORDS = {"check", "chk", "checkpoint", "check point"}


@dataclass
class ControlFile:
    """``names``; ``columns`` (n, 3) as the file orders them; ``order``: which column is easting, northing,
    height (None where the file does not say); ``target_heights`` (n,); ``check`` (n,) bool.
    """

    names: list[str]
    columns: np.ndarray
    order: tuple[int, int, int] | None
    target_heights: np.ndarray
    check: np.ndarray


def read(path: str) -> ControlFile:
    """Read a control file; InputError names the line and what is wrong with it."""
    shown = os.path.basename(path)
    try:
        text = open(path, encoding="utf-8-sig", errors="replace").read()
    except FileNotFoundError as error:
        raise InputError(
            f"The control file “{path}” is not there.",
            "Give its path relative to the recipe or to the input files.",
        ) from error
    lines = [
        (i, line)
        for i, line in enumerate(text.splitlines(), 1)
        if line.strip() and not line.lstrip().startswith(("#", "//"))
    ]
    if not lines:
        raise InputError(
            f"“{shown}” holds no points.", "It needs a line a point: name, easting, northing, height."
        )
    sample = lines[-1][1]
    mark = next((d for d in (";", "\t") if d in sample), None)
    decimal = "," if mark and "." not in sample and "," in sample else "."
    mark = mark or ("," if "," in sample else None)
    rows = [
        (
            i,
            [
                c.strip()
                for c in (next(csv.reader(io.StringIO(line), delimiter=mark)) if mark else line.split())
            ],
        )
        for i, line in lines
    ]
    first = [c.lower().replace(" ", "_") for c in rows[0][1]]
    known = {key: k for k, word in enumerate(first) for key, words in HEADINGS.items() if word in words}
    headed = {"easting", "northing", "height"} <= set(known)
    if headed:
        where, rows = known, rows[1:]
    else:
        where = _without_header(rows, decimal, shown)
    return _parsed(rows, where, headed, decimal, shown)


def _number(cell: str, decimal: str) -> float | None:
    value = float(cell.replace(decimal, ".") if decimal != "." else cell)
    if not np.isfinite(value):
        raise ValueError(cell)
    return value


def _is_number(cell: str, decimal: str) -> bool:
    try:
        _number(cell, decimal)
        return True
    except ValueError:
        return False


def _without_header(rows: list[tuple[int, list[str]]], decimal: str, shown: str) -> dict[str, int] | None:
    cells = rows[-1][1]
    numeric = [k for k, c in enumerate(cells) if _is_number(c, decimal)]
    text = [k for k in range(len(cells)) if k not in numeric]
    where = {}
    if text:
        where["name"] = text[0]
        if len(text) > 1:
            where["role"] = text[-1]
    elif len(numeric) >= 4:
        where["name"] = numeric.pop(0)
    if len(numeric) < 3:
        raise InputError(
            f"“{shown}”, line {rows[-1][0]}: fewer than three numbers.",
            "A point needs easting, northing and height.",
        )
    where |= {"easting": numeric[0], "northing": numeric[1], "height": numeric[2]}
    if len(numeric) > 3:
        where["target_height"] = numeric[3]
    return where


def _parsed(
    rows: list[tuple[int, list[str]]], where: dict[str, int], headed: bool, decimal: str, shown: str
) -> "ControlFile | None":
    names, columns, heights, check = [], [], [], []
    for line, cells in rows:
        try:
            triple = [_number(cells[where[k]], decimal) for k in ("easting", "northing", "height")]
            extra = cells[where["target_height"]] if where.get("target_height", 99) < len(cells) else ""
            heights.append(_number(extra, decimal) if extra else 0.0)
        except (ValueError, IndexError) as error:
            raise InputError(
                f"“{shown}”, line {line}: “{' '.join(cells)}” does not give three numbers.",
                "Mend the line, or mark it as a comment with #.",
            ) from error
        names.append(cells[where["name"]] if "name" in where else str(len(names) + 1))
        columns.append(triple)
        role = cells[where["role"]].lower() if where.get("role", 99) < len(cells) else ""
        check.append(role in CHECK_WORDS)
    twice = sorted({n for n in names if names.count(n) > 1})
    if twice:
        raise InputError(
            f"“{shown}” names {', '.join(twice)} more than once.",
            "Every control point needs a name of its own.",
        )
    return ControlFile(
        names, np.array(columns), (0, 1, 2) if headed else None, np.array(heights), np.array(check, bool)
    )
