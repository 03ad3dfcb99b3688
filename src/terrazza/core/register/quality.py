"""How well a network of ties hangs together: residuals of ties, loops, the global test, what would go
unnoticed, and which tie would help most.

Reliability numbers after Baarda 1968 (*A testing procedure for use in geodetic networks*): a blunder of 4.13
σ/√r is found with 80 % where one true tie in a thousand would be suspected.
"""

from dataclasses import dataclass

import numpy as np
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.register.cloud_fit import FIRM, weak_direction
from terrazza.core.register.graph import observed
from terrazza.core.register.linking import Tie

NONCENTRAL = 4.13  # δ₀ for α = 0.1 % and a power of 80 %
LEVEL = 0.05
TIE_SIGMA = 0.001  # m: of a further tie between two scans that see each other's surroundings, common practice
REACH = 25.0  # m between stations that a further tie could join


@dataclass(frozen=True)
class TieQuality:
    """Of one tie in its network: normalised residual ``w`` (root mean square of its six), share of
    ``redundancy`` (0 to 1), and the least shift ``unnoticed`` (m) that would not be found; infinite where
    nothing controls it.
    """

    w: float
    redundancy: float
    unnoticed: float


@dataclass(frozen=True)
class Loop:
    """Scans (indices) in order around, and what the ties around it do not close by: shift (m) and
    turn (rad).
    """

    scans: tuple[int, ...]
    shift: float
    turn: float


def of_ties(ties: list[Tie], poses: list[np.ndarray], joint: np.ndarray) -> list[TieQuality]:
    """Each tie against the network where its scans stand; ``joint`` (6k, 6k) is the covariance of
    all poses.
    """
    out = []
    for tie in ties:
        here = np.r_[6 * tie.a : 6 * tie.a + 6, 6 * tie.b : 6 * tie.b + 6]
        information, design, off = observed(tie, poses)
        adjusted = design @ joint[np.ix_(here, here)] @ design.T
        redundancy = float(np.clip(1 - np.trace(information @ adjusted) / 6, 0.0, 1.0))
        weakest = 1 / np.sqrt(max(np.linalg.eigvalsh(information[3:, 3:])[0], 1e-12))
        out.append(
            TieQuality(
                float(np.sqrt(max(off @ information @ off, 0.0) / 6)),
                redundancy,
                float(NONCENTRAL * weakest / np.sqrt(redundancy)) if redundancy > 0.01 else np.inf,
            )
        )
    return out


def loops(ties: list[Tie], count: int) -> list[Loop]:
    """The shortest loop that each tie outside a spanning tree closes, widest misclosure first; ``count``
    scans.  Ties that failed, and those that slide, close nothing.
    """
    near: dict[int, dict[int, np.ndarray]] = {k: {} for k in range(count)}
    out = []
    for tie in sorted(
        (t for t in ties if not t.failed and not t.fit.free and weak_direction(t.fit.information)[1] > FIRM),
        key=lambda t: -t.fit.overlap,
    ):
        way = _way(near, tie.a, tie.b)
        if way:
            closed = np.eye(4)
            for one, other in zip(way, way[1:]):
                closed = closed @ near[one][other]
            shift, turn = rigid.difference(closed, tie.fit.pose)
            out.append(Loop(tuple(way), float(shift), float(turn)))
        near[tie.a][tie.b], near[tie.b][tie.a] = tie.fit.pose, rigid.inverse(tie.fit.pose)
    return sorted(out, key=lambda loop: -loop.shift)


def _way(near: dict[int, dict[int, np.ndarray]], start: int, end: int) -> list[int]:
    """Shortest way between two scans over ties; empty where there is none."""
    before, todo = {start: start}, [start]
    while todo and end not in before:
        todo = [j for k in todo for j in near[k] if before.setdefault(j, k) == k and j != start]
    if end not in before:
        return []
    way = [end]
    while way[-1] != start:
        way.append(before[way[-1]])
    return way[::-1]


def global_test(qualities: list[TieQuality], free: int) -> tuple[float, float, float] | None:
    """Sum of squares of all ties over its redundancy, with the two-sided bounds that it keeps in 95 of 100
    networks; None without redundancy.
    """
    redundancy = 6 * (len(qualities) - free)
    if redundancy <= 0:
        return None
    low, high = stats.chi2.ppf([LEVEL / 2, 1 - LEVEL / 2], redundancy) / redundancy
    return float(sum(6 * q.w**2 for q in qualities) / redundancy), float(low), float(high)


@dataclass(frozen=True)
class Advice:
    """The least sure scan (index): ``sigma`` (m) along ``direction`` (3,), and the scan to which a further
    tie would make it ``then`` (m); None where none would help by half.
    """

    scan: int
    sigma: float
    direction: np.ndarray
    to: int | None
    then: float


def advice(poses: list[np.ndarray], joint: np.ndarray, ties: list[Tie]) -> Advice | None:
    """Where a further tie would help most; None where nothing is free. Poses (4, 4), ``joint`` (6n, 6n)."""
    count = len(poses)
    blocks = [joint[6 * k + 3 : 6 * k + 6, 6 * k + 3 : 6 * k + 6] for k in range(count)]
    k = int(np.argmax([np.linalg.eigvalsh(b)[-1] for b in blocks]))
    values, vectors = np.linalg.eigh(blocks[k])
    sigma, direction = float(np.sqrt(max(values[-1], 0.0))), vectors[:, -1]
    if sigma <= 0:
        return None
    tied = {t.a + t.b - k for t in ties if not t.failed and k in (t.a, t.b)}
    best: tuple[float, int | None] = (sigma / 2, None)
    for j in range(count):
        if j == k or j in tied or np.linalg.norm(poses[j][:3, 3] - poses[k][:3, 3]) > REACH:
            continue
        along = np.r_[direction, -direction]
        both = np.r_[6 * k + 3 : 6 * k + 6, 6 * j + 3 : 6 * j + 6]
        relative = float(along @ joint[np.ix_(both, both)] @ along)
        shared = float(direction @ joint[6 * k + 3 : 6 * k + 6][:, both] @ along)
        then = float(np.sqrt(max(sigma**2 - shared**2 / (relative + TIE_SIGMA**2), 0.0)))
        if then < best[0]:
            best = then, j
    return Advice(k, sigma, direction, best[1], best[0] if best[1] is not None else sigma)
