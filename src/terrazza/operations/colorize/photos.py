"""Colour points from photos."""

import os
from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.color.cameras import CELLS, Camera
from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.colorize import seeing
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.color import evening, seen

SAMPLE, EVERY = 120_000, 16  # points of a scan by which photos are compared, every so many for exposure
MOST = 5  # photos of other stations asked of a scan: the nearest
CHUNK = 400_000
AS_STORED = np.repeat(np.arange(256, dtype=np.uint8)[:, None], 3, 1)
NOTHING = np.zeros(CELLS, bool)
LITTLE = 0.3  # share of coloured points under which the result is doubted


class ColorizeParams(Params):
    scans: list[int] = scans_field()
    slack: float = field(
        "Depth slack",
        0.05,
        unit="m",
        help="A point this far from what the camera's station measured still takes its colour.",
        ge=0.0,
        le=1,
    )
    neighbours: bool = field(
        "Photos of other stations too",
        True,
        help="Points that their own photo does not surely show take colour from others that do, and what "
        "passed by before one camera alone is left out.",
    )
    even: bool = field(
        "Even out exposure and white balance",
        True,
        help="One gain a photo and channel, so that photos agree where they see the same.",
    )
    turn: bool = field(
        "Turn photos where edges say so",
        True,
        help="A photo that points a little aside is laid on as the edges of intensity ask; the photo itself "
        "stays as it is (“Turn photos” changes it).",
    )
    pointing: float = field(
        "Pointing uncertainty",
        0.03,
        unit="°",
        ge=0,
        le=2,
        help="How far a photo may point aside where edges do not say: nearer than this to a silhouette a "
        "point takes the colour of the nearest sure place on its surface.",
    )


@dataclass(frozen=True)
class _Asked:
    """A photo as one scan sees it: its work, what was found, whether it is the scan's own, 4×4 scan → the
    photo's scan, (256, 3) u8 values after evening, and cells before which something passed by.
    """

    shot: seeing.Shot
    ready: seeing.Ready
    number: int
    own: bool
    pose: np.ndarray
    table: np.ndarray
    doubted: np.ndarray

    def look(self, xyz: np.ndarray, slack: float) -> tuple[np.ndarray, np.ndarray]:
        """Colours and states of the scan's points; see ``seen.colours``."""
        return seeing.look(self.shot, self.ready, self.own, self.pose, xyz, slack, self.table, self.doubted)


@operation
class Photos(Operation):
    """Gives points the colour of the station photos; a point takes colour only from a camera that surely
    saw it.
    """

    name, title, step = "colorize.photos", "Colorize from photos", "Colorize"
    reads, writes = frozenset({"scan", "pose", "photo"}), frozenset({"column"})
    Params = ColorizeParams

    def run(self, job: Job, params: ColorizeParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans)
        poses = {s.id: s.pose for s in job.scans(placed=True)} if params.neighbours else {}
        records = _wanted(job, scans, poses)
        with job.scratch() as folder:
            work = seeing.shots(job, records, folder, np.radians(params.pointing), params.turn)
            sizes = [max(s.piece.record.get("points", 1), 1) for s in work]
            ready = job.fleet.map(
                seeing.prepare, work, sizes, Part(progress, 0, 0.45), "Reading photos", light=True
            )
            asked = {s.id: _asked(s, work, ready, poses) for s in scans}
            evened, strange = None, 0
            if len(work) > 1:
                compared = _Compared(job, scans, asked, params.slack, folder)
                rgb, photo = compared.sampled(Part(progress, 0.45, 0.55))
                evened = evening.even(rgb, photo, len(work)) if params.even else None
                tables = [evened.table(n) if evened else AS_STORED for n in range(len(work))]
                masks = compared.passers(tables, Part(progress, 0.55, 0.6))
                strange = int(sum(m.any() for m in masks))
                asked = {
                    k: [replace(a, table=tables[a.number], doubted=masks[a.number]) for a in v]
                    for k, v in asked.items()
                }
            tallies = portions.rewrite(
                job,
                scans,
                "photo_rgb",
                _paint,
                {k: (v, params.slack) for k, v in asked.items()},
                Part(progress, 0.6, 1),
                "Colorizing",
            )
        return _told(scans, tallies, work, ready, evened, strange)


