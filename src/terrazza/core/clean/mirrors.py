"""Mirrors, windows and water: planes behind which a scan saw images of what stands before them.

A plane is thought to be a mirror where points that a scan saw through a stretch of it, thrown back over it,
fall upon what other looks (or the same) saw, far more often than with the plane moved a little; where nothing
but images is seen, all that lies behind that stretch is one.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy import ndimage

from terrazza.core.geometry import planes

CELL = 0.05  # m: of the stretches of a plane
BEHIND, BEHIND_PER_M = 0.08, 0.01  # m, and per m of range: how far beyond a plane is behind it
ON = 0.025  # m: what is this near to a plane lies on it
FLAT = 0.0025  # of the curvature of what is a surface
CANDIDATES = 24  # planes of a scan that are looked at, the largest first
STEPS = np.arange(-0.20, 0.2001, 0.01)  # m: how far before or behind a wall a mirror may hang
BESIDE = (-0.37, -0.23, 0.23, 0.37)  # m: places that tell how often points fall on something by chance
LEAST = 60  # judged points of a stretch
IMAGES, PURE = 0.12, 0.65  # share of a stretch's judged points that fall on something, at least; of a mirror
THROUGH = 0.03  # of what is seen through a stretch that others confirm, or that lies on it: then it is glass
CHANCE = 4.0  # as many times more fall on something there alone as elsewhere alone
SMALLEST = 0.04  # m² of a stretch


@dataclass(frozen=True)
class Mirror:
    """A stretch of a plane (scan's frame): ``normal`` (3,) towards the scanner and ``distance`` with normal ·
    p = distance; cells (m, 2) of edge ``CELL`` in the directions of ``planes.along``; ``pure``: nothing is
    seen through it.
    """

    normal: np.ndarray
    distance: float
    cells: frozenset[Any]
    pure: bool
    share: float

    def seen_from(self, pose: np.ndarray) -> "Mirror":
        """The stretch in another frame, to which ``pose`` (4×4) brings it, its normal towards the origin
        there and its cells one wider all around.
        """
        u, v = planes.along(self.normal)
        cells = (np.array(sorted(self.cells), float) + 0.5) * CELL
        at = cells[:, :1] * u + cells[:, 1:] * v + self.distance * self.normal
        at = at @ pose[:3, :3].T + pose[:3, 3]
        normal = pose[:3, :3] @ self.normal
        distance = float(np.mean(at @ normal))
        if distance > 0:
            normal, distance = -normal, -distance
        u, v = planes.along(normal)
        places = np.floor(np.stack([at @ u, at @ v], 1) / CELL).astype(int)
        return Mirror(normal, distance, _grown(places), self.pure, self.share)

    def crossed(self, eye: np.ndarray, xyz: np.ndarray) -> np.ndarray:
        """Mask of the points (n, 3) that an eye (3,) sees through this stretch (all in the same frame)."""
        before = float(self.normal @ eye) - self.distance
        behind = xyz @ self.normal - self.distance
        with np.errstate(divide="ignore", invalid="ignore"):
            share = before / (before - behind)
        met = (before * behind < 0) & np.isfinite(share)
        u, v = planes.along(self.normal)
        at = eye + np.where(met, share, 0)[:, None] * (xyz - eye)
        places = np.floor(np.stack([at @ u, at @ v], 1) / CELL).astype(np.int64)
        inside = np.isin(_code(places), np.fromiter((_one(c) for c in self.cells), np.int64, len(self.cells)))
        return met & inside


def _code(cells: np.ndarray) -> np.ndarray:
    return (cells[:, 0] + (1 << 30)) * (1 << 31) + cells[:, 1] + (1 << 30)


def _one(cell: tuple[int, int]) -> int:
    return int((cell[0] + (1 << 30)) * (1 << 31) + cell[1] + (1 << 30))


def reflected(xyz: np.ndarray, normal: np.ndarray, distance: float) -> np.ndarray:
    """Points (n, 3) thrown back over a plane."""
    return xyz - 2 * (xyz @ normal - distance)[:, None] * normal


def candidates(xyz: np.ndarray, normals: np.ndarray) -> list[tuple[np.ndarray, float]]:
    """Planes (normal towards the origin, distance) that most of (n, 3) points with their normals lie on, by
    votes; the largest first.
    """
    found, weight = [], np.linalg.norm(xyz, axis=1) ** 2  # far surfaces have fewer points for their area
    left = np.ones(len(xyz), bool)
    for _ in range(CANDIDATES):
        if left.sum() < 200:
            break
        keys = np.c_[np.round(normals[left] / 0.06), np.round((normals[left] * xyz[left]).sum(1) / 0.1)]
        _, back = np.unique(keys.astype(int), axis=0, return_inverse=True)
        votes = np.bincount(back.ravel(), weight[left])
        mine = np.flatnonzero(left)[back.ravel() == votes.argmax()]
        if len(mine) < 50:
            break
        normal = np.median(normals[mine], 0)
        normal /= np.linalg.norm(normal)
        for _ in range(3):
            distance = float(np.median(xyz[mine] @ normal))
            near = left & (np.abs(xyz @ normal - distance) < ON) & (normals @ normal > 0.95)
            if near.sum() < 50:
                break
            mine = np.flatnonzero(near)
            fitted = planes.fit(xyz[mine])
            normal = fitted.normal * np.sign(-fitted.distance or 1)
            distance = float(np.median(xyz[mine] @ normal))
        found.append((normal, distance))
        taken = left & (np.abs(xyz @ normal - distance) < 3 * ON) & (normals @ normal > 0.9)
        left &= ~taken
        if not taken.any():
            break
    return found


def stretches(
    xyz: np.ndarray, facing: np.ndarray, normal: np.ndarray, distance: float
) -> list[tuple[Any, ...]]:
    """Parts of a plane through which a scanner at the origin saw points (n, 3) that lie behind it: connected
    cells that the plane's own surface lies around, and how many lie on it for each that is seen through.
    ``facing`` (n, 3) are normals, 0 where there is none.
    """
    along = xyz @ normal
    r = np.linalg.norm(xyz, axis=1)
    behind = along < distance - (BEHIND + BEHIND_PER_M * r)
    on = (np.abs(along - distance) < ON) & (facing @ normal > 0.9)
    if behind.sum() < LEAST:
        return []
    u, v = planes.along(normal)
    at = xyz * (distance / np.where(behind | on, along, 1.0))[:, None]
    cells = np.floor(np.stack([at @ u, at @ v], 1) / CELL).astype(np.int64)
    near = np.abs(cells).max(1) < 600  # within 30 m of where the plane is nearest
    low = np.array([-600, -600])
    through, solid = np.zeros((1200, 1200), np.int32), np.zeros((1200, 1200), np.int32)
    for mask, into in ((behind & near, through), (on & near, solid)):
        np.add.at(into, tuple((cells[mask] - low).T), 1)
    open_ = ndimage.binary_closing(through > 0, np.ones((3, 3)))
    labels, _ = ndimage.label(open_, np.ones((3, 3)))
    out = []
    for label, where in enumerate(ndimage.find_objects(labels), 1):
        grown = tuple(slice(max(w.start - 3, 0), w.stop + 3) for w in where)
        mine = labels[grown] == label
        if mine.sum() * CELL**2 < SMALLEST:
            continue
        ring = ndimage.binary_dilation(mine, np.ones((3, 3)), 3) & ~mine
        if not ring.any() or (ndimage.binary_dilation(solid[grown] > 0) & ring).sum() < 0.3 * ring.sum():
            continue
        places = np.argwhere(mine) + [w.start for w in grown] + low
        glass = solid[grown][ndimage.binary_erosion(mine)].sum() / max(through[grown][mine].sum(), 1)
        out.append((frozenset(map(tuple, places.tolist())), float(glass)))
    return out


def mirrors(
    xyz: np.ndarray, seen: Callable[..., tuple[np.ndarray, np.ndarray]], many: int = 4000
) -> list[Mirror]:
    """Mirrors among the planes of a scan (points (n, 3) of an even sample, scanner at the origin).

    ``seen(points)`` tells of points (m, 3) of the scan's frame how many looks confirm and how many contradict
    that something is there, with a mirror only of other scans that see it otherwise than through that.
    """
    found = []
    normals, shape = planes.local_planes(xyz, 12)
    flat = shape[:, 0] < FLAT * shape.sum(1)
    facing = np.where(flat[:, None], normals, 0.0)
    for normal, distance in candidates(xyz[flat], normals[flat]):
        if distance > -0.3:  # the normal looks at the scanner, so what is before it is negative
            continue
        for cells, glass in stretches(xyz, facing, normal, distance):
            stretch = Mirror(normal, distance, cells, False, 0.0)
            mine = xyz[stretch.crossed(np.zeros(3), xyz)]
            mine = mine[mine @ normal < distance - BEHIND]
            if len(mine) > many:
                mine = mine[:: len(mine) // many + 1]
            if len(mine) < LEAST:
                continue
            step, share = _placed(mine, normal, distance, seen)
            if step is not None:
                moved = _moved(cells, normal, distance, distance + step)
                truly = (seen(mine, stretch)[0] > 0).mean()
                pure = share >= PURE and truly < THROUGH and glass < THROUGH
                found.append(Mirror(normal, distance + step, moved, pure, share))
    return found


def _placed(
    xyz: np.ndarray, normal: np.ndarray, distance: float, seen: Callable[..., Any]
) -> tuple[float | None, float]:
    """Where beside a plane the mirror hangs, and which share of the judged points (n, 3) falls on something
    thrown back over it; None where they do so by chance.

    Floors and walls that go on behind the glass stay themselves wherever the plane is, so what counts are
    points that fall on something at one place of the plane alone.
    """
    looks = [_fall(xyz, normal, distance + step, seen) for step in STEPS]
    best = int(np.argmax([on.sum() - off.sum() for on, off in looks]))
    on, off = looks[best]
    share = float(on.sum() / max((on | off).sum(), 1))
    gained = lost = 0
    for beside in BESIDE:
        other, _ = _fall(xyz, normal, distance + STEPS[best] + beside, seen)
        gained, lost = gained + int((on & ~other).sum()), lost + int((other & ~on).sum())
    enough = (on | off).sum() >= LEAST and share >= IMAGES
    sure = gained >= LEAST and gained >= CHANCE * lost
    return (float(STEPS[best]) if enough and sure else None), share


def _moved(cells: frozenset[Any], normal: np.ndarray, distance: float, at: float) -> frozenset[Any]:
    """The stretch of a plane as it is seen from the origin on one beside it, a cell wider all around."""
    return _grown(np.floor(np.array(sorted(cells)) * (at / distance)).astype(int))


def _grown(places: np.ndarray) -> frozenset[Any]:
    """Cells (m, 2) and those around them."""
    steps = np.array([[a, b] for a in (-1, 0, 1) for b in (-1, 0, 1)])
    return frozenset(map(tuple, np.unique((places[:, None] + steps).reshape(-1, 2), axis=0).tolist()))


def _fall(
    xyz: np.ndarray, normal: np.ndarray, distance: float, seen: Callable[..., Any]
) -> tuple[np.ndarray, np.ndarray]:
    """Masks of the points that fall on something thrown back over a plane, and of those that fall where there
    is nothing.
    """
    confirmed, contradicted = seen(reflected(xyz, normal, distance))
    return confirmed > 0, (contradicted > 0) & (confirmed == 0)
