"""Thinning over several scans in bounded memory: tile by tile in plan, each tile knowing what its neighbours kept at their rims."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.later import later
from terrazza.store import octree
from terrazza.store.cloud import Cloud

voxels = later("terrazza.core.geometry.voxels")

TRIED, NODES_TRIED = 2_000_000, 1000


def to_number(indices, sizes: dict[int, int], wanted: int, total: int, folder: str) -> dict[int, str]:
    """Choose exactly ``wanted`` of ``total`` points, evenly along their order in space; ``indices`` yields (scan, sorted indices).

    Returns paths of masks (bool by point index) by scan.
    """
    masks, seen = _masks(sizes, folder), 0
    for scan, index in indices:
        rank = np.arange(seen, seen + len(index), dtype=np.int64)
        masks[scan][1][index[(rank + 1) * wanted // total > rank * wanted // total]] = True
        seen += len(index)
    return {scan: path for scan, (path, _) in masks.items()}


def _masks(sizes, folder):
    paths = {scan: os.path.join(folder, f"chosen.{scan}.npy") for scan in sizes}
    return {scan: (path, np.lib.format.open_memmap(path, mode="w+", dtype=bool, shape=(sizes[scan],))) for scan, path in paths.items()}


def thin(clouds: dict[int, Cloud], poses: dict[int, np.ndarray], allowed, spacing: float, cell: float, most: int, folder: str, progress: Progress = QUIET) -> dict[int, str]:
    """Thin the points of several clouds, in a common frame that ``poses`` map to, to a least ``spacing`` or to one in each ``cell`` (m).

    ``allowed(scan, indices)`` masks what may be taken.  Returns paths of masks (bool by point index) by scan.
    """
    masks = _masks({scan: cloud.count for scan, cloud in clouds.items()}, folder)
    tiles, rims = _tiles(clouds, poses, most, cell or spacing), []
    for n, (low, high) in enumerate(tiles):
        progress.advance(n, len(tiles), "Thinning")
        owner, index, xyz = _points(clouds, poses, allowed, low, high)
        keep = _thinned(xyz, spacing, cell, [points for a, b, points in rims if (a - spacing <= high[:2]).all() and (b + spacing >= low[:2]).all()])
        for scan in clouds:
            masks[scan][1][index[keep & (owner == scan)]] = True
        if spacing:
            kept = xyz[keep]
            rims.append((low[:2], high[:2], kept[((kept[:, :2] < low[:2] + spacing) | (kept[:, :2] > high[:2] - spacing)).any(1)]))
    return {scan: path for scan, (path, _) in masks.items()}


def likely(clouds, poses, allowed, spacing: float, cell: float, most: int) -> tuple[int, dict[int, np.ndarray]]:
    """About how many points thinning would keep, and some of them (sorted indices by scan), from tiles all over the job.

    In the tiles the points kept are set against the points that the tree holds down to the level whose cells are as large as
    the spacing: one a cell, so the ratio hardly differs from place to place; the tree's own numbers then carry it to the whole.
    """
    step = cell or spacing
    depth = {scan: int(np.ceil(np.log2(max(cloud.size / step, 1)))) - octree.CELL_BITS for scan, cloud in clouds.items()}
    tiles, rng = _tiles(clouds, poses, most // 8, step), np.random.default_rng(1)
    seen = coarse = kept = 0
    some: dict[int, list] = {scan: [] for scan in clouds}
    for k in rng.permutation(len(tiles)):
        (low, high), rim = tiles[k], 3 * spacing
        owner, index, xyz = _points(clouds, poses, allowed, low - rim, high + rim)
        inner = ((xyz[:, :2] >= low[:2]) & (xyz[:, :2] < high[:2])).all(1)
        keep = _thinned(xyz, spacing, cell, []) & inner
        for scan, cloud in clouds.items():
            mine = owner == scan
            coarse += int((_levels(cloud, index[mine & inner]) <= depth[scan]).sum())
            some[scan].append(index[keep & mine])
        seen, kept = seen + len(xyz), kept + int(keep.sum())
        if seen > TRIED:
            break
    whole = sum(_coarse(cloud, depth[scan], lambda index, scan=scan: allowed(scan, index), rng) for scan, cloud in clouds.items())
    return int(round(kept / max(coarse, 1) * whole)), {scan: np.sort(np.concatenate(parts)) for scan, parts in some.items() if parts}


def _levels(cloud: Cloud, index: np.ndarray) -> np.ndarray:
    """Levels of the nodes that points belong to."""
    filled = cloud.nodes[cloud.nodes["count"] > 0]
    rank = np.argsort(filled["start"])
    return filled["level"][rank][np.searchsorted(filled["start"][rank], index, side="right") - 1]


def _coarse(cloud: Cloud, depth: int, allowed, rng) -> float:
    """How many allowed points a tree holds down to a level: its own numbers times the share that is allowed in some of the nodes."""
    nodes = cloud.nodes[cloud.nodes["level"] <= depth]
    some = nodes[rng.permutation(len(nodes))[:NODES_TRIED]]
    good = sum(int(allowed(np.arange(n["start"], n["start"] + n["count"])).sum()) for n in some)
    return float(nodes["count"].sum()) * good / max(int(some["count"].sum()), 1)


def _points(clouds, poses, allowed, low, high):
    owners, indices, places = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)], [np.zeros((0, 3))]
    for scan, cloud in clouds.items():
        index = cloud.inside(low, np.nextafter(high, -np.inf), poses[scan])
        index = index[allowed(scan, index)]
        owners.append(np.full(len(index), scan))
        indices.append(index)
        places.append(rigid.apply(poses[scan], cloud.at(index)))
    return np.concatenate(owners), np.concatenate(indices), np.concatenate(places)


def _thinned(xyz, spacing, cell, before):
    if cell:
        keep = np.zeros(len(xyz), bool)
        keep[voxels.one_per_cell(xyz - np.floor(xyz.min(0) / cell) * cell if len(xyz) else xyz, cell)] = True
        return keep
    fixed = np.concatenate(before) if before else np.zeros((0, 3))
    return voxels.spaced(np.concatenate([fixed, xyz]), spacing, len(fixed))[len(fixed):]


def _tiles(clouds, poses, most: int, step: float) -> list[tuple[np.ndarray, np.ndarray]]:
    """Columns in plan (low, high) of about ``most`` points or fewer each, their edges on multiples of ``step``."""
    places, reaches, edges, counts = [], [], [], []
    for scan, cloud in clouds.items():
        corner, edge = octree.boxes(cloud.nodes, cloud.low, cloud.size)
        places.append(rigid.apply(poses[scan], corner + edge[:, None] / 2)[:, :2])
        reaches.append(np.abs(poses[scan][:2, :3]).sum(1) * edge[:, None] / 2)
        edges.append(edge)
        counts.append(cloud.nodes["count"])
    places, reaches, edges, counts = (np.concatenate(v) for v in (places, reaches, edges, counts))
    low = np.floor((places - reaches).min(0) / step) * step
    cells = int(2 ** np.ceil(np.log2(max(((places + reaches).max(0) - low).max() / step, 1))))
    out = []

    def split(corner, width, mine):
        a, b = low + np.array(corner) * step, low + (np.array(corner) + width) * step
        mine = mine[((places[mine] + reaches[mine] >= a) & (places[mine] - reaches[mine] <= b)).all(1)]
        if not len(mine):
            return
        if width == 1 or (counts[mine] * np.minimum(width * step / edges[mine], 1) ** 2).sum() <= most:
            out.append((np.r_[a, -1e7], np.r_[b, 1e7]))
            return
        for i in (0, 1):
            for j in (0, 1):
                split((corner[0] + i * width // 2, corner[1] + j * width // 2), width // 2, mine)

    split((0, 0), cells, np.arange(len(places)))
    return out
