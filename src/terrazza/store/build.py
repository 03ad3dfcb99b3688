"""From a stream of points to a scan's columns in octree order, in bounded memory.

An external sort: *runs* of a stated number of points are sorted by Morton key and written to a scratch
folder; the tree is cut into *bins*, nodes whose subtrees fit in memory; bins are put together from their
slices of all runs, given levels, and written as the blocks of the columns.  What belongs to nodes above the
bins comes last.  Runs and blocks are independent pieces of work, and the result does not depend on who does
which.
"""

import json
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import numpy as np

from terrazza.store import columns, octree, ordering

TONES = 4096
COARSE = 3
DEEPEST_BIN = 10


@dataclass(frozen=True)
class Place:
    """How integers become metres (``scale``, ``offset``), and the root cube (``low``, ``size``), in the
    scan's frame.
    """

    scale: tuple[float, float, float]
    offset: tuple[float, float, float]
    low: tuple[float, float, float]
    size: float

    def arrays(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, float]:
        return np.asarray(self.scale), np.asarray(self.offset), np.asarray(self.low), self.size

    @classmethod
    def around(
        cls,
        low: np.ndarray,
        high: np.ndarray,
        scale: list[float] | np.ndarray,
        offset: list[float] | np.ndarray,
    ) -> "Place":
        """With a root cube that holds a box and what rounding moves out of it, never of zero size; all are
        (3,).
        """
        low, high = np.asarray(low, float), np.asarray(high, float)
        size = float(max((high - low).max(), 0.01)) * 1.0001 + 4 * max(scale)
        return cls(
            tuple(map(float, scale)),
            tuple(map(float, offset)),
            tuple(low - size * 4e-5 - 2 * max(scale)),
            size,
        )


@dataclass
class Kind:
    """What is known of a column's values: the one value they all have (None once two differ), and for 16-bit
    colour whether it needs its 16 bits.
    """

    constant: object = None
    deep: bool = False
    fine: bool = False

    @classmethod
    def of(cls, values: np.ndarray) -> "Kind":
        """Of some values, at least one. Values (n,) or (n, k)."""
        first = values.flat[0]
        out = cls(
            first.item() if values.ndim == 1 and values[-1] == first and (values == first).all() else None
        )
        if values.dtype == np.uint16 and values.ndim == 2:
            out.deep = bool(values.max() > 255)
            out.fine = out.deep and bool((values % 257).any())
        return out

    def merge(self, other: "Kind") -> "Kind":
        return Kind(
            self.constant if self.constant == other.constant else None,
            self.deep or other.deep,
            self.fine or other.fine,
        )


class Runs:
    """Collects chunks of columns and writes them as sorted runs into ``folder``; sorting goes on beside the
    next chunk's reading.

    ``written`` lists (folder, points); ``low`` and ``high`` bound the positions (i32) seen; ``kinds`` tells
    of the columns that ``watched`` names or that begin with “extra.”.
    """

    def __init__(self, folder: str, place: Place, most: int, watched: tuple[str, ...] = ()):
        self.folder, self.place, self.most, self.watched = folder, place, most, watched
        self.written: list[tuple[str, int]] = []
        self.low, self.high = np.full(3, 2**31 - 1, np.int64), np.full(3, -(2**31), np.int64)
        self.kinds: dict[str, Kind] = {}
        self._held, self._count, self._thread, self._pending = [], 0, ThreadPoolExecutor(1), None

    def add(self, chunk: dict[str, np.ndarray]) -> None:
        """Take some points: ``position`` (n, 3, i32) and any other columns of the same length."""
        n, at = len(chunk["position"]), 0
        while at < n:
            part = min(n - at, self.most - self._count)
            self._held.append({k: v[at : at + part] for k, v in chunk.items()})
            self._count, at = self._count + part, at + part
            if self._count == self.most:
                self._flush()

    def _flush(self) -> None:
        if not self._count:
            return
        held, self._held, self._count = self._held, [], 0
        self._settle()
        self._pending = self._thread.submit(
            self._sort, held, os.path.join(self.folder, f"run{len(self.written)}")
        )
        self.written.append(
            (os.path.join(self.folder, f"run{len(self.written)}"), sum(len(c["position"]) for c in held))
        )

    def _settle(self) -> None:
        if self._pending is not None:
            self._pending.result()
            self._pending = None

    def _sort(self, held: list[dict[str, np.ndarray]], folder: str) -> None:
        os.makedirs(folder, exist_ok=True)
        position = np.concatenate([c["position"] for c in held])
        low, high = ordering.limits(position)
        self.low, self.high = np.minimum(self.low, low), np.maximum(self.high, high)
        rank = ordering.order(ordering.keys(position, *self.place.arrays()), COARSE)
        layout = {"position": _put(folder, "position", np.take(position, rank, axis=0))}
        for name in held[0]:
            if name != "position":
                values = np.concatenate([c[name] for c in held])
                if name in self.watched or name.startswith("extra."):
                    own = Kind.of(values)
                    self.kinds[name] = own.merge(self.kinds[name]) if name in self.kinds else own
                    if own.constant is not None:
                        layout[name] = [values.dtype.str, {"all": own.constant}]
                        continue
                layout[name] = _put(folder, name, np.take(values, rank, axis=0))
        with open(os.path.join(folder, "layout.json"), "w") as f:
            json.dump(layout, f)

    def close(self) -> None:
        """Write what is left; wait until all runs are there."""
        self._flush()
        self._settle()
        self._thread.shutdown()


