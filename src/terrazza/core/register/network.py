"""Network adjustment: all scans together, over every patch of surface that two or more of them saw.

In each patch (see ``patches``) each scan's points carry the moments of a plane fit; the common plane is
eliminated and what remains are normal equations of the poses (and two errors of the instrument a scan, held
by a prior).  This is bundle adjustment of planes from point moments, as in Liu & Zhang 2021 (IEEE RA-L
6:3184), with the planes eliminated linearly.

Unknowns of scan s, in the job frame: rotation about its own place (3, rad), shift (3, m), range bias (1, m),
vertical index error (1, rad): by how much it reads too far and too high.
"""

from dataclasses import dataclass

import numpy as np
from scipy import linalg, sparse

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register.cloud_fit import FACING
from terrazza.core.register.patches import Patches, collect, in_job, pooled
from terrazza.errors import InputError

BIAS_SIGMA = 0.0004
INDEX_SIGMA = np.radians(15 / 3600)  # rad: of vertical circles of scanners, common practice
U = 8  # unknowns of a scan
SETTLED = 4
UNEVEN = 0.00003
RESTING = 0.0003
FEW = 16  # patches of a scan below which its ties say more
STEP = 0.05  # m: over which the change along a patch is taken
SURE = 0.004  # m: where the normals that face a shift leave it less sure than this, nothing holds it
HELD = (
    np.radians(0.5),
    0.1,
    # rad and m: standard deviations of the poses that an adjustment begins with; a direction that no surface
    # holds stays there, with that σ
)
ALIKE = np.cos(np.radians(12.0))  # directions nearer to each other than this are one


@dataclass
class Adjusted:
    """Result of the adjustment.

    ``poses``; ``covariance`` (k, 6, 6) of (rotation, shift) per scan, job frame, relative to the fixed scans;
    ``joint`` (6k, 6k); ``bias`` (m) per scan; ``rms`` (m) of the patch distances; ``variance_factor``;
    ``redundancy``; ``shared`` (k, k): patches seen by both; ``pair_rms`` (k, k), m.
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


def adjust(
    patches: Patches,
    poses: list[np.ndarray],
    fixed: set[int],
    rounds: int = 12,
    bias_sigma: float = BIAS_SIGMA,
    known: np.ndarray | None = None,
) -> Adjusted:
    """Least squares over all patches; scans in ``fixed`` keep their poses.  ``known`` (6k, 6k): information
    on (rotation, shift) that ``poses`` carry already, such as that of cloud ties.

    Raises InputError where the patches cannot hold every free scan.
    """
    k = len(poses)
    poses = [p.copy() for p in poses]
    free = [s for s in range(k) if s not in fixed]
    own = np.zeros((k, 2))
    active = np.array(
        [U * s + i for s in free for i in range(6)] + [U * s + i for s in range(k) for i in (6, 7)], int
    )
    weight, across = np.ones(len(patches.n)), np.eye(U * k)
    if known is None and any(
        seen < 3 for s, seen in enumerate(np.bincount(patches.scan, minlength=k)) if s not in fixed
    ):
        raise InputError(
            "The ties do not hold every scan.",
            "Take the loose scans out of the adjustment, or tie them to a neighbour.",
        )
    since, keep = np.zeros(U * k), np.array([U * s + i for s in range(k) for i in range(6)])
    prior = np.diag(
        np.tile([1 / HELD[0] ** 2] * 3 + [1 / HELD[1] ** 2] * 3 + [1 / bias_sigma**2, 1 / INDEX_SIGMA**2], k)
    )
    prior[np.ix_(keep, keep)] += 0.0 if known is None else known
    for done in range(rounds):
        system = _equations(patches, poses, own, weight)
        weight = (
            _judged(patches, system, soft=done < rounds - SETTLED) if done <= rounds - SETTLED else weight
        )
        system = _equations(patches, poses, own, weight)
        factor, redundancy = _variance_factor(patches, system, weight, len(free))
        across = (
            _across_unheld(patches, system, k, factor, fixed)
            if done in {0, rounds - SETTLED, rounds - 1}
            else across
        )
        full = across @ (system.normal / factor) @ across + prior
        solution = np.zeros(U * k)
        solution[active] = -_solve(
            full[np.ix_(active, active)], (across @ system.gradient / factor + prior @ since)[active]
        )
        for s in free:
            place = poses[s][:3, 3]
            poses[s] = rigid.step(
                poses[s], solution[U * s : U * s + 3], solution[U * s + 3 : U * s + 6], place
            )
        since += solution  # small turns add up
        own = since.reshape(k, U)[:, 6:].copy()
    residual = system.residual
    inverse = np.zeros((U * k, U * k))
    inverse[np.ix_(active, active)] = np.linalg.inv(full[np.ix_(active, active)])
    joint = inverse[np.ix_(keep, keep)]
    shared, pair_rms = _pairs(patches, residual, weight, k)
    good = weight > 0
    rms = (
        float(np.sqrt(np.average(residual[good] ** 2, weights=1 / system.noise[good] ** 2)))
        if good.any()
        else 0.0
    )
    return Adjusted(
        poses,
        np.array([joint[6 * s : 6 * s + 6, 6 * s : 6 * s + 6] for s in range(k)]),
        joint,
        own[:, 0],
        rms,
        float(factor),
        redundancy,
        shared,
        pair_rms,
    )


def _across_unheld(patches, system, k, factor, fixed) -> np.ndarray:
    """(8k, 8k) projector that takes away shifts of scans, alone or as a block, which no surface facing them
    holds against the others.

    The noise of normals alone gives the normal equations 1/extent² a patch along its plane: with hundreds of
    patches millimetres, where there is nothing.
    """
    out, taken = np.eye(U * k), np.zeros((0, U * k))
    rows = sparse.csr_matrix((system.weight / factor, (patches.patch, patches.scan)), (patches.count, k))
    total = np.maximum(np.asarray(rows.sum(1)).ravel(), 1e-12)
    facing = np.zeros((patches.count, 3))
    facing[patches.patch] = system.facing
    for direction in _weak_ways(patches, system, k):
        cosine = facing @ direction
        share = np.where(np.abs(cosine) > FACING, cosine**2, 0.0) / total
        between = (rows.T @ sparse.diags(share) @ rows).toarray()
        for block in _blocks(between, 1 / SURE**2):
            if not fixed & set(block):
                shift = np.zeros(U * k)
                shift.reshape(k, U)[block, 3:6] = direction
                shift -= taken.T @ (taken @ shift)  # what other directions have taken already
                if (size := np.linalg.norm(shift)) > 0.1 * np.sqrt(len(block)):
                    taken = np.vstack([taken, shift / size])
    return out - taken.T @ taken


def _weak_ways(patches, system, k) -> list[np.ndarray]:
    """Directions (3,) that may not be held: the two that each scan's patches face least, like ones once."""
    out: list[np.ndarray] = []
    for s in range(k):
        here = patches.scan == s
        normals = system.facing[here] * np.sqrt(system.weight[here])[:, None]
        for way in np.linalg.eigh(normals.T @ normals)[1].T[:2]:
            if not any(abs(way @ o) > ALIKE for o in out):
                out.append(way)
    return out


