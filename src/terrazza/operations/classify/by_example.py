"""Classes taught by a few examples."""

import csv
import os

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import InputError, ParamsError
from terrazza.files import whole
from terrazza.later import later
from terrazza.operations.classify.choosing import Rule, RuleParams, from_field, may_change
from terrazza.operations.classify.gathering import (
    COLOUR,
    INTENSITY,
    RETURNS,
    Gathered,
    cell_field,
    gathered_open,
)
from terrazza.operations.pieces import reading
from terrazza.operations.pieces.counting import class_namer
from terrazza.operations.spine.base import field, operation
from terrazza.operations.spine.job import Job, Scan
from terrazza.store.cloud import Cloud

with later():
    from scipy import spatial

    from terrazza.core.classify import examples
    from terrazza.core.clean import outline

NEAR = 2.0  # cells from an example's point to a point that it tells of
UNSURE, PLACES, WIDE = 0.6, 5, 5.0  # where more examples would help most: share, how many places, m
HOW = "Save one with “By example”."
FEW, POOR = 30, 0.8  # examples of a class, and share of kept-back ones found again, that are told as doubts


class ByExampleParams(RuleParams):
    examples: str = field(
        "Examples",
        "examples",
        role="read",
        help="A set of examples given here by outlines, or a file: areas with a class (GeoJSON property or "
        "DXF layer), a classified cloud, or a set saved before (CSV).",
    )
    cell: float = cell_field()
    from_classes: list[int] = from_field()
    save: str = field(
        "Save as", "", role="write", help="A CSV file that keeps what was learned from, for the next job."
    )


@operation
class ByExample(Rule):
    """Gives all points the classes of examples: by local shape at several scales, height, intensity, colour
    and returns, where the scans have them.
    """

    name, title = "classify.by_example", "By example"
    reads = frozenset({"scan", "pose", "example", "walk"})
    looks = frozenset({"box", "drawing", "cut", "frame"})
    writes = frozenset({"column", "deliverable"})
    sure = True
    Params = ByExampleParams

    def judge(self, job: Job, scans: list[Scan], params: ByExampleParams, folder: str, progress: Progress):
        some = gathered_open(job, scans, Part(progress, 0, 0.15), params.cell, (INTENSITY, COLOUR, RETURNS))
        progress.advance(0.2, 1, "Looking at shapes")
        seen = examples.look(some.xyz, some.cell, _own(some))
        progress.advance(0.3, 1, "Learning")
        values, codes, groups, names = self._taught_by(job, params.examples, some, seen)
        taught = examples.teach(values, codes, groups, names)
        if params.save:
            path = job.output(params.save, ".csv")
            _save(path, values, codes, groups, names)
            job.deliver(path, what="examples", points=len(codes))
        use = [seen.names.index(n) for n in names]
        code, sure = taught.ask(examples.Look(seen.values[:, use], names, seen.near))
        self._tell(job, taught, codes, some, sure)
        tree = spatial.cKDTree(some.xyz)
        return by_example, {s.id: s.pose for s in scans}, (tree, code, sure, params.from_classes)

    def _taught_by(self, job: Job, name: str, some: Gathered, seen) -> tuple:
        """Values (n, f), codes (n,), groups (n,) and names (f,) of what there is to learn from."""
        mine = [r for r in job.facts("example").values() if r["name"] == name]
        if mine:
            masks = [(r["code"], _inside(some.xyz, r)) for r in mine]
        elif name == self.Params.model_fields["examples"].default:
            raise ParamsError(
                "There are no examples yet.",
                "Draw an outline around a few things of each class, or name a file.",
            )
        else:
            path = job.input(name, "The examples")
            if path.lower().endswith(".csv"):
                return _saved(path, seen.names)
            masks = _from_file(path, job, some)
        index = np.concatenate([np.flatnonzero(m) for _, m in masks])
        codes = np.concatenate([np.full(int(m.sum()), c, np.int64) for c, m in masks])
        groups = np.concatenate([np.full(int(m.sum()), k) for k, (_, m) in enumerate(masks)])
        _need_two(codes)
        return seen.values[index], codes, groups, seen.names

    def _tell(self, job: Job, taught, codes: np.ndarray, some: Gathered, sure: np.ndarray) -> None:
        found = np.diag(taught.table) / np.maximum(taught.table.sum(1), 1)
        rows, name = [], class_namer(job)
        for k, code in enumerate(taught.codes):
            many = int((codes == code).sum())
            others = zip(taught.codes, taught.table[k])
            wrong = {name(int(c)): int(n) for c, n in others if n and c != code}
            row = {"code": int(code), "name": name(int(code)), "examples": many}
            rows.append(row | {"found": float(found[k]), "taken_for": wrong})
            if many < FEW:
                self.doubts.append(f"Only {many} examples of {name(int(code))}: give more.")
            elif found[k] < POOR:
                most = max(wrong, key=wrong.get)
                self.doubts.append(
                    f"{name(int(code))}: {found[k]:.0%} of those kept back are found again, most "
                    f"others are taken for {most}: give more of both."
                )
        unsure = np.flatnonzero(sure < UNSURE)
        cells, counts = np.unique(np.floor(some.xyz[unsure] / WIDE), axis=0, return_counts=True)
        worst = np.argsort(-counts)[:PLACES]
        places = rigid.apply(job.frame, (cells[worst] + 0.5) * WIDE)
        self.more |= {
            "hits": rows,
            "sure": float(sure.mean()),
            "unsure": len(unsure) / len(sure),
            "ask_at": [{"at": p.tolist(), "points": int(n)} for p, n in zip(places, counts[worst])],
        }


