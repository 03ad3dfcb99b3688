"""Fit walks to stations and to each other, bent where they drifted."""

from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.pieces import positions
from terrazza.operations.pieces.stations import has_station, path_of
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.register.holding import held, need_free, put_pose
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.spine.notation import Notation
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.strips import patches
    from terrazza.core.walks import bending
    from terrazza.core.walks import path as paths

HOW = "walk fitted"
CELL = 0.4  # m, of the small planes that are compared
SLOTS = 1000  # pieces of the way that planes are kept apart by, at most
LOOSE = 0.008  # m: σ above which a piece of the way is told not to be held
ROUGH = 0.010  # m: usual misfit above which the fit is doubted
STRAIGHT = 1.1  # times: a bend that makes misfits no better than that is none
ALIKE = 0.8  # share of planes beside one that stays which have to lie on it, else nothing moves


class WalkParams(Params):
    scans: list[int] = scans_field("The walks; empty: all that have a path.")
    to: list[int] = scans_field("That stay, with stations; empty: all that are placed.")
    piece: float = field(
        "Stiff over",
        3.0,
        unit="m",
        ge=0.5,
        le=50,
        help="Length of way over which the walk hardly bends; joints are smooth.",
    )
    width: float = field(
        "Search width",
        0.5,
        unit="m",
        ge=0.03,
        le=2,
        help="How far off the walk may stand now, its bend included.",
    )
    bend: bool = field("Bend", True, help="Off: the walk is only placed, as one stiff piece.")


@operation
class FitWalk(Operation):
    """Fits walks to the stations that stay and to each other; what drifted is bent back in short stiff pieces
    with smooth joints, written as new positions in the order that points have.
    """

    name, title, step = "register.walk", "Fit walks", "Register"
    reads = frozenset({"scan", "pose", "cut", "walk", "array"})
    looks = frozenset({"held", "held_block"})
    writes = frozenset({"pose", "column", "scan", "walk", "array"})
    Params = WalkParams

    def run(self, job: Job, params: WalkParams, progress: Progress) -> Figures:
        walks, stay = _chosen(job, params)
        home = rigid.make(np.eye(3), -np.round(walks[0].pose[:3, 3]))  # planes are counted from near the walk
        known = [_patches(job, s, home @ s.pose, None, 0, Part(progress, 0, 0.3)) for s in stay]
        told, doubt = [], []
        for k, scan in enumerate(walks):
            part = Part(progress, 0.3 + 0.7 * k / len(walks), 0.3 + 0.7 * (k + 1) / len(walks))
            figures, words, mine = _fitted(job, scan, home, known, params, part)
            known += [mine] if mine is not None else []
            told.append(figures)
            doubt += words
        return {"says": "; ".join(t["says"] for t in told), "walks": told, "doubt": doubt}


def _chosen(job: Job, params: WalkParams) -> tuple[list[Scan], list[Scan]]:
    """The walks and the scans that stay; StateError where there are none."""
    walks = [job.scan(k) for k in params.scans] or [s for s in job.scans() if job.get("walk", s.id)]
    without = next((s.name for s in walks if not job.get("walk", s.id)), "")
    if without or not walks:
        raise StateError(
            f"“{without}” has no path." if without else "No scan has the path of a walk.",
            "Give it its trajectory first (Path and stops of a walk).",
        )
    fast = held(job, walks)
    if params.scans or len(fast) == len(walks):
        need_free(job, walks)
    walks = [s for k, s in enumerate(walks) if k not in fast]  # of all walks, those held stay as they are
    lost = next((s.name for s in walks if s.pose is None), "")
    if lost:
        raise StateError(f"“{lost}” is not placed yet.", "Place it roughly: like points, or drag it in plan.")
    numbers = {s.id for s in walks}
    stay = job.need_scans(params.to, placed=True, why=", and a walk is fitted to what stands")
    stay = [s for s in stay if s.id not in numbers and has_station(s)]
    if not stay:
        raise StateError(
            "No placed scan with a station is left to fit the walk to.", "Place the stations first."
        )
    return walks, stay


@dataclass(frozen=True)
class Seen:
    """What helpers need of a scan: its pose, from where it was seen (a path, or None: its origin), and how
    long the slots of its way are (m).
    """

    pose: np.ndarray
    path: "paths.Path | None"
    slot: float


def _patches(job: Job, scan: Scan, pose: np.ndarray, path, slot: float, progress: Progress):
    """Small planes of a scan in the frame that ``pose`` maps to, facing where they were seen from."""
    cloud = job.cloud(scan.id)
    blocks = list(cloud.blocks())
    pieces = [(CloudPiece.of(job, scan), *b) for b in blocks]
    total, sizes = patches.Sums.none(), [b[1] - b[0] for b in blocks]
    seen = Seen(pose, path, slot)
    for one in job.fleet.each(_summed, pieces, sizes, progress, "Looking at surfaces", seen, light=True):
        total = total.with_(one)
    found = patches.planes(total, CELL, 0.0)
    eye = pose[:3, 3] if path is None else rigid.apply(pose, path.at(found.time))
    away = ((eye - found.at) * found.normal).sum(1) < 0
    found.normal[away] *= -1
    return found


