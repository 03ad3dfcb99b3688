"""What registration needs of a scan: an even sample of it with local planes, and a range picture of what it
saw.
"""

import weakref
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numba import njit
from scipy.spatial import cKDTree

from terrazza.core.geometry import planes, rigid, voxels
from terrazza.core.geometry.reach import Reach

if TYPE_CHECKING:
    from terrazza.core.register.plan_match import PlanShape


THIN = 0.06
FLAT_SHARE = 0.04
PIXEL = np.radians(1.0)


class Lately:
    """What was worked out lately for objects, of the last ``most`` of them, for as long as they live: maps
    are put together for one scan each.
    """

    def __init__(self, most: int):
        self.most, self._kept = most, OrderedDict()

    def of(self, owner: "PlanShape | Surface", make: Callable[..., Any]) -> Any:
        name = id(owner)
        kept = self._kept.get(name)
        if kept is None or kept[0]() is not owner:
            gone = weakref.ref(owner, lambda _: self._kept.pop(name, None))
            kept = self._kept[name] = gone, make()
        self._kept.move_to_end(name)
        while len(self._kept) > self.most:
            self._kept.popitem(last=False)
        return kept[1]


TREES, CELLS, FLATS = Lately(40), Lately(40), Lately(40)
NEAR = 0.2  # m: reach up to which points are looked for by cells
SOME = 5000  # queries from which a tree is asked by all processors


@dataclass
class Surface:
    """An evenly thinned scan in its own frame.

    ``xyz`` (n, 3) m; ``normals`` unit, towards the scanner; ``flat`` marks points whose neighbourhood is a
    plane; ``view`` is the range picture for free-space checks (none of several scans put together).
    """

    xyz: np.ndarray
    normals: np.ndarray
    flat: np.ndarray
    view: "View | None"
    spacing: float = THIN

    @property
    def tree(self) -> cKDTree:
        """Search tree over the flat points alone; kept of the last few surfaces only."""
        return TREES.of(self, lambda: cKDTree(self.flats[0], balanced_tree=False, compact_nodes=False))

    @property
    def flats(self) -> tuple[np.ndarray, np.ndarray]:
        """The flat points (m, 3) alone, and their normals; kept of the last few surfaces only."""
        return FLATS.of(self, lambda: (self.xyz[self.flat], self.normals[self.flat]))

    def nearest(self, query: np.ndarray, reach: float) -> tuple[np.ndarray, np.ndarray]:
        """Distances (m,) from queries (m, 3) to the nearest flat points within a ``reach`` (m), and which of
        the flat ones these are (m,); infinite and their number where there is none.
        """
        if reach <= NEAR:
            return CELLS.of(self, lambda: Reach(self.flats[0], NEAR)).nearest(query, reach)
        return self.tree.query(query, distance_upper_bound=reach, workers=-1 if len(query) > SOME else 1)


def prepare(xyz: np.ndarray, thin: float = THIN) -> Surface:
    """Thin a scan (n, 3, own frame) to one point a cell and find its local planes."""
    sample = np.ascontiguousarray(xyz[voxels.one_per_cell(xyz, thin)])
    normals, shape = planes.local_planes(sample, 14)
    flat = (
        (shape[:, 0] < FLAT_SHARE * shape[:, 1])
        & (shape[:, 1] > 0.08 * shape[:, 2])
        & (shape[:, 0] < 0.025**2)
    )
    return Surface(sample, normals, flat, View.of(xyz), thin)


# of so many flat points one is looked for, and how near it has to lie: m aside and off the plane, and the
# cosine of both normals
TOUCHING, ASIDE, OFF, ALONG = 4, 0.10, 0.03, 0.85


