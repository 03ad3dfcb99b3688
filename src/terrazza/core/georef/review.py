"""What a fit to control says against the control: another reading of the file, rival placements, single
points, tilt.

Nothing is left out of a fit here.  Every finding is a sentence with the point, what is wrong with it as far
as the data tell, and a number.  Points are judged by data snooping (Baarda 1968) with a variance pooled from
prior and fit (Koch 1999, chapter 3).
"""

from dataclasses import dataclass, field
from itertools import combinations, permutations

import numpy as np
from scipy import stats

from terrazza.core.geometry import rigid
from terrazza.core.georef.fit import KNOWN_FACTORS
from terrazza.core.georef.match import Matching, match, match_any_order, solutions
from terrazza.errors import ParamsError, StateError

PRIOR_FREE = 6  # observations that the prior variance counts for
CHANCE = 0.002  # of calling a good set of points doubtful by a single point
POWER = 4.13  # non-centrality root of the w-test at a false alarm of 0.1 % and a power of 80 % (Baarda 1968)
LEAST_BLUNDER = 0.003  # m: what surveyors let pass in a target or its control
ENOUGH = 0.7  # share of the given points; with fewer matched, other readings of the file are tried
SEEN = 0.5  # share of the given points that have to be matched
WIDE = 2.0  # m: a point this far from every target that is left over is not seen rather than wrong
PLAN = ("E", "N", "height")
NEAR = 4.0  # a rival's residuals may be this many times the best one's
TILT_SIGMA = np.radians(0.01)  # common practice for a compensator and the registration on it; no source


@dataclass(frozen=True)
class Reading:
    """One way to read a control file: ``order`` of its columns, ``mirrored`` (east to west), ``factor`` to
    metres, ``heights``: times that target heights are added.
    """

    order: tuple[int, int, int]
    mirrored: bool = False
    factor: float = 1.0
    heights: float = 1.0

    def control(self, columns: np.ndarray, heights: np.ndarray) -> np.ndarray:
        """(n, 3) easting, northing, height of the targets' centres, m, of a file's ``columns`` and target
        ``heights``.
        """
        out = (
            columns[:, list(self.order)] * self.factor
            + np.c_[np.zeros((len(heights), 2)), self.heights * self.factor * heights]
        )
        return out * [-1.0, 1.0, 1.0] if self.mirrored else out


@dataclass(frozen=True)
class Given:
    """A control file's points: ``names``; ``columns`` (n, 3) easting, northing, height as the file has them,
    in m; target ``heights`` (n,) m; ``check`` (n,) bool.
    """

    names: list[str]
    columns: np.ndarray
    heights: np.ndarray
    check: np.ndarray

    @property
    def centres(self) -> np.ndarray:
        """(n, 3) where the targets' centres should be."""
        return self.columns + np.c_[np.zeros((len(self.heights), 2)), self.heights]


@dataclass
class Review:
    """``doubt``: sentences; ``detectable`` (n,): least blunder (m) that the fit would find in each used
    point; ``suspects``: names of points that sentences are about.
    """

    doubt: list[str] = field(default_factory=list)
    detectable: np.ndarray = field(default_factory=lambda: np.zeros(0))
    suspects: list[str] = field(default_factory=list)


def another_reading(
    columns: np.ndarray,
    heights: np.ndarray,
    targets: np.ndarray,
    base: Reading,
    found: int,
    tolerance: float,
    level: bool,
) -> tuple[str, int] | None:
    """Words for the reading of a file that explains clearly more points than the ``found`` ones of ``base``,
    and how many; None where there is none.

    ``columns`` (n, 3) in the unit given, ``heights`` (n,) target heights, ``targets`` (m, 3) job frame.
    """
    exchanged = base.order[1], base.order[0], base.order[2]
    trials: list[tuple[str, Reading]] = [
        (
            "mirrored: easting and northing are exchanged, or one of them has the wrong sign (the data "
            "cannot tell which)",
            Reading(base.order, True),
        )
    ]
    for order in permutations(range(3)):
        if order not in {base.order, exchanged}:
            trials.append((f"with the columns read as {_order_words(order)}", Reading(order)))
    if heights.any():
        trials += [
            (
                "with target heights left away, so they seem to be in the heights already",
                Reading(base.order, heights=0.0),
            ),
            ("with target heights taken off instead of added", Reading(base.order, heights=-1.0)),
        ]
    for factor, words in KNOWN_FACTORS.items():
        trials.append(
            (f"with a scale of {factor:g}, which looks like {words}", Reading(base.order, factor=1 / factor))
        )
    best: tuple[str, int] | None = None
    for words, reading in trials:
        control = reading.control(columns, heights)
        if np.abs(control - control.mean(0)).max() > 1e5 or np.ptp(control, axis=0).max() < 0.3:
            continue
        count = len(match(control, targets, tolerance, level).pairs)
        if count >= max(3, found + 2) and (best is None or count > best[1]):
            best = (words, count)
    return best


