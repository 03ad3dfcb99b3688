"""Draw what lies in a plane: a front, or a free plane."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw import fitting
from terrazza.operations.draw.facing import FacingParams, facing
from terrazza.operations.draw.slab import turned_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import lines as lines_of


class PlaneSlabParams(FacingParams, fitting.FittingParams):
    name: str = field("Name", "", max_length=100, help="Empty: “Plane” and its number.")
    path: str = field("DXF file", "", role="write", help="Also write it to this file, laid flat.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class PlaneSlab(Operation):
    """Cuts a slab about a plane that stands along a line, or runs through three touched points, and fits
    lines where it cuts surfaces.
    """

    name, title, step = "draw.plane_slab", "Draw on a front or free plane", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    bound_to_place = True
    Params = PlaneSlabParams

    def run(self, job: Job, params: PlaneSlabParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is nothing to draw")
        turned, length = facing(job, params, self.name)
        n = Notation.of(job)
        if params.path:
            job.output(params.path, ".dxf")
        flat = turned_points(job, scans, turned, (0.0, length), params.thickness, progress)
        if len(flat) < fitting.FEWEST:
            raise StateError(
                f"Only {len(flat)} points lie in the plane.", "Choose another, or a thicker slab."
            )
        progress.advance(0.7, 1.0, "Fitting lines")
        middle, home, back = flat.mean(0), rigid.inverse(turned), rigid.inverse(job.frame)
        placed = lambda at: rigid.apply(home, np.c_[at + middle, np.zeros(len(at))])
        found = lines_of.fit_lines(flat - middle, *params.fit)
        rows = [
            fitting.row(k, line, "PLANE", placed, back) | {"space": True} for k, line in enumerate(found, 1)
        ]
        if not rows:
            raise StateError(
                f"Nothing straight in {len(flat):,} points of the plane.",
                "Choose a thicker slab, or let shorter lines count.",
            )
        number = job.next_number("drawing")
        drawing = {
            "name": params.name or f"Plane {number}",
            "thickness": params.thickness,
            "plane": (turned @ job.frame).tolist(),
            "lines": rows,
        }
        job.put("drawing", number, drawing)
        told = fitting.figures(rows, len(flat))
        says = f"{told['lines']} lines, {n.length(told['length_m'])}, from {len(flat):,} points in the plane"
        figures = {"says": says, "drawing": number, **told}
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path, flat=True)
        return figures
