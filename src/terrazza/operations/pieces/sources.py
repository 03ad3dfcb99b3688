"""What is brought in: a scan of a file, the stretches it is read in, and its box."""

import contextlib
import os
from dataclasses import dataclass, replace

import numpy as np

from terrazza import formats
from terrazza.core.geometry.axes import Axes
from terrazza.errors import InputError
from terrazza.fleet.guard import allowed, guard
from terrazza.formats.contents import ScanInside
from terrazza.later import later

with later():
    from terrazza.store import build

FINE, COARSEST = 1e-5, 1e-1
FAR = 2000.0
EARTH = 1e8  # m: nothing that was ever measured has larger coordinates
UNKNOWN = 200.0


@dataclass(frozen=True)
class Source:
    """One scan to import: where it is, in which unit (metres each), and where its columns go.

    ``shift`` (m) is taken off the file's coordinates, so that what is stored stays small.  Of the points,
    every ``every``-th is taken, and with ``within`` (m) only those at such ranges from the scan's origin;
    ``axes`` says what becomes x, y and z, ``columns`` what a text file's columns are.
    """

    path: str
    format: str
    index: int
    factor: float
    folder: str
    version: str
    points: int
    run: int
    place: "build.Place | None" = None
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    axes: Axes = Axes()
    every: int = 1
    within: tuple[float, float] | None = None
    columns: tuple[str, ...] = ()
    lenient: bool = False

    @property
    def scratch(self) -> str:
        return os.path.join(self.folder, f"scratch.{self.version}")


@dataclass(frozen=True)
class Stretch:
    """A part of a source that one process reads: points ``start`` to ``stop`` (None: to the end)."""

    source: Source
    number: int
    start: int = 0
    stop: int | None = None

    @property
    def points(self) -> int:
        return (self.source.points if self.stop is None else self.stop) - self.start


def prepared(source: Source, inside: ScanInside, bounds: tuple | None = None, scale: float = FINE) -> Source:
    """The source with its place and shift, from ``bounds`` (m, in the axes chosen) or else what the header
    says, which is a hint and no more.
    """
    known = formats.named(source.format).coordinates(source.path, source.index) if inside.points else None
    low, high = (
        bounds
        if bounds is not None
        else _box(source, inside.bounds if inside.bounds is not None else _around_first(source))
    )
    if bounds is None and not (np.isfinite([low, high]).all() and np.abs([low, high]).max() < EARTH):
        low, high = np.zeros(3), np.ones(3)
    shift = np.round((low + high) / 2) * (np.abs([low, high]).max() > FAR)
    if known:  # the file's whole numbers are stored as they are, so what is taken off goes into the offset
        stored, begins = (np.asarray(v, float) * source.factor for v in known)
        steps, offset = source.axes.reordered(stored), source.axes.turned(begins) - shift
    else:
        steps, offset = np.full(3, scale), np.zeros(3)
    place = build.Place.around(low - shift, high - shift, steps, offset)
    return replace(source, place=place, shift=tuple(map(float, shift)))


def _box(source: Source, bounds) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest corner of the file's bounds in metres and in the axes chosen."""
    corners = source.axes.turned(np.asarray(bounds, float) * source.factor)
    return corners.min(0), corners.max(0)


def _around_first(source: Source):
    """A generous box around the first points (in the file's unit), for files that tell no bounds."""
    middle = None
    if source.points:
        with contextlib.suppress(InputError):  # what is wrong is said when it is read
            middle = guard().call(
                first_middle, source, about=os.path.basename(source.path), seconds=allowed(source.path)
            )
    return (
        (np.zeros(3), np.ones(3))
        if middle is None
        else (middle - UNKNOWN / source.factor, middle + UNKNOWN / source.factor)
    )


def first_middle(source: Source) -> np.ndarray | None:
    """The middle (3,) of the first points in the file's unit; None where it holds none."""
    return next(
        (np.median(chunk["xyz"], 0) for chunk in reading(Stretch(source, 0), raw=False) if len(chunk["xyz"])),
        None,
    )


def stretches(source: Source) -> list[Stretch]:
    """The source in parts that can be read side by side, where its format allows to begin in the middle."""
    if not formats.named(source.format).seeks or source.points <= source.run:
        return [Stretch(source, 0)]
    return [
        Stretch(source, n, start, min(start + source.run, source.points))
        for n, start in enumerate(range(0, source.points, source.run))
    ]


def reading(stretch: Stretch, raw: bool = True):
    source = stretch.source
    return formats.named(source.format).points(
        source.path, source.index, stretch.start, stretch.stop, raw, columns=source.columns
    )