def _order_words(order) -> str:
    names = {order[0]: "easting", order[1]: "northing", order[2]: "height"}
    return ", ".join(names[k] for k in range(3))


def rivals(
    control: np.ndarray, targets: np.ndarray, best: Matching, tolerance: float, level: bool
) -> list[Matching]:
    """Other placements that explain about as many points about as well as ``best``."""
    bar = NEAR * max(best.rms, 0.002)
    others = solutions(control, targets, tolerance, level, 4)
    return [
        o
        for o in others
        if o.pairs != best.pairs
        and len(o.pairs) >= max(3, len(best.pairs) - 1)
        and o.rms < bar
        and not _one(o, best, control)
    ]


def _one(a: Matching, b: Matching, control: np.ndarray) -> bool:
    apart = rigid.apply(a.pose, rigid.apply(rigid.inverse(b.pose), control)) - control
    return bool(np.linalg.norm(apart, axis=1).max() < 0.1)


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


def tilt(pose: np.ndarray, targets: np.ndarray, sigma: np.ndarray) -> tuple[float, float]:
    """How far (rad) a fit leans from upright, and its standard deviation."""
    placed = rigid.apply(pose, targets)
    centre = placed.mean(0)
    design = rigid.motion_of(placed - centre)
    inverse = np.linalg.inv(design.T @ (design / np.repeat(sigma, 3)[:, None] ** 2))
    lean = np.arccos(np.clip(pose[2, 2], -1, 1))
    axis = np.array([pose[1, 2], -pose[0, 2]])
    axis = axis / max(np.linalg.norm(axis), 1e-12)
    return float(lean), float(np.sqrt(axis @ inverse[:2, :2] @ axis))


def decide(
    names: list[str],
    columns: np.ndarray,
    heights: np.ndarray,
    check: np.ndarray,
    order: tuple[int, int, int] | None,
    targets: np.ndarray,
    sigma: np.ndarray,
    tolerance: float = 0.03,
    level: bool = True,
    solution: int = 1,
) -> tuple[Matching, Given, Review]:
    """Match a control file to targets, and say what is doubtful about it.

    ``columns`` (n, 3) as the file has them and target ``heights`` (n,), m; ``order`` of the columns, None
    where the file does not say; ``targets`` (m, 3) and ``sigma`` (m,), m, job frame.  StateError where
    another reading of the file explains clearly more points than the one asked for, and where fewer than
    three are matched.
    """
    found = match_any_order(columns, heights, targets, [order] if order else None, tolerance, level)
    given, told = Given(names, columns[:, list(found.order)], heights, check), len(found.pairs)
    if told < ENOUGH * len(names):
        other = another_reading(columns, heights, targets, Reading(found.order), told, tolerance, level)
        if other:
            raise StateError(
                f"As it stands, {told} of the file's {len(names)} control points fit the targets; {other[1]} "
                f"fit {other[0]}.",
                "Mend the file, or set the order of its columns, or its unit (international foot or US "
                "survey foot: the data cannot tell which).",
            )
    use = [i for i, _ in found.pairs if not check[i]]
    if len(use) < 3:
        raise StateError(
            f"{len(use)} of {len(names)} control points could be matched to the {len(targets)} targets; "
            "three are needed.",
            "Check the column order, the unit and the target heights, or match them by hand.",
        )
    if solution > 1:
        others = rivals(given.centres, targets, found, tolerance, level)
        if solution > 1 + len(others):
            raise ParamsError(
                f"georeference.control: {1 + len(others)} placement{'s explain' if others else ' explains'} "
                f"the points; “solution” {solution} is not there.",
                "Ask for one of them.",
            )
        found = Matching(
            others[solution - 2].pairs, others[solution - 2].rms, found.order, others[solution - 2].pose
        )
    says = review(given, targets, sigma, found, tolerance, level)
    if not order and found.order != (0, 1, 2) and (given.columns[:, :2] < 0).any():
        says.doubt.append(
            f"The file does not say which column is which. It was read as {_order_words(found.order)}; as "
            "easting, northing, height it would be mirrored, and it holds negative coordinates. "
            "Give the order of its columns."
        )
    return found, given, says


