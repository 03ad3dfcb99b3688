"""Heights of a surface of triangles by place."""

import numpy as np
from numba import njit

LEAST, MOST = 8, 2048  # cells to a side of the grid that triangles are looked up in


@njit(cache=True, nogil=True)
def _heights(
    xy: np.ndarray,
    corners: np.ndarray,
    first: np.ndarray,
    members: np.ndarray,
    low: np.ndarray,
    cell: float,
    columns: int,
    rows: int,
    out: np.ndarray,
):
    for i in range(len(xy)):
        c, r = int((xy[i, 0] - low[0]) / cell), int((xy[i, 1] - low[1]) / cell)
        if c < 0 or r < 0 or c >= columns or r >= rows:
            continue
        k = r * columns + c
        for m in range(first[k], first[k + 1]):
            t = corners[members[m]]
            ax, ay, bx, by = t[1, 0] - t[0, 0], t[1, 1] - t[0, 1], t[2, 0] - t[0, 0], t[2, 1] - t[0, 1]
            twice = ax * by - ay * bx
            if twice == 0:
                continue
            px, py = xy[i, 0] - t[0, 0], xy[i, 1] - t[0, 1]
            u, v = (px * by - py * bx) / twice, (ax * py - ay * px) / twice
            if u >= -1e-9 and v >= -1e-9 and u + v <= 1 + 1e-9:
                out[i] = t[0, 2] + u * (t[1, 2] - t[0, 2]) + v * (t[2, 2] - t[0, 2])
                break


def heights(xy: np.ndarray, vertices: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """Height (n,) of a surface (vertices (m, 3), triangles (k, 3)) at places (n, 2); NaN beside it.  Where
    triangles lie over each other it is that of any.
    """
    corners = np.ascontiguousarray(vertices[triangles], float)
    low, high = corners[..., :2].min((0, 1)), corners[..., :2].max((0, 1))
    side = int(np.clip(np.sqrt(len(corners)), LEAST, MOST))
    cell = float(max((high - low).max() / side, 1e-9))
    columns, rows = (int(v) + 1 for v in (high - low) / cell)
    a = np.floor((corners[..., :2].min(1) - low) / cell).astype(int)
    b = np.floor((corners[..., :2].max(1) - low) / cell).astype(int)
    wide = b - a + 1
    many = wide.prod(1)
    owner = np.repeat(np.arange(len(corners)), many)
    within = np.arange(many.sum()) - np.repeat(np.cumsum(many) - many, many)
    cells = (a[owner, 1] + within // wide[owner, 0]) * columns + a[owner, 0] + within % wide[owner, 0]
    order = np.argsort(cells, kind="stable")
    first = np.searchsorted(cells[order], np.arange(rows * columns + 1))
    out = np.full(len(xy), np.nan)
    _heights(np.ascontiguousarray(xy, float), corners, first, owner[order], low, cell, columns, rows, out)
    return out
