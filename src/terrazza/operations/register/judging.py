"""What stands judged: contradictions at the final poses, ties, loops, the global test, and double walls."""

from collections import Counter
from itertools import combinations

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.later import later
from terrazza.operations.spine.base import Figures
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.register import contradiction, double_walls, graph, linking, offers, quality

LOOSE_MM, LOOSE_DEG = 7.0, 0.07  # a standard deviation beyond these lets a placement be 20 mm or 0.2° off
MOST_TOLD, MOST_LOOPS = 200, 50  # double walls and loops that a list can show
# a tie whose fit is left behind so far: normalised misclosure, and m or rad (right scans of fifteen simulated
# places had 2.9 and less, wrong ones of sparse scans 4 to 10)
LEFT_BEHIND, BEHIND = 3.5, (0.010, np.radians(0.1))
ADVISE = 0.0015  # m: a scan less sure than this is worth another tie


def verdict(rms_mm: float | None) -> str:
    """What a cloud RMS means for indoor work (common practice)."""
    if rms_mm is None:
        return "no ties to judge by"
    return (
        "good for indoor work"
        if rms_mm <= 7
        else "a rough stage that still needs the final fit"
        if rms_mm <= 20
        else "too rough: look at the ties"
    )


def judged_again(job: Job, scans: list[Scan], seen) -> dict[int, str]:
    """By scan what the pictures say against its final pose."""
    places = {
        k: np.array(job.get("pose", s.id)["matrix"])
        for k, s in enumerate(scans)
        if (job.get("pose", s.id) or {}).get("matrix")
    }
    reach = {k: float(np.linalg.norm(seen[k].xyz, axis=1).max(initial=0.0)) for k in places}
    judged = {
        (a, b): contradiction.judge(seen[a], seen[b], rigid.inverse(places[a]) @ places[b])
        for a, b in combinations(places, 2)
        if np.linalg.norm(places[a][:3, 3] - places[b][:3, 3]) < reach[a] + reach[b]
    }
    quiet = offers.quiet_by(list(judged.values()))
    judged = {pair: offers.weighed(v, quiet) for pair, v in judged.items() if v.common > offers.COMMON}
    against = {pair: v for pair, v in judged.items() if v.area > offers.REFUSED}
    doubted, wrong = apart(set(against), set(judged) - set(against)), {}
    for (a, b), v in against.items():
        at = rigid.apply(places[a], v.patches[0][1][None])[0]
        for k in {a, b} & doubted:
            wrong.setdefault(
                scans[k].id,
                f"Scans {scans[a].id} and {scans[b].id} contradict each other over "
                f"{v.area:.1f} m², most near {at[0]:.1f}, {at[1]:.1f}, {at[2]:.1f}.",
            )
    return wrong


def apart(against: set[tuple[int, int]], agree: set[tuple[int, int]]) -> set[int]:
    """The scans that explain which pairs are ``against`` each other: one that contradicts two others or more
    and agrees with one at most explains its pairs alone; else both of a pair may be the reason.
    """
    left, out = set(against), set()
    agreeing = Counter(k for pair in agree for k in pair)
    while True:
        count = Counter(k for pair in left for k in pair)
        alone = max(
            (k for k in count if count[k] > 1 and agreeing[k] < 2), key=count.__getitem__, default=None
        )
        if alone is None:
            return out | set(count)
        out.add(alone)
        left = {pair for pair in left if alone not in pair}


def left_behind(scans: list[Scan], ties, rest: list[np.ndarray | None], fixed: set[int]) -> dict[int, str]:
    """By scan that an adjustment put it where ties say it is not, and at most one says that it is: a few
    patches that look flat by chance hold it to a millimetre, wherever they are.
    """
    against: dict[int, list[tuple[int, float, float]]] = {}
    agreeing: Counter[int] = Counter()
    for tie in ties:
        if tie.failed or rest[tie.a] is None or rest[tie.b] is None:
            continue
        information, _, off = graph.observed(tie, rest)
        shift = off[3:].copy()
        for free in tie.fit.free:
            way = rest[tie.a][:3, :3] @ free
            shift -= way * (way @ shift)
        away, turn = float(np.linalg.norm(shift)), float(np.linalg.norm(off[:3]))
        if graph.misfit_of(information, off) > LEFT_BEHIND and (away > BEHIND[0] or turn > BEHIND[1]):
            against.setdefault(tie.a, []).append((tie.b, away, turn))
            against.setdefault(tie.b, []).append((tie.a, away, turn))
        else:
            agreeing.update((tie.a, tie.b))
    return {
        scans[k].id: f"Scan {scans[found[0][0]].id} fits on it {1000 * found[0][1]:.0f} mm and "
        f"{np.degrees(found[0][2]):.1f}° from where the adjustment put them."
        for k, found in against.items()
        if agreeing[k] < 2 and k not in fixed
    }


