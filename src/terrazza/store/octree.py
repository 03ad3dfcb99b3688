"""Additive octree: every point lives in exactly one node; each node is an even sample of its cell.

A node of level l lays 32³ cells over its cube.  In every cell of every level one point is
champion: the one whose key, scrambled, is smallest, so that a champion of a coarse cell is also champion of
the finer ones around it.  A point's level is the coarsest at which it is champion, hence the
levels 0 to l together hold exactly one point per cell of level l, at a random place in it: any cut
through the tree looks even, and no grid shows.  A node with few points left takes them all.
"""

import numpy as np

DEPTH = 21
CELL_BITS = 5
FULL = 6000
DEEPEST = 14
NODE = np.dtype(
    [
        ("level", "u1"),
        ("x", "u4"),
        ("y", "u4"),
        ("z", "u4"),
        ("start", "i8"),
        ("count", "i8"),
        ("spacing", "f4"),
    ]
)


def nodes_of(level: np.ndarray, key: np.ndarray, count: np.ndarray, size: float) -> np.ndarray:
    """NODE records from levels, first keys and counts, with ``start`` as if their points followed one
    another. All (k,).
    """
    out = np.zeros(len(level), NODE)
    out["level"], out["count"] = level, count
    out["start"] = np.r_[0, np.cumsum(count)[:-1]] if len(level) else 0
    out["spacing"] = size / 2.0 ** out["level"] / 2**CELL_BITS
    for axis, name in enumerate("xyz"):
        whole = np.zeros(len(key), np.uint64)
        for bit in range(DEPTH):
            whole |= ((key >> np.uint64(3 * bit + axis)) & np.uint64(1)) << np.uint64(bit)
        out[name] = whole >> (DEPTH - out["level"].astype(np.uint64))
    return out


def boxes(nodes: np.ndarray, low: np.ndarray, size: float) -> tuple[np.ndarray, np.ndarray]:
    """Lower corners (m, 3) and edges (m,) of the nodes' cells, in the frame of ``low``."""
    edge = size / 2.0 ** nodes["level"]
    corner = np.stack([nodes["x"], nodes["y"], nodes["z"]], 1).astype(float) * edge[:, None] + low
    return corner, edge


def members(nodes: np.ndarray) -> np.ndarray:
    """Indices (sorted) of the points of some nodes. ``nodes`` (k,), indices (n,)."""
    nodes = np.sort(nodes[["start", "count"]], order="start")
    first = np.cumsum(nodes["count"]) - nodes["count"]
    return np.repeat(nodes["start"] - first, nodes["count"]) + np.arange(int(nodes["count"].sum()))


def parents(nodes: np.ndarray) -> np.ndarray:
    """Index (i32) of each node's parent in a table that lists coarse nodes first; −1 for the root. Both
    (k,).
    """
    packed = lambda n, up: (
        (n["level"].astype(np.uint64) - up << np.uint64(58))
        | (n["x"].astype(np.uint64) >> up)
        | (n["y"].astype(np.uint64) >> up) << np.uint64(19)
        | (n["z"].astype(np.uint64) >> up) << np.uint64(38)
    )
    own = packed(nodes, np.uint64(0))
    rank = np.argsort(own)
    out = np.full(len(nodes), -1, np.int32)
    below = np.flatnonzero(nodes["level"] > 0)
    out[below] = rank[np.searchsorted(own[rank], packed(nodes[below], np.uint64(1)))]
    return out


def below(nodes: np.ndarray) -> np.ndarray:
    """Points (i64) of each node and of all nodes under it, for a table that lists coarse nodes first. Both
    (k,).
    """
    total, up = nodes["count"].astype(np.int64), parents(nodes)
    for level in range(int(nodes["level"].max(initial=0)), 0, -1):
        own = np.flatnonzero(nodes["level"] == level)
        np.add.at(total, up[own], total[own])
    return total
