"""Take out, shelve or classify what lies inside an outline."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

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

outline = later("terrazza.core.clean.outline")

Row4 = Annotated[list[float], Field(min_length=4, max_length=4)]


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
        polygon = corners(params.shape, np.array(params.polygon))
        slab = tuple(sorted(params.slab)) if len(params.slab) == 2 else None
        view = np.array(params.view)
        depth = tuple(sorted(params.depth)) if len(params.depth) == 2 else None
        look = (view, params.around)
        depths = None if params.through else _depths(job, scans, look, progress)
        rule = (look, polygon, (slab, depth), job.frame, params.outside, params.classes, depths)
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


def outlined(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """Mask of a stretch of points that an outline takes; ``common`` is ((view, whether it looks all around),
    polygon, (slab, depth), frame, outside, classes, depths of what is seen).
    """
    (view, around), polygon, (slab, depth), frame, outside, codes, depths = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    mask = outline.select(xyz, view, polygon, None, outside, around, depth)
    if depths is not None:
        mask &= outline.seen(xyz, view, depths, around)
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
