"""Deliver a drawing on a sheet of paper."""

import os
import time
from typing import Literal

import numpy as np

from terrazza import __version__
from terrazza.core.draw import sections
from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.draw.writing import placed
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation
from terrazza.operations.spine.job import Job

with later():
    from terrazza.formats import sheet, sheet_dxf


class SheetParams(Params):
    path: str = field(
        "File",
        "sheet.pdf",
        role="write",
        help="PDF, or DXF: the drawing in its place and the sheet as a layout. Relative paths land in the "
        "deliverables.",
    )
    drawing: int = field("Drawing", 0, ge=0, help="Its number; 0: the last.")
    paper: Literal["A4", "A3", "A2", "A1", "A0"] = field("Paper", "A3")
    landscape: bool = field("Landscape", True)
    scale: int = field(
        "Scale 1 :", 0, ge=0, le=1_000_000, blank="auto", help="0: the largest usual one that fits."
    )
    title: str = field("Title", "", max_length=80, help="Empty: the drawing's name.")
    author: str = field("Drawn by", "", max_length=80)


@operation
class DeliverSheet(Operation):
    """Writes a drawing to a sheet of paper at a true scale: frame, grid, north, scale bar, title block."""

    name, title, step = "deliver.sheet", "Sheet to scale", "Deliver"
    reads, writes = frozenset({"drawing", "frame", "crs", "layer"}), frozenset({"deliverable"})
    Params = SheetParams

    def run(self, job: Job, params: SheetParams, progress: Progress) -> Figures:
        there = {int(k): v for k, v in job.facts("drawing").items()}
        number = params.drawing or max(there, default=0)
        if number not in there:
            raise StateError(
                f"There is no drawing {number}." if number else "Nothing is drawn yet.",
                "Draw a plan or a section first.",
            )
        drawing = there[number]
        content, flat = _content(job, drawing)
        if not content.lines:
            raise StateError(f"Drawing {number} has no lines.", "Choose another.")
        fits = sheet.scale_for(content, params.paper, params.landscape)
        scale = params.scale or fits
        if scale is None or fits is None or scale < fits:
            raise ParamsError(
                f"At 1 : {params.scale:,} it does not fit on {params.paper}; 1 : {fits:,} would."
                if fits and params.scale
                else f"It does not fit on {params.paper} at any usual scale.",
                "Choose a smaller scale or larger paper.",
            )
        path = job.output(params.path, ".dxf" if params.path.lower().endswith(".dxf") else ".pdf")
        system = (job.get("crs") or {}).get("name", "")
        block = [
            params.title or drawing["name"],
            " · ".join(v for v in (job.row.name, system) if v),
            " · ".join(v for v in (params.author, time.strftime("%d %B %Y")) if v),
            f"Terrazza {__version__} · heights and lengths in m",
        ]
        north = job.georeferenced and not flat
        about = (content, params.paper, params.landscape, scale, block, north)
        if path.endswith(".dxf"):
            sheet_dxf.write(path, placed(job, [drawing], flat), job.facts("layer"), *about)
        else:
            sheet.write(path, *about)
        job.deliver(path, format="DXF" if path.endswith(".dxf") else "PDF")
        return {
            "says": f"“{block[0]}” at 1 : {scale:,} on {params.paper}",
            "path": path,
            "drawing": number,
            "scale": scale,
            "bytes": os.path.getsize(path),
        }

    @classmethod
    def read_alone(cls, values: dict, figures: dict) -> dict[str, list[str]]:
        return {"drawing": [str(figures["drawing"])]} if "drawing" in figures else {}


def _content(job: Job, drawing: dict):
    """What is drawn, in plan (grid or job frame) or, of a section, front or free plane, laid flat; and
    whether it is laid flat.
    """
    course, plane = drawing.get("course"), drawing.get("plane")
    line = None if course is None else rigid.apply(job.frame, np.array(course))[:, :2]

    def laid(xyz: list) -> np.ndarray:
        own = np.array(xyz, float).reshape(-1, 3)
        if plane:
            return rigid.apply(np.array(plane), own)[:, :2]
        grid = rigid.apply(job.frame, own)
        return grid[:, :2] if line is None else sections.laid_flat(line, grid)

    lines = [(laid(v["vertices"]), v["layer"], v["closed"], bool(v.get("guessed"))) for v in drawing["lines"]]
    texts = [(t["text"], laid([t["at"]])[0], t["height"]) for t in drawing.get("texts", [])]
    return sheet.Content(lines, texts), line is not None or plane is not None
