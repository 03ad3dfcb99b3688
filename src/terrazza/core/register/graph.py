"""The graph of ties: poses of all scans that agree best with the fits of pairs, and the information that
those fits hold.

Each tie says where one scan stands to another, as a rotation and a shift at the middle of what both saw, with
the 6×6 information of its fit.  Least squares over all of them is pose-graph optimisation (Lu & Milios 1997,
*Autonomous Robots* 4:333), here with Huber's weights against wrong ties.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.register.linking import Tie
from terrazza.core.register.witnesses import Sighting, of_levels, of_targets

ALIKE_POINTS = 20.0  # neighbouring points of a fit err alike: so many count as one
LEAST_RMS = 0.002  # m: what surfaces differ by at least
HUBER = 2.0
FREE = 1e-3  # share of the information that is kept along shifts which no surface faces
ROUNDS = 6
# information (1/rad², 1/m²) of each scan where a round finds it: what nothing holds stays there, and is not
# carried off by the rounding of what holds the rest
DAMPED = np.repeat([1 / np.radians(0.5) ** 2, 1 / 0.1**2], 3)
ASTRAY = 3.0, np.radians(15.0)  # m, rad: ties that move a scan farther contradict each other, and say nothing


@dataclass(frozen=True)
class Graph:
    """``poses`` by scan; ``information`` (6k, 6k) of (rotation about its own place, shift) of each scan in
    the job frame; ``misfit`` by tie: the normalised residual of its six observations.
    """

    poses: list[np.ndarray]
    information: np.ndarray
    misfit: list[float]

    @property
    def known(self) -> np.ndarray:
        """The information, less where ties contradict each other by more than their own. (6n, 6n) of n
        scans.
        """
        return self.information / max(1.0, float(np.mean(np.square(self.misfit or [0.0]))))


def _own(tie: Tie, pose_a: np.ndarray) -> np.ndarray:
    """6×6 information of a tie in the job frame."""
    fit = tie.fit
    information = tie.weight * fit.information / (max(fit.rms, LEAST_RMS) ** 2 * ALIKE_POINTS)
    for free in fit.free:
        information = _less(information, free, FREE)
    for scattered in fit.scattered:
        spread = float(np.linalg.norm(scattered))
        way = scattered / spread
        held = float(way @ information[3:, 3:] @ way)
        information = _less(information, way, min(1.0, 1 / (spread * max(np.sqrt(held), 1e-9))))
    turn = np.kron(np.eye(2), pose_a[:3, :3])
    return turn @ information @ turn.T


def _less(information: np.ndarray, way: np.ndarray, share: float) -> np.ndarray:
    """(6, 6) information of which along a unit shift ``way`` (3,) only a share is left, as of its root."""
    shift = np.r_[np.zeros(3), way]
    across = np.eye(6) - (1 - share) * np.outer(shift, shift)
    return across @ information @ across


def _rows(centre: np.ndarray, place_a: np.ndarray, place_b: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """6×6 each: what turns and shifts of a and b about their own places do to the relative turn and shift at
    ``centre``.
    """
    a, b = -np.eye(6), np.eye(6)
    a[3:, :3], b[3:, :3] = rigid.skew(centre - place_a), -rigid.skew(centre - place_b)
    return a, b


def relax(
    poses: list[np.ndarray],
    ties: list[Tie],
    fixed: set[int],
    targets: list[list[Sighting]] | None = None,
    level: bool = False,
) -> Graph:
    """Poses that agree best with all ties between them and the ``targets`` that they share (see
    ``witnesses.grouped``), with upright axes parallel where ``level`` and the scans themselves say that they
    were; all count from 0 in ``poses``, scans in ``fixed`` stay, and so do those that would go ``ASTRAY``.
    Poses (4, 4).
    """
    begun, poses, k = poses, [p.copy() for p in poses], len(poses)
    free = np.array([6 * s + i for s in range(k) if s not in fixed for i in range(6)], int)
    misfit = [0.0] * len(ties)
    for last in [False] * ROUNDS + [True]:
        if last:
            poses = [b.copy() if _astray(p, b) else p for p, b in zip(poses, begun)]
        normal, gradient = np.zeros((6 * k, 6 * k)), np.zeros(6 * k)
        for n, tie in enumerate(ties):
            here = np.r_[6 * tie.a : 6 * tie.a + 6, 6 * tie.b : 6 * tie.b + 6]
            information, design, off = observed(tie, poses)
            misfit[n] = misfit_of(information, off)
            weighted = min(1.0, HUBER / max(misfit[n], 1e-9)) * information
            normal[np.ix_(here, here)] += design.T @ weighted @ design
            gradient[here] += design.T @ weighted @ off
        for more in (of_targets(targets or [], poses), of_levels(poses) if level else None):
            if more is not None:
                normal, gradient = normal + more[0], gradient + more[1]
        if last or not len(free) or not (ties or targets):
            break
        step = np.zeros(6 * k)
        step[free] = np.linalg.lstsq(
            normal[np.ix_(free, free)] + np.diag(np.tile(DAMPED, k)[free]), gradient[free], rcond=None
        )[0]
        for s in range(k):
            poses[s] = rigid.step(
                poses[s], step[6 * s : 6 * s + 3], step[6 * s + 3 : 6 * s + 6], poses[s][:3, 3]
            )
    return Graph(poses, normal, misfit)


def _astray(after: np.ndarray, before: np.ndarray) -> bool:
    moved, turned = rigid.difference(after, before)
    return not (moved < ASTRAY[0] and turned < ASTRAY[1])


def misfit_of(information: np.ndarray, off: np.ndarray) -> float:
    """The normalised residual of a tie: ``information`` (6, 6) and misclosure ``off`` (6,)."""
    return float(np.sqrt(max(off @ information @ off, 0.0) / 6))


def observed(tie: Tie, poses: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Information (6×6), design (6×12) and misclosure (6) of a tie where its scans stand."""
    a, b = poses[tie.a], poses[tie.b]
    correction, centre = a @ tie.fit.pose @ rigid.inverse(b), rigid.apply(a, tie.fit.centre[None])[0]
    off = np.r_[rigid.vector_from(correction[:3, :3]), rigid.apply(correction, centre[None])[0] - centre]
    return _own(tie, a), np.hstack(_rows(centre, a[:3, 3], b[:3, 3])), off
