"""One scan's points as its columns and its octree, in the scan's own frame."""

import os
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.later import later
from terrazza.store import octree
from terrazza.store.columns import Columns, mapped

with later():
    from terrazza.store import boxed


@lru_cache(maxsize=200)
def _cells(path: str, low: tuple[float, ...], size: float, drift: float) -> tuple[np.ndarray, np.ndarray]:
    corner, edge = octree.boxes(mapped(path), np.array(low), size)
    return (corner - drift, edge + 2 * drift) if drift else (corner, edge)


@lru_cache(maxsize=32)
def _extents(
    path: str, low: tuple[float, ...], size: float, drift: float, pose: bytes
) -> tuple[np.ndarray, np.ndarray]:
    """Lowest and highest coordinates (3, n) of the nodes' cells in the frame that a pose (4×4
    f64) maps to.
    """
    (corner, edge), pose = _cells(path, low, size, drift), np.frombuffer(pose).reshape(4, 4)
    centre, reach = (
        rigid.apply(pose, corner + edge[:, None] / 2).T,
        np.abs(pose[:3, :3]).sum(1)[:, None] * edge / 2,
    )
    return np.ascontiguousarray(centre - reach), np.ascontiguousarray(centre + reach)


@lru_cache(maxsize=200)
def _below(path: str) -> np.ndarray:
    return octree.below(mapped(path))


@lru_cache(maxsize=200)
def _in_order(path: str) -> tuple[np.ndarray, np.ndarray]:
    nodes = mapped(path)
    filled = nodes[nodes["count"] > 0]
    rank = np.argsort(filled["start"])
    return filled["start"][rank], filled["level"][rank]


