"""Trajectories, in text or in the file of the walk itself: time and place of a moving scanner, with or
without its attitude, in any order of columns.
"""

import os
from typing import Any

import numpy as np

from terrazza.errors import InputError
from terrazza.formats import ply, text

ANGLES = {"heading", "yaw", "azimuth_deg", "kappa"}
LATEST, FARTHEST = 1e10, 1e8  # s and the file's unit: beyond them nothing was ever walked
QUATERNION = ("qw", "qx", "qy", "qz")


def read(path: str, columns: tuple[str, ...] = ()) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
    """(time (n,) s, xyz (n, 3) in the file's unit, heading (n,) rad or None); InputError where time and place
    cannot be told.

    Without a header the columns are time x y z, then heading in degrees or a quaternion qw qx qy qz where
    they are there.
    """
    if path.lower().endswith(".ply"):
        column = ply.trajectory(path) or {}
        if not {"time", "x", "y", "z"} <= set(column):
            raise InputError(
                f"“{os.path.basename(path)}” holds no trajectory.",
                "It would be an element “trajectory” with time, x, y and z; or give the trajectory as text.",
            )
        return _sound(path, column["time"], np.stack([column[a] for a in "xyz"], 1), _heading(column))
    layout = text.sniff(path, columns)
    names = list(layout.columns)
    if not columns and not layout.headed:
        rest = {4: [], 5: ["heading"], 8: list(QUATERNION), 7: ["roll", "pitch", "heading"]}.get(len(names))
        if rest is None:
            raise InputError(
                f"“{os.path.basename(path)}” has {len(names)} columns and no header.",
                "Name them, for example: time x y z heading.",
            )
        names = ["time", "x", "y", "z", *rest]
    if not {"time", "x", "y", "z"} <= set(names):
        raise InputError(
            f"“{os.path.basename(path)}”: the columns {', '.join(names)} do not hold time, x, y and z.",
            "Name them, for example: time x y z heading.",
        )
    with open(path, encoding="utf-8-sig", errors="replace") as f:
        values, unread = text.numbers(f.read().splitlines()[layout.skip :], layout)
    if unread > len(values):
        raise InputError(
            f"“{os.path.basename(path)}”: {unread:,} of its lines cannot be read.",
            "Choose the trajectory of the walk.",
        )
    column = {n: values[:, k] for k, n in enumerate(names)}
    return _sound(path, column["time"], np.stack([column[a] for a in "xyz"], 1), _heading(column))


def _sound(
    path: str, time: np.ndarray, xyz: np.ndarray, heading: np.ndarray | None
) -> tuple[np.ndarray, np.ndarray, np.ndarray | None]:
    """The rows with times and places that can be, in the order of time; InputError where most are not such,
    or fewer than two.
    """
    good = (
        np.isfinite(time)
        & (np.abs(time) < LATEST)
        & np.isfinite(xyz).all(1)
        & (np.abs(xyz) < FARTHEST).all(1)
    )
    if heading is not None:
        good &= np.isfinite(heading)
    if good.sum() < 2 or good.sum() < len(good) / 2:
        raise InputError(
            f"“{os.path.basename(path)}”: {len(good) - int(good.sum()):,} of its {len(good):,} lines hold "
            "times or places that cannot be.",
            "Choose the trajectory of the walk, or name its columns.",
        )
    order = np.flatnonzero(good)[np.argsort(time[good], kind="stable")]
    return time[order], xyz[order], None if heading is None else heading[order]


def _heading(column: dict[str, np.ndarray]) -> np.ndarray | None:
    """Heading (rad) from a quaternion or an angle in degrees, None where there is neither."""
    if set(QUATERNION) <= set(column):
        w, x, y, z = (column[q] for q in QUATERNION)
        return np.arctan2(2 * (w * z + x * y), 1 - 2 * (y**2 + z**2))
    angle = next((n for n in column if n in ANGLES), None)
    return None if angle is None else np.radians(column[angle])


