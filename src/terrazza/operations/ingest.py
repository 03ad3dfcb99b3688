"""From scans in files to their folders of columns: the two kinds of pieces that import maps over the cores.

A *stretch* of a file is decoded, quantised and written as sorted runs; then *blocks* are put together
from the runs (see ``store.build``).  Nothing here holds more than a few runs in memory, however large the file.
"""

import os
import shutil
from dataclasses import dataclass, field, replace
from functools import reduce

import numpy as np

from terrazza.core.geometry.axes import Axes
from terrazza.core.progress import Part, Progress
from terrazza.errors import InputError
from terrazza.fleet import few
from terrazza.formats import MAPPED, READERS, las
from terrazza.formats.contents import LEFT_OUT, Contents, Repair, ScanInside
from terrazza.later import later

build = later("terrazza.store.build")

FINE = 1e-5
FAR = 2000.0
REACH = 20_000.0
UNKNOWN = 200.0
LARGE = 3_000_000
WATCHED = ("returns", "time", "native_rgb")


@dataclass(frozen=True)
class Source:
    """One scan to import: where it is, in which unit (metres each), and where its columns go.

    ``shift`` (m) is taken off the file's coordinates, so that what is stored stays small.  Of the points, every ``every``-th is taken, and with
    ``within`` (m) only those at such ranges from the scan's origin; ``axes`` says what becomes x, y and z, ``columns`` what a text file's columns are.
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


@dataclass
class Read:
    """What a stretch gave: its runs, the box of their positions (integers), what was mended by code, how many points the range limits left out,
    what is known of its columns, and the sentence of the file's failure where that is to be put up with."""

    runs: list[tuple[str, int]]
    low: np.ndarray
    high: np.ndarray
    repairs: dict[str, int] = field(default_factory=dict)
    beyond: int = 0
    kinds: dict = field(default_factory=dict)
    error: str = ""

    def mended(self, counts: dict[str, int]) -> int:
        """Add counts by code; returns how many points they left out."""
        for code, n in counts.items():
            self.repairs[code] = self.repairs.get(code, 0) + n
        return sum(n for code, n in counts.items() if code in LEFT_OUT)


def prepared(source: Source, inside: ScanInside, bounds: tuple | None = None) -> Source:
    """The source with its place and shift, from ``bounds`` (m, in the axes chosen) or else what the header says."""
    low, high = bounds if bounds is not None else _box(source, inside.bounds if inside.bounds is not None else _around_first(source))
    known = READERS[source.format].coordinates(source.path, source.index)
    shift = np.round((low + high) / 2) * (np.abs([low, high]).max() > FAR)
    if known:  # the file's whole numbers are stored as they are, so what is taken off goes into the offset
        scale, offset = (np.asarray(v, float) * source.factor for v in known)
        scale, offset = source.axes.reordered(scale), source.axes.turned(offset) - shift
    else:
        scale, offset = np.full(3, FINE), np.zeros(3)
    place = build.Place.around(low - shift, high - shift, scale, offset)
    return replace(source, place=place, shift=tuple(map(float, shift)))


def _box(source: Source, bounds) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest corner of the file's bounds in metres and in the axes chosen."""
    corners = source.axes.turned(np.asarray(bounds, float) * source.factor)
    return corners.min(0), corners.max(0)


def _around_first(source: Source):
    """A generous box around the first points (in the file's unit), for files that tell no bounds."""
    for chunk in _reading(Stretch(source, 0), raw=False):
        if len(chunk["xyz"]):
            middle = np.median(chunk["xyz"], 0)
            return middle - UNKNOWN / source.factor, middle + UNKNOWN / source.factor
    return np.zeros(3), np.ones(3)


def stretches(source: Source) -> list[Stretch]:
    """The source in parts that can be read side by side, where its format allows to begin in the middle."""
    if not READERS[source.format].SEEKS or source.points <= source.run:
        return [Stretch(source, 0)]
    return [Stretch(source, n, start, min(start + source.run, source.points)) for n, start in enumerate(range(0, source.points, source.run))]


def _reading(stretch: Stretch, raw: bool = True):
    source = stretch.source
    reader = READERS[source.format]
    if reader.SEEKS:
        return reader.read_points(source.path, source.index, start=stretch.start, stop=stretch.stop)
    return reader.read_points(source.path, source.index, raw=raw, **({"columns": source.columns} if source.format in MAPPED else {}))


