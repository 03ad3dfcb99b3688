"""Points inside an outline that was drawn on a view."""

import numpy as np
from numba import njit, prange


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
