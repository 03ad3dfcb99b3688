"""Deliverables in several files: by scan, block, class, floor, tile or shelf, and what these are called."""

import os
import re
import time
from dataclasses import dataclass

import numpy as np

from terrazza.errors import ParamsError
from terrazza.operations.pieces.counting import class_counts, class_namer
from terrazza.operations.pieces.floors import floors
from terrazza.operations.pieces.point_params import PointParams
from terrazza.operations.pieces.selection import Selection
from terrazza.operations.spine.job import Job

MOST = 10_000  # files
FORBIDDEN = re.compile(r'[\\/:*?"<>|\x00-\x1f]')
WORDS = ("file", "part", "number", "job", "date")


@dataclass(frozen=True)
class Part:
    """One of several files: its ``name`` (a path without ending changed only in its last piece), what it is a
    part by in words, and its own parameters.
    """

    name: str
    what: str
    params: PointParams


def parts_of(job: Job, params: PointParams) -> list[Part]:
    """The files of a deliverable that hold points, in order; none where all go into one."""
    if not params.each:
        return []
    found = [(what, params.model_copy(update=own)) for what, own in _KINDS[params.each](job, params)]
    if len(found) > MOST:
        raise ParamsError(f"That would be {len(found):,} files.", "Choose larger tiles.")
    full = [(what, own) for what, own in found if _points(job, own)]
    folder, file = os.path.split(params.path)
    stem, _, ending = file.partition(".")
    out, taken = [], set()
    for number, (what, own) in enumerate(full, 1):
        told = {"file": stem, "part": what, "number": number, "job": job.row.name}
        try:
            name = params.names.format(**told, date=time.strftime("%Y-%m-%d"))
        except (KeyError, IndexError, ValueError) as error:
            raise ParamsError(
                f"The names “{params.names}” cannot be made.", f"Use {{{'}, {'.join(WORDS)}}}."
            ) from error
        name = FORBIDDEN.sub("-", name).strip(" .") or f"{stem}-{number}"
        if name in taken:
            name = f"{name}-{number}"
        taken.add(name)
        path = os.path.join(folder, f"{name}.{ending}" if ending else name)
        out.append(Part(path, what, own.model_copy(update={"path": path, "each": ""})))
    return out


def _points(job: Job, params: PointParams) -> int:
    return Selection(job, params, placed=False).points


def _each_scan(job: Job, params: PointParams):
    return [(s.name, {"scans": [s.id]}) for s in job.need_scans(params.scans)]


def _each_block(job: Job, params: PointParams):
    blocks: dict[str, list[int]] = {}
    for scan in job.need_scans(params.scans):
        blocks.setdefault(scan.record.get("block") or "without a block", []).append(scan.id)
    return [(name, {"scans": scans}) for name, scans in blocks.items()]


def _each_class(job: Job, params: PointParams):
    name = class_namer(job)
    return [(f"{c} {name(c)}", {"classes": [c]}) for c in params.classes or sorted(class_counts(job))]


def _each_floor(job: Job, params: PointParams):
    low, high = _bounds(job, params)
    out = []
    for number, floor in enumerate(floors(job), 1):
        bottom = low[2] if floor["low"] is None else max(floor["low"], low[2])
        top = high[2] if floor["high"] is None else min(floor["high"], high[2])
        if bottom < top:
            out.append((f"floor {number}", {"box": [*low[:2], bottom, *high[:2], top]}))
    return out


def _each_tile(job: Job, params: PointParams):
    """Tiles at whole multiples of their edge, named by their lower left corner."""
    if not params.tile:
        raise ParamsError("Tiles need an edge.", "Give “tile”, in metres.")
    low, high = _bounds(job, params)
    first, last = (np.floor(v[:2] / params.tile).astype(int) for v in (low, high))
    if np.prod((last - first + 1).astype(float)) > MOST:
        raise ParamsError("That would be too many tiles.", "Choose larger tiles.")
    out = []
    for x in range(first[0], last[0] + 1):
        for y in range(first[1], last[1] + 1):
            corner = np.array([x, y]) * params.tile
            end = np.nextafter(corner + params.tile, -np.inf)  # what lies on an edge is in one tile
            box = [*np.maximum(corner, low[:2]), low[2], *np.minimum(end, high[:2]), high[2]]
            out.append((f"{corner[0]:.10g}_{corner[1]:.10g}", {"box": [float(v) for v in box]}))
    return out


def _each_shelf(job: Job, params: PointParams):
    names = params.shelves or [v["name"] for v in job.facts("shelf").values()]
    return [(name, {"shelves": [name]}) for name in names]


def _bounds(job: Job, params: PointParams) -> tuple[np.ndarray, np.ndarray]:
    return Selection(job, params.model_copy(update={"system": ""})).bounds()


_KINDS = {
    "scan": _each_scan,
    "block": _each_block,
    "class": _each_class,
    "floor": _each_floor,
    "tile": _each_tile,
    "shelf": _each_shelf,
}
