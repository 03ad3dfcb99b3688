"""Strips of a flight or a drive: the turn of the scanner against its craft, from its trajectory and what its
passes have in common.
"""

from dataclasses import replace
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.clean.trying import Piece, Tried
from terrazza.operations.pieces import positions
from terrazza.operations.register.flying import (
    COARSEST,
    FlightParams,
    Given,
    busiest,
    flight_of,
    flown,
    shared,
)
from terrazza.operations.spine.base import Figures, Operation, field, operation
from terrazza.operations.spine.job import Job
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.strips import boresight, patches
    from terrazza.core.strips import drift as drifts
    from terrazza.core.strips import flight as flights

ROUNDS = 3  # of solving, each on points corrected as far as the last one came
REACH = 0.75  # cells from patch to patch
SETTLED = 0.1  # σ: angles that change by less in a round need no other
TRIED = 3_000_000  # points that sizes of patches are tried on
FEWEST, PAIRS = 60, 150_000  # pairs of patches: that are needed, and that are solved from
MOVING = "angles and shifts", "angles and drift"
KNOTS, FEWER = 400, 60  # of the drift of all passes; and to tell signs by
LARGER, ENOUGH = (1.0, 2.0, 4.0, 8.0), 0.5  # patches that are tried; share of what the best tell
LEVEL, LEAST, BARS = 0.97, 20, 24  # of a normal, upwards; patches that tell a misfit; of a histogram
MOST = 20_000  # pairs that signs are told by
BETTER = 25.0  # squares of σ by which one reading of the angles has to fit better to be told from another
HELD = 10.0  # thousandths of a degree: σ above which an angle is not held
CROSS, SAME = np.radians(25), np.radians(60)  # between courses that cross, and within those of one direction


class StripsParams(FlightParams):
    solve: Literal[
        "angles", "angles and lever", "angles and range scale", "angles and shifts", "angles and drift"
    ] = field(
        "Solve",
        "angles",
        help="And apply, where the path is off: shifts, of each pass as a whole; drift, along it.",
    )
    turn_mdeg: list[float] = field(
        "Turn",
        list,
        max_length=3,
        help="Roll, pitch and heading in thousandths of a degree, instead of solving; empty: solved.",
    )
    frame: list[float] = field(
        "Scanner on the craft",
        list,
        unit="°",
        max_length=3,
        help="Roll, pitch, heading of its axes as mounted: the turn is told about them, too; one instrument "
        "at a time, by its scans.",
    )
    apply: bool = field("Apply", True, help="Off: only the figures.")


