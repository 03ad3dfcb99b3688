"""Specks: small clusters of points with nothing around them (dust, rain, drips, birds).

Points are put into cells whose size grows with the range as the spacing of the points does; cells that touch
(by a face, an edge or a corner) belong to one cluster.
"""

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

NEAREST = 0.05  # m: nothing is measured nearer
HALF = [(a, b, c) for a in (-1, 0, 1) for b in (-1, 0, 1) for c in (-1, 0, 1) if (a, b, c) > (0, 0, 0)]
BITS = 21


def spherical(xyz: np.ndarray, step: float) -> np.ndarray:
    """(n, 3) cells of points (m, seen from the origin): azimuth, elevation and the logarithm of the range, in
    steps of ``step`` (rad, and as a share of the range).
    """
    r = np.maximum(np.linalg.norm(xyz, axis=1), NEAREST)
    up = np.arcsin(np.clip(xyz[:, 2] / r, -1, 1))
    turn = np.arctan2(xyz[:, 1], xyz[:, 0]) * np.cos(up)  # so that cells are as wide near the zenith
    return np.floor(np.stack([turn + np.pi, up + np.pi / 2, np.log(r / NEAREST) / 2], 1) / step).astype(
        np.int64
    )


def plain(xyz: np.ndarray, step: float, low: np.ndarray) -> np.ndarray:
    """(n, 3) cells of edge ``step`` (m) counted from ``low``."""
    return np.floor((xyz - low) / step).astype(np.int64)


def cells_of(code: np.ndarray) -> np.ndarray:
    """The cells (n, 3) of codes."""
    mask = (1 << BITS) - 1
    return np.stack([code >> (2 * BITS), (code >> BITS) & mask, code & mask], 1) - 1


def rim(code: np.ndarray) -> np.ndarray:
    """Codes of the cells that touch some, sorted, without those themselves."""
    steps = np.array([(a << (2 * BITS)) + (b << BITS) + c for a, b, c in HALF])
    return np.setdiff1d(np.concatenate([code[:, None] + steps, code[:, None] - steps], 1), code)


def codes(cells: np.ndarray) -> np.ndarray:
    """One number (n,) int64 a cell; cells are moved by one so that neighbours of the first have one too."""
    cells = np.clip(cells + 1, 0, (1 << BITS) - 2)
    return (cells[:, 0] << (2 * BITS)) | (cells[:, 1] << BITS) | cells[:, 2]


def clusters(code: np.ndarray) -> np.ndarray:
    """The cluster (m,) of each of some distinct cells (m,) sorted codes."""
    edges = []
    for a, b, c in HALF:
        other = code + ((a << (2 * BITS)) + (b << BITS) + c)
        at = np.searchsorted(code, other)
        at[at == len(code)] = 0
        met = np.flatnonzero(code[at] == other)
        edges.append(np.stack([met, at[met]]))
    pairs = np.concatenate(edges, axis=1)
    graph = coo_matrix((np.ones(pairs.shape[1], bool), (pairs[0], pairs[1])), shape=(len(code), len(code)))
    return connected_components(graph, directed=False)[1]


def small(
    code: np.ndarray, count: np.ndarray, low: np.ndarray, high: np.ndarray, fewest: float, smallest: float
) -> np.ndarray:
    """Mask of the cells (sorted codes, points in each, their bounds (m, 3)) whose cluster has fewer than
    ``fewest`` points or is smaller across than ``smallest`` (m).
    """
    if not len(code):
        return np.zeros(0, bool)
    cluster = clusters(code)
    most = cluster.max() + 1
    points = np.bincount(cluster, count, most)
    lowest, highest = np.full((most, 3), np.inf), np.full((most, 3), -np.inf)
    np.minimum.at(lowest, cluster, low)
    np.maximum.at(highest, cluster, high)
    across = np.linalg.norm(highest - lowest, axis=1)
    return ((points < fewest) | (across < smallest))[cluster]
