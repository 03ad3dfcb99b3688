"""Which target is which control point, from geometry alone."""

from dataclasses import dataclass
from itertools import permutations

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef.fit import KNOWN_FACTORS


@dataclass
class Matching:
    """``pairs`` (control index, target index); ``rms`` (m); ``order``: how the file's three columns read; ``scale`` tried."""

    pairs: list[tuple[int, int]]
    rms: float
    order: tuple[int, int, int] = (0, 1, 2)
    scale: float = 1.0


def match(control: np.ndarray, targets: np.ndarray, tolerance: float = 0.03) -> Matching:
    """Most pairs that one levelled motion explains within ``tolerance`` (m); both frames have z up.

    Both (n, 3).  Every pair of control points is laid on every pair of targets of the same distance and
    height difference; the hypothesis with most pairs, then least residual, wins.
    """
    best = Matching([], np.inf)
    if len(control) < 2 or len(targets) < 2:
        return best
    d_target = np.linalg.norm(targets[:, None, :2] - targets[None, :, :2], axis=2)
    h_target = targets[None, :, 2] - targets[:, None, 2]
    for i in range(len(control)):
        for j in range(i + 1, len(control)):
            d, h = np.linalg.norm(control[j, :2] - control[i, :2]), control[j, 2] - control[i, 2]
            for a, b in zip(*np.nonzero((np.abs(d_target - d) < tolerance) & (np.abs(h_target - h) < tolerance))):
                if a == b or d < 0.3:
                    continue
                pose, _ = rigid.fit(targets[[a, b]], control[[i, j]], level=True)
                found = _explained(control, targets, pose, tolerance)
                if len(found.pairs) > len(best.pairs) or (len(found.pairs) == len(best.pairs) and found.rms < best.rms):
                    best = found
    if len(best.pairs) >= 3:  # once more with the pose that all pairs agree on
        c, t = map(list, zip(*best.pairs))
        pose, _ = rigid.fit(targets[t], control[c], level=True)
        again = _explained(control, targets, pose, tolerance)
        best = again if len(again.pairs) >= len(best.pairs) else best
    return best


def _explained(control, targets, pose, tolerance):
    gap = np.linalg.norm(rigid.apply(pose, targets)[None] - control[:, None], axis=2)
    pairs, squares = [], []
    while gap.size and gap.min() < tolerance:
        c, t = np.unravel_index(np.argmin(gap), gap.shape)
        pairs.append((int(c), int(t)))
        squares.append(gap[c, t] ** 2)
        gap[c], gap[:, t] = np.inf, np.inf
    return Matching(sorted(pairs), float(np.sqrt(np.mean(squares))) if squares else np.inf)


def match_any_order(columns: np.ndarray, heights: np.ndarray, targets: np.ndarray, orders=None, tolerance: float = 0.03) -> Matching:
    """Like ``match``, where the file does not say which of its three columns is which; tries ``orders`` and takes the best.

    ``columns`` (n, 3) as in the file; ``heights`` (n,) target heights to be added to the height column.
    """
    best = Matching([], np.inf)
    for order in orders or list(permutations(range(3))):
        control = columns[:, list(order)] + np.c_[np.zeros((len(heights), 2)), heights]
        found = match(control, targets, tolerance)
        if len(found.pairs) > len(best.pairs) or (len(found.pairs) == len(best.pairs) and found.rms < 0.7 * best.rms):
            best = Matching(found.pairs, found.rms, tuple(order))
    return best


def likely_scale(control: np.ndarray, targets: np.ndarray) -> float | None:
    """A known unit factor under which at least three points would match, or None."""
    for factor in KNOWN_FACTORS:
        if len(match(control / factor, targets).pairs) >= min(4, len(control)):
            return factor
    return None
