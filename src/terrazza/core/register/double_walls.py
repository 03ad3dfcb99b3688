"""Double walls: where one surface shows twice, because two scans that both saw it put it in two places.

Cells of space in which both scans have a plane, seen from the same side, tell by how much the one lies before
the other; cells that touch are one surface.  What one range bias and one vertical index error of the
instrument explain is taken off first, so that what is left is the placement's. Columns and pipes are compared
by circles fitted to each scan's own cut.
"""

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Any

import numpy as np
from scipy.sparse import coo_matrix, csgraph
from scipy.spatial import cKDTree

from terrazza.core.geometry import rigid, voxels
from terrazza.core.measure.fits import circle
from terrazza.core.progress import QUIET, Progress
from terrazza.core.register.contradiction import FURNITURE, PERSON
from terrazza.core.register.patches import moments

# m, and the share of a cell by which the second grid is shifted: a wall on a face of one grid lies within the
# other
CELL, SHIFTED = 0.5, 0.5
FEWEST, ROUGH = 12, 0.008  # points of a scan in a cell, and their scatter (m) about a plane at most
FACING, ASIDE = (
    np.cos(np.radians(4.0)),
    0.2,
)  # cosine between two scans' normals at least, and m between their middles along the plane at most
FARTHEST = 0.06  # m: surfaces farther apart are two, not one seen twice
LEAST, SURE = 0.002, 4.0  # m, and standard deviations, beyond which a surface is told to show twice
AREA, CELLS, ONE_WAY = (
    0.5,
    4,
    0.8,
)  # m² and cells that it has at least, and the share of them that lie to the same side
OWN = 0.0003  # m: unevenness of one patch that noise within it does not show
BIAS, INDEX = (
    0.002,
    np.radians(20 / 3600),
)  # m and rad: standard deviations of an instrument's range bias and vertical index error, common practice
CUT, ROUND, ARC = (
    0.15,
    (0.04, 0.6),
    1.2,
)  # m: half thickness of the cut for columns, their radii (m), and the arc (rad) that has to be seen
LEAST_ROUND = 0.004  # m: seen from two sides, a range bias moves the centres by twice itself


@dataclass(frozen=True)
class Double:
    """Scans ``a`` and ``b`` (indices) show one surface ``offset`` (m, b before a along ``normal``) ±
    ``sigma`` apart over ``area`` (m²) about ``centre`` (job frame); ``what``: wall, floor, slope or column.
    """

    a: int
    b: int
    offset: float
    sigma: float
    area: float
    centre: np.ndarray
    normal: np.ndarray
    what: str


@dataclass
class _Planes:
    """Flat cells of one scan: ``key``; ``mean``, ``normal`` (towards the scanner), ``ray`` (unit) and ``up``
    (unit, of growing elevation) each (n, 3) in the job frame; ``range`` (m), ``sigma`` (m) of the plane at
    its middle and ``area`` (m²).
    """

    key: np.ndarray
    mean: np.ndarray
    normal: np.ndarray
    ray: np.ndarray
    up: np.ndarray
    range: np.ndarray
    sigma: np.ndarray
    area: np.ndarray


def _planes(points: np.ndarray, pose: np.ndarray, anchor: np.ndarray) -> _Planes:
    """Of one scan's points (n, 3, own frame) in the cells of the job that begin at ``anchor``."""
    world = rigid.apply(pose, points)
    key = voxels.keys(world - anchor, CELL)
    order = np.argsort(key, kind="stable")
    key, world = key[order], world[order]
    edges = np.flatnonzero(np.r_[True, key[1:] != key[:-1]])
    n, mean, cov = moments(world, edges)
    values, vectors = np.linalg.eigh(cov)
    flat = (
        (n >= FEWEST)
        & (values[:, 0] < ROUGH**2)
        & (values[:, 1] > 8 * values[:, 0])
        & (values[:, 1] > 0.02 * values[:, 2])
    )
    flat &= (
        values[:, 0] < max(0.003, 2 * float(np.sqrt(np.median(np.maximum(values[flat, 0], 0))))) ** 2
        if flat.any()
        else flat
    )  # a step within a cell moves its plane
    n, mean, values, normal = n[flat], mean[flat], np.maximum(values[flat], 1e-12), vectors[flat][:, :, 0]
    ray = mean - pose[:3, 3]
    reach = np.linalg.norm(ray, axis=1)
    ray /= np.maximum(reach, 1e-9)[:, None]
    normal = np.where((np.einsum("ij,ij->i", normal, ray) > 0)[:, None], -normal, normal)
    axis = pose[:3, 2]
    up = axis - (ray @ axis)[:, None] * ray
    up /= np.maximum(np.linalg.norm(up, axis=1), 1e-9)[:, None]
    return _Planes(
        key[edges][flat],
        mean,
        normal,
        ray,
        up,
        reach,
        np.sqrt(values[:, 0] / n),
        12 * np.sqrt(values[:, 1] * values[:, 2]),
    )


