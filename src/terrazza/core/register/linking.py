"""Ties between scans that stand where they belong, to within what a narrow fit finds."""

from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.core.register import cloud_fit
from terrazza.core.register.contradiction import WIDELY, judge
from terrazza.core.register.offers import COMMON, REFUSED
from terrazza.core.register.picture import Picture
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError

NARROW = (0.12, 0.06, 0.03)  # m: widths of fits from where scans stand
ABOUT_THERE = (0.5, np.radians(5.0))  # m and rad that a fit may end from where it began
LEAST = 0.03  # share of flat points with a partner that a tie has to have


@dataclass
class Tie:
    """A cloud tie: scan ``b`` relative to scan ``a`` (indices), its fit, the share of the smaller scan that
    agrees, the surface (m²) that contradicts, the share of near points that lie on no common surface, and how
    much its information counts.
    """

    a: int
    b: int
    fit: cloud_fit.Fit
    agree: float
    against: float
    failed: str = ""
    unmatched: float = 0.0
    weight: float = 1.0


def fit_all(
    surfaces: list[Surface],
    pictures: list[Picture],
    poses: list[np.ndarray | None],
    least_overlap: float = 0.05,
    progress: Progress = QUIET,
    asked: frozenset[tuple[int, int]] = frozenset(),
) -> list[Tie]:
    """Cloud fits of all pairs of placed scans that overlap, starting from ``poses``; failed ones say why.
    Pairs that are ``asked`` for (the lower index first) are fitted however little they overlap. Poses (4, 4).
    """
    ties = []
    reach = [float(np.linalg.norm(s.xyz, axis=1).max(initial=0.0)) for s in surfaces]
    placed = [k for k, p in enumerate(poses) if p is not None]
    pairs = [
        (a, b)
        for a, b in combinations(placed, 2)
        if (a, b) in asked or np.linalg.norm(poses[a][:3, 3] - poses[b][:3, 3]) <= reach[a] + reach[b]
    ]
    for done, (a, b) in enumerate(pairs):
        progress.advance(done, len(pairs), f"Cloud fit {a + 1} – {b + 1}")
        start = rigid.inverse(poses[a]) @ poses[b]
        verdict = judge(pictures[a], pictures[b], start, WIDELY)
        if (a, b) not in asked and verdict.common < min(least_overlap, COMMON):
            continue
        tie = fit_near(surfaces, pictures, a, b, start)
        if tie is not None:
            ties.append(tie)
    return ties


def fit_near(
    surfaces: list[Surface], pictures: list[Picture], a: int, b: int, start: np.ndarray
) -> Tie | None:
    """The tie of two scans about where they stand (``start`` (4, 4), b to a), which fails where hardly
    anything holds the fit and it wanders off; None where they share too little for one.
    """
    tie = fit_pair(surfaces, pictures, a, b, start, NARROW)
    if tie is not None and not tie.failed and not rigid.within(tie.fit.pose, start, ABOUT_THERE):
        return replace(tie, failed="fits only far from where the scans stand")
    return tie


def fit_pair(
    surfaces: list[Surface],
    pictures: list[Picture],
    a: int,
    b: int,
    start: np.ndarray,
    widths: tuple[float, ...] = cloud_fit.WIDTHS,
) -> Tie | None:
    """One cloud fit with its verdict; None where the two share too little for a fit. ``start`` (4, 4), b to
    a.
    """
    try:
        fit = cloud_fit.fit(surfaces[a], surfaces[b], start, widths=widths)
    except InputError:
        return None
    verdict = judge(pictures[a], pictures[b], fit.pose)
    return Tie(a, b, fit, verdict.common, verdict.area, why_not(verdict.area, fit.overlap))


def why_not(against: float, overlap: float) -> str:
    """Why a fit is not believed, by the surface (m²) against it and its overlap; empty where it is."""
    if against > REFUSED:
        return "contradicts what the scans saw as free space"
    return "overlap under 3 %" if overlap < LEAST else ""


def among(ties: list[Tie], members: list[int]) -> list[Tie]:
    """The ties between ``members`` that did not fail, with scans counted in their order."""
    place = {k: i for i, k in enumerate(members)}
    return [
        replace(t, a=place[t.a], b=place[t.b]) for t in ties if not t.failed and t.a in place and t.b in place
    ]


def at_rest(ties: list[Tie], surfaces: list[Surface], poses: list[np.ndarray | None]) -> list[Tie]:
    """The same ties with RMS, median and number of points where their scans stand in the end (``poses`` to
    the job), not where each pair alone would have them. Poses (4, 4).
    """
    out = []
    for tie in ties:
        found = cloud_fit.compare(
            surfaces[tie.a], surfaces[tie.b], rigid.inverse(poses[tie.a]) @ poses[tie.b]
        )
        if found is not None:
            rms, median, used, unmatched = found
            tie = replace(tie, fit=replace(tie.fit, rms=rms, median=median, used=used), unmatched=unmatched)
        out.append(tie)
    return out
