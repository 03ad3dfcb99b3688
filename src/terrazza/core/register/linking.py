"""From pairs to islands: which rough ties to believe, and the poses they imply.

Ties are taken best first.  Two islands are joined only where no pair of scans
across them then contradicts what the other saw as free space, so one false but
attractive tie cannot fold the job.
"""

from dataclasses import dataclass, field

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.core.register import cloud_fit
from terrazza.core.register.plan_match import Candidate, PlanShape, candidates, judge
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError

BELIEVE = 0.12
CONTRADICTION = 0.03


@dataclass
class Tie:
    """A cloud tie: scan ``b`` relative to scan ``a`` (indices), its fit, and its free-space verdict."""

    a: int
    b: int
    fit: cloud_fit.Fit
    agree: float
    against: float
    failed: str = ""


@dataclass
class Linked:
    """Rough poses by scan (None where nothing ties it), the islands, and the pairs that were believed."""

    poses: list[np.ndarray | None]
    islands: list[list[int]]
    pairs: list[tuple[int, int]] = field(default_factory=list)


def link(surfaces: list[Surface], shapes: list[PlanShape], start: dict[int, np.ndarray], progress: Progress = QUIET) -> Linked:
    """Find where scans stand among each other from nothing (or from ``start``: poses of scans that count as placed).

    Scans with a start pose form one island from the outset.  The first scan of
    the largest island keeps its levelled frame where no start pose is given.
    """
    n = len(surfaces)
    island = list(range(n))
    pose = [start.get(k, np.eye(4)) for k in range(n)]
    placed = sorted(start)
    for k in placed:
        island[k] = island[placed[0]]
    offers: list[tuple[float, int, int, Candidate]] = []
    pairs = [(a, b) for a in range(n) for b in range(a + 1, n) if island[a] != island[b]]
    for done, (a, b) in enumerate(pairs):
        progress.advance(done, len(pairs), f"Plan match {a + 1} – {b + 1}")
        offers += [(c.score, a, b, c) for c in candidates(shapes[a], shapes[b]) if c.score > BELIEVE]
    offers.sort(key=lambda o: -o[0])
    believed = []
    for _, a, b, candidate in offers:
        if island[a] == island[b]:
            continue
        tie = _refined(surfaces, shapes, a, b, candidate)
        if tie is None:
            continue
        mover = pose[a] @ tie.fit.pose @ rigid.inverse(pose[b])
        stay, go = island[a], island[b]
        if go in {island[k] for k in placed}:
            mover, stay, go = rigid.inverse(mover), go, stay
        moved = {k: mover @ pose[k] for k in range(n) if island[k] == go}
        if _contradicted(shapes, pose, moved, [k for k in range(n) if island[k] == stay]):
            continue
        for k, m in moved.items():
            pose[k], island[k] = m, stay
        believed.append((a, b))
    groups = {i: [k for k in range(n) if island[k] == i] for i in sorted(set(island))}
    main = max(groups.values(), key=lambda g: (bool(set(g) & set(placed)), len(g), -g[0]))
    return Linked([pose[k] if k in main else None for k in range(n)], list(groups.values()), believed)


def _refined(surfaces, shapes, a, b, candidate):
    """The candidate after a cloud fit, or None where the fit or its free-space verdict fails."""
    try:
        fit = cloud_fit.fit(surfaces[a], surfaces[b], candidate.pose, widths=(0.6, 0.3, 0.12, 0.06), rounds=8)
    except InputError:
        return None
    verdict = judge(shapes[a], shapes[b], fit.pose, 0.12)
    if verdict.against > CONTRADICTION or verdict.agree < 0.8 * candidate.agree or fit.rms > 0.03:
        return None
    return Tie(a, b, fit, verdict.agree, verdict.against)


def _contradicted(shapes, pose, moved, others):
    for k, m in moved.items():
        for j in others:
            verdict = judge(shapes[j], shapes[k], rigid.inverse(pose[j]) @ m, 0.30)
            if verdict.agree > 0.03 and verdict.against > 2 * CONTRADICTION:
                return True
    return False


def fit_all(surfaces: list[Surface], shapes: list[PlanShape], poses: list[np.ndarray | None], least_overlap: float = 0.05,
            progress: Progress = QUIET) -> list[Tie]:
    """Cloud fits of all pairs of placed scans that overlap, starting from ``poses``; failed ones say why."""
    ties = []
    pairs = [(a, b) for a in range(len(poses)) for b in range(a + 1, len(poses)) if poses[a] is not None and poses[b] is not None]
    for done, (a, b) in enumerate(pairs):
        progress.advance(done, len(pairs), f"Cloud fit {a + 1} – {b + 1}")
        start = rigid.inverse(poses[a]) @ poses[b]
        verdict = judge(shapes[a], shapes[b], start, 0.15)
        if verdict.agree < least_overlap:
            continue
        tie = fit_pair(surfaces, shapes, a, b, start, widths=(0.12, 0.06, 0.03))
        if tie is not None:
            ties.append(tie)
    return ties


def fit_pair(surfaces, shapes, a, b, start, widths=cloud_fit.WIDTHS) -> Tie | None:
    """One cloud fit with its verdict; None where the two share too little for a fit."""
    try:
        fit = cloud_fit.fit(surfaces[a], surfaces[b], start, widths=widths)
    except InputError:
        return None
    verdict = judge(shapes[a], shapes[b], fit.pose, 0.12)
    failed = ""
    if verdict.against > CONTRADICTION:
        failed = "contradicts what the scans saw as free space"
    elif fit.overlap < 0.03:
        failed = "overlap under 3 %"
    return Tie(a, b, fit, verdict.agree, verdict.against, failed)
