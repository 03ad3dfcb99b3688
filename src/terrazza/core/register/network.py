"""Network adjustment: all scans together, over every patch of surface that two or more of them saw.

Space is cut into cells, halved where a cell is not yet flat.  In a flat cell each
scan's points carry the moments of a plane fit; the common plane is eliminated
and what remains are normal equations of the poses (and one range bias a scan,
held by a prior).  This is bundle adjustment of planes from point moments, as in
Liu & Zhang 2021 (IEEE RA-L 6:3184), with the planes eliminated linearly.

Unknowns of scan s, in the job frame: rotation about its own place (3, rad), shift (3, m), range bias (1, m).
"""

from dataclasses import dataclass

import numpy as np
from scipy import sparse

from terrazza.core.geometry import rigid, voxels
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register.cloud_fit import unheld
from terrazza.errors import InputError

CELLS = (0.8, 0.4, 0.2)
LEAST = 8
SMOOTH = 0.0035
ROUGHEST = 0.005
CORRELATED = 60.0
BIAS_SIGMA = 0.0004
SETTLED = 4
UNEVEN = 0.00003
RESTING = 0.0003
FACE = 0.012
SURE = 0.004  # m: where the normals that face a shift leave it less sure than this, nothing holds it
HELD = (np.radians(0.5), 0.1)  # rad and m: standard deviations of the poses that an adjustment begins with; a direction that no surface holds stays there, with that σ
ANCHORS = np.array([[0.137, 0.291, 0.413], [0.571, 0.773, 0.887], [0.351, 0.117, 0.659]])


@dataclass
class Patches:
    """Moments of every (patch, scan): ``patch`` and ``scan`` ids, ``n``, ``mean`` (m, 3), ``cov`` (m, 3, 3), scan frame."""

    patch: np.ndarray
    scan: np.ndarray
    n: np.ndarray
    mean: np.ndarray
    cov: np.ndarray

    @property
    def count(self) -> int:
        return int(self.patch.max()) + 1 if len(self.patch) else 0


@dataclass
class Adjusted:
    """Result of the adjustment.

    ``poses``; ``covariance`` (k, 6, 6) of (rotation, shift) per scan, job frame, relative to the fixed scans; ``joint`` (6k, 6k);
    ``bias`` (m) per scan; ``rms`` (m) of the patch distances; ``variance_factor``; ``redundancy``; ``shared`` (k, k): patches seen by both;
    ``pair_rms`` (k, k), m.
    """

    poses: list[np.ndarray]
    covariance: np.ndarray
    joint: np.ndarray
    bias: np.ndarray
    rms: float
    variance_factor: float
    redundancy: int
    shared: np.ndarray
    pair_rms: np.ndarray


def collect(clouds: list[np.ndarray], poses: list[np.ndarray], progress: Progress = QUIET) -> Patches:
    """Find the flat cells that two or more scans share; ``clouds`` (n, 3) in scan frames, poses near enough (cm)."""
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
            rows.append(_moments(sorted_points, edges))
        keys = np.concatenate([c[0] for c in cells])
        scan = np.concatenate([np.full(len(c[0]), s) for s, c in enumerate(cells)])
        n, mean, cov = (np.concatenate([r[i] for r in rows]) for i in range(3))
        ids, patch = np.unique(keys, return_inverse=True)
        flat, shared = _flat(patch, len(ids), scan, n, mean, cov, poses, SMOOTH if size != CELLS[-1] else ROUGHEST, anchor, size)
        use = flat[patch] & (n >= LEAST)
        renumber = np.cumsum(flat) - 1 + number
        number += int(flat.sum())
        parts.append((renumber[patch[use]], scan[use], n[use], mean[use], cov[use]))
        again = ids[shared & ~flat]
        for s, (key, _, order, sorted_key) in enumerate(cells):
            where = np.searchsorted(again, sorted_key)
            inside = np.zeros(len(sorted_key), bool) if not len(again) else again[np.minimum(where, len(again) - 1)] == sorted_key
            remaining[s] = remaining[s][order[inside]]
    merged = [np.concatenate([p[i] for p in parts]) for i in range(5)]
    order = np.argsort(merged[0], kind="stable")
    return Patches(*(m[order] for m in merged))