def read_stretch(stretch: Stretch, progress: Progress) -> Read:
    """Decode, quantise and sort one stretch into runs; every piece starts afresh in its own scratch folder."""
    source, seen, done = stretch.source, stretch.start, 0
    folder = os.path.join(source.scratch, str(stretch.number))
    shutil.rmtree(folder, ignore_errors=True)
    runs, out = build.Runs(folder, source.place, source.run, WATCHED), Read([], None, None)
    try:
        for chunk in _reading(stretch):
            left_out = out.mended(chunk.pop("repairs", {}))
            there = len(chunk["position"] if "position" in chunk else chunk["xyz"])
            chunk = _every(chunk, source.every, seen)
            chunk, counts = _quantised(chunk, source)
            out.beyond += counts.pop("beyond", 0)
            out.mended(counts)
            seen, done = seen + there, done + there + left_out
            runs.add(chunk)
            progress.advance(min(done, stretch.points), stretch.points)
    except InputError as error:
        if not source.lenient:
            raise
        out.error = str(error)
    runs.close()
    out.runs, out.low, out.high, out.kinds = runs.written, runs.low, runs.high, runs.kinds
    return out


def _every(chunk: dict, every: int, seen: int) -> dict:
    """Every so-many-th point, counted over the whole scan."""
    return chunk if every == 1 else {name: values[(-seen) % every :: every] for name, values in chunk.items()}


def _quantised(chunk: dict, source: Source) -> tuple[dict, dict[str, int]]:
    """The chunk with integer positions in the axes chosen, and how many points lay too far out to be real or beyond the range limits."""
    if "position" in chunk:
        if not source.axes.plain:
            chunk["position"] = source.axes.turned(chunk["position"])
        if source.within is None:
            return chunk, {}
        scale, offset, _, _ = source.place.arrays()
        return _within(chunk, chunk["position"] * scale + offset + source.shift, source.within)
    xyz = chunk.pop("xyz")
    if not source.axes.plain:
        xyz = source.axes.turned(xyz)
    xyz = xyz * source.factor
    counts = {}
    if source.within is not None:
        chunk, counts = _within(chunk | {"xyz": xyz}, xyz, source.within)
        xyz = chunk.pop("xyz")
    xyz -= source.shift
    if len(xyz) and max(-xyz.min(), xyz.max()) > REACH:
        near = (np.abs(xyz) <= REACH).all(1)
        counts["far"], xyz, chunk = int((~near).sum()), xyz[near], {k: v[near] for k, v in chunk.items()}
    xyz /= FINE
    np.rint(xyz, out=xyz)
    return {"position": xyz.astype(np.int32)} | chunk, counts


def _within(chunk: dict, xyz: np.ndarray, within: tuple[float, float]) -> tuple[dict, dict[str, int]]:
    away = np.linalg.norm(xyz, axis=1)
    good = (away >= within[0]) & (away <= within[1])
    return {name: values[good] for name, values in chunk.items()}, {"beyond": len(good) - int(np.count_nonzero(good))}


def misplaced(source: Source, reads: list[Read]) -> tuple | None:
    """Where points lie outside the root cube, the true bounds (m, in the axes chosen); then the header was wrong."""
    reads = [r for r in reads if r.runs]
    if not reads:
        return None
    scale, offset, low, size = source.place.arrays()
    found = [np.min([r.low for r in reads], 0) * scale + offset, np.max([r.high for r in reads], 0) * scale + offset]
    if (found[0] >= low).all() and (found[1] <= low + size).all():
        return None
    return tuple(f + source.shift for f in found)


@dataclass(frozen=True)
class Block:
    """One block of columns to be put together from runs."""

    source: Source
    number: int
    bins: list
    left_out: frozenset[str]
    colour: "build.Kind"

    @property
    def points(self) -> int:
        return sum(b.points for b in self.bins)


def blocks(source: Source, reads: list[Read]) -> tuple[list[tuple[int, int]], list[Block], dict]:
    """Nodes above the bins, the blocks to be written, and the columns that hold one value throughout (kept in the record instead)."""
    runs = [run for r in reads for run in r.runs]
    above, bins = build.cut(runs, source.place, source.run)
    kinds = reduce(lambda a, b: {name: a[name].merge(b[name]) for name in a}, [r.kinds for r in reads if r.runs])
    constants = {name: kind.constant for name, kind in kinds.items() if kind.constant is not None}
    colour = kinds.get("native_rgb", build.Kind())
    return above, [Block(source, n, group, frozenset(constants), colour) for n, group in enumerate(build.grouped(bins, source.run))], constants


