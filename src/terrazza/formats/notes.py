"""Notes of people in the field or of a client: GeoJSON points with text, or CSV with a place and a text a
row.
"""

import csv
import os
from dataclasses import dataclass
from typing import Any

import orjson

from terrazza.errors import InputError

WORDS = {  # what a column may be called, lower case
    "x": ("x", "e", "easting", "east"),
    "y": ("y", "n", "northing", "north"),
    "z": ("z", "h", "height", "elevation"),
    "text": ("text", "note", "comment", "remark"),
    "name": ("name", "title"),
    "author": ("author", "by", "who"),
    "time": ("time", "date", "when"),
    "picture": ("picture", "photo", "image"),
    "link": ("link", "url"),
}


@dataclass(frozen=True)
class Note:
    """A note ``at`` a place (x, y, z) in the file's frame (m), with what is said in it; empty where it is
    not.
    """

    at: tuple[float, float, float]
    text: str = ""
    name: str = ""
    author: str = ""
    time: str = ""
    picture: str = ""
    link: str = ""


def read(path: str) -> list[Note]:
    """Notes of a file, by its beginning; InputError says what is wrong and where."""
    shown = os.path.basename(path)
    with open(path, "rb") as file:
        data = file.read().removeprefix(b"\xef\xbb\xbf")
    notes = _geojson(data, shown) if data.lstrip()[:1] == b"{" else _csv(data, shown)
    if not notes:
        raise InputError(f"“{shown}” holds no note with a place.", "Give points with x, y, z and a text.")
    return notes


def _told(about: dict[str, Any]) -> dict[str, str]:
    """What is said, whatever the columns are called."""
    known = {str(k).strip().lower(): v for k, v in about.items() if v is not None}
    found = {k: next((str(known[w]) for w in words if w in known), "") for k, words in WORDS.items()}
    return {k: v.strip()[:4000] for k, v in found.items() if k not in "xyz"}


def _geojson(data: bytes, shown: str) -> list[Note]:
    try:
        whole = orjson.loads(data)
        points = [f for f in whole["features"] if (f.get("geometry") or {}).get("type") == "Point"]
        return [
            Note(_place(f["geometry"]["coordinates"]), **_told(f.get("properties") or {})) for f in points
        ]
    except (orjson.JSONDecodeError, KeyError, TypeError, ValueError, AttributeError) as error:
        raise InputError(
            f"“{shown}” is no GeoJSON of points ({str(error)[:80]}).", "Export it again."
        ) from error


def _place(values: list[float | str]) -> tuple[float, float, float]:
    x, y, z = (float(v) for v in values[:3])
    if not all(abs(v) < 1e9 for v in (x, y, z)):
        raise ValueError("a place without numbers")
    return x, y, z


def _csv(data: bytes, shown: str) -> list[Note]:
    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        text = data.decode("latin-1")
    lines = text.splitlines()
    mark = max(";,\t", key=(lines[0] if lines else "").count)
    rows, out = csv.DictReader(lines, delimiter=mark), []
    for number, row in enumerate(rows, 2):
        known = {str(k).strip().lower(): v for k, v in row.items() if k}
        named = [next((known[w] for w in WORDS[k] if w in known), None) for k in "xyz"]
        if None in named:
            missing = ", ".join(k for k, v in zip("xyz", named) if v is None)
            raise InputError(f"“{shown}” has no column {missing}.", "Its first line names x, y, z and text.")
        try:
            at = _place([v.replace(",", ".") if mark != "," else v for v in named])
        except (ValueError, AttributeError) as error:
            raise InputError(
                f"“{shown}”, line {number}: its place is no three numbers.", "Mend the line."
            ) from error
        out.append(Note(at, **_told(row)))
    return out