@operation
class Strips(Operation):
    """Solves how the scanner is turned against its craft (roll, pitch, heading) from surfaces that passes
    share, and corrects the points for it; signs, order and reference of the angles are found from the path.
    """

    name, title, step = "register.strips", "Align strips", "Register"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "crs"}), frozenset({"column", "scan"})
    tries = True
    Params = StripsParams

    def run(self, job: Job, params: StripsParams, progress: Progress) -> Figures:
        scans = flown(job, params)
        for name in ("turn_mdeg", "frame"):
            if len(getattr(params, name)) not in (0, 3):
                raise ParamsError(
                    f"register.strips: “{name}” needs three numbers.", "Give roll, pitch, heading."
                )
        given, read, choices, cover = flight_of(job, scans, params)
        given, solved, first, words, doubt = self._solved(job, scans, params, given, choices, progress)
        figures = _figures(given, solved, first, params) | {"read": [read, words], "cover": cover.figures}
        doubt += cover.doubts + ([] if params.turn_mdeg else _doubts(given, solved))
        if params.apply:
            args = {s.id: job.grid_pose(s) for s in scans}
            positions.rewrite(job, scans, _moved, args, Part(progress, 0.75, 1.0), given)
        roll, pitch, heading = (f"{v / 1000:.3f}" for v in figures["angles_mdeg"])
        done = "corrected" if params.apply else "not applied"
        return figures | {
            "says": f"{len(given.passes)} passes: roll {roll}°, pitch {pitch}°, heading {heading}°, {done}",
            "doubt": doubt,
        }

    def preview(self, job: Job, params: StripsParams, piece: Piece, progress: Progress) -> Tried:
        """Where the points of a piece would lie; solved from the whole flight."""
        scans = flown(job, params)
        given, _, choices, cover = flight_of(job, scans, params)
        given, solved, first, _, doubt = self._solved(job, scans, params, given, choices, progress)
        gone, places, far = {}, {}, [np.zeros(0)]
        for scan in (s for s in scans if s.id in piece.points):
            cloud, index = job.cloud(scan.id), piece.points[scan.id]
            xyz = rigid.apply(job.grid_pose(scan), cloud.at(index))
            when = cloud.pick("time", index) + given.shift
            moved = given.corrected(xyz - given.origin, when) + given.origin
            far.append(np.linalg.norm(moved - xyz, axis=1))
            gone[scan.id], places[scan.id] = index[far[-1] > 0], moved[far[-1] > 0]
        moved = np.concatenate(far)
        count, of = int((moved > 0).sum()), sum(map(len, piece.points.values()))
        turn = ", ".join(f"{v:.3f}°" for v in np.degrees(given.angles))
        would = f"move, half of them by {1000 * np.median(moved):.0f} mm or more; the turn is {turn}"
        doubt += cover.doubts + ([] if params.turn_mdeg else _doubts(given, solved))
        figures = _figures(given, solved, first, params) | {"points": count, "of": of, "share": count / of}
        return Tried(gone, [], figures | {"would": would, "doubt": doubt}, places)

    def _solved(self, job, scans, params, given, choices, progress):
        """The flight with its angles solved, the last solution, the first, how signs were read, doubts."""
        words, doubt, first = choices[0][0], [], None
        given = replace(given, drift=drifts.Drift.none(given.passes, _every(given.passes)))
        given = sized(job, scans, given, Part(progress, 0, 0.2))
        for turn in range(ROUNDS):
            part = Part(progress, 0.2 + 0.5 * turn / ROUNDS, 0.2 + 0.5 * (turn + 1) / ROUNDS)
            found, pairs = surfaces(job, scans, given, part)
            if turn == 0 and len(choices) > 1:
                given, words, doubt = signed(given, choices, found, pairs, params)
            solved = _solve(given, found, pairs, params)
            first = first or (found, pairs, solved)
            matrix = flights.rotation(solved.angles) @ flights.rotation(given.angles)
            known = {"angles": _angles(matrix), "lever": solved.lever, "scale": given.scale * solved.scale}
            if params.solve in MOVING:
                drift = replace(given.drift, value=given.drift.value + solved.shifts)
                known["drift"] = drift if "drift" in params.solve else drift.by_pass
            given = replace(given, **known)
            still = np.abs(solved.angles) <= SETTLED * np.sqrt(np.diag(solved.covariance)[:3])
            if turn and (params.turn_mdeg or still.all()):
                break
        return given, (found, pairs, solved), first, words, doubt


def sized(job: Job, scans, given: Given, progress: Progress) -> Given:
    """The flight with patches as small as tells most of what larger ones would: lines of a scanner may lie
    much farther apart than the points on them.
    """
    cells = [c for c in (given.cell * k for k in LARGER) if c <= COARSEST] or [given.cell]
    told, window = [], busiest(job, scans, given, TRIED)
    for k, cell in enumerate(cells):
        one = replace(given, cell=cell, one_of=1)
        found = shared(job, scans, one, Part(progress, k / len(cells), (k + 1) / len(cells)), window)
        pairs = patches.pairs(found, REACH * cell)
        told.append(float((1 / patches.apart_by(found, pairs) ** 2).sum()))
    enough = next(c for c, t in zip(cells, told) if t >= ENOUGH * max(told))
    return replace(given, cell=enough)


