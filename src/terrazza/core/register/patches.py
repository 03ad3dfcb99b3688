"""Patches: flat cells of space that two scans or more saw, each with the moments of every scan's points in
it.

Space is cut into cells, halved where a cell is not yet flat.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid, voxels
from terrazza.core.progress import QUIET, Progress

CELLS = (0.8, 0.4, 0.2)
LEAST = 8
SMOOTH = 0.0035
ROUGHEST = 0.005
CORRELATED = 60.0
FACE = 0.012
ANCHORS = np.array([[0.137, 0.291, 0.413], [0.571, 0.773, 0.887], [0.351, 0.117, 0.659]])


@dataclass
class Patches:
    """Moments of every (patch, scan): ``patch`` and ``scan`` ids, ``n``, ``mean`` (m, 3), ``cov`` (m, 3, 3),
    scan frame.
    """

    patch: np.ndarray
    scan: np.ndarray
    n: np.ndarray
    mean: np.ndarray
    cov: np.ndarray

    def only(self, use: np.ndarray) -> "Patches":
        """Those that a mask over (patch, scan) takes."""
        return Patches(self.patch[use], self.scan[use], self.n[use], self.mean[use], self.cov[use])

    @property
    def count(self) -> int:
        return int(self.patch.max()) + 1 if len(self.patch) else 0


def collect(clouds: list[np.ndarray], poses: list[np.ndarray], progress: Progress = QUIET) -> Patches:
    """Find the flat cells that two or more scans share; ``clouds`` (n, 3) in scan frames, poses near enough
    (cm).
    """
    remaining = [np.arange(len(c)) for c in clouds]
    parts, number = [], 0
    for level, size in enumerate(CELLS):
        cells, rows = [], []
        anchor = poses[0][:3, 3] - size * ANCHORS[level]
        for s, (cloud, pose) in enumerate(zip(clouds, poses)):
            progress.advance(level * len(clouds) + s, len(CELLS) * len(clouds), "Gathering patches")
            local = cloud[remaining[s]]
            key = voxels.keys(rigid.apply(pose, local) - anchor, size)
            order = np.argsort(key, kind="stable")
            key, sorted_points = key[order], local[order]
            edges = np.flatnonzero(np.r_[True, key[1:] != key[:-1]]) if len(key) else np.zeros(0, int)
            cells.append((key[edges], edges, order, key))
            rows.append(moments(sorted_points, edges))
        keys = np.concatenate([c[0] for c in cells])
        scan = np.concatenate([np.full(len(c[0]), s) for s, c in enumerate(cells)])
        n, mean, cov = (np.concatenate([r[i] for r in rows]) for i in range(3))
        ids, patch = np.unique(keys, return_inverse=True)
        flat, shared = _flat(
            patch,
            len(ids),
            scan,
            n,
            mean,
            cov,
            poses,
            SMOOTH if size != CELLS[-1] else ROUGHEST,
            anchor,
            size,
        )
        use = flat[patch] & (n >= LEAST)
        renumber = np.cumsum(flat) - 1 + number
        number += int(flat.sum())
        parts.append((renumber[patch[use]], scan[use], n[use], mean[use], cov[use]))
        again = ids[shared & ~flat]
        for s, (_, _, order, sorted_key) in enumerate(cells):
            where = np.searchsorted(again, sorted_key)
            inside = (
                np.zeros(len(sorted_key), bool)
                if not len(again)
                else again[np.minimum(where, len(again) - 1)] == sorted_key
            )
            remaining[s] = remaining[s][order[inside]]
    merged = [np.concatenate([p[i] for p in parts]) for i in range(5)]
    order = np.argsort(merged[0], kind="stable")
    return Patches(*(m[order] for m in merged))


def moments(points: np.ndarray, edges: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Number, mean (k, 3) and covariance (k, 3, 3) of groups of points (n, 3) that begin at
    ``edges`` (k,).
    """
    if not len(edges):
        return np.zeros(0), np.zeros((0, 3)), np.zeros((0, 3, 3))
    n = np.diff(np.r_[edges, len(points)]).astype(float)
    mean = np.add.reduceat(points, edges) / n[:, None]
    d = points - np.repeat(mean, n.astype(int), axis=0)
    cov = np.empty((len(n), 3, 3))
    for i in range(3):
        for j in range(i, 3):
            cov[:, i, j] = cov[:, j, i] = np.add.reduceat(d[:, i] * d[:, j], edges) / n
    return n, mean, cov


