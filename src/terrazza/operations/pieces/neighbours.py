"""Mean distance to the nearest neighbours for every point of large scans, tile by tile over the fleet.

A tile is a node of a scan's octree whose subtree fits in memory.  Its points are measured against all points
in the tile and a margin; where a point's last neighbour lies farther than the margin reaches, it is measured
again against everything that could be nearer, so that the result is that of one search over all points.
Never are many more points in memory than a piece may hold.
"""

import os
from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.nearest import Nearest
from terrazza.core.progress import Progress
from terrazza.fleet import few
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.store import octree
from terrazza.store.cloud import Cloud

MARGIN = 6.0
LEAST = 0.001  # m, of a margin or a reach
NODES = 16  # times as many points as a piece may hold are looked through for those in a box


@dataclass(frozen=True)
class Tile:
    """Query points of one scan, in a cube of its own frame, and all clouds with their poses into the common
    frame; distances go into ``path`` (f4 by index).
    """

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
    """Cubes (low, high, points in the subtree, spacing of the points there) that part the scan into pieces of
    at most ``most`` points or so. Corners (3,), m.
    """
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
        first, last = place == 0, place == 2.0 ** int(node["level"]) - 1  # points may have drifted out there
        out.append(
            (
                place * edge + cloud.low - cloud.drift * first,
                (place + 1) * edge + cloud.low + cloud.drift * last,
                max(points, 1),
                float(edge / np.sqrt(max(points, 1))),
            )
        )
    return out


def _octant(node, o: int):
    """The cube of one of a node's eight octants."""
    out = node.copy()
    out["level"] += 1
    for bit, axis in enumerate("xyz"):
        out[axis] = 2 * node[axis] + (o >> bit & 1)
    return out


def crowd(clouds: list[Cloud], poses, low, high, spacing: float = 0.0) -> int:
    """How many points at most a box of the common frame holds, with ``spacing`` (m) of nodes no denser than
    that.
    """
    return sum(
        int(c.nodes["count"][c.touched(low, high, pose)[0] & c.no_denser(spacing)].sum())
        for c, pose in zip(clouds, poses)
    )


def within(clouds: list[Cloud], poses, low, high, spacing: float = 0.0) -> np.ndarray:
    """Kept points of all clouds in a box of the common frame, with ``spacing`` (m) only of nodes no denser
    than that. (n, 3) m.
    """
    return _points(clouds, poses, [c.inside(low, high, pose, spacing) for c, pose in zip(clouds, poses)])


def _points(clouds: list[Cloud], poses, indices: list[np.ndarray]) -> np.ndarray:
    """The kept ones of some points of each cloud, in the common frame."""
    kept = [c.kept_of(index) for c, index in zip(clouds, indices)]
    return np.concatenate([_moved(pose, c.at(index)) for c, pose, index in zip(clouds, poses, kept)])


def _moved(pose: np.ndarray, points: np.ndarray) -> np.ndarray:
    return points if np.array_equal(pose, np.eye(4)) else rigid.apply(pose, points)


def _mean(query: np.ndarray, data: np.ndarray, k: int) -> tuple[np.ndarray, np.ndarray]:
    """Mean of the distances to the ``k`` nearest others, and the farthest of them; infinite where there are
    fewer.
    """
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
    index = own.kept_of(index)
    if not len(index):
        return
    query = _moved(pose, own.at(index))
    low, high, margin = (
        np.array([query[:, a].min() for a in range(3)]),
        np.array([query[:, a].max() for a in range(3)]),
        tile.margin,
    )
    while (
        margin > LEAST and crowd(clouds, tile.poses, low - margin, high + margin) > tile.points + tile.at_once
    ):
        margin /= 2  # a few points beside many
    low, high = low - margin, high + margin
    data = within(clouds, tile.poses, low, high)
    mean, last = np.empty(len(query)), np.empty(len(query))
    tree, k = Nearest(data), tile.neighbours
    for start in range(0, len(query), 200_000):
        mean[start : start + 200_000], last[start : start + 200_000] = _others(
            tree, query[start : start + 200_000], k
        )
        progress.advance(min(start + 200_000, len(query)) / len(query) * tile.points, tile.points)
    loose = np.flatnonzero(((query - low < last[:, None]) | (high - query < last[:, None])).any(1))
    if len(loose):
        _again(clouds, tile, query, loose, mean, last)
    out[index] = mean
    out.flush()