def surfaces(job: Job, scans, given: Given, progress: Progress):
    """The small surfaces of all passes and the pairs of them; StateError where there are too few."""
    found = shared(job, scans, given, progress)
    pairs = patches.pairs(found, REACH * given.cell)
    if len(pairs.a) < FEWEST:
        raise StateError(
            f"The passes share only {len(pairs.a)} small surfaces; {FEWEST} are needed.",
            "Choose strips that overlap.",
        )
    step = -(-len(pairs.a) // PAIRS)
    return found.only(patches.Pairs(pairs.a[::step], pairs.b[::step]))


def _every(passes, most: int = KNOTS) -> float:
    """Seconds from knot to knot of the passes' shifts, of which there are so many or so at most."""
    return max(drifts.EVERY, sum(p.end - p.start for p in passes) / most)


def _given_turn(params: StripsParams, given: Given) -> np.ndarray:
    """The turn (3,) rad that is left to the one given by number."""
    wanted = flights.rotation(np.radians(np.array(params.turn_mdeg) / 1000))
    return _angles(wanted @ flights.rotation(given.angles).T)


def _solve(given: Given, found, pairs, params: StripsParams) -> "boresight.Solved":
    solving = "lever" in params.solve, "scale" in params.solve
    problem = boresight.Problem(given.flight, found, pairs, given.lever, given.drift, *solving)
    if params.turn_mdeg:
        return boresight.as_given(problem, _given_turn(params, given))
    return boresight.solve(problem)


def signed(given: Given, choices, found, pairs, params: StripsParams):
    """The flight with the reading of roll and pitch under which the passes agree best, be the path as slowly
    off as it may, and are off by what is likely; how it is read, and what is doubted of that.
    """
    step = max(len(pairs.a) // MOST, 1)
    some, tried = patches.Pairs(pairs.a[::step], pairs.b[::step]), []
    loose = drifts.Drift.none(given.passes, _every(given.passes, FEWER))
    for words, attitude in choices:
        flight = replace(given.flight, attitude=attitude)
        solved = _solve(replace(given, flight=flight, drift=loose), found, some, params)
        tried.append((solved, words, replace(given, flight=flight)))
    usual = min(1.4826 * float(np.median(np.abs(solved.left))) for solved, *_ in tried)
    costs = [boresight.cost(solved.left, usual) + solved.unlikely for solved, *_ in tried]
    best = sorted(zip(costs, tried), key=lambda c: c[0])
    near = [t for cost, t in best if cost - best[0][0] < BETTER]
    solved, chosen, flown = near[0]
    others = [t for t in near if t[1] != chosen]
    if not others:
        return flown, chosen, []
    apart = max(float(np.abs(t[0].angles - solved.angles).max()) for t in others)
    doubt = (
        f"The strips agree as well with {len(others)} other readings of the angles, such as {others[0][1]}: "
        f"{chosen} was taken; the turn would come out up to {np.degrees(apart):.3f}° otherwise."
    )
    return flown, chosen, [doubt]


def _angles(matrix: np.ndarray) -> np.ndarray:
    """Roll, pitch and heading (rad) of Rz · Ry · Rx."""
    roll = np.arctan2(matrix[2, 1], matrix[2, 2])
    return np.array([roll, -np.arcsin(np.clip(matrix[2, 0], -1, 1)), np.arctan2(matrix[1, 0], matrix[0, 0])])


def _pairs_of(found, pairs):
    """(name, mask) of each pair of passes, numbered from 1."""
    a, b = found.number[pairs.a], found.number[pairs.b]
    for one, two in np.unique(np.c_[a, b], axis=0):
        yield f"{one + 1}-{two + 1}", (a == one) & (b == two)


def _usual(off: np.ndarray) -> float:
    return float(1482.6 * np.median(np.abs(off)))


def _by_pair(found, pairs, off: np.ndarray) -> dict[str, float]:
    """Usual misfit (mm) of each pair of passes."""
    return {name: _usual(off[mine]) for name, mine in _pairs_of(found, pairs)}


def _plan_and_height(found, pairs, off: np.ndarray) -> dict[str, dict[str, float | None]]:
    """Usual misfit (mm) of each pair of passes across leaning surfaces in plan, and of level ones in height;
    None where there are fewer than ``LEAST`` of them.
    """
    up = np.abs(found.normal[pairs.a, 2])
    level, lean = up > LEVEL, np.sqrt(np.maximum(1 - up**2, 1e-6))
    out = {}
    for name, mine in _pairs_of(found, pairs):
        flat, slope = off[mine & level], (off / lean)[mine & ~level]
        out[name] = {
            "height": _usual(flat) if len(flat) >= LEAST else None,
            "plan": _usual(slope) if len(slope) >= LEAST else None,
        }
    return out


def apart(found, pairs, off: np.ndarray) -> Figures:
    """Misfits (m) of pairs of patches as figures, by pair of passes."""
    return {
        "pairs": len(off),
        "apart_mm": _plan_and_height(found, pairs, off),
        "histograms": _histograms(found, pairs, off),
    }


def _histograms(found, pairs, off: np.ndarray) -> dict:
    """Misfits (mm) of each pair of passes in bars that all have in common."""
    reach = max(float(np.quantile(np.abs(off), 0.99)) * 1000, 0.1)
    edges = np.linspace(-reach, reach, BARS + 1)
    each = {n: np.histogram(off[m] * 1000, edges)[0].tolist() for n, m in _pairs_of(found, pairs)}
    return {"edges_mm": edges.tolist(), "counts": each}


def _figures(given: Given, last, first, params: StripsParams) -> dict:
    found, pairs, solved = last
    sigma = np.sqrt(np.diag(solved.covariance))
    out = {
        "angles_mdeg": [float(v) for v in np.degrees(given.angles) * 1000],
        "sigma_mdeg": [float(v) if np.isfinite(v) else None for v in np.degrees(sigma[:3]) * 1000],
        "lever_mm": [float(v) for v in given.lever * 1000],
        "before_mm": _by_pair(first[0], first[1], first[2].before),
        "after_mm": _by_pair(found, pairs, solved.after),
        "before_apart_mm": _plan_and_height(first[0], first[1], first[2].before),
        "after_apart_mm": _plan_and_height(found, pairs, solved.after),
        "histograms": _histograms(found, pairs, solved.after),
        "shifts_mm": (_by_pass(given) * 1000).tolist(),
        "drift": _drift(given) if "drift" in params.solve else [],
        "correlation": np.round(np.nan_to_num(solved.correlation), 3).tolist(),
        "unknowns": list(solved.names),
        "pass_shift_mm": float(solved.spread * 1000),
        "pairs": len(pairs.a),
        "passes": [
            {
                "number": k + 1,
                "start": p.start,
                "end": p.end,
                "course_deg": float(np.degrees(p.course)),
                "length": p.length,
            }
            for k, p in enumerate(given.passes)
        ],
    }
    if params.frame:
        mounted = flights.rotation(np.radians(params.frame))
        about = _angles(mounted.T @ flights.rotation(given.angles) @ mounted)
        out["scanner_angles_mdeg"] = (np.degrees(about) * 1000).tolist()
    if "lever x" in solved.names:
        out["sigma_lever_mm"] = [float(v) for v in sigma[3:6] * 1000]
    if "range scale" in solved.names:
        out |= {"range_scale_ppm": (given.scale - 1) * 1e6, "sigma_range_scale_ppm": float(sigma[-1] * 1e6)}
    return out


def _by_pass(given: Given) -> np.ndarray:
    """(passes, 3) m by which each pass was shifted, in the middle."""
    number = np.arange(len(given.passes))
    middle = np.array([(p.start + p.end) / 2 for p in given.passes])
    return given.drift.at(number, middle)


def _drift(given: Given) -> list[dict]:
    """The shifts at the knots, where they change along passes."""
    knots = given.drift
    rows = zip(knots.number + 1, knots.time, knots.value * 1000)
    return [{"pass": int(n), "time": float(t), "mm": v.tolist()} for n, t, v in rows]


def _doubts(given: Given, last) -> list[str]:
    """What the passes do not hold, and what they cannot tell apart."""
    found, _, solved = last
    sigma = np.degrees(np.sqrt(np.diag(solved.covariance))) * 1000
    there = sorted(set(found.number.tolist()))
    course = np.array([given.passes[k].course for k in there])
    apart = np.abs((course[:, None] - course + np.pi) % (2 * np.pi) - np.pi)
    across = np.minimum(apart, np.pi - apart).max()
    why = {
        "roll": "no two passes in opposite directions: roll and a height look alike",
        "pitch": "no two passes in opposite directions: pitch and a shift along the path look alike",
        "heading": "no crossing pass: heading and a sideways shift look alike",
    }
    out = []
    for name, value in zip(solved.names[:3], sigma):
        if value > HELD:
            shown = (name == "heading" and across < CROSS) or (name != "heading" and apart.max() < SAME)
            reason = why[name] if shown else "too few surfaces that lean against it"
            out.append(f"{name.capitalize()} is held to {value / 1000:.3f}° only ({reason}).")
    for name, value in zip(solved.names[3:6], np.sqrt(np.diag(solved.covariance))[3:6] * 1000):
        if value > 50:
            out.append(
                f"{name.capitalize()} is held to {value:.0f} mm only: measure it on the craft instead."
            )
    return out


def _moved(cloud: Cloud, start: int, stop: int, pose, given: Given) -> np.ndarray:
    """Corrected points of a stretch in the scan's frame."""
    grid, _ = given.moved(cloud, start, stop, pose)
    return rigid.apply(rigid.inverse(pose), grid + given.origin)
