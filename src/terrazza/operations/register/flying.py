"""A flight read from its trajectory: what helpers need to know of it, how it covers the points, and the small
surfaces that its passes share.
"""

import itertools
from dataclasses import dataclass
from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.geometry.box import Box
from terrazza.core.progress import Progress
from terrazza.errors import InputError, ParamsError, StateError
from terrazza.later import later
from terrazza.operations.pieces import reading
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Pair, Params, field, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.classify import lows
    from terrazza.core.georef import systems
    from terrazza.core.strips import conventions, patches
    from terrazza.core.strips import drift as drifts
    from terrazza.core.strips import flight as flights

WIDER, FINEST, COARSEST = 4.0, 0.4, 6.0  # usual distances from point to point of a cell; m
SAMPLE, AT_ONCE = 300_000, 1_000_000  # points
LOOKED_AT = 15_000_000  # points that tell the turn of a flight, however many it has
SEED, TRIES = 5, 60  # of places where passes may meet
COVERED = 0.999  # share of the points below which the cover of a path is told


class FlightParams(Params):
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
    areas: list[list[Pair]] = field(
        "Areas",
        list,
        unit="m",
        max_length=200,
        help="[[[E, N], …], …]: only what was flown over them counts as a pass; empty: all straight pieces.",
    )
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
    drift: "drifts.Drift"
    one_of: int = 1  # cells, of which one is looked at

    def moved(self, cloud: Cloud, start: int, stop: int, pose: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Points of a stretch as corrected so far, and their times."""
        when = np.asarray(cloud.read("time", start, stop), float) + self.shift
        return self.corrected(rigid.apply(pose, cloud.xyz(start, stop)) - self.origin, when), when

    def corrected(self, xyz: np.ndarray, when: np.ndarray) -> np.ndarray:
        """Points (n, 3) in the grid, less the origin, taken at the path's own times (n,), as corrected."""
        known = self.angles, self.own_lever, self.lever, self.scale
        out = flights.corrected(self.flight, xyz, when, *known)
        if self.drift.value.any():
            number = flights.numbers(self.passes, when)
            out[number >= 0] += self.drift.at(number[number >= 0], when[number >= 0])
        return out


@dataclass(frozen=True)
class Cover:
    """Shares of the points that the path covers and that lie on its passes, in gaps of it, and before or
    after it; its gaps (start, end), s; how many of its times came twice.
    """

    path: float
    passes: float
    in_gaps: float
    gaps: tuple[tuple[float, float], ...]
    twice: int

    @property
    def figures(self) -> dict:
        told = {"path": self.path, "passes": self.passes, "in_gaps": self.in_gaps, "times_twice": self.twice}
        return told | {"gaps": [list(g) for g in self.gaps]}

    @property
    def doubts(self) -> list[str]:
        out = []
        if self.path < COVERED:
            out.append(
                f"{1 - self.path:.1%} of the points were taken before or after the path or in its gaps "
                f"({len(self.gaps)} of more than {flights.GAP:g} s): they stay as they are."
            )
        if self.twice:
            out.append(f"{self.twice:,} times of the path came twice; the first place of each was kept.")
        return out


def _cover(time: np.ndarray, when: np.ndarray, found, twice: int) -> Cover:
    """Of a path with times (n,) over an even share of the points, taken ``when``."""
    broken = np.flatnonzero(np.diff(time) > flights.GAP)
    gaps = tuple((float(time[k]), float(time[k + 1])) for k in broken)
    inside = (when >= time[0]) & (when <= time[-1])
    lost = np.isin(np.searchsorted(time, when) - 1, broken) & inside
    on = flights.numbers(found, when) >= 0
    return Cover(float((inside & ~lost).mean()), float(on.mean()), float(lost.mean()), gaps, twice)


def flown(job: Job, params: FlightParams) -> list[Scan]:
    """The scans that parameters mean: those with times."""
    scans = [
        s for s in job.need_scans(params.scans, placed=True) if params.scans or job.cloud(s.id).has("time")
    ]
    without = next((s.name for s in scans if not job.cloud(s.id).has("time")), "")
    if without or not scans:
        raise StateError(
            f"The points of “{without or 'all scans'}” have no times.", "Import them with the time of each."
        )
    if len(params.lever) not in (0, 3):
        raise ParamsError("register.strips: “lever” needs three numbers.", "Give x, y and z.")
    return scans


def flight_of(job: Job, scans: list[Scan], params: FlightParams) -> tuple["Given", str, list, "Cover"]:
    """The flight as far as the path tells it, how it was read, the choices that are left for its angles, and
    how the path covers the points.
    """
    low, high, sampled = _extent(job, scans)
    when = float(sampled.min()), float(sampled.max())
    path = job.input(params.trajectory, "The trajectory")
    columns, twice = _columns(job, path, params, low, high, when)
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
    counted = conventions.headings(columns["heading"], time, xyz)
    told = counted[0]
    if told.off > conventions.CRAB:
        raise InputError("No column of the trajectory is a heading along its path.", "Name its columns.")
    choices = _choices(columns, counted, params)
    lever = np.array(params.lever or [0.0] * 3)
    flight = flights.Flight(time, xyz, choices[0][1])
    found = tuple(flights.passes(flight))
    if params.areas:
        areas = [np.array(area, float) - origin[:2] for area in params.areas]
        found = tuple(flights.within(flight, found, areas))
    if len(found) < 2:
        where = " within the areas" if params.areas else ""
        raise StateError(
            f"The path has fewer than two straight passes{where}.",
            "Give the whole trajectory, or other areas.",
        )
    known = [told.words] * (len(counted) == 1) + [f"times in {meets[0]}"] * bool(meets[0])
    read = ", ".join(known) or "heading by the strips"
    cell = _cell(job, scans, found, meets[1])
    none, still = np.zeros(3), drifts.Drift.none(found)
    cover = _cover(time, sampled + meets[1], found, twice)
    one_of = max(round(sum(s.points for s in scans) / LOOKED_AT), 1)
    given = Given(flight, found, origin, meets[1], lever, none, lever, 1.0, cell, still, one_of)
    return given, read, choices, cover


def _columns(job: Job, path: str, params: FlightParams, low, high, when) -> tuple[dict, int]:
    """The columns of a trajectory by name, in the order of rising times, and how many times came twice."""
    columns, unnamed, degrees = reading.flight(path, tuple(params.columns.split()))
    if params.crs or degrees:
        columns = _projected(job, columns, params.crs or "EPSG:4326")
    columns = conventions.named(columns, unnamed, low, high, when)
    missing = {"time", "x", "y", "z", "heading"} - set(columns)
    if missing:
        raise InputError(f"The trajectory has no {min(missing)}.", "Name its columns.")
    order = np.argsort(columns["time"], kind="stable")
    fresh = np.r_[True, np.diff(columns["time"][order]) > 0]
    return {n: v[order[fresh]] for n, v in columns.items()}, int((~fresh).sum())


def _choices(columns: dict, counted: list, params: FlightParams) -> list[tuple[str, np.ndarray]]:
    """(in words, attitudes (n, 3) rad) of every way in which the angles may be meant."""
    names = ("roll", "pitch") if {"roll", "pitch"} <= set(columns) else ("a", "b")
    if not set(names) <= set(columns):
        raise InputError("The trajectory has no roll and pitch.", "Export it with its attitude.")
    turns = [names] if names[0] == "roll" else [names, names[::-1]]
    signs = ["+ +", "+ -", "- +", "- -"] if params.signs == "auto" else [params.signs]
    out = []
    for way, (one, two), sign in itertools.product(counted, turns, signs):
        level = [columns[n] * way.unit for n in (one, two)]
        roll, pitch = (v * (1 if s == "+" else -1) for v, s in zip(level, sign.split()))
        words = f"roll {sign[0]}, pitch {sign[2]}" + f", {way.words}" * (len(counted) > 1)
        out.append((words, np.stack([roll, pitch, way.of(columns["heading"])], 1)))
    return out


def _projected(job: Job, columns: dict, code: str) -> dict:
    crs = job.get("crs")
    if crs is None:
        raise StateError("The job has no coordinate system.", "Name it first, or give the path in its grid.")
    x, y, z = systems.between(code, crs["wkt"], *(columns[a] for a in "xyz"))
    return columns | {"x": x, "y": y, "z": z}


def _cell(job: Job, scans: list[Scan], found: tuple, shift: float) -> float:
    """The edge (m) of patches: some points of one pass lie in each."""
    total = sum(s.points for s in scans)
    xyz, number = _sampled(job, scans, found, shift)
    if not (number >= 0).any():
        raise StateError("No point was taken on a straight pass.", "Choose the trajectory of this flight.")
    mine = xyz[number == np.bincount(number[number >= 0]).argmax()]
    spacing = lows.usual_distance(mine) * np.sqrt(min(len(xyz) / total, 1.0))
    return float(np.clip(WIDER * spacing, FINEST, COARSEST))


def _extent(job: Job, scans: list[Scan]) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Lowest and highest coordinates (3,) in the grid, and the times of an even share of the points."""
    xyz, when = [], []
    for scan in scans:
        cloud = job.cloud(scan.id)
        some = cloud.sample(SAMPLE)
        xyz.append(rigid.apply(job.grid_pose(scan), cloud.at(some)))
        when.append(cloud.pick("time", some))
    xyz, when = np.concatenate(xyz), np.concatenate(when)
    return xyz.min(0), xyz.max(0), when


def _sampled(job: Job, scans: list[Scan], found: tuple, shift: float) -> tuple[np.ndarray, np.ndarray]:
    """An even share of the points (n, 3) in the grid, and the numbers of their passes."""
    total, places, numbers = sum(s.points for s in scans), [], []
    for scan in scans:
        cloud = job.cloud(scan.id)
        some = cloud.sample(max(SAMPLE * scan.points // total, 1000))
        places.append(rigid.apply(job.grid_pose(scan), cloud.at(some)))
        numbers.append(flights.numbers(found, cloud.pick("time", some) + shift))
    return np.concatenate(places), np.concatenate(numbers)


def shared(job: Job, scans: list[Scan], given: Given, progress: Progress, window=None) -> "patches.Patches":
    """The small planes of all passes, as corrected so far; within a ``window``, a box of the grid, only what
    lies in it.
    """
    pieces = []
    for scan in scans:
        of, pose, cloud = CloudPiece.of(job, scan), job.grid_pose(scan), job.cloud(scan.id)
        runs = list(cloud.blocks()) if window is None else _runs(cloud.nodes[window.nodes(cloud, pose)[0]])
        held: list[tuple[int, int]] = []
        for run in runs:
            held.append(run)
            if sum(b - a for a, b in held) >= AT_ONCE:
                pieces, held = [*pieces, (of, pose, tuple(held))], []
        pieces += [(of, pose, tuple(held))] * bool(held)
    total = patches.Sums.none()
    sizes = [sum(b - a for a, b in runs) for *_, runs in pieces]
    common = given, window
    for one in job.fleet.each(_summed, pieces, sizes, progress, "Looking at surfaces", common, light=True):
        total = total.with_(one)
    return patches.planes(total, given.cell, given.flight.time[0])


def _runs(nodes: np.ndarray) -> list[tuple[int, int]]:
    """(start, stop) of nodes, those that follow each other as one."""
    out: list[tuple[int, int]] = []
    for start, count in sorted(zip(nodes["start"].tolist(), nodes["count"].tolist())):
        if out and out[-1][1] == start:
            out[-1] = (out[-1][0], start + count)
        else:
            out.append((start, start + count))
    return out


def _summed(piece, common, progress: Progress) -> "patches.Sums":
    (of, pose, runs), (given, window) = piece, common
    cloud, parts, done = of.open(), [], 0
    for start, stop in runs:
        xyz, when = given.moved(cloud, start, stop, pose)
        number = np.where(cloud.kept(start, stop), flights.numbers(given.passes, when), -1)
        if window is not None:
            number[~window.holds(xyz + given.origin)] = -1
        use = number >= 0
        parts.append((xyz[use], when[use], number[use]))
        done += stop - start
        progress.advance(done, done)
    xyz, when, number = (np.concatenate(v) for v in zip(*parts))
    return patches.sums(xyz, when, number, given.cell, given.flight.time[0], given.one_of)


def busiest(job: Job, scans: list[Scan], given: Given, most: int) -> Box | None:
    """A square of the plan that holds about ``most`` points, where the most passes meet; None where there are
    not so many in all.
    """
    total = sum(s.points for s in scans)
    if total <= most:
        return None
    xyz, number = _sampled(job, scans, given.passes, given.shift)
    low, high = xyz.min(0), xyz.max(0)
    half = (high - low)[:2] * np.sqrt(most / total) / 2
    best, middle = (-1, -1), (low + high) / 2
    for one in np.random.default_rng(SEED).choice(len(xyz), TRIES):
        near = (np.abs(xyz[:, :2] - xyz[one, :2]) < half).all(1)
        many = np.bincount(number[near & (number >= 0)], minlength=1)
        worth = int((many > 0.02 * many.sum()).sum()), int(many.sum())
        if worth > best:
            best, middle = worth, xyz[one]
    reach = np.r_[half, np.inf]
    return Box(
        np.where(np.isfinite(reach), middle - reach, low - 1),
        np.where(np.isfinite(reach), middle + reach, high + 1),
        np.eye(4),
    )