class Cloud:
    """Columns of one scan with their scale and offset.

    ``record`` holds count, scale (m), offset (3, m), the points of each block, and the root cube (low, size)
    in the scan's frame; an index is the same in every column, and every node of the octree is one slice.

    ``apart`` are the shelves whose points are kept out of everything; ``drift`` (m) is how far points may lie
    outside the cells of their nodes, since their positions were written anew (a walk bent, a strip corrected)
    in the order that they had.
    """

    def __init__(
        self, folder: str, pointers: dict[str, list[str]], record: dict[str, Any], apart: tuple[int, ...] = ()
    ):
        self.apart, self.drift = apart, float(record.get("drift", 0.0))
        self.record, self.count = record, int(record["points"])
        self.columns = Columns(folder, pointers, np.cumsum(record["blocks"]), record.get("constants"))
        self.scale, self.offset = np.asarray(record["scale"]), np.asarray(record["offset"])
        self.low, self.size = np.asarray(record["low"]), float(record["size"])

    def has(self, name: str) -> bool:
        return name in self.columns

    def xyz(self, start: int = 0, stop: int | None = None) -> np.ndarray:
        """(n, 3) float64 metres in the scan's frame."""
        return self.columns.read("position", start, stop) * self.scale + self.offset

    def at(self, index: np.ndarray) -> np.ndarray:
        """(n, 3) float64 metres of the points with these indices (sorted), read block by block."""
        out = self.pick("position", index) * self.scale
        out += self.offset
        return out

    def pick(self, name: str, index: np.ndarray) -> np.ndarray:
        """Values of a column at sorted indices. ``index`` (n,), values (n,) or (n, k)."""
        if name not in self.columns.pointers:
            return np.full(len(index), self.columns.constants[name])
        starts, cuts = np.r_[0, self.columns.ends[:-1]], np.r_[0, np.searchsorted(index, self.columns.ends)]
        met = np.flatnonzero(np.diff(cuts)) if len(index) else [0]
        parts = [
            np.take(self.columns.block(name, int(k)), index[cuts[k] : cuts[k + 1]] - starts[k], axis=0)
            for k in met
        ]
        return parts[0] if len(parts) == 1 else np.concatenate(parts)

    def read(self, name: str, start: int = 0, stop: int | None = None) -> np.ndarray:
        return self.columns.read(name, start, stop)

    def values(self, name: str, default: float, start: int = 0, stop: int | None = None) -> np.ndarray:
        """A stretch of a column, or ``default`` repeated where the scan has none. (n,) or (n, k)."""
        if self.has(name):
            return np.asarray(self.read(name, start, stop))
        return np.full((self.count if stop is None else min(stop, self.count)) - start, default)

    def kept(self, start: int = 0, stop: int | None = None) -> np.ndarray:
        """Mask of points that no cut has taken and that are on no shelf that is apart. Mask (n,)."""
        kept = self.values("cut", 0, start, stop) == 0
        if self.apart and self.has("shelf"):
            kept &= ~np.isin(self.read("shelf", start, stop), self.apart)
        return kept

    def kept_of(self, index: np.ndarray) -> np.ndarray:
        """Those of some points (sorted indices) that ``kept`` has. ``index`` (n,)."""
        if self.has("cut"):
            index = index[self.pick("cut", index) == 0]
        if self.apart and self.has("shelf"):
            index = index[~np.isin(self.pick("shelf", index), self.apart)]
        return index

    def gone(self, block: int) -> np.ndarray:
        """u16 (n,) of one block: not 0 where ``kept`` is not; of no length where all are kept."""
        none = np.zeros(0, np.uint16)
        cut = self.columns.stretch("cut", block) if self.has("cut") else none
        cut = np.ascontiguousarray(cut).astype(np.uint16, copy=False)
        if not (self.apart and self.has("shelf")):
            return cut
        away = np.isin(self.columns.stretch("shelf", block), self.apart)
        return np.where(away, np.uint16(1), cut) if len(cut) else away.astype(np.uint16)

    def blocks(self) -> Iterator[tuple[int, int]]:
        """Start and stop of every block, the pieces in which all columns are written."""
        ends = self.columns.ends
        return zip([0, *ends[:-1].tolist()], ends.tolist())

    @property
    def nodes(self) -> np.ndarray:
        """NODE records, coarse first. (k,)."""
        return self.columns.whole("nodes")

    @property
    def cells(self) -> tuple[np.ndarray, np.ndarray]:
        """Lower corners (m, 3) and edges (m,) of the cubes that hold the nodes' points (their cells, and the
        drift around them), in the scan's frame; kept, since files never change.
        """
        return _cells(self._table, tuple(map(float, self.low)), self.size, self.drift)

    @property
    def _table(self) -> str:
        """The file of the nodes."""
        return os.path.join(self.columns.folder, self.columns.pointers["nodes"][0])

    @property
    def in_order(self) -> tuple[np.ndarray, np.ndarray]:
        """Where each node that has points begins, in the order of the points, and its level; kept, since
        files never change. Both (k,).
        """
        return _in_order(self._table)

    def sample(self, most: int) -> np.ndarray:
        """Indices (sorted) of about ``most`` points that cover the scan evenly: its coarsest nodes. (n,)."""
        nodes = self.nodes
        upto = max(int(np.searchsorted(np.cumsum(nodes["count"]), most, side="right")), 1)
        return octree.members(nodes[:upto])

    def even(
        self, low: np.ndarray, high: np.ndarray, pose: np.ndarray, spacing: float
    ) -> list[tuple[int, int, np.ndarray]]:
        """The points of a box of the frame that ``pose`` maps to, no denser than they need be to leave no gap
        wider than ``spacing`` (m) where there are points.

        Whole nodes as stretches (start, stop, weight (stop - start,) f32): how many points of the cloud each
        of them stands for.
        """
        nodes = self.nodes
        last = nodes["spacing"] <= spacing
        chosen = (
            self.touched(low, high, pose)[0]
            & (nodes["count"] > 0)
            & ((nodes["level"] == 0) | (2 * nodes["spacing"] > spacing))
        )
        weight = np.where(last, _below(self._table) / np.maximum(nodes["count"], 1), 1.0).astype(np.float32)
        rank = np.flatnonzero(chosen)[np.argsort(nodes["start"][chosen])]
        start, count = nodes["start"][rank], nodes["count"][rank]
        breaks = np.flatnonzero(start[1:] != start[:-1] + count[:-1]) + 1
        return [
            (
                int(start[part[0]]),
                int(start[part[-1]] + count[part[-1]]),
                np.repeat(weight[rank[part]], count[part]),
            )
            for part in np.split(np.arange(len(rank)), breaks)
            if len(part)
        ]

    def no_denser(self, spacing: float) -> np.ndarray:
        """Mask of the nodes whose points are no denser than ``spacing`` (m), the coarsest always among them.
        Mask (k,).
        """
        return (self.nodes["level"] == 0) | (self.nodes["spacing"] >= spacing)

    def touched(
        self, low: list[float] | np.ndarray, high: list[float] | np.ndarray, pose: np.ndarray | None = None
    ) -> tuple[np.ndarray, np.ndarray]:
        """Which nodes may hold points of an axis-aligned box of the frame that ``pose`` maps to, and which of
        them lie wholly inside it (masks). Masks (k,), ``pose`` (4, 4).
        """
        pose = np.ascontiguousarray(np.eye(4) if pose is None else pose, float)
        low_corner = tuple(map(float, self.low))
        lows, highs = _extents(self._table, low_corner, self.size, self.drift, pose.tobytes())
        low, high = np.broadcast_to(low, 3), np.broadcast_to(high, 3)
        meets = [(lows[a] <= high[a]) & (highs[a] >= low[a]) for a in range(3)]
        within = [(lows[a] >= low[a]) & (highs[a] <= high[a]) for a in range(3)]
        return meets[0] & meets[1] & meets[2], within[0] & within[1] & within[2]

    def inside(
        self,
        low: list[float] | np.ndarray,
        high: list[float] | np.ndarray,
        pose: np.ndarray | None = None,
        spacing: float = 0.0,
    ) -> np.ndarray:
        """Indices (sorted) of the points in an axis-aligned box of the frame that ``pose`` maps to (the
        scan's own by default); with ``spacing`` (m) only of nodes no denser than that. ``pose`` (4, 4),
        indices (n,).
        """
        pose = np.eye(4) if pose is None else pose
        meets, within = self.touched(low, high, pose)
        if spacing:
            meets &= self.no_denser(spacing)
        nodes, ends = self.nodes, self.columns.ends
        chosen = np.flatnonzero(meets & (nodes["count"] > 0))
        rank = chosen[np.argsort(nodes["start"][chosen])]
        start, whole = nodes["start"][rank].astype(np.int64), within[rank]
        stop, block = start + nodes["count"][rank], np.searchsorted(ends, start, side="right")
        found, low, high = [np.zeros(0, np.int64)], np.broadcast_to(low, 3), np.broadcast_to(high, 3)
        for number in np.unique(block):
            mine, base = block == number, int(ends[number - 1]) if number else 0
            found.append(
                boxed.inside(
                    self.columns.block("position", int(number)),
                    start[mine] - base,
                    stop[mine] - base,
                    whole[mine],
                    self.scale,
                    self.offset,
                    pose,
                    low,
                    high,
                    base,
                )
            )
        return np.concatenate(found)

    def in_ball(self, centre: np.ndarray, radius: float) -> np.ndarray:
        """Indices (sorted) of the points within ``radius`` (m) of a centre (scan's frame). ``centre`` (3,),
        indices (n,).
        """
        corner, edge = self.cells
        to = np.abs(corner + edge[:, None] / 2 - centre)
        half = edge[:, None] / 2
        near, far = np.linalg.norm(np.maximum(to - half, 0), axis=1), np.linalg.norm(to + half, axis=1)
        return self._gathered(
            near <= radius,
            far <= radius,
            lambda start, stop: ((self.xyz(start, stop) - centre) ** 2).sum(1) <= radius**2,
        )

    def in_planes(self, planes: np.ndarray) -> np.ndarray:
        """Indices (sorted) of the points on the inner side of every plane (k, 4): a·x + b·y + c·z + d ≥ 0,
        such as the six of a view's frustum (scan's frame).
        """
        planes = np.atleast_2d(np.asarray(planes, float))
        corner, edge = self.cells
        middle = (corner + edge[:, None] / 2) @ planes[:, :3].T + planes[:, 3]
        reach = edge[:, None] / 2 * np.abs(planes[:, :3]).sum(1)
        return self._gathered(
            (middle + reach >= 0).all(1),
            (middle - reach >= 0).all(1),
            lambda start, stop: (self.xyz(start, stop) @ planes[:, :3].T + planes[:, 3] >= 0).all(1),
        )

    def _gathered(self, meets: np.ndarray, within: np.ndarray, mask: Callable[..., Any]) -> np.ndarray:
        """Indices (sorted) of all points of the nodes wholly within, and of those of the others met that
        ``mask(start, stop)`` lets through.
        """
        found = [np.zeros(0, np.int64)]
        for node, whole in zip(self.nodes[meets], within[meets]):
            start, stop = int(node["start"]), int(node["start"] + node["count"])
            found.append(np.arange(start, stop) if whole else start + np.flatnonzero(mask(start, stop)))
        return np.sort(np.concatenate(found))

    def along_ray(
        self, origin: np.ndarray, direction: np.ndarray
    ) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """How far along a ray (scan's frame, unit ``direction``) the middle of each node's cell lies, how far
        off it, and half of the cell's diagonal.
        """
        corner, edge = self.cells
        to = corner + edge[:, None] / 2 - origin
        t = to @ direction
        return t, np.sqrt(np.maximum(np.einsum("ij,ij->i", to, to) - t**2, 0)), edge * np.sqrt(3) / 2

    def nearest_to_ray(
        self,
        origin: np.ndarray,
        direction: np.ndarray,
        slope: float,
        width: float,
        allowed: Callable[..., Any],
        cells: tuple[np.ndarray, np.ndarray, np.ndarray] | None = None,
    ) -> tuple[int, float] | None:
        """The point that a pick means: within a cone about a ray (scan's frame, unit ``direction``), the
        first one along it.

        At distance t the cone has the radius ``width`` + ``slope`` · t (m).  ``allowed(start, stop)`` masks
        what may be picked.  Of the points inside, those not much farther than the first are compared by their
        distance from the axis, in units of the radius.  ``cells`` is what ``along_ray`` gave, for several
        cones about one ray.  Returns (index, t) or None.
        """
        nodes = self.nodes
        t, off, half = cells or self.along_ray(origin, direction)
        meets = (t + half > 0) & (off - half <= width + slope * np.maximum(t + half, 0))
        best, nearest = None, np.inf
        for k in np.flatnonzero(meets)[np.argsort((t - half)[meets])]:
            if t[k] - half[k] > nearest:
                break
            start, stop = int(nodes[k]["start"]), int(nodes[k]["start"] + nodes[k]["count"])
            index, along, away = boxed.in_cone(
                self.read("position", start, stop), self.scale, self.offset, origin, direction, width, slope
            )
            good = allowed(start, stop)[index] if len(index) else []
            for i, t_, d in zip(index[good], along[good], away[good]):
                score = t_ + d * 4
                if best is None or score < best[2]:
                    best = (start + int(i), float(t_), float(score))
                    nearest = best[2]
        return None if best is None else best[:2]

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """Lowest and highest coordinates in the scan's frame. Both (3,), m."""
        return np.asarray(self.record["bounds"][0]), np.asarray(self.record["bounds"][1])