def review(
    given: Given,
    targets: np.ndarray,
    sigma: np.ndarray,
    best: Matching,
    tolerance: float,
    level: bool,
    chosen: bool = False,
) -> Review:
    """All that speaks against taking ``best`` as it is; ``targets`` (m, 3) and ``sigma`` (m,), m, job frame;
    ``level``: whether the job stands upright; ``chosen``: the surveyor has decided between like placements.
    """
    out, matched, control = Review(), dict(best.pairs), given.centres
    use = [i for i in sorted(matched) if not given.check[i]]
    t, c, s = (
        targets[[matched[i] for i in use]],
        control[use],
        np.hypot(sigma[[matched[i] for i in use]], 0.001),
    )
    if not chosen:
        _ask(out, rivals(control, targets, best, tolerance, level), best, control)
    kept, out.detectable = (
        _outlying(out, given, use, t, c, s) if len(use) > 3 else (use, np.full(len(use), np.inf))
    )
    good = np.isin(use, kept)
    pose, _ = rigid.fit(t[good], c[good])
    lean, lean_sigma = tilt(pose, t[good], s[good])
    room = 4 * np.hypot(lean_sigma, TILT_SIGMA)
    if level and lean > room:
        out.doubt.append(
            f"The control leans the job by {np.degrees(lean):.2f}°, where the scans stand upright "
            f"({np.degrees(room):.2f}° would be allowed): a height seems wrong, and {good.sum()} "
            "points cannot tell which. Compare the heights, or match another point."
        )
    _unmatched(out, given, control, targets, pose, matched, tolerance)
    _checks(out, given, control, targets, sigma, pose, matched)
    if len(matched) < SEEN * len(given.names) and len(given.names) > 3:
        out.doubt.append(
            f"Only {len(matched)} of the file's {len(given.names)} points have a target where they should "
            "be. Look at the points without one."
        )
    if len(use) == 3:
        sides = np.abs(
            np.linalg.norm(t - np.roll(t, 1, 0), axis=1) - np.linalg.norm(c - np.roll(c, 1, 0), axis=1)
        )
        if sides.max() > 5 * np.hypot(s.max(), 0.001):
            out.doubt.append(
                "With three points nothing shows which one is wrong, and their distances differ from the "
                f"targets' by up to {sides.max() * 1000:.0f} mm. Match a fourth."
            )
    return out


def _ask(out: Review, others: list[Matching], best: Matching, control: np.ndarray) -> None:
    for other in others[:1]:
        apart = rigid.apply(other.pose, rigid.apply(rigid.inverse(best.pose), control)) - control
        turn = np.degrees(np.linalg.norm(rigid.vector_from(other.pose[:3, :3] @ best.pose[:3, :3].T)))
        out.doubt.append(
            f"The points lie nearly symmetrical: another placement, turned by {turn:.0f}° and up to "
            f"{np.linalg.norm(apart, axis=1).max():.1f} m away, explains {len(other.pairs)} of them "
            f"to {other.rms * 1000:.1f} mm "
            f"(this one {len(best.pairs)} to {best.rms * 1000:.1f} mm). Match one point by hand, or ask for "
            "the next solution."
        )