def _wanted(job: Job, scans: list[Scan], poses: dict) -> dict:
    """Records of the photos that are needed, by key; ``poses`` of scans whose photos may help others."""
    usable = {k: p for k, p in job.facts("photo").items() if Camera.of(p).usable}
    if not usable:
        raise StateError(
            "The job has no photos that can be laid on points.", "Import scans with their photos."
        )
    needed = {k for s in scans for k in _nearest(s, usable, poses)}
    kept = {k: p for k, p in usable.items() if k in needed}
    if not kept:
        raise StateError(
            "None of these scans has a photo.", "Choose scans with photos, or take those of others too."
        )
    return kept


def _nearest(scan: Scan, records: dict, poses: dict) -> list[str]:
    """Keys of the photos that a scan asks: its own first, then, where it is placed too, those of ``poses`` by
    the nearness of their stations.
    """
    away = {
        k: -1.0 if p["scan"] == scan.id else float(np.linalg.norm(poses[p["scan"]][:3, 3] - scan.pose[:3, 3]))
        for k, p in records.items()
        if p["scan"] == scan.id or (scan.id in poses and p["scan"] in poses)
    }
    own = sum(v < 0 for v in away.values())
    return sorted(away, key=away.__getitem__)[: own + MOST]


def _asked(scan: Scan, work, ready, poses: dict) -> list[_Asked]:
    records = {s.key: s.record for s in work}
    number = {s.key: n for n, s in enumerate(work)}
    out = []
    for key in _nearest(scan, records, poses):
        n = number[key]
        own = records[key]["scan"] == scan.id
        pose = np.eye(4) if own else rigid.inverse(poses[records[key]["scan"]]) @ scan.pose
        out.append(_Asked(work[n], ready[n], n, own, pose, AS_STORED, NOTHING))
    return out


class _Compared:
    """Photos compared at an even sample of every scan's points, kept in the run's scratch folder."""

    def __init__(self, job: Job, scans: list[Scan], asked: dict, slack: float, folder: str):
        self.job, self.asked, self.slack = job, asked, slack
        self.scans = [s for s in scans if len(asked[s.id]) > 1]
        self.path = {s.id: os.path.join(folder, f"compared-{s.id}.npz") for s in self.scans}

    def _map(self, what, more, progress: Progress, label: str) -> list:
        tasks = [(CloudPiece.of(self.job, s), self.asked[s.id], self.path[s.id], more) for s in self.scans]
        sizes = [min(s.points, SAMPLE) for s in self.scans]
        return self.job.fleet.map(what, tasks, sizes, progress, label, light=True)

    def sampled(self, progress: Progress) -> tuple[np.ndarray, np.ndarray]:
        """Colours (points, places, 3) and photos (points, places; -1 none), for ``evening.even``."""
        found = self._map(_sampled, self.slack, progress, "Comparing photos")
        widest = max((f[0].shape[1] for f in found), default=1)
        rgb = np.zeros((sum(len(f[0]) for f in found), widest, 3), np.uint8)
        photo = np.full(rgb.shape[:2], -1)
        row = 0
        for colours, numbers in found:
            rgb[row : row + len(colours), : colours.shape[1]] = colours
            photo[row : row + len(colours), : numbers.shape[1]] = numbers
            row += len(colours)
        return rgb, photo

    def passers(self, tables: list[np.ndarray], progress: Progress) -> list[np.ndarray]:
        """For each photo the cells before which something passed by."""
        counts = np.zeros((len(tables), 2, NOTHING.size), np.int64)
        for part in self._map(_strange, tables, progress, "Looking for passers-by"):
            for number, two in part.items():
                counts[number] += two
        return [evening.passers(*c.reshape(2, *NOTHING.shape)) for c in counts]


def _sampled(task, progress: Progress):
    piece, asked, path, slack = task
    cloud = piece.open()
    xyz = cloud.at(cloud.sample(SAMPLE))
    rgb, there = np.zeros((len(xyz), len(asked), 3), np.uint8), np.zeros((len(xyz), len(asked)), bool)
    for k, one in enumerate(asked):
        rgb[:, k], state = one.look(xyz, slack)
        there[:, k] = state == seen.SEEN
        progress.advance(len(xyz) * (k + 1) / len(asked), len(xyz))
    np.savez(path, xyz=xyz, rgb=rgb, there=there)
    return rgb[::EVERY], np.where(there[::EVERY], np.array([a.number for a in asked]), -1)