def _blocks(between: np.ndarray, least: float) -> list[list[int]]:
    """Groups of scans that ``between`` (k, k), what each two hold each other by, holds together: those that
    hold most are put together first, and then hold others by the sum.
    """
    left, held = [[s] for s in range(len(between))], between.copy()
    np.fill_diagonal(held, 0.0)
    while len(left) > 1:
        i, j = np.unravel_index(int(np.argmax(held)), held.shape)
        if held[i, j] < least:
            break
        i, j = min(i, j), max(i, j)
        left[i] += left.pop(j)
        held[i] += held[j]
        held[:, i] += held[:, j]
        held = np.delete(np.delete(held, j, 0), j, 1)
        held[i, i] = 0.0
    return left


def _of_many(patches: Patches, k: int) -> Patches:
    """Without the patches of scans that have few: what is flat by chance, as on open ground, would overrule
    the ties.
    """
    seen = np.bincount(patches.scan, minlength=k)
    use = (seen >= FEW)[patches.scan]
    use &= (np.bincount(patches.patch[use], minlength=patches.count) > 1)[patches.patch] & use
    return Patches(*(getattr(patches, name)[use] for name in ("patch", "scan", "n", "mean", "cov")))


def _without(patches: Patches, apart: set[tuple[int, int]]) -> Patches:
    """Without the patches that no more than the two scans of a pair saw whose tie is switched off."""
    count = np.bincount(patches.patch, minlength=patches.count)
    low, high = np.full(patches.count, 1 << 30), np.full(patches.count, -1)
    np.minimum.at(low, patches.patch, patches.scan)
    np.maximum.at(high, patches.patch, patches.scan)
    off = (count == 2) & np.array([(int(a), int(b)) in apart for a, b in zip(low, high)], bool)
    return Patches(
        *(getattr(patches, name)[~off[patches.patch]] for name in ("patch", "scan", "n", "mean", "cov"))
    )


