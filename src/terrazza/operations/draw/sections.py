"""Draw sections across a line, at every chainage."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.draw import fitting
from terrazza.operations.draw.section import pieces_of
from terrazza.operations.draw.slab import vertical_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import sections

MOST = 500  # sections of one run


class SectionsParams(fitting.FittingParams):
    line: list[list[float]] = field(
        "Line in plan",
        widget="section line",
        help="Two places or more, X and Y in the grid or job frame (m); sections stand across it.",
    )
    every: float = field("Every", 5.0, unit="m", gt=0, le=10_000, help="From one section to the next.")
    reach: float = field("To either side", 10.0, unit="m", gt=0, le=1000, help="How far each goes across.")
    low: float | None = field("From height", None, unit="m", help="Lowest height; empty: no limit.")
    high: float | None = field("To height", None, unit="m", help="Highest height; empty: no limit.")
    path: str = field("DXF file", "", role="write", help="Also write them to this file, laid flat.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Sections(Operation):
    """Cuts vertical slabs across a line in plan, bent or not, at every chainage, and fits the lines in each:
    one drawing a section, named by its chainage.
    """

    name, title, step = "draw.sections", "Sections across a line", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = SectionsParams

    def run(self, job: Job, params: SectionsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no section")
        notation, pieces = Notation.of(job), pieces_of(params.line, self.name)
        if params.path:
            job.output(params.path, ".dxf")
        length = pieces[-1].at + pieces[-1].length
        chainages = chainages_of(pieces, params.every, self.name)
        heights = tuple(way * np.inf if v is None else v for way, v in ((-1, params.low), (1, params.high)))
        drawings, rows, empty = [], [], []
        for n, chainage in enumerate(chainages):
            part = Part(progress, n / len(chainages), (n + 1) / len(chainages))
            across = sections.across(pieces, float(chainage), params.reach)
            drawing, count = _drawn(job, scans, across, params, heights, part)
            drawing["name"] = f"Section {notation.length(float(chainage))}"
            if not drawing["lines"]:
                empty.append(float(chainage))
                continue
            number = job.next_number("drawing")
            job.put("drawing", number, drawing)
            drawings.append(drawing)
            rows.append(
                {"drawing": number, "chainage_m": float(chainage)} | fitting.figures(drawing["lines"], count)
            )
        if not drawings:
            raise StateError(
                "Nothing straight lies in any of the sections.", "Choose a thicker slab, or another line."
            )
        figures = {
            "says": f"{len(drawings)} sections across {notation.length(length)}, "
            f"{sum(r['lines'] for r in rows)} lines",
            "sections": rows,
            "drawing": rows[0]["drawing"],
            "course_m": length,
            "length_m": sum(r["length_m"] for r in rows),
            "doubt": nothing_at(empty, notation),
        }
        if params.path:
            figures["path"] = write_dxf(job, drawings, params.path, flat=True)
        return figures


def chainages_of(pieces: list, every: float, operation: str) -> np.ndarray:
    """Chainages (n,) m of the sections that stand across a line; ParamsError where they are too many."""
    found = np.arange(0.0, pieces[-1].at + pieces[-1].length + 1e-9, every)
    if len(found) > MOST:
        raise ParamsError(
            f"{operation}: that would be {len(found)} sections.", f"Space them for {MOST} at most."
        )
    return found


def nothing_at(chainages: list[float], notation: Notation) -> list[str]:
    """What is said of sections that show nothing."""
    said = ", ".join(notation.length(c) for c in chainages)
    return [f"Nothing is drawn at {said}."] if chainages else []


def _drawn(job: Job, scans, across: np.ndarray, params, heights, progress: Progress) -> tuple[dict, int]:
    """The drawing of the section along ``across`` (2, 2) m, and how many points it was fitted to."""
    back, (piece,) = rigid.inverse(job.frame), sections.pieces(across)
    flat = vertical_points(job, scans, piece, params.thickness, heights, progress)
    rows = fitting.rows_of(flat, params, piece, back) if len(flat) >= fitting.FEWEST else []
    course = rigid.apply(back, np.c_[across, np.zeros(2)]).tolist()
    return {"course": course, "thickness": params.thickness, "lines": rows}, len(flat)
