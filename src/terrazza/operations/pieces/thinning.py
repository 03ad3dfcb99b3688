"""Thinning over several scans in bounded memory: tile by tile in plan, each tile knowing what its neighbours
kept at their rims.
"""

import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.later import later
from terrazza.store import octree
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.geometry import voxels

FEW = 200_000  # so many points are thinned to know how many stay
COARSE, FINER = (
    8 / 3,
    16,
)  # down to which part of the step points are looked at, everywhere and in the cubes drawn
ALIKE = 1.4  # cells so many times the spacing are about as many as points that keep it, sparse or dense
DRAWN, PARTS = 160, 12  # cubes drawn, and their edge in steps
MOST, AT_ONCE = 24_000_000, 500_000  # points looked at everywhere, and at a time


def to_number(indices, sizes: dict[int, int], wanted: int, total: int, folder: str) -> dict[int, str]:
    """Choose exactly ``wanted`` of ``total`` points, evenly along their order in space; ``indices`` yields
    (scan, sorted indices).

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
    return {
        scan: (path, np.lib.format.open_memmap(path, mode="w+", dtype=bool, shape=(sizes[scan],)))
        for scan, path in paths.items()
    }


def thin(
    clouds: dict[int, Cloud],
    poses: dict[int, np.ndarray],
    allowed,
    spacing: float,
    cell: float,
    most: int,
    folder: str,
    progress: Progress = QUIET,
) -> dict[int, str]:
    """Thin the points of several clouds, in a common frame that ``poses`` map to, to a least ``spacing`` or
    to one in each ``cell`` (m).

    ``allowed(scan, indices)`` masks what may be taken.  Returns paths of masks (bool by point index) by scan.
    """
    masks = _masks({scan: cloud.count for scan, cloud in clouds.items()}, folder)
    tiles, rims = _tiles(clouds, poses, most, cell or spacing), []
    for n, (low, high) in enumerate(tiles):
        progress.advance(n, len(tiles), "Thinning")
        owner, index, xyz = _points(clouds, poses, allowed, low, high)
        keep = _thinned(
            xyz,
            spacing,
            cell,
            [
                points
                for a, b, points in rims
                if (a - spacing <= high[:2]).all() and (b + spacing >= low[:2]).all()
            ],
        )
        for scan in clouds:
            masks[scan][1][index[keep & (owner == scan)]] = True
        if spacing:
            kept = xyz[keep]
            rims.append(
                (
                    low[:2],
                    high[:2],
                    kept[((kept[:, :2] < low[:2] + spacing) | (kept[:, :2] > high[:2] - spacing)).any(1)],
                )
            )
    return {scan: path for scan, (path, _) in masks.items()}


def likely(clouds, poses, allowed, spacing: float, cell: float) -> tuple[int, dict[int, np.ndarray]]:
    """About how many points thinning would keep, and some of them (sorted indices by scan).

    The coarse nodes of the octrees tell nearly all cells as large as the step that hold points.  Cubes of
    such cells are drawn, with a chance that grows with how many they have, and thinned by finer points too;
    what each keeps for its cells is what the whole keeps for all cells (sampling with unequal chances, Hansen
    and Hurwitz 1943).
    """
    if sum(cloud.count for cloud in clouds.values()) <= FEW:
        return _all(clouds, poses, allowed, spacing, cell)
    step, rng = cell or ALIKE * spacing, np.random.default_rng(1)
    origin, cells = _filled(clouds, poses, allowed, step)
    cubes, weights = np.unique(voxels.keys(voxels.cells(cells), PARTS), return_counts=True)
    if not len(cubes):
        return 0, {}
    cubes = voxels.cells(cubes)
    rank = np.lexsort(
        (*cubes.T, *(cubes >> 2).T, *(cubes >> 4).T, weights // 16)
    )  # what is drawn one after the other is as full, or lies apart
    cubes, weights = cubes[rank], weights[rank]
    ends = np.cumsum(weights)
    drawn = np.searchsorted(ends, (np.arange(DRAWN) + rng.random()) / DRAWN * ends[-1], side="right")
    rates, examples = [], {scan: [] for scan in clouds}
    for k, times in zip(*np.unique(drawn, return_counts=True)):
        low, high, rim = (
            origin + cubes[k] * PARTS * step,
            origin + (cubes[k] + 1) * PARTS * step,
            cell or 3 * spacing,
        )
        owner, index, xyz = _points(clouds, poses, allowed, low - rim, high + rim, step / FINER)
        keep = _thinned(xyz, spacing, cell, [])
        at = (
            np.floor(xyz / cell + 1e-9) * cell + 1e-9 * cell if cell else xyz
        )  # a cell belongs to the cube that its corner lies in
        keep &= ((at >= low) & (at < high)).all(1)
        rates += [keep.sum() / weights[k]] * int(times)
        for scan in clouds:
            examples[scan].append(index[keep & (owner == scan)])
    return int(round(float(np.mean(rates)) * ends[-1])), {
        scan: np.unique(np.concatenate(parts)) for scan, parts in examples.items() if parts
    }


def _filled(clouds, poses, allowed, step: float) -> tuple[np.ndarray, np.ndarray]:
    """The cells of edge ``step`` that coarse nodes say hold points: the corner (3,) that they are counted
    from, and their names (see ``voxels.keys``).
    """
    nodes = {scan: cloud.nodes for scan, cloud in clouds.items()}
    finest = step / COARSE
    while sum(int(n["count"][n["spacing"] >= finest].sum()) for n in nodes.values()) > MOST:
        finest *= 2
    corners = [
        rigid.apply(poses[scan], corner + edge[:, None] / 2) - np.sqrt(3) * edge[:, None] / 2
        for scan, (corner, edge) in ((scan, cloud.cells) for scan, cloud in clouds.items())
    ]
    origin, names = np.floor(np.min([c.min(0) for c in corners], 0) / step) * step, [np.zeros(0, np.int64)]
    for scan, cloud in clouds.items():
        index = octree.members(nodes[scan][cloud.no_denser(finest)])
        for start in range(0, len(index), AT_ONCE):
            some = index[start : start + AT_ONCE]
            some = some[allowed(scan, some)]
            names.append(
                _distinct(
                    voxels.keys_of(
                        cloud.pick("position", some), cloud.scale, cloud.offset, poses[scan], origin, step
                    )
                )
            )
    return origin, _distinct(np.concatenate(names))


def _distinct(names: np.ndarray) -> np.ndarray:
    """Each of them once, sorted (in place: many times as fast as by hashing)."""
    names.sort()
    return names[np.r_[True, names[1:] != names[:-1]][: len(names)]]


def _all(clouds, poses, allowed, spacing: float, cell: float) -> tuple[int, dict[int, np.ndarray]]:
    """The same for few points: all of them are thinned."""
    owner, index, xyz = _points(clouds, poses, allowed, np.full(3, -1e9), np.full(3, 1e9))
    keep = _thinned(xyz, spacing, cell, [])
    return int(keep.sum()), {scan: index[keep & (owner == scan)] for scan in clouds}


def _points(clouds, poses, allowed, low, high, spacing: float = 0.0):
    """Owners, indices and places of the points in a box of the common frame (its upper faces left out), with
    ``spacing`` of nodes no denser than that.
    """
    owners, indices, places = [np.zeros(0, np.int64)], [np.zeros(0, np.int64)], [np.zeros((0, 3))]
    for scan, cloud in clouds.items():
        index = cloud.inside(low, np.nextafter(high, -np.inf), poses[scan], spacing)
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
    return voxels.spaced(np.concatenate([fixed, xyz]), spacing, len(fixed))[len(fixed) :]


def _tiles(clouds, poses, most: int, step: float) -> list[tuple[np.ndarray, np.ndarray]]:
    """Columns in plan (low, high) of about ``most`` points or fewer each, their edges on multiples of
    ``step``.
    """
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