def write_block(block: Block, progress: Progress) -> "build.Written":
    """Put one block in octree order and write its columns."""

    def stored(name, values):
        if name == "native_rgb" and values.dtype == np.uint16:
            return {name: las.eight_bit(values, block.colour.deep)} | ({"extra.rgb16": values} if block.colour.fine else {})
        return {name: values}

    written = build.write_bins(block.source.folder, block.number, block.bins, block.source.place, block.source.version, block.left_out, stored)
    progress.advance(block.points, block.points)
    return written


def finish(source: Source, reads: list[Read], above: list, blocks: list[Block], written: "list[build.Written]", constants: dict) -> dict:
    """Write what lies above the blocks, clear the scratch folder, and return the scan's record with ``columns`` (file names)."""
    place = source.place
    made = build.finish(source.folder, written, above, [b for block in blocks for b in block.bins], place, source.version)
    shutil.rmtree(source.scratch, ignore_errors=True)
    scale, offset, low, size = place.arrays()
    box = [np.min([w.low for w in written], 0) * scale + offset, np.max([w.high for w in written], 0) * scale + offset]
    tones = np.cumsum(sum(w.tones for w in written))
    record = made | {"scale": list(place.scale), "offset": list(place.offset), "low": low.tolist(), "size": size, "bounds": [b.tolist() for b in box], "shift": list(source.shift),
                     "constants": constants}
    if tones[-1]:
        record["intensity_range"] = [int(np.searchsorted(tones, share * tones[-1])) * 16 for share in (0.02, 0.98)]
    return record


def mended(reads: list[Read]) -> dict[str, int]:
    """Repairs of all stretches of a scan, by code."""
    out: dict[str, int] = {}
    for read in reads:
        for code, n in read.repairs.items():
            out[code] = out.get(code, 0) + n
    return dict(sorted(out.items()))


def bring(sources: list[tuple[Source, Contents]], fleet, progress: Progress) -> tuple[list[dict], list[list[Repair]]]:
    """Import scans over the fleet; returns their records (``points`` 0 where nothing valid was in one) and what had to be mended in each."""
    total = float(sum(s.points for s, _ in sources))
    half = [Part(progress, 0.0, 0.65, total), Part(progress, 0.65, 1.0, total)]
    if total > LARGE:
        fleet.warm("terrazza.store.build")
    placed = [prepared(s, c.scans[s.index]) for s, c in sources]
    reads = _read(placed, fleet, half[0])
    repairs: list[list[Repair]] = [[] for _ in placed]
    wrong = {k: b for k, (s, r) in enumerate(zip(placed, reads)) if (b := misplaced(s, r)) is not None}
    if wrong:
        for k, bounds in wrong.items():
            inside = sources[k][1].scans[placed[k].index]
            placed[k] = prepared(replace(placed[k], place=None), inside, bounds)
            if inside.bounds is not None:
                repairs[k].append(Repair("bounds", inside.index, 1, "The bounds in the header are wrong; the points' own were taken."))
        for k, again in zip(wrong, _read([placed[k] for k in wrong], fleet, half[0])):
            reads[k] = again
    there = [k for k, r in enumerate(reads) if any(x.runs for x in r)]
    plans = {k: blocks(placed[k], reads[k]) for k in there}
    tasks = [b for k in there for b in plans[k][1]]
    written = iter(fleet.map(write_block, tasks, [b.points for b in tasks], half[1], "Ordering points", light=few([b.points for b in tasks])))
    records = []
    for k, source in enumerate(placed):
        counts = mended(reads[k])
        repairs[k] += [Repair(code, source.index, n) for code, n in counts.items()]
        repairs[k] += [Repair("scan" if k not in plans else "count", source.index, 1, r.error) for r in reads[k] if r.error]
        about = {"dropped": sum(n for code, n in counts.items() if code in LEFT_OUT), "beyond": sum(r.beyond for r in reads[k])}
        if k not in plans:
            records.append({"points": 0} | about)
            continue
        above, mine, constants = plans[k]
        records.append(finish(source, reads[k], above, mine, [next(written) for _ in mine], constants) | about)
    return records, repairs


def _read(sources: list[Source], fleet, progress) -> list[list[Read]]:
    for s in sources:
        os.makedirs(s.folder, exist_ok=True)
    parts = [st for s in sources for st in stretches(s)]
    found = fleet.map(read_stretch, parts, [p.points for p in parts], progress, "Reading points", light=few([p.points for p in parts]))
    out = [[] for _ in sources]
    places = {s: k for k, s in enumerate(sources)}
    for part, read in zip(parts, found):
        out[places[part.source]].append(read)
    return out

