"""Take out, shelve or classify what lies inside an outline."""

from dataclasses import dataclass
from typing import Annotated, Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError
from terrazza.later import later
from terrazza.operations.clean.filtering import limited, within_field
from terrazza.operations.clean.shelves import shelve
from terrazza.operations.clean.taking import take_out, told
from terrazza.operations.clean.trying import Piece, Tried, try_on
from terrazza.operations.pieces import portions
from terrazza.operations.pieces.counting import before_after, class_counts, class_namer
from terrazza.operations.pieces.surfaces import CloudPiece
from terrazza.operations.spine.base import Figures, Operation, Pair, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job, Scan
from terrazza.operations.table.boxes import limit_of
from terrazza.store.cloud import Cloud

with later():
    from terrazza.core.clean import outline

Row4 = Annotated[list[float], Field(min_length=4, max_length=4)]


class Further(BaseModel):
    """An outline besides: what it takes is added to the selection, or taken ``away`` from it."""

    model_config = ConfigDict(extra="forbid")
    view: list[Row4] = Field(min_length=4, max_length=4)
    polygon: list[Pair] = Field(min_length=2, max_length=5000)
    around: bool = False
    depth: list[float] = Field(default_factory=list, max_length=2)
    shape: Literal["corners", "rectangle", "circle"] = "corners"
    through: bool = True
    away: bool = False


class OutlineParams(Params):
    view: list[Row4] = field(
        "View",
        help="4×4, row by row: job frame to the screen the outline was drawn on.",
        min_length=4,
        max_length=4,
    )
    polygon: list[Pair] = field(
        "Outline",
        help="Its corners in screen units (−1 to 1), at least three; of a rectangle two opposite ones, of a "
        "circle its middle and a point on it.",
        min_length=2,
        max_length=5000,
    )
    around: bool = field(
        "From a station",
        False,
        help="The view is the pose of an eye that looks all around, the screen azimuth / 180° and elevation "
        "/ 90°.",
    )
    depth: list[float] = field(
        "Depth",
        list,
        help="Two values of the view's third coordinate to keep between; empty: all.",
        max_length=2,
    )
    shape: Literal["corners", "rectangle", "circle"] = field("Shape", "corners")
    through: bool = field(
        "Everything behind too", True, help="Off: only what is seen from here, nothing that it hides."
    )
    further: list[Further] = field(
        "Further outlines",
        list,
        max_length=50,
        help="[{view, polygon, around, depth, shape, through, away}, …]: added to what the first takes, or, "
        "with away, taken from it, one after another.",
    )
    to: str = field(
        "To",
        "cut",
        max_length=100,
        help="“cut” takes it out; a class code gives it that class; any other word puts it on the shelf of "
        "that name.",
    )
    outside: bool = field("Take the outside", False, help="Off: what lies inside goes.")
    slab: list[float] = field(
        "Slab",
        list,
        unit="m",
        help="Lowest and highest height (in the grid where there is one) that may be touched; empty: all.",
        max_length=2,
    )
    within: str = within_field()
    scans: list[int] = scans_field("Empty: all placed scans.")
    classes: list[int] = field("Classes", list, help="Only points of these classes; empty: all.")


@operation
class Outline(Operation):
    """Takes what lies inside (or outside) an outline drawn on a view, limited by the slab when one is shown:
    out of the cloud, onto a shelf, or into a class.
    """

    name, title, step = "clean.outline", "Outline", "Clean"
    reads = frozenset({"scan", "pose"})
    writes = frozenset({"column", "cut", "shelf"})
    looks = frozenset({"box", "drawing"})
    bound_to_place = True
    tries = True
    Params = OutlineParams

    def run(self, job: Job, params: OutlineParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True)
        args, common = self.judged(job, scans, params, Part(progress, 0, 0.4))
        where, part = "outside" if params.outside else "inside", Part(progress, 0.4, 1)
        label = "Looking through the points"
        if params.to == "cut":
            figures = take_out(job, scans, limited, args, part, label, common)
            return figures | {"says": f"{figures['points']:,} points {where} the outline taken out"}
        if params.to.isdecimal():
            return self._classified(job, scans, int(params.to), args, common, part, where)
        figures = shelve(job, scans, params.to, limited, args, part, label, common)
        name, points = figures["shelf"], figures["points"]
        return figures | {"says": f"{points:,} points {where} the outline put on the shelf “{name}”"}

    def preview(self, job: Job, params: OutlineParams, piece: Piece, progress: Progress) -> Tried:
        """What the outline would take of a piece."""
        scans = [s for s in job.need_scans(params.scans, placed=True) if s.id in piece.points]
        args, common = self.judged(job, scans, params, Part(progress, 0, 0.5))
        tried = try_on(job, scans, piece, limited, args, common, Part(progress, 0.5, 1))
        return tried.with_figures(told(tried.tallies, class_namer(job)), [])

    @staticmethod
    def judged(job: Job, scans: list[Scan], params: OutlineParams, progress: Progress) -> tuple:
        """Arguments of ``limited`` by scan, and common ones."""
        slab = tuple(sorted(params.slab)) if len(params.slab) == 2 else None
        drawn = [params, *params.further]
        parts = [Part(progress, k / len(drawn), (k + 1) / len(drawn)) for k in range(len(drawn))]
        looks = [_look(job, scans, one, part) for one, part in zip(drawn, parts)]
        rule = (looks, slab, job.frame, params.outside, params.classes)
        box = limit_of(job, params.within)
        return {s.id: (s.pose, job.grid_pose(s)) for s in scans}, (outlined, rule, box)

    @staticmethod
    def _classified(job: Job, scans, code: int, args, common, progress: Progress, where: str) -> Figures:
        if code > 255:
            raise ParamsError(f"A class code lies between 0 and 255, got {code}.", "Give one of those.")
        before = class_counts(job)
        rule = (code, common)
        found = portions.rewrite(job, scans, "class", _given, args, progress, "Giving the class", rule)
        points = int(sum(sum(t) for t in found.values()))
        return {
            "says": f"{points:,} points {where} the outline are {class_namer(job)(code)} now",
            "points": points,
            "taken": points,
        } | before_after(job, before)