def _put(folder: str, name: str, values: np.ndarray) -> list[Any]:
    """Write one column of a run, bare; returns its type and the values a point."""
    values.tofile(os.path.join(folder, columns.file_word(name)))
    return [values.dtype.str, *values.shape[1:]]


@lru_cache(maxsize=20_000)
def _layout(folder: str) -> dict[str, list[Any]]:
    with open(os.path.join(folder, "layout.json")) as f:
        return json.load(f)


def _slice(folder: str, name: str, start: int, stop: int) -> np.ndarray:
    """Values ``start`` to ``stop`` of a column of a run."""
    kind, *widths = _layout(folder)[name]
    if widths and isinstance(widths[0], dict):
        return np.full(stop - start, widths[0]["all"], kind)
    wide = int(np.prod(widths, dtype=int))
    values = np.fromfile(
        os.path.join(folder, columns.file_word(name)),
        kind,
        (stop - start) * wide,
        offset=start * wide * np.dtype(kind).itemsize,
    )
    return values.reshape(stop - start, *widths)


@dataclass
class Bin:
    """A node whose whole subtree is one piece: level, first key, and its slices (run folder, start, stop)."""

    level: int
    key: int
    slices: list[tuple[str, int, int]]

    @property
    def points(self) -> int:
        return sum(stop - start for _, start, stop in self.slices)


def cut(runs: list[tuple[str, int]], place: Place, most: int) -> tuple[list[tuple[int, int]], list[Bin]]:
    """Cut the tree over sorted runs into bins of at most ``most`` points; returns the nodes above them
    (level, first key) and the bins in key order.
    """
    maps = [np.memmap(os.path.join(folder, "position"), "<i4", "r", shape=(n, 3)) for folder, n in runs]
    above, bins = [], []

    def visit(level: int, key: int, slices: list[tuple[int, int]]) -> None:
        total = sum(b - a for a, b in slices)
        if total <= most or level == DEEPEST_BIN:
            if total:
                bins.append(
                    Bin(level, key, [(folder, a, b) for (folder, _), (a, b) in zip(runs, slices) if b > a])
                )
            return
        above.append((level, key))
        step = 1 << (3 * (octree.DEPTH - level - 1))
        edges = [
            [a]
            + [
                a + int(ordering.first_at(m[a:b], *place.arrays(), np.uint64(key + k * step)))
                for k in range(1, 8)
            ]
            + [b]
            for m, (a, b) in zip(maps, slices)
        ]
        for k in range(8):
            visit(level + 1, key + k * step, [(e[k], e[k + 1]) for e in edges])

    visit(0, 0, [(0, n) for _, n in runs])
    return above, bins


def grouped(bins: list[Bin], most: int) -> list[list[Bin]]:
    """Neighbouring bins put together into blocks of at most ``most`` points."""
    groups, held = [], 0
    for b in bins:
        if not groups or held + b.points > most:
            groups.append([])
            held = 0
        groups[-1].append(b)
        held += b.points
    return groups


@dataclass
class Written:
    """One finished block: its files by column, its nodes (``start`` within the block), and the points that
    belong to nodes above.
    """

    files: dict[str, str]
    points: int
    nodes: np.ndarray
    above: dict[str, np.ndarray]
    low: np.ndarray
    high: np.ndarray
    tones: np.ndarray = field(default_factory=lambda: np.zeros(TONES, np.int64))


def _as_it_is(name: str, values: np.ndarray) -> dict[str, np.ndarray]:
    return {name: values}