def touching(a: Surface, b: Surface, pose: np.ndarray) -> np.ndarray:
    """(n, 3) normals of a's surface, in its frame, where one of ``TOUCHING`` of b's points lies on it at
    ``pose`` (b to a, 4×4).
    """
    use = np.flatnonzero(b.flat)[::TOUCHING]
    if not len(use) or not a.flat.any():
        return np.zeros((0, 3))
    points, normals = rigid.apply(pose, b.xyz[use]), b.normals[use] @ pose[:3, :3].T
    gap, index = a.nearest(points, ASIDE)
    hit = np.isfinite(gap)
    base, facing = (of[index[hit]] for of in a.flats)
    on = np.abs(np.einsum("ij,ij->i", facing, points[hit] - base)) < OFF
    return facing[on & (np.einsum("ij,ij->i", facing, normals[hit]) > ALONG)]


@dataclass(frozen=True)
class View:
    """Nearest and farthest range (m) seen through each pixel of one degree; NaN where nothing came back."""

    near: np.ndarray
    far: np.ndarray

    @classmethod
    def of(cls, xyz: np.ndarray) -> "View":
        row, col, r = cls._pixel(xyz)
        shape = (int(round(np.pi / PIXEL)), int(round(2 * np.pi / PIXEL)))
        near, far = np.full(shape, np.inf), np.full(shape, -np.inf)
        np.minimum.at(near, (row, col), r)
        np.maximum.at(far, (row, col), r)
        wide_near, wide_far = near.copy(), far.copy()
        for dr in (-1, 0, 1):
            for dc in (
                -1,
                0,
                1,
            ):  # a pixel answers for its neighbours too: edges must not look like free space
                wide_near = np.minimum(wide_near, np.roll(np.roll(near, dr, 0), dc, 1))
                wide_far = np.maximum(wide_far, np.roll(np.roll(far, dr, 0), dc, 1))
        empty = ~np.isfinite(near)
        wide_near[empty], wide_far[empty] = np.nan, np.nan
        return cls(wide_near.astype(np.float32), wide_far.astype(np.float32))

    @staticmethod
    def _pixel(xyz: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        r = np.linalg.norm(xyz, axis=1)
        el = np.arcsin(np.clip(xyz[:, 2] / np.maximum(r, 1e-9), -1, 1))
        az = np.arctan2(xyz[:, 1], xyz[:, 0])
        row = np.clip(((el + np.pi / 2) / PIXEL).astype(int), 0, int(round(np.pi / PIXEL)) - 1)
        return row, ((az + np.pi) / PIXEL).astype(int) % int(round(2 * np.pi / PIXEL)), r

    def judge(self, xyz: np.ndarray, pose: np.ndarray, slack: float) -> tuple[int, int, int]:
        """Counts of foreign points (brought into this scan's frame by ``pose``) that agree with it,
        contradict its free space, and lie hidden. ``xyz`` (n, 3) m, ``pose`` (4, 4).
        """
        return _judge(xyz, pose, self.near, self.far, slack)


@njit(cache=True, nogil=True)
def _judge(xyz: np.ndarray, pose: np.ndarray, near: np.ndarray, far: np.ndarray, slack: float):
    agree, against, hidden = 0, 0, 0
    rows, columns = near.shape
    for i in range(len(xyz)):
        x = pose[0, 0] * xyz[i, 0] + pose[0, 1] * xyz[i, 1] + pose[0, 2] * xyz[i, 2] + pose[0, 3]
        y = pose[1, 0] * xyz[i, 0] + pose[1, 1] * xyz[i, 1] + pose[1, 2] * xyz[i, 2] + pose[1, 3]
        z = pose[2, 0] * xyz[i, 0] + pose[2, 1] * xyz[i, 1] + pose[2, 2] * xyz[i, 2] + pose[2, 3]
        r = np.sqrt(x * x + y * y + z * z)
        if r <= 0.5:
            continue
        row = min(max(int((np.arcsin(min(max(z / r, -1.0), 1.0)) + np.pi / 2) / PIXEL), 0), rows - 1)
        column = int((np.arctan2(y, x) + np.pi) / PIXEL) % columns
        low, high, room = near[row, column], far[row, column], slack + 0.01 * r
        if not np.isfinite(low):
            continue
        if r > low - room and r < high + room:
            agree += 1
        elif r >= high + room:
            hidden += 1
        if r < low - room - 0.15:
            against += 1
    return agree, against, hidden