def _moments(points, edges):
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


def _world(scan, mean, cov, poses):
    r = np.array([p[:3, :3] for p in poses])[scan]
    t = np.array([p[:3, 3] for p in poses])[scan]
    return np.einsum("mij,mj->mi", r, mean) + t, r @ cov @ r.transpose(0, 2, 1)


def _pooled(patch, count, n, mean, cov):
    """Pooled mean and covariance per patch, each scan weighing by its capped count."""
    w = n / (1 + n / CORRELATED)
    total = np.bincount(patch, w, count)
    centre = np.stack([np.bincount(patch, w * mean[:, i], count) for i in range(3)], 1) / np.maximum(total, 1e-9)[:, None]
    d = mean - centre[patch]
    spread = w[:, None, None] * (cov + d[:, :, None] * d[:, None, :])
    pooled = np.stack([np.bincount(patch, spread[:, i, j], count) for i in range(3) for j in range(3)], 1).reshape(-1, 3, 3)
    return centre, pooled / np.maximum(total, 1e-9)[:, None, None]


def _flat(patch, count, scan, n, mean, cov, poses, limit, anchor, size):
    """Which cells are flat (masks over cells: flat and shared, shared) to within ``limit`` metres of scatter.

    A plane that lies along a face of its cell is not: the face would cut off half of its noise.  It comes up in the next, shifted grid.
    """
    enough = n >= LEAST
    seen = np.bincount(patch[enough], minlength=count)
    shared = seen >= 2
    world_mean, world_cov = _world(scan[enough], mean[enough], cov[enough], poses)
    centre, pooled = _pooled(patch[enough], count, n[enough], world_mean, world_cov)
    values, vectors = np.linalg.eigh(pooled)
    own = np.linalg.eigvalsh(cov[enough])[:, 0]
    worst = np.zeros(count)
    np.maximum.at(worst, patch[enough], own)
    flat = shared & (values[:, 0] < limit**2 * 1.5) & (worst < limit**2) & (values[:, 1] > 8 * values[:, 0]) & (values[:, 1] > 0.02 * values[:, 2])
    within = ((centre - anchor) / size) % 1.0
    along_face = ((np.minimum(within, 1 - within) * size < FACE) & (np.abs(vectors[:, :, 0]) > 0.7)).any(1)
    ray = world_mean - np.array([p[:3, 3] for p in poses])[scan[enough]]
    ahead = np.einsum("mi,mi->m", ray, vectors[patch[enough], :, 0]) > 0
    front, back = np.bincount(patch[enough], ahead, count), np.bincount(patch[enough], ~ahead, count)
    return flat & ~along_face & ~((front > 0) & (back > 0)), shared  # seen from both sides it is two surfaces: a wall's


