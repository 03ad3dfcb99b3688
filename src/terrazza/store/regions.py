"""Points of a convex region out of many octrees: evenly thinned where there are more than are wanted, down to
single points where there are fewer.

The trees are additive: every node holds an evenly spread sample of its cell that its children add to.  So the
nodes that meet the region are looked through from coarse to fine until enough points are found, and of the
last round an even share is taken.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numba import njit

from terrazza.store.cloud import Cloud

TASK = 400_000  # points that one thread looks through at a time
THREADS = 2


@dataclass(frozen=True)
class Region:
    """A union of convex ``pieces`` (each (k, 4): rows a, b with a · p ≤ b, m) in some frame, less what lies
    within all planes of ``but`` (k, 4), and without points of the classes ``hidden``.
    """

    pieces: tuple[np.ndarray, ...]
    but: np.ndarray = field(default_factory=lambda: np.zeros((0, 4)))
    hidden: tuple[int, ...] = ()


def moved(planes: np.ndarray, pose: np.ndarray) -> np.ndarray:
    """Planes (k, 4) of a frame in the frame that ``pose`` (4×4) maps to it."""
    normals = planes[:, :3] @ pose[:3, :3]
    return np.c_[normals, planes[:, 3] - planes[:, :3] @ pose[:3, 3]]


def touched(cloud: Cloud, pieces: list[np.ndarray]) -> np.ndarray:
    """Mask of the nodes of a cloud whose cells may meet one of some pieces, given in the cloud's frame. Mask
    (k,).
    """
    corner, edge = cloud.cells
    centre, out = corner + edge[:, None] / 2, np.zeros(len(edge), bool)
    for planes in pieces:
        reach = np.abs(planes[:, :3]).sum(1)
        out |= (centre @ planes[:, :3].T - edge[:, None] / 2 * reach <= planes[:, 3]).all(1)
    return out & (cloud.nodes["count"] > 0)


@njit(cache=True, nogil=True)
def _inside(
    position: Any,
    start: int,
    stop: int,
    planes: np.ndarray,
    ends: np.ndarray,
    but: np.ndarray,
    cut: Any,
    code: np.ndarray,
    hidden: np.ndarray,
    out: np.ndarray,
):
    """Indices from ``start`` to ``stop`` of the points inside; planes are in whole numbers of the column."""
    n = 0
    for i in range(start, stop):
        if len(cut) and cut[i] != 0:
            continue
        if len(code) and hidden[code[i]]:
            continue
        x, y, z = position[i, 0], position[i, 1], position[i, 2]
        good, begin = False, 0
        for end in ends:
            inside = True
            for k in range(begin, end):
                if planes[k, 0] * x + planes[k, 1] * y + planes[k, 2] * z > planes[k, 3]:
                    inside = False
                    break
            begin = end
            if inside:
                good = True
                break
        if good and len(but):
            within = True
            for k in range(len(but)):
                if but[k, 0] * x + but[k, 1] * y + but[k, 2] * z > but[k, 3]:
                    within = False
                    break
            good = not within
        if good:
            out[n] = i
            n += 1
    return n


class _Seeker:
    """One cloud and the region in its whole numbers."""

    def __init__(self, cloud: Cloud, pose: np.ndarray, region: Region):
        own = [moved(p, pose) for p in region.pieces]
        self.cloud, self.met = cloud, touched(cloud, own)
        self.planes, self.ends = self._counted(np.concatenate(own)), np.cumsum([len(p) for p in own])
        self.but = self._counted(moved(region.but, pose))
        self.hidden = np.zeros(256, bool)
        self.hidden[list(region.hidden)] = True
        self.filtered = bool(region.hidden)

    def _counted(self, planes: np.ndarray) -> np.ndarray:
        return np.c_[planes[:, :3] * self.cloud.scale, planes[:, 3] - planes[:, :3] @ self.cloud.offset]

    def stretches(self, octave: int, octaves: np.ndarray) -> list[tuple[int, int, int]]:
        """(block, start, stop within it) of the nodes met of one octave of cell sizes, neighbours put
        together.
        """
        nodes = self.cloud.nodes[self.met & (octaves == octave)]
        if not len(nodes):
            return []
        nodes = nodes[np.argsort(nodes["start"])]
        starts, stops = nodes["start"].astype(np.int64), (nodes["start"] + nodes["count"]).astype(np.int64)
        first = np.r_[True, starts[1:] != stops[:-1]]
        starts, stops = starts[first], stops[np.r_[first[1:], True]]
        ends, out = self.cloud.columns.ends, []
        for start, stop in zip(starts.tolist(), stops.tolist()):
            while start < stop:
                block = int(np.searchsorted(ends, start, side="right"))
                base, upto = int(ends[block - 1]) if block else 0, min(stop, int(ends[block]), start + TASK)
                out.append((block, start - base, upto - base))
                start = upto
        return out

    def found(self, stretch: tuple[int, int, int]) -> np.ndarray:
        """Indices of the points of a stretch that lie inside, in order."""
        block, start, stop = stretch
        columns, none = self.cloud.columns, np.zeros(0, np.uint8)
        if self.hidden[0] and not self.cloud.has("class"):
            return np.zeros(0, np.int64)  # never classified is class 0
        column = lambda name: columns.stretch(name, block) if self.cloud.has(name) else none
        cut = self.cloud.gone(block)
        code = np.ascontiguousarray(column("class")).astype(np.uint8, copy=False) if self.filtered else none
        out = np.empty(stop - start, np.int64)
        n = _inside(
            columns.block("position", block),
            start,
            stop,
            self.planes,
            self.ends,
            self.but,
            cut,
            code,
            self.hidden,
            out,
        )
        return out[:n] + (int(columns.ends[block - 1]) if block else 0)


def points(
    clouds: list[tuple[Cloud, np.ndarray]], region: Region, budget: int
) -> tuple[list[np.ndarray], bool]:
    """Sorted indices for each (cloud, pose to the region's frame), about ``budget`` in all at most, and
    whether these are all that there are.
    """
    seekers = [_Seeker(cloud, pose, region) for cloud, pose in clouds]
    octaves = [
        np.round(np.log2(s.cloud.size) - s.cloud.nodes["level"].astype(float)).astype(int) for s in seekers
    ]
    rounds = sorted({int(o) for s, own in zip(seekers, octaves) for o in np.unique(own[s.met])}, reverse=True)
    held, total = [[np.zeros(0, np.int64)] for _ in seekers], 0
    with ThreadPoolExecutor(THREADS) as pool:
        for octave in rounds:
            tasks = [
                (k, stretch)
                for k, (s, own) in enumerate(zip(seekers, octaves))
                for stretch in s.stretches(octave, own)
            ]
            new = list(pool.map(lambda task: (task[0], seekers[task[0]].found(task[1])), tasks))
            count = sum(len(found) for _, found in new)
            if total + count > budget:  # of this round an even share
                share, before = (budget - total) / count, 0
                for k, found in new:
                    places = np.arange(before, before + len(found))
                    held[k].append(found[np.floor((places + 1) * share) > np.floor(places * share)])
                    before += len(found)
                return [np.sort(np.concatenate(h)) for h in held], False
            for k, found in new:
                held[k].append(found)
            total += count
    return [np.sort(np.concatenate(h)) for h in held], True


def load() -> None:
    """Have the compiled part ready before it is needed."""
    position, cut = np.zeros((1, 3), np.int32), np.zeros(1, np.uint16)
    position.flags.writeable = False
    for kind in (cut, np.zeros(0, np.uint16)):
        _inside(
            position,
            0,
            1,
            np.zeros((1, 4)),
            np.array([1]),
            np.zeros((0, 4)),
            kind,
            np.zeros(0, np.uint8),
            np.zeros(256, bool),
            np.zeros(1, np.int64),
        )


__all__ = ["Region", "load", "moved", "points", "touched"]
