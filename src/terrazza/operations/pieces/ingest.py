"""Scans brought into the job: runs merged into blocks, written, and made durable."""

import os
import shutil
from dataclasses import dataclass, replace
from functools import reduce

import numpy as np

from terrazza.core.progress import Part, Progress
from terrazza.errors import Cancelled, InputError, ParamsError, StateError, TerrazzaError
from terrazza.fleet.guard import guard
from terrazza.fleet.local import FEW
from terrazza.formats import naming
from terrazza.formats.contents import LEFT_OUT, LOST, REPAIRS, Contents, Repair
from terrazza.later import later
from terrazza.operations.pieces.runs import Read, mended, misplaced, read_stretch
from terrazza.operations.pieces.sources import Source, Stretch, prepared, stretches

with later():
    from terrazza.store import build

ROUNDS = 3
GUARDED, SILENCE = (
    3_000_000_000,
    120.0,
)  # bytes and seconds that a helper may take to read a stretch, and be silent
LARGE = 3_000_000


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
            return {name: naming.eight_bit(values, block.colour.deep)} | (
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
    placed, reads, repairs = _read_well(sources, fleet, half[0])
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
        broken = "count" if k in plans else "scan"
        repairs[k] += [Repair(broken, source.index, 1, r.error) for r in reads[k] if r.error]
        about = _told_of(counts, reads[k])
        if k not in plans:
            records.append({"points": 0} | about)
            continue
        above, mine, constants = plans[k]
        records.append(
            finish(source, reads[k], above, mine, [next(written) for _ in mine], constants) | about
        )
    return records, repairs


def _read_well(sources, fleet, progress: Progress):
    """Read all scans, those whose header has wrong bounds once more within their own: (sources, what was
    read, repairs) a scan.
    """
    placed = [prepared(s, c.scans[s.index]) for s, c in sources]
    reads = _read(placed, fleet, progress)
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
        for k, again in zip(wrong, _read([placed[k] for k in wrong], fleet, progress)) if wrong else ():
            reads[k] = again
    return placed, reads, repairs


def _told_of(counts: dict[str, int], reads: list[Read]) -> dict:
    """What a scan's record says of points that did not come in."""
    return {
        "dropped": sum(n for code, n in counts.items() if code in LEFT_OUT),
        "lost": sum(counts.get(code, 0) for code in LOST),
        "beyond": sum(r.beyond for r in reads),
        "losses": ", ".join(f"{counts[code]:,} {REPAIRS[code]}" for code in LOST if counts.get(code)),
    }


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
