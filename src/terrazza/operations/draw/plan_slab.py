"""Draw the walls of a slab."""

import numpy as np

from terrazza.core.geometry import rigid
from terrazza.core.progress import Progress
from terrazza.errors import StateError
from terrazza.formats import dxf
from terrazza.later import later
from terrazza.operations.draw.slab import floor_height, slab_points
from terrazza.operations.spine.base import Figures, Operation, Params, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

fitting = later("terrazza.core.draw.lines")

EYE = 1.3


class SlabParams(Params):
    height: float | None = field(
        "Height of the slab",
        None,
        unit="m",
        blank="auto",
        help="Of its middle, in the grid or job frame; empty: 1.3 m over the floor under the first scan.",
    )
    thickness: float = field(
        "Thickness",
        0.05,
        unit="m",
        ge=0.005,
        le=5,
        help="Thin slabs give sharp lines, thick ones more of them.",
    )
    least: float = field(
        "Shortest line", 0.30, unit="m", ge=0.05, le=100, help="Shorter straight pieces are left out."
    )
    width: float = field(
        "Straightness",
        0.02,
        unit="m",
        ge=0.002,
        le=0.5,
        help="Points within this distance belong to one line.",
    )
    gap: float = field(
        "Largest gap", 0.35, unit="m", ge=0.01, le=10, help="A line ends where its points leave a wider gap."
    )
    join: float = field(
        "Joining distance",
        0.25,
        unit="m",
        ge=0.0,
        le=5,
        help="Lines whose ends meet within this become one polyline with a corner.",
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
        scans, notation = (
            job.need_scans(params.scans, placed=True, why=", so there is no plan"),
            Notation.of(job),
        )
        height = params.height if params.height is not None else floor_height(job) + EYE
        points = slab_points(
            job, scans, height - params.thickness / 2, height + params.thickness / 2, progress
        )
        if len(points) < 20:
            raise StateError(
                f"The slab at {notation.length(height)} holds only {len(points)} points.",
                "Choose another height or a thicker slab.",
            )
        centre = points[:, :2].mean(0)
        progress.advance(0.6, 1.0, "Fitting lines")
        found = fitting.fit_lines(points[:, :2] - centre, params.least, params.width, params.gap, params.join)
        number = job.next_number("drawing")
        back = rigid.inverse(job.frame)
        rows = [_line(n, line, centre, height, back) for n, line in enumerate(found, 1)]
        drawing = {
            "name": params.name or f"Plan at {notation.length(height)}",
            "height": height,
            "thickness": params.thickness,
            "points": len(points),
            "lines": rows,
        }
        job.put("drawing", number, drawing)
        length = sum(r["length"] for r in rows)
        figures = {
            "says": f"{len(rows)} lines, {notation.length(length)}, from {len(points):,} points at "
            f"{notation.length(height)}",
            "drawing": number,
            "lines": len(rows),
            "length_m": length,
            "points": len(points),
            "height_m": height,
            "rms_mm": float(
                np.sqrt(np.average([r["rms_mm"] ** 2 for r in rows], weights=[r["points"] for r in rows]))
            )
            if rows
            else None,
        }
        if params.path:
            figures["path"] = write_dxf(job, [drawing], params.path)
        return figures


def _line(number, line, centre, height, back):
    xy = line.vertices + centre
    closed = len(xy) > 3 and bool(np.linalg.norm(xy[0] - xy[-1]) < 1e-6)
    xy = xy[:-1] if closed else xy
    around = np.concatenate([xy, xy[:1]]) if closed else xy
    job_frame = rigid.apply(back, np.c_[xy, np.full(len(xy), height)])
    return {
        "name": f"Line {number}",
        "layer": "WALLS",
        "vertices": job_frame.tolist(),
        "closed": closed,
        "rms_mm": line.rms * 1000,
        "points": line.points,
        "length": float(np.linalg.norm(np.diff(around, axis=0), axis=1).sum()),
    }


def write_dxf(job: Job, drawings: list[dict], path: str) -> str:
    """Write drawings (kept in the job frame) to a DXF in the grid; returns its full path."""
    full = job.output(path, ".dxf")
    lines = []
    for drawing in drawings:
        for line in drawing["lines"]:
            grid = rigid.apply(job.frame, np.array(line["vertices"]))
            lines.append(
                {
                    "vertices": grid[:, :2].tolist(),
                    "layer": line["layer"],
                    "name": line["name"],
                    "closed": line["closed"],
                    "elevation": float(grid[:, 2].mean()),
                }
            )
    dxf.write(full, lines)
    job.deliver(full, format="DXF", lines=len(lines))
    return full
