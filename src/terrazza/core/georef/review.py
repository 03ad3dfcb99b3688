"""A fit to control looked through: readings and rivals, blunders explained, accuracy stated."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.georef.blunders import blunder_of, exchanged_heights, explained_by, snoop
from terrazza.core.georef.match import Matching, match_any_order
from terrazza.core.georef.readings import Given, Reading, Review, another_reading, order_words, rivals, tilt
from terrazza.errors import ParamsError, StateError

LEAST_BLUNDER = 0.003  # m: what surveyors let pass in a target or its control
ENOUGH = 0.7  # share of the given points; with fewer matched, other readings of the file are tried
SEEN = 0.5  # share of the given points that have to be matched
TILT_SIGMA = np.radians(0.01)  # common practice for a compensator and the registration on it; no source


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
    called: list[str] | tuple[str, ...] = (),
) -> tuple[Matching, Given, Review]:
    """Match a control file to targets, and say what is doubtful about it.

    ``columns`` (n, 3) as the file has them and target ``heights`` (n,), m; ``order`` of the columns, None
    where the file does not say; ``targets`` (m, 3) and ``sigma`` (m,), m, job frame, ``called`` (m names,
    empty where a target has none): of placements that explain the points alike, names decide.  StateError
    where another reading of the file explains clearly more points than the one asked for, and where fewer
    than three are matched.
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
        found = _asked_for(solution, found, rivals(given.centres, targets, found, tolerance, level))
    named, settled = _by_name(names, called), False
    if named and solution == 1:
        found, settled = _told_by_names(named, found, rivals(given.centres, targets, found, tolerance, level))
    says = review(given, targets, sigma, found, tolerance, level, chosen=settled)
    says.doubt += _exchanged(named, found, given, targets)
    if not order and found.order != (0, 1, 2) and (given.columns[:, :2] < 0).any():
        says.doubt.append(
            f"The file does not say which column is which. It was read as {order_words(found.order)}; as "
            "easting, northing, height it would be mirrored, and it holds negative coordinates. "
            "Give the order of its columns."
        )
    return found, given, says


def _asked_for(solution: int, best: Matching, others: list[Matching]) -> Matching:
    if solution > 1 + len(others):
        raise ParamsError(
            f"georeference.control: {1 + len(others)} placement{'s explain' if others else ' explains'} "
            f"the points; “solution” {solution} is not there.",
            "Ask for one of them.",
        )
    return replace(others[solution - 2], order=best.order)


def _by_name(names: list[str], called: Sequence[str]) -> dict[int, int]:
    """Target of each control point whose name exactly one target has."""
    return {
        i: list(called).index(name) for i, name in enumerate(names) if name and list(called).count(name) == 1
    }


def _told_by_names(named: dict[int, int], best: Matching, others: list[Matching]) -> tuple[Matching, bool]:
    """The placement that agrees with most names, and whether the others agree with fewer."""
    right = lambda m: sum(dict(m.pairs).get(i) == k for i, k in named.items())
    ranked = sorted([best, *others], key=right, reverse=True)  # the best comes first of those alike
    if right(ranked[0]) == right(best):
        return best, bool(others) and all(right(o) < right(best) for o in others)
    return replace(ranked[0], order=best.order), right(ranked[0]) > right(ranked[1])


def _exchanged(named: dict[int, int], found: Matching, given: "Given", targets: np.ndarray) -> list[str]:
    """A doubt for each point whose target of the same name lies elsewhere."""
    matched, out = dict(found.pairs), []
    for i, k in named.items():
        if matched.get(i) != k and found.pose is not None:
            off = float(np.linalg.norm(rigid.apply(found.pose, targets[k][None])[0] - given.centres[i]))
            out.append(
                f"{given.names[i]}: the target of this name lies {off:.2f} m from where the other points put "
                "it. Are names exchanged, or is the point wrong?"
            )
    return out


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


def _outlying(
    out: Review, given: Given, use: list[int], t: np.ndarray, c: np.ndarray, s: np.ndarray
) -> tuple[list[int], np.ndarray]:
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
            blunder_of(given.names[i], away[worst], given.heights[i], given.heights)
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


def _without(t: np.ndarray, c: np.ndarray, kept: list[int], rest: list[int]) -> str:
    with_, without = (
        float(np.sqrt(((rigid.apply(rigid.fit(t[k], c[k])[0], t[k]) - c[k]) ** 2).sum(1).mean())) * 1000
        for k in (kept, rest)
    )
    return (
        f"With it the fit's RMS is {with_:.1f} mm, without it {without:.1f} mm. Check the point, or make "
        "it a check point."
    )


def _unmatched(
    out: Review,
    given: Given,
    control: np.ndarray,
    targets: np.ndarray,
    pose: np.ndarray,
    matched: dict[int, int],
    tolerance: float,
) -> None:
    """Points without a target: what would bring them onto one that is left over."""
    free = np.array(sorted(set(range(len(targets))) - set(matched.values())), int)
    lost = [i for i in range(len(given.names)) if i not in matched]
    if not len(free) or not lost:
        return
    places, taken = rigid.apply(pose, targets)[free], set()
    exchanged = exchanged_heights(out, given, control, places, lost, tolerance)
    for i in [k for k in lost if k not in exchanged]:
        words = explained_by(i, given, control, places, tolerance, taken)
        if words:
            out.doubt.append(words)
            out.suspects.append(given.names[i])


def _checks(
    out: Review,
    given: Given,
    control: np.ndarray,
    targets: np.ndarray,
    sigma: np.ndarray,
    pose: np.ndarray,
    matched: dict[int, int],
) -> None:
    for i, k in matched.items():
        away = rigid.apply(pose, targets[k : k + 1])[0] - control[i]
        if given.check[i] and np.linalg.norm(away) > max(0.01, 5 * sigma[k]):
            out.doubt.append(
                "Check point " + blunder_of(given.names[i], away, given.heights[i], given.heights)
            )
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