@dataclass
class _Cells:
    """Cells that two scans share: offset ``d`` (m) of b before a, its ``sigma``, what a range bias and an
    index error of one unit add to it (n, 2), place, normal and area.
    """

    d: np.ndarray
    sigma: np.ndarray
    effect: np.ndarray
    centre: np.ndarray
    normal: np.ndarray
    area: np.ndarray


def _shared(a: _Planes, b: _Planes) -> _Cells | None:
    _, i, j = np.intersect1d(a.key, b.key, assume_unique=True, return_indices=True)
    normal = a.normal[i] + b.normal[j]
    normal /= np.maximum(np.linalg.norm(normal, axis=1), 1e-9)[:, None]
    between = b.mean[j] - a.mean[i]
    d = np.einsum("ij,ij->i", between, normal)
    aside = np.linalg.norm(between - d[:, None] * normal, axis=1)
    tilt = np.hypot(a.sigma[i], b.sigma[j]) / (CELL / 4)  # rad: of a plane through points over a cell
    use = (
        (np.einsum("ij,ij->i", a.normal[i], b.normal[j]) > FACING) & (aside < ASIDE) & (np.abs(d) < FARTHEST)
    )
    if use.sum() < CELLS:
        return None
    i, j, normal = i[use], j[use], normal[use]
    of = lambda p, k: np.stack(
        [np.einsum("ij,ij->i", normal, p.ray[k]), p.range[k] * np.einsum("ij,ij->i", normal, p.up[k])], 1
    )
    sigma = np.sqrt(a.sigma[i] ** 2 + b.sigma[j] ** 2 + (aside[use] * tilt[use]) ** 2 + OWN**2)
    return _Cells(
        d[use],
        sigma,
        of(b, j) - of(a, i),
        (a.mean[i] + b.mean[j]) / 2,
        normal,
        np.minimum(a.area[i], b.area[j]),
    )


def _instrument(cells: list[_Cells]) -> np.ndarray:
    """Range bias (m) and vertical index error (rad) that explain most of the offsets, held near none by what
    instruments have; by Huber's weights.
    """
    d, sigma, effect = (
        np.concatenate([getattr(c, name) for c in cells]) for name in ("d", "sigma", "effect")
    )
    sigma, found = np.maximum(sigma, 0.001), np.zeros(2)  # neighbouring cells err alike
    for _ in range(10):
        t = np.abs(d - effect @ found) / sigma
        weight = np.minimum(1.0, 1.5 / np.maximum(t, 1e-9)) / sigma**2
        found = np.linalg.solve(
            (effect * weight[:, None]).T @ effect + np.diag([1 / BIAS**2, 1 / INDEX**2]),
            (effect * weight[:, None]).T @ d,
        )
    return found


def _surfaces(cells: _Cells) -> Iterator[np.ndarray]:
    """Indices of cells that touch and face alike: one surface each."""
    pairs = cKDTree(cells.centre).query_pairs(1.8 * CELL, output_type="ndarray")
    i, j = pairs.T
    alike = (np.einsum("ij,ij->i", cells.normal[i], cells.normal[j]) > np.cos(np.radians(10.0))) & (
        np.abs(np.einsum("ij,ij->i", cells.centre[j] - cells.centre[i], cells.normal[i])) < 0.08
    )
    _, label = csgraph.connected_components(
        coo_matrix((np.ones(int(alike.sum())), (i[alike], j[alike])), (len(cells.d),) * 2), directed=False
    )
    order = np.argsort(label, kind="stable")
    yield from np.split(order, np.flatnonzero(np.diff(label[order])) + 1)


