"""Points inside an outline that was drawn on a view."""

import numpy as np
from numba import njit, prange
from scipy import ndimage

PIXELS = 500  # of the screen, to either side, in which what is nearest hides what is behind
HIDDEN, HIDDEN_LEAST = 0.02, 0.05  # share of the depth, and m, behind the nearest that is still seen


@njit(cache=True, parallel=True, nogil=True)
def _inside(xy, polygon, out):
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


def project(xyz: np.ndarray, view: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Screen coordinates (n, 2), in −1 to 1, and the mask of points before the eye, for a 4×4
    view-projection.
    """
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
) -> np.ndarray:
    """Mask of job points (n, 3) that an outline takes.

    ``view`` maps job coordinates to the screen, ``polygon`` (m, 2) is in its units; ``slab`` limits to
    heights from-to (m, job frame); with ``outside`` the rest of what is shown goes instead.
    """
    xy, front = project(xyz, view)
    taken = inside(xy, polygon) & front
    if outside:
        taken = ~taken
    if slab is not None:
        taken &= (xyz[:, 2] >= slab[0]) & (xyz[:, 2] <= slab[1])
    return taken


def depths(xyz: np.ndarray, view: np.ndarray) -> np.ndarray:
    """(PIXELS, PIXELS) f32: how far (in the view's own measure) the nearest of some job points (n, 3) is in
    each pixel of the screen, infinite where there is none.
    """
    out = np.full(PIXELS * PIXELS, np.inf, np.float32)
    pixel, depth = _pixels(xyz, view)
    order = np.argsort(-depth, kind="stable")
    order = order[pixel[order] >= 0]
    out[pixel[order]] = depth[order]
    return out.reshape(PIXELS, PIXELS)


def seen(xyz: np.ndarray, view: np.ndarray, nearest: np.ndarray) -> np.ndarray:
    """Mask of the points (n, 3) that nothing hides, by the nearest depths of the screen's pixels and those
    around them.
    """
    around = ndimage.minimum_filter(nearest, 3).ravel()
    pixel, depth = _pixels(xyz, view)
    room = np.maximum(HIDDEN * np.abs(depth), HIDDEN_LEAST)
    return (pixel >= 0) & (depth <= around[np.maximum(pixel, 0)] + room)


def _pixels(xyz: np.ndarray, view: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Pixel of the screen (n,), -1 outside, and depth: distance from the eye in perspective, else along the
    view.
    """
    xy, front = project(xyz, view)
    if np.abs(view[3, :3]).max() > 1e-9:
        depth = xyz @ view[3, :3] + view[3, 3]
    else:
        depth = (xyz @ view[2, :3] + view[2, 3]) / max(np.linalg.norm(view[2, :3]), 1e-12)
    place = np.floor((xy + 1) / 2 * PIXELS)
    inside = front & ((place >= 0) & (place < PIXELS)).all(1)
    place = np.where(inside[:, None], place, 0).astype(np.int64)
    return np.where(inside, place[:, 1] * PIXELS + place[:, 0], -1), depth.astype(np.float32)
