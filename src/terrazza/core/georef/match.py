"""Which target is which control point, from geometry alone; every placement that explains the points about as
well is found too.
"""

from dataclasses import dataclass
from itertools import combinations, permutations
from typing import Any

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef.fit import KNOWN_FACTORS

APART = 0.3  # m: points nearer than this give no direction
CLOSELY = 30  # placements of two points that are looked at closely, best counts first
ELSEWHERE = (0.15, np.radians(1.0))  # two placements nearer than this are one
TRIPLES = 120  # of control points tried where the job may be tilted, widest first


@dataclass
class Matching:
    """``pairs`` (control index, target index); ``rms`` (m); ``order``: how the file's three columns read;
    ``pose``: job to grid (None without pairs).
    """

    pairs: list[tuple[int, int]]
    rms: float
    order: tuple[int, int, int] = (0, 1, 2)
    pose: np.ndarray | None = None

    @property
    def rank(self) -> tuple[Any, ...]:
        return -len(self.pairs), self.rms


def solutions(
    control: np.ndarray, targets: np.ndarray, tolerance: float = 0.03, level: bool = True, keep: int = 3
) -> list[Matching]:
    """Placements under which at least two pairs agree within ``tolerance`` (m), most pairs first, then least
    residual; each another placement.

    Both (n, 3).  Every pair of control points (every triple, where the job is not ``level``) is laid on every
    pair of targets of the same distance and height difference; the best are fitted to all the pairs that they
    explain.
    """
    poses = _level_poses(control, targets, tolerance) if level else _tilted_poses(control, targets, tolerance)
    found: list[Matching] = []
    for pose in poses:
        one = _settled(control, targets, pose, tolerance, level)
        if one.pose is not None and not any(_same(one, o, control) for o in found):
            found.append(one)
    return sorted(found, key=lambda m: m.rank)[:keep]


def match(control: np.ndarray, targets: np.ndarray, tolerance: float = 0.03, level: bool = True) -> Matching:
    """The first of ``solutions``, or a matching without pairs. ``control`` (n, 3) and ``targets`` (m, 3),
    m.
    """
    return next(iter(solutions(control, targets, tolerance, level, 1)), Matching([], np.inf))


def _same(one: Matching, other: Matching, control: np.ndarray) -> bool:
    about = control.mean(0)
    apart = rigid.apply(one.pose @ rigid.inverse(other.pose), about[None])[0] - about
    turn = np.linalg.norm(rigid.vector_from(one.pose[:3, :3] @ other.pose[:3, :3].T))
    return one.pairs == other.pairs or (np.linalg.norm(apart) < ELSEWHERE[0] and turn < ELSEWHERE[1])


def _level_poses(control: np.ndarray, targets: np.ndarray, tolerance: float) -> list[np.ndarray]:
    """Placements of two control points on two targets, those under which most control points have a target
    near by first.
    """
    if len(control) < 2 or len(targets) < 2:
        return []
    d_target = np.linalg.norm(targets[:, None, :2] - targets[None, :, :2], axis=2)
    h_target = targets[None, :, 2] - targets[:, None, 2]
    ranked: list[tuple[float, np.ndarray]] = []
    for i, j in combinations(range(len(control)), 2):
        to = control[j] - control[i]
        d = np.hypot(*to[:2])
        a, b = np.nonzero((np.abs(d_target - d) < tolerance) & (np.abs(h_target - to[2]) < tolerance))
        if d < APART or not len(a):
            continue
        own = targets[b] - targets[a]
        turn = np.arctan2(to[1], to[0]) - np.arctan2(own[:, 1], own[:, 0])
        c, s = np.cos(turn), np.sin(turn)
        x, y = (
            c[:, None] * targets[:, 0] - s[:, None] * targets[:, 1],
            s[:, None] * targets[:, 0] + c[:, None] * targets[:, 1],
        )
        placed = np.stack([x, y, np.broadcast_to(targets[:, 2], x.shape)], 2)
        shift = (control[i] + control[j]) / 2 - (
            placed[np.arange(len(a)), a] + placed[np.arange(len(a)), b]
        ) / 2
        gap = ((placed[:, None] + (shift[:, None] - control)[:, :, None]) ** 2).sum(3).min(2)
        near = gap < (2 * tolerance) ** 2
        score = near.sum(1) - (gap * near).sum(1) / (len(control) * (2 * tolerance) ** 2)
        for k in np.argsort(-score)[:6]:
            ranked.append((float(score[k]), rigid.make(rigid.about_z(turn[k]), shift[k])))
    return [p for _, p in sorted(ranked, key=lambda r: -r[0])[: 4 * CLOSELY]]


