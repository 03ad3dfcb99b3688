"""Shifts of scans, alone or as a block, which no surface facing them holds."""

from typing import TYPE_CHECKING

import numpy as np
from scipy import sparse

from terrazza.core.register.cloud_fit import FACING, GENTLE
from terrazza.core.register.equations import U

if TYPE_CHECKING:
    from terrazza.core.register.equations import System
    from terrazza.core.register.patches import Patches


SURE = 0.004  # m: where the normals that face a shift leave it less sure than this, nothing holds it
GENTLY = 0.1  # part that patches count which slope gently along a shift: on open ground there are hundreds
ALIKE = np.cos(np.radians(12.0))  # directions nearer to each other than this are one


def across_unheld(patches: "Patches", system: "System", k: int, factor: float, fixed: set[int]) -> np.ndarray:
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
        part = np.where(np.abs(cosine) > FACING, 1.0, GENTLY * (np.abs(cosine) > GENTLE))
        share = part * cosine**2 / total
        between = (rows.T @ sparse.diags(share) @ rows).toarray()
        for block in _blocks(between, 1 / SURE**2):
            if not fixed & set(block):
                shift = np.zeros(U * k)
                shift.reshape(k, U)[block, 3:6] = direction
                shift -= taken.T @ (taken @ shift)  # what other directions have taken already
                if (size := np.linalg.norm(shift)) > 0.1 * np.sqrt(len(block)):
                    taken = np.vstack([taken, shift / size])
    return out - taken.T @ taken


def _weak_ways(patches: "Patches", system: "System", k: int) -> list[np.ndarray]:
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