def _summed(piece, seen: Seen, progress: Progress) -> "patches.Sums":
    of, start, stop = piece
    cloud = of.open()
    kept, xyz = cloud.kept(start, stop), rigid.apply(seen.pose, cloud.xyz(start, stop))
    time, slot = np.zeros(len(xyz)), np.zeros(len(xyz), np.int64)
    if seen.path is not None:
        time = np.asarray(cloud.read("time", start, stop), float)
        slot = (bending.way(seen.path, time) / seen.slot).astype(np.int64)
    progress.advance(stop - start, stop - start)
    return patches.sums(xyz, time, np.where(kept, slot, -1), CELL, 0.0)


def _fitted(job: Job, scan: Scan, home: np.ndarray, known: list, params: WalkParams, progress: Progress):
    """One walk fitted and written: its figures, doubts, and its planes as they now lie, None where the fit is
    refused.
    """
    path, n = path_of(job, scan), Notation.of(job)
    long = float(bending.way(path, path.time[-1:])[0])
    slot = max(params.piece / 2, long / SLOTS)
    start = home @ scan.pose
    mine = _patches(job, scan, start, path, slot, Part(progress, 0, 0.3))
    stay = patches.Patches(*(np.concatenate([getattr(p, f) for p in known]) for f in vars(known[0])))
    progress.advance(0.35, 1, "Fitting the walk")
    moved = paths.Path(path.time, rigid.apply(start, path.xyz), path.heading)
    found = bending.fit(bending.Held(mine, mine.number, stay, CELL), moved, params.piece, params.width)
    if found is None:
        raise StateError(
            f"“{scan.name}” and what stays have too few surfaces in common where it stands.",
            "Place it nearer (like points, or drag it in plan), or widen the search.",
        )
    bent = params.bend and found.before[0] > STRAIGHT * found.after[0]
    at, normal = rigid.apply(found.pose, mine.at), mine.normal @ found.pose[:3, :3].T
    if bent:
        at = found.bend.moved(at, mine.time)
    now = replace(mine, at=at, normal=normal)
    share = bending.beside(now, stay, CELL)
    if share < ALIKE:
        said = (
            f"{scan.name} not moved: only {share:.0%} of its surfaces beside those that stay would lie there"
        )
        doubt = [f"{said}. Place it nearer, for example by like points."]
        return {"scan": scan.id, "says": said, "bent": False, "largest_mm": 0.0}, doubt, None
    pose = found.pose @ start
    placed = rigid.inverse(home) @ pose
    put_pose(job, scan, placed, HOW)
    most = _write(job, scan, pose, found, Part(progress, 0.4, 1.0)) if bent else 0.0
    figures = _figures(scan, found, bent, most, n)
    job.put("walk", scan.id, job.get("walk", scan.id) | {"fit": figures}, scan=scan.id)
    return figures, _doubts(scan, found, bent, n), now


def _write(job: Job, scan: Scan, pose: np.ndarray, found, progress: Progress) -> float:
    """New positions, path and stops; how far points moved at most (m)."""
    far = positions.rewrite(job, [scan], _bent, {scan.id: pose}, progress, found.bend)
    path, home = found.bend.path, rigid.inverse(pose)
    places = rigid.apply(home, found.bend.moved(path.xyz, path.time))
    heading = path.heading + found.bend.at(path.time)[:, 2]
    job.write_array(f"path-{scan.id}", np.c_[path.time, places, heading])
    walk = job.get("walk", scan.id)
    at = paths.Path(path.time, places, heading).at(np.array([s["time"] for s in walk["stops"]]))
    stops = [s | {"at": p.tolist()} for s, p in zip(walk["stops"], at)]
    job.put("walk", scan.id, walk | {"stops": stops}, scan=scan.id)
    return far[scan.id]


def _bent(cloud: Cloud, start: int, stop: int, pose: np.ndarray, bend) -> np.ndarray:
    """Points of a stretch where they belong, in the scan's frame."""
    time = np.asarray(cloud.read("time", start, stop), float)
    placed = rigid.apply(pose, cloud.xyz(start, stop))
    return rigid.apply(rigid.inverse(pose), bend.moved(placed, time))


def _figures(scan: Scan, found, bent: bool, most: float, n: Notation) -> dict:
    """What one walk's fit came to, in mm."""
    before, after = (1000 * np.array(v) for v in (found.before, found.after if bent else found.before))
    how = f"bent by up to {n.residual(1000 * most)}" if bent else "placed, not bent"
    return {
        "scan": scan.id,
        "says": f"{scan.name} {how}; misfit to what stays {n.residual(before[0])}, now "
        f"{n.residual(after[0])}, to itself {n.residual(before[1])}, now {n.residual(after[1])}",
        "bent": bent,
        "largest_mm": 1000 * most,
        "before_mm": before.tolist(),
        "after_mm": after.tolist(),
        "sigma_mm": (1000 * found.sigma).tolist(),
        "every_m": found.bend.step,
        "pairs": list(found.pairs),
    }


def _doubts(scan: Scan, found, bent: bool, n: Notation) -> list[str]:
    """What speaks against a fit, and which pieces of the way nothing holds."""
    out = []
    left = found.after if bent else found.before
    if left[0] > ROUGH:
        out.append(
            f"“{scan.name}”: surfaces still lie {n.residual(1000 * left[0])} apart; it bends more sharply "
            "than the pieces allow, or something was moved."
        )
    free = np.flatnonzero(found.sigma[1:-2] > LOOSE) * found.bend.step
    if len(free) and bent:
        out.append(
            f"“{scan.name}” is held to {n.residual(1000 * found.sigma[1:-2].max())} only between about "
            f"{free.min():.0f} and {free.max() + found.bend.step:.0f} m of its way: nothing that stays is "
            "seen there."
        )
    return out
