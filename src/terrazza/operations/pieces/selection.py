"""Points chosen for a deliverable: which scans, classes, cuts, and how dense."""

from dataclasses import dataclass, replace

import numpy as np

from terrazza.core.classify import classes as names
from terrazza.core.geometry import rigid
from terrazza.core.geometry.box import Box
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.operations.pieces import thinning
from terrazza.operations.pieces.chunks import chunk_of, picked
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.pieces.leaving import Way, target_of, way_of
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.boxes import working_box
from terrazza.store.cloud import Cloud

CHUNK = 1_000_000


@dataclass(frozen=True)
class Share:
    """What a selection takes of one scan, such that another process can find it: ``pose`` maps the scan to
    the grid, in which the boxes are (None where none is needed).
    """

    scan: int
    piece: CloudPiece
    pose: np.ndarray | None
    classes: tuple[int, ...]
    boxes: tuple[Box, ...]
    way: Way
    shelves: tuple[int, ...] = ()
    thinned: str = ""

    def wanted(self, cloud: Cloud, start: int, stop: int, within: bool) -> np.ndarray:
        """Mask of what is asked for of a stretch, before thinning and whatever is cut; ``within`` says that
        it lies in the boxes as a whole. Mask (n,).
        """
        use = np.ones(stop - start, bool)
        if self.classes:
            use &= np.isin(cloud.values("class", 0, start, stop), self.classes)
        if self.shelves:
            use &= np.isin(cloud.values("shelf", 0, start, stop), self.shelves)
        if not within:
            q = rigid.apply(self.pose, cloud.xyz(start, stop))
            for box in self.boxes:
                use &= box.holds(q)
        return use

    def taken(self, cloud: Cloud, start: int, stop: int, within: bool) -> np.ndarray:
        """Mask of what is written of a stretch. Mask (n,)."""
        mask = self.wanted(cloud, start, stop, within) & cloud.kept(start, stop)
        return mask & np.load(self.thinned, mmap_mode="r")[start:stop] if self.thinned else mask


@dataclass(frozen=True)
class Portion:
    """A piece of a deliverable: stretches as (share, start, stop, within, points to leave out at first,
    points to take).
    """

    stretches: tuple[tuple[Share, int, int, bool, int, int], ...]

    @property
    def points(self) -> int:
        return sum(s[5] for s in self.stretches)

    def chunks(self, progress: Progress, own: bool = False, scale: float = 0.0, offset=None) -> list[dict]:
        """Its points with all columns, a chunk a stretch: ``xyz`` (m) in the grid (or with ``own`` in the
        scan's frame), or where a ``scale`` is given ``position`` as whole numbers of it from ``offset`` (m).
        """
        clouds, out, done = {}, [], 0
        for share, start, stop, within, skip, take in self.stretches:
            if share.scan not in clouds:
                clouds[share.scan] = share.piece.open()
            cloud = clouds[share.scan]
            mask = share.taken(cloud, start, stop, within)
            use = slice(None) if take == len(mask) else np.flatnonzero(mask)[skip : skip + take]
            chunk = chunk_of(cloud, start, stop, use, share.way, own, scale, offset)
            out.append(chunk | {"source": np.full(take, min(share.scan, 65535), np.uint16)})
            done += take
            progress.advance(done, self.points)
        return out


def _shelves(job: Job, names: list[str]) -> tuple[int, ...]:
    there = {v["name"]: int(k) for k, v in job.facts("shelf").items()}
    wrong = [n for n in names if n not in there]
    if wrong:
        raise ParamsError(
            f"There is no shelf “{wrong[0]}”.", f"Shelves are {', '.join(there) or 'none yet'}."
        )
    return tuple(there[n] for n in names)