def _doubled(a: int, b: int, cells: _Cells, instrument: np.ndarray, floor: float) -> Iterator[Double]:
    d = cells.d - cells.effect @ instrument
    for mine in _surfaces(cells):
        area = float(cells.area[mine].sum())
        if len(mine) < CELLS or area < AREA or _narrow(cells.centre[mine]):
            continue
        offset = _median(d[mine], cells.area[mine] / cells.sigma[mine] ** 2)
        spread = 1.4826 * np.median(np.abs(d[mine] - offset))
        sigma = float(
            max(1.2533 * spread / np.sqrt(len(mine) / 4), OWN)
        )  # neighbouring cells err alike: four count as one
        one_way = np.mean(np.sign(d[mine]) == np.sign(offset))
        normal, centre = cells.normal[mine].mean(0), cells.centre[mine].mean(0)
        if (
            abs(offset) > max(LEAST, SURE * sigma)
            and one_way >= ONE_WAY
            and not _movable(cells.centre[mine], floor)
        ):
            yield Double(
                a,
                b,
                offset,
                sigma,
                area,
                centre,
                normal / np.linalg.norm(normal),
                "wall" if abs(normal[2]) < 0.3 else "floor" if abs(normal[2]) > 0.95 else "slope",
            )


def _narrow(places: np.ndarray) -> bool:
    """Whether cells (n, 3) are one row: the edge of something, which a sparse scan puts wrongly."""
    along = np.linalg.eigh(np.cov(places.T))[1][:, 1]
    return bool(np.ptp(places @ along) < 0.7 * CELL)


def _movable(places: np.ndarray, floor: float) -> bool:
    """Whether cells (n, 3) make a thing that stands on the floor and may have been moved between scans."""
    size, top = np.hypot(*np.ptp(places[:, :2], axis=0)) + CELL / 2, places[:, 2].max() + CELL / 2 - floor
    return (
        places[:, 2].min() - floor > 0.2
        and top < 1.2
        and size < 2.5
        or any(size < wide and top < high for wide, high in (PERSON, FURNITURE))
    )


def _median(values: np.ndarray, weights: np.ndarray) -> float:
    order = np.argsort(values)
    total = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(total, total[-1] / 2)])


def _columns(points: np.ndarray, pose: np.ndarray, height: float) -> list[tuple[np.ndarray, float, float]]:
    """(centre (2,), radius, sigma, all m) of what is round in a scan's cut at a height (m, job frame)."""
    world = rigid.apply(pose, points)
    cut = world[np.abs(world[:, 2] - height) < CUT][:, :2]
    if len(cut) < 30:
        return []
    _, first, cell = np.unique(
        voxels.keys(np.c_[cut, np.zeros(len(cut))] - [*cut.min(0), 0], 0.06),
        return_index=True,
        return_inverse=True,
    )
    near = cKDTree(cut[first]).query_pairs(0.12, output_type="ndarray").T
    _, part = csgraph.connected_components(
        coo_matrix((np.ones(near.shape[1]), (near[0], near[1])), (len(first),) * 2), directed=False
    )
    label, found = part[cell], []
    for k in np.flatnonzero(np.bincount(label) >= 30):
        mine = cut[label == k]
        if np.ptp(mine, axis=0).max() > 2 * ROUND[1]:
            continue
        fitted = circle(mine)
        if fitted is None:
            continue
        centre, radius, rms, sigma = fitted
        angle = np.sort(np.arctan2(*(mine - centre).T))
        arc = 2 * np.pi - np.diff(np.r_[angle, angle[0] + 2 * np.pi]).max()
        if ROUND[0] < radius < ROUND[1] and rms < min(0.005, 0.1 * radius) and arc > ARC:
            found.append(
                (centre, radius, max(2 * sigma, OWN))
            )  # neighbouring points err alike: four count as one
    return found


