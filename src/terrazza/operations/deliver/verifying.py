"""A delivered file is read again, by the readers that import uses and not by what wrote it: all its points
are there, lie where they lay, and a sample of them says what it said.
"""

import os
import time
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np

from terrazza import formats
from terrazza.errors import StateError
from terrazza.formats.protocol import places
from terrazza.later import later
from terrazza.operations.pieces.selection import Selection
from terrazza.operations.spine.job import Job

with later():
    from scipy import spatial

SAMPLE = 4_000  # points of a file that are looked for one by one, about
SIZE = 50  # of them from one stretch
VALUES = ("intensity", "class")  # what is compared besides the place, in formats that keep it as it is
EXACT = frozenset({"LAZ", "COPC", "PLY"})


@dataclass
class Witnesses:
    """Points that a file has to hold: ``xyz`` (n, 3) m in the frame in which it holds them, and values."""

    xyz: np.ndarray
    values: dict[str, np.ndarray]
    seen: np.ndarray = field(init=False)

    def __post_init__(self):
        self.seen = np.zeros(len(self.xyz), bool)
        self._x = np.sort(self.xyz[:, 0])
        self._tree = spatial.cKDTree(self.xyz)

    def look(self, xyz: np.ndarray, chunk: dict, within: float, exact: bool) -> None:
        """Mark those that are among points (n, 3) m as they were read, ``within`` so many metres."""
        near = np.searchsorted(self._x, xyz[:, 0] - within) != np.searchsorted(self._x, xyz[:, 0] + within)
        index = np.flatnonzero(near)
        if not len(index):
            return
        off, which = self._tree.query(xyz[index], distance_upper_bound=within)
        good = np.isfinite(off)
        for name in VALUES if exact else ():
            if name in chunk and name in self.values:
                kept = self.values[name][np.minimum(which, len(self.xyz) - 1)]
                good &= kept == chunk[name][index]
        self.seen[which[good]] = True

    def missing(self, within: float) -> int:
        """How many were not found, nor another one in the same place."""
        lost = np.flatnonzero(~self.seen)
        if not len(lost) or not self.seen.any():
            return len(lost)
        off, _ = spatial.cKDTree(self.xyz[self.seen]).query(self.xyz[lost])
        return int((off > 2 * within).sum())


def witnesses(job: Job, chosen: Selection, own: bool) -> list[Witnesses]:
    """A sample of what is to be written: one for all in the grid, or with ``own`` one a scan in its frame."""
    scans = [s for s in chosen.scans if chosen.of(s)]
    number, out = max(SAMPLE // SIZE // max(len(scans), 1), 1), []
    for scan in scans:
        parts = list(chosen.samples(scan, own or scan.pose is None, SIZE, number))
        values = {k: np.concatenate([p[k] for p in parts]) for k in VALUES if parts and k in parts[0]}
        out.append((np.concatenate([np.zeros((0, 3)), *(p["xyz"] for p in parts)]), values))
    if own:
        return [Witnesses(xyz, values) for xyz, values in out]
    shared = [k for k in VALUES if all(k in v for _, v in out)]
    joined = {k: np.concatenate([v[k] for _, v in out]) for k in shared}
    return [Witnesses(np.concatenate([xyz for xyz, _ in out]), joined)]


def verify(path: str, points: int, wanted: list[Witnesses], form: str, step: float) -> dict:
    """Read a file as import would; figures, or StateError where it is not what was written.  ``step`` (m) is
    its smallest step of a coordinate.  A file that fails is taken away.
    """
    began, name = time.perf_counter(), os.path.basename(path)
    try:
        told = _read(path, wanted, form in EXACT, step)
        lost = sum(w.missing(_within(w, step)) for w in wanted)
        if told["points"] != points:
            raise StateError(f"“{name}” holds {told['points']:,} points instead of {points:,}.", AGAIN)
        if lost:
            raise StateError(
                f"{lost:,} of {told['sample']:,} points looked for in “{name}” are not as they were written.",
                AGAIN,
            )
    except Exception:
        os.unlink(path)
        raise
    return told | {"seconds": time.perf_counter() - began}


AGAIN = "It was taken away; see that the disk is sound, and write it again."


def _within(wanted: Witnesses, step: float) -> float:
    """How far off (m) rounding to the step, and that of numbers as large as these, may bring a point."""
    largest = float(np.abs(wanted.xyz).max(initial=1.0))
    return 0.87 * 1.01 * step + 4e-16 * largest * 8


def read(path: str) -> Iterator[tuple[int, np.ndarray, dict]]:
    """A file as import reads it: (number of the scan, places (n, 3) m, chunk)."""
    contents = formats.look(path)
    form = formats.named(contents.format)
    for number, inside in enumerate(contents.scans):
        whole = form.coordinates(path, inside.index)
        for chunk in form.points(path, inside.index):
            yield number, places(chunk, whole) * contents.metres, chunk


def _read(path: str, wanted: list[Witnesses], exact: bool, step: float) -> dict:
    points, withins = 0, [_within(w, step) for w in wanted]
    low, high = np.full(3, np.inf), np.full(3, -np.inf)
    for number, xyz, chunk in read(path):
        points += len(xyz)
        if not len(xyz):
            continue
        low, high = np.minimum(low, xyz.min(0)), np.maximum(high, xyz.max(0))
        mine = number if len(wanted) > 1 else 0
        wanted[mine].look(xyz, chunk, withins[mine], exact)
    sample = sum(len(w.xyz) for w in wanted)
    return {"points": points, "sample": sample, "low": low.tolist(), "high": high.tolist()}
