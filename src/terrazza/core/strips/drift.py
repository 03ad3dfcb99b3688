"""How far the passes of a flight are off besides: each as a whole, or slowly changing along it."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy import sparse

from terrazza.core.strips.flight import Pass

EVERY = 5.0  # s from knot to knot of a slow drift


@dataclass(frozen=True)
class Drift:
    """Shifts ``value`` (k, 3) m in the grid at knots: ``number`` (k,) of the pass, ``time`` (k,) s, both
    rising; straight from one to the next of a pass, and as at its ends beyond.
    """

    number: np.ndarray
    time: np.ndarray
    value: np.ndarray

    @classmethod
    def none(cls, passes: Sequence[Pass], every: float = np.inf) -> "Drift":
        """Knots without shifts: one a pass, or about ``every`` so many seconds."""
        knots = []
        for number, one in enumerate(passes):
            many = 1 + max(round((one.end - one.start) / every), 1) if np.isfinite(every) else 1
            at = np.linspace(one.start, one.end, many) if many > 1 else [(one.start + one.end) / 2]
            knots += [(number, float(t)) for t in at]
        number, time = zip(*knots)
        return cls(np.array(number), np.array(time), np.zeros((len(knots), 3)))

    @property
    def by_pass(self) -> "Drift":
        """The mean shift of each pass, everywhere along it."""
        means = self.means @ self.value
        return replace(self, value=means[np.searchsorted(np.unique(self.number), self.number)])

    def weights(self, number: np.ndarray, when: np.ndarray) -> sparse.csr_matrix:
        """(n, k) shares that the knots have at times of passes (n,)."""
        first = np.searchsorted(self.number, number)
        last = np.searchsorted(self.number, number, side="right") - 1
        after = np.minimum(np.searchsorted(self.time, when), last) if len(self.time) > 1 else first
        after = np.clip(after, first, last)
        before = np.maximum(after - 1, first)
        span = self.time[after] - self.time[before]
        share = np.clip((when - self.time[before]) / np.where(span > 0, span, 1.0), 0.0, 1.0)
        share[before == after] = 1.0
        rows = np.arange(len(number))
        value, column = np.r_[1 - share, share], np.r_[before, after]
        return sparse.csr_matrix((value, (np.r_[rows, rows], column)), (len(number), len(self.time)))

    def at(self, number: np.ndarray, when: np.ndarray) -> np.ndarray:
        """(n, 3) m at times of passes (n,)."""
        return self.weights(number, when) @ self.value

    @property
    def means(self) -> np.ndarray:
        """(passes, k) the mean of the knots of each pass."""
        mine = (self.number == np.unique(self.number)[:, None]).astype(float)
        return mine / mine.sum(1, keepdims=True)

    @property
    def steps(self) -> np.ndarray:
        """(s, k) differences of neighbouring knots of a pass."""
        there = np.flatnonzero(self.number[1:] == self.number[:-1])
        out = np.zeros((len(there), len(self.time)))
        out[np.arange(len(there)), there] = -1.0
        out[np.arange(len(there)), there + 1] = 1.0
        return out
