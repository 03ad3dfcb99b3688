"""From scans in files to their folders of columns: the two kinds of pieces that import maps over the cores.

A *stretch* of a file is decoded, quantised and written as sorted runs; then *blocks* are put together from
the runs (see ``store.build``).  Nothing here holds more than a few runs in memory, however large the file.
"""

import contextlib
import os
import shutil
from dataclasses import dataclass, field, replace
from functools import reduce

import numpy as np

from terrazza.core.geometry.axes import Axes
from terrazza.core.progress import Part, Progress
from terrazza.errors import Cancelled, InputError, ParamsError, StateError, TerrazzaError
from terrazza.fleet.guard import allowed, guard
from terrazza.fleet.local import FEW
from terrazza.formats import MAPPED, READERS, las
from terrazza.formats.contents import LEFT_OUT, LOST, REPAIRS, Contents, Repair, ScanInside
from terrazza.later import later

build = later("terrazza.store.build")

FINE, COARSEST = 1e-5, 1e-1
FAR = 2000.0
REACH = 2e9  # steps of the scale: what 32 bits hold, with some room
EARTH = 1e8  # m: nothing that was ever measured has larger coordinates
ROUNDS = 3
GUARDED, SILENCE = (
    3_000_000_000,
    120.0,
)  # bytes and seconds that a helper may take to read a stretch, and be silent
SAMPLED = 200
UNKNOWN = 200.0
LARGE = 3_000_000
WATCHED = ("returns", "time", "native_rgb")


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


@dataclass
class Read:
    """What a stretch gave: its runs, the box of their positions (integers), what was mended by code, how many
    points the range limits left out, what is known of its columns, the sentence of the file's failure where
    that is to be put up with, and an even sample of all its places (m, in the axes chosen), near and far,
    where they are not stored as the file has them.
    """

    runs: list[tuple[str, int]]
    low: np.ndarray
    high: np.ndarray
    repairs: dict[str, int] = field(default_factory=dict)
    beyond: int = 0
    kinds: dict = field(default_factory=dict)
    error: str = ""
    sample: list = field(default_factory=list)

    def mended(self, counts: dict[str, int]) -> int:
        """Add counts by code; returns how many points they left out."""
        for code, n in counts.items():
            self.repairs[code] = self.repairs.get(code, 0) + n
        return sum(n for code, n in counts.items() if code in LEFT_OUT)


def prepared(source: Source, inside: ScanInside, bounds: tuple | None = None, scale: float = FINE) -> Source:
    """The source with its place and shift, from ``bounds`` (m, in the axes chosen) or else what the header
    says, which is a hint and no more.
    """
    known = READERS[source.format].coordinates(source.path, source.index) if inside.points else None
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
        (
            np.median(chunk["xyz"], 0)
            for chunk in _reading(Stretch(source, 0), raw=False)
            if len(chunk["xyz"])
        ),
        None,
    )


def stretches(source: Source) -> list[Stretch]:
    """The source in parts that can be read side by side, where its format allows to begin in the middle."""
    if not READERS[source.format].SEEKS or source.points <= source.run:
        return [Stretch(source, 0)]
    return [
        Stretch(source, n, start, min(start + source.run, source.points))
        for n, start in enumerate(range(0, source.points, source.run))
    ]


def _reading(stretch: Stretch, raw: bool = True):
    source = stretch.source
    reader = READERS[source.format]
    if reader.SEEKS:
        return reader.read_points(source.path, source.index, start=stretch.start, stop=stretch.stop)
    return reader.read_points(
        source.path, source.index, raw=raw, **({"columns": source.columns} if source.format in MAPPED else {})
    )


def read_stretch(stretch: Stretch, progress: Progress) -> Read:
    """Decode, quantise and sort one stretch into runs; every piece starts afresh in its own
    scratch folder.
    """
    source, seen, done = stretch.source, stretch.start, 0
    folder = os.path.join(source.scratch, str(stretch.number))
    shutil.rmtree(folder, ignore_errors=True)
    runs, out = build.Runs(folder, source.place, source.run, WATCHED), Read([], None, None)
    try:
        for chunk in _reading(stretch):
            left_out = out.mended(chunk.pop("repairs", {}))
            there = len(chunk["position"] if "position" in chunk else chunk["xyz"])
            chunk = _every(chunk, source.every, seen)
            chunk, counts = _quantised(chunk, source, out.sample)
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