def solve(
    clouds: list[np.ndarray],
    poses: list[np.ndarray],
    fixed: set[int],
    bias_sigma: float = BIAS_SIGMA,
    passes: int = 3,
    known: np.ndarray | None = None,
    progress: Progress = QUIET,
    apart: set[tuple[int, int]] | None = None,
) -> Adjusted:
    """Patches and adjustment in turn until no scan moves by more than ``RESTING``: patches that were chosen
    while walls still stood double would favour the poses they were chosen at.  ``apart``: pairs of scans (a <
    b) whose common patches are not used.

    Raises InputError like ``adjust``.
    """
    for number in range(passes):
        patches = collect(clouds, poses, Part(progress, number / passes, (number + 1) / passes))
        if known is not None:
            patches = _of_many(patches, len(poses))
        patches = _without(patches, apart) if apart else patches
        if not patches.count:
            raise InputError(
                "Too few common surfaces for an adjustment.",
                "Add ties, or take loose scans out of the adjustment.",
            )
        adjusted = adjust(patches, poses, fixed, bias_sigma=bias_sigma, known=known)
        moved = max(
            rigid.difference(a, b)[0] + 5.0 * rigid.difference(a, b)[1] for a, b in zip(adjusted.poses, poses)
        )
        if moved < RESTING:
            break
        poses = adjusted.poses
    return adjusted


def _judged(patches, system, soft):
    """Weights of the (patch, scan) distances: Tukey's biweight on the way, all or nothing once settled.

    A distance is judged against its own spread: noise, less what the common plane took from it (the scan that
    makes most of a plane lies on it whatever the other does).
    """
    strength = 1 / system.noise**2
    share = strength / np.bincount(patches.patch, strength, patches.count)[patches.patch]
    t = np.abs(system.residual) / (system.noise * np.sqrt(np.maximum(1 - share, 0.01)))
    t = t / max(1.4826 * np.median(t), 0.7)
    return np.where(t < 5, (1 - (t / 5) ** 2) ** 2, 0.0) if soft else (t < 4.0).astype(float)


def _solve(matrix, rhs):
    d = 1 / np.sqrt(np.maximum(np.diag(matrix), 1e-12))
    try:
        return d * linalg.cho_solve(linalg.cho_factor(matrix * d[:, None] * d[None, :]), d * rhs)
    except np.linalg.LinAlgError as error:
        raise InputError(
            "The ties do not hold every scan.",
            "Take the loose scans out of the adjustment, or tie them to a neighbour.",
        ) from error


