"""Points inside an outline that was drawn on a view."""

from dataclasses import dataclass

import numpy as np
from numba import njit, prange
from scipy import ndimage

from terrazza.core.geometry import rigid

PIXELS = 500  # of the screen, to either side, in which what is nearest hides what is behind
AROUND = 1600  # of them all around a station
HIDDEN, HIDDEN_LEAST = 0.02, 0.05  # share of the depth, and m, behind the nearest that is still seen


@njit(cache=True, parallel=True, nogil=True)
def _inside(xy: np.ndarray, polygon: np.ndarray, out: np.ndarray):
    n = len(polygon)
    for i in prange(len(xy)):
        x, y = xy[i, 0], xy[i, 1]
        odd = False
        j = n - 1
        for k in range(n):
            if (polygon[k, 1] > y) != (polygon[j, 1] > y) and x < (polygon[j, 0] - polygon[k, 0]) * (
                y - polygon[k, 1]
            ) / (polygon[j, 1] - polygon[k, 1]) + polygon[k, 0]:
                odd = not odd
            j = k
        out[i] = odd


def inside(xy: np.ndarray, polygon: np.ndarray) -> np.ndarray:
    """Mask of (n, 2) points inside a closed (m, 2) polygon (even-odd rule)."""
    out = np.zeros(len(xy), np.bool_)
    _inside(np.ascontiguousarray(xy, dtype=np.float64), np.ascontiguousarray(polygon, dtype=np.float64), out)
    return out


@dataclass(frozen=True)
class Area:
    """What stands over and under an area in plan: its corners (m, 2)."""

    corners: np.ndarray

    def holds(self, xyz: np.ndarray) -> np.ndarray:
        """Mask of points (n, 3)."""
        return inside(xyz[:, :2], self.corners)


@dataclass(frozen=True)
class Heights:
    """What lies between two heights (m)."""

    low: float
    high: float

    def holds(self, xyz: np.ndarray) -> np.ndarray:
        """Mask of points (n, 3)."""
        return (xyz[:, 2] >= self.low) & (xyz[:, 2] <= self.high)


def project(xyz: np.ndarray, view: np.ndarray, around: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """Screen coordinates (n, 2), in −1 to 1, and the mask of points before the eye, for a 4×4
    view-projection.

    With ``around`` the view is a pose of an eye that looks all around, and the screen its azimuth (from −π to
    π, counter-clockwise from its x axis) and elevation (from −π/2 to π/2).
    """
    if around:
        own = rigid.apply(view, xyz)
        flat = np.hypot(own[:, 0], own[:, 1])
        azimuth, elevation = np.arctan2(own[:, 1], own[:, 0]), np.arctan2(own[:, 2], flat)
        return np.stack([azimuth / np.pi, elevation / (np.pi / 2)], 1), np.ones(len(xyz), bool)
    h = xyz @ view[:3, :3].T + view[:3, 3]
    w = xyz @ view[3, :3] + view[3, 3]
    front = w > 1e-9
    return h[:, :2] / np.where(front, w, 1.0)[:, None], front


def select(
    xyz: np.ndarray,
    view: np.ndarray,
    polygon: np.ndarray,
    slab: tuple[float, float] | None = None,
    outside: bool = False,
    around: bool = False,
    depth: tuple[float, float] | None = None,
) -> np.ndarray:
    """Mask of job points (n, 3) that an outline takes.

    ``view`` maps job coordinates to the screen, ``polygon`` (m, 2) is in its units; ``slab`` limits to
    heights from-to (m, job frame), ``depth`` to what lies between two values of the view's own third
    coordinate; with ``outside`` the rest of what is shown goes instead.
    """
    xy, front = project(xyz, view, around)
    taken = inside(xy, polygon) & front
    if outside:
        taken = ~taken
    if slab is not None:
        taken &= (xyz[:, 2] >= slab[0]) & (xyz[:, 2] <= slab[1])
    if depth is not None:
        z = (xyz @ view[2, :3] + view[2, 3]) / (xyz @ view[3, :3] + view[3, 3])
        taken &= (z >= depth[0]) & (z <= depth[1])
    return taken


def depths(xyz: np.ndarray, view: np.ndarray, around: bool = False) -> np.ndarray:
    """(PIXELS, PIXELS) f32, or AROUND of them: how far (in the view's own measure) the nearest of some job
    points (n, 3) is in each pixel of the screen, infinite where there is none.
    """
    side = AROUND if around else PIXELS
    out = np.full(side * side, np.inf, np.float32)
    pixel, depth = _pixels(xyz, view, around)
    order = np.argsort(-depth, kind="stable")
    order = order[pixel[order] >= 0]
    out[pixel[order]] = depth[order]
    return out.reshape(side, side)


def seen(xyz: np.ndarray, view: np.ndarray, nearest: np.ndarray, around: bool = False) -> np.ndarray:
    """Mask of the points (n, 3) that nothing hides, by the nearest depths of the screen's pixels and those
    around them.
    """
    least = ndimage.minimum_filter(nearest, 3).ravel()
    pixel, depth = _pixels(xyz, view, around)
    room = np.maximum(HIDDEN * np.abs(depth), HIDDEN_LEAST)
    return (pixel >= 0) & (depth <= least[np.maximum(pixel, 0)] + room)


def _pixels(xyz: np.ndarray, view: np.ndarray, around: bool) -> tuple[np.ndarray, np.ndarray]:
    """Pixel of the screen (n,), -1 outside, and depth: distance from the eye in perspective, else along the
    view.
    """
    xy, front = project(xyz, view, around)
    side = AROUND if around else PIXELS
    if around:
        depth = np.linalg.norm(rigid.apply(view, xyz), axis=1)
    elif np.abs(view[3, :3]).max() > 1e-9:
        depth = xyz @ view[3, :3] + view[3, 3]
    else:
        depth = (xyz @ view[2, :3] + view[2, 3]) / max(np.linalg.norm(view[2, :3]), 1e-12)
    place = np.floor((xy + 1) / 2 * side)
    inside = front & ((place >= 0) & (place < side)).all(1)
    place = np.where(inside[:, None], place, 0).astype(np.int64)
    return np.where(inside, place[:, 1] * side + place[:, 0], -1), depth.astype(np.float32)