def _round(a: int, b: int, mine: list[Any], theirs: list[Any], height: float) -> Iterator[Double]:
    for centre, radius, sigma in mine:
        for other, other_radius, other_sigma in theirs:
            between, sure = other - centre, float(np.hypot(sigma, other_sigma))
            offset = float(np.linalg.norm(between))
            if max(LEAST_ROUND, SURE * sure) < offset < FARTHEST and abs(radius - other_radius) < max(
                0.005, SURE * sure
            ):
                yield Double(
                    a,
                    b,
                    offset,
                    sure,
                    np.pi * radius * 2 * CUT,
                    np.array([*(centre + between / 2), height]),
                    np.array([*between / offset, 0.0]),
                    "column",
                )


def find(
    clouds: list[np.ndarray],
    poses: list[np.ndarray],
    biases: list[float] | None = None,
    progress: Progress = QUIET,
) -> list[Double]:
    """Surfaces that two of the scans show twice, the farthest apart first; ``clouds`` (n, 3) in scan frames,
    ``poses`` to the job, ``biases`` (m) that each reads too far.
    """
    biases = biases or [0.0] * len(clouds)
    clouds = [
        c * (1 - b / np.maximum(np.linalg.norm(c, axis=1), 0.1))[:, None] if b else c
        for c, b in zip(clouds, biases)
    ]
    floors = [
        float(np.quantile(rigid.apply(p, c[::50])[:, 2], 0.03)) if len(c) else 0.0
        for c, p in zip(clouds, poses)
    ]
    out: dict[tuple[int, int], list[Double]] = {}
    for shift in (0.0, SHIFTED):
        sides = []
        for k, (cloud, pose) in enumerate(zip(clouds, poses)):
            progress.advance(k, len(clouds), "Looking for double walls")
            sides.append(
                _planes(cloud, pose, poses[0][:3, 3] - 1000.0 + shift * CELL) if len(cloud) else None
            )
        filled = [k for k, side in enumerate(sides) if side and len(side.key)]
        low, high = ({k: bound(sides[k].mean, 0) for k in filled} for bound in (np.min, np.max))
        near = [
            (a, b)
            for a, b in combinations(filled, 2)
            if (low[a] <= high[b] + CELL).all() and (low[b] <= high[a] + CELL).all()
        ]
        shared = {(a, b): c for a, b in near if (c := _shared(sides[a], sides[b])) is not None}
        if not shared:
            continue
        instrument = _instrument(list(shared.values()))
        for (a, b), cells in shared.items():
            for double in _doubled(a, b, cells, instrument, min(floors[a], floors[b])):
                known = out.setdefault((a, b), [])
                if not any(
                    abs(double.normal @ k.normal) > FACING
                    and abs((double.centre - k.centre) @ k.normal) < 2 * FARTHEST
                    and np.linalg.norm(double.centre - k.centre) < 3
                    for k in known
                ):
                    known.append(double)
    rounds = [_columns(c, p, f + 1.2) if len(c) else [] for c, p, f in zip(clouds, poses, floors)]
    doubles = [d for found in out.values() for d in found]
    for a, b in combinations(range(len(clouds)), 2):
        if abs(floors[a] - floors[b]) < 2 * CUT:
            doubles += _round(a, b, rounds[a], rounds[b], floors[a] + 1.2)
    return sorted(doubles, key=lambda d: -abs(d.offset))


def standing_off(doubles: list[Double]) -> list[int]:
    """Scans that explain the double walls, the one that does most first: it shows them with most others, and
    over the largest area.
    """
    left, out = list(doubles), []
    while left:
        scans = {k for d in left for k in (d.a, d.b)}
        worst = max(
            scans,
            key=lambda k: (
                len({d.a + d.b - k for d in left if k in (d.a, d.b)}),
                sum(d.area for d in left if k in (d.a, d.b)),
            ),
        )
        out.append(worst)
        left = [d for d in left if worst not in (d.a, d.b)]
    return out
