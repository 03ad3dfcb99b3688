"""How signed distances spread: counted piece by piece, so that any number of points fits."""

from dataclasses import dataclass

import numpy as np

BINS = 400  # over twice the reach


@dataclass(frozen=True)
class Spread:
    """Of ``count`` distances (m) within a reach: their ``total`` and sum of ``squares``, how many are
    ``within`` a tolerance, and ``counts`` between ``edges`` (m); ``beyond``: those between the reach and
    twice of it.
    """

    count: int
    beyond: int
    within: int
    total: float
    squares: float
    edges: np.ndarray
    counts: np.ndarray

    @classmethod
    def of(cls, away: np.ndarray, reach: float, tolerance: float) -> "Spread":
        """Of distances (n,) m, NaN where there is none."""
        off = away[np.isfinite(away)]
        near = off[np.abs(off) <= reach]
        edges = np.linspace(-reach, reach, BINS + 1)
        return cls(
            len(near),
            int((np.abs(off) <= 2 * reach).sum()) - len(near),
            int((np.abs(near) <= tolerance).sum()),
            float(near.sum()),
            float((near**2).sum()),
            edges,
            np.histogram(near, edges)[0],
        )

    @property
    def mean(self) -> float:
        return self.total / self.count

    @property
    def rms(self) -> float:
        return float(np.sqrt(self.squares / self.count))

    @property
    def sigma(self) -> float:
        """Standard deviation (m) about the mean."""
        return float(np.sqrt(max(self.squares / self.count - self.mean**2, 0.0)))

    def quantile(self, share: float) -> float:
        """The distance (m) below which a share lies, to a fraction of a bin."""
        heaped = np.r_[0, np.cumsum(self.counts)]
        return float(np.interp(share * heaped[-1], heaped, self.edges))


def together(parts: list[Spread]) -> Spread:
    """Several put together; they are of one reach."""
    if not parts:
        return Spread.of(np.zeros(0), 1.0, 1.0)
    add = lambda name: sum(getattr(p, name) for p in parts)
    counts = np.sum([p.counts for p in parts], axis=0)
    names = ("count", "beyond", "within", "total", "squares")
    return Spread(*(add(k) for k in names), parts[0].edges, counts)