def _again(clouds, tile, query, loose, mean, last):
    """Measure points again whose neighbours may lie beyond the margin: in groups of like reach and place.

    Where a group's surroundings are too many points for the memory, an even part of them says first how near
    the neighbours must be.
    """
    reach = np.minimum(last, max(c.size for c in clouds) * 2)
    while len(loose):
        edge = 2.0 ** np.ceil(np.log2(np.maximum(reach[loose], LEAST)))
        _, member = np.unique(
            np.c_[np.floor(query[loose] / (4 * edge[:, None])), edge], axis=0, return_inverse=True
        )
        member, nearer = member.ravel(), []
        for g in range(member.max() + 1):
            mine = loose[member == g]
            far = float(reach[mine].max())
            low, high = query[mine].min(0) - far, query[mine].max(0) + far
            if crowd(clouds, tile.poses, low, high) <= NODES * tile.at_once:
                there = [c.inside(low, high, pose) for c, pose in zip(clouds, tile.poses)]
                if sum(map(len, there)) <= tile.at_once:
                    mean[mine], last[mine] = _mean(
                        query[mine], _points(clouds, tile.poses, there), tile.neighbours
                    )
                    continue
            spacing = far
            while crowd(clouds, tile.poses, low, high, spacing / 2) <= tile.at_once:
                spacing /= 2
            _, bound = _mean(query[mine], within(clouds, tile.poses, low, high, spacing), tile.neighbours)
            shrunk = bound < 0.9 * reach[mine]
            reach[mine] = np.minimum(reach[mine], bound)
            nearer.append(mine[shrunk])
            for one in mine[~shrunk]:
                mean[[one]], last[[one]] = _mean(
                    query[[one]], _around(clouds, tile.poses, query[one], reach[one]), tile.neighbours
                )
        loose = np.concatenate(nearer) if nearer else loose[:0]


def _around(clouds: list[Cloud], poses, centre: np.ndarray, radius: float) -> np.ndarray:
    """Kept points of all clouds within ``radius`` (m) of a place of the common frame, the
    farthest included.
    """
    return _points(
        clouds,
        poses,
        [
            c.in_ball(rigid.apply(rigid.inverse(pose), centre[None])[0], radius * (1 + 1e-9) + 1e-9)
            for c, pose in zip(clouds, poses)
        ],
    )


def distances(job, scans, neighbours: int, over_all: bool, folder: str, progress: Progress) -> dict[int, str]:
    """Paths of files (f4 by point index, NaN where a point is cut) with the mean distance to ``neighbours``
    others, within each scan or over all of them.
    """
    paths, work = {}, []
    most = job.fleet.points_at_once // (
        len(scans) if over_all else 1
    )  # where a tile is full others may be as full
    for number, scan in enumerate(scans):
        cloud = job.cloud(scan.id)
        paths[scan.id] = os.path.join(folder, f"distance.{scan.id}.npy")
        np.lib.format.open_memmap(paths[scan.id], mode="w+", dtype="<f4", shape=(cloud.count,))[:] = np.nan
        pieces = tuple(CloudPiece.of(job, s) for s in (scans if over_all else [scan]))
        poses = tuple(s.pose if over_all else np.eye(4) for s in (scans if over_all else [scan]))
        for low, high, points, spacing in tiles(cloud, most):
            work.append(
                Tile(
                    number if over_all else 0,
                    pieces,
                    poses,
                    low,
                    high,
                    points,
                    MARGIN * spacing,
                    neighbours,
                    job.fleet.points_at_once,
                    paths[scan.id],
                )
            )
    work.sort(key=lambda w: -w.points)  # so that none is left with a large one when the others have finished
    job.fleet.map(
        measure,
        work,
        [w.points for w in work],
        progress,
        "Measuring neighbours",
        light=few([w.points for w in work]),
    )
    return paths