def write_bins(
    folder: str,
    number: int,
    bins: list[Bin],
    place: Place,
    version: str,
    left_out: frozenset[str] = frozenset(),
    stored: Callable[..., Any] = _as_it_is,
) -> Written:
    """Put the points of some bins in octree order and write them as block ``number``.

    Columns in ``left_out`` are not; ``stored(name, values)`` gives what is kept of another, by name.
    """
    total, start, upper, nodes = sum(b.points for b in bins), 0, {}, []
    data: dict[str, np.ndarray] = {}
    low, high = np.full(3, 2**31 - 1, np.int64), np.full(3, -(2**31), np.int64)
    for b in bins:
        position = _gathered(b, "position")
        key = ordering.keys(position, *place.arrays())
        rank = ordering.order(key, 0)
        key = key[rank]
        level, rows = ordering.assign(key, b.level, octree.FULL)
        by_level = np.argsort(level, kind="stable")
        first = int(np.count_nonzero(level < b.level))
        rank, size = rank[by_level], len(key) - first
        lowest, highest = ordering.limits(position)
        low, high = np.minimum(low, lowest), np.maximum(high, highest)
        for column in _names(b):
            if column in left_out:
                continue
            for name, values in stored(
                column, position if column == "position" else _gathered(b, column)
            ).items():
                if name not in data:
                    data[name] = np.empty((total, *values.shape[1:]), values.dtype)
                np.take(values, rank[first:], axis=0, out=data[name][start : start + size], mode="clip")
                upper.setdefault(name, []).append(np.take(values, rank[:first], axis=0))
        upper.setdefault("level", []).append(level[by_level[:first]])
        upper.setdefault("key", []).append(key[by_level[:first]])
        table = np.array(rows, dtype=np.uint64).reshape(-1, 3)
        table = table[np.lexsort((table[:, 1], table[:, 0]))]
        own = octree.nodes_of(
            table[:, 0].astype(np.uint8), table[:, 1], table[:, 2].astype(np.int64), place.size
        )
        own["start"] += start
        start += size
        nodes.append(own)
    data = {name: values[:start] for name, values in data.items()}
    kept = {name: np.concatenate(values) for name, values in upper.items()}
    files = (
        {name: columns.write_block(folder, name, number, values, version) for name, values in data.items()}
        if start
        else {}
    )
    return Written(files, start, np.concatenate(nodes), kept, low, high, _tones(data, kept))


def _tones(*parts: dict[str, np.ndarray]) -> np.ndarray:
    return (
        sum(np.bincount(p["intensity"] >> 4, minlength=TONES) for p in parts)
        if "intensity" in parts[0]
        else np.zeros(TONES, np.int64)
    )


def _names(b: Bin) -> list[str]:
    return sorted(_layout(b.slices[0][0]))


def _gathered(b: Bin, name: str) -> np.ndarray:
    return np.concatenate([_slice(folder, name, start, stop) for folder, start, stop in b.slices])


def finish(
    folder: str,
    written: list[Written],
    above: list[tuple[int, int]],
    bins: list[Bin],
    place: Place,
    version: str,
) -> dict[str, Any]:
    """Write the points of the nodes above the bins as the last block, and the table of nodes.

    Returns ``columns`` (file names by column), ``blocks`` (points of each block) and ``points``.
    """
    kept = {name: np.concatenate([w.above[name] for w in written]) for name in written[0].above}
    key = kept.pop("key")
    level = _played_off(kept.pop("level"), key, max(b.level for b in bins))
    rank = np.lexsort((key, level))
    starts = np.r_[0, np.cumsum([w.points for w in written])].astype(np.int64)
    for w, base in zip(written, starts):
        w.nodes["start"] += base
    tables, blocks = [w.nodes for w in written], [w for w in written if w.points]
    if len(rank):
        files = {
            name: columns.write_block(folder, name, len(written), values[rank], version)
            for name, values in kept.items()
        }
        blocks = blocks + [Written(files, len(rank), None, {}, None, None)]
    if above:
        up = np.array(sorted(above), dtype=np.uint64).reshape(-1, 2)
        mine = {(int(a), int(b)): 0 for a, b in up}
        shift = (3 * (octree.DEPTH - level.astype(np.int64))).astype(np.uint64)
        for pair, n in zip(
            *np.unique(
                np.stack([level.astype(np.uint64), (key >> shift) << shift], 1), axis=0, return_counts=True
            )
        ):
            mine[int(pair[0]), int(pair[1])] = int(n)
        own = octree.nodes_of(
            up[:, 0].astype(np.uint8), up[:, 1], np.array([mine[int(a), int(b)] for a, b in up]), place.size
        )
        own["start"] += starts[-1]
        tables.append(own)
    nodes = np.concatenate(tables)
    nodes = nodes[np.lexsort((nodes["z"], nodes["y"], nodes["x"], nodes["level"]))]
    names = {name: [b.files[name] for b in blocks] for name in blocks[0].files}
    names["nodes"] = [columns.write_block(folder, "nodes", 0, nodes, version)]
    return {"columns": names, "blocks": [b.points for b in blocks], "points": sum(b.points for b in blocks)}


def _played_off(level: np.ndarray, key: np.ndarray, deepest: int) -> np.ndarray:
    """Levels of the points above the bins, after bins smaller than a coarse level's cell have played off who
    is champion of it.
    """
    rank = np.argsort(key, kind="stable")
    sorted_key, out = key[rank], level[rank]
    for mark in range(deepest - octree.CELL_BITS - 1, -1, -1):
        ordering.play_off(sorted_key, mark, out)
    back = np.empty_like(out)
    back[rank] = out
    return back
