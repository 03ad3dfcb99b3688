"""Classes by where a point lies: within areas, within a width along lines, above or below a surface."""

from typing import Literal

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import InputError, ParamsError
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams, from_field, may_change, to_field
from terrazza.operations.draw.hand import need_drawing, places
from terrazza.operations.pieces import reading
from terrazza.operations.spine.base import Pair, field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.classify import meshes
    from terrazza.core.clean import outline

STEP = 0.25  # of half the width: how close together the places along a line are


class ByPlaceParams(RuleParams):
    path: str = field(
        "File", "", role="read", help="Lines, areas or a surface: DXF, GeoJSON, LandXML, OBJ, STL or PLY."
    )
    areas: list[list[Pair]] = field(
        "Areas", list, help="[[[E, N], …], …]: corners of areas in the grid (or job frame).", max_length=1000
    )
    lines: list[list[Pair]] = field(
        "Lines", list, help="[[[E, N], …], …]: corners of lines, which need a width.", max_length=1000
    )
    drawings: list[int] = field("Drawings", list, help="Numbers of drawings whose areas and lines count.")
    width: float = field(
        "Width", 0.0, unit="m", ge=0, le=10_000, help="Along lines: what is nearer to one than half of it."
    )
    side: Literal["within", "above", "below"] = field(
        "Side", "within", help="Of areas and lines within; of a surface above it or below it."
    )
    from_classes: list[int] = from_field()
    to: int = to_field()


@operation
class ByPlace(Rule):
    """Gives a class to the points within areas, along lines, or above or below a surface."""

    name, title = "classify.by_place", "By place"
    reads = frozenset({"scan", "pose", "frame", "drawing"})
    bound_to_place = True
    Params = ByPlaceParams

    def judge(self, job: Job, scans: list[Scan], params: ByPlaceParams, folder: str, progress: Progress):
        areas, lines, surface = [np.array(a, float) for a in params.areas], [], None
        if any(len(a) < 3 for a in areas):
            raise ParamsError("classify.by_place: an area needs three corners.", "Give more.")
        if params.path:
            shapes = reading.shapes(job.input(params.path, "The drawing"))
            self.doubts += shapes.notes
            if params.side != "within":
                surface = _surface(shapes.meshes, params.path)
            areas += [line.xyz[:, :2] for line in shapes.areas if not params.width]
            lines = [np.r_[n.xyz[:, :2], n.xyz[:1, :2]] if n.closed else n.xyz[:, :2] for n in shapes.lines]
        for number in params.drawings:
            drawn = need_drawing(job, number)["lines"]
            mine = [(places(job, line)[:, :2], line["closed"]) for line in drawn]
            areas += [xy for xy, closed in mine if closed and not params.width]
            lines += [np.r_[xy, xy[:1]] if closed else xy for xy, closed in mine]
        lines += [np.array(line, float) for line in params.lines]
        if any(len(line) < 2 for line in lines):
            raise ParamsError("classify.by_place: a line needs two places.", "Give more.")
        lines = lines if params.width else []
        if not areas and not lines and surface is None:
            raise ParamsError(
                "classify.by_place: there is no area, no surface, and no line with a width.",
                "Name a file or a drawing, or give areas; a line needs a width.",
            )
        along = Along(lines, params.width / 2) if lines else None
        args = {s.id: job.grid_pose(s) for s in scans}
        return by_place, args, (areas, along, surface, params.side, params.from_classes, params.to)


class Along:
    """What lies within ``half`` (m) of lines (each (n, 2)): looked up among places close together on them,
    then measured to the pieces there.
    """

    def __init__(self, lines: list[np.ndarray], half: float):
        self.start = np.concatenate([line[:-1] for line in lines])
        self.run = np.concatenate([np.diff(line, axis=0) for line in lines])
        self.half = half
        length = np.linalg.norm(self.run, axis=1)
        many = np.maximum(np.ceil(length / (STEP * half)).astype(int), 1)
        self.piece = np.repeat(np.arange(len(many)), many + 1)
        first = np.cumsum(many + 1) - (many + 1)
        share = (np.arange(len(self.piece)) - np.repeat(first, many + 1)) / np.repeat(many, many + 1)
        self.tree = spatial.cKDTree(self.start[self.piece] + share[:, None] * self.run[self.piece])

    def holds(self, xy: np.ndarray) -> np.ndarray:
        """Mask of places (n, 2)."""
        reach = self.half * (1 + STEP)
        _, near = self.tree.query(xy, k=min(4, self.tree.n), distance_upper_bound=reach)
        near, out = near.reshape(len(xy), -1), np.zeros(len(xy), bool)
        for column in near.T:
            there = np.flatnonzero((column < self.tree.n) & ~out)
            k = self.piece[column[there]]
            to = xy[there] - self.start[k]
            square = np.maximum((self.run[k] ** 2).sum(1), 1e-18)
            t = np.clip((to * self.run[k]).sum(1) / square, 0, 1)
            out[there] = np.linalg.norm(to - t[:, None] * self.run[k], axis=1) <= self.half
        return out


def _surface(found, path: str):
    """Vertices and triangles of each mesh; InputError where there is none."""
    if not found:
        raise InputError(f"“{path}” holds no surface of triangles.", "Choose another file.")
    return [(m.vertices, m.triangles) for m in found]


def _heights(xy: np.ndarray, surface) -> np.ndarray:
    """Height of a surface by place, NaN beside it."""
    out = np.full(len(xy), np.nan)
    for vertices, triangles in surface:
        found = meshes.heights(xy, vertices, triangles)
        out = np.where(np.isnan(out), found, out)
    return out


def by_place(cloud: Cloud, start: int, stop: int, pose, common) -> np.ndarray:
    """The new codes of a stretch."""
    areas, along, surface, side, wanted, to = common
    xyz = rigid.apply(pose, cloud.xyz(start, stop))
    codes = np.array(cloud.values("class", 0, start, stop), np.uint8)
    may = np.flatnonzero(may_change(codes, wanted))
    xy, hit = xyz[may, :2], np.zeros(len(may), bool)
    for area in areas:
        near = ((xy >= area.min(0)) & (xy <= area.max(0))).all(1)
        if near.any():
            hit[near] |= outline.inside(xy[near], area)
    if along is not None and len(xy):
        hit |= along.holds(xy)
    if surface is not None:
        gap = xyz[may, 2] - _heights(xy, surface)
        with np.errstate(invalid="ignore"):
            over = gap > 0 if side == "above" else gap < 0
        hit = over & ~np.isnan(gap) & (hit if areas or along is not None else True)
    codes[may[hit]] = to
    return codes
