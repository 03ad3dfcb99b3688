"""Ties between scans that stand where they belong, to within what a narrow fit finds."""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Progress
from terrazza.core.register import cloud_fit
from terrazza.core.register.plan_match import PlanShape, judge
from terrazza.core.register.surface import Surface
from terrazza.errors import InputError

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
