"""Thinning over several scans in bounded memory: tile by tile in plan, each tile knowing what its neighbours kept at their rims."""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.later import later
from terrazza.store.cloud import Cloud

voxels = later("terrazza.core.geometry.voxels")

EVEN, DRAWN, FINER, PARTS = 200_000, 240, 8, 6


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


def likely(clouds, poses, allowed, spacing: float, cell: float) -> tuple[int, dict[int, np.ndarray]]:
    """About how many points thinning would keep, and some of them (sorted indices by scan), from cubes all over the job.

    An even sample of all points weighs the cubes of space that hold any, by how many of their parts it meets.  Some cubes are drawn, with a chance that grows with their weight, and thinned; what
    each keeps for its weight is what the whole keeps for the sum of the weights (sampling with unequal chances, Hansen and Hurwitz 1943).
    """
    if sum(cloud.count for cloud in clouds.values()) <= EVEN:
        return _all(clouds, poses, allowed, spacing, cell)
    step, rng = cell or spacing, np.random.default_rng(1)
    some = {scan: cloud.sample(EVEN // len(clouds)) for scan, cloud in clouds.items()}
    places = {scan: rigid.apply(poses[scan], clouds[scan].at(index[allowed(scan, index)])) for scan, index in some.items()}
    gap = max(float(c.nodes["spacing"][np.searchsorted(np.cumsum(c.nodes["count"]), EVEN // len(clouds), side="right") - 1]) for c in clouds.values())
    part = max(step, gap)
    filled = np.unique(np.floor(np.concatenate(list(places.values())) / part).astype(np.int64), axis=0)
    cubes, weights, edge = *np.unique(filled // PARTS, axis=0, return_counts=True), part * PARTS
    if not len(cubes):
        return 0, {}
    rank = np.lexsort((*cubes.T, *(cubes >> 2).T, *(cubes >> 4).T))  # what is drawn one after the other lies apart
    cubes, weights = cubes[rank], weights[rank]
    ends = np.cumsum(weights)
    drawn = np.searchsorted(ends, (np.arange(DRAWN) + rng.random()) / DRAWN * ends[-1], side="right")
    near = {scan: _near(cloud, poses[scan], step) for scan, cloud in clouds.items()}
    rates, examples = [], {scan: [] for scan in clouds}
    for k, times in zip(*np.unique(drawn, return_counts=True)):
        low, high, rim = cubes[k] * edge, (cubes[k] + 1) * edge, cell or 3 * spacing
        owner, index, xyz = _around(clouds, poses, allowed, near, low - rim, high + rim)
        keep = _thinned(xyz, spacing, cell, [])
        at = np.floor(xyz / cell + 1e-9) * cell + 1e-9 * cell if cell else xyz  # a cell belongs to the cube that its corner lies in
        keep &= ((at >= low) & (at < high)).all(1)
        rates += [keep.sum() / weights[k]] * int(times)
        for scan in clouds:
            examples[scan].append(index[keep & (owner == scan)])
    return int(round(float(np.mean(rates)) * ends[-1])), {scan: np.unique(np.concatenate(parts)) for scan, parts in examples.items() if parts}


def _all(clouds, poses, allowed, spacing: float, cell: float) -> tuple[int, dict[int, np.ndarray]]:
    """The same for few points: all of them are thinned."""
    owner, index, xyz = _points(clouds, poses, allowed, np.full(3, -1e9), np.full(3, 1e9))
    keep = _thinned(xyz, spacing, cell, [])
    return int(keep.sum()), {scan: index[keep & (owner == scan)] for scan in clouds}


def _near(cloud: Cloud, pose, step: float):
    """Middles and half extents of the cells, in the common frame, of the nodes that thinning to ``step`` can tell apart, with their slices."""
    nodes, (corner, edge) = cloud.nodes, cloud.cells
    fine = np.flatnonzero((nodes["count"] > 0) & ((nodes["level"] == 0) | (2 * nodes["spacing"] > step / FINER)))
    fine = fine[np.argsort(nodes["start"][fine])]
    return rigid.apply(pose, corner[fine] + edge[fine, None] / 2), np.abs(pose[:3, :3]).sum(1)[None] * edge[fine, None] / 2, nodes["start"][fine], nodes["count"][fine]


def _around(clouds, poses, allowed, near, low, high):
    """Owners, indices and places of the points of those nodes in a box of the common frame."""
    owners, indices, places = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)], [np.zeros((0, 3))]
    for scan, (middle, half, start, count) in near.items():
        met = np.flatnonzero((np.abs(middle - (low + high) / 2) <= half + (high - low) / 2).all(1))
        if not len(met):
            continue
        index = np.concatenate([np.arange(start[k], start[k] + count[k]) for k in met])
        xyz = rigid.apply(poses[scan], clouds[scan].at(index))
        inside = ((xyz >= low) & (xyz < high)).all(1)
        index, xyz = index[inside], xyz[inside]
        use = allowed(scan, index) if len(index) else np.zeros(0, bool)
        owners.append(np.full(int(use.sum()), scan))
        indices.append(index[use])
        places.append(xyz[use])
    return np.concatenate(owners), np.concatenate(indices), np.concatenate(places)


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
        corner, edge = cloud.cells
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