def _strange(task, progress: Progress) -> dict[int, np.ndarray]:
    """By number of photo: counts (2, cells) of points at which it shows something else, and the same."""
    _, asked, path, tables = task
    with np.load(path) as kept:
        xyz, rgb, there = kept["xyz"], kept["rgb"], kept["there"]
    for k, one in enumerate(asked):
        for c in range(3):
            rgb[:, k, c] = tables[one.number][rgb[:, k, c], c]
    state, out = evening.strangers(rgb, there), {}
    for k, one in enumerate(asked):
        cell = seeing.cells(one.shot, one.pose, xyz)
        count = lambda what: np.bincount(cell[state[:, k] == what], minlength=NOTHING.size)
        out[one.number] = out.get(one.number, 0) + np.stack([count(1), count(0)])
    progress.advance(len(xyz), len(xyz))
    return out


def _paint(cloud: Cloud, start: int, stop: int, args, _):
    """Colours of a portion, and counts: coloured, by another station's photo, although something may have
    passed by, not surely seen by any.
    """
    asked, slack = args
    out, tally = np.zeros((stop - start, 3), np.uint8), np.zeros(4, np.int64)
    for first in range(start, stop, CHUNK):
        xyz = cloud.xyz(first, min(first + CHUNK, stop))
        rgb, missing = out[first - start : first - start + len(xyz)], np.arange(len(xyz))
        spare, unsure = np.zeros_like(rgb), np.zeros(len(xyz), bool)
        for one in asked:
            if not len(missing):
                break
            colour, state = one.look(xyz[missing], slack)
            sure, passed = state == seen.SEEN, missing[state == seen.PASSED]
            rgb[missing[sure]] = colour[sure]
            blank = ~spare[passed].any(1)
            spare[passed[blank]] = colour[state == seen.PASSED][blank]
            unsure[missing[state == seen.UNSURE]] = True
            tally[1] += 0 if one.own else sure.sum()
            missing = missing[~sure]
        lit = spare[missing].any(1)
        rgb[missing[lit]] = spare[missing[lit]]
        tally += [len(xyz) - len(missing) + lit.sum(), 0, lit.sum(), unsure[missing[~lit]].sum()]
    return out, tally


def _told(scans, tallies, work, ready, evened, strange: int) -> Figures:
    counts = {s.id: np.sum(tallies[s.id], axis=0) for s in scans}
    rows = [
        {
            "scan": s.id,
            "name": s.name,
            "points": s.points,
            "coloured": int(counts[s.id][0]),
            "share": float(counts[s.id][0] / s.points) if s.points else 0.0,
        }
        for s in scans
    ]
    coloured, others, over, unsure = (int(v) for v in sum(counts.values()))
    total = sum(s.points for s in scans)
    doubts = []
    turns = [turned(shot, one) for shot, one in zip(work, ready) if one.turn is not None]
    many = [t for t in turns if t["used"]]
    if many:
        doubts.append(
            f"{len(many)} of {len(work)} photos point aside, by up to "
            f"{max(t['turn_deg'] for t in many):.2f}°, and were laid on turned; “Turn photos” keeps that."
        )
    if coloured < LITTLE * total:
        doubts.append(f"Only {coloured / max(total, 1):.0%} of the points took colour.")
    return {
        "says": f"{coloured:,} of {total:,} points coloured ({coloured / max(total, 1):.1%}) from "
        f"{len(work)} photos" + (f"; seams {evened.after:.0f} of 255" if evened and evened.pairs else ""),
        "coloured": coloured,
        "points": total,
        "photos": len(work),
        "from_others": others,
        "perhaps_passers": over,
        "photos_with_passers": strange,
        "unsure": unsure,
        "rows": rows,
        "turns": turns,
        "seams": {"before": evened.before, "after": evened.after, "pairs": evened.pairs} if evened else None,
        "gains": {s.key: [float(g) for g in evened.gains[n]] for n, s in enumerate(work)} if evened else {},
        "doubt": doubts,
    }


def turned(shot: seeing.Shot, one: seeing.Ready) -> dict:
    """How a photo is turned, for figures: ``before`` and ``after`` are shares of the best agreement of its
    edges with the scan's that is to be had.
    """
    turn = one.turn
    return {
        "photo": shot.key,
        "name": shot.record["name"],
        "turn_deg": float(np.degrees(turn.angle)) if turn.clear else None,
        "sigma_deg": float(np.degrees(turn.sigma)) if turn.clear else None,
        "before": turn.before,
        "after": turn.after,
        "used": bool(turn.worth),
    }
