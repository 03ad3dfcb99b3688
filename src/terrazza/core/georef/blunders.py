"""Blunders in control: data snooping, and what each looks like."""

from itertools import combinations

import numpy as np
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.georef.readings import Given, Review

PRIOR_FREE = 6  # observations that the prior variance counts for
CHANCE = 0.002  # of calling a good set of points doubtful by a single point
POWER = 4.13  # non-centrality root of the w-test at a false alarm of 0.1 % and a power of 80 % (Baarda 1968)
WIDE = 2.0  # m: a point this far from every target that is left over is not seen rather than wrong
PLAN = ("E", "N", "height")


def snoop(
    targets: np.ndarray, control: np.ndarray, sigma: np.ndarray
) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Each point against all others: test value of plan and of height as multiples of what chance allows (n,
    2), the differences (n, 3) from a fit without it, and the least blunder (n,) that would be found.
    ``sigma`` (n,): a coordinate's standard deviation, m.
    """
    n = len(targets)
    weight = 1 / sigma**2
    pose, _ = rigid.fit(targets, control)
    placed = rigid.apply(pose, targets)
    centre = np.average(placed, axis=0, weights=weight)
    design = rigid.motion_of(placed - centre)
    residual = (placed - control).ravel()
    values, away, least = np.zeros((n, 2)), np.zeros((n, 3)), np.full(n, np.inf)
    for i in range(n):
        rest = np.repeat(np.arange(n) != i, 3)
        w = np.repeat(weight, 3)[rest]
        normal = design[rest].T @ (design[rest] * w[:, None])
        if np.linalg.cond(normal) > 1e12:
            continue
        inverse = np.linalg.inv(normal)
        step = -inverse @ design[rest].T @ (w * residual[rest])
        left = residual[rest] + design[rest] @ step
        free = rest.sum() - 6
        factor = (PRIOR_FREE + (w * left**2).sum()) / (PRIOR_FREE + free)
        own = design[3 * i : 3 * i + 3]
        away[i] = residual[3 * i : 3 * i + 3] + own @ step
        cov = own @ inverse @ own.T + np.eye(3) * sigma[i] ** 2
        for k, part in enumerate((slice(0, 2), slice(2, 3))):
            size = 2 - k
            t = away[i, part] @ np.linalg.solve(cov[part, part], away[i, part]) / size / factor
            values[i, k] = t / stats.f.isf(CHANCE / (2 * n), size, PRIOR_FREE + free)
        least[i] = POWER * np.sqrt(np.linalg.eigvalsh(cov)[-1])
    return values, away, least


def blunder_of(name: str, away: np.ndarray, height: float, heights: np.ndarray) -> str:
    """Words for a point that lies ``away`` (target minus control, m) from where the others say."""
    plan = float(np.hypot(*away[:2]))
    if plan < 0.25 * abs(away[2]) or plan < 0.004:
        return (
            f"{name}: its height is {abs(away[2]) * 1000:.0f} mm too {'low' if away[2] > 0 else 'high'} "
            f"against the others{_height_words(away[2], height, heights)}."
        )
    where = " and ".join(
        f"{abs(v) * 1000:.0f} mm too {low if v > 0 else high} in {axis}"
        for v, axis, low, high in zip(away, PLAN, ("small", "small", "low"), ("large", "large", "high"))
        if abs(v) > 0.2 * np.abs(away).max()
    )
    return f"{name}: it is {where} against the others."


def _height_words(off: float, height: float, heights: np.ndarray) -> str:
    """What a height that is too low by ``off`` (m) looks like."""
    others = heights[heights > 0.02]
    if height > 0.02 and abs(off + height) < 0.01:
        return f", which is its target height of {height:.3f} m: it seems to be in the height already"
    if height > 0.02 and abs(off - height) < 0.01:
        return f", which is its target height of {height:.3f} m once more: it seems to be missing"
    if height < 0.02 and off > 0.02 and len(others) and np.abs(others - off).min() < 0.05:
        return ", about a target height of the others: its own seems to be forgotten"
    if height < 0.02 and 1.0 < off < 2.3:
        return ", about the height of a stand: a target height seems to be forgotten"
    return ""


def exchanged_heights(
    out: Review, given: Given, control: np.ndarray, places: np.ndarray, lost: list[int], tolerance: float
) -> set[int]:
    """Points without a target, two of which would have one each with the other's height."""
    done: set[int] = set()
    for i, j in combinations(lost, 2):
        ours = (control[i, 0], control[i, 1], control[j, 2]), (control[j, 0], control[j, 1], control[i, 2])
        if not {i, j} & done and all(np.linalg.norm(places - p, axis=1).min() < tolerance for p in ours):
            out.doubt.append(
                f"{given.names[i]} and {given.names[j]}: their heights are exchanged. Neither is used; mend "
                "the file."
            )
            out.suspects += [given.names[i], given.names[j]]
            done |= {i, j}
    return done


def explained_by(
    i: int, given: Given, control: np.ndarray, places: np.ndarray, tolerance: float, taken: set[int]
) -> str:
    names, heights = given.names, given.heights
    own, h = given.columns[i], np.array([0, 0, heights[i]])
    trials = [("its easting and northing are exchanged", own[[1, 0, 2]] + h)]
    for words, factor in (
        ("in feet", 0.3048),
        ("in US survey feet", 1200 / 3937),
        ("in millimetres", 0.001),
        ("in metres where the others are in feet", 1 / 0.3048),
    ):
        trials += [
            (f"it is {words}", own * factor + h),
            (f"it is {words}", (own + h) * factor),
            (f"its height is {words}", own * [1, 1, factor] + h),
        ]
    trials += [
        ("its easting has the wrong sign", own * [-1, 1, 1] + h),
        ("its northing has the wrong sign", own * [1, -1, 1] + h),
    ]
    for words, point in trials:
        gap = np.linalg.norm(places - point, axis=1)
        k = int(np.argmin(gap))
        if gap[k] < tolerance and k not in taken:
            taken.add(k)
            return f"{names[i]}: it fits a target only as if {words}. It is not used; mend the file."
    away = places - control[i]
    plan = np.hypot(away[:, 0], away[:, 1])
    near = [k for k in np.flatnonzero(plan < max(tolerance, 0.05)) if k not in taken]
    if near:
        k = min(near, key=lambda k: abs(away[k, 2]))
        taken.add(k)
        return (
            blunder_of(
                names[i],
                away[k] if plan[k] > 0.25 * abs(away[k, 2]) else away[k] * [0, 0, 1],
                heights[i],
                heights,
            )
            + " It is not used; mend the file, or match it by hand."
        )
    k = int(np.argmin(np.linalg.norm(away, axis=1)))
    if np.linalg.norm(away[k]) < WIDE and k not in taken:
        taken.add(k)
        return (
            blunder_of(names[i], away[k], heights[i], heights)
            + " It is not used; mend the file, or match it by hand."
        )
    return ""
