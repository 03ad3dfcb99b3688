"""Mean distance to the nearest neighbours for every point of large scans, tile by tile over the fleet.

A tile is a node of a scan's octree whose subtree fits in memory.  Its points are measured against all points in
the tile and a margin; where a point's last neighbour lies farther than the margin reaches, it is measured
again against everything that could be nearer, so that the result is that of one search over all points.
"""

import os
from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.nearest import Nearest
from terrazza.core.progress import Progress
from terrazza.fleet import few
from terrazza.operations.surfaces import CloudPiece
from terrazza.store import octree
from terrazza.store.cloud import Cloud

MARGIN = 6.0


@dataclass(frozen=True)
class Tile:
    """Query points of one scan, in a cube of its own frame, and all clouds with their poses into the common frame; distances go into ``path`` (f4 by index)."""

    own: int
    clouds: tuple[CloudPiece, ...]
    poses: tuple[np.ndarray, ...]
    low: np.ndarray
    high: np.ndarray
    points: int
    margin: float
    neighbours: int
    at_once: int
    path: str


def tiles(cloud: Cloud, most: int) -> list[tuple[np.ndarray, np.ndarray, int, float]]:
    """Cubes (low, high, points in the subtree, spacing of the points there) that part the scan into pieces of at most ``most`` points or so."""
    nodes = cloud.nodes
    up = octree.parents(nodes)
    total = nodes["count"].astype(np.int64).copy()
    for k in range(len(nodes) - 1, 0, -1):
        total[up[k]] += total[k]
    octant = (nodes["x"] & 1) + 2 * (nodes["y"] & 1) + 4 * (nodes["z"] & 1)
    large = total > most
    child = {(int(up[k]), int(octant[k])): int(k) for k in np.flatnonzero(np.r_[False, large[up[1:]]])}
    out, todo = [], [(0, nodes[0], int(total[0]))]
    while todo:
        k, node, points = todo.pop()
        if k >= 0 and large[k]:
            # octants without a node too: the nodes above may hold all of their points
            for o in range(8):
                c = child.get((k, o), -1)
                todo.append((c, _octant(node, o), int(total[c]) if c >= 0 else 0))
            continue
        edge = cloud.size / 2.0 ** int(node["level"])
        place = np.array([node["x"], node["y"], node["z"]], float)
        out.append((place * edge + cloud.low, (place + 1) * edge + cloud.low, max(points, 1), float(edge / np.sqrt(max(points, 1)))))
    return out


def _octant(node, o: int):
    """The cube of one of a node's eight octants."""
    out = node.copy()
    out["level"] += 1
    for bit, axis in enumerate("xyz"):
        out[axis] = 2 * node[axis] + (o >> bit & 1)
    return out


def _within(pieces: list[Cloud], poses, low, high) -> np.ndarray:
    """Kept points of all clouds in a box of the common frame."""
    parts = []
    for cloud, pose in zip(pieces, poses):
        index = cloud.inside(low, high, pose)
        if cloud.has("cut"):
            index = index[cloud.pick("cut", index) == 0]
        parts.append(rigid.apply(pose, cloud.at(index)))
    return np.concatenate(parts)


def _mean(query: np.ndarray, data: np.ndarray, k: int) -> tuple[np.ndarray, np.ndarray]:
    """Mean of the distances to the ``k`` nearest others, and the farthest of them; infinite where there are fewer."""
    return _others(Nearest(data), query, k)


def _others(tree: Nearest, query: np.ndarray, k: int) -> tuple[np.ndarray, np.ndarray]:
    found = tree.distances(query, k + 1)
    return found[:, 1:] @ np.full(k, 1 / k), found[:, -1]


def measure(tile: Tile, progress: Progress) -> None:
    """Measure the points of one tile and write their mean neighbour distances."""
    clouds = [c.open() for c in tile.clouds]
    own, pose = clouds[tile.own], tile.poses[tile.own]
    out = np.lib.format.open_memmap(tile.path, mode="r+")
    index = own.inside(tile.low, np.nextafter(tile.high, -np.inf))
    if own.has("cut"):
        index = index[own.pick("cut", index) == 0]
    if not len(index):
        return
    query = rigid.apply(pose, own.at(index))
    low, high = query.min(0) - tile.margin, query.max(0) + tile.margin
    data = _within(clouds, tile.poses, low, high)
    mean, last = np.empty(len(query)), np.empty(len(query))
    tree, k = Nearest(data), tile.neighbours
    for start in range(0, len(query), 200_000):
        mean[start : start + 200_000], last[start : start + 200_000] = _others(tree, query[start : start + 200_000], k)
        progress.advance(min(start + 200_000, len(query)) / len(query) * tile.points, tile.points)
    rim = np.minimum.reduce([np.minimum(query[:, a] - low[a], high[a] - query[:, a]) for a in range(3)])
    loose = np.flatnonzero(last > rim)
    if len(loose):
        _again(clouds, tile, query, loose, mean, last)
    out[index] = mean
    out.flush()


def _again(clouds, tile, query, loose, mean, last):
    """Measure points again whose neighbours may lie beyond the margin: in groups of like reach and place."""
    reach = np.minimum(last[loose], max(c.size for c in clouds) * 2)
    edge = 2.0 ** np.ceil(np.log2(np.maximum(reach, 1e-3)))
    group = np.c_[np.floor(query[loose] / (4 * edge[:, None])), edge]
    _, member = np.unique(group, axis=0, return_inverse=True)
    for g in range(member.max() + 1):
        mine = loose[member.ravel() == g]
        far = float(reach[member.ravel() == g].max())
        mean[mine], last[mine] = _mean(query[mine], _within(clouds, tile.poses, query[mine].min(0) - far, query[mine].max(0) + far), tile.neighbours)


def distances(job, scans, neighbours: int, over_all: bool, folder: str, progress: Progress) -> dict[int, str]:
    """Paths of files (f4 by point index, NaN where a point is cut) with the mean distance to ``neighbours`` others, within each scan or over all of them."""
    paths, work = {}, []
    for number, scan in enumerate(scans):
        cloud = job.cloud(scan.id)
        paths[scan.id] = os.path.join(folder, f"distance.{scan.id}.npy")
        np.lib.format.open_memmap(paths[scan.id], mode="w+", dtype="<f4", shape=(cloud.count,))[:] = np.nan
        pieces = tuple(CloudPiece.of(job, s) for s in (scans if over_all else [scan]))
        poses = tuple(s.pose if over_all else np.eye(4) for s in (scans if over_all else [scan]))
        for low, high, points, spacing in tiles(cloud, job.fleet.points_at_once):
            work.append(Tile(number if over_all else 0, pieces, poses, low, high, points, MARGIN * spacing, neighbours, job.fleet.points_at_once, paths[scan.id]))
    work.sort(key=lambda w: -w.points)  # so that none is left with a large one when the others have finished
    job.fleet.map(measure, work, [w.points for w in work], progress, "Measuring neighbours", light=few([w.points for w in work]))
    return paths