def _quantised(chunk: dict, source: Source, sample: list) -> tuple[dict, dict[str, int]]:
    """The chunk with integer positions in the axes chosen, and how many points lay beyond what these reach or
    beyond the range limits; some places go into ``sample``.
    """
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
    sample.append(xyz[:: max(len(xyz) // SAMPLED, 1)].copy())
    xyz -= source.shift
    step = source.place.scale[0]
    if len(xyz) and not max(-xyz.min(), xyz.max()) <= REACH * step:
        near = (np.abs(xyz) <= REACH * step).all(1)
        counts["far"], xyz, chunk = int((~near).sum()), xyz[near], {k: v[near] for k, v in chunk.items()}
    xyz /= step
    np.rint(xyz, out=xyz)
    return {"position": xyz.astype(np.int32)} | chunk, counts


def _within(chunk: dict, xyz: np.ndarray, within: tuple[float, float]) -> tuple[dict, dict[str, int]]:
    away = np.linalg.norm(xyz, axis=1)
    good = (away >= within[0]) & (away <= within[1])
    return {name: values[good] for name, values in chunk.items()}, {
        "beyond": len(good) - int(np.count_nonzero(good))
    }


def misplaced(source: Source, reads: list[Read]) -> tuple | None:
    """Where points lie outside the root cube, the true bounds (m, in the axes chosen); then the header was
    wrong.
    """
    far = _far(source, reads)
    if far is not None:
        return far
    reads = [r for r in reads if r.runs]
    if not reads:
        return None
    scale, offset, low, size = source.place.arrays()
    found = [
        np.min([r.low for r in reads], 0) * scale + offset,
        np.max([r.high for r in reads], 0) * scale + offset,
    ]
    if (found[0] >= low).all() and (found[1] <= low + size).all():
        return None
    return (*(f + source.shift for f in found), source.place.scale[0])


def _far(source: Source, reads: list[Read]) -> tuple | None:
    """Where points lay beyond reach because they were expected elsewhere or spread wider than the steps hold:
    bounds that take in all but rogue ones, and the step for them.
    """
    far, near = sum(r.repairs.get("far", 0) for r in reads), sum(n for r in reads for _, n in r.runs)
    if not far:
        return None
    sample = np.concatenate([s for r in reads for s in r.sample])
    sample = sample[(np.abs(sample) < EARTH).all(1)]
    if not len(sample):
        return None
    middle = np.median(sample, 0)
    reach = float(np.quantile(np.abs(sample - middle).max(1), 0.995))
    step = next(
        (s for s in FINE * 10.0 ** np.arange(5) if reach < 0.9 * REACH * s and s <= COARSEST * 1.01), COARSEST
    )
    known = (
        np.abs(middle - source.shift).max() < 0.1 * REACH * source.place.scale[0]
        and step <= source.place.scale[0] * 1.01
    )
    if known and far <= 0.01 * (far + near):
        return None  # a few rogue returns: told, and left where they are
    if known and step == source.place.scale[0]:
        return None
    return middle - max(reach, 1.0), middle + max(reach, 1.0), step


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
    """Nodes above the bins, the blocks to be written, and the columns that hold one value throughout (kept in
    the record instead).
    """
    runs = [run for r in reads for run in r.runs]
    above, bins = build.cut(runs, source.place, source.run)
    kinds = reduce(
        lambda a, b: {name: a[name].merge(b[name]) for name in a}, [r.kinds for r in reads if r.runs]
    )
    constants = {name: kind.constant for name, kind in kinds.items() if kind.constant is not None}
    colour = kinds.get("native_rgb", build.Kind())
    return (
        above,
        [
            Block(source, n, group, frozenset(constants), colour)
            for n, group in enumerate(build.grouped(bins, source.run))
        ],
        constants,
    )


def write_block(block: Block, progress: Progress) -> "build.Written":
    """Put one block in octree order and write its columns."""

    def stored(name, values):
        if name == "native_rgb" and values.dtype == np.uint16:
            return {name: las.eight_bit(values, block.colour.deep)} | (
                {"extra.rgb16": values} if block.colour.fine else {}
            )
        return {name: values}

    written = build.write_bins(
        block.source.folder,
        block.number,
        block.bins,
        block.source.place,
        block.source.version,
        block.left_out,
        stored,
    )
    progress.advance(block.points, block.points)
    return written


def finish(
    source: Source,
    reads: list[Read],
    above: list,
    blocks: list[Block],
    written: "list[build.Written]",
    constants: dict,
) -> dict:
    """Write what lies above the blocks, clear the scratch folder, and return the scan's record with
    ``columns`` (file names).
    """
    place = source.place
    made = build.finish(
        source.folder, written, above, [b for block in blocks for b in block.bins], place, source.version
    )
    shutil.rmtree(source.scratch, ignore_errors=True)
    scale, offset, low, size = place.arrays()
    box = [
        np.min([w.low for w in written], 0) * scale + offset,
        np.max([w.high for w in written], 0) * scale + offset,
    ]
    tones = np.cumsum(sum(w.tones for w in written))
    record = made | {
        "scale": list(place.scale),
        "offset": list(place.offset),
        "low": low.tolist(),
        "size": size,
        "bounds": [b.tolist() for b in box],
        "shift": list(source.shift),
        "constants": constants,
    }
    if tones[-1]:
        record["intensity_range"] = [
            int(np.searchsorted(tones, share * tones[-1])) * 16 for share in (0.02, 0.98)
        ]
    return record


def mended(reads: list[Read]) -> dict[str, int]:
    """Repairs of all stretches of a scan, by code."""
    out: dict[str, int] = {}
    for read in reads:
        for code, n in read.repairs.items():
            out[code] = out.get(code, 0) + n
    return dict(sorted(out.items()))


def bring(
    sources: list[tuple[Source, Contents]], fleet, progress: Progress
) -> tuple[list[dict], list[list[Repair]]]:
    """Import scans over the fleet; returns their records (``points`` 0 where nothing valid was in one) and
    what had to be mended in each.
    """
    total = float(sum(s.points for s, _ in sources))
    half = [Part(progress, 0.0, 0.65, total), Part(progress, 0.65, 1.0, total)]
    if total > LARGE:
        fleet.warm("terrazza.store.build")
    placed = [prepared(s, c.scans[s.index]) for s, c in sources]
    reads = _read(placed, fleet, half[0])
    repairs: list[list[Repair]] = [[] for _ in placed]
    for _ in range(ROUNDS):
        wrong = {k: b for k, (s, r) in enumerate(zip(placed, reads)) if (b := misplaced(s, r)) is not None}
        for k, (low, high, step) in wrong.items():
            inside = sources[k][1].scans[placed[k].index]
            placed[k] = prepared(replace(placed[k], place=None), inside, (low, high), step)
            if inside.bounds is not None and not repairs[k]:
                repairs[k].append(
                    Repair(
                        "bounds",
                        inside.index,
                        1,
                        "The bounds in the header are wrong; the points' own were taken.",
                    )
                )
        for k, again in zip(wrong, _read([placed[k] for k in wrong], fleet, half[0])) if wrong else ():
            reads[k] = again
    there = [k for k, r in enumerate(reads) if any(x.runs for x in r)]
    plans = {k: blocks(placed[k], reads[k]) for k in there}
    tasks = [b for k in there for b in plans[k][1]]
    written = iter(
        fleet.map(
            write_block,
            tasks,
            [b.points for b in tasks],
            half[1],
            "Ordering points",
            light=sum(b.points for b in tasks) <= FEW,
        )
    )
    records = []
    for k, source in enumerate(placed):
        counts = mended(reads[k])
        repairs[k] += [Repair(code, source.index, n) for code, n in counts.items()]
        repairs[k] += [
            Repair("scan" if k not in plans else "count", source.index, 1, r.error)
            for r in reads[k]
            if r.error
        ]
        about = {
            "dropped": sum(n for code, n in counts.items() if code in LEFT_OUT),
            "lost": sum(counts.get(code, 0) for code in LOST),
            "beyond": sum(r.beyond for r in reads[k]),
            "losses": ", ".join(f"{counts[code]:,} {REPAIRS[code]}" for code in LOST if counts.get(code)),
        }
        if k not in plans:
            records.append({"points": 0} | about)
            continue
        above, mine, constants = plans[k]
        records.append(
            finish(source, reads[k], above, mine, [next(written) for _ in mine], constants) | about
        )
    return records, repairs


def _stretches_read(parts: list[Stretch], fleet, progress) -> list[Read]:
    """Each stretch read where it may die: in the fleet's processes, or where other processes are not worth
    their start, one after another in a helper.

    Where a process of the fleet died, they are read again one by one, so that the file is named.
    """
    sizes = [p.points for p in parts]
    if sum(sizes) > FEW and len(parts) > 1 and fleet.cores > 1:  # else they would be read in this process
        try:
            return fleet.map(read_stretch, parts, sizes, progress, "Reading points")
        except (InputError, ParamsError, StateError, Cancelled):
            raise
        except TerrazzaError:
            pass
    out, total = [], float(sum(sizes)) or 1.0
    for n, part in enumerate(parts):
        name, memory = os.path.basename(part.source.path), GUARDED + 600 * part.source.run
        try:
            out.append(
                guard().call(
                    read_stretch,
                    part,
                    about=name,
                    seconds=SILENCE,
                    memory=memory,
                    progress=Part(
                        progress, sum(sizes[:n]) / total, sum(sizes[: n + 1]) / total, total, "Reading points"
                    ),
                )
            )
        except InputError as error:
            if not part.source.lenient:
                raise
            out.append(Read([], None, None, error=str(error)))
    return out


def _read(sources: list[Source], fleet, progress) -> list[list[Read]]:
    for s in sources:
        os.makedirs(s.folder, exist_ok=True)
    parts = [st for s in sources for st in stretches(s)]
    found = _stretches_read(parts, fleet, progress)
    out = [[] for _ in sources]
    places = {s: k for k, s in enumerate(sources)}
    for part, read in zip(parts, found):
        out[places[part.source]].append(read)
    return out