def _outlying(out: Review, given: Given, use, t, c, s) -> tuple[list[int], np.ndarray]:
    """Points that the others contradict, one after another; those that remain, and what would have been found
    in each used point.
    """
    kept, least = list(range(len(use))), None
    said: list[str] = []
    while len(kept) > 3:
        values, away, found = snoop(t[kept], c[kept], s[kept])
        least = found if least is None else least
        worst = int(np.argmax(values.max(1)))
        if values[worst].max() <= 1 or np.abs(away[worst]).max() < LEAST_BLUNDER:
            break
        i = use[kept[worst]]
        rest = [k for k in kept if k != kept[worst]]
        said.append(
            _blunder(given.names[i], away[worst], given.heights[i], given.heights)
            + f" {_without(t, c, kept, rest)}"
        )
        out.suspects.append(given.names[i])
        kept = rest
    if said and len(kept) == 3:  # three always agree somehow: with four points and one wrong, any may be
        said = [
            "The points contradict each other, and there are too few to be sure which is wrong. Most "
            f"likely: {' '.join(said)}"
        ]
    out.doubt += said
    return [use[k] for k in kept], least if least is not None else np.full(len(use), np.inf)


def _without(t, c, kept, rest) -> str:
    with_, without = (
        float(np.sqrt(((rigid.apply(rigid.fit(t[k], c[k])[0], t[k]) - c[k]) ** 2).sum(1).mean())) * 1000
        for k in (kept, rest)
    )
    return (
        f"With it the fit's RMS is {with_:.1f} mm, without it {without:.1f} mm. Check the point, or make "
        "it a check point."
    )


def _blunder(name: str, away: np.ndarray, height: float, heights: np.ndarray) -> str:
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


def _unmatched(out: Review, given: Given, control, targets, pose, matched, tolerance) -> None:
    """Points without a target: what would bring them onto one that is left over."""
    free = np.array(sorted(set(range(len(targets))) - set(matched.values())), int)
    lost = [i for i in range(len(given.names)) if i not in matched]
    if not len(free) or not lost:
        return
    places, taken = rigid.apply(pose, targets)[free], set()
    exchanged = _exchanged_heights(out, given, control, places, lost, tolerance)
    for i in [k for k in lost if k not in exchanged]:
        words = _explained_by(i, given, control, places, tolerance, taken)
        if words:
            out.doubt.append(words)
            out.suspects.append(given.names[i])


def _exchanged_heights(out: Review, given: Given, control, places, lost, tolerance) -> set[int]:
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


def _explained_by(i, given: Given, control, places, tolerance, taken: set[int]) -> str:
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
            _blunder(
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
            _blunder(names[i], away[k], heights[i], heights)
            + " It is not used; mend the file, or match it by hand."
        )
    return ""


def _checks(out: Review, given: Given, control, targets, sigma, pose, matched) -> None:
    for i, k in matched.items():
        away = rigid.apply(pose, targets[k : k + 1])[0] - control[i]
        if given.check[i] and np.linalg.norm(away) > max(0.01, 5 * sigma[k]):
            out.doubt.append("Check point " + _blunder(given.names[i], away, given.heights[i], given.heights))
            out.suspects.append(given.names[i])


def statement(away: np.ndarray) -> str:
    """Accuracy after FGDC-STD-007.3-1998 (Geospatial Positioning Accuracy Standards, part 3, sections 3.2.1
    to 3.2.3 and appendix 3-A) from check points' differences (n, 3), m.
    """
    x, y, z = np.sqrt((away**2).mean(0))
    plan = (
        2.4477 * 0.5 * (x + y)
    )  # where RMSEx and RMSEy differ; where they are equal, 1.7308 RMSEr is the same
    count = f"{len(away)} check point{'s' if len(away) > 1 else ''}"
    few = "" if len(away) >= 20 else "; the standard wants twenty at least"
    return (
        f"Tested {plan * 1000:.1f} mm horizontal accuracy and {1.96 * z * 1000:.1f} mm vertical accuracy "
        f"at 95 % confidence level (FGDC-STD-007.3-1998) with {count}{few}."
    )
