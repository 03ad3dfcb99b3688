"""Network adjustment: all scans together, over every patch of surface that two or more of them saw.

In each patch (see ``patches``) each scan's points carry the moments of a plane fit; the common plane is
eliminated and what remains are normal equations of the poses (and two errors of the instrument a scan, held
by a prior).  This is bundle adjustment of planes from point moments, as in Liu & Zhang 2021 (IEEE RA-L
6:3184), with the planes eliminated linearly.

Unknowns of scan s, in the job frame: rotation about its own place (3, rad), shift (3, m), range bias (1, m),
vertical index error (1, rad): by how much it reads too far and too high.
"""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from scipy import linalg

from terrazza.core.geometry import rigid
from terrazza.core.progress import QUIET, Part, Progress
from terrazza.core.register.equations import U, equations_of
from terrazza.core.register.patches import Patches, collect
from terrazza.core.register.unheld import across_unheld
from terrazza.errors import InputError

if TYPE_CHECKING:
    from terrazza.core.register.equations import System


BIAS_SIGMA = 0.0004
INDEX_SIGMA = np.radians(15 / 3600)  # rad: of vertical circles of scanners, common practice
SETTLED = 4
RESTING = 0.0003
FEW = 16  # patches of a scan below which its ties say more
# rad and m: standard deviations of the poses that an adjustment begins with; a direction that no surface
# holds stays there, with that σ
HELD = np.radians(0.5), 0.1


@dataclass
class Adjusted:
    """Result of the adjustment.

    ``poses``; ``covariance`` (k, 6, 6) of (rotation, shift) per scan, job frame, relative to the fixed scans;
    ``joint`` (6k, 6k); ``bias`` (m) per scan; ``rms`` (m) of the patch distances; ``variance_factor``;
    ``redundancy``; ``shared`` (k, k): patches seen by both; ``pair_rms`` (k, k), m.
    """

    poses: list[np.ndarray]
    covariance: np.ndarray
    joint: np.ndarray
    bias: np.ndarray
    rms: float
    variance_factor: float
    redundancy: int
    shared: np.ndarray
    pair_rms: np.ndarray


def adjust(
    patches: Patches,
    poses: list[np.ndarray],
    fixed: set[int],
    rounds: int = 12,
    bias_sigma: float = BIAS_SIGMA,
    known: np.ndarray | None = None,
) -> Adjusted:
    """Least squares over all patches; scans in ``fixed`` keep their poses.  ``known`` (6k, 6k): information
    on (rotation, shift) that ``poses`` carry already, such as that of cloud ties.

    Raises InputError where the patches cannot hold every free scan.
    """
    k = len(poses)
    poses = [p.copy() for p in poses]
    free = [s for s in range(k) if s not in fixed]
    own = np.zeros((k, 2))
    active = np.array(
        [U * s + i for s in free for i in range(6)] + [U * s + i for s in range(k) for i in (6, 7)], int
    )
    weight, across = np.ones(len(patches.n)), np.eye(U * k)
    if known is None and any(
        seen < 3 for s, seen in enumerate(np.bincount(patches.scan, minlength=k)) if s not in fixed
    ):
        raise InputError(
            "The ties do not hold every scan.",
            "Take the loose scans out of the adjustment, or tie them to a neighbour.",
        )
    since, keep = np.zeros(U * k), np.array([U * s + i for s in range(k) for i in range(6)])
    prior = _prior(k, bias_sigma, known, keep)
    for done in range(rounds):
        system = equations_of(patches, poses, own, weight)
        weight = (
            _judged(patches, system, soft=done < rounds - SETTLED) if done <= rounds - SETTLED else weight
        )
        system = equations_of(patches, poses, own, weight)
        factor, redundancy = _variance_factor(patches, system, weight, len(free))
        across = (
            across_unheld(patches, system, k, factor, fixed)
            if done in {0, rounds - SETTLED, rounds - 1}
            else across
        )
        full = across @ (system.normal / factor) @ across + prior
        solution = np.zeros(U * k)
        solution[active] = -_solve(
            full[np.ix_(active, active)], (across @ system.gradient / factor + prior @ since)[active]
        )
        for s in free:
            place = poses[s][:3, 3]
            poses[s] = rigid.step(
                poses[s], solution[U * s : U * s + 3], solution[U * s + 3 : U * s + 6], place
            )
        since += solution  # small turns add up
        own = since.reshape(k, U)[:, 6:].copy()
    inverse = np.zeros((U * k, U * k))
    inverse[np.ix_(active, active)] = np.linalg.inv(full[np.ix_(active, active)])
    joint = inverse[np.ix_(keep, keep)]
    return _told(patches, poses, joint, own[:, 0], system, weight, float(factor), redundancy)