def hung_together(job: Job, scans: list[Scan], ties, results) -> Figures:
    """What the network says of its ties: normalised residuals, redundancy and what would go unnoticed are put
    with each tie, loops, global test and advice with the network; returns the latter.
    """
    told: Figures = {"loops": [], "test": None, "advice": None}
    for members, adjusted, stay in results:
        if adjusted is None:
            continue
        within = linking.among(ties, members)
        number = lambda k: scans[members[k]].id
        judged = quality.of_ties(within, adjusted.poses, adjusted.joint)
        for tie, q in zip(within, judged):
            key = f"{number(tie.a)}-{number(tie.b)}"
            job.put(
                "tie",
                key,
                job.get("tie", key)
                | {
                    "w": q.w,
                    "redundancy": q.redundancy,
                    "unnoticed_mm": q.unnoticed * 1000 if np.isfinite(q.unnoticed) else None,
                },
            )
        told["loops"] += [
            {
                "scans": [number(k) for k in loop.scans],
                "shift_mm": loop.shift * 1000,
                "turn_mdeg": float(np.degrees(loop.turn)) * 1000,
            }
            for loop in quality.loops(within, len(members))[:MOST_LOOPS]
        ]
        if (
            told["test"] is None
            and (test := quality.global_test(judged, len(members) - len(stay))) is not None
        ):
            told["test"] = {"value": test[0], "low": test[1], "high": test[2], "says": _tested(*test)}
        found = quality.advice(adjusted.poses, adjusted.joint, within)
        if told["advice"] is None and found is not None and found.sigma > ADVISE:
            told["advice"] = _advised(job, found, [t for t in within if found.scan in (t.a, t.b)], number)
    told["loops"].sort(key=lambda loop: -loop["shift_mm"])
    job.put("network", "", job.get("network") | told)
    return told


def _tested(value: float, low: float, high: float) -> str:
    if value > high:
        return (
            f"The ties contradict each other more than they should ({value:.2f}, at most {high:.2f} is "
            "usual): look at those with large residuals."
        )
    return (
        f"The ties agree better than their standard deviations say ({value:.2f}, at least {low:.2f} is "
        "usual): these are on the safe side."
        if value < low
        else f"The ties agree as well as their standard deviations say ({value:.2f} of {low:.2f} to "
        f"{high:.2f})."
    )


def _advised(job: Job, found, mine, number) -> str:
    n, d = Notation.of(job), found.direction
    along = "in height" if abs(d[2]) > 0.8 else f"along {np.degrees(np.arctan2(d[0], d[1])) % 180:.0f}°"
    hangs = (
        f"hangs on one tie of {mine[0].fit.overlap:.0%}" if len(mine) == 1 else f"hangs on {len(mine)} ties"
    )
    helps = (
        f": a tie to scan {number(found.to)} would hold it to {n.residual(found.then * 1000)}"
        if found.to is not None
        else ""
    )
    return f"Scan {number(found.scan)} {hangs}, known {along} to {n.residual(found.sigma * 1000)}{helps}."


def doubled(job: Job, parts: list[tuple[Scan, np.ndarray, np.ndarray, float]], progress) -> list[dict]:
    """Double walls of scans (each with its points, pose and range bias), worst first, as plain rows; kept
    with the network.
    """
    scans, clouds, poses, biases = (list(p) for p in zip(*parts)) if len(parts) > 1 else ([], [], [], [])
    found = double_walls.find(clouds, poses, biases, progress) if scans else []
    off = [scans[k].id for k in double_walls.standing_off(found)]
    rows = [
        {
            "a": scans[d.a].id,
            "b": scans[d.b].id,
            "off": next(k for k in off if k in (scans[d.a].id, scans[d.b].id)),
            "offset_mm": d.offset * 1000,
            "sigma_mm": d.sigma * 1000,
            "area": d.area,
            "at": d.centre.tolist(),
            "normal": d.normal.tolist(),
            "what": d.what,
        }
        for d in found
    ]
    job.put(
        "network",
        "",
        {"scans": [], "rms_mm": None} | (job.get("network") or {}) | {"doubles": rows[:MOST_TOLD]},
    )
    return rows


def shown_twice(doubles: list[dict]) -> dict[int, str]:
    """By scan that shows surfaces twice, farther apart than a certain placement may be: where and how far."""
    wrong: dict[int, str] = {}
    for d in doubles:
        if abs(d["offset_mm"]) > LOOSE_MM:
            wrong.setdefault(
                d["off"],
                f"A {d['what']} near {d['at'][0]:.1f}, {d['at'][1]:.1f}, {d['at'][2]:.1f} shows twice, "
                f"{abs(d['offset_mm']):.0f} mm apart, in scans {d['a']} and {d['b']}.",
            )
    return wrong