def adjust(patches: Patches, poses: list[np.ndarray], fixed: set[int], rounds: int = 12, bias_sigma: float = BIAS_SIGMA) -> Adjusted:
    """Least squares over all patches; scans in ``fixed`` keep their poses.

    Raises InputError where the patches cannot hold every free scan.
    """
    k = len(poses)
    poses = [p.copy() for p in poses]
    free = [s for s in range(k) if s not in fixed]
    bias = np.zeros(k)
    active = np.array([7 * s + i for s in free for i in range(6)] + [7 * s + 6 for s in range(k)], int)
    weight = np.ones(len(patches.n))
    if any(seen < 3 for s, seen in enumerate(np.bincount(patches.scan, minlength=k)) if s not in fixed):
        raise InputError("The ties do not hold every scan.", "Take the loose scans out of the adjustment, or tie them to a neighbour.")
    prior, since = np.zeros(7 * k), np.zeros(7 * k)
    prior.reshape(k, 7)[:] = [1 / HELD[0] ** 2] * 3 + [1 / HELD[1] ** 2] * 3 + [1 / bias_sigma**2]
    for done in range(rounds):
        system = _equations(patches, poses, bias, weight)
        weight = _judged(patches, system, soft=done < rounds - SETTLED) if done <= rounds - SETTLED else weight
        system = _equations(patches, poses, bias, weight)
        factor, redundancy = _variance_factor(patches, system, weight, len(free))
        across = _across_unheld(patches, system, k, factor)
        full = across @ (system.normal / factor) @ across + np.diag(prior)
        solution = np.zeros(7 * k)
        solution[active] = -_solve(full[np.ix_(active, active)], (across @ system.gradient / factor + prior * since)[active])
        for s in free:
            place = poses[s][:3, 3]
            poses[s] = rigid.step(poses[s], solution[7 * s : 7 * s + 3], solution[7 * s + 3 : 7 * s + 6], place)
        since += solution  # small turns add up
        bias = since[6::7].copy()
    residual = system.residual
    inverse = np.zeros((7 * k, 7 * k))
    inverse[np.ix_(active, active)] = np.linalg.inv(full[np.ix_(active, active)])
    keep = np.array([7 * s + i for s in range(k) for i in range(6)])
    joint = inverse[np.ix_(keep, keep)]
    shared, pair_rms = _pairs(patches, residual, weight, k)
    good = weight > 0
    rms = float(np.sqrt(np.average(residual[good] ** 2, weights=1 / system.noise[good] ** 2))) if good.any() else 0.0
    return Adjusted(poses, np.array([joint[6 * s : 6 * s + 6, 6 * s : 6 * s + 6] for s in range(k)]), joint, bias, rms, float(factor), redundancy, shared, pair_rms)


def _across_unheld(patches, system, k, factor) -> np.ndarray:
    """(7k, 7k) projector that takes away shifts of scans which no surface facing them holds.

    The noise of normals alone gives the normal equations 1/extent² a patch along its plane: with hundreds of patches millimetres, where there is nothing.
    """
    out = np.eye(7 * k)
    for s in range(k):
        here = patches.scan == s
        for direction, _ in unheld(system.facing[here], system.weight[here] / factor, 1 / SURE**2):
            out[7 * s + 3 : 7 * s + 6, 7 * s + 3 : 7 * s + 6] -= np.outer(direction, direction)
    return out


def solve(clouds: list[np.ndarray], poses: list[np.ndarray], fixed: set[int], bias_sigma: float = BIAS_SIGMA, passes: int = 3, progress: Progress = QUIET) -> Adjusted:
    """Patches and adjustment in turn until no scan moves by more than ``RESTING``: patches that were
    chosen while walls still stood double would favour the poses they were chosen at.

    Raises InputError like ``adjust``; then ``error.seen`` counts the patches of each scan.
    """
    for number in range(passes):
        patches = collect(clouds, poses, Part(progress, number / passes, (number + 1) / passes))
        try:
            adjusted = adjust(patches, poses, fixed, bias_sigma=bias_sigma)
        except InputError as error:
            error.seen = np.bincount(patches.scan, minlength=len(poses))
            raise
        moved = max(rigid.difference(a, b)[0] + 5.0 * rigid.difference(a, b)[1] for a, b in zip(adjusted.poses, poses))
        if moved < RESTING:
            break
        poses = adjusted.poses
    return adjusted


def _judged(patches, system, soft):
    """Weights of the (patch, scan) distances: Tukey's biweight on the way, all or nothing once settled.

    A distance is judged against its own spread: noise, less what the common plane took from it (the scan that makes most of
    a plane lies on it whatever the other does).
    """
    strength = 1 / system.noise**2
    share = strength / np.bincount(patches.patch, strength, patches.count)[patches.patch]
    t = np.abs(system.residual) / (system.noise * np.sqrt(np.maximum(1 - share, 0.01)))
    t = t / max(1.4826 * np.median(t), 0.7)
    return np.where(t < 5, (1 - (t / 5) ** 2) ** 2, 0.0) if soft else (t < 4.0).astype(float)


