"""Draw the walls of several slabs at once."""

from terrazza.core.progress import Part, Progress
from terrazza.errors import ParamsError, StateError
from terrazza.later import later
from terrazza.operations.draw import fitting
from terrazza.operations.draw.plan_slab import drawn
from terrazza.operations.draw.sections import nothing_at
from terrazza.operations.draw.slab import storey_points
from terrazza.operations.draw.writing import write_dxf
from terrazza.operations.pieces import floors, sights
from terrazza.operations.spine.base import Figures, Operation, field, operation, scans_field
from terrazza.operations.spine.job import Job
from terrazza.operations.spine.notation import Notation

with later():
    from terrazza.core.draw import lines as lines_of

LOWEST, HIGHEST = 0.8, 2.2  # m over a floor: where its clean slab is looked for
MOST = 200  # slabs of one run


class SlabsParams(fitting.FittingParams):
    every: float = field(
        "Every",
        0.0,
        unit="m",
        ge=0,
        le=1000,
        blank="clean",
        help="From one slab to the next; 0: one a floor, at the height where least but walls lies in it.",
    )
    low: float | None = field("From height", None, unit="m", blank="auto", help="Of the lowest slab.")
    high: float | None = field("To height", None, unit="m", blank="auto", help="No slab is higher.")
    path: str = field("DXF file", "", role="write", help="Also write the lines to this file; empty: not yet.")
    scans: list[int] = scans_field("Empty: all placed scans.")


@operation
class PlanSlabs(Operation):
    """Cuts several plan slabs and fits their wall lines, a drawing each: at regular steps, or on every floor
    where it is clean.
    """

    name, title, step = "draw.plan_slabs", "Draw several plan slabs", "Draw"
    reads, writes = frozenset({"scan", "pose", "frame", "cut"}), frozenset({"drawing", "deliverable"})
    Params = SlabsParams

    def run(self, job: Job, params: SlabsParams, progress: Progress) -> Figures:
        scans = job.need_scans(params.scans, placed=True, why=", so there is no plan")
        n = Notation.of(job)
        if params.path:
            job.output(params.path, ".dxf")
        heights = _heights(job, scans, params, Part(progress, 0, 0.3))
        drawings, rows, empty = [], [], []
        for k, height in enumerate(heights):
            part = Part(progress, 0.3 + 0.7 * k / len(heights), 0.3 + 0.7 * (k + 1) / len(heights))
            drawing = drawn(job, scans, params, height, "", part)
            if drawing is None:
                empty.append(height)
                continue
            number = job.next_number("drawing")
            job.put("drawing", number, drawing)
            drawings.append(drawing)
            told = fitting.figures(drawing["lines"], drawing["points"])
            rows.append({"drawing": number, "height_m": height} | told)
        if not drawings:
            raise StateError("None of the slabs holds points.", "Choose other heights or thicker slabs.")
        total = sum(r["length_m"] for r in rows)
        said = ", ".join(n.length(r["height_m"]) for r in rows[:8]) + ("…" if len(rows) > 8 else "")
        figures = {
            "says": f"{len(rows)} slabs at {said}: {sum(r['lines'] for r in rows)} lines, {n.length(total)}",
            "slabs": rows,
            "drawing": rows[0]["drawing"],
            "length_m": total,
            "doubt": nothing_at(empty, n),
        }
        if params.path:
            figures["path"] = write_dxf(job, drawings, params.path)
        return figures


def _heights(job: Job, scans, params: SlabsParams, progress: Progress) -> list[float]:
    """Heights (m, grid or job frame) of the slabs, lowest first."""
    low, high = sights.extent(job)
    low = float(low[2]) + params.thickness if params.low is None else params.low
    high = float(high[2]) if params.high is None else params.high
    if params.every:
        count = int((high - low) / params.every + 1e-9) + 1
        if not 0 < count <= MOST:
            raise ParamsError(
                f"draw.plan_slabs: that would be {max(count, 0)} slabs.", f"Space them for 1 to {MOST}."
            )
        return [low + k * params.every for k in range(count)]
    found = [f["level"] for f in floors.floors(job) if low - 1 <= f["level"] <= high]
    if not found:
        raise StateError("No floor lies under the stations.", "Give a spacing and heights.")
    out = []
    for k, level in enumerate(found):
        middle = level + (LOWEST + HIGHEST) / 2
        points, _, _ = storey_points(job, scans, middle, Part(progress, k / len(found), (k + 1) / len(found)))
        out.append(lines_of.clean_height(points, level + LOWEST, level + HIGHEST, params.thickness))
    return out
