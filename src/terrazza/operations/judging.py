"""What stands judged: double walls, contradictions at the final poses, and the sentences that a surveyor can
sign.
"""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.base import Figures, Operation, Params, operation, scans_field
from terrazza.operations.job import Job, Scan
from terrazza.operations.notation import Notation
from terrazza.operations.surfaces import kept_points

contradiction = later("terrazza.core.register.contradiction")
double_walls = later("terrazza.core.register.double_walls")
linking = later("terrazza.core.register.linking")
offers = later("terrazza.core.register.offers")
quality = later("terrazza.core.register.quality")

LOOSE_MM = 7.0  # a standard deviation beyond this lets a placement be 20 mm off
MOST_TOLD, MOST_LOOPS = 200, 50  # double walls and loops that a list can show
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
    wrong: dict[int, str] = {}
    for a in places:
        for b in places:
            if a < b and np.linalg.norm(places[a][:3, 3] - places[b][:3, 3]) < reach[a] + reach[b]:
                verdict = contradiction.judge(seen[a], seen[b], rigid.inverse(places[a]) @ places[b])
                if verdict.area > offers.REFUSED and verdict.common > offers.COMMON:
                    at = rigid.apply(places[a], verdict.patches[0][1][None])[0]
                    for k in (a, b):
                        wrong.setdefault(
                            scans[k].id,
                            f"Scans {scans[a].id} and {scans[b].id} contradict each other over "
                            f"{verdict.area:.1f} m², most near {at[0]:.1f}, {at[1]:.1f}, {at[2]:.1f}.",
                        )
    return wrong


def hung_together(job: Job, scans: list[Scan], ties, results) -> Figures:
    """What the network says of its ties: normalised residuals, redundancy and what would go unnoticed are put
    with each tie, loops, global test and advice with the network; returns the latter.
    """
    told: Figures = {"loops": [], "test": None, "advice": None}
    for members, adjusted, stay in results:
        if adjusted is None:
            continue
        within = linking.among(ties, members)
        number = lambda k: scans[members[k]].id  # noqa: E731, B023
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


class DoubleWallsParams(Params):
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class DoubleWalls(Operation):
    """Looks through all placed scans for surfaces that show twice, the farthest apart first."""

    name, title, step = "register.double_walls", "Look for double walls", "Register"
    reads, writes = frozenset({"scan", "pose", "cut", "left_out"}), frozenset({"network"})
    Params = DoubleWallsParams

    def run(self, job: Job, params: DoubleWallsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to look through")
        if len(scans) < 2:
            raise StateError("Double walls need two placed scans at least.", "Place another.")
        rows = doubled(
            job,
            [
                (s, kept_points(job.cloud(s.id)), s.pose, float(s.pose_record.get("bias") or 0.0))
                for s in scans
            ],
            progress,
        )
        n = Notation.of(job)
        if not rows:
            return {"says": f"No double wall in {len(scans)} scans", "double_walls": []}
        worst = rows[0]
        return {
            "says": f"{len(rows)} double walls, the worst {n.residual(abs(worst['offset_mm']))} in scans "
            f"{worst['a']} and {worst['b']}",
            "double_walls": rows,
            "doubt": [
                f"Scan {d['off']} shows a {d['what']} twice with scan {d['a'] + d['b'] - d['off']}, "
                f"{n.residual(abs(d['offset_mm']))} apart over {d['area']:.1f} m²."
                for d in rows[:5]
            ],
        }


def statement(job: Job) -> list[tuple[str, str]]:
    """The registration in sentences that a surveyor can sign: (what is told, the sentence) for what is done,
    how good and how sure it is, what is weak and what is doubted.
    """
    network, n, scans = job.get("network") or {}, Notation.of(job), job.scans()
    placed = [s for s in scans if s.pose is not None]
    if len(placed) < 2 or network.get("rms_mm") is None:
        return []
    ties, standing = list(job.facts("tie").values()), job.facts("standing")
    good = [t for t in ties if not t["failed"]]
    islands = {v["island"] for v in standing.values() if v["island"]} | {1}
    out_of = [s for s in scans if job.get("left_out", s.id)]
    done = (
        f"{len(placed)} of {len(scans)} scans placed"
        + (f" in {len(islands)} islands" if len(islands) > 1 else "")
        + f", held by {len(good)} cloud ties"
        + (f"; {len(out_of)} left out of the adjustment" if out_of else "")
        + "."
    )
    worst = max(good, key=lambda t: t["rms_mm"], default=None)
    quality = (
        f"RMS {n.residual(network['rms_mm'])} of the distances between matched surfaces where the scans now "
        f"stand, over all ties: {verdict(network['rms_mm'])}."
        + (f" The worst is {n.residual(worst['rms_mm'])}, {worst['a']} – {worst['b']}." if worst else "")
    )
    sigmas = {
        s.id: float(np.sqrt(np.linalg.eigvalsh(np.array(c)[3:, 3:])[-1]) * 1000)
        for s in placed
        if (c := s.pose_record.get("covariance"))
    }
    loosest = max(sigmas, key=lambda k: sigmas[k], default=None)
    sure = (
        f"Every place is known to {n.residual(sigmas[loosest], 2)} (one σ, weakest direction, against the "
        f"scans that stay) or better; the least sure is scan {loosest}."
        if loosest
        else "No adjustment has told how sure the places are."
    )
    weak = [
        f"{t['a']} – {t['b']} {t['words']} ({t['overlap']:.0%} in common)"
        for t in good
        if t["words"] != "firm"
    ]
    doubles = network.get("doubles")
    twice = (
        "Double walls were not looked for."
        if doubles is None
        else "No surface shows twice."
        if not doubles
        else f"{len(doubles)} surfaces show twice, the worst by {n.residual(abs(doubles[0]['offset_mm']))}, "
        f"in scans {doubles[0]['a']} and {doubles[0]['b']}."
    )
    alone = [s.name for s in scans if s.pose is None and s not in out_of]
    doubts = [f"{k}: {v['doubt']}" for k, v in standing.items() if v["doubt"]]
    loops, test, advice = network.get("loops") or [], network.get("test"), network.get("advice")
    closes = (
        f" {len(loops)} loops of ties close to {n.residual(loops[0]['shift_mm'])} or better, the widest over "
        f"scans {', '.join(map(str, loops[0]['scans']))}."
        if loops
        else " No ties form a loop that would control them."
    )
    sure += closes + (f" {test['says']}" if test else "")
    return [
        ("Done", done),
        ("How good", quality + " " + twice),
        ("How sure", sure),
        (
            "Weak",
            (
                (
                    f"{len(weak)} ties: "
                    + "; ".join(weak[:4])
                    + (f"; and {len(weak) - 4} more" if len(weak) > 4 else "")
                    + "."
                )
                if weak
                else "No tie is weak in any direction."
            )
            + (f" {advice}" if advice else ""),
        ),
        (
            "Doubted",
            " ".join(
                [
                    *doubts[:6],
                    *(["…"] if len(doubts) > 6 else []),
                    *([f"Not placed: {', '.join(alone)}."] if alone else []),
                ]
            )
            or "Nothing.",
        ),
    ]
