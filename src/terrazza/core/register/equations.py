"""Normal equations of plane patches seen by several scans, with the planes eliminated (see ``network``)."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy import sparse

from terrazza.core.register.patches import in_job, pooled

if TYPE_CHECKING:
    from terrazza.core.register.patches import Patches


U = 8  # unknowns of a scan
UNEVEN = 0.00003
STEP = 0.05  # m: over which the change along a patch is taken


def equations_of(
    patches: "Patches", poses: list[np.ndarray], instrument: np.ndarray, weight: np.ndarray
) -> "System":
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
    return System(out, gradient, residual, np.sqrt(sigma2 / effective), squares, normal, p)


def _lift(rays: np.ndarray, axis: np.ndarray) -> np.ndarray:
    """(m, 3) by how much points at ``rays`` (m, 3, m) from their scanner move for each radian that elevations
    about the upright ``axis`` (m, 3) grow.
    """
    along = np.einsum("mi,mi->m", rays, axis)[:, None]
    level = rays - along * axis
    out = np.linalg.norm(level, axis=1)[:, None]
    return out * axis - along * level / np.maximum(out, 1e-6)


@dataclass
class System:
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