class Selection:
    """The points that a deliverable takes: kept ones, of some classes, in a box, thinned; never held as a
    whole.

    ``tally`` counts them by scan and class (dict of (256,) arrays), ``cuts`` those that cuts keep back, by
    number.
    """

    def __init__(self, job: Job, params: PointParams, placed: bool = True):
        wrong = [c for c in params.classes if not 0 <= c <= 255]
        if wrong:
            raise ParamsError(f"A class code lies between 0 and 255, got {wrong[0]}.", "Use LAS class codes.")
        if len(params.box) not in {0, 6} or any(a > b for a, b in zip(params.box[:3], params.box[3:])):
            raise ParamsError(
                "A box is three lowest and three highest coordinates.",
                "Give E, N, H, E, N, H, the low ones first.",
            )
        if sum(map(bool, (params.spacing, params.cell, params.most))) > 1:
            raise ParamsError(
                "Thin by a spacing, by cells or to a number, not by several at once.",
                "Leave the others at 0.",
            )
        placed = placed or bool(params.box or params.within or params.spacing or params.cell)
        self.job, self.params, self.scans = (
            job,
            params,
            job.need_scans(params.scans, placed=placed, why=", so there is no common frame to deliver in"),
        )
        shelves = _shelves(job, params.shelves)
        pieces = {s.id: CloudPiece.of(job, s, delivering=True) for s in self.scans}
        if shelves:  # whatever the switches say
            pieces = {k: replace(p, apart=tuple(set(p.apart) - set(shelves))) for k, p in pieces.items()}
        self.clouds = {k: p.open() for k, p in pieces.items()}
        self.colours = {s.id: self._colour(job, s, params.colour) for s in self.scans}
        self.target = target_of(job, params.system)
        self.ways = {s.id: way_of(job, s, params, self.target, self.colours[s.id]) for s in self.scans}
        self.boxes = [
            b
            for b in (
                Box(np.array(params.box[:3]), np.array(params.box[3:]), np.eye(4)) if params.box else None,
                working_box(job, params.within),
            )
            if b is not None
        ]
        self.shares = {
            s.id: Share(
                s.id,
                pieces[s.id],
                job.grid_pose(s) if placed or s.pose is not None else None,
                tuple(params.classes),
                tuple(self.boxes),
                self.ways[s.id],
                shelves,
            )
            for s in self.scans
        }
        self._parts = {s.id: self._stretches(s) for s in self.scans}
        self.examples: dict[int, np.ndarray] = {}
        self.witnesses: list = []  # what the finished file is looked through for
        self.own = False  # whether it holds scans in their own frames
        self.tally, self.cuts = self._count()

    def _stretches(self, scan: Scan) -> list[tuple[int, int, bool]]:
        """(start, stop, wholly inside the box) of the parts of the columns to look at, none longer than a
        chunk.
        """
        cloud = self.clouds[scan.id]
        if not self.boxes:
            parts = [(a, b, True) for a, b in cloud.blocks()]
        else:
            met, inside = zip(*(b.nodes(cloud, self.job.grid_pose(scan)) for b in self.boxes))
            meets, within = np.logical_and.reduce(met), np.logical_and.reduce(inside)
            nodes = cloud.nodes[meets]
            rank = np.argsort(nodes["start"])
            parts = [
                (int(n["start"]), int(n["start"] + n["count"]), bool(w))
                for n, w in zip(nodes[rank], within[meets][rank])
            ]
        return [(a, min(a + CHUNK, stop), w) for start, stop, w in parts for a in range(start, stop, CHUNK)]

    def _count(self):
        tally, cuts, self._found = (
            {s.id: np.zeros(256, np.int64) for s in self.scans},
            np.zeros(65536, np.int64),
            {},
        )
        for scan in self.scans:
            cloud, found = self.clouds[scan.id], []
            for start, stop, within in self._parts[scan.id]:
                plain = within and not self.params.classes and not self.params.shelves
                use = slice(None) if plain else self.shares[scan.id].wanted(cloud, start, stop, within)
                codes = cloud.values("class", 0, start, stop)[use]
                if cloud.has("cut"):
                    cuts += np.bincount(cloud.read("cut", start, stop)[use], minlength=65536)
                codes = codes[cloud.kept(start, stop)[use]]
                tally[scan.id] += np.bincount(codes, minlength=256)
                found.append(len(codes))
            self._found[scan.id] = found
        return tally, {int(k): int(n) for k, n in enumerate(cuts) if n and k}

    @staticmethod
    def _colour(job, scan, wanted) -> tuple[str, ...]:
        """Columns that give a point its colour, the first that has one for it."""
        cloud = job.cloud(scan.id)
        return tuple(f"{c}_rgb" for c in ("photo", "native") if c in wanted and cloud.has(f"{c}_rgb"))

    def thin(self, folder: str, progress: Progress) -> None:
        """Decide which points stay when a spacing, cells or a number are asked for; ``folder`` takes the
        answer.
        """
        params, total, thinned = self.params, self.points, {}
        if params.most and params.most < total:
            thinned = thinning.to_number(
                self._indices(), {s.id: s.points for s in self.scans}, params.most, total, folder
            )
        elif params.spacing or params.cell:
            poses = {s.id: self.job.grid_pose(s) for s in self.scans}
            thinned = thinning.thin(
                self.clouds,
                poses,
                self.allowed,
                params.spacing,
                params.cell,
                self.job.fleet.points_at_once,
                folder,
                progress,
            )
        if not thinned:
            return
        self.shares = {scan: replace(share, thinned=thinned[scan]) for scan, share in self.shares.items()}
        for scan in self.scans:
            codes = [self.clouds[scan.id].values("class", 0, a, b)[m] for a, b, m in self._masks(scan)]
            self._found[scan.id] = [len(c) for c in codes]
            self.tally[scan.id] = sum((np.bincount(c, minlength=256) for c in codes), np.zeros(256, np.int64))

    def allowed(self, scan: int, index: np.ndarray) -> np.ndarray:
        """Which of some points (sorted indices) may be taken at all. ``index`` (n,), mask (n,)."""
        cloud = self.clouds[scan]
        use = np.isin(index, cloud.kept_of(index), assume_unique=True)
        if self.params.classes:
            use &= np.isin(cloud.pick("class", index) if cloud.has("class") else 0, self.params.classes)
        if shelves := self.shares[scan].shelves:
            use &= np.isin(cloud.pick("shelf", index) if cloud.has("shelf") else 0, shelves)
        for box in self.boxes:
            use &= box.holds(rigid.apply(self.job.grid_pose(self.job.scan(scan)), cloud.at(index)))
        return use

    def _masks(self, scan: Scan):
        """Stretches of one scan with the mask of what is written of each."""
        for start, stop, within in self._parts[scan.id]:
            yield start, stop, self.shares[scan.id].taken(self.clouds[scan.id], start, stop, within)

    def _indices(self):
        for scan in self.scans:
            for start, _, mask in self._masks(scan):
                yield scan.id, start + np.flatnonzero(mask)

    @property
    def points(self) -> int:
        return sum(map(self.of, self.scans))

    def of(self, scan: Scan) -> int:
        """How many points of one scan are taken."""
        return int(self.tally[scan.id].sum())

    def need_points(self) -> None:
        if self.points == 0:
            raise StateError(
                "No point is left to deliver.",
                "Choose other classes, scans or another box, or put cuts back.",
            )

    def by_class(self) -> list[dict]:
        return names.shares(
            {c: int(n) for c, n in enumerate(sum(self.tally.values()))}, class_namer(self.job)
        )

    def portions(self, size: int, scans: list[Scan] | None = None) -> list[Portion]:
        """The points of some scans (all of them) in pieces of ``size``, the last one with what is left."""
        out, held, room = [], [], size
        for scan in self.scans if scans is None else scans:
            for (start, stop, within), found in zip(self._parts[scan.id], self._found[scan.id]):
                done = 0
                while done < found:
                    take = min(found - done, room)
                    held.append((self.shares[scan.id], start, stop, within, done, take))
                    done, room = done + take, room - take
                    if not room:
                        out, held, room = [*out, Portion(tuple(held))], [], size
        return [*out, Portion(tuple(held))] if held else out

    def samples(self, scan: Scan, own: bool, size: int, number: int):
        """Some short chunks from all over a scan, as ``chunks`` gives them (with ``own`` in its frame); of
        ``examples`` where thinning gave such.
        """
        if self.examples:
            found = self.examples.get(scan.id, np.zeros(0, np.int64))
            for k in range(0, min(len(found), size * number), size):
                index = found[k : k + size]
                yield picked(self.clouds[scan.id], index, self.ways[scan.id], own)
            return
        parts = self._parts[scan.id]
        every = max(self.points // self.params.most, 1) if self.params.most else 1
        size *= every
        ends = np.cumsum([stop - start for start, stop, _ in parts]) if parts else np.zeros(0)
        for share in (np.arange(number) + 0.5) / number:
            if not len(ends):
                return
            k = int(np.searchsorted(ends, share * ends[-1], side="right"))
            start, stop, within = parts[k]
            start = max(start, min(stop - size, int(share * ends[-1] - ends[k]) + stop))
            stop = min(stop, start + size)
            mask = self.shares[scan.id].taken(self.clouds[scan.id], start, stop, within)
            if mask.any():
                use = np.flatnonzero(mask)[::every]
                yield chunk_of(self.clouds[scan.id], start, stop, use, self.ways[scan.id], own)

    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        """A box (m) around the delivered scans as they leave (from their own boxes). Both (3,)."""
        corners = []
        for scan in self.scans:
            low, high = np.array(scan.record["bounds"])
            box = np.array(
                [
                    [(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]]
                    for i in (0, 1)
                    for j in (0, 1)
                    for k in (0, 1)
                ]
            )
            corners.append(self.ways[scan.id].places(box))
        stacked = np.concatenate(corners)
        return stacked.min(0), stacked.max(0)
