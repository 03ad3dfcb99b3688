"""The turn of a scanner against its craft, from surfaces that passes have in common, by least squares.

Grid = place + A · (R · m + lever) with the attitude A of the path and the unknown turn R (Skaloud and Lichti
2006, ISPRS Journal of Photogrammetry and Remote Sensing 61, solve the same from planes).  A pass has a shift
of its own besides, or one that changes slowly along it, as large as the data say, so that a drifting path
does not look like a turn; covariances are those of groups of neighbouring pairs, whose errors go together.
"""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from scipy import sparse

from terrazza.core.strips.drift import Drift
from terrazza.core.strips.flight import Flight, rotation
from terrazza.core.strips.patches import Pairs, Patches, apart_by

ROUNDS = 12
LOOSE = np.radians(3.0)  # a turn is no larger, or so
LEVER, SCALE = 1.0, 0.01  # m, share: the same of lever arms and of the range
TUKEY = 4.0
STEP, STILL = 1e-6, 0.01  # of a derivative; σ by which a solution still moves at its end
GROUPS = 4  # stretches of a pass whose errors go together
SHIFT_LEAST, SHIFT_MOST = 1e-4, 1.0  # m
ANGLES, LEVERS = ("roll", "pitch", "heading"), ("lever x", "lever y", "lever z")


@dataclass
class Solved:
    """``angles`` (3,) rad, ``lever`` (3,) m, range ``scale``; ``covariance`` (p, p) and ``names`` (p,) of
    what was solved; ``shifts`` (knots, 3) m besides those of the problem and what all spread, ``spread`` m;
    residuals along the normals ``before`` and ``after`` (k,) m, what is ``left`` (k,) m with the shifts,
    ``weight`` (k,), and ``factor``, how much larger they are than the patches let expect.  ``unlikely``:
    minus twice the logarithm of what is left of the data's probability by unknowns and shifts as they are.
    """

    angles: np.ndarray
    lever: np.ndarray
    scale: float
    covariance: np.ndarray
    names: tuple[str, ...]
    shifts: np.ndarray
    spread: float
    before: np.ndarray
    after: np.ndarray
    weight: np.ndarray
    factor: float
    left: np.ndarray
    unlikely: float = 0.0

    @property
    def correlation(self) -> np.ndarray:
        sigma = np.sqrt(np.diag(self.covariance))
        return self.covariance / np.outer(sigma, sigma)


@dataclass
class Problem:
    """Pairs of patches with the attitudes that they were seen at."""

    flight: Flight
    patches: Patches
    pairs: Pairs
    own_lever: np.ndarray
    drift: Drift  # the passes' shifts that the patches have already, at the knots that are solved for
    solve_lever: bool = False
    solve_scale: bool = False
    place: np.ndarray = field(init=False)
    turn: np.ndarray = field(init=False)
    seen: np.ndarray = field(init=False)

    def __post_init__(self) -> None:
        self.place, attitude = self.flight.at(self.patches.time)
        self.turn = rotation(attitude)
        self.seen = np.einsum("nba,nb->na", self.turn, self.patches.at - self.place) - self.own_lever

    @property
    def names(self) -> tuple[str, ...]:
        return ANGLES + LEVERS * self.solve_lever + ("range scale",) * self.solve_scale

    def unpacked(self, values: np.ndarray) -> tuple[np.ndarray, np.ndarray, float]:
        lever = self.own_lever + (values[3:6] if self.solve_lever else 0.0)
        return values[:3], lever, 1.0 + (values[-1] if self.solve_scale else 0.0)

    def moved(self, values: np.ndarray) -> np.ndarray:
        """(k, 3) middles of the patches with the unknowns at some values."""
        angles, lever, scale = self.unpacked(values)
        inner = scale * self.seen @ rotation(angles).T + lever
        return self.place + np.einsum("nab,nb->na", self.turn, inner)

    def normals(self, values: np.ndarray) -> np.ndarray:
        angles, _, _ = self.unpacked(values)
        inner = np.einsum("nba,nb->na", self.turn, self.patches.normal) @ rotation(angles).T
        return np.einsum("nab,nb->na", self.turn, inner)

    def misfit(self, values: np.ndarray, normal: np.ndarray) -> np.ndarray:
        """(m,) how far the patches of each pair lie apart along its normal (m, 3)."""
        at = self.moved(values)
        return ((at[self.pairs.a] - at[self.pairs.b]) * normal).sum(1)

    def normal(self, values: np.ndarray) -> np.ndarray:
        """(m, 3) of each pair: between those of its patches."""
        both = self.normals(values)
        mean = both[self.pairs.a] + both[self.pairs.b]
        return mean / np.linalg.norm(mean, axis=1)[:, None]

    @property
    def prior(self) -> np.ndarray:
        """Standard deviations (k,) of the unknowns before anything is seen: rad, m, and of the scale."""
        return np.r_[np.full(3, LOOSE), [LEVER] * 3 * self.solve_lever, [SCALE] * self.solve_scale]


