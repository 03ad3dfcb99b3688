"""Strips of a flight or a drive: the turn of the scanner against its craft, from its trajectory and what its
passes have in common.
"""

import itertools
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces import positions, reading
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

boresight = later("terrazza.core.strips.boresight")
conventions = later("terrazza.core.strips.conventions")
flights = later("terrazza.core.strips.flight")
lows = later("terrazza.core.classify.lows")
patches = later("terrazza.core.strips.patches")
systems = later("terrazza.core.georef.systems")

ROUNDS = 3  # of solving, each on points corrected as far as the last one came
REACH = 0.75  # cells from patch to patch
WIDER, FINEST, COARSEST = 4.0, 0.4, 6.0  # usual distances from point to point of a cell; m
FEWEST = 60  # pairs of patches
SAMPLE = 300_000
MOST = 20_000  # pairs that signs are told by
BETTER = 25.0  # squares of σ by which one reading of the angles has to fit better to be told from another
HELD = 10.0  # thousandths of a degree: σ above which an angle is not held
CROSS, SAME = np.radians(25), np.radians(60)  # between courses that cross, and within those of one direction


class StripsParams(Params):
    trajectory: str = field(
        "Trajectory", role="read", help="Text: time, place and three angles, in any order."
    )
    columns: str = field(
        "Columns",
        "",
        max_length=400,
        help="A word a column: time x y z roll pitch heading, or -; empty: by the header or the numbers.",
    )
    signs: Literal["auto", "+ +", "+ -", "- +", "- -"] = field(
        "Signs of roll and pitch",
        "auto",
        help="Roll positive left side up, pitch positive nose down; auto: by which the strips agree better.",
    )
    crs: str = field("Coordinate system", "", max_length=400, help="Of the trajectory, where it is another.")
    lever: list[float] = field(
        "Lever arm",
        list,
        unit="m",
        max_length=3,
        help="x forward, y left, z up, that the cloud was made with.",
    )
    solve: Literal["angles", "angles and lever", "angles and range scale"] = field("Solve", "angles")
    apply: bool = field("Apply", True, help="Off: only the figures.")
    scans: list[int] = scans_field("Empty: all that have times.")


