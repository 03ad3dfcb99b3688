"""What ties scans besides their surfaces: targets that several of them saw, and instruments that stood level.

Both become normal equations of (rotation about its own place, shift) of all scans, with what they have in
common (the target's true centre, the true vertical) eliminated.
"""

from dataclasses import dataclass

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef import match

SAME_TARGET = 0.10  # m: sightings nearer than this in placed scans are of one target
AGREE = 0.012  # m: largest mismatch of two scans' targets under one placement
FEWEST, WIDE = 3, 0.3  # targets that place a scan, and m that they have to be wide across their line
HUBER = 2.0
LEVEL_SIGMA = np.radians(15 / 3600)  # rad: of the compensators of scanners, common practice
LEVELLED = np.radians(60 / 3600)  # rad: axes that agree less than this have no compensator behind them
FEW_AXES = 4


@dataclass(frozen=True)
class Sighting:
    """A target as one scan saw it: index of the ``scan``, ``centre`` (3, m) in its frame, ``sigma`` (m), and
    ``kind``.
    """

    scan: int
    centre: np.ndarray
    sigma: float
    kind: str = ""


def grouped(sightings: list[Sighting], poses: list[np.ndarray | None]) -> list[list[Sighting]]:
    """Sightings of placed scans by target, each of two scans at least and once a scan, the best first. Poses
    (4, 4).
    """
    groups: list[tuple[np.ndarray, list[Sighting]]] = []
    for one in sorted(sightings, key=lambda s: s.sigma):
        if poses[one.scan] is None:
            continue
        at = rigid.apply(poses[one.scan], one.centre[None])[0]
        near = next(
            (
                g
                for place, g in groups
                if np.linalg.norm(place - at) < SAME_TARGET
                and g[0].kind == one.kind
                and all(s.scan != one.scan for s in g)
            ),
            None,
        )
        groups.append((at, [one])) if near is None else near.append(one)
    return [g for _, g in groups if len(g) > 1]


def links(groups: list[list[Sighting]]) -> list[tuple[int, int]]:
    """Pairs of scans that hold each other by the targets they share alone."""
    count: dict[tuple[int, int], int] = {}
    for group in groups:
        seen = sorted(s.scan for s in group)
        for pair in ((a, b) for i, a in enumerate(seen) for b in seen[i + 1 :]):
            count[pair] = count.get(pair, 0) + 1
    return [pair for pair, n in count.items() if n >= FEWEST]


def of_targets(
    groups: list[list[Sighting]], poses: list[np.ndarray]
) -> tuple[np.ndarray, np.ndarray, list[float]]:
    """Normal matrix (6k, 6k), right-hand side (6k,) and the normalised misfit of each target where the scans
    stand.
    """
    size = 6 * len(poses)
    normal, gradient, misfits = np.zeros((size, size)), np.zeros(size), []
    for group in groups:
        at = [rigid.apply(poses[s.scan], s.centre[None])[0] for s in group]
        weight = np.array([1 / s.sigma**2 for s in group])
        middle = weight @ np.array(at) / weight.sum()
        misfit = float(
            np.sqrt(sum(w * np.sum((p - middle) ** 2) for w, p in zip(weight, at)) / (3 * (len(group) - 1)))
        )
        weight = weight * min(1.0, HUBER / max(misfit, 1e-9))
        design = np.zeros((len(group), 3, size))
        for row, s, p in zip(design, group, at):
            row[:, 6 * s.scan : 6 * s.scan + 6] = rigid.motion_of((p - poses[s.scan][:3, 3])[None])
        together = np.einsum("i,ijk->jk", weight, design)
        normal += np.einsum("i,ijk,ijl->kl", weight, design, design) - together.T @ together / weight.sum()
        gradient += np.einsum("i,ijk,ij->k", weight, design, middle - np.array(at))
        misfits.append(misfit)
    return normal, gradient, misfits


def of_levels(poses: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray] | None:
    """Normal matrix (6k, 6k) and right-hand side (6k,) of upright instruments: their axes are parallel.  None
    where the scans themselves say that they did not stand level, or are too few to say it.
    """
    axes = np.array([p[:3, 2] for p in poses])
    k = len(axes)
    up = np.median(axes, axis=0)
    off = axes - up
    off -= np.outer(off @ up, up) / (up @ up)
    spread = 1.4826 * float(np.median(np.abs(off[:, :2])))
    if k < FEW_AXES or spread > LEVELLED or np.abs(off).max() > 4 * LEVELLED:
        return None
    weight = 1 / max(LEVEL_SIGMA, 1.5 * spread) ** 2
    normal, gradient = np.zeros((6 * k, 6 * k)), np.zeros(6 * k)
    # a turn by w moves an axis a by w x a; what all axes have in common is taken out
    design = np.zeros((k, 3, 6 * k))
    for s in range(k):
        design[s, :, 6 * s : 6 * s + 3] = -rigid.skew(axes[s])
    together = design.sum(0)
    normal += weight * (np.einsum("ijk,ijl->kl", design, design) - together.T @ together / k)
    gradient += weight * np.einsum("ijk,ij->k", design, axes.mean(0) - axes)
    return normal, gradient


def placement(a: list[Sighting], b: list[Sighting]) -> np.ndarray | None:
    """Pose of the scan that saw targets ``b`` in the frame of the one that saw ``a``, where three targets or
    more agree on one and on no other; else None. Pose (4, 4).
    """
    ca, cb = (np.array([s.centre for s in seen]).reshape(-1, 3) for seen in (a, b))
    if min(len(ca), len(cb)) < FEWEST:
        return None
    good: list[tuple[int, np.ndarray]] = []
    for found in match.solutions(ca, cb, AGREE, level=False, keep=4):
        pairs = [(i, j) for i, j in found.pairs if a[i].kind == b[j].kind]
        if len(pairs) < FEWEST:
            continue
        mine, theirs = ca[[i for i, _ in pairs]], cb[[j for _, j in pairs]]
        pose, _ = rigid.fit(theirs, mine)
        across = np.linalg.svd(mine - mine.mean(0))[1][1]
        off = np.linalg.norm(rigid.apply(pose, theirs) - mine, axis=1)
        noise = np.array([np.hypot(a[i].sigma, b[j].sigma) for i, j in pairs])
        if across > WIDE and (off < np.maximum(4 * noise, 0.003)).all():
            good.append((len(pairs), pose))
    good.sort(key=lambda g: -g[0])
    if not good or len(good) > 1 and good[1][0] >= good[0][0] - (good[0][0] > FEWEST + 1):
        return None
    return good[0][1]