def corners(shape: str, polygon: np.ndarray) -> np.ndarray:
    """The outline (m, 2) that a shape stands for; ParamsError where it has too few points."""
    least = 3 if shape == "corners" else 2
    if len(polygon) < least:
        raise ParamsError(f"clean.outline: a shape of {shape} needs {least} points.", "Draw it again.")
    if shape == "rectangle":
        (x0, y0), (x1, y1) = polygon[0], polygon[-1]
        return np.array([[x0, y0], [x1, y0], [x1, y1], [x0, y1]])
    if shape == "circle":
        turn = np.linspace(0, 2 * np.pi, 128, endpoint=False)
        radius = float(np.linalg.norm(polygon[1] - polygon[0]))
        return polygon[0] + radius * np.stack([np.cos(turn), np.sin(turn)], 1)
    return polygon


@dataclass(frozen=True)
class Look:
    """An outline (m, 2) on a view, 4×4 or that of an eye that looks ``around``, between two depths of it, of
    what is seen (``depths`` of it) or of all; ``away``: it takes from a selection.
    """

    view: np.ndarray
    around: bool
    polygon: np.ndarray
    depth: tuple[float, float] | None
    depths: np.ndarray | None
    away: bool

    def takes(self, xyz: np.ndarray, outside: bool = False) -> np.ndarray:
        """(n,) of points (n, 3) in the job frame: which lie within, or in the view's depth ``outside``."""
        mask = outline.select(xyz, self.view, self.polygon, None, outside, self.around, self.depth)
        return mask if self.depths is None else mask & outline.seen(xyz, self.view, self.depths, self.around)


def _look(job: Job, scans: list[Scan], one: OutlineParams | Further, progress: Progress) -> Look:
    view, polygon = np.array(one.view), corners(one.shape, np.array(one.polygon))
    depths = None if one.through else _depths(job, scans, (view, one.around), progress)
    depth = tuple(sorted(one.depth)) if len(one.depth) == 2 else None
    return Look(view, one.around, polygon, depth, depths, getattr(one, "away", False))


def outlined(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """Mask of a stretch of points that outlines take; ``common`` is (looks, slab, frame, outside, classes),
    the looks being the first and those that add to it or take away.
    """
    looks, slab, frame, outside, codes = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    mask = np.zeros(len(xyz), bool)
    for look in looks:
        mask = mask & ~look.takes(xyz) if look.away else mask | look.takes(xyz)
    if outside:
        mask = (looks[0].takes(xyz) | looks[0].takes(xyz, outside=True)) & ~mask
    if slab is not None:
        height = rigid.apply(frame, xyz)[:, 2]
        mask &= (height >= slab[0]) & (height <= slab[1])
    if codes:
        mask &= np.isin(cloud.values("class", 0, start, stop), codes)
    return mask


def _depths(job: Job, scans: list[Scan], look: tuple[np.ndarray, bool], progress: Progress) -> np.ndarray:
    """How far the nearest point is in every pixel of the view."""
    pieces = [
        (CloudPiece.of(job, s), s.pose, start, stop)
        for s in scans
        for start, stop in job.cloud(s.id).blocks()
    ]
    sizes = [stop - start for *_, start, stop in pieces]
    found = job.fleet.map(_depth, pieces, sizes, progress, "Looking at what is seen", look, light=True)
    return np.min(found, axis=0)


def _depth(piece, look, progress: Progress) -> np.ndarray:
    of, pose, start, stop = piece
    cloud = of.open()
    xyz = rigid.apply(pose, cloud.xyz(start, stop)[cloud.kept(start, stop)])
    progress.advance(stop - start, stop - start)
    return outline.depths(xyz, *look)


def _given(cloud: Cloud, start: int, stop: int, args, common):
    code, rule = common
    now = np.array(cloud.values("class", 0, start, stop), np.uint8)
    mine = limited(cloud, start, stop, args, rule) & cloud.kept(start, stop) & (now != code)
    now[mine] = code
    return (now if mine.any() else None), int(mine.sum())