@dataclass(frozen=True)
class Given:
    """What helpers need of a flight: how points' times become its own, its passes, and a first time; grid
    coordinates are counted from ``origin``.
    """

    flight: "flights.Flight"
    passes: tuple
    origin: np.ndarray
    shift: float
    own_lever: np.ndarray
    angles: np.ndarray
    lever: np.ndarray
    scale: float
    cell: float

    def moved(self, cloud: Cloud, start: int, stop: int, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Points of a stretch as corrected so far, and their times."""
        when = np.asarray(cloud.read("time", start, stop), float) + self.shift
        xyz = rigid.apply(pose, cloud.xyz(start, stop)) - self.origin
        known = self.angles, self.own_lever, self.lever, self.scale
        return flights.corrected(self.flight, xyz, when, *known), when


@operation
class Strips(Operation):
    """Solves how the scanner is turned against its craft (roll, pitch, heading) from surfaces that passes
    share, and corrects the points for it; signs, order and reference of the angles are found from the path.
    """

    name, title, step = "register.strips", "Align strips", "Register"
    reads, writes = frozenset({"scan", "pose", "frame", "cut", "crs"}), frozenset({"column", "scan"})
    Params = StripsParams

    def run(self, job: Job, params: StripsParams, progress: Progress) -> Figures:
        scans = [
            s
            for s in job.need_scans(params.scans, placed=True)
            if params.scans or job.cloud(s.id).has("time")
        ]
        without = next((s.name for s in scans if not job.cloud(s.id).has("time")), "")
        if without or not scans:
            raise StateError(
                f"The points of “{without or 'all scans'}” have no times.",
                "Import them with the time of each.",
            )
        if len(params.lever) not in (0, 3):
            raise ParamsError("register.strips: “lever” needs three numbers.", "Give x, y and z.")
        given, read, choices = self._given(job, scans, params)
        given, solved, first, words, doubt = self._solved(job, scans, params, given, choices, progress)
        figures = _figures(given, solved, first) | {"read": [read, words]}
        doubt += _doubts(given, solved)
        if params.apply:
            args = {s.id: job.grid_pose(s) for s in scans}
            positions.rewrite(job, scans, _moved, args, Part(progress, 0.75, 1.0), given)
        roll, pitch, heading = (f"{v / 1000:.3f}" for v in figures["angles_mdeg"])
        done = "corrected" if params.apply else "not applied"
        return figures | {
            "says": f"{len(given.passes)} passes: roll {roll}°, pitch {pitch}°, heading {heading}°, {done}",
            "doubt": doubt,
        }

    def _given(self, job: Job, scans: list[Scan], params: StripsParams):
        """The flight as far as the path tells it, how it was read, and the choices that are left."""
        low, high, when = _extent(job, scans)
        path = job.input(params.trajectory, "The trajectory")
        columns, unnamed, degrees = reading.flight(path, tuple(params.columns.split()))
        if params.crs or degrees:
            columns = self._projected(job, columns, params.crs or "EPSG:4326")
        columns = conventions.named(columns, unnamed, low, high, when)
        missing = {"time", "x", "y", "z", "heading"} - set(columns)
        if missing:
            raise InputError(f"The trajectory has no {min(missing)}.", "Name its columns.")
        order = np.argsort(columns["time"], kind="stable")
        order = order[np.r_[True, np.diff(columns["time"][order]) > 0]]
        columns = {n: v[order] for n, v in columns.items()}
        time, origin = columns["time"], (low + high) / 2
        xyz = np.stack([columns[a] for a in "xyz"], 1) - origin
        meets = conventions.shifted(time, when)
        if meets is None:
            raise InputError(
                f"The times of the trajectory ({time[0]:.1f} to {time[-1]:.1f} s) and of the points "
                f"({when[0]:.1f} to {when[1]:.1f} s) do not meet.",
                "Choose the trajectory of this flight.",
            )
        if (np.abs(np.median(xyz, 0)) > 20 * np.maximum(high - low, 100)).any():
            raise InputError(
                "The trajectory lies far from the points.", "Name its coordinate system, or its columns."
            )
        told = conventions.heading(columns["heading"], time, xyz)
        if told.off > conventions.CRAB:
            raise InputError("No column of the trajectory is a heading along its path.", "Name its columns.")
        names = ("roll", "pitch") if {"roll", "pitch"} <= set(columns) else ("a", "b")
        if not set(names) <= set(columns):
            raise InputError("The trajectory has no roll and pitch.", "Export it with its attitude.")
        turns = [names] if names[0] == "roll" else [names, names[::-1]]
        signs = ["+ +", "+ -", "- +", "- -"] if params.signs == "auto" else [params.signs]
        level = {n: columns[n] * told.unit for n in names}
        choices = []
        for (one, two), sign in itertools.product(turns, signs):
            roll, pitch = (
                v * (1 if s == "+" else -1) for v, s in zip((level[one], level[two]), sign.split())
            )
            choices.append(
                (f"roll {sign[0]}, pitch {sign[2]}", np.stack([roll, pitch, told.of(columns["heading"])], 1))
            )
        lever = np.array(params.lever or [0.0] * 3)
        flight = flights.Flight(time, xyz, choices[0][1])
        found = tuple(flights.passes(flight))
        if len(found) < 2:
            raise StateError("The path has fewer than two straight passes.", "Give the whole trajectory.")
        read = told.words + (f", times in {meets[0]}" if meets[0] else "")
        cell = self._cell(job, scans, found, meets[1])
        none = np.zeros(3)
        return Given(flight, found, origin, meets[1], lever, none, lever, 1.0, cell), read, choices

    @staticmethod
    def _projected(job: Job, columns: dict, code: str) -> dict:
        crs = job.get("crs")
        if crs is None:
            raise StateError(
                "The job has no coordinate system.", "Name it first, or give the path in its grid."
            )
        x, y, z = systems.between(code, crs["wkt"], *(columns[a] for a in "xyz"))
        return columns | {"x": x, "y": y, "z": z}

    @staticmethod
    def _cell(job: Job, scans: list[Scan], found: tuple, shift: float) -> float:
        """The edge (m) of patches: some points of one pass lie in each."""
        total, places, numbers = sum(s.points for s in scans), [], []
        for scan in scans:
            cloud = job.cloud(scan.id)
            some = cloud.sample(max(SAMPLE * scan.points // total, 1000))
            places.append(rigid.apply(job.grid_pose(scan), cloud.at(some)))
            numbers.append(flights.numbers(found, cloud.pick("time", some) + shift))
        xyz, number = np.concatenate(places), np.concatenate(numbers)
        if not (number >= 0).any():
            raise StateError(
                "No point was taken on a straight pass.", "Choose the trajectory of this flight."
            )
        mine = xyz[number == np.bincount(number[number >= 0]).argmax()]
        spacing = lows.usual_distance(mine) * np.sqrt(min(len(xyz) / total, 1.0))
        return float(np.clip(WIDER * spacing, FINEST, COARSEST))

    def _solved(self, job, scans, params, given, choices, progress):
        """The flight with its angles solved, the last solution, the first, how signs were read, doubts."""
        words, doubt, first = choices[0][0], [], None
        for turn in range(ROUNDS):
            part = Part(progress, 0.7 * turn / ROUNDS, 0.7 * (turn + 1) / ROUNDS)
            found = _patches(job, scans, given, part)
            pairs = patches.pairs(found, REACH * given.cell)
            if len(pairs.a) < FEWEST:
                raise StateError(
                    f"The passes share only {len(pairs.a)} small surfaces; {FEWEST} are needed.",
                    "Choose strips that overlap.",
                )
            if turn == 0 and len(choices) > 1:
                given, words, doubt = _signed(given, choices, found, pairs, params)
            solved = _solve(given, found, pairs, params)
            first = first or (found, pairs, solved)
            matrix = flights.rotation(solved.angles) @ flights.rotation(given.angles)
            given = replace(
                given, angles=_angles(matrix), lever=solved.lever, scale=given.scale * solved.scale
            )
        return given, (found, pairs, solved), first, words, doubt


def _extent(job: Job, scans: list[Scan]) -> tuple[np.ndarray, np.ndarray, tuple[float, float]]:
    """Lowest and highest coordinates (3,) in the grid, and first and last times of an even share of the
    points.
    """
    xyz, when = [], []
    for scan in scans:
        cloud = job.cloud(scan.id)
        some = cloud.sample(SAMPLE)
        xyz.append(rigid.apply(job.grid_pose(scan), cloud.at(some)))
        when.append(cloud.pick("time", some))
    xyz, when = np.concatenate(xyz), np.concatenate(when)
    return xyz.min(0), xyz.max(0), (float(when.min()), float(when.max()))


def _patches(job: Job, scans: list[Scan], given: Given, progress: Progress) -> "patches.Patches":
    pieces = [
        (CloudPiece.of(job, s), job.grid_pose(s), start, stop)
        for s in scans
        for start, stop in job.cloud(s.id).blocks()
    ]
    total = patches.Sums.none()
    sizes = [stop - start for *_, start, stop in pieces]
    for one in job.fleet.each(_summed, pieces, sizes, progress, "Looking at surfaces", given, light=True):
        total = total.with_(one)
    return patches.planes(total, given.cell, given.flight.time[0])


def _summed(piece, given: Given, progress: Progress) -> "patches.Sums":
    of, pose, start, stop = piece
    cloud = of.open()
    xyz, when = given.moved(cloud, start, stop, pose)
    number = np.where(cloud.kept(start, stop), flights.numbers(given.passes, when), -1)
    progress.advance(stop - start, stop - start)
    return patches.sums(xyz, when, number, given.cell, given.flight.time[0])


def _solve(given: Given, found, pairs, params: StripsParams) -> "boresight.Solved":
    problem = boresight.Problem(
        given.flight, found, pairs, given.lever, "lever" in params.solve, "scale" in params.solve
    )
    return boresight.solve(problem)


def _signed(given: Given, choices, found, pairs, params: StripsParams):
    """The flight with the reading of roll and pitch under which the passes agree best."""
    step = max(len(pairs.a) // MOST, 1)
    some, tried = patches.Pairs(pairs.a[::step], pairs.b[::step]), []
    for words, attitude in choices:
        one = replace(given, flight=replace(given.flight, attitude=attitude))
        solved = _solve(one, found, some, params)
        tried.append((solved.after, words, one))
    usual = min(1.4826 * float(np.median(np.abs(after))) for after, *_ in tried)
    costs = [boresight.cost(after, usual) for after, *_ in tried]
    near = [t for t, cost in zip(tried, costs) if cost - min(costs) < BETTER]
    chosen, doubt = near[0], []
    if len(near) > 1:
        doubt = [
            f"The strips agree as well with {' or '.join(t[1] for t in near)}: {chosen[1]} was taken; the "
            "difference hardly matters where the angles are small."
        ]
    return chosen[2], chosen[1], doubt


def _angles(matrix: np.ndarray) -> np.ndarray:
    """Roll, pitch and heading (rad) of Rz · Ry · Rx."""
    roll = np.arctan2(matrix[2, 1], matrix[2, 2])
    return np.array([roll, -np.arcsin(np.clip(matrix[2, 0], -1, 1)), np.arctan2(matrix[1, 0], matrix[0, 0])])


def _by_pair(found, pairs, off: np.ndarray) -> dict[str, float]:
    """Usual misfit (mm) of each pair of passes, numbered from 1."""
    out, a, b = {}, found.number[pairs.a], found.number[pairs.b]
    for one, two in np.unique(np.c_[a, b], axis=0):
        mine = off[(a == one) & (b == two)]
        out[f"{one + 1}-{two + 1}"] = float(1482.6 * np.median(np.abs(mine)))
    return out


def _figures(given: Given, last, first) -> dict:
    found, pairs, solved = last
    sigma = np.sqrt(np.diag(solved.covariance))
    out = {
        "angles_mdeg": [float(v) for v in np.degrees(given.angles) * 1000],
        "sigma_mdeg": [float(v) for v in np.degrees(sigma[:3]) * 1000],
        "lever_mm": [float(v) for v in given.lever * 1000],
        "before_mm": _by_pair(first[0], first[1], first[2].before),
        "after_mm": _by_pair(found, pairs, solved.after),
        "correlation": np.round(solved.correlation, 3).tolist(),
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
    if "lever x" in solved.names:
        out["sigma_lever_mm"] = [float(v) for v in sigma[3:6] * 1000]
    if "range scale" in solved.names:
        out |= {"range_scale_ppm": (given.scale - 1) * 1e6, "sigma_range_scale_ppm": float(sigma[-1] * 1e6)}
    return out


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