def _prior(k: int, bias_sigma: float, known: np.ndarray | None, keep: np.ndarray) -> np.ndarray:
    """(Uk, Uk) information before anything is seen: loose on poses, on bias and index what instruments have,
    and what is ``known`` of poses.
    """
    held = [1 / HELD[0] ** 2] * 3 + [1 / HELD[1] ** 2] * 3 + [1 / bias_sigma**2, 1 / INDEX_SIGMA**2]
    prior = np.diag(np.tile(held, k))
    prior[np.ix_(keep, keep)] += 0.0 if known is None else known
    return prior


def _told(
    patches: Patches,
    poses: list[np.ndarray],
    joint: np.ndarray,
    bias: np.ndarray,
    system: "System",
    weight: np.ndarray,
    factor: float,
    redundancy: int,
) -> Adjusted:
    """What an adjustment has found."""
    k, residual, good = len(poses), system.residual, weight > 0
    shared, pair_rms = _pairs(patches, residual, weight, k)
    rms = (
        float(np.sqrt(np.average(residual[good] ** 2, weights=1 / system.noise[good] ** 2)))
        if good.any()
        else 0.0
    )
    return Adjusted(poses, _blocks(joint), joint, bias, rms, factor, redundancy, shared, pair_rms)


def _of_many(patches: Patches, k: int) -> Patches:
    """Without the patches of scans that have few: what is flat by chance, as on open ground, would overrule
    the ties.
    """
    seen = np.bincount(patches.scan, minlength=k)
    use = (seen >= FEW)[patches.scan]
    use &= (np.bincount(patches.patch[use], minlength=patches.count) > 1)[patches.patch] & use
    return patches.only(use)


def _without(patches: Patches, apart: set[tuple[int, int]]) -> Patches:
    """Without the patches that no more than the two scans of a pair saw whose tie is switched off."""
    count = np.bincount(patches.patch, minlength=patches.count)
    low, high = np.full(patches.count, 1 << 30), np.full(patches.count, -1)
    np.minimum.at(low, patches.patch, patches.scan)
    np.maximum.at(high, patches.patch, patches.scan)
    off = (count == 2) & np.array([(int(a), int(b)) in apart for a, b in zip(low, high)], bool)
    return patches.only(~off[patches.patch])


def solve(
    clouds: list[np.ndarray],
    poses: list[np.ndarray],
    fixed: set[int],
    bias_sigma: float = BIAS_SIGMA,
    passes: int = 3,
    known: np.ndarray | None = None,
    progress: Progress = QUIET,
    apart: set[tuple[int, int]] | None = None,
) -> Adjusted:
    """Patches and adjustment in turn until no scan moves by more than ``RESTING``: patches that were chosen
    while walls still stood double would favour the poses they were chosen at. ``apart``: pairs of scans (a <
    b) whose common patches are not used.

    Raises InputError like ``adjust``. ``clouds`` (n, 3) m, each in its scan's frame; poses (4, 4).
    """
    for number in range(passes):
        patches = collect(clouds, poses, Part(progress, number / passes, (number + 1) / passes))
        if known is not None:
            patches = _of_many(patches, len(poses))
        patches = _without(patches, apart) if apart else patches
        if not patches.count:
            raise InputError(
                "Too few common surfaces for an adjustment.",
                "Add ties, or take loose scans out of the adjustment.",
            )
        adjusted = adjust(patches, poses, fixed, bias_sigma=bias_sigma, known=known)
        moved = max(
            rigid.difference(a, b)[0] + 5.0 * rigid.difference(a, b)[1] for a, b in zip(adjusted.poses, poses)
        )
        if moved < RESTING:
            break
        poses = adjusted.poses
    return adjusted


def _judged(patches: Patches, system: "System", soft: bool) -> np.ndarray:
    """Weights of the (patch, scan) distances: Tukey's biweight on the way, all or nothing once settled.

    A distance is judged against its own spread: noise, less what the common plane took from it (the scan that
    makes most of a plane lies on it whatever the other does).
    """
    strength = 1 / system.noise**2
    share = strength / np.bincount(patches.patch, strength, patches.count)[patches.patch]
    t = np.abs(system.residual) / (system.noise * np.sqrt(np.maximum(1 - share, 0.01)))
    t = t / max(1.4826 * np.median(t), 0.7)
    return np.where(t < 5, (1 - (t / 5) ** 2) ** 2, 0.0) if soft else (t < 4.0).astype(float)