def _own(some: Gathered) -> dict[str, np.ndarray]:
    """What points say themselves, made comparable: intensity reduced for range where it is known."""
    out = {}
    if INTENSITY in some.own:
        r = np.linalg.norm(some.facing, axis=1)
        known = r > 0
        value = some.own[INTENSITY].astype(float)
        if known.all():
            value = value * np.maximum(r, 0.5) ** 2
        out["intensity"] = np.log1p(value)
    if COLOUR in some.own:
        out["colour"] = some.own[COLOUR].astype(float)
    if RETURNS in some.own:
        held = some.own[RETURNS]
        out["returns"], out["later"] = (held >> 4).astype(float), ((held & 15) > 1).astype(float)
    return out


def _inside(xyz: np.ndarray, record: dict) -> np.ndarray:
    view, polygon, outside = np.array(record["view"]), np.array(record["polygon"]), record["outside"]
    depth = tuple(record.get("depth", ())) or None
    mask = outline.select(xyz, view, polygon, None, outside, record.get("around", False), depth)
    if len(record["slab"]) == 2:
        height = rigid.apply(np.array(record["frame"]), xyz)[:, 2]
        mask &= (height >= record["slab"][0]) & (height <= record["slab"][1])
    return mask


def _from_file(path: str, job: Job, some: Gathered) -> list[tuple[int, np.ndarray]]:
    """(code, mask of the points) of each area, or of each class, in a file in the grid (or job frame)."""
    grid = rigid.apply(job.frame, some.xyz)
    try:
        shapes = reading.shapes(path)
    except InputError:
        places, codes = reading.classified(path)
        apart, near = spatial.cKDTree(places).query(grid, distance_upper_bound=NEAR * some.cell, workers=-1)
        there = np.isfinite(apart)
        found = np.where(there, np.r_[codes, 0][near], 0)
        return [(int(c), there & (found == c)) for c in np.unique(found[there]) if c]
    areas = [a for a in shapes.areas if a.layer.strip().isdecimal() and int(a.layer) <= 255]
    if not areas:
        raise InputError(
            f"“{os.path.basename(path)}” has no area with a class.",
            "Give each area a property “class” (GeoJSON) or a layer (DXF) that is a class code.",
        )
    out = []
    for area in areas:
        low, high = area.xyz[:, :2].min(0), area.xyz[:, :2].max(0)
        mask = ((grid[:, :2] >= low) & (grid[:, :2] <= high)).all(1)
        mask[mask] = outline.inside(grid[mask, :2], area.xyz[:, :2])
        out.append((int(area.layer), mask))
    return out


def _need_two(codes: np.ndarray) -> None:
    if len(np.unique(codes)) < 2:
        raise ParamsError("Examples of two classes are needed at least.", "Give some of another class.")


def _save(path: str, values, codes, groups, names) -> None:
    with whole(path) as partial, open(partial, "w", newline="") as out:
        sheet = csv.writer(out)
        sheet.writerow(["class", "group", *names])
        sheet.writerows([c, g, *(f"{v:.7g}" for v in row)] for c, g, row in zip(codes, groups, values))


def _saved(path: str, there: tuple[str, ...]) -> tuple:
    """What was saved before, of all that this job's points say too."""
    shown = os.path.basename(path)
    reading.need_file(path)
    try:
        with open(path, newline="") as file:
            head = next(csv.reader(file))
            table = np.loadtxt(file, delimiter=",", ndmin=2)
    except (ValueError, StopIteration, UnicodeDecodeError) as error:
        raise InputError(f"“{shown}” is no set of examples ({error}).", HOW) from error
    if head[:2] != ["class", "group"] or table.shape[1] != len(head):
        raise InputError(f"“{shown}” is no set of examples.", HOW)
    names = tuple(n for n in head[2:] if n in there)
    codes = table[:, 0].astype(np.int64)
    _need_two(codes)
    return table[:, [head.index(n) for n in names]].astype(np.float32), codes, table[:, 1].astype(int), names


def by_example(cloud: Cloud, start: int, stop: int, pose, common) -> tuple[np.ndarray, np.ndarray]:
    """The new codes of a stretch and how sure they are: of the nearest of the points asked about."""
    tree, code, sure, wanted = common
    codes = np.array(cloud.values("class", 0, start, stop), np.uint8)
    may = np.flatnonzero(may_change(codes, wanted))
    _, near = tree.query(rigid.apply(pose, cloud.xyz(start, stop)[may]), workers=1)
    codes[may] = code[near]
    how = np.full(len(codes), np.nan, np.float32)
    how[may] = sure[near]
    return codes, how