def _equations(patches, poses, instrument, weight):
    """Normal matrix, gradient, and per (patch, scan) distance from the common plane (m) with its own sigma
    (m).
    """
    k, count, scan, patch = len(poses), patches.count, patches.scan, patches.patch
    mean, cov = in_job(scan, patches.mean, patches.cov, poses)
    place = np.array([p[:3, 3] for p in poses])[scan]
    axis = np.array([p[:3, 2] for p in poses])[scan]
    reach = np.linalg.norm(mean - place, axis=1)[:, None]
    ray, lift = (mean - place) / reach, _lift(mean - place, axis)
    mean = mean - ray * instrument[scan, :1] - lift * instrument[scan, 1:]
    centre, together = pooled(patch, count, patches.n * np.maximum(weight, 1e-6), mean, cov)
    _, vectors = np.linalg.eigh(together)
    normal, e1, e2 = (vectors[patch][:, :, i] for i in (0, 1, 2))
    d = mean - centre[patch]
    u, v, w = (np.einsum("mi,mi->m", a, d) for a in (e1, e2, normal))
    cu, cv = np.einsum("mij,mj->mi", cov, e1), np.einsum("mij,mj->mi", cov, e2)
    cw = np.einsum("mij,mj->mi", cov, normal)
    suu, svv, suv = (np.einsum("mi,mi->m", a, b) for a, b in ((e1, cu), (e2, cv), (e1, cv)))
    suw, svw, sww = (np.einsum("mi,mi->m", a, cw) for a in (e1, e2, normal))
    steep = np.abs(np.einsum("mi,mi->m", normal, ray))
    many = patches.n > 50
    range_noise = (
        np.median(np.sqrt(np.maximum(sww[many], 1e-10)) / np.maximum(steep[many], 0.05))
        if many.sum() > 20
        else 0.002
    )
    # range noise runs along the ray, so on a slanted plane it leans the patch's own moments: take its part
    # out
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
    total = np.stack([np.bincount(patch, m[:, i, j], count) for i in range(3) for j in range(3)], 1).reshape(
        -1, 3, 3
    )
    total += 1e-9 * np.trace(total, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-12 * np.eye(3)
    y_total = np.stack([np.bincount(patch, y[:, i], count) for i in range(3)], 1)
    inverse = np.linalg.inv(total)
    plane = np.einsum("mij,mj->mi", inverse, y_total)
    a = np.zeros((len(p), 3, U))
    lever = centre[patch] - place
    a[:, 0, :3], a[:, 0, 3:6], a[:, 0, 6] = (
        np.cross(lever, normal),
        normal,
        -np.einsum("mi,mi->m", normal, ray),
    )
    a[:, 0, 7] = -np.einsum("mi,mi->m", normal, lift)
    for row, along in ((1, e1), (2, e2)):
        a[:, row, :3] = np.cross(along, normal)
        a[:, row, 7] = -np.einsum(
            "mi,mi->m",
            normal,
            _lift(mean - place + STEP * along, axis) - _lift(mean - place - STEP * along, axis),
        ) / (2 * STEP)
    out, gradient = np.zeros((U * k, U * k)), np.zeros(U * k)
    ma = m @ a
    g = np.einsum("mji,mj->mi", a, y - np.einsum("mij,mj->mi", m, plane[patch]))
    own = np.einsum("mji,mjk->mik", a, ma)
    for s in range(k):
        here = scan == s
        gradient[U * s : U * s + U] = g[here].sum(0)
        out[U * s : U * s + U, U * s : U * s + U] = own[here].sum(0)
    # minus the part that the common planes absorb, for every pair of scans in a patch
    root = np.linalg.cholesky(inverse)[patch]
    left = np.einsum("mji,mjl->mil", root, ma)
    rows = np.repeat(3 * patch[:, None] + np.arange(3), U, axis=1).ravel()
    columns = np.tile(U * scan[:, None] + np.arange(U), (1, 3)).ravel()
    absorbed = sparse.csr_matrix((left.ravel(), (rows, columns)), (3 * count, U * k))
    out -= (absorbed.T @ absorbed).toarray()
    residual = w - (plane[patch] * np.stack([np.ones(len(u)), u, v], 1)).sum(1)
    misfit = y - np.einsum("mij,mj->mi", m, plane[patch])
    squares = np.einsum(
        "mi,mij,mj->m",
        misfit,
        np.linalg.inv(
            m + 1e-12 * np.trace(m, axis1=1, axis2=2)[:, None, None] * np.eye(3) + 1e-9 * np.eye(3)
        ),
        misfit,
    )
    return _System(out, gradient, residual, np.sqrt(sigma2 / effective), squares, normal, p)


def _lift(rays: np.ndarray, axis: np.ndarray) -> np.ndarray:
    """(m, 3) by how much points at ``rays`` (m, 3, m) from their scanner move for each radian that elevations
    about the upright ``axis`` (m, 3) grow.
    """
    along = np.einsum("mi,mi->m", rays, axis)[:, None]
    level = rays - along * axis
    out = np.linalg.norm(level, axis=1)[:, None]
    return out * axis - along * level / np.maximum(out, 1e-6)


@dataclass
class _System:
    """Normal matrix, gradient, distances from the common planes (m), their sigmas (m), whitened squares of
    all three plane moments, unit normals (m, 3) and weights (1/m²).
    """

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
        raise InputError(
            "Too few common surfaces for an adjustment.",
            "Add ties, or take loose scans out of the adjustment.",
        )
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


def by_ties(poses: list[np.ndarray], known: np.ndarray, fixed: set[int]) -> Adjusted:
    """What ties alone hold, where no patches do: ``poses`` with the covariance of their information ``known``
    (6k, 6k).
    """
    k = len(poses)
    free = np.array([6 * s + i for s in range(k) if s not in fixed for i in range(6)], int)
    joint = np.zeros((6 * k, 6 * k))
    joint[np.ix_(free, free)] = np.linalg.inv(
        (known + np.diag(np.tile([1 / HELD[0] ** 2] * 3 + [1 / HELD[1] ** 2] * 3, k)))[np.ix_(free, free)]
    )
    return Adjusted(
        list(poses),
        np.array([joint[6 * s : 6 * s + 6, 6 * s : 6 * s + 6] for s in range(k)]),
        joint,
        np.zeros(k),
        0.0,
        1.0,
        0,
        np.zeros((k, k), int),
        np.zeros((k, k)),
    )
