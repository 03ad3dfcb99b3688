"""Draw the walls of a slab."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.later import later
from terrazza.operations.draw import fitting
from terrazza.operations.draw.slab import floor_height, slab_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import lines as lines_of

EYE = 1.3


class SlabParams(fitting.FittingParams):
    height: float | None = field(
        "Height of the slab",
        None,
        unit="m",
        blank="auto",
        help="Of its middle, in the grid or job frame; empty: 1.3 m over the floor under the first scan.",
    )
    name: str = field("Name", "", max_length=100, help="Empty: “Plan at” and the height.")
    path: str = field("DXF file", "", role="write", help="Also write the lines to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class PlanSlab(Operation):
    """Cuts a plan slab and fits its wall lines as polylines."""

    name, title, step = "draw.plan_slab", "Draw a plan slab", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = SlabParams

    @classmethod
    def automatic(cls, job: Job) -> dict[str, float]:
        """As it would be cut: at eye height over the floor."""
        return {"height": floor_height(job) + EYE} if job.scans(placed=True) else {}

    def run(self, job: Job, params: SlabParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no plan")
        notation = Notation.of(job)
        height = params.height if params.height is not None else floor_height(job) + EYE
        drawing = drawn(job, scans, params, height, params.name, progress)
        if drawing is None:
            raise StateError(
                f"The slab at {notation.length(height)} holds fewer than {fitting.FEWEST} points.",
                "Choose another height or a thicker slab.",
            )
        number = job.next_number("drawing")
        job.put("drawing", number, drawing)
        told = fitting.figures(drawing["lines"], drawing["points"])
        says = (
            f"{told['lines']} lines, {notation.length(told['length_m'])}, from {told['points']:,} points at "
            f"{notation.length(height)}"
        )
        figures = {"says": says, "drawing": number, "height_m": height, **told}
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path)
        return figures


def drawn(
    job: Job, scans, params: fitting.FittingParams, height: float, name: str, progress: Progress
) -> dict | None:
    """The drawing of the plan slab about a height (m, grid or job frame); None where it holds too little."""
    points = slab_points(job, scans, height - params.thickness / 2, height + params.thickness / 2, progress)
    if len(points) < fitting.FEWEST:
        return None
    centre, back = points[:, :2].mean(0), rigid.inverse(job.frame)
    progress.advance(0.6, 1.0, "Fitting lines")
    found = lines_of.fit_lines(points[:, :2] - centre, *params.fit)

    def placed(flat):
        return np.c_[flat + centre, np.full(len(flat), height)]

    return {
        "name": name or f"Plan at {Notation.of(job).length(height)}",
        "height": height,
        "thickness": params.thickness,
        "points": len(points),
        "lines": [fitting.row(n, line, "WALLS", placed, back) for n, line in enumerate(found, 1)],
    }