def _solve(matrix: np.ndarray, rhs: np.ndarray) -> np.ndarray:
    d = 1 / np.sqrt(np.maximum(np.diag(matrix), 1e-12))
    try:
        return d * linalg.cho_solve(linalg.cho_factor(matrix * d[:, None] * d[None, :]), d * rhs)
    except np.linalg.LinAlgError as error:
        raise InputError(
            "The ties do not hold every scan.",
            "Take the loose scans out of the adjustment, or tie them to a neighbour.",
        ) from error


def _variance_factor(patches: Patches, system: "System", weight: np.ndarray, free: int) -> tuple[float, int]:
    """A posteriori variance of unit weight and the redundancy: three moments a scan, three a common plane.

    The factor never drops under one: the scatter within a patch already says how good its plane is.
    """
    good = weight > 0
    seen = np.bincount(patches.patch[good], minlength=patches.count)
    use = good & (seen[patches.patch] >= 2)
    redundancy = int(3 * (use.sum() - len(np.unique(patches.patch[use])))) - 6 * free
    if redundancy <= 0:
        raise InputError(
            "Too few common surfaces for an adjustment.",
            "Add ties, or take loose scans out of the adjustment.",
        )
    return max(float(system.squares[use].sum() / redundancy), 1.0), redundancy


def _pairs(
    patches: Patches, residual: np.ndarray, weight: np.ndarray, k: int
) -> tuple[np.ndarray, np.ndarray]:
    """Patches shared by each pair of scans and the rms of their distances from each other (m)."""
    grid = np.full((patches.count, k), np.nan)
    good = weight > 0
    grid[patches.patch[good], patches.scan[good]] = residual[good]
    shared, rms = np.zeros((k, k), int), np.zeros((k, k))
    for a in range(k):
        for b in range(a + 1, k):
            d = grid[:, a] - grid[:, b]
            d = d[np.isfinite(d)]
            shared[a, b] = shared[b, a] = len(d)
            rms[a, b] = rms[b, a] = np.sqrt(np.mean(d**2)) if len(d) else 0.0
    return shared, rms


def told_from(adjusted: Adjusted, datum: int) -> Adjusted:
    """The same adjustment with covariances relative to the scan ``datum``, wherever they were told from
    before: an S-transformation (Baarda 1973, *S-transformations and criterion matrices*). Poses stay.
    """
    k, places = len(adjusted.poses), np.array([p[:3, 3] for p in adjusted.poses])
    goes = np.tile(np.eye(6), (k, 1, 1))  # what a small motion of the datum does to every scan
    for s, away in enumerate(places - places[datum]):
        goes[s, 3:, :3] = -rigid.skew(away)
    across = np.eye(6 * k)
    across[:, 6 * datum : 6 * datum + 6] -= goes.reshape(6 * k, 6)
    joint = across @ adjusted.joint @ across.T
    return replace(adjusted, joint=joint, covariance=_blocks(joint))


def _blocks(joint: np.ndarray) -> np.ndarray:
    """(k, 6, 6) covariances of the scans from their joint one (6k, 6k)."""
    return np.array([joint[s : s + 6, s : s + 6] for s in range(0, len(joint), 6)])


def by_ties(poses: list[np.ndarray], known: np.ndarray, fixed: set[int]) -> Adjusted:
    """What ties alone hold, where no patches do: ``poses`` with the covariance of their information ``known``
    (6k, 6k).
    """
    k = len(poses)
    free = np.array([6 * s + i for s in range(k) if s not in fixed for i in range(6)], int)
    joint = np.zeros((6 * k, 6 * k))
    joint[np.ix_(free, free)] = np.linalg.inv(
        (known + np.diag(np.tile([1 / HELD[0] ** 2] * 3 + [1 / HELD[1] ** 2] * 3, k)))[np.ix_(free, free)]
    )
    return Adjusted(
        list(poses),
        _blocks(joint),
        joint,
        np.zeros(k),
        0.0,
        1.0,
        0,
        np.zeros((k, k), int),
        np.zeros((k, k)),
    )