def _solve(matrix, rhs):
    d = 1 / np.sqrt(np.maximum(np.diag(matrix), 1e-12))
    scaled = matrix * d[:, None] * d[None, :]
    if np.linalg.eigvalsh(scaled)[0] < 1e-12:
        raise InputError("The ties do not hold every scan.", "Take the loose scans out of the adjustment, or tie them to a neighbour.")
    return d * np.linalg.solve(scaled, d * rhs)


def _equations(patches, poses, bias, weight):
    """Normal matrix, gradient, and per (patch, scan) distance from the common plane (m) with its own sigma (m)."""
    k, count, scan, patch = len(poses), patches.count, patches.scan, patches.patch
    mean, cov = _world(scan, patches.mean, patches.cov, poses)
    place = np.array([p[:3, 3] for p in poses])[scan]
    ray = mean - place
    ray /= np.linalg.norm(ray, axis=1)[:, None]
    mean = mean - ray * bias[scan][:, None]  # the instrument reads ``bias`` too far
    centre, pooled = _pooled(patch, count, patches.n * np.maximum(weight, 1e-6), mean, cov)
    _, vectors = np.linalg.eigh(pooled)
    normal, e1, e2 = (vectors[patch][:, :, i] for i in (0, 1, 2))
    d = mean - centre[patch]
    u, v, w = (np.einsum("mi,mi->m", a, d) for a in (e1, e2, normal))
    cu, cv = np.einsum("mij,mj->mi", cov, e1), np.einsum("mij,mj->mi", cov, e2)
    cw = np.einsum("mij,mj->mi", cov, normal)
    suu, svv, suv = (np.einsum("mi,mi->m", a, b) for a, b in ((e1, cu), (e2, cv), (e1, cv)))
    suw, svw, sww = (np.einsum("mi,mi->m", a, cw) for a in (e1, e2, normal))
    steep = np.abs(np.einsum("mi,mi->m", normal, ray))
    many = patches.n > 50
    range_noise = np.median(np.sqrt(np.maximum(sww[many], 1e-10)) / np.maximum(steep[many], 0.05)) if many.sum() > 20 else 0.002
    # range noise runs along the ray, so on a slanted plane it leans the patch's own moments: take its part out
    along = range_noise**2 * np.einsum("mi,mi->m", normal, ray) * (1 - 1 / patches.n)
    suw, svw = suw - along * np.einsum("mi,mi->m", e1, ray), svw - along * np.einsum("mi,mi->m", e2, ray)
    floor = np.maximum(range_noise * steep, 0.0003) ** 2
    sigma2 = np.maximum(sww * patches.n / np.maximum(patches.n - 3, 1), floor)
    effective = patches.n / (1 + patches.n * UNEVEN**2 / sigma2)
    p = weight * effective / sigma2
    m = np.empty((len(p), 3, 3))
    m[:, 0, 0], m[:, 0, 1], m[:, 0, 2] = 1, u, v
    m[:, 1, 1], m[:, 2, 2], m[:, 1, 2] = suu + u * u, svv + v * v, suv + u * v
    m[:, 1, 0], m[:, 2, 0], m[:, 2, 1] = m[:, 0, 1], m[:, 0, 2], m[:, 1, 2]
    y = np.stack([w, suw + u * w, svw + v * w], 1)
    m, y = m * p[:, None, None], y * p[:, None]
    total = np.stack([np.bincount(patch, m[:, i, j], count) for i in range(3) for j in range(3)], 1).reshape(-1, 3, 3)
    total += 1e-9 * np.trace(total, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-12 * np.eye(3)
    y_total = np.stack([np.bincount(patch, y[:, i], count) for i in range(3)], 1)
    inverse = np.linalg.inv(total)
    plane = np.einsum("mij,mj->mi", inverse, y_total)
    a = np.zeros((len(p), 3, 7))
    lever = centre[patch] - place
    a[:, 0, :3], a[:, 0, 3:6], a[:, 0, 6] = np.cross(lever, normal), normal, -np.einsum("mi,mi->m", normal, ray)
    a[:, 1, :3], a[:, 2, :3] = np.cross(e1, normal), np.cross(e2, normal)
    out, gradient = np.zeros((7 * k, 7 * k)), np.zeros(7 * k)
    ma = m @ a
    g = np.einsum("mji,mj->mi", a, y - np.einsum("mij,mj->mi", m, plane[patch]))
    own = np.einsum("mji,mjk->mik", a, ma)
    for s in range(k):
        here = scan == s
        gradient[7 * s : 7 * s + 7] = g[here].sum(0)
        out[7 * s : 7 * s + 7, 7 * s : 7 * s + 7] = own[here].sum(0)
    # minus the part that the common planes absorb, for every pair of scans in a patch
    root = np.linalg.cholesky(inverse)[patch]
    left = np.einsum("mji,mjl->mil", root, ma)
    rows = np.repeat(3 * patch[:, None] + np.arange(3), 7, axis=1).ravel()
    columns = np.tile(7 * scan[:, None] + np.arange(7), (1, 3)).ravel()
    absorbed = sparse.csr_matrix((left.ravel(), (rows, columns)), (3 * count, 7 * k))
    out -= (absorbed.T @ absorbed).toarray()
    residual = w - (plane[patch] * np.stack([np.ones(len(u)), u, v], 1)).sum(1)
    misfit = y - np.einsum("mij,mj->mi", m, plane[patch])
    squares = np.einsum("mi,mij,mj->m", misfit, np.linalg.inv(m + 1e-12 * np.trace(m, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-9 * np.eye(3)), misfit)
    return _System(out, gradient, residual, np.sqrt(sigma2 / effective), squares, normal, p)


@dataclass
class _System:
    """Normal matrix, gradient, distances from the common planes (m), their sigmas (m), whitened squares of all three plane moments, unit normals (m, 3) and weights (1/m²)."""

    normal: np.ndarray
    gradient: np.ndarray
    residual: np.ndarray
    noise: np.ndarray
    squares: np.ndarray
    facing: np.ndarray
    weight: np.ndarray


def _variance_factor(patches, system, weight, free):
    """A posteriori variance of unit weight and the redundancy: three moments a scan, three a common plane.

    The factor never drops under one: the scatter within a patch already says how good its plane is.
    """
    good = weight > 0
    seen = np.bincount(patches.patch[good], minlength=patches.count)
    use = good & (seen[patches.patch] >= 2)
    redundancy = int(3 * (use.sum() - len(np.unique(patches.patch[use])))) - 6 * free
    if redundancy <= 0:
        raise InputError("Too few common surfaces for an adjustment.", "Add ties, or take loose scans out of the adjustment.")
    return max(float(system.squares[use].sum() / redundancy), 1.0), redundancy


def _pairs(patches, residual, weight, k):
    """Patches shared by each pair of scans and the rms of their distances from each other (m)."""
    grid = np.full((patches.count, k), np.nan)
    good = weight > 0
    grid[patches.patch[good], patches.scan[good]] = residual[good]
    shared, rms = np.zeros((k, k), int), np.zeros((k, k))
    for a in range(k):
        for b in range(a + 1, k):
            d = grid[:, a] - grid[:, b]
            d = d[np.isfinite(d)]
            shared[a, b] = shared[b, a] = len(d)
            rms[a, b] = rms[b, a] = np.sqrt(np.mean(d**2)) if len(d) else 0.0
    return shared, rms