def solve(problem: Problem) -> Solved:
    """The unknowns from all pairs; at least some dozens are needed."""
    p, knots = len(problem.names), len(problem.drift.time)
    sigma, apart_of = apart_by(problem.patches, problem.pairs), _between(problem)
    values, spread, walk, factor = np.zeros(p), 0.01, 0.01, 3.0
    shifts, means, steps = np.zeros((knots, 3)), problem.drift.means, problem.drift.steps
    so_far, before = problem.drift.value, problem.misfit(values, problem.normal(values))
    weight, group = np.ones(len(sigma)), _groups(problem)
    for turn in range(ROUNDS):
        normal = problem.normal(values)
        design = _design(_lines(problem, values, normal), apart_of, normal)
        apart = problem.misfit(values, normal) + ((apart_of @ shifts) * normal).sum(1)
        typical = 1.4826 * np.median(np.abs(apart / sigma))
        factor = max(typical, 0.5) if turn else max(typical, 3.0)
        u = apart / (TUKEY * factor * sigma)
        weight = np.where(np.abs(u) < 1, (1 - u**2) ** 2, 0.0) / (factor * sigma) ** 2
        hold = np.eye(p + 3 * knots)
        hold[:p, :p] = np.diag(1 / problem.prior**2)
        held = means.T @ means / spread**2 + steps.T @ steps / walk**2
        hold[p:, p:] = np.kron(held, np.eye(3))
        matrix = (design.T @ design.multiply(weight[:, None])).toarray() + hold
        state = np.r_[values, (so_far + shifts).ravel()]
        step = np.linalg.solve(matrix, -design.T @ (weight * apart) - hold @ state)
        values, shifts = values + step[:p], shifts + step[p:].reshape(-1, 3)
        inverse = np.linalg.inv(matrix)
        of_knots = inverse[p:, p:].reshape(knots, 3, knots, 3)
        variance = lambda rows: np.einsum("sk,kala,sl->sa", rows, of_knots, rows, optimize=True)
        whole = so_far + shifts
        spread = _spread(means @ whole, variance(means), spread)
        walk = _spread(steps @ whole, variance(steps), walk) if len(steps) else walk
        if turn > 2 and (np.abs(step) < STILL * np.sqrt(np.diag(inverse))).all():
            break
    covariance = _covariance(inverse, design, weight, apart, group)
    normal = problem.normal(values)
    after = problem.misfit(values, normal)
    left = after + ((apart_of @ shifts) * normal).sum(1)
    state = np.r_[values, (so_far + shifts).ravel()]
    unlikely = state @ hold @ state + np.linalg.slogdet(matrix)[1] - np.linalg.slogdet(hold)[1]
    told = (problem.names, shifts, spread, before, after, weight, factor, left, float(unlikely))
    return Solved(*problem.unpacked(values), covariance[:p, :p], *told)


def as_given(problem: Problem, angles: np.ndarray) -> Solved:
    """What misfits are with the scanner turned by ``angles`` (3,) rad, without solving."""
    values, p = np.zeros(len(problem.names)), len(problem.names)
    before = problem.misfit(values, problem.normal(values))
    values[:3] = angles
    after = problem.misfit(values, problem.normal(values))
    unknown = np.full((p, p), np.nan)
    told = (
        problem.names,
        np.zeros((len(problem.drift.time), 3)),
        0.0,
        before,
        after,
        np.ones(len(after)),
        1.0,
        after,
    )
    return Solved(np.asarray(angles, float), problem.own_lever, 1.0, unknown, *told)