def in_job(
    scan: np.ndarray, mean: np.ndarray, cov: np.ndarray, poses: list[np.ndarray]
) -> tuple[np.ndarray, np.ndarray]:
    """Means (m, 3) and covariances (m, 3, 3) of patches in the job frame."""
    r = np.array([p[:3, :3] for p in poses])[scan]
    t = np.array([p[:3, 3] for p in poses])[scan]
    return np.einsum("mij,mj->mi", r, mean) + t, r @ cov @ r.transpose(0, 2, 1)


def pooled(
    patch: np.ndarray, count: int, n: np.ndarray, mean: np.ndarray, cov: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """Pooled mean (count, 3) and covariance (count, 3, 3) per patch; scans weigh by their capped counts."""
    w = n / (1 + n / CORRELATED)
    total = np.bincount(patch, w, count)
    centre = (
        np.stack([np.bincount(patch, w * mean[:, i], count) for i in range(3)], 1)
        / np.maximum(total, 1e-9)[:, None]
    )
    d = mean - centre[patch]
    spread = w[:, None, None] * (cov + d[:, :, None] * d[:, None, :])
    together = np.stack(
        [np.bincount(patch, spread[:, i, j], count) for i in range(3) for j in range(3)], 1
    ).reshape(-1, 3, 3)
    return centre, together / np.maximum(total, 1e-9)[:, None, None]


def _flat(
    patch: np.ndarray,
    count: int,
    scan: np.ndarray,
    n: np.ndarray,
    mean: np.ndarray,
    cov: np.ndarray,
    poses: list[np.ndarray],
    limit: float,
    anchor: np.ndarray,
    size: float,
) -> tuple[np.ndarray, np.ndarray]:
    """Which cells are flat (masks over cells: flat and shared, shared) to within ``limit`` metres of scatter.

    A plane that lies along a face of its cell is not: the face would cut off half of its noise.  It comes up
    in the next, shifted grid.
    """
    enough = n >= LEAST
    seen = np.bincount(patch[enough], minlength=count)
    shared = seen >= 2
    world_mean, world_cov = in_job(scan[enough], mean[enough], cov[enough], poses)
    centre, together = pooled(patch[enough], count, n[enough], world_mean, world_cov)
    values, vectors = np.linalg.eigh(together)
    own = np.linalg.eigvalsh(cov[enough])[:, 0]
    worst = np.zeros(count)
    np.maximum.at(worst, patch[enough], own)
    flat = (
        shared
        & (values[:, 0] < limit**2 * 1.5)
        & (worst < limit**2)
        & (values[:, 1] > 8 * values[:, 0])
        & (values[:, 1] > 0.02 * values[:, 2])
    )
    within = ((centre - anchor) / size) % 1.0
    along_face = ((np.minimum(within, 1 - within) * size < FACE) & (np.abs(vectors[:, :, 0]) > 0.7)).any(1)
    ray = world_mean - np.array([p[:3, 3] for p in poses])[scan[enough]]
    ahead = np.einsum("mi,mi->m", ray, vectors[patch[enough], :, 0]) > 0
    front, back = np.bincount(patch[enough], ahead, count), np.bincount(patch[enough], ~ahead, count)
    return flat & ~along_face & ~(
        (front > 0) & (back > 0)
    ), shared  # seen from both sides it is two surfaces: a wall's