def _tilted_poses(control: np.ndarray, targets: np.ndarray, tolerance: float) -> list[np.ndarray]:
    """Placements of three control points on three targets, in all directions, those with most targets near by
    first.
    """
    if len(control) < 3 or len(targets) < 3:
        return []
    mine, theirs = (np.linalg.norm(p[:, None] - p[None], axis=2) for p in (control, targets))
    width = {
        t: min(mine[t[0], t[1]], mine[t[0], t[2]], mine[t[1], t[2]])
        for t in combinations(range(len(control)), 3)
    }
    ranked: list[tuple[float, np.ndarray]] = []
    for i, j, k in sorted(width, key=lambda t: -width[t])[:TRIPLES]:
        for a, b in zip(*np.nonzero(np.abs(theirs - mine[i, j]) < tolerance)):
            for c in np.flatnonzero(
                (np.abs(theirs[a] - mine[i, k]) < tolerance) & (np.abs(theirs[b] - mine[j, k]) < tolerance)
            ):
                if len({a, b, c}) == 3 and width[i, j, k] > APART:
                    pose, _ = rigid.fit(targets[[a, b, c]], control[[i, j, k]])
                    gap = np.linalg.norm(rigid.apply(pose, targets)[None] - control[:, None], axis=2).min(1)
                    ranked.append(
                        (float((gap < 2 * tolerance).sum() - gap[gap < 2 * tolerance].mean()), pose)
                    )
    return [p for _, p in sorted(ranked, key=lambda r: -r[0])[:CLOSELY]]


def _settled(
    control: np.ndarray, targets: np.ndarray, pose: np.ndarray, tolerance: float, level: bool
) -> Matching:
    """Pairs under a placement and the placement that fits them, in turn, until they stay."""
    best = _explained(control, targets, pose, tolerance)
    for _ in range(3):
        if len(best.pairs) < 2 + (not level):
            break
        c, t = map(list, zip(*best.pairs))
        again = _explained(control, targets, rigid.fit(targets[t], control[c], level=level)[0], tolerance)
        if again.rank >= best.rank:
            break
        best = again
    return best


def _explained(control: np.ndarray, targets: np.ndarray, pose: np.ndarray, tolerance: float) -> "Matching":
    gap = np.linalg.norm(rigid.apply(pose, targets)[None] - control[:, None], axis=2)
    pairs, squares = [], []
    while gap.size and gap.min() < tolerance:
        c, t = np.unravel_index(np.argmin(gap), gap.shape)
        pairs.append((int(c), int(t)))
        squares.append(gap[c, t] ** 2)
        gap[c], gap[:, t] = np.inf, np.inf
    return Matching(
        sorted(pairs), float(np.sqrt(np.mean(squares))) if squares else np.inf, pose=pose if pairs else None
    )


def match_any_order(
    columns: np.ndarray,
    heights: np.ndarray,
    targets: np.ndarray,
    orders: list[tuple[int, int, int]] | None = None,
    tolerance: float = 0.03,
    level: bool = True,
) -> Matching:
    """Like ``match``, where the file does not say which of its three columns is which; tries ``orders`` and
    takes the best.

    ``columns`` (n, 3) as in the file; ``heights`` (n,) target heights to be added to the height column.
    """
    best = Matching([], np.inf)
    for order in orders or list(permutations(range(3))):
        found = match(
            columns[:, list(order)] + np.c_[np.zeros((len(heights), 2)), heights], targets, tolerance, level
        )
        if len(found.pairs) > len(best.pairs) or (
            len(found.pairs) == len(best.pairs) and found.rms < 0.7 * best.rms
        ):
            best = Matching(found.pairs, found.rms, tuple(order), found.pose)
    return best


def likely_scale(control: np.ndarray, targets: np.ndarray) -> float | None:
    """A known unit factor under which at least three points would match, or None. ``control`` (n, 3) and
    ``targets`` (m, 3), m.
    """
    for factor in KNOWN_FACTORS:
        if len(match(control / factor, targets).pairs) >= min(4, len(control)):
            return factor
    return None
