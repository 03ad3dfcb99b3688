"""Draw a section: a vertical slab along a line in plan."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.draw import fitting
from terrazza.operations.draw.slab import vertical_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import sections

LONGEST = 10_000.0  # m


class SectionParams(fitting.FittingParams):
    line: list[list[float]] = field(
        "Line in plan",
        widget="section line",
        help="Two places or more, X and Y in the grid or job frame (m); on the table the line from A to B.",
    )
    low: float | None = field("From height", None, unit="m", help="Lowest height; empty: no limit.")
    high: float | None = field("To height", None, unit="m", help="Highest height; empty: no limit.")
    name: str = field("Name", "", max_length=100, help="Empty: “Section” and its number.")
    path: str = field("DXF file", "", role="write", help="Also write it to this file, laid flat.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class Section(Operation):
    """Cuts a vertical slab along a line in plan, bent or not, and fits the lines of floors, walls and
    ceilings in it.
    """

    name, title, step = "draw.section", "Section", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = SectionParams

    def run(self, job: Job, params: SectionParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no section")
        notation, pieces = Notation.of(job), pieces_of(params.line, self.name)
        if params.path:
            job.output(params.path, ".dxf")  # a place that cannot be written is told before the work
        low = -np.inf if params.low is None else params.low
        high = np.inf if params.high is None else params.high
        back, rows, count = rigid.inverse(job.frame), [], 0
        for n, piece in enumerate(pieces):
            part = Part(progress, n / len(pieces), (n + 1) / len(pieces))
            flat = vertical_points(job, scans, piece, params.thickness, (low, high), part)
            count += len(flat)
            rows += fitting.rows_of(flat, params, piece, back, len(rows) + 1)
        if count < fitting.FEWEST:
            raise StateError(
                f"Only {count} points lie along the line.", "Choose another line or a thicker slab."
            )
        if not rows:
            raise StateError(
                f"Nothing straight in {count:,} points along the line.",
                "Choose a thicker slab, or let shorter lines count.",
            )
        number = job.next_number("drawing")
        course = np.c_[np.array(params.line), np.zeros(len(params.line))]
        drawing = {
            "name": params.name or f"Section {number}",
            "course": rigid.apply(back, course).tolist(),
            "thickness": params.thickness,
            "lines": rows,
        }
        job.put("drawing", number, drawing)
        told = fitting.figures(rows, count)
        length = pieces[-1].at + pieces[-1].length
        says = (
            f"{len(rows)} lines, {notation.length(told['length_m'])}, "
            f"along {notation.length(length)} from {count:,} points"
        )
        figures = {"says": says, "drawing": number, "course_m": length, **told}
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path, flat=True)
        return figures


def pieces_of(line: list[list[float]], operation: str):
    """The straight pieces of the line that an operation was asked for; ParamsError where it is none."""
    path = np.array([p for p in line if len(p) == 2], float).reshape(-1, 2)
    if len(path) != len(line) or not np.isfinite(path).all():
        raise ParamsError(f"{operation}: each place of the line has an X and a Y.", "Give them in metres.")
    try:
        pieces = sections.pieces(path)
    except ValueError as error:
        raise ParamsError(f"{operation}: the line has no length.", "Give two places.") from error
    if pieces[-1].at + pieces[-1].length > LONGEST:
        raise ParamsError(f"{operation}: the line is longer than 10 km.", "Draw it in parts.")
    return pieces