def write(path: str, time: np.ndarray, xyz: np.ndarray, heading: np.ndarray) -> None:
    """A trajectory as text: time x y z heading (°), with a header. ``time`` (n,) s, ``xyz`` (n, 3) m,
    ``heading`` (n,) rad.
    """
    np.savetxt(
        path,
        np.c_[time, xyz, np.degrees(heading)],
        fmt=["%.4f", "%.4f", "%.4f", "%.4f", "%.3f"],
        header="time x y z heading",
        comments="",
    )


WORDS = {
    "time": {"time", "gpstime", "gps", "timestamp", "t", "sow", "sod", "seconds"},
    "x": {"x", "easting", "east", "e", "lon", "longitude", "long"},
    "y": {"y", "northing", "north", "n", "lat", "latitude"},
    "z": {"z", "height", "elevation", "alt", "altitude", "up", "hell", "ellheight"},
    "roll": {"roll", "r", "phi", "bank"},
    "pitch": {"pitch", "p", "theta"},
    "heading": {"heading", "yaw", "h", "hdg", "psi", "azimuth", "kappa", "truehdg", "trueheading"},
}
DEGREES = {"lat", "latitude", "lon", "longitude", "long"}


def flight(path: str, columns: tuple[str, ...] = ()) -> tuple[dict[str, np.ndarray], np.ndarray, bool]:
    """The trajectory of a craft as its file has it: named columns (time, x, y, z, roll, pitch, heading, as
    far as they are told, in the file's units), the unnamed ones (n, k), and whether places are named as
    longitude and latitude.  InputError where lines cannot be read or there are fewer than seven columns.
    """
    shown, layout = os.path.basename(path), text.sniff(path)
    with open(path, encoding="utf-8-sig", errors="replace") as file:
        lines = file.read().splitlines()
    values, unread = text.numbers(lines[layout.skip :], layout)
    if unread > len(values) or len(values) < 10:
        raise InputError(
            f"“{shown}”: {unread:,} of its lines cannot be read.", "Choose the trajectory as text."
        )
    if values.shape[1] < 7:
        raise InputError(
            f"“{shown}” has {values.shape[1]} columns; time, place and three angles are seven.",
            "Export the trajectory with its attitude.",
        )
    if columns and len(columns) != values.shape[1]:
        raise InputError(
            f"“{shown}” has {values.shape[1]} columns; {len(columns)} were named.", "Name each of them."
        )
    words = (
        [_plain(c) for c in columns] if columns else _headed(lines[: layout.skip], layout, values.shape[1])
    )
    named: dict[str, np.ndarray] = {}
    rest = []
    for k, word in enumerate(words):
        kind = next((ours for ours, theirs in WORDS.items() if word in theirs and ours not in named), None)
        if kind:
            named[kind] = values[:, k]
        elif not words[0] and not columns:
            rest.append(values[:, k])
    good = np.isfinite(values).all(1)
    unnamed = np.stack(rest, 1)[good] if rest else np.zeros((int(good.sum()), 0))
    return {n: v[good] for n, v in named.items()}, unnamed, any(w in DEGREES for w in words)


def _plain(word: str) -> str:
    """The first word of a heading, without its unit and marks."""
    letters = "".join(c if c.isalpha() else " " for c in word.lower()).split()
    joined = "".join(w for w in letters if w not in {"deg", "rad", "m", "s", "sec", "degrees", "radians"})
    return joined or (letters[0] if letters else "")


def _headed(before: list[str], layout: Any, width: int) -> list[str]:
    """The plain words of the heading above the numbers; as many empty ones where there is none."""
    for line in reversed(before):
        cells = (
            line.strip().lstrip("#%/").replace(",", " ") if layout.mark != ";" else line.strip().lstrip("#%/")
        )
        words = [
            c
            for c in (cells.split(layout.mark) if layout.mark in {";", "\t"} else cells.split())
            if c.strip()
        ]
        plain = [_plain(w) for w in words if w.strip("()[]").lower() not in {"deg", "rad", "m", "s"}]
        if len(plain) == width:
            return plain
    return [""] * width
