"""Stretches decoded, quantised and sorted into runs."""

import os
import shutil
from dataclasses import dataclass, field

import numpy as np

from terrazza.core.progress import Progress
from terrazza.errors import InputError
from terrazza.formats.contents import LEFT_OUT
from terrazza.later import later
from terrazza.operations.pieces.sources import COARSEST, EARTH, FINE, Source, Stretch, reading

with later():
    from terrazza.store import build

REACH = 2e9  # steps of the scale: what 32 bits hold, with some room
SAMPLED = 200
WATCHED = ("returns", "time", "native_rgb")


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


def read_stretch(stretch: Stretch, progress: Progress) -> Read:
    """Decode, quantise and sort one stretch into runs; every piece starts afresh in its own
    scratch folder.
    """
    source, seen, done = stretch.source, stretch.start, 0
    folder = os.path.join(source.scratch, str(stretch.number))
    shutil.rmtree(folder, ignore_errors=True)
    runs, out = build.Runs(folder, source.place, source.run, WATCHED), Read([], None, None)
    try:
        for chunk in reading(stretch):
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


def mended(reads: list[Read]) -> dict[str, int]:
    """Repairs of all stretches of a scan, by code."""
    out: dict[str, int] = {}
    for read in reads:
        for code, n in read.repairs.items():
            out[code] = out.get(code, 0) + n
    return dict(sorted(out.items()))