def cost(apart: np.ndarray, sigma: float) -> float:
    """Sum of squares in units of ``sigma``, of which none counts more than a gross error does (Tukey's
    biweight, with the usual 4.685).
    """
    u = np.clip(np.abs(apart) / (4.685 * sigma), 0, 1)
    return float((4.685**2 / 3 * (1 - (1 - u**2) ** 3)).sum())


def _lines(problem: Problem, values: np.ndarray, normal: np.ndarray) -> np.ndarray:
    """(m, p) how misfits change with the unknowns."""
    out = np.empty((len(normal), len(values)))
    for k in range(len(values)):
        step = np.zeros(len(values))
        step[k] = STEP
        out[:, k] = (problem.misfit(values + step, normal) - problem.misfit(values - step, normal)) / (
            2 * STEP
        )
    return out


def _between(problem: Problem) -> sparse.csr_matrix:
    """(m, knots) what the shifts at the knots do to the first patch of each pair, less to the second."""
    at = problem.drift.weights(problem.patches.number, problem.patches.time)
    return (at[problem.pairs.a] - at[problem.pairs.b]).tocsr()


def _design(lines: np.ndarray, apart_of: sparse.csr_matrix, normal: np.ndarray) -> sparse.csr_matrix:
    """(m, p + 3 knots) how misfits change with unknowns and shifts."""
    rows, knots = apart_of.tocoo().row, apart_of.tocoo().col
    value = apart_of.tocoo().data[:, None] * normal[rows]
    columns = 3 * knots[:, None] + np.arange(3)
    shape = len(lines), 3 * apart_of.shape[1]
    of_shifts = sparse.csr_matrix((value.ravel(), (np.repeat(rows, 3), columns.ravel())), shape)
    return sparse.hstack([sparse.csr_matrix(lines), of_shifts]).tocsr()


def _spread(values: np.ndarray, variance: np.ndarray, prior: float) -> float:
    """How far values (k, 3) that were held by ``prior`` (m) spread, as much as the data have a say in them;
    ``variance`` (k, 3) are theirs.
    """
    known = 1 - variance / prior**2
    most = known > 0.05
    if not most.any():
        return 0.01
    free = known[most].sum()  # of few values, two less: what a variance is on average that has left these
    value = np.sqrt((values[most] ** 2).sum() / max(free - 2, free / 3))
    return float(np.clip(value, SHIFT_LEAST, SHIFT_MOST))


def _groups(problem: Problem) -> np.ndarray:
    """(m,) a number for the pairs of two passes that lie in one stretch of the first."""
    a, number = problem.pairs.a, problem.patches.number
    time, group = problem.patches.time, np.zeros(len(a), np.int64)
    for k in np.unique(number[a]):
        mine = np.flatnonzero(number[a] == k)
        low, high = time[a[mine]].min(), time[a[mine]].max()
        group[mine] = np.minimum((time[a[mine]] - low) / max(high - low, 1e-9) * GROUPS, GROUPS - 1)
    _, out = np.unique(np.c_[number[a], number[problem.pairs.b], group], axis=0, return_inverse=True)
    return out.ravel()


def _covariance(
    inverse: np.ndarray, design: Any, weight: np.ndarray, apart: np.ndarray, group: np.ndarray
) -> np.ndarray:
    """Of the unknowns: the larger, term by term of its diagonal, of what independent pairs would have and of
    what groups have whose pairs err together (White 1980; Liang and Zeger 1986).
    """
    groups = int(group.max()) + 1
    of_group = sparse.csr_matrix((np.ones(len(group)), (group, np.arange(len(group)))))
    sums = (of_group @ design.multiply((weight * apart)[:, None]).tocsr()).toarray()
    grouped = inverse @ (sums.T @ sums) @ inverse * groups / max(groups - 1, 1)
    grow = np.sqrt(np.maximum(np.diag(grouped) / np.diag(inverse), 1.0))
    return inverse * np.outer(grow, grow)
